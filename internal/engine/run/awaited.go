package run

import (
	"cmp"
	"fmt"
	"slices"
	"sync"
	"time"
)

// patient is how long an answer of the database is waited for until what is shown of the run says so.
const patient = 3 * time.Second

// waitList holds what a run waits for at the moment: what reads and what deletes may wait side by side, and neither
// ends the wait of the other. The zero value waits for nothing.
type waitList struct {
	mu  sync.Mutex
	all []*wait
}

// wait is one thing that is waited for.
type wait struct {
	reason string
	away   bool // the database or a store does not answer
	slow   bool // an answer that takes long; what failed tells more
}

// tellWait shows what is waited for beside what else is, in place of what w said before, where it did. Nothing is
// shown where nobody is shown anything.
func (r *Execution) tellWait(w *wait, reason string, away bool) {
	r.waitsFor.change(func(all []*wait) []*wait {
		w.reason, w.away = reason, away
		if slices.Contains(all, w) {
			return all
		}
		return append(all, w)
	}, r.showWaits)
}

// endWait takes back what w said, where it said anything: the run goes on, or waits for what else there is.
func (r *Execution) endWait(w *wait) {
	r.waitsFor.change(func(all []*wait) []*wait {
		return slices.DeleteFunc(all, func(x *wait) bool { return x == w })
	}, r.showWaits)
}

// change changes what is waited for and has it shown, one at a time.
func (s *waitList) change(fn func([]*wait) []*wait, show func([]*wait)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	before := len(s.all)
	if s.all = fn(s.all); before > 0 || len(s.all) > 0 {
		show(s.all)
	}
}

// any says whether anything is waited for.
func (s *waitList) any() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.all) > 0
}

// showWaits shows what has been waited for longest, what failed before what takes long; nothing: the run goes on.
func (r *Execution) showWaits(all []*wait) {
	switch {
	case r.Waits == nil:
	case len(all) == 0:
		r.Waits(r.Run.ID, "", false)
	default:
		shown := max(slices.IndexFunc(all, func(w *wait) bool { return !w.slow }), 0)
		r.Waits(r.Run.ID, all[shown].reason, slices.ContainsFunc(all, func(w *wait) bool { return w.away }))
	}
}

// awaited has what is shown of the run say that the database is waited for, and for what, where that takes long, and
// returns what ends that.
func (r *Execution) awaited(what string) (done func()) {
	if r.Waits == nil {
		return func() {}
	}
	long, begun, w := cmp.Or(r.Patient, patient), time.Now(), &wait{slow: true}
	var mu sync.Mutex
	var ended bool
	var timer *time.Timer
	mu.Lock()
	timer = time.AfterFunc(long, func() {
		mu.Lock()
		defer mu.Unlock()
		if ended {
			return
		}
		r.tellWait(w, fmt.Sprintf("waiting for the database for %s: %s", time.Since(begun).Round(time.Second), what),
			false)
		timer.Reset(long)
	})
	mu.Unlock()
	return func() {
		mu.Lock()
		defer mu.Unlock()
		timer.Stop()
		if !ended {
			ended = true
			r.endWait(w)
		}
	}
}
