package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
)

// QueueLimits are how many runs, and how many other jobs of each kind, work at a time; the others wait in the queue.
type QueueLimits struct {
	All           int `json:"all"`           // runs in all
	Source        int `json:"source"`        // runs of one source
	Restores      int `json:"restores"`      // to tables
	Exports       int `json:"exports"`       // restores to files
	Disposals     int `json:"disposals"`     // and erasures
	Verifications int `json:"verifications"` // that somebody asked for
	Moves         int `json:"moves"`         // of segments to other stores
	Copies        int `json:"copies"`        // second ones, of segments
	Audits        int `json:"audits"`        // exports of the audit log
}

var usualLimits = QueueLimits{All: 2, Source: 2, Restores: 2, Exports: 2, Disposals: 1, Verifications: 1, Moves: 1,
	Copies: 1, Audits: 1}

// Of is how many jobs of a kind work at a time.
func (l QueueLimits) Of(kind catalog.JobKind) int {
	return *l.each()[runLimits+slices.Index(catalog.JobKinds, kind)].n
}

// runLimits is how many of the limits are of runs.
const runLimits = 2

// limit is one of the limits, under the name that requests give it.
type limit struct {
	field string
	n     *int
}

// each lists the limits: those of runs, and those of jobs in the order of catalog.JobKinds.
func (l *QueueLimits) each() []limit {
	return []limit{{"all", &l.All}, {"source", &l.Source}, {"restores", &l.Restores}, {"exports", &l.Exports},
		{"disposals", &l.Disposals}, {"verifications", &l.Verifications}, {"moves", &l.Moves}, {"copies", &l.Copies},
		{"audits", &l.Audits}}
}

const (
	limitsSetting = "queue limits"
	mostRuns      = 64
)

// counts says how many runs work and how many wait.
func (s *Queue) counts() (working, waiting int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.active {
		if a.slot {
			working++
		} else {
			waiting++
		}
	}
	return working, waiting
}

// Latest returns the runs that work, as they stood last.
func (s *Queue) Latest() (out []*catalog.Run) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.active {
		if a.slot && a.latest.State == catalog.Running {
			out = append(out, a.latest)
		}
	}
	return out
}

// Limits returns how many runs and other jobs work at a time.
func (s *Queue) Limits() QueueLimits {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.limits
}

// SetLimits changes how many runs and other jobs work at a time: of kinds of jobs for which 0 is given, as many as
// before. What works goes on.
func (s *Queue) SetLimits(ctx context.Context, actor string, l QueueLimits) (QueueLimits, error) {
	now := s.Limits()
	before := now.each()
	for i, x := range l.each() {
		if *x.n == 0 && i >= runLimits {
			*x.n = *before[i].n
		}
		if *x.n < 1 || *x.n > mostRuns {
			return l, &refuse.Error{Field: x.field, Message: fmt.Sprintf("%d cannot work at a time", *x.n),
				Remedy: fmt.Sprintf("write a number from 1 to %d; `ambercellar service freeze` stops all", mostRuns)}
		}
	}
	text, err := json.Marshal(l)
	if err != nil {
		return l, err
	}
	usual, err := json.Marshal(usualLimits)
	if err != nil {
		return l, err
	}
	if err := s.Catalog.ChangeSetting(ctx, actor, "queue limits", limitsSetting, string(usual),
		string(text)); err != nil {
		return l, err
	}
	s.mu.Lock()
	s.limits = l
	s.mu.Unlock()
	s.dispatch()
	s.jobs.dispatch()
	return l, nil
}

func (s *Queue) loadLimits(ctx context.Context) error {
	text, err := s.Catalog.Setting(ctx, limitsSetting)
	if err != nil || text == "" {
		return err
	}
	return json.Unmarshal([]byte(text), &s.limits)
}

// dispatch lets the runs work whose turn it is, as many as the limits allow. It returns when the turn of another comes
// that is to begin at a later hour; zero: of none.
func (s *Queue) dispatch() (next time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx.Err() != nil {
		return next
	}
	working, all := map[string]int{}, 0
	var waiting []*activeRun
	for _, a := range s.active {
		switch {
		case a.slot:
			working[a.latest.Source]++
			all++
		case !a.begun || a.turn != nil:
			waiting = append(waiting, a)
		}
	}
	now := s.Now()
	for {
		best := s.best(waiting, working, now)
		if best == nil || all >= s.limits.All {
			break
		}
		all++
		working[best.latest.Source]++
		waiting = slices.DeleteFunc(waiting, func(a *activeRun) bool { return a == best })
		best.slot, best.lent = true, false
		if best.turn != nil {
			close(best.turn)
			best.turn = nil
			continue
		}
		best.begun = true
		s.wait.Add(1)
		go s.execute(best)
	}
	for _, a := range waiting {
		if at := a.latest.StartAt; at != nil && at.After(now) {
			next = sooner(next, at.Time)
		}
	}
	return next
}

