package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/refuse"
)

// Lineages knows about which tables source, stores and catalog disagree.
type Lineages struct {
	*base
	places   *Places
	mu       sync.Mutex
	disagree map[[2]string]string // by source and table: what is different
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
