package service

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// Freezes keep the service from touching databases that are frozen. What is at work there stops within a batch, rests,
// and goes on once the freeze is lifted.
type Freezes struct {
	*base
	queue *Queue

	mu     sync.Mutex
	stands []catalog.Freeze
}

// load reads the freezes that stand.
func (s *Freezes) load(ctx context.Context) error {
	stands, err := s.Catalog.Freezes(ctx, false)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.stands = stands
	s.mu.Unlock()
	return nil
}

// Over says whether a freeze stands over a table, or over its source.
func (s *Freezes) Over(source, table string) bool { return s.over(source, table) != nil }

// over returns what a freeze of a table says, nil where none stands. Without a table, it is for the source as such.
func (s *Freezes) over(source, table string) *refuse.Frozen {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Now()
	for i := range s.stands {
		f := &s.stands[i]
		if f.Covers(source, table) && (f.Until == nil || now.Before(f.Until.Time)) {
			return &refuse.Frozen{Where: f.Where(), Reason: f.Reason}
		}
	}
	return nil
}

// Freeze stops the work on all sources, one, or one table of it, until it is lifted.
func (s *Freezes) Freeze(ctx context.Context, actor string, f catalog.Freeze) (*catalog.Freeze, error) {
	f.Reason = strings.TrimSpace(f.Reason)
	switch {
	case f.Reason == "":
		return nil, &refuse.Error{Field: "reason", Message: "a freeze needs a reason, which everyone is shown",
			Remedy: "say why (-reason)"}
	case f.Table != "" && f.Source == "":
		return nil, &refuse.Error{Field: "source", Message: "a table is frozen in its source, and none is named",
			Remedy: "name the source"}
	case f.Until != nil && !f.Until.After(s.Now()):
		return nil, &refuse.Error{Field: "until", Message: fmt.Sprintf("%s has passed", f.Until.Format(time.RFC3339)),
			Remedy: "give a time to come, or leave it out to lift the freeze by hand"}
	}
	if f.Source != "" {
		if _, err := s.Catalog.Source(ctx, f.Source); err != nil {
			return nil, err
		}
	}
	placed, err := s.Catalog.PlaceFreeze(ctx, actor, f)
	if err != nil {
		return nil, err
	}
	if err := s.load(ctx); err != nil {
		return nil, err
	}
	s.Log.Warn("frozen", "what", f.Where(), "by", actor, "reason", f.Reason)
	s.stop()
	return placed, nil
}

// stop ends the work that freezes cover.
func (s *Freezes) stop() {
	s.queue.jobs.freeze()
	s.queue.freeze()
}

// Lift ends a freeze. What it stopped goes on.
func (s *Freezes) Lift(ctx context.Context, actor, id, reason string) (*catalog.Freeze, error) {
	lifted, err := s.Catalog.LiftFreeze(ctx, actor, id, strings.TrimSpace(reason))
	if err != nil {
		return nil, err
	}
	if err := s.load(ctx); err != nil {
		return nil, err
	}
	s.Log.Warn("no longer frozen", "what", lifted.Where(), "by", actor, "reason", reason)
	s.queue.dispatch()
	s.queue.jobs.dispatch()
	return lifted, nil
}

// thaw lifts the freezes whose time is over, and lets what they stopped go on. It returns when the next one ends.
func (s *Freezes) thaw(ctx context.Context) (next time.Time, err error) {
	stands, err := s.Catalog.Freezes(ctx, false)
	if err != nil {
		return next, err
	}
	for _, f := range stands {
		if f.Until == nil {
			continue
		}
		if s.Now().Before(f.Until.Time) {
			next = sooner(next, f.Until.Time)
		} else if _, err := s.Lift(ctx, "service", f.ID, "its time is over"); err != nil {
			return next, err
		}
	}
	return next, nil
}

// freeze stops the runs at work that freezes cover.
func (s *Queue) freeze() {
	s.mu.Lock()
	var at []*activeRun
	for _, a := range s.active {
		if a.begun {
			at = append(at, a)
		}
	}
	s.mu.Unlock()
	for _, a := range at {
		if frozen := s.freezes.over(a.run.Source, a.run.Table); frozen != nil {
			a.cancel(frozen)
		}
	}
}
