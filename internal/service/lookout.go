package service

import (
	"context"
	"errors"
	"strings"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/engine/refuse"
)

// lookout looks whether what a run waits for answers again.
type lookout struct {
	going bool
	next  time.Time
	pause time.Duration
}

// How long a look may take, and how much time passes between looks, which grows.
const lookBudget, firstLook, longestLook = 90 * time.Second, 2 * time.Second, 30 * time.Second

// lookOut lets a run go on that waits for what does not answer, or for what its rule requires, once all of that is
// there. It does not keep whoever calls waiting, and returns when to call again.
func (s *Queue) lookOut(r *catalog.Run) time.Time {
	s.mu.Lock()
	l := s.looking[r.ID]
	if l == nil {
		l = &lookout{}
		s.looking[r.ID] = l
	}
	due := !l.going && !time.Now().Before(l.next)
	if due {
		l.going = true
	}
	next := l.next
	s.mu.Unlock()
	again := s.Now().Add(max(time.Until(next), firstLook))
	if !due {
		return again
	}
	s.wait.Add(1)
	go func() {
		defer s.wait.Done()
		ctx, cancel := context.WithTimeout(s.ctx, lookBudget)
		defer cancel()
		err := s.ready(ctx, r)
		s.mu.Lock()
		l.going = false
		l.pause = min(max(2*l.pause, firstLook), longestLook)
		l.next = time.Now().Add(l.pause)
		if err == nil {
			delete(s.looking, r.ID)
		}
		s.mu.Unlock()
		var unmet *refuse.Unmet
		if errors.As(err, &unmet) {
			_, err = s.Catalog.Unmet(context.WithoutCancel(ctx), r.ID, unmet.Reason, unmet.Again)
			if err != nil && !errors.Is(err, catalog.ErrState) {
				s.Log.Error("why a run rests cannot be kept", "run", r.ID, "error", err)
			}
			return
		}
		if err != nil {
			s.Log.Debug("what a run waits for is not back", "run", r.ID, "error", err)
			return
		}
		s.Log.Info("what a run waited for is back", "run", r.ID)
		if _, err := s.Resume(s.ctx, "service", r.ID); err != nil && s.ctx.Err() == nil {
			s.Log.Warn("a run that waited cannot go on", "run", r.ID, "error", err)
		}
	}()
	return again
}

// closed follows the reason of a run whose window has closed while what its rule requires did not hold.
const closed = " (its window is closed)"

// ready says whether what a run rests for is there.
func (s *Queue) ready(ctx context.Context, r *catalog.Run) error {
	if r.UnmetSince == nil {
		return s.answers(ctx, r)
	}
	body, _, err := s.Engine.Due.Revision(ctx, r.Rule, r.Revision)
	if err != nil {
		return err
	}
	guard, err := s.Catalog.Guard(ctx, r.Source)
	if err != nil {
		return err
	}
	now := s.Now()
	if next, open := calendar.Shared(now, calendar.Hours{Windows: body.Windows(), Zone: body.Location()},
		guard.Hours()); !open && next.From.After(now) { // the database is left alone until then
		return &refuse.Unmet{Reason: strings.TrimSuffix(r.Reason, closed) + closed, Again: next.From}
	}
	return s.conditions.met(ctx, r, body)
}

// answers says whether the source and the stores of a run answer.
func (s *Queue) answers(ctx context.Context, r *catalog.Run) error {
	src, err := s.places.source(ctx, r.Source)
	if err == nil {
		_, err = src.Head(ctx, r.Table)
	}
	if err != nil {
		return err
	}
	for _, p := range r.Passes.V {
		if p.Store == "" {
			continue
		}
		st, err := s.places.store(ctx, p.Store)
		if err == nil {
			_, err = store.Identify(ctx, st)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
