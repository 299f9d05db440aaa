// Written by tools/client from the routes of the service. DO NOT EDIT.

package client

import (
	"time"
)

// Account is who may come in, or might once: a person or a service.
type Account struct {
	Name string      `json:"name"`
	Kind AccountKind `json:"kind"` // person or service
	// the person whose account it is; empty: it stands for itself
	Owner        string           `json:"owner"`
	About        string           `json:"about"`
	Email        string           `json:"email"`
	Role         Role             `json:"role"`   // in all sources
	Rows         bool             `json:"rows"`   // it sees values of rows
	Grants       map[string]Grant `json:"grants"` // what it may do besides, by source
	MustChange   bool             `json:"must_change"`
	SecondFactor bool             `json:"second_factor"`
	Issuer       string           `json:"issuer"`   // of single sign-on; empty: none
	Identity     string           `json:"identity"` // how the issuer calls the person
	CreatedAt    time.Time        `json:"created_at"`
	CreatedBy    string           `json:"created_by"`
	ExpiresAt    *time.Time       `json:"expires_at"` // null: never
	UsedAt       *time.Time       `json:"used_at"`    // of a token, to the minute; null: never
	// the address that the token was last used from
	UsedFrom     string     `json:"used_from"`
	SignedInAt   *time.Time `json:"signed_in_at"`   // null: never
	SignedInFrom string     `json:"signed_in_from"` // the address of the last sign-in
	RevokedAt    *time.Time `json:"revoked_at"`     // null: it stands
	RevokedBy    string     `json:"revoked_by"`
	Reason       string     `json:"reason"` // why it was revoked
}

// AccountKind says how somebody comes in.
type AccountKind string

// Values of AccountKind.
const (
	Person      AccountKind = "person"  // with a password, or by single sign-on
	ServiceUser AccountKind = "service" // with a token
)

// Acknowledgement is who knows of a finding, and why it may stay for now.
type Acknowledgement struct {
	AcknowledgedAt *time.Time `json:"acknowledged_at"`
	AcknowledgedBy string     `json:"acknowledged_by"`
	// from when on it is shown again; null: never
	AcknowledgedUntil *time.Time `json:"acknowledged_until"`
	AcknowledgeReason string     `json:"acknowledge_reason"`
}

// Adopted is what was taken up from a store.
type Adopted struct {
	Segments int `json:"segments"` // that the catalog did not know
	// that it knew otherwise than their records tell: where their rows lie, or what has become of them since
	Renewed int `json:"renewed"`
}

// Age says which column tells how old a row is.
type Age struct {
	Column string `json:"column"`
	// of the rule, where the column is one of a joined table
	Join string  `json:"join,omitempty"`
	Unit AgeUnit `json:"unit,omitempty"` // of an integer column
	// values that are no age, as the column's text: sentinels like 9999-12-31
	Never []string `json:"never,omitempty"`
	// of clock times without zone; copied from the rule
	Zone string `json:"zone,omitempty"`
}

// AgeKind says how a column tells the age of its row.
type AgeKind string

// Values of AgeKind.
const (
	AgeNone   AgeKind = ""
	AgeTime   AgeKind = "time"  // a date or timestamp
	AgeISO    AgeKind = "iso"   // text that holds ISO 8601 dates or timestamps, in UTC where it names no zone
	AgeNumber AgeKind = "epoch" // an integer; the rule says which unit it counts since 1970-01-01 UTC
)

// AgeUnit is what an integer age column counts since 1970-01-01 00:00:00 UTC.
type AgeUnit string

// Values of AgeUnit.
const (
	AgeUnitSeconds      AgeUnit = "seconds"
	AgeUnitMilliseconds AgeUnit = "milliseconds"
	Microseconds        AgeUnit = "microseconds"
)

// Align is the calendar boundary at which a cutoff is cut; None leaves it where it falls.
type Align string

// Values of Align.
const (
	None    Align = ""
	Day     Align = "day"
	Week    Align = "week" // weeks begin on Monday (ISO 8601)
	Month   Align = "month"
	Quarter Align = "quarter"
	Year    Align = "year"
)

// Applied says what became of one rule, named keep or named schedule of a file.
type Applied struct {
	Rule     string   `json:"rule"`
	Keep     bool     `json:"keep,omitempty"`     // it is a named keep
	Schedule bool     `json:"schedule,omitempty"` // it is a named schedule
	Revision int      `json:"revision"`
	New      bool     `json:"new"`
	Changes  []string `json:"changes"` // empty where it is as it was
}

// Approval is a request for something to be approved before it is carried out, and what became of it.
type Approval struct {
	ID      string    `json:"id"`
	What    What      `json:"what"`
	Source  string    `json:"source"`
	Table   string    `json:"table"`   // empty: of the source as a whole
	Rule    string    `json:"rule"`    // empty: of no rule
	Subject string    `json:"subject"` // the plan, restore, disposal, hold or source
	Digest  string    `json:"digest"`  // SHA-256 of exactly what is asked for
	Summary string    `json:"summary"` // of that, in words
	Rows    int64     `json:"rows"`    // that it is about; less than 0: not known
	Persons int       `json:"persons"` // so many have to approve it
	AskedBy string    `json:"asked_by"`
	AskedAt time.Time `json:"asked_at"`
	// when it is too late to decide, or to carry it out
	ExpiresAt time.Time     `json:"expires_at"`
	State     ApprovalState `json:"state"`
	EndedAt   *time.Time    `json:"ended_at"`
	Begins    bool          `json:"begins"`   // it is carried out by itself once it is approved
	BegunAt   *time.Time    `json:"begun_at"` // null: it was not
	Trouble   string        `json:"trouble"`  // why it could not be carried out
	Votes     []Vote        `json:"votes"`
}

// ApprovalState is where a request for an approval stands.
type ApprovalState string

// Values of ApprovalState.
const (
	ApprovalWaiting ApprovalState = "waiting"
	ApprovalGranted ApprovalState = "granted" // what was asked for may be carried out, once
	ApprovalRefused ApprovalState = "refused"
	ApprovalExpired ApprovalState = "expired"
	ApprovalVoid    ApprovalState = "void" // what was asked for is something else now
	ApprovalUsed    ApprovalState = "used" // what was asked for was carried out
)

// Archive says where the copies go.
type Archive struct {
	Store string `json:"store,omitempty"`
	// how long a segment stays in the archive at least; nil: without end
	Keep *string `json:"keep,omitempty"`
	// what that counts from; empty: FromArchived
	From KeepFrom `json:"from,omitempty"`
	// the store in which segments get a second copy; empty: as their store says
	Second string `json:"second,omitempty"`
	// the store to which the rows of segments move when they are
	ColdStore string  `json:"cold_store,omitempty"`
	ColdAfter *string `json:"cold_after,omitempty"` // so long in the archive
}

// ArchivedTable is a table of which closed segments are there.
type ArchivedTable struct {
	Source string `json:"source"`
	Table  string `json:"table"`
}

// AuditExport is an export of the audit log into a file, which is made in the background.
type AuditExport struct {
	ID     string `json:"id"`
	Format string `json:"format"` // csv, ndjson, xml or pdf
	// which entries are meant, as they were asked for
	Filter   map[string]string `json:"filter"`
	By       string            `json:"by"`       // who asked for it
	Rows     bool              `json:"rows"`     // details that may name values of rows are in it
	Tell     string            `json:"tell"`     // who is told when it has ended; empty: nobody
	Schedule string            `json:"schedule"` // that asked for it; empty: somebody did
	State    AuditExportState  `json:"state"`    // waiting, working, done, failed or gone
	Done     int64             `json:"done"`     // entries that were written
	Of       int64             `json:"of"`       // about as many are to be; 0: that is not known yet
	Entries  int64             `json:"entries"`  // that are in its file
	Bytes    int64             `json:"bytes"`    // of its file
	SHA256   string            `json:"sha256"`   // of its file
	Problem  string            `json:"problem"`  // why it failed, or its file is gone
	MadeAt   time.Time         `json:"made_at"`  // when it was asked for
	EndedAt  *time.Time        `json:"ended_at"` // null: it has not
	// when its file is removed; null: there is none
	ExpiresAt *time.Time `json:"expires_at"`
}

// AuditExportState says how far an export of the audit log is.
type AuditExportState string

// Values of AuditExportState.
const (
	AuditExportWaiting AuditExportState = "waiting"
	AuditExportWorking AuditExportState = "working"
	AuditExportDone    AuditExportState = "done"
	AuditExportFailed  AuditExportState = "failed"
	AuditExportGone    AuditExportState = "gone" // its file was removed
)

// AuditKept says where the entries of the audit log lie, and how long they are kept.
type AuditKept struct {
	// how long entries stay in the catalog, ISO 8601; whole months move
	Live  string `json:"live"`
	Keep  string `json:"keep"`  // how long they are kept in all; empty: for good
	Store string `json:"store"` // that old ones move to; empty: there is none
	// the first entry that there is; those before were destroyed
	First    int64          `json:"first"`
	Here     int64          `json:"here"`     // the first entry that is in the catalog
	Last     int64          `json:"last"`     // the last one
	Segments []AuditSegment `json:"segments"` // the oldest first
}

// AuditReport says whether the audit log holds.
type AuditReport struct {
	Holds   bool   `json:"holds"`
	Log     string `json:"log"`     // the name of the log
	Entries int64  `json:"entries"` // that were checked
	Last    int64  `json:"last"`    // the last one
	Hash    string `json:"hash"`    // its
	Erased  int64  `json:"erased"`  // entries whose detail was taken away
	// entries in segments of a store, among those that were checked
	Archived int64 `json:"archived"`
	// entries that could not be checked, because their store did not answer
	Unread int64 `json:"unread"`
	// the last entry of those that were kept long enough and destroyed
	Destroyed int64    `json:"destroyed"`
	Heads     int      `json:"heads"` // what stores know of the log, that it was compared with
	Faults    []Fault  `json:"faults"`
	More      int64    `json:"more"` // faults beyond those
	Away      []string `json:"away"` // stores that could not be asked, and why
	Took      float64  `json:"took"` // in seconds
	// when the newest of the heads was written; null: there is none
	Newest *time.Time `json:"newest"`
}

// AuditSchedule asks for an export again and again: of the entries since it did so last.
type AuditSchedule struct {
	Name   string            `json:"name"`
	When   string            `json:"when"`    // as it was written
	Zone   string            `json:"zone"`    // whose clock it follows
	Format string            `json:"format"`  // of the exports
	Filter map[string]string `json:"filter"`  // which entries are meant
	By     string            `json:"by"`      // who asked for it, and whose exports they are
	Tell   string            `json:"tell"`    // who is told of each; empty: nobody
	Since  time.Time         `json:"since"`   // from when on the next export has entries
	NextAt time.Time         `json:"next_at"` // when that is made
}

// AuditSegment is a segment of old entries of the audit log, in a store.
type AuditSegment struct {
	First   int64     `json:"first"`    // its first entry
	Last    int64     `json:"last"`     // its last
	From    time.Time `json:"from"`     // the time of the earliest
	To      time.Time `json:"to"`       // of the latest
	Hash    string    `json:"hash"`     // of the last entry
	Erased  int64     `json:"erased"`   // entries whose detail was taken away
	Store   string    `json:"store"`    // in which it lies
	File    string    `json:"file"`     // its name there
	Bytes   int64     `json:"bytes"`    // of the file
	SHA256  string    `json:"sha256"`   // of the file
	MovedAt time.Time `json:"moved_at"` // when they were moved there
	// from when on its entries may be destroyed; null: they stay for now
	DueAt *time.Time `json:"due_at"`
}

// Backup is how young the source's newest backup must be, and what tells when that was made: exactly one of File,
// Query and URL is set.
type Backup struct {
	// of the service's machine: when it was last written
	File string `json:"file,omitempty"`
	// in the source: the first value of its first row
	Query  string `json:"query,omitempty"`
	URL    string `json:"url,omitempty"` // answers a GET with the time
	Within string `json:"within"`
}

// Batch is what one delete transaction did.
type Batch struct {
	Segment  int       `json:"segment"`
	Number   int       `json:"number"`
	Retry    bool      `json:"retry"`
	Rows     int       `json:"rows"`
	Deleted  int       `json:"deleted"`
	Changed  int       `json:"changed"`
	Vanished int       `json:"vanished"`
	Held     int       `json:"held"`
	Skipped  int       `json:"skipped"`
	Micros   int64     `json:"micros"`
	At       time.Time `json:"at"`
	Rest     int64     `json:"rest_micros"` // after it
	// that the database's log grew by, others' writing included
	LogBytes *int64 `json:"log_bytes"`
}

// BesideFile is a file of joined rows beside a segment.
type BesideFile struct {
	File  string `json:"file"`
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
}

// Bucket is a stretch of age, with the rows of each clause in it.
type Bucket struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Rows int64     `json:"rows"`
	Due  int64     `json:"due"`
	// rows by clause, in the order of the plan's clauses; uncovered ones last
	Clauses []int64 `json:"clauses"`
}

// Budget is what a run takes of one window; what is left over waits for the next.
type Budget struct {
	Rows int64   `json:"rows,omitempty"` // 0: as many as the time allows
	Time *string `json:"time,omitempty"` // nil: as long as the window is open
}

// Cause is what a finding says.
type Cause struct {
	Kind     string   `json:"kind"`
	Subject  string   `json:"subject"` // a rule, a table, a store, a run
	Severity Severity `json:"severity"`
	Message  string   `json:"message"`
	Evidence string   `json:"evidence"`
	Remedy   string   `json:"remedy"`
	// of the page of the console that shows it, from #
	Address string `json:"address"`
}

// Certificate is what remains of a disposal: what was destroyed, by which rule, by whose decision.
type Certificate struct {
	Format    string    `json:"format"`
	Kind      string    `json:"kind"` // disposal or erasure
	Disposal  string    `json:"disposal"`
	Source    string    `json:"source"`
	Table     string    `json:"table"`
	Rule      string    `json:"rule"`
	Revision  int       `json:"revision"`
	Keep      string    `json:"keep"`
	Note      string    `json:"note"`
	PlannedBy string    `json:"planned_by"`
	PlannedAt time.Time `json:"planned_at"`
	DecidedBy string    `json:"decided_by"`
	DecidedAt time.Time `json:"decided_at"`
	Segments  int       `json:"segments"` // of which all files were destroyed
	Rows      int64     `json:"rows"`     // destroyed
	// of the same segments, that stay in segments of their own
	Kept      int64          `json:"kept"`
	Bytes     int64          `json:"bytes"` // of files, in each store
	Oldest    string         `json:"oldest"`
	Newest    string         `json:"newest"`
	Destroyed []DisposalItem `json:"destroyed"`
	// what was to be destroyed and was not, with the reason
	Left     []DisposalItem `json:"left"`
	Remains  []string       `json:"remains"` // what may hold such rows still, where, and why
	Issued   time.Time      `json:"issued"`
	Instance string         `json:"instance"` // the service that did it
}

// ChangedAccount is what is to be changed of an account; what is left out stays.
type ChangedAccount struct {
	About   *string           `json:"about,omitempty"`
	Role    *string           `json:"role,omitempty"`
	Owner   *string           `json:"owner,omitempty"`
	Email   *string           `json:"email,omitempty"`
	Rows    *bool             `json:"rows,omitempty"`
	Grants  *map[string]Grant `json:"grants,omitempty"`
	Expires *string           `json:"expires,omitempty"` // an instant, a duration, or never
}

// Check is one thing that was looked at.
type Check struct {
	Name    string     `json:"name"` // what was looked at
	Level   CheckLevel `json:"level"`
	Message string     `json:"message"`
	Remedy  string     `json:"remedy,omitempty"`
	Took    float64    `json:"took_ms"` // milliseconds
}

// CheckLevel is how it stands.
type CheckLevel string

// Values of CheckLevel.
const (
	CheckGood   CheckLevel = "ok"
	CheckWarns  CheckLevel = "warning" // the service works; somebody should look at it
	CheckFailed CheckLevel = "failed"  // something does not work
)

// Chilled is what lies in cold storage of what somebody asks for, and what it takes to fetch it.
type Chilled struct {
	Segments []ChilledSegment `json:"segments"`
	Rows     int64            `json:"rows"` // of these segments, wanted or not
	Bytes    int64            `json:"bytes"`
	Offers   []Offer          `json:"offers"` // the least urgent first
}

// ChilledSegment is a segment whose rows have to be retrieved before they can be read.
type ChilledSegment struct {
	Segment    string     `json:"segment"`
	Store      string     `json:"store"`
	Rows       int64      `json:"rows"`
	Bytes      int64      `json:"bytes"`
	Oldest     string     `json:"oldest"`
	Newest     string     `json:"newest"`
	ExpectedAt *time.Time `json:"expected_at"` // where it is being retrieved already
}

