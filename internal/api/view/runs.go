package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
)

// Run is the execution of a plan.
type Run struct {
	RunOrder
	RunTurn
	RunStanding
	RunSums
	RunWindow
	RunLive
	Ledger catalog.Ledger `json:"ledger"`
}

// RunOrder is what was asked of a run.
type RunOrder struct {
	ID        string       `json:"id"`
	Plan      string       `json:"plan"`
	Rule      string       `json:"rule"`
	Revision  int          `json:"revision"`
	Source    string       `json:"source"`
	Table     string       `json:"table"`
	Action    string       `json:"action"` // archive or purge
	Store     string       `json:"store"`
	Pace      string       `json:"pace"`
	Cutoff    catalog.Time `json:"cutoff"`
	Due       int64        `json:"due"` // by the plan
	Limit     int64        `json:"limit,omitempty"`
	CreatedAt catalog.Time `json:"created_at"`
	StartedBy string       `json:"started_by"`
}

// RunTurn is when a run's turn comes.
type RunTurn struct {
	StartAt   *catalog.Time `json:"start_at,omitempty"`  // not before; left out: at once
	Priority  int           `json:"priority,omitempty"`  // higher ones go first; 0 is usual
	Scheduled *catalog.Time `json:"scheduled,omitempty"` // the firing that it is of; left out: somebody started it
	Retries   int           `json:"retries,omitempty"`   // how often it was tried again by itself after it had failed
}

// RunStanding is where a run stands, and what was decided about it.
type RunStanding struct {
	State     catalog.RunState `json:"state"`
	Reason    string           `json:"reason"` // of the state, where there is one
	StartedAt *catalog.Time    `json:"started_at"`
	EndedAt   *catalog.Time    `json:"ended_at"`
	Working   int64            `json:"working_micros"` // time spent running, pauses left out
	Emptying  bool             `json:"emptying"`       // the table is to be emptied at once, if that can be done
	// it was decided that it ends: it deletes nothing more, whoever takes it up
	Cancelling bool          `json:"cancelling"`
	Deleting   bool          `json:"deleting"`  // of a run that copies: it was decided that the rows go
	DeleteAt   *catalog.Time `json:"delete_at"` // when that is decided on its own
	ResumeAt   *catalog.Time `json:"resume_at"` // of a run that rests: when its next window opens
	// since when what its rule requires has not held; null: it holds, or it was not asked
	UnmetSince *catalog.Time `json:"unmet_since"`
}

// RunSums is what a run has done so far.
type RunSums struct {
	RawBytes  int64 `json:"raw_bytes"`
	FileBytes int64 `json:"file_bytes"`
	// that the database's log grew by, others' writing included; null where it is not known
	LogBytes *int64                       `json:"log_bytes"`
	Slices   int                          `json:"slices"` // slices whose rows are all accounted for
	Passes   catalog.JSON[[]catalog.Pass] `json:"passes"` // one for each clause that takes rows, in order
	Pass     int                          `json:"pass"`   // the one that it is at
	Parts    catalog.JSON[[]catalog.Part] `json:"parts"`  // partitions that are to leave as a whole, the oldest first
}

// RunWindow is what a run does in its windows of time.
type RunWindow struct {
	// when it began to work in the window in which it last worked
	WindowBegan    *catalog.Time `json:"window_began"`
	WindowRows     int64         `json:"window_rows"`      // rows taken in that window
	LastWindowRows int64         `json:"last_window_rows"` // and in the one before
	WindowsLeft    *int64        `json:"windows_left"`     // that it will take, as far as can be told
}

// RunLive is what is known of a run while it goes on; the catalog does not keep it.
type RunLive struct {
	Pressure  *pace.Pressure `json:"pressure,omitempty"`   // of the database, while the run goes on
	BatchRows int            `json:"batch_rows,omitempty"` // that the next batch will take
}

// RunOf shows a record of the catalog.
func RunOf(r *catalog.Run) Run {
	return Run{RunOrder: RunOrder(r.RunOrder), RunTurn: RunTurn(r.RunTurn), RunStanding: RunStanding(r.RunStanding),
		RunSums:   RunSums(r.RunSums),
		RunWindow: RunWindow(r.RunWindow), RunLive: RunLive(r.RunLive), Ledger: r.Ledger}
}

// Batch is what one delete transaction did.
type Batch struct {
	Segment  int          `json:"segment"`
	Number   int          `json:"number"`
	Retry    bool         `json:"retry"`
	Rows     int          `json:"rows"`
	Deleted  int          `json:"deleted"`
	Changed  int          `json:"changed"`
	Vanished int          `json:"vanished"`
	Held     int          `json:"held"`
	Skipped  int          `json:"skipped"`
	Micros   int64        `json:"micros"`
	At       catalog.Time `json:"at"`
	Rest     int64        `json:"rest_micros"` // after it
	LogBytes *int64       `json:"log_bytes"`   // that the database's log grew by, others' writing included
}

// BatchOf shows a record of the catalog.
func BatchOf(b *catalog.Batch) Batch {
	return Batch{Segment: b.Segment, Number: b.Number, Retry: b.Retry, Rows: b.Rows, Deleted: b.Deleted,
		Changed: b.Changed, Vanished: b.Vanished, Held: b.Held, Skipped: b.Skipped, Micros: b.Micros, At: b.At,
		Rest: b.Rest, LogBytes: b.LogBytes}
}

// Slowdown is a time in which a run went slower than its pace, or rested, and why.
type Slowdown struct {
	Begun  catalog.Time  `json:"begun"`
	Ended  *catalog.Time `json:"ended"` // null: still
	Rests  bool          `json:"rests"` // it rested altogether
	Reason string        `json:"reason"`
}

// SlowdownOf shows a record of the catalog.
func SlowdownOf(s *catalog.Slowdown) Slowdown {
	return Slowdown{Begun: s.Begun, Ended: s.Ended, Rests: s.Rests, Reason: s.Reason}
}
