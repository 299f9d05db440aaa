package service

import (
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
	guard, err := s.Catalog.Guard(ctx, d.Source)
	if err != nil {
		return nil, err
	}
	if d.ApprovedAt == nil && slices.Contains(guard.Approve, catalog.ApproveDisposals) {
		return nil, &refuse.Error{Message: "the guard rails of source " + d.Source +
			" demand that a disposal is approved before it is started", Remedy: "`ambercellar disposal approve " + id +
			"`"}
	}
	if d, err = s.Catalog.SetDisposalState(ctx, actor, id, catalog.Disposing, "", catalog.At(s.Now())); err != nil {
		return nil, err
	}
	copied := *d
	copied.Items.V = slices.Clone(d.Items.V)
	s.dispose(d)
	return &copied, nil
}

// dispose carries a disposal out in the background. One that the end of the service stops is taken up at its next
// start.
func (s *Queue) dispose(d *catalog.Disposal) {
	s.wait.Add(1)
	go func() {
		defer s.wait.Done()
		ctx, end := s.freezes.watched(s.ctx, "disposal "+d.ID, d.Source, d.Table)
		defer end()
		err := context.Cause(ctx)
		if err == nil {
			err = s.patiently(waitPatience, func() error { return s.Engine.Disposals.Dispose(ctx, d) })
		}
		if errors.Is(err, refuse.ErrShutdown) || ctx.Err() != nil {
			s.mu.Lock()
			s.rested["disposal "+d.ID] = s.ctx.Err() == nil
			s.mu.Unlock()
			return
		}
		to, reason := catalog.DisposalDone, ""
		if err != nil {
			to, reason = catalog.DisposalFailed, err.Error()
			s.Log.Error("disposal stopped", "disposal", d.ID, "error", err)
		}
		s.insist("disposal "+d.ID, func() error {
			_, err := s.Catalog.SetDisposalState(context.Background(), "service", d.ID, to, reason,
				catalog.At(s.Now()))
			return err
		})
	}()
}