// Clause is one line of a rule: which rows, and how long they stay live. What it leaves open follows from the rule.
type Clause struct {
	Where string     `json:"where,omitempty"` // a filter; empty: every row
	Keep  ClauseKeep `json:"keep"`
	Align Align      `json:"align,omitempty"`
	// for exactly the rows that no other enabled clause matches
	Otherwise bool `json:"otherwise,omitempty"`
	Off       bool `json:"off,omitempty"`
	// why only an administrator may shorten or remove the clause
	Locked      string          `json:"locked,omitempty"`
	About       string          `json:"about,omitempty"`
	Then        Then            `json:"then,omitempty"`
	DeleteAfter *string         `json:"delete_after,omitempty"`
	Archive     *Archive        `json:"archive,omitempty"`
	Omit        []string        `json:"omit,omitempty"`
	Mask        map[string]Mask `json:"mask,omitempty"`
}

// ClauseCount is what one clause governs.
type ClauseCount struct {
	Clause     int    `json:"clause"` // from 0
	Rows       int64  `json:"rows"`
	Due        int64  `json:"due"`
	Bytes      int64  `json:"bytes"`
	Held       int64  `json:"held"`
	Restored   int64  `json:"restored"`
	Referenced int64  `json:"referenced"`
	Collation  int64  `json:"collation"`
	Oldest     string `json:"oldest,omitempty"`
	Newest     string `json:"newest,omitempty"`
	LastGoing  string `json:"last_going,omitempty"`
	FirstStays string `json:"first_stays,omitempty"`
}

// ClauseKeep is how long rows stay live: exactly one of its fields is set.
type ClauseKeep struct {
	Period  string  `json:"period,omitzero"`
	Before  *string `json:"before,omitempty"`  // a fixed cutoff
	Newest  int     `json:"newest,omitempty"`  // so many of the newest partitions
	Forever bool    `json:"forever,omitempty"` // never due
	None    bool    `json:"none,omitempty"`    // due at once
	// of a keep that is defined once for many rules
	Name string `json:"name,omitempty"`
}

// ClauseLine is a clause with its cutoff.
type ClauseLine struct {
	Label  string     `json:"label"`
	Keep   string     `json:"keep"`
	Cutoff *time.Time `json:"cutoff"` // null: never due
	Off    bool       `json:"off,omitempty"`
}

// Column is one column of a table.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"` // as the database writes it
	// how its values are carried and archived; Null where the type is not handled
	Kind string `json:"kind"`
	// carried as the database's own exact text (arrays, enums, ranges and their like)
	AsText    bool `json:"as_text,omitempty"`
	Precision int  `json:"precision,omitempty"` // of a Decimal; 0 where it has none
	Scale     int  `json:"scale,omitempty"`
	Nullable  bool `json:"nullable"`
	// computed by the database: archived, and left to it on restore
	Generated bool `json:"generated,omitempty"`
	// of text, where it does not compare code point by code point
	Collation string `json:"collation,omitempty"`
	// why the column cannot be archived; empty where it can
	Problem string `json:"problem,omitempty"`
	// how it can tell a row's age; empty where it cannot
	Age AgeKind `json:"age,omitempty"`
	// by which the database knows the column, whatever it is called; 0 where there is none
	Number int `json:"number,omitempty"`
}

// ComingFiring is a firing of any rule that is to come.
type ComingFiring struct {
	Rule     string    `json:"rule"`
	Source   string    `json:"source"`
	Table    string    `json:"table"`
	At       time.Time `json:"at"`
	Expected int64     `json:"expected"` // rows, by the run before it; 0: not known
}

// Compared says what applying a file would change for one rule.
type Compared struct {
	Rule    string   `json:"rule"`
	New     bool     `json:"new"`     // there is no such rule yet
	Changes []string `json:"changes"` // in words
	// the clauses of the rule as it is, with their cutoffs
	Before []ClauseLine `json:"before"`
	After  []ClauseLine `json:"after"`
	Gained int64        `json:"gained"` // rows that become due
	Lost   int64        `json:"lost"`   // rows that stop being due
	Both   int64        `json:"both"`   // rows that are due either way
}

// Comparison says what applying a file of rules would change.
type Comparison struct {
	Rules    []Compared    `json:"rules"`
	Problems []RuleProblem `json:"problems"` // warnings
}

// Condition is how one requirement of a rule stands.
type Condition struct {
	Name  string `json:"name"`  // the field of the rule
	Needs string `json:"needs"` // as the rule has it
	Met   bool   `json:"met"`
	Found string `json:"found"` // in words
}

// Config is how a source is reached. It never holds a password: PasswordEnv or PasswordFile says where one is.
type Config struct {
	Name   string `json:"name"`
	Engine string `json:"engine"` // "sqlite", "postgres" or "mariadb"
	// a file for SQLite; a URL without password for a server
	Address string `json:"address"`
	// environment variable of the service that holds the password
	PasswordEnv string `json:"password_env"`
	// file readable by the service that holds the password
	PasswordFile string `json:"password_file"`
	TLS          string `json:"tls"` // "verify" (default off the machine), "require" or "off"
	// file of certificates that may sign the server's; empty: the system's
	TLSCA string `json:"tls_ca"`
	// directory of the service's machine on whose disk the database's files are; empty: not known
	Disk string `json:"disk"`
	// that our deletes are marked with for replicas and change feeds: a replication origin's name, or a number for
	// gtid_domain_id; empty: none
	Origin string `json:"origin"`
	// the most that the service opens at a time; at least 3
	Connections int `json:"connections"`
}

// Counting is how far an exact plan is that is being made.
type Counting struct {
	Done   int `json:"done"`
	Pieces int `json:"pieces"` // statements, each over a stretch of age
}

// Counts are the numbers of a plan: counted row by row, or estimated from the database's statistics.
type Counts struct {
	Counted bool `json:"counted"`
	// when counting began and ended: rows may have changed in between
	From       *time.Time `json:"counted_from,omitempty"`
	To         *time.Time `json:"counted_to,omitempty"`
	Due        int64      `json:"due"`
	Bytes      int64      `json:"bytes"` // estimated from the average width of a row
	Oldest     string     `json:"oldest,omitempty"`
	LastGoing  string     `json:"last_going,omitempty"`
	FirstStays string     `json:"first_stays,omitempty"`
	Uncovered  int64      `json:"uncovered"` // rows that no clause covers; kept
	Ageless    int64      `json:"ageless"`   // rows whose age is no instant; never due
	// rows dated more than a day after the planning instant
	Future int64 `json:"future"`
	Held   int64 `json:"held"` // due but for a hold
	// aged rows left alone because a restore brought them back
	Restored int64 `json:"restored"`
	// aged rows left alone because another table refers to them
	Referenced int64 `json:"referenced"`
	// judged otherwise by a column's own collation; left alone
	Collation int64         `json:"collation"`
	Total     int64         `json:"total"` // the table's rows
	Clauses   []ClauseCount `json:"clauses"`
	// over age, the oldest first; empty in an estimate
	Spread []Bucket `json:"spread"`
}

// Course is how a run went: what it took and what others felt, moment after moment, and each change of its speed.
// It holds no more than a run of any length can be drawn with.
type Course struct {
	Step   float64        `json:"step_secs"` // how long a moment is, about
	Points []CourseMoment `json:"points"`    // the oldest first
	Turns  []Turn         `json:"turns"`     // changes of speed, the oldest first
	// changes in between that are not kept any more
	Lost int `json:"turns_lost,omitempty"`
}

// CourseMoment is what went on in a moment of a run. Of others is told what the database and its probes show; left
// out: that is not known.
type CourseMoment struct {
	At   time.Time `json:"at"`   // its end
	Secs float64   `json:"secs"` // how long it is
	Rows int64     `json:"rows"` // that left the table in it
	// for how much of it we were at work in the database, from 0 to 1
	Worked float64 `json:"worked"`
	Busy   float64 `json:"busy"` // sessions of others at work
	// transactions, or statements, that others ended a second
	Rate *float64 `json:"rate,omitempty"`
	// how much slower they may become, as a share
	Bound float64 `json:"bound,omitempty"`
	// for how much of the time that lets us work, from 0 to 1
	Share *float64 `json:"share,omitempty"`
	// p99 of a look-up by key while we rest
	Alone  float64 `json:"alone_millis,omitempty"`
	Beside float64 `json:"beside_millis,omitempty"` // p99 of one while we work
	Commit float64 `json:"commit_millis,omitempty"` // p99 of a commit while we rest
	Behind float64 `json:"behind_secs,omitempty"`   // of the slowest replica
}

// DayTotals is what the runs came to that ended on a day, in UTC.
type DayTotals struct {
	Day      string `json:"day"` // like 2027-01-31
	Runs     int64  `json:"runs"`
	Archived int64  `json:"archived"` // rows that left their tables for the archive
	Purged   int64  `json:"purged"`   // rows that were deleted without a copy
	// bytes of both in their tables; of purged ones, as the plans took them to be
	Freed     int64   `json:"freed"`
	FileBytes int64   `json:"file_bytes"`   // that the archive grew by
	Working   float64 `json:"working_secs"` // for how long the runs worked
}

// Decision is how somebody decides on a request, and why.
type Decision struct {
	Reason string `json:"reason,omitempty"` // a refusal needs one
}

// Declared is how files and service stand to each other.
type Declared struct {
	Dir      string          `json:"dir"` // empty: no directory was named
	Problems []RuleProblem   `json:"problems"`
	Items    []DeclaredThing `json:"items"`
}

// DeclaredThing is one thing that is declared, was declared, or could be.
type DeclaredThing struct {
	Kind   string   `json:"kind"`
	Name   string   `json:"name"`
	File   string   `json:"file"` // empty: in none
	Line   int      `json:"line"`
	State  Standing `json:"state"`
	Drifts bool     `json:"drifts"` // somebody has to decide
	// from what is in force to what is declared, as a unified diff
	Difference string `json:"difference"`
}

// Delegation says who decides for somebody else for a time.
type Delegation struct {
	ID     string    `json:"id"`
	From   string    `json:"from"` // for whom
	To     string    `json:"to"`   // who decides
	Until  time.Time `json:"until"`
	Reason string    `json:"reason"`
	MadeAt time.Time `json:"made_at"`
}

// Delivery is one notice to one recipient.
type Delivery struct {
	ID        string        `json:"id"`
	Recipient string        `json:"recipient"` // empty: whoever a restore names
	Address   string        `json:"address"`
	Kind      EventKind     `json:"kind"`
	Record    string        `json:"record"` // the run, restore, finding … that it is of
	Title     string        `json:"title"`
	Text      string        `json:"text"`
	Urgent    bool          `json:"urgent"` // it is sent in quiet hours too
	State     DeliveryState `json:"state"`
	Attempts  int           `json:"attempts"`
	MadeAt    time.Time     `json:"made_at"`
	NextAt    *time.Time    `json:"next_at"` // not tried before; null: it has ended
	EndedAt   *time.Time    `json:"ended_at"`
	Error     string        `json:"error"` // of the last attempt
}

// DeliveryState is where a delivery stands.
type DeliveryState string

// Values of DeliveryState.
const (
	DeliveryWaiting   DeliveryState = "waiting" // it is to be sent, for the first time or again
	DeliverySent      DeliveryState = "sent"
	DeliveryFailed    DeliveryState = "failed"    // it is not tried any more
	DeliveryCancelled DeliveryState = "cancelled" // somebody ended it, or its recipient is gone
)

// Disagreement is a table about which source, stores and catalog tell different stories, so that its runs are
// stopped.
type Disagreement struct {
	Source     string `json:"source"`
	Table      string `json:"table"`
	Difference string `json:"difference"`
}

// Disposal is the decision to destroy segments of one table whose time in the archive is over, or single rows of
// them.
type Disposal struct {
	ID   string `json:"id"`
	Kind string `json:"kind"`
	// of an erasure: the condition of its rows, until it is carried out or decided against
	Erases     string        `json:"erases,omitempty"`
	Source     string        `json:"source"`
	Table      string        `json:"table"`
	Rule       string        `json:"rule"`
	Revision   int           `json:"revision"` // of the rule that governs now
	Keep       string        `json:"keep"`     // by that revision, at least
	Note       string        `json:"note"`
	CreatedAt  time.Time     `json:"created_at"`
	CreatedBy  string        `json:"created_by"`
	State      DisposalState `json:"state"`
	Reason     string        `json:"reason"`
	DecidedAt  *time.Time    `json:"decided_at"`
	DecidedBy  string        `json:"decided_by"`
	EndedAt    *time.Time    `json:"ended_at"`
	ApprovedBy string        `json:"approved_by"`
	ApprovedAt *time.Time    `json:"approved_at"`
	// segments that are to be destroyed: none in a list of disposals, and the first of them where one is shown
	Items []DisposalItem `json:"items"`
	// segments of the table that stay, and why; likewise
	Stays    []DisposalStay `json:"stays"`
	Remains  []string       `json:"remains"`  // what may hold such rows still, where, and why
	Segments int            `json:"segments"` // that are to be destroyed
	Rows     int64          `json:"rows"`     // of them, less those that stay
	Bytes    int64          `json:"bytes"`
	Gone     int            `json:"gone"` // segments that were destroyed so far
	Staying  int            `json:"staying"`
}

// DisposalItem is a segment that is to be destroyed.
type DisposalItem struct {
	Segment   string     `json:"segment"`
	Rows      int64      `json:"rows"`
	Bytes     int64      `json:"bytes"`
	Oldest    string     `json:"oldest"`
	Newest    string     `json:"newest"`
	Stored    time.Time  `json:"stored"`
	Due       time.Time  `json:"due"` // when its time was over
	Keep      string     `json:"keep"`
	SHA256    string     `json:"sha256"` // of the file
	Digest    string     `json:"digest"` // of its rows
	Stores    []string   `json:"stores"` // in which it lies
	Destroyed *time.Time `json:"destroyed"`
	Record    string     `json:"record,omitempty"`   // SHA-256 of the disposal record
	Sequence  int64      `json:"sequence,omitempty"` // of that record in the table's chain
	Left      string     `json:"left,omitempty"`     // why it was not destroyed after all
	// of its rows, those that stay, in a segment of their own
	Kept      int64  `json:"kept,omitempty"`
	Why       string `json:"why,omitempty"` // why they stay
	Successor string `json:"successor,omitempty"`
	// the stores that were listed and found without it
	Searched []string `json:"searched,omitempty"`
	Remains  []string `json:"remains,omitempty"` // what may hold it still, and why
}

// DisposalState is where a disposal stands.
type DisposalState string

// Values of DisposalState.
const (
	DisposalPlanned   DisposalState = "planned"   // nothing is destroyed before somebody decides it
	Disposing         DisposalState = "running"   // decided; segments are being destroyed
	DisposalDone      DisposalState = "done"      // what could be destroyed is
	DisposalFailed    DisposalState = "failed"    // stopped for a reason; can be started again
	DisposalCancelled DisposalState = "cancelled" // decided against
)

// DisposalStay is a segment that stays.
type DisposalStay struct {
	Segment string     `json:"segment"`
	Due     *time.Time `json:"due"` // when its time is over; null: never
	Reason  string     `json:"reason"`
}

// Draft is a rule that is being written: as text, or as the form has it.
type Draft struct {
	Text string    `json:"text,omitempty"`
	Rule *RuleBody `json:"rule,omitempty"`
	// count the rows, for half a minute at the most, rather than estimate
	Exact bool `json:"exact,omitempty"`
}

// EffortView is where the time of runs went on a day: in a stage of the work (copy, verify, delete), or in rests
// for a reason (pace, or the name of a signal). What works side by side is added up.
type EffortView struct {
	Day   string  `json:"day"`
	Kind  string  `json:"kind"` // stage or rest
	Name  string  `json:"name"`
	Spent float64 `json:"spent_secs"`
	Times int64   `json:"times"`
}

// EntriesMeant says which entries of the audit log are meant; what is left out: all.
type EntriesMeant struct {
	Actor   string `json:"actor,omitempty"`
	Kind    string `json:"kind,omitempty"`   // the first word of an action
	Action  string `json:"action,omitempty"` // like "run start"
	Subject string `json:"subject,omitempty"`
	Outcome string `json:"outcome,omitempty"` // done, refused or failed
	From    string `json:"from,omitempty"`    // a day or an instant
	To      string `json:"to,omitempty"`      // before this one
}

