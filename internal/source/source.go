// Package source says what the engine asks of a database, in one small interface. Each engine has its own folder
// below this one, with all of its SQL; an implementation is right when the conformance suite in sourcetest passes.
// The package decides nothing about rules, archives or runs.
package source

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Config is how a source is reached. It never holds a password: PasswordEnv or PasswordFile says where one is.
type Config struct {
	Name   string `db:"name"`
	Engine string `db:"engine"` // "sqlite", "postgres" or "mariadb"
	// a file for SQLite; a URL without password for a server
	Address string `db:"address"`
	// environment variable of the service that holds the password
	PasswordEnv string `db:"password_env"`
	// file readable by the service that holds the password
	PasswordFile string `db:"password_file"`
	TLS          string `db:"tls"` // "verify" (default off the machine), "require" or "off"
	// file of certificates that may sign the server's; empty: the system's
	TLSCA string `db:"tls_ca"`
	// directory of the service's machine on whose disk the database's files are; empty: not known
	Disk string `db:"disk"`
	// that our deletes are marked with for replicas and change feeds: a replication origin's name, or a number for
	// gtid_domain_id; empty: none
	Origin      string `db:"origin"`
	Connections int    `db:"connections"` // the most that the service opens at a time; at least 3
}

// Password looks up the password where the configuration says; the empty text where it names no place.
func (c Config) Password() (string, error) {
	switch {
	case c.PasswordEnv != "":
		p, ok := os.LookupEnv(c.PasswordEnv)
		if !ok {
			return "", fmt.Errorf("the environment variable %s, which should hold the password, is not set for the "+
				"service", c.PasswordEnv)
		}
		return p, nil
	case c.PasswordFile != "":
		b, err := os.ReadFile(c.PasswordFile)
		if err != nil {
			return "", fmt.Errorf("the password file cannot be read: %w", err)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	}
	return "", nil
}

// LiveQuery asks for the rows of a table and the journal of runs at one moment.
type LiveQuery struct {
	Table   *shape.Table
	Filter  *filter.Filter // nil: every row
	Columns []int          // of the rows that are handed on
	Limit   int            // rows at the most
	Runs    []string
	// hears of the journal of these runs, before the first row; in order of run, segment and batch; nil: nobody does
	Journal func([]JournalRow) error
	Row     func([]value.Value) error // each is valid only during the call; nil: rows are counted alone
}

// ReadTraits is what reading a slice does to a source.
type ReadTraits struct {
	// a reader keeps writers waiting: slices must be short, and nothing is deleted meanwhile
	BlocksWriters  bool
	Gentle         pace.Profile // of the gentle pace
	LooseTypes     bool         // the type of a column bounds none of its values
	CannotEmpty    string       // why a table cannot be emptied at once; empty: it can
	EmptyingDoes   string       // what that resets and passes by, in words
	RowVersions    bool         // a locator tells of any change to a row, so that a purge need not read its content
	ParallelWrites bool         // transactions that write different rows of a table hardly keep each other waiting
	// at the gentle pace what is purged is read first, in small pieces: others feel that less
	ReadsGently bool
}

// Purger is a source that finds and deletes in one statement, so that what is purged need not be read before.
type Purger interface {
	// PurgesDirect says whether rows can be purged so, and an index leads the statement along them. At the gentle
	// pace, ReadTraits has a say too.
	PurgesDirect(ctx context.Context, q PurgeRequest) bool
	// Purge deletes the next rows of a selection, in order of (age, key), in one transaction with its journal row; it
	// returns that, and where the next batch begins. No row is left where the journal row has none; it is not kept
	// then. ErrBusy: others have locked rows among them, and nothing was deleted. Where an earlier call did the same
	// batch and its answer got lost, that one's journal row comes back, and the place is nil.
	Purge(ctx context.Context, q PurgeRequest) (row *JournalRow, next []value.Value, err error)
	// PlaceAhead returns the place of the n-th of a selection's rows behind another place, whatever conditions beside
	// the age say of them; nil where there are fewer. It reads an index alone where the age has one.
	PlaceAhead(ctx context.Context, sel Selection, after []value.Value, n int) ([]value.Value, error)
	// PurgeStatement returns the very statement that Purge sends, for reading.
	PurgeStatement(ctx context.Context, q PurgeRequest) (Statement, error)
}

// PurgeRequest is one batch of rows that are found and deleted in one statement.
type PurgeRequest struct {
	Selection
	Lease   Lease
	Segment int
	Number  int
	After   []value.Value // where the batch before ended; nil: from the oldest
	UpTo    []value.Value // the last place that is looked at; nil: to the end
	Rows    int           // at the most
	Spurts  *pace.Spurts  // in which they are deleted, where the source can; nil: at once
}

// Errors that callers decide on.
var (
	ErrNoTable  = errors.New("there is no such table")
	ErrReshaped = errors.New("the table was altered meanwhile")
	ErrDenied   = errors.New("our account has no right to that; `ambercellar source check` names the grant that " +
		"is missing")
	ErrLeaseLost   = errors.New("another service has taken over the table")
	ErrLocators    = errors.New("the table was rewritten; its rows must be located again")
	ErrAltered     = errors.New("a restored row is not what was archived; a trigger or a changed column alters it")
	ErrUnreachable = errors.New("the database does not answer")
	ErrByStatement = errors.New("the binary log is written by statement, which takes no deletes at the isolation " +
		"level that keeps them out of others' way; SET GLOBAL binlog_format = 'ROW', then resume")
	ErrBusy = errors.New("the table is locked by others")
)

// Error is an error that came up with a source.
type Error struct {
	Source string
	Err    error
}

// Of says of an error with which source it came up; nil of none.
func Of(name string, err error) error {
	if err == nil {
		return nil
	}
	return &Error{name, err}
}

func (e *Error) Error() string { return "source " + e.Source + ": " + e.Err.Error() }
func (e *Error) Unwrap() error { return e.Err }

// HeldError says who works on a table.
type HeldError struct{ Table, Holder, Run string }

func (e *HeldError) Error() string {
	return fmt.Sprintf("table %s is being worked on by service %s (run %s); wait for it, or stop it there", e.Table,
		e.Holder, e.Run)
}

// Selection says which rows of a table are due: those that one of the terms governs and whose age lies strictly before
// that term's cutoff, less those that are held, those recorded as restored, and those that another table refers to.
type Selection struct {
	Table   *shape.Table
	Age     rule.Age
	Terms   []rule.Term
	Joins   []Join           // that the conditions may name
	Only    []*filter.Filter // each must be true as well: a plan that takes less than its rule
	Holds   []*filter.Filter // rows for which one is true are held, and never due
	Related []Related        // whose rows go along, those of one level before those of the next
}

// Join reaches at most one row of another table; On holds pairs of our column and theirs.
type Join struct {
	Name  string
	Table *shape.Table
	On    [][2]string
}

// Joined writes, as a scalar subquery, the value of a joined column, with an engine's pieces: the other table's name
// as it stands behind FROM, and how a name is quoted. ours is the prefix of our own columns. It returns false where
// the selection has no join of that name.
func (s Selection) Joined(r filter.Ref, from func(*shape.Table) string, quote func(string) string,
	ours string) (string, bool) {
	for _, j := range s.Joins {
		if j.Name != r.Join {
			continue
		}
		var on []string
		for _, pair := range j.On {
			on = append(on, "j."+quote(pair[1])+" = "+ours+quote(pair[0]))
		}
		return fmt.Sprintf("(SELECT j.%s FROM %s j WHERE %s)", quote(r.Name), from(j.Table),
			strings.Join(on, " AND ")), true
	}
	return "", false
}

// AgeColumn returns the column that tells the age, and its position; -1 where it is one of a joined table.
func (s Selection) AgeColumn() (*shape.Column, int) {
	if s.Age.Join == "" {
		return s.Table.Column(s.Age.Column)
	}
	for _, j := range s.Joins {
		if j.Name == s.Age.Join {
			c, _ := j.Table.Column(s.Age.Column)
			return c, -1
		}
	}
	return nil, -1
}

// AgeRef is the age as a filter would name it.
func (s Selection) AgeRef() filter.Ref { return filter.Ref{Join: s.Age.Join, Name: s.Age.Column} }

// Every is the selection of all rows older than a cutoff.
func Every(t *shape.Table, age rule.Age, cutoff time.Time) Selection {
	return Selection{Table: t, Age: age, Terms: []rule.Term{{Cutoff: rule.Cutoff{At: cutoff}}}}
}

// Empties says whether a clause takes its rows whatever their age. Then the age orders nothing: a slice is read in
// order of the key alone.
func (s Selection) Empties() bool {
	return slices.ContainsFunc(s.Terms, func(t rule.Term) bool { return t.All && !t.None })
}

// Latest returns the latest cutoff of the terms, or false where none has one.
func (s Selection) Latest() (at time.Time, ok bool) {
	for _, t := range s.Terms {
		if !t.Never && !t.None && (!ok || t.At.After(at)) {
			at, ok = t.At, true
		}
	}
	return at, ok
}

// Span is a span of age; a zero time is no bound.
type Span struct{ From, To time.Time }

// Tally is what a span holds of the rows of one clause.
type Tally struct {
	Clause     int    // -1: rows that no clause covers
	Rows       int64  // governed by the clause
	Due        int64  // that a run would take
	Held       int64  // due but for a hold
	Restored   int64  // due but for being recorded as restored
	Referenced int64  // due but for another table that refers to them
	Collation  int64  // due or not by the column's own collation, and the other by exact comparison; never taken
	Oldest     string // age of the oldest row, as ISO 8601 or the number that stands there
	Newest     string
	LastGoing  string // the newest age that is due
	FirstStays string // the oldest that is not before the cutoff
}

// Statement is a statement as it is sent, with the values that are bound to it.
type Statement struct {
	Title  string   `json:"title"`
	SQL    string   `json:"sql"`
	Values []string `json:"values"`
}

// SliceRequest says what a slice takes.
type SliceRequest struct {
	Selection
	After    []value.Value // Next of the slice before; nil: from the oldest
	Columns  []int         // positions of the columns to read; age and key are read besides
	Include  []filter.Ref  // joined columns that are read behind them
	AnyOrder bool          // whatever order is cheapest will do
	MaxRows  int
	MaxBytes int64        // of the rows as read; a slice ends with the first row that reaches it
	Spurts   *pace.Spurts // in which it is read, where the source can; nil: at once
}

// Shapes are the columns of the rows that a slice reads.
func (q *SliceRequest) Shapes() []*shape.Column {
	out := make([]*shape.Column, 0, len(q.Columns)+len(q.Include))
	for _, c := range q.Columns {
		out = append(out, q.Table.At(c))
	}
	for _, r := range q.Include {
		out = append(out, r.Column)
	}
	return out
}

// Slice is what was read, without the rows.
type Slice struct {
	Locators Locators
	First    []value.Value // age and key of the first row
	Last     []value.Value // age and key of the last row
	Next     []value.Value // where the next slice begins: Last, or the age alone where all rows of that age were read
	More     bool          // the slice ended because it was full
}

// Locators tells of each row of a slice, by ordinal, what finds it again unchanged. What is inside is the source's
// own.
type Locators interface {
	Len() int
	Key(ordinal int) []value.Value
	// Append adds the rows that were read next. ErrLocators: they are not of the same start of the server or file.
	Append(more Locators) error
	// Arrange returns the locators of these ordinals in this order; -1 stands for a row that is not there.
	Arrange(ordinals []int) Locators
}

// Lease is the right to work on a table.
type Lease struct {
	Table  string
	Holder string
	Run    string
	Epoch  int64
}

// Lineage tells one database, and one moment of its history, from others.
type Lineage struct {
	Identity string // of the journal; it was drawn when that was made, and goes wherever the database's data goes
	Server   string // that answers, as it names itself; empty where it does not tell us
	Epoch    int64  // of the table's lease
	Head     Head
}

// Batch is the work of one delete transaction.
type Batch struct {
	Selection
	Lease    Lease
	Segment  int
	Number   int
	Retry    bool  // the ordinals were skipped by an earlier batch
	Ordinals []int // ascending
	Locators Locators
	Digests  []value.Digest // by ordinal, of what was read
	Columns  []int          // the columns that the digests cover
	Bytes    int64          // of the rows' content, about; 0: not known
	LockWait time.Duration  // for locks of others, before their rows are skipped
	Spurts   *pace.Spurts   // in which its rows are deleted, where the source can; nil: at once
	Families []RelatedBatch // in the order of Related
}

// JournalRow is what one batch did. It stands in the source's journal and is committed with the delete itself.
type JournalRow struct {
	Run      string    `json:"run"`
	Segment  int       `json:"segment"`
	Batch    int       `json:"batch"`
	Retry    bool      `json:"retry,omitempty"`
	Rows     int       `json:"rows"`
	Found    value.Set `json:"found"` // the batch's rows as read; empty for a retry
	Deleted  int       `json:"deleted"`
	Digest   value.Set `json:"digest"` // of the rows that the delete reported
	Changed  []int     `json:"changed,omitempty"`
	Vanished []int     `json:"vanished,omitempty"`
	Held     []int     `json:"held,omitempty"`
	Skipped  []int     `json:"skipped,omitempty"` // locked by others, or referred to by another table meanwhile
	First    int       `json:"first"`             // lowest ordinal
	Last     int       `json:"last"`              // highest ordinal
	At       time.Time `json:"at"`                // by the service's clock

	// how long the commit took, where that is a wait for the log's disk; it is not kept
	Flushed time.Duration `json:"-"`
}

// Head is the newest link of a table's chain.
type Head struct {
	Sequence int64
	Hash     string // SHA-256 of the link's bytes, hexadecimal
}

// Sequenced is a source whose sequences do not follow rows that come with numbers of their own.
type Sequenced interface {
	// MoveSequences moves the sequences that number rows of a table beyond the greatest number in it; never back.
	MoveSequences(ctx context.Context, t *shape.Table) error
}

// RestoreRequest is one transaction's worth of rows to put back.
type RestoreRequest struct {
	Table    *shape.Table
	Restore  string // names the restore in the source's record
	Segment  string // that the rows come from
	Ordinals []int  // of the rows in it: in a table without key they tell what has been put back
	Columns  []int  // the table's column at each position of Rows
	Rows     *value.Chunk
	Digests  []value.Digest // by row; a row that the table then holds otherwise fails the call

	// Replace hears, in the transaction, of the rows that are there under keys of others, as they are, before the
	// restored ones take their place; where it fails nothing is changed. nil: rows whose key is taken are skipped. One
	// that is there already as it is to be is skipped in any case. Not in tables without key.
	Replace func(*value.Chunk) error
}

// RestoreOutcome is what became of them. Digest covers the rows as the database now holds them, by what it returned.
type RestoreOutcome struct {
	Inserted int64 // that the table has now, those that replaced another among them
	Replaced int64
	Skipped  int64
	Digest   value.Set
	Present  []bool // by row: its key was there already; in a table without key, an earlier restore had put it back
}

// Report is what a check of a source found.
type Report struct {
	Engine  string    `json:"engine"`
	Version string    `json:"version"`
	User    string    `json:"user,omitempty"`
	TLS     string    `json:"tls,omitempty"`
	Journal string    `json:"journal"` // where the journal tables are, or would be
	Items   []Finding `json:"items"`
}

// Finding is one line of a report.
type Finding struct {
	Level  Level  `json:"level"`
	Table  string `json:"table,omitempty"`
	Text   string `json:"text"`
	Remedy string `json:"remedy,omitempty"` // the statement or setting that mends it
}

// Level is how much a finding matters.
type Level string

const (
	Good    Level = "ok"
	Note    Level = "note"    // worth knowing
	Missing Level = "missing" // something that the service needs is not there
	Refused Level = "refused" // a table that no run may work on
)

// OK says whether nothing is missing.
func (r *Report) OK() bool {
	for _, f := range r.Items {
		if f.Level == Missing {
			return false
		}
	}
	return true
}

// nameFor is how long it may take to find what somebody meant.
const nameFor = 3 * time.Second

// NoTable says that there is no table of a name, and which there is of nearly that name.
func NoTable(ctx context.Context, s interface {
	Tables(context.Context) ([]shape.Table, error)
}, name string) error {
	err := fmt.Errorf("%w: %q", ErrNoTable, name)
	within, cancel := context.WithTimeout(ctx, nameFor)
	defer cancel()
	tables, _ := s.Tables(within) // without them the error says less
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = t.Name
	}
	if near := shape.Nearest(name, names); near != "" {
		err = fmt.Errorf("%w; did you mean %s?", err, near)
	}
	return err
}
