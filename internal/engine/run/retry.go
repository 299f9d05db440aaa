package run

import (
	"context"
	"errors"

	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// retry is the function of that name, for a run: it notes when the database was out of reach, since what answers
// afterwards may be another one, or an older state of it; and behind whatever else fails, it looks whether the tables
// are still what they were.
func (r *Execution) retry(ctx context.Context, fn func() error, waiting ...func(error)) error {
	var w wait
	defer r.endWait(&w)
	return tables.Retry(ctx, r.Log, func() error {
		err := fn()
		telling := errors.Is(err, source.ErrNoTable) || errors.Is(err, source.ErrDenied)
		if err == nil || r.closing.Load() || !tables.Passing(err) && !telling || errors.Is(err, source.ErrBusy) ||
			tables.Away(err) {
			return err
		}
		var refused *refuse.Error
		if why := r.stillSame(context.WithoutCancel(ctx)); errors.As(why, &refused) {
			r.Log.Warn("a table is not what it was", "run", r.Run.ID, "error", err)
			return why
		}
		return err
	}, append(waiting, func(err error) {
		if errors.Is(err, source.ErrUnreachable) {
			r.lost.Store(true)
		}
		r.tellWait(&w, tables.Waits(err), tables.Away(err))
	})...)
}

// again is retry with nobody else who hears of it.
func (r *Execution) again(ctx context.Context, fn func() error) error { return r.retry(ctx, fn) }