// Entry is an entry of the audit log.
type Entry struct {
	ID    int64     `json:"id"` // from 1 on, without a gap
	At    time.Time `json:"at"`
	Actor string    `json:"actor"` // the account, or service
	// by which session; empty: by a token, or by the service itself
	Session string       `json:"session"`
	Address string       `json:"address"` // from where; empty: not from outside
	Action  string       `json:"action"`
	Subject string       `json:"subject"`
	Outcome EntryOutcome `json:"outcome"` // done, refused or failed
	Digest  string       `json:"digest"`  // SHA-256 of the detail, with a salt
	Hash    string       `json:"hash"`    // SHA-256 of the entry, with that of the one before
	Detail  string       `json:"detail"`
	// the detail was taken away, which another entry records
	Erased bool `json:"erased"`
	// the detail may name values of rows, which whoever asks may not see
	Withheld bool `json:"withheld"`
}

// EntryOutcome says what became of what somebody wanted to do.
type EntryOutcome string

// Values of EntryOutcome.
const (
	OutcomeDone    EntryOutcome = "done"
	OutcomeRefused EntryOutcome = "refused" // they may not, or it cannot be done
	OutcomeFailed  EntryOutcome = "failed"
)

// ErasureRequest says which archived rows of a table are to be erased: those of a filter, or of keys.
type ErasureRequest struct {
	Source string `json:"source"`
	Table  string `json:"table"`
	Where  string `json:"where,omitempty"`
	// in place of a filter, of a table whose key has one column
	Keys []string `json:"keys,omitempty"`
	Note string   `json:"note,omitempty"` // it stays, so it names nobody
}

// EventKind is a kind of events.
type EventKind string

// Values of EventKind.
const (
	EventRunDone         EventKind = "run-done"
	EventRunFailed       EventKind = "run-failed"
	EventRunCancelled    EventKind = "run-cancelled"
	EventRunCopied       EventKind = "run-copied"  // its rows are copied; deleting them waits for a decision
	EventFiringNothing   EventKind = "nothing-due" // a rule ran by itself, and nothing matched
	EventFiringAsking    EventKind = "over-limit"  // a rule ran by itself, and its plan waits for a decision
	EventFiringFailed    EventKind = "firing-failed"
	EventRestoreAsked    EventKind = "restore-asked" // it waits for approval
	EventRestoreReady    EventKind = "restore-ready"
	EventRestoreFailed   EventKind = "restore-failed"
	EventRestoreRefused  EventKind = "restore-refused"
	EventDisposalPlanned EventKind = "disposal-planned" // it waits for approval
	EventDisposalDone    EventKind = "disposal-done"
	EventDisposalFailed  EventKind = "disposal-failed"
	EventFrozen          EventKind = "frozen"
	EventUnfrozen        EventKind = "unfrozen"
	EventWaitsLong       EventKind = "waits-long" // a run, a restore or a disposal waits for longer than usual
	EventFindingOpened   EventKind = "finding-opened"
	EventFindingClosed   EventKind = "finding-closed"
	EventDigest          EventKind = "digest"         // what happened in a day
	EventApprovalAsked   EventKind = "approval-asked" // a run or a change waits for approval
	EventExportReady     EventKind = "export-ready"   // an export of the audit log
	EventExportFailed    EventKind = "export-failed"
	EventTest            EventKind = "test"
)

// Expectation is what earlier runs of the table let one expect; nil where none has measured it.
type Expectation struct {
	Seconds      *float64 `json:"seconds"`
	ArchiveBytes *int64   `json:"archive_bytes"`
	LogBytes     *int64   `json:"log_bytes"`
}

// Fault is a place where a log does not hold.
type Fault struct {
	Entry   int64  `json:"entry"`
	Message string `json:"message"`
}

// FilterCheck asks whether a filter can be used on a table.
type FilterCheck struct {
	Source string `json:"source"`
	Table  string `json:"table"`
	Where  string `json:"where"`
}

// FilterResult is a filter in its printed form, or what is wrong with it.
type FilterResult struct {
	Printed  string        `json:"printed,omitempty"`
	Problems []RuleProblem `json:"problems"`
}

// Finding is something that somebody should look at.
type Finding struct {
	ID string `json:"id"`
	Cause
	OpenedAt time.Time  `json:"opened_at"`
	SeenAt   time.Time  `json:"seen_at"` // when its cause was last seen to be another
	ClosedAt *time.Time `json:"closed_at"`
	Acknowledgement
}

// FindingLevel is how much a finding matters.
type FindingLevel string

// Values of FindingLevel.
const (
	Good    FindingLevel = "ok"
	Note    FindingLevel = "note"    // worth knowing
	Missing FindingLevel = "missing" // something that the service needs is not there
	Refused FindingLevel = "refused" // a table that no run may work on
)

// Firing is a moment at which a rule runs by itself, and what became of it.
type Firing struct {
	Rule    string      `json:"rule"`
	At      time.Time   `json:"at"`
	Source  string      `json:"source"`
	Table   string      `json:"table"`
	State   FiringState `json:"state"`
	Reason  string      `json:"reason"`
	Missed  int         `json:"missed"` // firings before it that it makes up for
	Tries   int         `json:"tries"`
	NextTry *time.Time  `json:"next_try"`
	Plan    string      `json:"plan"` // empty: none yet
	Run     string      `json:"run"`  // empty: none
	Due     int64       `json:"due"`  // rows, by its plan
	BeganAt time.Time   `json:"began_at"`
	EndedAt *time.Time  `json:"ended_at"`
	AskedBy string      `json:"asked_by"` // who wanted it; empty: the schedule
}

// FiringState is what became of a firing.
type FiringState string

// Values of FiringState.
const (
	FiringDue     FiringState = "due"     // its plan is to be made and its run to be started
	FiringAsking  FiringState = "asking"  // its plan is over a limit, and somebody decides by starting its run, or not
	FiringStarted FiringState = "started" // its run was started
	FiringNothing FiringState = "nothing" // no row was due
	FiringSkipped FiringState = "skipped" // it was not to be made up for, or another run of the table had not ended
	FiringFailed  FiringState = "failed"  // its plan could not be made
)

// Fit is how archived rows go into a table that was altered since.
type Fit struct {
	// archived columns that are called otherwise now
	Rename map[string]string `json:"rename,omitempty"`
	// archived columns that have no place any more
	LeaveOut []string `json:"leave_out,omitempty"`
}

// Forecast is what a rule would take at one future time.
type Forecast struct {
	At time.Time `json:"at"`
	// of each clause, in the order of the rule; null: never due
	Cutoffs []*time.Time `json:"cutoffs"`
	// that become due since the time before, of those that are there today
	Rows    int64   `json:"rows"`
	Clauses []int64 `json:"clauses"` // the same, by clause
	// expected besides: rows that are not written yet, at the rate of the last thirty days
	Growth int64 `json:"growth"`
}

// ForeignKey is a reference from Columns of Table to RefColumns of RefTable.
type ForeignKey struct {
	Name       string   `json:"name"`
	Table      string   `json:"table"`
	Columns    []string `json:"columns"`
	RefTable   string   `json:"ref_table"`
	RefColumns []string `json:"ref_columns"`
	// "no action", "restrict", "cascade", "set null" or "set default"
	OnDelete string `json:"on_delete"`
	// no index of the referring table begins with one of the columns
	Unindexed bool `json:"unindexed,omitempty"`
}

// FormerName is a name that a column of a table has had, as the administrator tells it.
type FormerName struct {
	Source string    `json:"source"`
	Table  string    `json:"table"`
	Name   string    `json:"name"`    // that the column has now, or had next
	Was    string    `json:"was"`     // that it had before; empty: none, the column was added
	ToldAt time.Time `json:"told_at"` // when that was told
	ToldBy string    `json:"told_by"`
}

// Found is what a search found.
type Found struct {
	Columns  []string   `json:"columns"`
	Items    []FoundRow `json:"items"`
	Searched Searched   `json:"searched"`
}

// FoundInStore is a remark of a verification.
type FoundInStore struct {
	Remark
	Repaired string `json:"repaired,omitempty"` // what it was replaced from
}

// FoundRow is an archived row, with where it stands. A value that is NULL, or of a column that was not there yet,
// is null.
type FoundRow struct {
	Segment string    `json:"segment"`
	Ordinal int       `json:"ordinal"`
	Values  []*string `json:"values"`
}

// Freeze keeps the service from touching databases.
type Freeze struct {
	ID         string     `json:"id"`
	Source     string     `json:"source"` // empty: all
	Table      string     `json:"table"`  // empty: all of the source
	Where      string     `json:"where"`  // in words
	Reason     string     `json:"reason"`
	Until      *time.Time `json:"until"` // when it lifts itself; null: somebody lifts it
	PlacedAt   time.Time  `json:"placed_at"`
	PlacedBy   string     `json:"placed_by"`
	LiftedAt   *time.Time `json:"lifted_at"`
	LiftedBy   string     `json:"lifted_by"`
	LiftReason string     `json:"lift_reason"`
}

// FreezeLift is how a freeze ended.
type FreezeLift struct {
	LiftedAt   *time.Time `json:"lifted_at"`
	LiftedBy   string     `json:"lifted_by"`
	LiftReason string     `json:"lift_reason"`
}

// GoesWith says which rows the rows of a segment went along with.
type GoesWith struct {
	Table string `json:"table"` // that they refer to
	// of the rows at the head of the families; empty where those were purged
	Segment string      `json:"segment,omitempty"`
	On      [][2]string `json:"on"` // pairs of the segment's column and the other table's
}

// Grant is what somebody may do in one source, besides what they may do in all.
type Grant struct {
	Role Role `json:"role"`           // viewer, operator, approver or administrator
	Rows bool `json:"rows,omitempty"` // they see values of rows
}

// Guard is what binds all rules, plans and disposals of a source.
type Guard struct {
	Live *string `json:"live,omitempty"` // rows stay live at least so long
	// segments stay in the archive at least so long
	Archive *string `json:"archive,omitempty"`
	// the tables that may have a rule; empty: all
	Only  []string `json:"only,omitempty"`
	Never []string `json:"never,omitempty"` // the tables that may not
	// what others have to approve before it is carried out, as approval.Parse reads it: runs, emptyings, overrides,
	// restores, disposals, erasures, loosenings, lifts or guards, with @RULE, :PERSONS and :above=ROWS behind it
	Approve []string `json:"approve,omitempty"`
	// when runs may work on the source, whatever their rules say; none: at any time
	Window []string `json:"window,omitempty"`
	Zone   string   `json:"zone,omitempty"` // IANA name, of the windows; empty: UTC
}

// Habit is something that a place does with files on its own.
type Habit struct {
	// segments would vanish, could not be read, or could not be destroyed
	Harms   bool   `json:"harms"`
	Message string `json:"message"`
}

// Head says which hash a log had after an entry.
type Head struct {
	Format string    `json:"format"` // HeadFormat
	Log    string    `json:"log"`    // the name of the log
	Entry  int64     `json:"entry"`  // the last one
	Hash   string    `json:"hash"`   // its
	At     time.Time `json:"at"`     // when this was written
}

// History is what happened over days.
type History struct {
	From string      `json:"from"` // the first day, in UTC, like 2027-01-31
	To   string      `json:"to"`   // the last one
	Days []DayTotals `json:"days"` // on which runs ended, the oldest first
	// the rules whose runs moved the most rows, those first
	Rules []RuleSums `json:"rules"`
	// of all rules of the source, or of all sources
	Efforts []EffortView `json:"efforts"`
	Stores  []StoreDay   `json:"stores"` // the oldest day first
}

// Hold is a legal hold: rows and segments of a table that nothing may remove until it is lifted.
type Hold struct {
	ID     string `json:"id"`
	Source string `json:"source"`
	Table  string `json:"table"`
	// which rows; empty with segments: those alone
	Filter     string     `json:"filter,omitempty"`
	Segments   []string   `json:"segments"`
	Reference  string     `json:"reference"` // of the case that it is for
	Reason     string     `json:"reason"`
	PlacedAt   time.Time  `json:"placed_at"`
	PlacedBy   string     `json:"placed_by"`
	LiftedAt   *time.Time `json:"lifted_at"`
	LiftedBy   string     `json:"lifted_by,omitempty"`
	LiftReason string     `json:"lift_reason,omitempty"`
}

// HoldRequest is what somebody asks to be held: rows by a filter or by keys, or segments.
type HoldRequest struct {
	Source    string   `json:"source"`
	Table     string   `json:"table"`
	Where     string   `json:"where,omitempty"`
	Keys      []string `json:"keys,omitempty"` // of a table whose key has one column
	Segments  []string `json:"segments,omitempty"`
	Reference string   `json:"reference"`
	Reason    string   `json:"reason"`
}

// InForce is what a setting is, and where that was said.
type InForce struct {
	Name    string `json:"name"`
	Text    string `json:"value"`
	From    string `json:"from"` // "usual", a flag, a variable, or a place in the file
	Changes bool   `json:"changes"`
	About   string `json:"about"`
}

// Index is an index of a table.
type Index struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"` // an expression stands as its text
	Unique  bool     `json:"unique"`
	Partial bool     `json:"partial,omitempty"`
}

// JobKind is what a job is.
type JobKind string

// Values of JobKind.
const (
	JobRestore      JobKind = "restore"      // to a table
	JobExport       JobKind = "export"       // a restore to a file
	JobDisposal     JobKind = "disposal"     // of segments, or an erasure
	JobVerification JobKind = "verification" // that somebody asked for
	JobMove         JobKind = "move"         // of a segment's rows to another store
	JobCopy         JobKind = "copy"         // the second copy of a segment
	JobAudit        JobKind = "audit"        // an export of the audit log
)

// JobTurn is when the turn of a job comes.
type JobTurn struct {
	State string `json:"state"` // working, waiting or paused
	// among those of its kind that do not work, from 1; 0: it works
	Position int    `json:"position"`
	Why      string `json:"why"` // it waits, beyond that others work
	Priority int    `json:"priority"`
	// seconds until it begins, as far as can be told; null: that cannot
	StartsIn *int64 `json:"starts_secs"`
}

// Join reaches at most one row of another table of the same source, whose columns conditions may name as
// JOIN.COLUMN.
type Join struct {
	Table string `json:"table"`
	// column of the rule's table → column of the other
	On map[string]string `json:"on"`
}

// Keep is a named keep.
type Keep struct {
	Name      string    `json:"name"`
	Body      Named     `json:"body"`
	Text      string    `json:"text"`
	AppliedAt time.Time `json:"applied_at"`
	AppliedBy string    `json:"applied_by"`
}

// KeepFrom is what the keep of a segment counts from.
type KeepFrom string

// Values of KeepFrom.
const (
	FromArchived KeepFrom = "archived" // the moment at which it was archived
	FromAge      KeepFrom = "age"      // the age of its newest row
)

// KeepingUp is how a rule keeps up with its table, and what that is told from.
type KeepingUp struct {
	Verdict
	Due int64 `json:"due"` // rows that are due now, about
	// rows that become due a day; less than 0: not known
	Inflow float64 `json:"inflow"`
	Taken  float64 `json:"taken"` // rows a day that its runs took lately
	// when it was counted how many become due; null: not yet
	CountedAt *time.Time `json:"counted_at"`
	Problem   string     `json:"problem,omitempty"` // what kept that from being counted
}

// Lacking are the segments of a search that have no column of a name that the search asks for. Whether the column
// was added later, and is NULL in their rows, or had another name then, nobody can tell from them.
type Lacking struct {
	Column   string   `json:"column"`
	Segments []string `json:"segments"` // the oldest first
	Rows     int64    `json:"rows"`
}

// Ledger is the accounting of a run: copied (purge: found) = deleted + unlinked + changed + vanished + held +
// skipped.
type Ledger struct {
	Copied       int64  `json:"copied"`
	Deleted      int64  `json:"deleted"`
	Unlinked     int64  `json:"unlinked"`
	Changed      int64  `json:"changed"`
	Vanished     int64  `json:"vanished"`
	Held         int64  `json:"held"`
	Skipped      int64  `json:"skipped"`
	CopiedDigest string `json:"copied_digest"` // of all rows that were read
	// of the rows that the deletes reported
	DeletedDigest string `json:"deleted_digest"`
	LeftDigest    string `json:"left_digest"` // of the rows that were read and left out
	Balanced      *bool  `json:"balanced"`    // null until the run has ended
}

// LedgerPart is what a run did with the rows of one clause in one table.
type LedgerPart struct {
	Table    string          `json:"table"`
	Clause   int             `json:"clause"` // from 0
	Label    string          `json:"label"`
	Then     string          `json:"then"`
	Ledger   Ledger          `json:"ledger"`
	Segments []LedgerSegment `json:"segments"` // none where the rows were purged
}

