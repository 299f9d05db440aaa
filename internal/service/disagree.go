package service

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Lineages knows about which tables source, stores and catalog disagree.
type Lineages struct {
	*base
	places   *Places
	mu       sync.Mutex
	disagree map[[2]string]string // by source and table: what is different
	held     map[[2]string]string // by source and table: who else works on it
}

// Disagreement is a table about which source, stores and catalog tell different stories, so that its runs are stopped.
type Disagreement struct {
	Source     string `json:"source"`
	Table      string `json:"table"`
	Difference string `json:"difference"`
}

// compareEvery is how often all tables that were ever worked on are compared.
const compareEvery = 5 * time.Minute

// watchLineages compares all tables at the start and then now and again.
func (s *Lineages) watchLineages() {
	defer s.wait.Done()
	for {
		found := s.Engine.Reconcile.CheckLineages(s.ctx)
		s.mu.Lock()
		clear(s.disagree)
		for _, d := range found {
			s.disagree[[2]string{d.Source, d.Table}] = d.Difference
		}
		s.mu.Unlock()
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(compareEvery):
		}
	}
}

// heldBy keeps what a run found out about who works on its table, if it is that; without an error, nobody else does.
func (s *Lineages) heldBy(name, table string, err error) {
	var held *source.HeldError
	s.mu.Lock()
	defer s.mu.Unlock()
	if errors.As(err, &held) {
		s.held[[2]string{name, table}] = held.Error()
	} else if err == nil {
		delete(s.held, [2]string{name, table})
	}
}

// Held tells of the tables that others work on, as our runs found them.
func (s *Lineages) Held() map[[2]string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.held)
}

// disagrees keeps what a run found out about its table, if it is that.
func (s *Lineages) disagrees(err error) {
	var d *refuse.Disagree
	if errors.As(err, &d) {
		s.mu.Lock()
		s.disagree[[2]string{d.Source, d.Table}] = d.Difference
		s.mu.Unlock()
	}
}

// Settle makes source, stores and catalog agree about a table again.
func (s *Lineages) Settle(ctx context.Context, actor, source, table, reason string) (*reconcile.Reconciliation,
	error) {
	x, err := s.Engine.Reconcile.Settle(ctx, actor, source, table, reason)
	if err == nil && x.Agree {
		s.mu.Lock()
		delete(s.disagree, [2]string{source, x.Table})
		s.mu.Unlock()
	}
	return x, err
}

// Disagreements lists the tables whose runs are stopped, as they were last compared.
func (s *Lineages) Disagreements() []Disagreement {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []Disagreement{}
	for table, difference := range s.disagree {
		out = append(out, Disagreement{table[0], table[1], difference})
	}
	slices.SortFunc(out, func(a, b Disagreement) int {
		return cmp.Or(cmp.Compare(a.Source, b.Source), cmp.Compare(a.Table, b.Table))
	})
	return out
}
