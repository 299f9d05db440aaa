package api

import (
	"ambercellar/internal/api/view"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/service"
)

// Items is a page of a list.
type Items[T any] struct {
	Items []T     `json:"items"`
	Next  *string `json:"next"` // what `after` says for the next page; null on the last
}

// Pairing is a command line that somebody who is signed in to the console is to sign in.
type Pairing struct {
	Code      string       `json:"code"`       // that they confirm
	Secret    string       `json:"secret"`     // with which the command line asks for its session
	ExpiresAt catalog.Time `json:"expires_at"` // when the code is no use any more
}

// PairingCode is the code that a command line shows.
type PairingCode struct {
	Code string `json:"code"` // as it is shown; in small letters and without the hyphen too
}

// PairingTaken asks for the session of a command line.
type PairingTaken struct {
	Code   string `json:"code"`   // that it shows
	Secret string `json:"secret"` // that it was given with the code
}

// PairedSession is the session of a command line.
type PairedSession struct {
	Waits   bool     `json:"waits"`             // nobody has confirmed the code yet
	Session *Session `json:"session,omitempty"` // with its token
}

// Login is what a session begins with: a token, or a name and a password.
type Login struct {
	Token    string `json:"token,omitempty"`
	Name     string `json:"name,omitempty"`
	Password string `json:"password,omitempty"`
	Code     string `json:"code,omitempty"` // of the second factor, where there is one
	Keep     bool   `json:"keep,omitempty"` // answer with a token of the session, in place of a cookie
}

// Session says who is signed in.
type Session struct {
	Actor string `json:"actor"`
	// viewer, operator, approver or administrator; none: what is given in single sources alone
	Role   rights.Role    `json:"role"`
	Rights []rights.Right `json:"rights"` // what the one who is signed in may do in all sources
	Grants rights.Grants  `json:"grants"` // what they may do besides, by source

	Kind         string        `json:"kind"`          // administrator (its token), person or service
	Session      string        `json:"session"`       // its public name; empty: came with a token
	ExpiresAt    *catalog.Time `json:"expires_at"`    // when the session ends at the latest; null: came with a token
	MustChange   bool          `json:"must_change"`   // the password has to be changed first
	SecondFactor bool          `json:"second_factor"` // a code is asked for at sign-in
	// told at sign-in: when the account signed in before; null: never
	LastAt   *catalog.Time `json:"last_at"`
	LastFrom string        `json:"last_from"`       // likewise, from which address
	Token    string        `json:"token,omitempty"` // of the session, where it was asked for
}

// NewPassword is a password that is to be somebody's own.
type NewPassword struct {
	Password    string `json:"password"`     // the one that they have
	NewPassword string `json:"new_password"` // 12 characters at least
}

// PasswordAgain shows once more that it is the person who is signed in.
type PasswordAgain struct {
	Password string `json:"password"`
}

// SecondFactor is a second factor that somebody may take.
type SecondFactor struct {
	Secret  string `json:"secret"`
	Address string `json:"address"` // the same as an otpauth address, which apps read
	Picture string `json:"picture"` // that as a QR code: a data address of a PNG
}

// NewSecond makes a second factor somebody's, or takes it away.
type NewSecond struct {
	Password string `json:"password"`
	Secret   string `json:"secret,omitempty"` // empty: there is to be none
	Code     string `json:"code,omitempty"`   // of the second factor: of the new one, or of the one that goes
}

// Status is what the overview shows.
type Status struct {
	Version  string       `json:"version"`
	Instance string       `json:"instance"`
	Started  catalog.Time `json:"started"`
	Now      catalog.Time `json:"now"`
	Totals   view.Totals  `json:"totals"`
	Active   []RunView    `json:"active"` // runs that have not ended, the newest of them

	ActiveTotal int                    `json:"active_total"` // how many there are
	Recent      []RunView              `json:"recent"`       // ended runs, the newest first
	Damaged     []view.Segment         `json:"damaged"`      // segments that were last found to be damaged
	Disagree    []service.Disagreement `json:"disagree"`     // tables whose runs are stopped
	Sources     int                    `json:"sources"`
	Rules       int                    `json:"rules"`
}

// Found is what a search found.
type Found struct {
	Columns  []string        `json:"columns"`
	Items    []FoundRow      `json:"items"`
	Searched search.Searched `json:"searched"`
}

// FoundRow is an archived row, with where it stands. A value that is NULL, or of a column that was not there yet, is
// null.
type FoundRow struct {
	Segment string    `json:"segment"`
	Ordinal int       `json:"ordinal"`
	Values  []*string `json:"values"`
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
	Name   string        `json:"name"`
	Path   string        `json:"path,omitempty"`   // of a directory
	Bucket *store.Bucket `json:"bucket,omitempty"` // of an object store
	Second string        `json:"second,omitempty"` // the store for second copies

	// where the keys are with which its files are encrypted; left out: they are not
	Seal   *store.Seal     `json:"seal,omitempty"`
	Tariff *catalog.Tariff `json:"tariff,omitempty"` // of a bucket whose files go cold

	// the place comes from elsewhere: it is a store already, or holds segments
	Existing bool `json:"existing,omitempty"`
}

// StoreView is a store with what lies in it and what is free.
type StoreView struct {
	view.Store
	Totals  view.StoreTotals `json:"totals"`
	Free    int64            `json:"free"` // bytes; -1 where unknown
	Problem string           `json:"problem,omitempty"`

	Warnings []string `json:"warnings"` // of how it is set up
}