// LedgerSegment is a segment that a run wrote.
type LedgerSegment struct {
	Segment string `json:"segment"`
	Store   string `json:"store"`
	// where its rows lay when this was made, if not with its records
	RowsStore    string `json:"rows_store,omitempty"`
	Stem         string `json:"stem"`
	Rows         int64  `json:"rows"`
	Deleted      int64  `json:"deleted"`
	Sequence     int64  `json:"sequence"` // of its manifest in the table's chain
	ManifestHash string `json:"manifest_hash"`
	ClosingSeq   int64  `json:"closing_sequence"`
	ClosingHash  string `json:"closing_hash"`
	// where its rows were destroyed since
	DisposalHash string `json:"disposal_hash,omitempty"`
}

// Level is how a value stands to its limit.
type Level string

// Values of Level.
const (
	Calm Level = "calm"
	Near Level = "near" // past half of the limit: a run goes slower
	Over Level = "over"
	Open Level = "open" // there is no limit
)

// Lift is the end of a hold.
type Lift struct {
	Reason string `json:"reason"`
}

// Limit is how much a scheduled run may take. One that would take more is not started: somebody is asked.
type Limit struct {
	Share       float64 `json:"share,omitempty"` // of the table's rows, 0 to 1; 0: any
	Rows        int64   `json:"rows,omitempty"`  // 0: any
	AgainstLast float64 `json:"against_last,omitempty"`
}

// Lineage is which database a table's rows were last moved from, and how far its journal had come.
type Lineage struct {
	Source string `json:"source"`
	Table  string `json:"table"`
	// of the journal, which goes wherever the database's data goes
	Identity string `json:"identity"`
	Server   string `json:"server"` // that answered; empty where it does not tell
	Epoch    int64  `json:"epoch"`  // of the lease that was last taken
	// the epoch that began when source and catalog were last settled; 0: never
	Settled int64 `json:"settled"`
}

// Log is how many bytes a run may make the database's log grow by; 0: no limit.
type Log struct {
	// within one minute: a run rests until there is room again
	Minute int64 `json:"minute,omitempty"`
	// from its start, or from where it was resumed: then it pauses
	Run int64 `json:"run,omitempty"`
}

// Login is what a session begins with: a token, or a name and a password.
type Login struct {
	Token    string `json:"token,omitempty"`
	Name     string `json:"name,omitempty"`
	Password string `json:"password,omitempty"`
	Code     string `json:"code,omitempty"` // of the second factor, where there is one
	// answer with a token of the session, in place of a cookie
	Keep bool `json:"keep,omitempty"`
}

// MadeAccount is a new account with its secret, which is told this once.
type MadeAccount struct {
	Name  string `json:"name"`
	Token string `json:"token"` // of a service: for AMBERCELLAR_TOKEN
	// of a person: for signing in once, within three days
	Password string `json:"password"`
}

// MailServer is what mail goes out through.
type MailServer struct {
	Server   string `json:"server"`
	From     string `json:"from"`
	Security string `json:"security"`
	SignsIn  bool   `json:"signs_in"`
}

// Mask is how a column is cleaned before it is archived.
type Mask string

// Values of Mask.
const (
	MaskBlank Mask = "blank" // NULL, or an empty text where the column takes none
	MaskHash  Mask = "hash"  // HMAC-SHA-256 under a key that only the service knows, as hexadecimal text
	MaskYear  Mask = "year"  // the first moment of the year
	MaskLast4 Mask = "last4" // asterisks, and the last four characters
)

// Measure is what is made of the rows of a group: count, or sum, min or max of a column. NULLs do not count, as in
// SQL.
type Measure struct {
	Of     string `json:"of"`
	Column string `json:"column,omitempty"`
}

// Missed is what becomes of a firing whose time passed while the service could not act.
type Missed string

// Values of Missed.
const (
	MissedOnce Missed = "once" // however many were missed, one run makes up for all
	MissedSkip Missed = "skip" // the next firing takes what they would have taken
)

// Named is a keep that is defined once, with its reason, and shared by many rules.
type Named struct {
	Name    string `json:"name"`
	Period  string `json:"period,omitzero"`
	Forever bool   `json:"forever,omitempty"`
	About   string `json:"about"`
}

// NamedSchedule is a schedule that is defined once for many rules.
type NamedSchedule struct {
	Schedule
	About string `json:"about,omitempty"`
}

// Narrow is what a plan asks for beyond its rule; it can only take less.
type Narrow struct {
	Before *time.Time `json:"before,omitempty"`
	Where  string     `json:"where,omitempty"`
	Keys   string     `json:"keys,omitempty"`  // FROM..TO
	Limit  int64      `json:"limit,omitempty"` // rows; 0: no limit
}

// NewAccount is an account that is to be made.
type NewAccount struct {
	Name string `json:"name"`
	// person, with a password, or service, with a token; empty: service
	Kind  AccountKind `json:"kind,omitempty"`
	About string      `json:"about,omitempty"`
	Email string      `json:"email,omitempty"`
	// in all sources: viewer, operator, approver or administrator; none: only what grants give in single ones
	Role string `json:"role"`
	// it sees values of rows: samples, searches and files
	Rows bool `json:"rows,omitempty"`
	// what it may do besides, by source
	Grants map[string]Grant `json:"grants,omitempty"`
	// an instant, or a duration like P90D; empty: never
	Expires string `json:"expires,omitempty"`
	// the person whose account it is; empty: it stands for itself
	Owner string `json:"owner,omitempty"`
	// of single sign-on, where the person comes in by that
	Issuer   string `json:"issuer,omitempty"`
	Identity string `json:"identity,omitempty"` // how the issuer calls the person
}

// NewAcknowledgement says that somebody knows of a finding.
type NewAcknowledgement struct {
	Reason string     `json:"reason"`
	Until  *time.Time `json:"until,omitempty"` // from when on it is shown again
}

// NewAuditExport is what an export of the audit log is asked for with.
type NewAuditExport struct {
	EntriesMeant
	Format string `json:"format"` // csv, ndjson, xml or pdf
	// a mail address that is told when it has ended
	Tell string `json:"tell,omitempty"`
}

// NewAuditSchedule is what a schedule of exports is asked for with.
type NewAuditSchedule struct {
	NewAuditExport
	Name string `json:"name"`
	// in words, as cron does, or as a recurrence rule of RFC 5545
	When string `json:"when"`
	Zone string `json:"zone,omitempty"` // whose clock it follows; empty: UTC
}

// NewDelegation lets somebody else decide in one's place for a time.
type NewDelegation struct {
	To string `json:"to"`
	// an instant, or a duration like P14D; 90 days at the most
	Until  string `json:"until"`
	Reason string `json:"reason"`
}

// NewDisposal asks which segments of a rule may be destroyed.
type NewDisposal struct {
	Rule string `json:"rule"`
	// whose related rows the rule archived; empty: the rule's own
	Table string `json:"table,omitempty"`
	Note  string `json:"note,omitempty"`
}

// NewEnabled enables a rule, or keeps it from running.
type NewEnabled struct {
	Enabled bool   `json:"enabled"`
	Reason  string `json:"reason"`
}

// NewFirings asks for rules to run now.
type NewFirings struct {
	Rule   string `json:"rule,omitempty"`   // left out: all that are enabled
	Source string `json:"source,omitempty"` // left out: of any source
	Reason string `json:"reason"`
}

// NewFreeze asks for a freeze.
type NewFreeze struct {
	Source string     `json:"source,omitempty"` // left out: all
	Table  string     `json:"table,omitempty"`  // left out: all of the source
	Reason string     `json:"reason"`
	Until  *time.Time `json:"until,omitempty"` // left out: until somebody lifts it
}

// NewKeeping says how long the rows of a restore stay from now on.
type NewKeeping struct {
	For string `json:"for"` // ISO 8601; empty: for good
}

// NewMove says where the rows of a segment are to lie.
type NewMove struct {
	To string `json:"to"`
}

// NewName tells what a column of a table was called before.
type NewName struct {
	Name string `json:"name"` // as it is called now, or was called next
	// as it was called before; left out: it was added, and had no other name
	Was string `json:"was,omitempty"`
}

// NewOffSchedule asks for a rule not to fire for a while.
type NewOffSchedule struct {
	Reason string     `json:"reason"`
	Until  *time.Time `json:"until,omitempty"` // left out: by hand, or by until_done
	// until the run of the rule that has not ended is done
	UntilDone bool `json:"until_done,omitempty"`
}

// NewPace is the pace that a run is to go on at.
type NewPace struct {
	Pace string `json:"pace"` // gentle, careful or unlimited
}

// NewPartitions asks for partitions to be made in advance.
type NewPartitions struct {
	Ahead int  `json:"ahead"`         // how many
	Try   bool `json:"try,omitempty"` // only say what would be sent to the database
}

// NewPassword is a password that is to be somebody's own.
type NewPassword struct {
	Password    string `json:"password"`     // the one that they have
	NewPassword string `json:"new_password"` // 12 characters at least
}

// NewPlan asks for a plan.
type NewPlan struct {
	Rule string `json:"rule"`
	// a cutoff earlier than the rule's; ISO 8601
	Before string `json:"before,omitempty"`
	Where  string `json:"where,omitempty"`  // a further condition
	Keys   string `json:"keys,omitempty"`   // FROM..TO
	Limit  int64  `json:"limit,omitempty"`  // rows
	Note   string `json:"note,omitempty"`   // what the plan is for
	Exact  bool   `json:"exact,omitempty"`  // count the rows, rather than estimate
	Budget string `json:"budget,omitempty"` // for counting; an ISO 8601 duration
	// the table's changes since the rule was applied are meant
	Confirm bool `json:"confirm,omitempty"`
	// the reason for going beyond a guard rail
	Override string `json:"override,omitempty"`
	// any text of the caller's, under which it can ask how far the counting is
	Ticket string `json:"ticket,omitempty"`
}

// NewPriority is which of the runs that wait goes first.
type NewPriority struct {
	Priority int `json:"priority"`
}

// NewReason is why something is done.
type NewReason struct {
	Reason string `json:"reason"`
}

// NewRecipient says who is told what.
type NewRecipient struct {
	Address string `json:"address"` // a mail address, or the URL of a webhook
	// told at once; "all" for all of them
	Events []EventKind `json:"events,omitempty"`
	// names, with * for any text; left out: all
	Rules   []string `json:"rules,omitempty"`
	Sources []string `json:"sources,omitempty"`
	// the least of findings; left out: notice
	Severity string `json:"severity,omitempty"`
	// HH:MM at which a day is summed up; left out: never
	Digest string `json:"digest,omitempty"`
	// windows in which only what is urgent is sent
	Quiet      []string `json:"quiet,omitempty"`
	Zone       string   `json:"zone,omitempty"`        // left out: UTC
	SecretEnv  string   `json:"secret_env,omitempty"`  // variable with the key that signs
	SecretFile string   `json:"secret_file,omitempty"` // or a file
}

// NewRefusal says why a restore is refused.
type NewRefusal struct {
	Reason string `json:"reason"`
}

// NewRun asks for a run of a plan.
type NewRun struct {
	Plan string `json:"plan"`
	// remove all rows of the table at once, where the plan offers that
	Empty    bool       `json:"empty,omitempty"`
	At       *time.Time `json:"at,omitempty"`       // when it begins; left out: now
	Priority int        `json:"priority,omitempty"` // higher ones go first; 0 is usual
}

// NewSecond makes a second factor somebody's, or takes it away.
type NewSecond struct {
	Password string `json:"password"`
	Secret   string `json:"secret,omitempty"` // empty: there is to be none
	// of the second factor: of the new one, or of the one that goes
	Code string `json:"code,omitempty"`
}

// NewSettling asks for source, stores and catalog to be made to agree about a table.
type NewSettling struct {
	Reason string `json:"reason"` // what happened; it is kept
}

// NewSource is a source to add.
type NewSource struct {
	Name         string `json:"name"`
	Engine       string `json:"engine"`
	Address      string `json:"address"`
	PasswordEnv  string `json:"password_env,omitempty"`
	PasswordFile string `json:"password_file,omitempty"`
	TLS          string `json:"tls,omitempty"`
	TLSCA        string `json:"tls_ca,omitempty"`
	Disk         string `json:"disk,omitempty"`
	Origin       string `json:"origin,omitempty"`
	Connections  int    `json:"connections,omitempty"`
}

// NewStore is a store to add.
type NewStore struct {
	Name   string       `json:"name"`
	Path   string       `json:"path,omitempty"`   // of a directory
	Bucket *StoreBucket `json:"bucket,omitempty"` // of an object store
	Second string       `json:"second,omitempty"` // the store for second copies
	// where the keys are with which its files are encrypted; left out: they are not
	Seal   *Seal   `json:"seal,omitempty"`
	Tariff *Tariff `json:"tariff,omitempty"` // of a bucket whose files go cold
	// the place comes from elsewhere: it is a store already, or holds segments
	Existing bool `json:"existing,omitempty"`
}

// NewSweep asks for what interrupted runs left behind.
type NewSweep struct {
	// ISO 8601: only files that were not touched for so long; empty: P1D
	Older  string `json:"older,omitempty"`
	Remove bool   `json:"remove,omitempty"` // false: they are only listed
}

// News is something that happened that somebody may want to know of.
type News struct {
	Seq      int64     `json:"seq"` // growing
	At       time.Time `json:"at"`
	Kind     EventKind `json:"kind"`
	Title    string    `json:"title"`
	Severity string    `json:"severity"` // of a finding; empty: it is none
	Source   string    `json:"source"`
	Rule     string    `json:"rule"`
	Address  string    `json:"address"` // of its page in the console, from # on
}

// NextCutoff is the cutoff of one clause.
type NextCutoff struct {
	Clause int        `json:"clause"` // from 0
	Label  string     `json:"label"`
	Cutoff *time.Time `json:"cutoff"` // null: its rows are never due
}

// NextFiring is a firing that is to come, and the cutoffs that it would use.
type NextFiring struct {
	At      time.Time    `json:"at"`
	Cutoffs []NextCutoff `json:"cutoffs"`
}

// Notifying is how people and systems are told, and how far that is.
type Notifying struct {
	Mail  *MailServer `json:"mail"`  // null: no mail is sent
	Hosts []string    `json:"hosts"` // that webhooks may be sent to
	// address that links lead to; empty: notices have no links
	Console string      `json:"console"`
	Kinds   []EventKind `json:"kinds"`   // of events that somebody can be told of at once
	Waiting int64       `json:"waiting"` // deliveries
	Failed  int64       `json:"failed"`
	Since   *time.Time  `json:"since"` // the oldest of those is tried; null: none was
}

// OffSchedule keeps a rule from firing by its schedule for a while.
type OffSchedule struct {
	ID        string     `json:"id"`
	Rule      string     `json:"rule"`
	Reason    string     `json:"reason"`
	Until     *time.Time `json:"until"`      // when it ends; null: by hand, or by until_done
	UntilDone bool       `json:"until_done"` // it ends when a run of the rule is done
	PlacedAt  time.Time  `json:"placed_at"`
	PlacedBy  string     `json:"placed_by"`
	FreezeLift
}

// Offer is what the retrieval of segments takes at one priority, by their stores' tariffs.
type Offer struct {
	Priority Priority `json:"priority"`
	Wait     string   `json:"wait,omitempty"` // ISO 8601; empty: not known
	Price    *float64 `json:"price"`          // null: not known
	Currency string   `json:"currency,omitempty"`
}

// OpenSession is what somebody has begun who signed in.
type OpenSession struct {
	ID        string    `json:"id"`      // its public name, which stands in the audit log
	Account   string    `json:"account"` // empty: the administrator's token
	BegunAt   time.Time `json:"begun_at"`
	ExpiresAt time.Time `json:"expires_at"`
	UsedAt    time.Time `json:"used_at"` // to the minute
	Address   string    `json:"address"` // from which it was begun
	Agent     string    `json:"agent"`   // what the browser or the command line calls itself
	Own       bool      `json:"own"`     // it is the one that asks
}

// Outcome is what became of a step.
type Outcome string

// Values of Outcome.
const (
	StepBegan  Outcome = "began"
	StepDone   Outcome = "done"
	StepFailed Outcome = "failed"
)

// Pace is how hard a run works its source.
type Pace string

// Values of Pace.
const (
	Gentle    Pace = "gentle"
	Careful   Pace = "careful"   // batches of about 5 ms, and many times as long a rest after each, whoever is there
	Unlimited Pace = "unlimited" // for an empty database at night: large batches, no rest
)