// best is the run among those that wait whose turn is next; nil: none can work now.
func (s *Queue) best(waiting []*activeRun, working map[string]int, now time.Time) *activeRun {
	var best *activeRun
	for _, a := range waiting {
		if a.turn == nil && s.holds(a.latest, working, now) != "" || best != nil && s.before(best, a, working) <= 0 {
			continue
		}
		best = a
	}
	return best
}

// holds says why a run that waits cannot begin even where a place is free; empty: it can.
func (s *Queue) holds(r *catalog.Run, working map[string]int, now time.Time) string {
	switch at, frozen := r.StartAt, s.freezes.over(r.Source, r.Table); {
	case frozen != nil:
		return frozen.Error()
	case at != nil && at.After(now):
		return "it is to begin at " + at.Format(time.RFC3339)
	case working[r.Source] >= s.limits.Source:
		return fmt.Sprintf("%d runs of source %s work, and no more may at a time", working[r.Source], r.Source)
	}
	return ""
}

// before orders runs that wait: those that have begun, by priority, those of sources with fewer at work, the oldest.
func (s *Queue) before(a, b *activeRun, working map[string]int) int {
	rank := func(a *activeRun) int {
		switch {
		case a.turn != nil:
			return 0
		case a.latest.State == catalog.Running:
			return 1
		}
		return 2
	}
	return cmp.Or(rank(a)-rank(b), b.latest.Priority-a.latest.Priority,
		working[a.latest.Source]-working[b.latest.Source], a.latest.CreatedAt.Compare(b.latest.CreatedAt.Time),
		cmp.Compare(a.latest.ID, b.latest.ID))
}

// takeSlot waits until a run that gave its slot away has one again, or is to stop.
func (s *Queue) takeSlot(a *activeRun) {
	turn := make(chan struct{})
	s.mu.Lock()
	a.turn = turn
	s.mu.Unlock()
	s.dispatch()
	select {
	case <-turn:
	case <-a.ctx.Done():
		s.mu.Lock()
		a.turn = nil
		s.mu.Unlock()
	}
}

// giveSlot lets another run work. lend: only for a while.
func (s *Queue) giveSlot(a *activeRun, lend bool) {
	s.mu.Lock()
	had := a.slot
	a.slot, a.lent = false, lend && had
	s.mu.Unlock()
	if had {
		s.dispatch()
	}
}

// stopRun stops a run for a cause: after its current batch, or before its turn has come.
func (s *Queue) stopRun(a *activeRun, cause error) {
	a.cancel(cause)
	s.mu.Lock()
	begins := !a.begun
	a.begun = true
	s.mu.Unlock()
	if begins {
		s.wait.Add(1)
		go s.execute(a)
	}
}

// letGo ends the listening to runs whose turn has not come when the service stops.
func (s *Queue) letGo() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.active {
		if a.begun {
			continue
		}
		for l := range a.listeners {
			close(l)
		}
		a.listeners = map[chan *catalog.Run]bool{}
	}
}

// Waiting is a run in the queue.
type Waiting struct {
	Run      *catalog.Run
	Position int    // among those that wait, from 1; 0: it works
	Why      string // it waits, beyond that others work
}

// Line lists the runs that work and those that wait, in the order of their turns.
func (s *Queue) Line() []Waiting {
	s.mu.Lock()
	defer s.mu.Unlock()
	working := map[string]int{}
	var works, waits []*activeRun
	for _, a := range s.active {
		if a.slot {
			working[a.latest.Source]++
		}
		if a.begun && a.turn == nil {
			works = append(works, a)
		} else {
			waits = append(waits, a)
		}
	}
	slices.SortFunc(works, func(a, b *activeRun) int { return a.latest.CreatedAt.Compare(b.latest.CreatedAt.Time) })
	slices.SortFunc(waits, func(a, b *activeRun) int { return s.before(a, b, working) })
	var out []Waiting
	for _, a := range works {
		out = append(out, Waiting{Run: a.latest.Clone()})
	}
	for i, a := range waits {
		out = append(out, Waiting{a.latest.Clone(), i + 1, s.holds(a.latest, working, s.Now())})
	}
	return out
}

// SetPriority changes which of the runs that wait goes first.
func (s *Queue) SetPriority(ctx context.Context, actor, id string, priority int) (*catalog.Run, error) {
	if err := plan.CheckPriority(priority); err != nil {
		return nil, err
	}
	r, err := s.Catalog.SetPriority(ctx, actor, id, priority)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	if a := s.active[id]; a != nil {
		latest := a.latest.Clone()
		latest.Priority = priority
		a.latest = latest
	}
	s.mu.Unlock()
	s.dispatch()
	return r, nil
}