// StoreKept is a store as it is from now on.
type StoreKept struct {
	view.Store
	Warnings []string `json:"warnings"`
}

// NewKeeping says how long the rows of a restore stay from now on.
type NewKeeping struct {
	For string `json:"for"` // ISO 8601; empty: for good
}

// NewDisposal asks which segments of a rule may be destroyed.
type NewDisposal struct {
	Rule  string `json:"rule"`
	Table string `json:"table,omitempty"` // whose related rows the rule archived; empty: the rule's own
	Note  string `json:"note,omitempty"`
}

// NewMove says where the rows of a segment are to lie.
type NewMove struct {
	To string `json:"to"`
}

// NewRefusal says why a restore is refused.
type NewRefusal struct {
	Reason string `json:"reason"`
}

// NewSweep asks for what interrupted runs left behind.
type NewSweep struct {
	Older  string `json:"older,omitempty"`  // ISO 8601: only files that were not touched for so long; empty: P1D
	Remove bool   `json:"remove,omitempty"` // false: they are only listed
}

// RuleFile is a file of rules to check or apply.
type RuleFile struct {
	File   string `json:"file,omitempty"` // its name, for messages
	Text   string `json:"text"`
	Reason string `json:"reason,omitempty"` // for loosening a locked clause
}

// RuleResult says what a check found, or what became of each rule.
type RuleResult struct {
	Applied  []plan.Applied `json:"applied"`
	Problems []rule.Problem `json:"problems"` // warnings, where the rules were applied
}

// RuleView is a rule with its newest plan and when it last ran.
type RuleView struct {
	view.Rule
	Spoken  string   `json:"spoken"` // the clauses in words
	LastRun *RunView `json:"last_run"`
}

// NewPlan asks for a plan.
type NewPlan struct {
	Rule     string `json:"rule"`
	Before   string `json:"before,omitempty"`   // a cutoff earlier than the rule's; ISO 8601
	Where    string `json:"where,omitempty"`    // a further condition
	Keys     string `json:"keys,omitempty"`     // FROM..TO
	Limit    int64  `json:"limit,omitempty"`    // rows
	Note     string `json:"note,omitempty"`     // what the plan is for
	Exact    bool   `json:"exact,omitempty"`    // count the rows, rather than estimate
	Budget   string `json:"budget,omitempty"`   // for counting; an ISO 8601 duration
	Confirm  bool   `json:"confirm,omitempty"`  // the table's changes since the rule was applied are meant
	Override string `json:"override,omitempty"` // the reason for going beyond a guard rail
	// any text of the caller's, under which it can ask how far the counting is
	Ticket string `json:"ticket,omitempty"`
}

// Counting is how far an exact plan is that is being made.
type Counting struct {
	Done   int `json:"done"`
	Pieces int `json:"pieces"` // statements, each over a stretch of age
}

// Comparison says what applying a file of rules would change.
type Comparison struct {
	Rules    []plan.Compared `json:"rules"`
	Problems []rule.Problem  `json:"problems"` // warnings
}

// NewPace is the pace that a run is to go on at.
type NewPace struct {
	Pace string `json:"pace"` // gentle, careful or unlimited
}

// Draft is a rule that is being written: as text, or as the form has it.
type Draft struct {
	Text string     `json:"text,omitempty"`
	Rule *rule.Rule `json:"rule,omitempty"`

	Exact bool `json:"exact,omitempty"` // count the rows, for half a minute at the most, rather than estimate
}

// Lift is the end of a hold.
type Lift struct {
	Reason string `json:"reason"`
}

// FilterCheck asks whether a filter can be used on a table.
type FilterCheck struct {
	Source string `json:"source"`
	Table  string `json:"table"`
	Where  string `json:"where"`
}

// FilterResult is a filter in its printed form, or what is wrong with it.
type FilterResult struct {
	Printed  string         `json:"printed,omitempty"`
	Problems []rule.Problem `json:"problems"`
}

// NewRun asks for a run of a plan.
type NewRun struct {
	Plan  string `json:"plan"`
	Empty bool   `json:"empty,omitempty"` // remove all rows of the table at once, where the plan offers that
	// when it begins; left out: now
	At       *catalog.Time `json:"at,omitempty"`
	Priority int           `json:"priority,omitempty"` // higher ones go first; 0 is usual
}

// NewSettling asks for source, stores and catalog to be made to agree about a table.
type NewSettling struct {
	Reason string `json:"reason"` // what happened; it is kept
}

// NewPartitions asks for partitions to be made in advance.
type NewPartitions struct {
	Ahead int  `json:"ahead"`         // how many
	Try   bool `json:"try,omitempty"` // only say what would be sent to the database
}

// NewName tells what a column of a table was called before.
type NewName struct {
	Name string `json:"name"`          // as it is called now, or was called next
	Was  string `json:"was,omitempty"` // as it was called before; left out: it was added, and had no other name
}

// RunView is a run with what follows from its counts.
type RunView struct {
	view.Run
	Done        int64    `json:"done"` // rows dealt with: copied, while it only copies
	Rate        float64  `json:"rate"` // rows a second while working
	SecondsLeft *float64 `json:"seconds_left"`
	SecondsLow  *float64 `json:"seconds_low"`  // if it goes on as its faster batches did
	SecondsHigh *float64 `json:"seconds_high"` // and as its slower ones, rests included
}
