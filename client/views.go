package client

import "fmt"

// What follows from an answer, so that every reader says the same of it.

// LeftOut is how many rows were found and not deleted.
func (l *Ledger) LeftOut() int64 { return l.Unlinked + l.Changed + l.Vanished + l.Held + l.Skipped }

// OK says whether nothing that the service needs of a source is missing.
func (r *Report) OK() bool {
	for _, f := range r.Items {
		if f.Level == Missing {
			return false
		}
	}
	return true
}

// RowsIn is the store in which the rows of a segment lie.
func (s *Segment) RowsIn() string {
	if s.RowsStore != "" {
		return s.RowsStore
	}
	return s.Store
}

// Cold says whether files of a store have to be retrieved before they can be read.
func (s *Store) Cold() bool { return s.Bucket.Class != "" }

// Sealed says whether the files of a store are encrypted.
func (s Seal) Sealed() bool { return s != Seal{} }

// Say says which segments of a table have no such column, and what to do about it.
func (l *Lacking) Say(source, table string) string {
	n, have := fmt.Sprintf("%d segments", len(l.Segments)), "have"
	if len(l.Segments) == 1 {
		n, have = "segment "+l.Segments[0], "has"
	}
	return fmt.Sprintf("%s with %d rows %s no column %s, which counts as NULL there; `ambercellar column tell %s "+
		"%s %s` says what it was called then (-was NAME), or that it was added (-added)",
		n, l.Rows, have, l.Column, source, table, l.Column)
}

// NotCounted is the number of rows of a plan that were not counted.
const NotCounted = -1

// Targets of a restore.
const (
	TargetTable = "table" // the table that the rows came from
	TargetSide  = "side"  // a new table beside it
	TargetFile  = "file"
)

// KindErasure is the kind of a disposal that takes rows whatever their time in the archive.
const KindErasure = "erasure"

// UsualDays is how many days a retrieved copy stays where nothing else is said.
const UsualDays = 3

// Kinds of the service's own records that are kept for a time.
const (
	KeepBatches       = "batches"
	KeepSlowdowns     = "slowdowns"
	KeepPlans         = "plans"
	KeepRuns          = "runs"
	KeepVerifications = "verifications"
	KeepRetrievals    = "retrievals"
	KeepDetails       = "details"
	KeepFirings       = "firings"
	KeepFindings      = "findings"
	KeepSteps         = "steps"
	KeepSizes         = "sizes"
	KeepDeliveries    = "deliveries"
	KeepNews          = "news"
)

// Ended says whether nothing follows a state.
func (s RunState) Ended() bool { return s == Done || s == Cancelled }
