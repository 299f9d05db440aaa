package engine

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

// How often and how long something that failed for the moment is tried again. A table that others have locked is waited for without end, since a
// run gives way to everybody; a database or a store that does not answer for Outage, after which the work lets go of what it holds, and is taken up
// when that is back.
const (
	tries    = 6
	longWait = 5 * time.Second
)

var firstWait = 200 * time.Millisecond // shorter in tests

// Outage is how long a run waits in the middle of its work for a database or a store that does not answer. Shorter in tests.
var Outage = time.Minute

// Waiting says that work has let go of everything until what it needs answers again.
type Waiting struct {
	Reason string
	why    error
}

func (e *Waiting) Error() string { return e.Reason }

func (e *Waiting) Unwrap() error { return e.why }

// away says of an error that a database or a store does not answer.
func away(err error) bool { return errors.Is(err, source.ErrUnreachable) || store.Away(err) }

// waits tells of an error that is waited for.
func waits(err error) string {
	switch {
	case store.Away(err):
		return "waiting for a store: " + err.Error()
	case errors.Is(err, source.ErrUnreachable):
		return "waiting for the database: " + err.Error()
	}
	return "waiting: " + err.Error()
}

// retry runs fn again while it fails for reasons that may pass. Damage, lost leases and full disks do not pass. waiting
// hears of every failure that is waited for.
func retry(ctx context.Context, log *slog.Logger, fn func() error, waiting ...func(error)) error {
	wait, begun := firstWait, time.Now()
	for try := 1; ; try++ {
		err := fn()
		if err == nil || ctx.Err() != nil || !passing(err) {
			return err
		}
		patient := errors.Is(err, source.ErrBusy) || away(err) && time.Since(begun) < Outage
		if try >= tries && !patient || away(err) && !patient {
			return err
		}
		log.Warn("will try again", "error", err, "after", wait)
		for _, tell := range waiting {
			tell(err)
		}
		if rest(ctx, wait) != nil {
			return err
		}
		wait = min(2*wait, longWait)
	}
}

// retry is the function of that name, for a run: it notes when the database was out of reach, since what answers afterwards
// may be another one, or an older state of it; and behind whatever else fails, it looks whether the tables are still what they were.
func (r *runner) retry(ctx context.Context, fn func() error, waiting ...func(error)) error {
	waited := false
	defer func() {
		if waited {
			r.tellWait(nil)
		}
	}()
	return retry(ctx, r.Log, func() error {
		err := fn()
		telling := errors.Is(err, source.ErrNoTable) || errors.Is(err, source.ErrDenied)
		if err == nil || r.closing.Load() || !passing(err) && !telling || errors.Is(err, source.ErrBusy) || away(err) {
			return err
		}
		var refused *refuse.Error
		if why := r.stillSame(context.WithoutCancel(ctx)); errors.As(why, &refused) {
			r.Log.Warn("a table is not what it was", "run", r.run.ID, "error", err)
			return why
		}
		return err
	}, append(waiting, func(err error) {
		if errors.Is(err, source.ErrUnreachable) {
			r.lost.Store(true)
		}
		waited = true
		r.tellWait(err)
	})...)
}

// again is retry with nobody else who hears of it.
func (r *runner) again(ctx context.Context, fn func() error) error { return r.retry(ctx, fn) }

// tellWait shows what the run waits for; nil: it goes on.
func (r *runner) tellWait(err error) {
	switch {
	case r.Waits == nil:
	case err == nil:
		r.Waits(r.run.ID, "", false)
	default:
		r.Waits(r.run.ID, waits(err), away(err))
	}
}

// passing says whether an error may be gone when the same thing is tried again.
func passing(err error) bool {
	for _, lasting := range []error{archive.ErrDamaged, source.ErrLeaseLost, source.ErrNoTable, source.ErrDenied, source.ErrAltered, store.ErrExists, source.ErrWhole, errOthers, refuse.ErrBooks, refuse.ErrDisagree, source.ErrByStatement, store.ErrFull, store.ErrForbidden, store.ErrMisspoken, syscall.ENOSPC, syscall.EDQUOT, syscall.EACCES, syscall.EROFS, errNoSpace} {
		if errors.Is(err, lasting) {
			return false
		}
	}
	var refused *refuse.Error
	var differs *refuse.Differs
	var held *source.HeldError
	var resting *Resting
	var stopped *Stopped
	var waiting *Waiting
	return !errors.As(err, &waiting) && !errors.As(err, &refused) && !errors.As(err, &differs) && !errors.As(err, &held) && !errors.As(err, &resting) && !errors.As(err, &stopped)
}