// PairedSession is the session of a command line.
type PairedSession struct {
	Waits   bool     `json:"waits"`             // nobody has confirmed the code yet
	Session *Session `json:"session,omitempty"` // with its token
}

// Pairing is a command line that somebody who is signed in to the console is to sign in.
type Pairing struct {
	Code      string    `json:"code"`       // that they confirm
	Secret    string    `json:"secret"`     // with which the command line asks for its session
	ExpiresAt time.Time `json:"expires_at"` // when the code is no use any more
}

// PairingCode is the code that a command line shows.
type PairingCode struct {
	// as it is shown; in small letters and without the hyphen too
	Code string `json:"code"`
}

// PairingTaken asks for the session of a command line.
type PairingTaken struct {
	Code   string `json:"code"`   // that it shows
	Secret string `json:"secret"` // that it was given with the code
}

// Part is a partition that was to leave as a whole when the plan was made, or the table itself, if it was to be
// emptied at once.
type Part struct {
	Name   string    `json:"name"` // empty: the table
	From   string    `json:"from,omitempty"`
	To     string    `json:"to,omitempty"`
	Rows   int64     `json:"rows"` // by the plan
	State  PartState `json:"state"`
	Reason string    `json:"reason,omitempty"` // why its rows go one by one
	Left   int64     `json:"left"`             // rows that left with it
	Copy   int64     `json:"copy_micros"`      // time for copying and verifying
	// time for comparing once more, while it was aside
	Compare int64       `json:"compare_micros"`
	Drop    int64       `json:"drop_micros"` // time for taking it out and dropping it
	Purges  []PartPurge `json:"purges,omitempty"`
}

// PartPurge is the number of the journal row of what one clause purges with a partition.
type PartPurge struct {
	Clause int `json:"clause"`
	Number int `json:"number"`
}

// PartState is where a partition stands that is to leave as a whole.
type PartState string

// Values of PartState.
const (
	PartWaiting PartState = "waiting"
	PartCopying PartState = "copying"
	PartCopied  PartState = "copied" // all of its rows are copied and verified, where they are archived
	PartLeft    PartState = "left"   // it was dropped
	PartRows    PartState = "rows"   // it stays, and its rows go one by one
)

// Partition is a part of a table that holds a range of one column's values.
type Partition struct {
	Name string `json:"name"`
	// that it lies in, where partitions are tables
	Schema string `json:"schema,omitempty"`
	Column string `json:"column"`
	// the least value, as the column's text; empty: no bound
	From       string `json:"from,omitempty"`
	To         string `json:"to,omitempty"` // the value before which it ends; empty: no bound
	Rows       int64  `json:"rows"`         // the database's estimate; -1 where it has none
	Bytes      int64  `json:"bytes"`        // of the rows, without indexes
	IndexBytes int64  `json:"index_bytes"`
	// why the database, or our rights there, do not let it leave as a whole
	Hinders string `json:"hinders,omitempty"`
}

// PartitionsAhead is what making partitions in advance does, or would do.
type PartitionsAhead struct {
	Made       bool            `json:"made"`
	Partitions []PlanPartition `json:"partitions"` // the new ones
	Statements []string        `json:"statements"`
}

// Pass is the part of a run that takes the rows of one clause.
type Pass struct {
	Clause int       `json:"clause"`
	Label  string    `json:"label"`
	Then   string    `json:"then"`
	Store  string    `json:"store,omitempty"`
	Cutoff time.Time `json:"cutoff"`
	Due    int64     `json:"due"` // by the plan
	Ledger Ledger    `json:"ledger"`
	// the tables whose rows went along
	Related []PassRelated `json:"related,omitempty"`
}

// PassRelated is what a pass did in a related table.
type PassRelated struct {
	Table  string `json:"table"`
	Then   string `json:"then"`
	Store  string `json:"store,omitempty"`
	Ledger Ledger `json:"ledger"`
}

// PasswordAgain shows once more that it is the person who is signed in.
type PasswordAgain struct {
	Password string `json:"password"`
}

// Phase is when a step is done.
type Phase string

// Values of Phase.
const (
	BeforeRun Phase = "before"
	AfterRun  Phase = "after"
)

// PinnedCutoff is the cutoff of one clause.
type PinnedCutoff struct {
	At    *time.Time `json:"at,omitempty"`
	Never bool       `json:"never,omitempty"` // nothing is due
	All   bool       `json:"all,omitempty"`   // everything is due
}

// PinnedRule is the rule of a related table as a plan found it: what that keeps, keeps its family, whatever becomes
// of the rule until the run.
type PinnedRule struct {
	Table    string         `json:"table"`
	Rule     string         `json:"rule"`
	Revision int            `json:"revision"`
	Cutoffs  []PinnedCutoff `json:"cutoffs"` // by clause
}

// Placed is a hold that was placed, with what it holds.
type Placed struct {
	Hold
	Rows int64 `json:"rows"` // live rows that it holds, counted to 100,000
}

// PlacedItem is a segment that is to be destroyed, in a list of them.
type PlacedItem struct {
	DisposalItem
}

// PlacedStay is a segment that stays, in a list of them.
type PlacedStay struct {
	DisposalStay
}

// Plan is what a run would do. It is never changed.
type Plan struct {
	ID       string     `json:"id"`
	Rule     string     `json:"rule"`
	Revision int        `json:"revision"`
	Source   string     `json:"source"`
	Table    string     `json:"table"`
	Cutoff   time.Time  `json:"cutoff"` // the latest of its clauses'
	MadeAt   time.Time  `json:"made_at"`
	Counts   Counts     `json:"counts"`
	Batches  int64      `json:"batches"`
	Segments int64      `json:"segments"`
	Warnings []string   `json:"warnings"`
	Detail   PlanDetail `json:"detail"`
}

// PlanCatchAll is the partition that takes what no other does.
type PlanCatchAll struct {
	Name string `json:"name"`
	Rows int64  `json:"rows"` // counted to 100,000; -1: not counted
	Due  int64  `json:"due"`
}

// PlanClause is a clause as the plan pins it.
type PlanClause struct {
	Clause      int             `json:"clause"`
	Label       string          `json:"label"`
	About       string          `json:"about,omitempty"`
	Locked      string          `json:"locked,omitempty"`
	Keep        string          `json:"keep"`
	Cutoff      *time.Time      `json:"cutoff"` // null: never due
	Then        Then            `json:"then"`
	Store       string          `json:"store,omitempty"`
	ArchiveKeep string          `json:"archive_keep,omitempty"`
	DeleteAfter string          `json:"delete_after,omitempty"`
	Omit        []string        `json:"omit,omitempty"`
	Mask        map[string]Mask `json:"mask,omitempty"`
}

// PlanDetail is what a plan holds beside its numbers.
type PlanDetail struct {
	Note    string        `json:"note,omitempty"`
	Narrow  Narrow        `json:"narrow"`
	Clauses []PlanClause  `json:"clauses"`
	Related []PlanRelated `json:"related"`
	// the rules of related tables, as they were; null: the plan is of an older version
	Pinned     []PinnedRule    `json:"pinned"`
	Partitions []PlanPartition `json:"partitions"`
	CatchAll   *PlanCatchAll   `json:"catch_all,omitempty"`
	// of a rule that empties its table
	Emptying   *PlanEmptying `json:"emptying,omitempty"`
	Statements []Statement   `json:"statements"`
	Expect     Expectation   `json:"expect"`
	// how the table differs from what it was when the rule was applied
	Drift []string `json:"drift"`
	// the drift changes what would be deleted or archived: a run needs it confirmed
	Confirm  bool     `json:"confirm"`
	Guards   []string `json:"guards"`             // guard rails that the plan breaks
	Override string   `json:"override,omitempty"` // the reason for which it may
}

// PlanEmptying says whether a table can be emptied at once, rather than in batches.
type PlanEmptying struct {
	Offered bool     `json:"offered"`
	Why     string   `json:"why,omitempty"` // not
	Effects []string `json:"effects"`       // what it locks, resets and passes by
}

// PlanPartition says how a partition's rows leave.
type PlanPartition struct {
	Name       string `json:"name"`
	From       string `json:"from,omitempty"` // empty: no bound
	To         string `json:"to,omitempty"`
	Rows       int64  `json:"rows"` // the database's estimate; -1 where it has none
	Bytes      int64  `json:"bytes"`
	IndexBytes int64  `json:"index_bytes"`
	Way        Way    `json:"way"`
	Why        string `json:"why,omitempty"`
}

// PlanRelated is a table whose rows go along.
type PlanRelated struct {
	Table string `json:"table"`
	Above string `json:"above"` // the table that its rows refer to
	On    string `json:"on"`
	Then  Then   `json:"then"`
	Rows  int64  `json:"rows"` // that go along with the due rows; -1: not counted
	// it has a rule of its own: what that keeps, keeps its family
	Keeps bool `json:"keeps,omitempty"`
}

// Pressure is what the readings of one moment come to.
type Pressure struct {
	Readings []Reading `json:"readings"`
	Rest     bool      `json:"rest"`   // until a value is back within its limit
	Slow     float64   `json:"slow"`   // 0: not at all, to 1: as slow as pressure makes a run
	Reason   string    `json:"reason"` // in words, of a rest or slowing down
	// what the pace takes of the database beside others, from 0 to 1: all of it
	Free float64 `json:"free"`
	// what keeps the gentle pace from taking all; empty: nothing
	Why    string `json:"why"`
	Signal string `json:"signal"` // whose value is the reason; empty: there is none
}

// Preview is what a rule would do that is being written.
type Preview struct {
	Rule *RuleBody `json:"rule"` // as it was read; null where it could not be
	// the rule as the form writes it, where it came from the form
	Text     string        `json:"text"`
	Problems []RuleProblem `json:"problems"`
	Plan     *Plan         `json:"plan"` // null where a mistake is in the way
}

// Priority is how urgent a retrieval is.
type Priority string

// Values of Priority.
const (
	Low    Priority = "low"
	Normal Priority = "normal"
	High   Priority = "high"
)

// QueueLimits are how many runs, and how many other jobs of each kind, work at a time; the others wait in the
// queue.
type QueueLimits struct {
	All           int `json:"all"`           // runs in all
	Source        int `json:"source"`        // runs of one source
	Restores      int `json:"restores"`      // to tables
	Exports       int `json:"exports"`       // restores to files
	Disposals     int `json:"disposals"`     // and erasures
	Verifications int `json:"verifications"` // that somebody asked for
	Moves         int `json:"moves"`         // of segments to other stores
	Copies        int `json:"copies"`        // second ones, of segments
	Audits        int `json:"audits"`        // exports of the audit log
}

// QueuedJob is a restore, an export, a disposal, a verification, a move or a second copy that works or waits.
type QueuedJob struct {
	Kind    JobKind   `json:"kind"`
	ID      string    `json:"id"`
	Source  string    `json:"source"` // empty: of any
	Table   string    `json:"table"`  // likewise
	What    string    `json:"what"`   // in words
	By      string    `json:"by"`
	AskedAt time.Time `json:"asked_at"`
	Done    int64     `json:"done"`
	Of      int64     `json:"of"` // 0: not known yet
	Unit    string    `json:"unit"`
	JobTurn
}

// QueuedRun is a run that works or waits.
type QueuedRun struct {
	Run RunView `json:"run"`
	// among those that wait, from 1; 0: it works; -1: it waits for something else
	Position int    `json:"position"`
	Why      string `json:"why"` // it waits, beyond that others work
	// seconds until it begins, as far as can be told; null: that cannot
	StartsIn *int64 `json:"starts_secs"`
}

// Rate is what a retrieval takes at one priority.
type Rate struct {
	Wait  string  `json:"wait"`  // ISO 8601, from asking until the copy is there
	Price float64 `json:"price"` // of a GiB
}

// Reading is what a signal showed, beside its limit.
type Reading struct {
	Signal string   `json:"signal"`
	Label  string   `json:"label"`
	Unit   Unit     `json:"unit"`
	Value  float64  `json:"value"`
	Limit  *float64 `json:"limit,omitempty"`
	Floor  bool     `json:"floor,omitempty"` // the limit is the least that must be there
	Level  Level    `json:"level"`
}

// Reappeared is a segment whose deletes the source has forgotten.
type Reappeared struct {
	Segment string `json:"segment"`
	Deleted int64  `json:"deleted"` // rows, by its closing record
	// of those, rows whose key is in the table; -1: the table has no key, so nobody can tell
	Live int64 `json:"live"`
}

// Recipient is a person or a system that is told what happens.
type Recipient struct {
	Name    string      `json:"name"`
	Address string      `json:"address"` // a mail address, or the URL of a webhook
	Events  []EventKind `json:"events"`  // told at once
	// names, with * for any text; left out: all
	Rules   []string `json:"rules,omitempty"`
	Sources []string `json:"sources,omitempty"` // likewise
	// the least of findings; left out: notice
	Severity string `json:"severity,omitempty"`
	// HH:MM at which a day is summed up; left out: never
	Digest string `json:"digest,omitempty"`
	// windows in which only what is urgent is sent
	Quiet      []string  `json:"quiet,omitempty"`
	Zone       string    `json:"zone,omitempty"` // whose clock these follow; left out: UTC
	SecretEnv  string    `json:"secret_env,omitempty"`
	SecretFile string    `json:"secret_file,omitempty"`
	SetAt      time.Time `json:"set_at"`
	SetBy      string    `json:"set_by"`
}

// Reconciliation is what source, stores and catalog tell of a table, side by side.
type Reconciliation struct {
	Source      string   `json:"source"`
	Table       string   `json:"table"`
	Agree       bool     `json:"agree"`
	Differences []string `json:"differences"` // in words
	Identity    string   `json:"identity"`    // of the source's journal; empty: it has none
	Server      string   `json:"server"`
	Epoch       int64    `json:"epoch"`
	// the newest link of the chain that the source's journal knows
	SourceLink  int64 `json:"source_link"`
	CatalogLink int64 `json:"catalog_link"` // that the catalog knows
	StoreLink   int64 `json:"store_link"`   // that lies in the stores
	// segments in the stores that the catalog does not know
	Unknown []string `json:"unknown"`
	// segments whose rows are not in the store in which the catalog has them
	Displaced []string `json:"displaced"`
	// segments whose rows were deleted after the moment that the source is at
	Reappeared []Reappeared `json:"reappeared"`
	Settling   []string     `json:"settling"` // what settling does, in words
	// of all rows that ever were; null where nothing was ever archived or purged
	Totals *TableTotals `json:"totals"`
	// to the catalog; null: no run has worked on the table
	Known *Lineage `json:"known"`
}

// Related is a table whose rows go along with the rows that they refer to. A row and its related rows leave whole
// or not at all.
type Related struct {
	Table string `json:"table"`
	// its column → column of the table above it; empty: by the only foreign key
	On      map[string]string `json:"on,omitempty"`
	Then    Then              `json:"then"` // archive, purge or unlink
	Related []Related         `json:"related,omitempty"`
}

// Remark is something that is wrong with a store, or worth knowing.
type Remark struct {
	Wrong   bool   `json:"wrong"` // false: it is only worth knowing
	Kind    string `json:"kind"`
	Store   string `json:"store"`
	Table   string `json:"table,omitempty"` // SOURCE.TABLE
	Segment string `json:"segment,omitempty"`
	File    string `json:"file,omitempty"`
	Message string `json:"message"`
}

// Report is what a check of a source found.
type Report struct {
	Engine  string          `json:"engine"`
	Version string          `json:"version"`
	User    string          `json:"user,omitempty"`
	TLS     string          `json:"tls,omitempty"`
	Journal string          `json:"journal"` // where the journal tables are, or would be
	Items   []SourceFinding `json:"items"`
}

// ReportApproval is a request for an approval, and how it was decided on.
type ReportApproval struct {
	ID      string       `json:"id"`
	Summary string       `json:"summary"`  // what was asked for, in words
	Digest  string       `json:"digest"`   // SHA-256 of what was asked for
	Persons int          `json:"persons"`  // so many others had to approve it
	AskedBy string       `json:"asked_by"` // the account, or schedule
	AskedAt time.Time    `json:"asked_at"`
	State   string       `json:"state"`
	Votes   []ReportVote `json:"votes"`
}

