package catalog

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"
)

// A flow says which state may follow which. A state that stands in no list of its own can only be the last one, and
// one that nothing follows is an end. All states that the records have stand in this file, and the records change
// state only as told here.
type flow[S ~string] map[S][]S

// allows says whether one state may follow another, or stay.
func (f flow[S]) allows(from, to S) bool { return from == to || slices.Contains(f[from], to) }

// ended says whether nothing can follow a state.
func (f flow[S]) ended(s S) bool { return len(f[s]) == 0 }

// alive lists the states that something can follow, in order.
func (f flow[S]) alive() []S { return slices.Sorted(maps.Keys(f)) }

// over lists the states that nothing can follow, in order.
func (f flow[S]) over() []S {
	var out []S
	for _, next := range f {
		for _, s := range next {
			if f.ended(s) && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	slices.Sort(out)
	return out
}

// refuse is the error of a state that may not follow another.
func (f flow[S]) refuse(what, id string, from, to S) error {
	if f.allows(from, to) {
		return nil
	}
	return fmt.Errorf("%s %s is %s and cannot become %s: %w", what, id, from, to, ErrState)
}

// check reads the state that a record has in the catalog and refuses one that may not follow it.
func (f flow[S]) check(tx *sqlx.Tx, record, id string, to S) error {
	var from S
	if err := tx.Get(&from, "SELECT state FROM "+record+" WHERE id = ?", id); err != nil {
		return fmt.Errorf("%s %s: %w", record, id, err)
	}
	return f.refuse(record, id, from, to)
}

// RunState is where a run stands.
type RunState string

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

var afterRun = flow[RunState]{
	Queued:  {Running, Paused, Resting, Failed, Cancelled},
	Running: {Done, Paused, Resting, Failed, Cancelled, Copied},
	Resting: {Queued, Paused, Cancelled, Running},
	Copied:  {Queued, Cancelled, Running},
	Paused:  {Queued, Cancelled, Running},
	Failed:  {Queued, Cancelled, Running},
}

// Ended says whether nothing can follow the state.
func (s RunState) Ended() bool { return afterRun.ended(s) }

// ActiveRuns lists the states of runs that have not ended. A table has at most one such run.
func ActiveRuns() []RunState { return afterRun.alive() }

// PartState is where a partition stands that is to leave as a whole.
type PartState string

const (
	PartWaiting PartState = "waiting"
	PartCopying PartState = "copying"
	PartCopied  PartState = "copied" // all of its rows are copied and verified, where they are archived
	PartLeft    PartState = "left"   // it was dropped
	PartRows    PartState = "rows"   // it stays, and its rows go one by one
)

// That a partition has left is told by the database, whatever the records knew before.
var afterPart = flow[PartState]{
	PartWaiting: {PartCopying, PartLeft, PartRows},
	PartCopying: {PartCopied, PartLeft, PartRows},
	PartCopied:  {PartLeft, PartRows},
}

// Ended says whether nothing can follow the state.
func (s PartState) Ended() bool { return afterPart.ended(s) }

// Become moves a partition to another state, if that may follow.
func (p *Part) Become(to PartState) error {
	err := afterPart.refuse("partition", p.Name, p.State, to)
	if err == nil {
		p.State = to
	}
	return err
}

// SegmentState is where a segment stands.
type SegmentState string

const (
	SegmentWriting   SegmentState = "writing"   // its manifest is not known to be in the store
	SegmentOpen      SegmentState = "open"      // stored and verified; its rows are being deleted
	SegmentClosed    SegmentState = "closed"    // its closing record is in the store: rows can be restored
	SegmentAbandoned SegmentState = "abandoned" // never came to exist
	SegmentDisposed  SegmentState = "disposed"  // its disposal record is in the store: its rows are destroyed
)

var afterSegment = flow[SegmentState]{
	SegmentWriting: {SegmentOpen, SegmentAbandoned},
	SegmentOpen:    {SegmentClosed},
	SegmentClosed:  {SegmentDisposed},
}

// RestoreState is where a restore stands.
type RestoreState string

const (
	RestoreAsked   RestoreState = "asked"      // somebody has to approve it
	Retrieving     RestoreState = "retrieving" // rows of it are in cold storage, and were asked for
	Restoring      RestoreState = "running"
	RestoreDone    RestoreState = "done"
	RestoreFailed  RestoreState = "failed"
	RestoreExpired RestoreState = "expired" // its rows were for a time, and are gone again
	RestoreRefused RestoreState = "refused" // somebody decided against it
)

var afterRestore = flow[RestoreState]{
	RestoreAsked: {Retrieving, Restoring, RestoreRefused},
	Retrieving:   {Restoring, RestoreFailed},
	Restoring:    {RestoreDone, RestoreFailed},
	RestoreDone:  {RestoreExpired},
}

// RetrievalState is where a retrieval stands.
type RetrievalState string

const (
	RetrievalAsked  RetrievalState = "retrieving" // the store was asked, and has no copy yet
	RetrievalReady  RetrievalState = "ready"      // a copy is there, for a time
	RetrievalOver   RetrievalState = "over"       // the copy is gone again
	RetrievalFailed RetrievalState = "failed"
)

var afterRetrieval = flow[RetrievalState]{
	RetrievalAsked: {RetrievalReady, RetrievalOver, RetrievalFailed},
	RetrievalReady: {RetrievalOver},
}

// VerificationState is where a verification stands.
type VerificationState string

const (
	Verifying          VerificationState = "running"
	VerificationDone   VerificationState = "done" // whatever it found
	VerificationFailed VerificationState = "failed"
)

var afterVerification = flow[VerificationState]{
	Verifying: {VerificationDone, VerificationFailed},
}

// DisposalState is where a disposal stands.
type DisposalState string

const (
	DisposalPlanned   DisposalState = "planned"   // nothing is destroyed before somebody decides it
	Disposing         DisposalState = "running"   // decided; segments are being destroyed
	DisposalDone      DisposalState = "done"      // what could be destroyed is
	DisposalFailed    DisposalState = "failed"    // stopped for a reason; can be started again
	DisposalCancelled DisposalState = "cancelled" // decided against
)

var afterDisposal = flow[DisposalState]{
	DisposalPlanned: {Disposing, DisposalCancelled},
	Disposing:       {DisposalDone, DisposalFailed},
	DisposalFailed:  {Disposing, DisposalCancelled},
}

// FiringState is what became of a firing.
type FiringState string

const (
	FiringDue     FiringState = "due"     // its plan is to be made and its run to be started
	FiringAsking  FiringState = "asking"  // its plan is over a limit, and somebody decides by starting its run, or not
	FiringStarted FiringState = "started" // its run was started
	FiringNothing FiringState = "nothing" // no row was due
	FiringSkipped FiringState = "skipped" // it was not to be made up for, or another run of the table had not ended
	FiringFailed  FiringState = "failed"  // its plan could not be made
)

var afterFiring = flow[FiringState]{
	FiringDue:    {FiringAsking, FiringStarted, FiringNothing, FiringSkipped, FiringFailed},
	FiringAsking: {FiringStarted, FiringSkipped},
}

// DeliveryState is where a delivery stands.
type DeliveryState string

const (
	DeliveryWaiting   DeliveryState = "waiting" // it is to be sent, for the first time or again
	DeliverySent      DeliveryState = "sent"
	DeliveryFailed    DeliveryState = "failed"    // it is not tried any more
	DeliveryCancelled DeliveryState = "cancelled" // somebody ended it, or its recipient is gone
)

// Any delivery that ended can be sent again by hand.
var afterDelivery = flow[DeliveryState]{
	DeliveryWaiting:   {DeliverySent, DeliveryFailed, DeliveryCancelled},
	DeliverySent:      {DeliveryWaiting},
	DeliveryFailed:    {DeliveryWaiting},
	DeliveryCancelled: {DeliveryWaiting},
}

// ErrState is wrapped where a state does not allow what is asked.
var ErrState = errors.New("the state does not allow it")

// ErrActive says that a table has a run that has not ended.
var ErrActive = errors.New("the table has a run that has not ended")
