package tables

import (
	"context"
	"errors"
	"log/slog"
	"syscall"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// How often and how long something that failed for the moment is tried again. A table that others have locked is
// waited for without end, since a run gives way to everybody; a database or a store that does not answer for Outage,
// after which the work lets go of what it holds, and is taken up when that is back.
const (
	tries    = 6
	LongWait = 5 * time.Second
)

var FirstWait = 200 * time.Millisecond // shorter in tests

// Outage is how long a run waits in the middle of its work for a database or a store that does not answer. Shorter in
// tests.
var Outage = time.Minute

// Waiting says that work has let go of everything until what it needs answers again.
type Waiting struct {
	Reason string
	Why    error
}

func (e *Waiting) Error() string { return e.Reason }

func (e *Waiting) Unwrap() error { return e.Why }

// Away says of an error that a database or a store does not answer.
func Away(err error) bool { return errors.Is(err, source.ErrUnreachable) || store.Away(err) }

// Waits tells of an error that is waited for.
func Waits(err error) string {
	switch {
	case store.Away(err):
		return "waiting for a store: " + err.Error()
	case errors.Is(err, source.ErrUnreachable):
		return "waiting for the database: " + err.Error()
	}
	return "waiting: " + err.Error()
}

// Retry runs fn again while it fails for reasons that may pass. Damage, lost leases and full disks do not pass.
// waiting hears of every failure that is waited for.
func Retry(ctx context.Context, log *slog.Logger, fn func() error, waiting ...func(error)) error {
	wait, begun := FirstWait, time.Now()
	for try := 1; ; try++ {
		err := fn()
		if err == nil || ctx.Err() != nil || !Passing(err) {
			return err
		}
		patient := errors.Is(err, source.ErrBusy) || Away(err) && time.Since(begun) < Outage
		if try >= tries && !patient || Away(err) && !patient {
			return err
		}
		log.Warn("will try again", "error", err, "after", wait)
		for _, tell := range waiting {
			tell(err)
		}
		if source.Rest(ctx, wait) != nil {
			return err
		}
		wait = min(2*wait, LongWait)
	}
}

// Passing says whether an error may be gone when the same thing is tried again.
func Passing(err error) bool {
	for _, lasting := range []error{archive.ErrDamaged, source.ErrLeaseLost, source.ErrNoTable, source.ErrDenied,
		source.ErrAltered, store.ErrExists, source.ErrWhole, refuse.ErrOthers, refuse.ErrBooks, refuse.ErrDisagree,
		source.ErrByStatement, store.ErrFull, store.ErrForbidden, store.ErrMisspoken, syscall.ENOSPC, syscall.EDQUOT,
		syscall.EACCES, syscall.EROFS, refuse.ErrNoSpace} {
		if errors.Is(err, lasting) {
			return false
		}
	}
	var refused *refuse.Error
	var differs *refuse.Differs
	var held *source.HeldError
	var resting *refuse.Resting
	var stopped *refuse.Stopped
	var waiting *Waiting
	return !errors.As(err, &waiting) && !errors.As(err, &refused) && !errors.As(err, &differs) &&
		!errors.As(err, &held) && !errors.As(err, &resting) && !errors.As(err, &stopped)
}

// LockWait is how long a statement on a live table waits for locks of others, before their rows are skipped. It lies
// far below PostgreSQL's deadlock_timeout.
const LockWait = 100 * time.Millisecond