// ReportEntry is an entry of the audit log, with what it takes to check its hash.
type ReportEntry struct {
	Before  string    `json:"before"` // the hash of the entry before it
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
	Session string    `json:"session"` // empty: by a token, or by the service itself
	Address string    `json:"address"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
	Outcome string    `json:"outcome"`
	Detail  string    `json:"detail"`
	Digest  string    `json:"digest"`
	Hash    string    `json:"hash"` // of the entry, with that of the one before
}

// ReportPlan is what a run was to take.
type ReportPlan struct {
	ID       string    `json:"id"`
	MadeBy   string    `json:"made_by"` // empty: before it was kept who made plans
	MadeAt   time.Time `json:"made_at"`
	Note     string    `json:"note"`
	Due      int64     `json:"due"`
	Total    int64     `json:"total"`    // rows of the table
	Guards   []string  `json:"guards"`   // guard rails that it went beyond
	Override string    `json:"override"` // the reason for that
	Warnings []string  `json:"warnings"`
	// the very text whose SHA-256 was approved; empty: the plan is old, and parts of it were let go
	Approved string `json:"approved"`
}

// ReportRule is the revision of the rule by which a run worked.
type ReportRule struct {
	Name      string    `json:"name"`
	Revision  int       `json:"revision"`
	Text      string    `json:"text"`
	Changes   []string  `json:"changes"` // since the revision before
	Reason    string    `json:"reason"`  // why a locked clause was loosened; empty: none was
	AppliedBy string    `json:"applied_by"`
	AppliedAt time.Time `json:"applied_at"`
}

// ReportSegment is what has become of the rows that a run archived.
type ReportSegment struct {
	Segment string `json:"segment"`
	State   string `json:"state"`
	// when it was last read back and found whole; null: it was not
	Verified *time.Time `json:"verified"`
	Damage   string     `json:"damage"`     // what was found to be wrong; empty: nothing
	Keep     *time.Time `json:"keep_until"` // null: without an end
	// when its rows were destroyed; null: they were not
	Disposed *time.Time `json:"disposed"`
	Disposal string     `json:"disposal"`
}

// ReportVote is how a person decided.
type ReportVote struct {
	Person    string    `json:"person"`     // whoever it was
	Account   string    `json:"account"`    // under which they decided
	ForPerson string    `json:"for_person"` // in whose place; empty: in their own
	Approves  bool      `json:"approves"`
	Reason    string    `json:"reason"`
	At        time.Time `json:"at"`
}

// Requires is what must hold for a run to begin, and each time that it goes on. Until all of it does, the run
// rests.
type Requires struct {
	Backup *Backup `json:"backup,omitempty"`
	// in each store that the plan writes to
	StoreFree *Room `json:"store_free,omitempty"`
	LogFree   *Room `json:"log_free,omitempty"` // on the disk of the database
	// seconds at the most; 0: any
	ReplicaDelay float64 `json:"replica_delay,omitempty"`
}

// Resealed is what sealing a store's files with its newest key came to.
type Resealed struct {
	// files that are sealed with it now, and were not before
	Sealed int   `json:"sealed"`
	Bytes  int64 `json:"bytes"` // of those, as they lay there
	// files that could not be read, since they are in cold storage
	Cold int `json:"cold"`
	// files that belong to no segment of this catalog, and were left as they are
	Strange int `json:"strange"`
}

// Restore is a request to bring archived rows back.
type Restore struct {
	ID     string `json:"id"`
	Source string `json:"source"`
	Table  string `json:"table"`
	Scope  Scope  `json:"scope"`
	Target string `json:"target"` // "table", "side" or "file"
	// of side: the source of the table that is made
	TargetSource string `json:"target_source,omitempty"`
	// of side: the table that is made
	TargetTable string    `json:"target_table,omitempty"`
	Format      string    `json:"format"` // of a file: csv, ndjson or parquet
	Note        string    `json:"note"`
	CreatedAt   time.Time `json:"created_at"`
	CreatedBy   string    `json:"created_by"`
	Fit         Fit       `json:"fit"`
	// ISO 8601: the rows go again when that has passed; empty: they stay
	Lasts string `json:"lasts,omitempty"`
	// what becomes of rows whose key is there: "skip", "fail" or "replace"
	Conflicts  string       `json:"conflicts"`
	Pace       string       `json:"pace"`
	Tell       string       `json:"tell"` // who is told when it is ready: a mail address or a URL
	State      RestoreState `json:"state"`
	Reason     string       `json:"reason"`
	Begun      bool         `json:"begun"` // rows may have been put back or replaced
	EndedAt    *time.Time   `json:"ended_at"`
	ExpiresAt  *time.Time   `json:"expires_at"` // when they go
	ExpiredAt  *time.Time   `json:"expired_at"` // when they went
	ApprovedBy string       `json:"approved_by"`
	ApprovedAt *time.Time   `json:"approved_at"`
	ToldAt     *time.Time   `json:"told_at"`
	Segments   int64        `json:"segments"`
	Found      int64        `json:"found"`    // archived rows in the scope
	Restored   int64        `json:"restored"` // put back, or written to the file
	// their key was there already, or a newer archived version
	Skipped int64 `json:"skipped"`
	// of the restored rows, those that took the place of another
	Replaced int64 `json:"replaced"`
	// rows of the segments that are read, for telling how far it is; 0: not known yet
	Of        int64  `json:"of"`
	Digest    string `json:"digest"`   // of the restored rows
	Verified  *bool  `json:"verified"` // counts and digest hold
	FileBytes int64  `json:"file_bytes"`
	TakenBack int64  `json:"taken_back"` // rows that went
	Stayed    int64  `json:"stayed"`     // rows that had been changed, and stayed
}

// RestorePreview is what a restore would do.
type RestorePreview struct {
	Source   string `json:"source"`
	Table    string `json:"table"`
	Segments int    `json:"segments"` // that have rows for it
	// archived rows in the scope, those of related tables aside
	Rows int64 `json:"rows"`
	// further ones, of which a newer version is archived: they do not go into a table
	Stale int64 `json:"stale"`
	Bytes int64 `json:"bytes"` // of segments that are read
	// of the rows, those whose key is in the target already
	Conflicts int64    `json:"conflicts"`
	Untold    bool     `json:"untold"`   // the target has no key, so nobody can tell conflicts
	Into      string   `json:"into"`     // in words
	Triggers  []string `json:"triggers"` // of the target, that fire for each row
	Approval  bool     `json:"approval"` // somebody has to approve it first
	// what has to be retrieved first, whose rows are not counted; null: nothing
	Cold *Chilled `json:"cold"`
}

// RestoreRequest is what somebody asks for.
type RestoreRequest struct {
	// with Table, for a span of age or a filter; otherwise they follow from the scope
	Source string `json:"source,omitempty"`
	Table  string `json:"table,omitempty"`
	Scope  Scope  `json:"scope"`
	Target string `json:"target"` // "table", "side" or "file"
	// of side: the table that is made
	TargetTable string `json:"target_table,omitempty"`
	// of side: the source that it is made in; empty: the one that the rows came from
	TargetSource string `json:"target_source,omitempty"`
	Format       string `json:"format,omitempty"`
	// of table: "skip" rows whose key is there, "fail" before anything is written, or "replace" them; empty: skip
	Conflicts string `json:"conflicts,omitempty"`
	// of table: how rows go into a table that was altered since
	Fit Fit `json:"fit,omitzero"`
	// of table: how long the rows stay before they go again, ISO 8601; empty: for good
	For  string `json:"for,omitempty"`
	Note string `json:"note,omitempty"`
	// in place of a filter, of a table whose key has one column
	Keys []string `json:"keys,omitempty"`
	// of retrievals, where rows are in cold storage; empty: normal
	Priority Priority `json:"priority,omitempty"`
	// that retrieved copies stay; 0: as the store's tariff says
	Days int `json:"days,omitempty"`
	// gentle, careful or unlimited; empty: that of the table's rule
	Pace string `json:"pace,omitempty"`
	// who is told when it is ready: a mail address, or a URL that is sent it as JSON
	Tell string `json:"tell,omitempty"`
}

// RestoreState is where a restore stands.
type RestoreState string

// Values of RestoreState.
const (
	RestoreAsked   RestoreState = "asked"      // somebody has to approve it
	Retrieving     RestoreState = "retrieving" // rows of it are in cold storage, and were asked for
	Restoring      RestoreState = "running"
	RestoreDone    RestoreState = "done"
	RestoreFailed  RestoreState = "failed"
	RestoreExpired RestoreState = "expired" // its rows were for a time, and are gone again
	RestoreRefused RestoreState = "refused" // somebody decided against it
)

// Retrieval is the fetching of one segment's rows from cold storage, for a time.
type Retrieval struct {
	ID         string         `json:"id"`
	Segment    string         `json:"segment"`
	Store      string         `json:"store"`
	Priority   Priority       `json:"priority"`
	Days       int            `json:"days"` // that the copy stays
	Bytes      int64          `json:"bytes"`
	Price      *float64       `json:"price"` // by the store's tariff; null: not known
	Currency   string         `json:"currency,omitempty"`
	State      RetrievalState `json:"state"`
	Reason     string         `json:"reason"`
	Note       string         `json:"note"` // what it is for
	CreatedAt  time.Time      `json:"created_at"`
	CreatedBy  string         `json:"created_by"`
	ExpectedAt *time.Time     `json:"expected_at"` // by the tariff
	ReadyAt    *time.Time     `json:"ready_at"`
	Until      *time.Time     `json:"until"`
}

// RetrievalRequest asks for segments to be fetched from cold storage: by name, or those of a table that can hold
// rows of a filter.
type RetrievalRequest struct {
	Segments []string `json:"segments,omitempty"`
	Source   string   `json:"source,omitempty"`
	Table    string   `json:"table,omitempty"`
	// in the language of rules; empty: all of the table
	Where    string   `json:"where,omitempty"`
	Priority Priority `json:"priority,omitempty"`
	// that the copies stay; 0: as the store's tariff says
	Days int    `json:"days,omitempty"`
	Note string `json:"note,omitempty"`
}

// RetrievalState is where a retrieval stands.
type RetrievalState string

// Values of RetrievalState.
const (
	RetrievalAsked  RetrievalState = "retrieving" // the store was asked, and has no copy yet
	RetrievalReady  RetrievalState = "ready"      // a copy is there, for a time
	RetrievalOver   RetrievalState = "over"       // the copy is gone again
	RetrievalFailed RetrievalState = "failed"
)

// Revision is one revision of a rule; all are kept.
type Revision struct {
	Rule      string    `json:"rule"`
	Revision  int       `json:"revision"`
	Text      string    `json:"text"`
	Changes   []string  `json:"changes"`
	Reason    string    `json:"reason,omitempty"` // why a locked clause was loosened
	AppliedAt time.Time `json:"applied_at"`
	AppliedBy string    `json:"applied_by"`
}

// Right is leave to do one kind of thing.
type Right string

// Values of Right.
const (
	See        Right = "see"        // counts, rules, states and records, but no values of rows
	Rows       Right = "rows"       // values of rows: samples, searches and files
	Operate    Right = "operate"    // plans, runs, restores, verifications and what goes on in the queue
	Approve    Right = "approve"    // decide on what others have asked for
	Administer Right = "administer" // sources, stores, rules, guard rails, holds, accounts and settings
)

// Role is a set of rights that an account has.
type Role string

// Values of Role.
const (
	Nobody        Role = "none" // in all sources: what somebody may do is what they may in single ones
	Viewer        Role = "viewer"
	Operator      Role = "operator"
	Approver      Role = "approver"
	Administrator Role = "administrator"
)

// Room is how much must be free: so many bytes, or so many times what the plan expects to write.
type Room struct {
	Bytes float64 `json:"bytes,omitempty"`
	Times float64 `json:"times,omitempty"`
}

// RowAt is where an archived row lies.
type RowAt struct {
	Segment string `json:"segment"`
	Ordinal int    `json:"ordinal"` // from 0, in the order of the file
}

// Rule is the newest revision of a rule.
type Rule struct {
	Name      string    `json:"name"`
	Revision  int       `json:"revision"`
	Source    string    `json:"source"`
	Table     string    `json:"table"`
	Text      string    `json:"text"`
	Body      RuleBody  `json:"body"`
	AppliedAt time.Time `json:"applied_at"`
}

// RuleBody is the retention rule of one table.
type RuleBody struct {
	Name string `json:"name"`
	// why the records are kept as long as they are
	About  string `json:"about,omitempty"`
	Off    bool   `json:"off,omitempty"` // not enabled: it can be planned, and not run
	Source string `json:"source"`
	Table  string `json:"table"`
	Age    Age    `json:"age"`
	// IANA name of the zone whose calendar and clock the rule keeps to; empty: UTC
	Zone string `json:"zone,omitempty"`
	// column that tells when writers last touched a row
	Modified string          `json:"modified,omitempty"`
	Joins    map[string]Join `json:"joins,omitempty"`
	Related  []Related       `json:"related,omitempty"`
	// joined columns, as JOIN.COLUMN, that are archived with the row
	Include []string `json:"include,omitempty"`
	// joins whose rows are kept beside the segment
	Copy    []string `json:"copy,omitempty"`
	Clauses []Clause `json:"clauses"`
	Then    Then     `json:"then"`
	// with copy: how long after the copy the rows are deleted; nil: by hand
	DeleteAfter *string  `json:"delete_after,omitempty"`
	Archive     Archive  `json:"archive"`
	Omit        []string `json:"omit,omitempty"` // columns that are not archived
	// columns that are archived in another form
	Mask    map[string]Mask `json:"mask,omitempty"`
	Confirm string          `json:"confirm,omitempty"`
	Pace    Pace            `json:"pace"`
	// how much slower others may become beside the gentle pace, as a share of what their statements take at the p99;
	// left out: a tenth
	Bound float64 `json:"bound,omitempty"`
	// when a run may work; none: at any time
	Window []string `json:"window,omitempty"`
	Budget *Budget  `json:"budget,omitempty"` // of one window
	// what a run may make the database write to its log
	Log *Log `json:"log,omitempty"`
	// of signals, by their names, in the signal's unit; null: none
	Limits map[string]*float64 `json:"limits,omitempty"`
	// WayRows: none leaves as a whole; empty: those that can
	Partitions Way       `json:"partitions,omitempty"`
	Schedule   *Schedule `json:"schedule,omitempty"` // nil: by hand only
	Limit      *Limit    `json:"limit,omitempty"`
	Requires   *Requires `json:"requires,omitempty"`
	Before     []Step    `json:"before,omitempty"` // each time before a run works
	// each time that it has worked, however that ended
	After []Step `json:"after,omitempty"`
}

// RuleFile is a file of rules to check or apply.
type RuleFile struct {
	File   string `json:"file,omitempty"` // its name, for messages
	Text   string `json:"text"`
	Reason string `json:"reason,omitempty"` // for loosening a locked clause
}

// RuleProblem is one thing that is wrong, or worth knowing, in a file of rules.
type RuleProblem struct {
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"`   // from 1; 0 where the problem has no place
	Column  int    `json:"column,omitempty"` // from 1
	Rule    string `json:"rule,omitempty"`
	Field   string `json:"field,omitempty"`
	Message string `json:"message"`
	// of a filter, with a caret under the place
	Excerpt string `json:"excerpt,omitempty"`
	Remedy  string `json:"remedy,omitempty"`
	Warning bool   `json:"warning,omitempty"` // the rule can be applied all the same
}

// RuleResult says what a check found, or what became of each rule.
type RuleResult struct {
	Applied  []Applied     `json:"applied"`
	Problems []RuleProblem `json:"problems"` // warnings, where the rules were applied
}

// RuleSums is what the runs of a rule came to that ended within some days.
type RuleSums struct {
	Rule      string  `json:"rule"`
	Source    string  `json:"source"`
	Table     string  `json:"table"`
	Runs      int64   `json:"runs"`
	Archived  int64   `json:"archived"`
	Purged    int64   `json:"purged"`
	Freed     int64   `json:"freed"`
	FileBytes int64   `json:"file_bytes"`
	Working   float64 `json:"working_secs"`
}

// RuleTimes is when a rule runs by itself.
type RuleTimes struct {
	Rule    string `json:"rule"`
	Spoken  string `json:"spoken"` // in words; empty: it runs by hand only
	Named   string `json:"named,omitempty"`
	Missed  Missed `json:"missed"`
	Limit   *Limit `json:"limit,omitempty"`
	Enabled bool   `json:"enabled"`
	// why it does not fire for a while; left out: it does
	Off  *OffSchedule `json:"off,omitempty"`
	Next []NextFiring `json:"next"` // the next ten
}

// RuleView is a rule with its newest plan and when it last ran.
type RuleView struct {
	Rule
	Spoken  string   `json:"spoken"` // the clauses in words
	LastRun *RunView `json:"last_run"`
}

