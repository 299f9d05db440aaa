package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// disposalLife is how long a disposal can be decided on after it was planned.
const disposalLife = 7 * 24 * time.Hour

// StartDisposal decides that the segments of a disposal are destroyed, and carries that out in the background.
func (s *Queue) StartDisposal(ctx context.Context, actor, id string) (*catalog.Disposal, error) {
	d, err := s.Catalog.Disposal(ctx, id)
	if err != nil {
		return nil, err
	}
	if d.State == catalog.DisposalPlanned && s.Now().Sub(d.CreatedAt.Time) > disposalLife {
		return nil, &refuse.Error{Message: "this disposal was planned on " + d.CreatedAt.Format(time.DateOnly) +
			" and is too old to be decided on", Remedy: "plan it again"}
	}
	if d.State == catalog.DisposalPlanned && len(d.Items.V) == 0 {
		return nil, &refuse.Error{Message: "no segment may be destroyed yet, so there is nothing to decide",
			Remedy: "`ambercellar disposal show " + id + "` says until when each one stays"}
	}
	if d.State == catalog.DisposalPlanned {
		if ctx, err = s.Allow(ctx, disposalNeed(d.CreatedBy, d)); err != nil {
			return nil, err
		}
	}
	if d, err = s.Catalog.SetDisposalState(ctx, actor, id, catalog.Disposing, "", catalog.At(s.Now())); err != nil {
		return nil, err
	}
	copied := *d
	copied.Items.V = slices.Clone(d.Items.V)
	s.dispose(d)
	return &copied, nil
}

// dispose puts a disposal into the queue. One that the end of the service stops is taken up at its next start.
func (s *Queue) dispose(d *catalog.Disposal) {
	id := d.ID
	state := func(to catalog.DisposalState, reason string) error {
		_, err := s.Catalog.SetDisposalState(context.Background(), "service", id, to, reason, catalog.At(s.Now()))
		return err
	}
	s.jobs.enter(s.ctx, catalog.JobDisposal, id, JobOrder{Source: d.Source, Table: d.Table, What: d.Kind,
		By: cmp.Or(d.DecidedBy, d.CreatedBy), Asked: d.CreatedAt.Time},
		jobWork{do: func(ctx context.Context) error {
			d, err := insisted(ctx, s, "disposal", s.Catalog.Disposal, id)
			if err != nil {
				return err
			}
			if d.State != catalog.Disposing {
				return nil
			}
			err = s.patiently(ctx, catalog.JobDisposal, id, func() error { return s.Engine.Disposals.Dispose(ctx, d) })
			if errors.Is(err, refuse.ErrShutdown) || ctx.Err() != nil {
				return refuse.ErrShutdown
			}
			to, reason := catalog.DisposalDone, ""
			if err != nil {
				to, reason = catalog.DisposalFailed, err.Error()
				s.Log.Error("disposal stopped", "disposal", d.ID, "error", err)
			}
			return s.insist("disposal "+d.ID, func() error { return state(to, reason) })
		},
			end: func(reason string) error {
				return state(catalog.DisposalFailed,
					reason+"; what was destroyed is gone; start it again, or cancel it")
			}})
}
