// Package refuse holds what a person is told who asked for something that cannot be done: which input it is about,
// why, and what to do instead. It also holds the causes for which work stops. Whoever carries work out returns these
// errors; whoever shows them to a person decides by their type alone.
package refuse

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
)

// Error says that something well-formed cannot be done now, and what to do about it. Field names the input that it is
// about, where there is one.
type Error struct{ Field, Message, Remedy string }

func (e *Error) Error() string {
	if e.Remedy == "" {
		return e.Message
	}
	return e.Message + "; " + e.Remedy
}

// Problems says all that is wrong with what somebody wrote: why a rule cannot be applied or planned, or, where What
// names something else, why that cannot be kept.
type Problems struct {
	Problems []rule.Problem
	What     string
}

func (e *Problems) Error() string {
	var err error
	for _, p := range e.Problems {
		if !p.Warning {
			err = errors.Join(err, p)
		}
	}
	return fmt.Sprint(err)
}

// Filter is a mistake in a filter that did not stand in a file.
func Filter(field string, e *filter.Error) error {
	message := strings.TrimSuffix(e.Plain(), "; "+e.Remedy) + "\n" + e.Excerpt()
	return &Error{Field: field, Message: message, Remedy: e.Remedy}
}

// Differs says that a partition is not, or no more, what can leave as a whole.
type Differs struct{ Why string }

func (e *Differs) Error() string { return e.Why }

// Causes with which the service cancels a run's context. Whatever the cause, the current batch is finished first.
var (
	ErrPause    = errors.New("paused")
	ErrCancel   = errors.New("cancelled")
	ErrShutdown = errors.New("the service is stopping")
)

// Outstanding says that others have to approve something before it is carried out.
type Outstanding struct {
	Approval string // the request that waits for them
	What     string
	Persons  int // that have to approve it
	Given    int // that have
	Begins   bool
}

func (e *Outstanding) Error() string {
	persons := "somebody else has"
	if e.Persons > 1 {
		persons = fmt.Sprintf("%d others have", e.Persons)
	}
	text := persons + " to approve it first"
	if e.Given > 0 {
		text += fmt.Sprintf(" (%d did)", e.Given)
	}
	if e.Approval != "" {
		text += ": request " + e.Approval
	}
	if e.Begins {
		text += "; it begins by itself then"
	}
	return text
}

// By says who stopped work, beside a cause.
type By struct {
	Cause error
	Who   string
}

func (b *By) Error() string { return b.Cause.Error() + " by " + b.Who }
func (b *By) Unwrap() error { return b.Cause }

// Whose says who stopped work; the service itself where nobody else did.
func Whose(err error) string {
	var by *By
	if errors.As(err, &by) {
		return by.Who
	}
	return "service"
}

// Frozen says that a freeze keeps the service from a database. Work that it stops rests, as at the end of the service.
type Frozen struct{ Where, Reason string }

func (e *Frozen) Error() string {
	return fmt.Sprintf("%s is frozen (%s); lift that with `ambercellar service unfreeze`", e.Where, e.Reason)
}

func (e *Frozen) Is(target error) bool { return target == ErrShutdown }

// ErrCopied says that a run has copied everything, and that the deleting waits for its own decision.
var ErrCopied = errors.New("everything is copied; the deleting waits for its own decision")

// ErrBooks says that a run's books do not balance; it deletes nothing more.
var ErrBooks = errors.New("the books do not balance")

// ErrDisagree says that source, store and catalog tell different stories of a table.
var ErrDisagree = errors.New("source, store and catalog disagree")

// Disagree says in what source, store and catalog differ about a table. It is ErrDisagree.
type Disagree struct{ Source, Table, Difference string }

func (e *Disagree) Error() string {
	return fmt.Sprintf("%s about %s.%s: %s; the database, or the catalog, was turned back, or another service "+
		"works on this "+
		"table; nothing was deleted. `ambercellar table reconcile %s %s` shows it and settles it",
		ErrDisagree, e.Source, e.Table, e.Difference, e.Source, e.Table)
}

func (e *Disagree) Is(target error) bool { return target == ErrDisagree }

// ErrOthers says that others are at a table that is wanted for a moment without them.
var ErrOthers = errors.New("others are at the table")

// Unmet says that a run does not work because what its rule requires does not hold, and when to look again.
type Unmet struct {
	Reason string
	Again  time.Time
}

func (e *Unmet) Error() string { return e.Reason }

// Resting says that a run stops until its next window opens.
type Resting struct {
	Until  time.Time
	Reason string
}

func (e *Resting) Error() string { return e.Reason }

// Stopped says that a run pauses until somebody resumes it.
type Stopped struct{ Reason string }

func (e *Stopped) Error() string { return e.Reason }

// ErrNoSpace says that a store has too little room for the next segment.
var ErrNoSpace = errors.New("not enough free space in the store")

// Format refuses what is no format of rows.
func Format(format string) error {
	return &Error{Field: "format", Message: fmt.Sprintf("%q is no format of rows", format),
		Remedy: "write csv, csv-safe, ndjson or parquet"}
}