// Run is the execution of a plan.
type Run struct {
	ID        string     `json:"id"`
	Plan      string     `json:"plan"`
	Rule      string     `json:"rule"`
	Revision  int        `json:"revision"`
	Source    string     `json:"source"`
	Table     string     `json:"table"`
	Action    string     `json:"action"` // archive or purge
	Store     string     `json:"store"`
	Pace      string     `json:"pace"`
	Cutoff    time.Time  `json:"cutoff"`
	Due       int64      `json:"due"` // by the plan
	Limit     int64      `json:"limit,omitempty"`
	CreatedAt time.Time  `json:"created_at"`
	StartedBy string     `json:"started_by"`
	StartAt   *time.Time `json:"start_at,omitempty"` // not before; left out: at once
	Priority  int        `json:"priority,omitempty"` // higher ones go first; 0 is usual
	// the firing that it is of; left out: somebody started it
	Scheduled *time.Time `json:"scheduled,omitempty"`
	// how often it was tried again by itself after it had failed
	Retries   int        `json:"retries,omitempty"`
	State     RunState   `json:"state"`
	Reason    string     `json:"reason"` // of the state, where there is one
	StartedAt *time.Time `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at"`
	Working   int64      `json:"working_micros"` // time spent running, pauses left out
	// the table is to be emptied at once, if that can be done
	Emptying bool `json:"emptying"`
	// it was decided that it ends: it deletes nothing more, whoever takes it up
	Cancelling bool `json:"cancelling"`
	// of a run that copies: it was decided that the rows go
	Deleting bool       `json:"deleting"`
	DeleteAt *time.Time `json:"delete_at"` // when that is decided on its own
	// of a run that rests: when its next window opens
	ResumeAt *time.Time `json:"resume_at"`
	// since when what its rule requires has not held; null: it holds, or it was not asked
	UnmetSince *time.Time `json:"unmet_since"`
	RawBytes   int64      `json:"raw_bytes"`
	FileBytes  int64      `json:"file_bytes"`
	// that the database's log grew by, others' writing included; null where it is not known
	LogBytes *int64 `json:"log_bytes"`
	Slices   int    `json:"slices"` // slices whose rows are all accounted for
	Passes   []Pass `json:"passes"` // one for each clause that takes rows, in order
	Pass     int    `json:"pass"`   // the one that it is at
	// partitions that are to leave as a whole, the oldest first
	Parts []Part `json:"parts"`
	// when it began to work in the window in which it last worked
	WindowBegan    *time.Time `json:"window_began"`
	WindowRows     int64      `json:"window_rows"`      // rows taken in that window
	LastWindowRows int64      `json:"last_window_rows"` // and in the one before
	// that it will take, as far as can be told
	WindowsLeft *int64 `json:"windows_left"`
	// of the database, while the run goes on
	Pressure  *Pressure `json:"pressure,omitempty"`
	BatchRows int       `json:"batch_rows,omitempty"` // that the next batch will take
	Ledger    Ledger    `json:"ledger"`
}

// RunLedger is the accounting of a run, with the records in the stores that it rests on, so that anybody who has
// those can check it.
type RunLedger struct {
	Format   string       `json:"format"`
	Instance string       `json:"instance"` // the service that carried the run out
	Run      string       `json:"run"`
	Rule     string       `json:"rule"`
	Revision int          `json:"revision"`
	Source   string       `json:"source"`
	Table    string       `json:"table"`
	State    string       `json:"state"`
	Cutoff   time.Time    `json:"cutoff"`
	Started  *time.Time   `json:"started"`
	Ended    *time.Time   `json:"ended"`
	Made     time.Time    `json:"made"` // this document
	Parts    []LedgerPart `json:"parts"`
}

// RunReport tells an auditor all of a run: by which rule and why, who planned, approved and started it, what it did
// to the row, and what has become of the rows since.
type RunReport struct {
	Format    string     `json:"format"`
	Made      time.Time  `json:"made"`
	Ledger    *RunLedger `json:"ledger"`
	StartedBy string     `json:"started_by"`
	// the books of the run balance; null: they were not closed
	Balanced *bool      `json:"balanced"`
	Rule     ReportRule `json:"rule"`
	Plan     ReportPlan `json:"plan"`
	// that were asked for, whatever became of them
	Approvals []ReportApproval `json:"approvals"`
	Segments  []ReportSegment  `json:"segments"`
	// the entries of the audit log about the run, its plan and its approvals
	Audit []ReportEntry `json:"audit"`
	Head  Head          `json:"head"` // how far the audit log was when this was made
}

// RunSpan is one run, or several of a source that came to the same and followed each other closely.
type RunSpan struct {
	Source string     `json:"source"`
	State  RunState   `json:"state"`
	From   time.Time  `json:"from"`
	To     *time.Time `json:"to"` // null: it goes on
	Runs   int        `json:"runs"`
	Rule   string     `json:"rule"` // of the only one; empty: there are several
	Run    string     `json:"run"`  // the newest
}

// RunState is where a run stands.
type RunState string

// Values of RunState.
const (
	Queued    RunState = "queued"
	Running   RunState = "running"
	Paused    RunState = "paused"
	Resting   RunState = "resting" // until its next window of time opens
	Failed    RunState = "failed"  // stopped for a reason; can be resumed or cancelled
	Copied    RunState = "copied"  // everything is copied and verified; the deleting waits for its own decision
	Done      RunState = "done"
	Cancelled RunState = "cancelled"
)

// RunView is a run with what follows from its counts.
type RunView struct {
	Run
	Done        int64    `json:"done"` // rows dealt with: copied, while it only copies
	Rate        float64  `json:"rate"` // rows a second while working
	SecondsLeft *float64 `json:"seconds_left"`
	// if it goes on as its faster batches did
	SecondsLow *float64 `json:"seconds_low"`
	// and as its slower ones, rests included
	SecondsHigh *float64 `json:"seconds_high"`
}

// Sample is some of the rows that would go, as they are when they are asked for. It is kept nowhere.
type Sample struct {
	Columns []string   `json:"columns"`
	Rows    [][]string `json:"rows"`
}

// Schedule is when a rule runs by itself.
type Schedule struct {
	// of a schedule that is defined once for many rules
	Name   string  `json:"name,omitempty"`
	When   *string `json:"when,omitempty"` // nil: as the schedule of that name says
	From   *string `json:"from,omitempty"` // no firing is before it
	Zone   string  `json:"zone,omitempty"` // IANA name; empty: the rule's
	Missed Missed  `json:"missed,omitempty"`
}

// Scope says which archived rows a restore is for: those of a run, of a segment, of a table by age and filter, or
// single ones.
type Scope struct {
	Run     string  `json:"run,omitempty"`
	Segment string  `json:"segment,omitempty"`
	From    string  `json:"from,omitempty"`  // age at or after; ISO 8601
	To      string  `json:"to,omitempty"`    // age before; ISO 8601
	Where   string  `json:"where,omitempty"` // in the language of rules
	Rows    []RowAt `json:"rows,omitempty"`  // single rows, as a search names them
	All     bool    `json:"all,omitempty"`   // every archived row of the table
	// of retrievals, where rows of it are in cold storage
	Priority Priority `json:"priority,omitempty"`
	Days     int      `json:"days,omitempty"` // that retrieved copies stay
}

// Scrub is how the segments of a store are verified again and again.
type Scrub struct {
	// ISO 8601: a segment is verified again when that has passed; empty: never on its own
	Every string `json:"every,omitempty"`
	// bytes a second at the most; 0: as fast as it goes
	Rate int64 `json:"rate,omitempty"`
	// the time of day, in UTC, in which that is done; empty: any
	Window string `json:"window,omitempty"`
}

// Seal says where the keys of a sealed store are: age identities (age-encryption.org/v1), one a line. New files are
// sealed with the first of them; the others only open what was sealed with them before.
type Seal struct {
	File string `json:"key_file,omitempty"`
	// the environment variable that holds them, in place of a file
	Env string `json:"key_env,omitempty"`
}

// SearchRequest asks for archived rows of a table.
type SearchRequest struct {
	Source string `json:"source"`
	Table  string `json:"table"`
	// in the language of rules; empty: every row
	Where   string   `json:"where,omitempty"`
	Columns []string `json:"columns,omitempty"` // to be shown; empty: all
	Limit   int      `json:"limit,omitempty"`   // rows at the most; 0: all
	// rows of the table itself too, before those of the archive; needs a limit
	Live   bool `json:"live,omitempty"`
	Whole  bool // of the table too, without a limit
	Wide   bool // all segments are looked at, whatever the catalog knows of their keys
	AtOnce bool // the records of all segments are in memory, however many there are
}

// Searched is how much was searched. Rows are those whose content was looked at, Bytes what was read of the stores.
type Searched struct {
	Segments int   `json:"segments"`
	Passed   int   `json:"passed"` // segments passed over by what their footers tell
	Rows     int64 `json:"rows"`
	Bytes    int64 `json:"bytes"`
	Found    int64 `json:"found"`
	Live     int64 `json:"live"` // of those found, rows of the table itself
	// segments in cold storage that may hold such rows and were not searched; null: none
	Cold *Chilled `json:"cold"`
	More bool     `json:"more"` // the limit was reached; there may be more
	// rows that were passed over, since a newer version of them is archived
	Superseded int64 `json:"superseded"`
	// columns that it asks for and that some of the segments do not have
	Lacking []Lacking `json:"lacking,omitempty"`
	// there are more, and these are as many bytes as an answer may have
	Large bool `json:"large,omitempty"`
	// what a run that goes on may have archived, and the source does not tell; empty: nothing
	Untold string `json:"untold,omitempty"`
}

// SecondFactor is a second factor that somebody may take.
type SecondFactor struct {
	Secret  string `json:"secret"`
	Address string `json:"address"` // the same as an otpauth address, which apps read
	Picture string `json:"picture"` // that as a QR code: a data address of a PNG
}

// Segment is one archived file of rows.
type Segment struct {
	ID     string `json:"id"`
	Run    string `json:"run"`
	Rule   string `json:"rule"` // that archived it
	Number int    `json:"number"`
	Clause int    `json:"clause"` // of the rule, from 0
	Source string `json:"source"`
	Table  string `json:"table"`
	// the partition that its rows were to leave with
	Part      string       `json:"part,omitempty"`
	Store     string       `json:"store"`
	Stem      string       `json:"stem"`
	State     SegmentState `json:"state"`
	CreatedAt time.Time    `json:"created_at"`
	// the segment of whose rows it holds those that stayed when the others were destroyed
	Rewrites     string     `json:"rewrites"`
	Rows         int64      `json:"rows"`
	RawBytes     int64      `json:"raw_bytes"`
	FileBytes    int64      `json:"file_bytes"`
	Oldest       string     `json:"oldest"`
	Newest       string     `json:"newest"`
	Digest       string     `json:"digest"`
	Deleted      int64      `json:"deleted"`
	Changed      int64      `json:"changed"`
	Vanished     int64      `json:"vanished"`
	Held         int64      `json:"held"`
	Skipped      int64      `json:"skipped"`
	ClosedAt     *time.Time `json:"closed_at"`
	VerifiedAt   *time.Time `json:"verified_at"`
	Damage       string     `json:"damage"`   // what was last found to be wrong with it
	Sequence     int64      `json:"sequence"` // of the manifest in the table's chain
	ManifestHash string     `json:"manifest_hash"`
	ClosingSeq   int64      `json:"closing_sequence"`
	ClosingHash  string     `json:"closing_hash"`
	DisposalSeq  int64      `json:"disposal_sequence"`
	DisposalHash string     `json:"disposal_hash"`
	// where its rows lie, if not with its records in Store
	RowsStore string `json:"rows_store"`
	// the store to which its rows are being moved
	Moving   string     `json:"moving,omitempty"`
	Second   string     `json:"second"`    // the second store, where it lies there too
	SecondAt *time.Time `json:"second_at"` // since when
	// the store for its second copy, by its rule; empty: as its store says
	WantSecond string     `json:"want_second"`
	Cold       bool       `json:"cold"`       // its rows have to be retrieved before they can be read
	WarmUntil  *time.Time `json:"warm_until"` // a retrieved copy is there until then
	ColdStore  string     `json:"cold_store"` // where its rows are to move, by its rule
	ColdAt     *time.Time `json:"cold_at"`    // and when
	// by the rule's archive.keep; null: without end
	KeepUntil  *time.Time `json:"keep_until"`
	Disposal   string     `json:"disposal"` // that it was destroyed by, or is being
	DisposedAt *time.Time `json:"disposed_at"`
	// it was destroyed for an erasure: what stayed of it is in another segment
	Erased bool `json:"erased"`
}

// SegmentDetail is a segment and what its manifest says.
type SegmentDetail struct {
	Segment
	Told
}

// SegmentState is where a segment stands.
type SegmentState string

// Values of SegmentState.
const (
	SegmentWriting   SegmentState = "writing"   // its manifest is not known to be in the store
	SegmentOpen      SegmentState = "open"      // stored and verified; its rows are being deleted
	SegmentClosed    SegmentState = "closed"    // its closing record is in the store: rows can be restored
	SegmentAbandoned SegmentState = "abandoned" // never came to exist
	SegmentDisposed  SegmentState = "disposed"  // its disposal record is in the store: its rows are destroyed
)

// Session says who is signed in.
type Session struct {
	Actor string `json:"actor"`
	// viewer, operator, approver or administrator; none: what is given in single sources alone
	Role Role `json:"role"`
	// what the one who is signed in may do in all sources
	Rights  []Right          `json:"rights"`
	Grants  map[string]Grant `json:"grants"`  // what they may do besides, by source
	Kind    string           `json:"kind"`    // administrator (its token), person or service
	Session string           `json:"session"` // its public name; empty: came with a token
	// when the session ends at the latest; null: came with a token
	ExpiresAt    *time.Time `json:"expires_at"`
	MustChange   bool       `json:"must_change"`   // the password has to be changed first
	SecondFactor bool       `json:"second_factor"` // a code is asked for at sign-in
	// told at sign-in: when the account signed in before; null: never
	LastAt   *time.Time `json:"last_at"`
	LastFrom string     `json:"last_from"`       // likewise, from which address
	Token    string     `json:"token,omitempty"` // of the session, where it was asked for
}

// Severity is how soon somebody should look at a finding.
type Severity string

// Values of Severity.
const (
	Urgent  Severity = "urgent"  // rows or segments are in danger, or nothing goes on
	Warning Severity = "warning" // what should happen does not
	Notice  Severity = "notice"  // it can wait
)

// SharedSchedule is a schedule that rules share.
type SharedSchedule struct {
	Name      string        `json:"name"`
	Body      NamedSchedule `json:"body"`
	Text      string        `json:"text"`
	AppliedAt time.Time     `json:"applied_at"`
	AppliedBy string        `json:"applied_by"`
}

// SignInWays says how people can sign in besides with a name and a password.
type SignInWays struct {
	Single bool `json:"single"` // by single sign-on: at /session/single
}

// Slowdown is a time in which a run went slower than its pace, or rested, and why.
type Slowdown struct {
	Begun  time.Time  `json:"begun"`
	Ended  *time.Time `json:"ended"` // null: still
	Rests  bool       `json:"rests"` // it rested altogether
	Reason string     `json:"reason"`
}

// SourceChange is what is to be changed of a source; nil: as it was. Its engine stays.
type SourceChange struct {
	Address      *string `json:"address,omitempty"`       // another place of the same database
	PasswordEnv  *string `json:"password_env,omitempty"`  // empty: none
	PasswordFile *string `json:"password_file,omitempty"` // empty: none
	TLS          *string `json:"tls,omitempty"`           // empty: verify but for loopback addresses
	TLSCA        *string `json:"tls_ca,omitempty"`        // empty: the system's
	Disk         *string `json:"disk,omitempty"`          // empty: not known
	Origin       *string `json:"origin,omitempty"`        // empty: none
	Connections  *int    `json:"connections,omitempty"`   // 3 to 100; 0: 4
}

// SourceFinding is one line of a report.
type SourceFinding struct {
	Level  FindingLevel `json:"level"`
	Table  string       `json:"table,omitempty"`
	Text   string       `json:"text"`
	Remedy string       `json:"remedy,omitempty"` // the statement or setting that mends it
}

// SpokenTimes is what such a text means.
type SpokenTimes struct {
	Spoken string      `json:"spoken"`
	Next   []time.Time `json:"next"` // the next ten
}

// Standing is how a declaration and what is in force stand to each other.
type Standing string

// Values of Standing.
const (
	DeclaredSame     Standing = "same"       // what is declared is in force
	DeclaredNew      Standing = "new"        // it is not in force yet
	DeclaredNewer    Standing = "newer"      // its file was changed since it was taken up
	DeclaredChanged  Standing = "changed"    // what is in force was changed by somebody since
	DeclaredConflict Standing = "conflict"   // both were changed
	DeclaredGone     Standing = "gone"       // its declaration is gone; what it said is in force
	Undeclared       Standing = "undeclared" // it is in force, and was never declared
)

// State says in a word how a rule keeps up.
type State string

// Values of State.
const (
	Unknown State = "unknown"      // since when, or how much becomes due, is not known
	Keeps   State = "keeps up"     // what is due is what has become due since its last run
	Behind  State = "behind"       // more is due, and becomes less
	Falls   State = "falls behind" // more is due, and becomes more
)

// Statement is a statement as it is sent, with the values that are bound to it.
type Statement struct {
	Title  string   `json:"title"`
	SQL    string   `json:"sql"`
	Values []string `json:"values"`
}

// Status is what the overview shows.
type Status struct {
	Version     string         `json:"version"`
	Instance    string         `json:"instance"`
	Started     time.Time      `json:"started"`
	Now         time.Time      `json:"now"`
	Totals      Totals         `json:"totals"`
	Active      []RunView      `json:"active"`       // runs that have not ended, the newest of them
	ActiveTotal int            `json:"active_total"` // how many there are
	Recent      []RunView      `json:"recent"`       // ended runs, the newest first
	Damaged     []Segment      `json:"damaged"`      // segments that were last found to be damaged
	Disagree    []Disagreement `json:"disagree"`     // tables whose runs are stopped
	Sources     int            `json:"sources"`
	Rules       int            `json:"rules"`
}

// Step is something that is done before a run works, or after.
type Step struct {
	SQL     string  `json:"sql,omitempty"`     // one statement, which is sent to the source
	Webhook string  `json:"webhook,omitempty"` // a URL, which is sent a POST
	Timeout *string `json:"timeout,omitempty"` // nil: UsualStepTime
}

// StepOutcome is what became of a step.
type StepOutcome struct {
	BeganAt time.Time  `json:"began_at"`
	EndedAt *time.Time `json:"ended_at"` // null: it goes on, or was cut off
	Outcome Outcome    `json:"outcome"`
	Output  string     `json:"output"` // what it answered, or why it failed
	Tries   int        `json:"tries"`
}

// StepRecord is something that was done before a run worked, or after.
type StepRecord struct {
	ID     string `json:"id"`
	Run    string `json:"run"`
	Rule   string `json:"rule"`
	Phase  Phase  `json:"phase"`
	Number int    `json:"number"` // in the rule, from 0
	What   string `json:"what"`   // as the rule has it
	StepOutcome
}

// Store is where segments lie.
type Store struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	Path string `json:"path"` // the directory, or the address of bucket and prefix
	// the store in which every segment has a second copy; empty: none
	Second string      `json:"second"`
	Scrub  Scrub       `json:"scrub"`
	Bucket StoreBucket `json:"bucket"`
	Seal   Seal        `json:"seal"` // where the keys are with which its files are encrypted
	// of a bucket whose files go cold: what retrievals take
	Tariff Tariff `json:"tariff"`
	// of its place, which is known by that; empty: it was not looked at since an older version added it
	Identity string `json:"identity"`
}

// StoreBucket says where the bucket of an S3-compatible object store is, and how it is spoken to.
type StoreBucket struct {
	Endpoint string `json:"endpoint,omitempty"` // http://HOST:PORT or https://HOST
	Name     string `json:"name,omitempty"`     // of the bucket
	Prefix   string `json:"prefix,omitempty"`   // of the names of all files
	Region   string `json:"region,omitempty"`   // empty: us-east-1
	// how the bucket is addressed: path or host; empty: path
	Style string `json:"style,omitempty"`
	// an INI file with aws_access_key_id and aws_secret_access_key; empty: the environment
	Credentials string `json:"credentials_file,omitempty"`
	Profile     string `json:"profile,omitempty"` // section of that file; empty: default
	// PEM file of the authority that signed the server's certificate; empty: the system's
	CA string `json:"ca_file,omitempty"`
	// by the object store: AES256, or aws:kms; empty: as the bucket has it
	Encryption string `json:"encryption,omitempty"`
	KeyID      string `json:"key_id,omitempty"` // of the key for aws:kms
	// storage class into which files are let go cold, as the object store calls it: one whose files have to be
	// retrieved before they are read; empty: they stay warm
	Class string `json:"class,omitempty"`
}

// StoreChange is what is to be changed of a store; nil: as it was.
type StoreChange struct {
	// the store for second copies; empty: none any more
	Second *string `json:"second,omitempty"`
	Scrub  *Scrub  `json:"scrub,omitempty"`
	// where the keys are; files that are there already are sealed by a reseal
	Seal   *Seal   `json:"seal,omitempty"`
	Tariff *Tariff `json:"tariff,omitempty"` // of a store whose files go cold
}

// StoreDay is how large a store was at the end of a day, or is so far.
type StoreDay struct {
	Day      string `json:"day"`
	Store    string `json:"store"`
	Bytes    int64  `json:"bytes"` // of its segments, and of rows of others
	Segments int64  `json:"segments"`
	Free     int64  `json:"free"` // -1: not known
}

// StoreKept is a store as it is from now on.
type StoreKept struct {
	Store
	Warnings []string `json:"warnings"`
}

// StoreTotals is what lies in a store.
type StoreTotals struct {
	Segments  int64 `json:"segments"` // whose records lie here
	FileBytes int64 `json:"file_bytes"`
	// segments that do not lie in the second store yet
	Unseconded int64 `json:"unseconded"`
	Seconds    int64 `json:"seconds"` // second copies of another store's segments
	Away       int64 `json:"away"`    // of its segments, those whose rows lie in another store
	Guests     int64 `json:"guests"`  // segments of other stores whose rows lie here
	GuestBytes int64 `json:"guest_bytes"`
	Damaged    int64 `json:"damaged"`
	// the segment that was not verified for the longest time was so then; null: none has been
	Verified *time.Time `json:"verified"`
}

// StoreView is a store with what lies in it and what is free.
type StoreView struct {
	Store
	Totals   StoreTotals `json:"totals"`
	Free     int64       `json:"free"` // bytes; -1 where unknown
	Problem  string      `json:"problem,omitempty"`
	Warnings []string    `json:"warnings"` // of how it is set up
}

// Summary is the answer: of each group the values of its columns, and what was made of its rows; null is NULL.
type Summary struct {
	Columns  []string    `json:"columns"`
	Groups   [][]*string `json:"groups"`
	Searched Searched    `json:"searched"`
}

// SummaryRequest asks for counts and sums of archived rows.
type SummaryRequest struct {
	Source string `json:"source"`
	Table  string `json:"table"`
	// in the language of rules; empty: every row
	Where string `json:"where,omitempty"`
	// columns; none: one group of all rows
	GroupBy []string  `json:"group_by,omitempty"`
	Of      []Measure `json:"of"`
	// rows of the table itself too; a row that was put back counts once
	Live bool `json:"live,omitempty"`
}

// Swept is what lay in a store and belongs to no segment.
type Swept struct {
	Looked  int         `json:"looked"` // files that were looked at
	Going   int         `json:"going"`  // of the listed, those that go
	Bytes   int64       `json:"bytes"`  // of those
	Removed int         `json:"removed"`
	Files   []SweptFile `json:"files"`
}

// SweptFile is one of these files.
type SweptFile struct {
	File     string    `json:"file"`
	Bytes    int64     `json:"bytes"`
	Modified time.Time `json:"modified"`
	Goes     bool      `json:"goes"`
	Reason   string    `json:"reason"`
	Removed  bool      `json:"removed"`
}

// Table is a table of a source.
type Table struct {
	// as rules name it; with its schema where that is not the default one
	Name    string   `json:"name"`
	Schema  string   `json:"schema,omitempty"`
	Base    string   `json:"base"` // the name without schema
	Columns []Column `json:"columns"`
	// where the numbers of columns hold: this table of this server; empty: nowhere
	Numbered string `json:"numbered,omitempty"`
	// columns of the primary key, or of a unique key without NULLs; where there is neither, those of Address
	Key []string `json:"key"`
	// hidden columns that tell where a row lies, in a table without key; empty where the database has none
	Address      []Column     `json:"address,omitempty"`
	Indexes      []Index      `json:"indexes"`
	References   []ForeignKey `json:"references"`
	ReferencedBy []ForeignKey `json:"referenced_by"`
	// by ranges of one column, the oldest first; empty where the table has none such
	Partitions []Partition `json:"partitions,omitempty"`
	// the partition that takes what no other does
	CatchAll string   `json:"catch_all,omitempty"`
	Triggers []string `json:"triggers"` // names of triggers that fire on delete
	// and of those that fire on insert
	InsertTriggers []string `json:"insert_triggers"`
	// why no run may work on the table; empty where one may
	Obstacles []string `json:"obstacles"`
	Notes     []string `json:"notes"` // what an administrator should know of it
	// a publication sends its deletes on to subscribers
	Followed   bool  `json:"followed,omitempty"`
	Rows       int64 `json:"rows"`        // the database's estimate; -1 where it has none
	Bytes      int64 `json:"bytes"`       // of the rows, without indexes; -1 where unknown
	IndexBytes int64 `json:"index_bytes"` // likewise
	// by others, so that it could not be looked at
	Locked bool `json:"locked,omitempty"`
	// the column that most likely tells the age
	AgeColumn string `json:"age_column,omitempty"`
	// of the age column, as ISO 8601 or as the number that stands there
	Oldest string `json:"oldest,omitempty"`
	Newest string `json:"newest,omitempty"`
	// tables that a rule relates to it, in the rule's order, where it is kept for a rule
	Related []Table `json:"related,omitempty"`
	// tables that a rule joins to it, by the names that the rule gives them, where it is kept for a rule
	Joined map[string]Table `json:"joined,omitempty"`
}

// TableTotals is what has become of a table's rows, over all runs. Records are what counts each of them once: live
// + archived - again - restored.
type TableTotals struct {
	Live int64 `json:"live"` // rows in the table now
	// they were counted; false: that took too long, and it is the database's estimate
	Counted bool `json:"counted"`
	// rows in the archive that left the table, as often as they did
	Archived int64 `json:"archived"`
	// of these, versions of which a newer one is archived too
	Again  int64 `json:"again"`
	Untold int   `json:"untold"` // segments in cold storage that may have such
	// live rows that were put back, and are in the archive too
	Restored int64 `json:"restored"`
	Records  int64 `json:"records"`
	Purged   int64 `json:"purged"`
	Disposed int64 `json:"disposed"` // archived once, and destroyed since
	Erased   int64 `json:"erased"`
	ByRuns   int64 `json:"by_runs"` // rows that runs have deleted, by their ledgers
	// rows archived by runs that this catalog does not know
	Adopted int64 `json:"adopted"`
	// by runs + adopted = archived + disposed + purged + erased
	AddsUp bool `json:"adds_up"`
}

// TakeUp says what is taken up beyond what was changed in the files alone.
type TakeUp struct {
	// names of things, with their kinds like "rule fares", that are taken up although somebody changed what is in
	// force; "all" for all of them
	Over   []string `json:"over,omitempty"`
	Reason string   `json:"reason,omitempty"` // why locked clauses are loosened
}

// Tariff is what it takes to retrieve files of a cold store. Object stores do not tell it, so the administrator
// does.
type Tariff struct {
	Of       map[Priority]Rate `json:"of,omitempty"`
	Currency string            `json:"currency,omitempty"`
	// how long a retrieved copy stays where nothing else is said; 0: UsualDays
	Days int `json:"days,omitempty"`
	// bytes in 30 days that the service retrieves on its own, to verify them; 0: none
	Budget int64 `json:"budget,omitempty"`
}

// Then is what happens to rows that are due.
type Then string

// Values of Then.
const (
	ThenArchive Then = "archive" // copied, verified, deleted
	ThenCopy    Then = "copy"    // copied and verified; deleted by a second decision
	ThenPurge   Then = "purge"   // deleted without a copy
	ThenUnlink  Then = "unlink"  // of related rows alone: they stay, and their reference becomes NULL
)

// TimesText is a text that says when something happens.
type TimesText struct {
	When string `json:"when"`
	From string `json:"from,omitempty"`
	Zone string `json:"zone,omitempty"` // left out: UTC
}

// Told is what the manifest of a segment says of its columns, and of what lies with it.
type Told struct {
	Omitted  []string          `json:"omitted"`
	Masked   map[string]string `json:"masked"`
	Included []string          `json:"included"`  // columns of joined rows
	GoesWith *GoesWith         `json:"goes_with"` // of related rows
	Beside   []BesideFile      `json:"beside"`    // joined rows that are kept with the segment
}

// Totals is what the overview sums up.
type Totals struct {
	Segments  int64 `json:"segments"`
	Rows      int64 `json:"rows"`
	RawBytes  int64 `json:"raw_bytes"`
	FileBytes int64 `json:"file_bytes"`
	Purged    int64 `json:"purged"`
}

// Turn is a change of a run's speed, and why.
type Turn struct {
	At  time.Time `json:"at"`
	Why string    `json:"why"`
}

// Unit is what a signal is measured in.
type Unit string

// Values of Unit.
const (
	Count            Unit = "count"
	Bytes            Unit = "bytes"
	UnitSeconds      Unit = "seconds"
	UnitMilliseconds Unit = "milliseconds"
)

// Verdict is how a rule keeps up.
type Verdict struct {
	State  State   `json:"state"`
	Spoken string  `json:"spoken"` // in words
	Rows   int64   `json:"rows"`   // that it is behind by
	Days   float64 `json:"days"`   // for how many days such rows have become due
	// rows a day that come beyond what its runs take; less than 0: fewer
	Grows int64    `json:"grows"`
	Help  []string `json:"help,omitempty"` // what would help
	// until it has caught up, where it is behind
	Until *float64 `json:"days_left,omitempty"`
}

// Verification is a reading of segments to see that they are what was written.
type Verification struct {
	ID     string `json:"id"`
	Store  string `json:"store"`  // empty: all stores
	Source string `json:"source"` // with Table; empty: all
	Table  string `json:"table"`
	// only segments that were not verified since then; null: all
	Older *time.Time `json:"older"`
	// what is damaged is replaced from the other copy, where that is whole
	Repair    bool              `json:"repair"`
	CreatedAt time.Time         `json:"created_at"`
	CreatedBy string            `json:"created_by"`
	State     VerificationState `json:"state"`
	Reason    string            `json:"reason"` // why it failed
	EndedAt   *time.Time        `json:"ended_at"`
	Segments  int               `json:"segments"`
	Of        int               `json:"of"`
	Rows      int64             `json:"rows"`
	Bytes     int64             `json:"bytes"`
	OfBytes   int64             `json:"of_bytes"`
	Wrong     int               `json:"wrong"`
	Repaired  int               `json:"repaired"`
	Findings  []FoundInStore    `json:"findings"`
}

// VerificationRequest says which segments are to be verified.
type VerificationRequest struct {
	Store  string `json:"store,omitempty"`  // empty: all stores
	Source string `json:"source,omitempty"` // with Table; empty: all tables
	Table  string `json:"table,omitempty"`
	// replace what is damaged from the other copy, where that is whole
	Repair bool `json:"repair,omitempty"`
}

// VerificationState is where a verification stands.
type VerificationState string

// Values of VerificationState.
const (
	Verifying          VerificationState = "running"
	VerificationDone   VerificationState = "done" // whatever it found
	VerificationFailed VerificationState = "failed"
)

// Vote is how a person decided on a request.
type Vote struct {
	Person    string    `json:"person"`
	Account   string    `json:"account"`    // under which they decided
	ForPerson string    `json:"for_person"` // in whose place; empty: in their own
	Approves  bool      `json:"approves"`
	Reason    string    `json:"reason"`
	At        time.Time `json:"at"`
}

// Way is how the rows of a partition leave.
type Way string

// Values of Way.
const (
	WayWhole Way = "whole" // copied, set aside, compared once more and dropped
	WayRows  Way = "rows"  // in batches, like the rows of any table
	WayStays Way = "stays" // no row of it is due
)

// What is what can be made to need an approval.
type What string

// Values of What.
const (
	Runs       What = "runs"
	Emptyings  What = "emptyings" // runs that remove all rows of a table at once
	Overrides  What = "overrides" // runs of plans that go beyond a guard rail
	Restores   What = "restores"
	Disposals  What = "disposals" // erasures too
	Erasures   What = "erasures"
	Loosenings What = "loosenings" // rules and keeps that loosen a locked clause
	Lifts      What = "lifts"      // of holds
	Guards     What = "guards"     // changes of the guard rails
)
