package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/upkeep"
)

// Jobs are the restores, exports, disposals, verifications, moves, second copies and exports of the audit log that work
// or wait for their turns: so many of each kind work at a time. What there is to do stands in the catalog; no goroutine
// waits for its turn, but for verifications that were paused in the middle.
type Jobs struct {
	*base
	queue   *Queue
	freezes *Freezes

	turning sync.Mutex // one turn is changed at a time

	mu   sync.Mutex
	jobs map[jobName]*job
	said map[catalog.JobKind]string // the last failure of a kind that was logged and is tried again
}

type jobName struct {
	kind catalog.JobKind
	id   string
}

// job is one that works or waits.
type job struct {
	catalog.JobTurn
	JobOrder
	jobWork

	began  time.Time
	cancel context.CancelCauseFunc // nil: it does not work
	done   chan struct{}           // closed when it stops working
	gate   chan struct{}           // of a verification that waits in its middle: closed when its turn has come
	away   bool                    // what it needs does not answer: others work in its place meanwhile

	failed error         // its last try did, and there will be another
	rest   time.Duration // between two tries
	until  time.Time     // it rests until then, by time that passes
	tried  chan struct{} // closed at the end of each try
}

// jobWork is what a job consists of.
type jobWork struct {
	do    func(context.Context) error         // what its context stopped can be done again
	end   func(reason string) error           // keeps that it was cancelled; nil: it cannot be
	again func(context.Context) (wanted bool) // whether it is tried again after it failed; nil: it is not
}

// JobOrder is what a job is to do, and who asked for it.
type JobOrder struct {
	Source, Table string // empty: of any
	What          string // in words
	By            string
	Asked         time.Time
}

// JobInLine is a job that works or waits.
type JobInLine struct {
	catalog.JobTurn
	JobOrder
	Works    bool
	Began    time.Time // of one that works
	Position int       // among those of its kind that wait, from 1; 0: it works
	Why      string    // it waits, beyond that others work
}

// halted is why a job stops that somebody paused or cancelled. It is left as it is, as at the end of the service.
type halted struct{ why string }

func (e *halted) Error() string        { return e.why }
func (e *halted) Is(target error) bool { return target == refuse.ErrShutdown }

// enter puts a job into the queue. What it was told about its turn before holds still.
func (s *Jobs) enter(ctx context.Context, kind catalog.JobKind, id string, o JobOrder,
	w jobWork) (*job, <-chan struct{}) {
	name := jobName{kind, id}
	s.mu.Lock()
	j := s.jobs[name]
	if j != nil {
		j.JobOrder = o // somebody may want it otherwise now
	}
	s.mu.Unlock()
	if j != nil {
		return s.entered(j)
	}
	s.turning.Lock() // or the turn of one that just ends would be this one's: paused, perhaps, and for good
	defer s.turning.Unlock()
	turn, err := s.Catalog.JobTurnOf(ctx, kind, id)
	if err != nil {
		s.Log.Error("the turn of a job cannot be read; it has the usual one", "job", id, "error", err)
	}
	s.mu.Lock()
	if j = s.jobs[name]; j == nil {
		j = &job{JobTurn: turn, JobOrder: o, jobWork: w, tried: make(chan struct{})}
		s.jobs[name] = j
	}
	s.mu.Unlock()
	return s.entered(j)
}

// entered lets a job that is in the queue work if its turn has come. What it returns is closed at the end of its try.
func (s *Jobs) entered(j *job) (*job, <-chan struct{}) {
	s.mu.Lock()
	tried := j.tried
	s.mu.Unlock()
	s.dispatch()
	return j, tried
}

// dispatch lets the jobs work whose turn it is.
func (s *Jobs) dispatch() {
	limits := s.queue.Limits()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx.Err() != nil {
		return
	}
	for _, kind := range catalog.JobKinds {
		working := 0
		var waiting []*job
		for name, j := range s.jobs {
			switch {
			case name.kind != kind:
			case j.works():
				working++
			case s.holds(j) == "" && (j.cancel == nil || j.gate != nil):
				waiting = append(waiting, j)
			}
		}
		slices.SortFunc(waiting, before)
		for _, j := range waiting[:max(0, min(len(waiting), limits.Of(kind)-working))] {
			if j.gate != nil {
				close(j.gate)
				j.gate = nil
				continue
			}
			s.begin(j)
		}
	}
}

// works says whether a job takes one of the places of its kind.
func (j *job) works() bool { return j.cancel != nil && j.gate == nil && !j.away }

// before orders jobs of a kind that wait: by priority, the oldest first.
func before(a, b *job) int {
	return cmp.Or(b.Priority-a.Priority, a.Asked.Compare(b.Asked), cmp.Compare(a.ID, b.ID))
}

// holds says why a job cannot work even where a place is free; empty: it can.
func (s *Jobs) holds(j *job) string {
	if j.PausedAt != nil {
		return "paused by " + j.PausedBy
	}
	if !j.Kind.InArchive() { // archived files are not frozen
		if frozen := s.freezes.over(j.Source, j.Table); frozen != nil {
			return frozen.Error()
		}
	}
	if why := s.unquiet(j); why != "" {
		return why
	}
	if j.failed != nil && time.Now().Before(j.until) {
		var again *upkeep.AgainError
		if errors.As(j.failed, &again) {
			return again.Err.Error()
		}
		return j.failed.Error()
	}
	return ""
}

// begin lets a job work. The lock is held.
func (s *Jobs) begin(j *job) {
	ctx, cancel := context.WithCancelCause(s.ctx)
	j.cancel, j.done, j.began = cancel, make(chan struct{}), time.Now()
	s.wait.Add(1)
	go func() {
		defer s.wait.Done()
		err := j.do(ctx)
		stopped := ctx.Err() != nil && err != nil // and left as it is
		again := err != nil && !stopped && j.again != nil && j.again(ctx)
		if stopped {
			err = context.Cause(ctx)
		}
		s.turning.Lock()
		s.mu.Lock()
		j.cancel, j.gate, j.away, j.failed = nil, nil, false, err
		switch {
		case again:
			s.restAfter(j)
		case !stopped:
			delete(s.jobs, jobName{j.Kind, j.ID})
			if err == nil {
				delete(s.said, j.Kind)
			}
		}
		close(j.done)
		close(j.tried)
		if stopped = stopped || again; stopped {
			j.tried = make(chan struct{})
		}
		s.mu.Unlock()
		cancel(nil)
		if !stopped {
			if err := s.Catalog.EndJobTurn(context.WithoutCancel(ctx), j.Kind, j.ID); err != nil {
				s.Log.Error("the turn of a job that has ended cannot be forgotten", "job", j.ID, "error", err)
			}
		}
		s.turning.Unlock()
		s.dispatch()
	}()
}

// A job that failed and is tried again rests in between, longer each time.
const firstRest, longestRest = 2 * time.Second, time.Minute

// restAfter lets a job that failed rest before it is tried again. The lock is held.
func (s *Jobs) restAfter(j *job) {
	j.rest = min(max(2*j.rest, firstRest), longestRest)
	j.until = time.Now().Add(j.rest)
	time.AfterFunc(j.rest, s.dispatch)
	if said := j.failed.Error(); said != s.said[j.Kind] { // once, and again when it is another thing
		s.said[j.Kind] = said
		s.Log.Error("a job failed and is tried again", "kind", j.Kind, "job", j.ID, "error", j.failed)
	}
}

// lend lets others work in a job's place for as long as what it needs does not answer.
func (s *Jobs) lend(kind catalog.JobKind, id string, away bool) {
	s.mu.Lock()
	j := s.jobs[jobName{kind, id}]
	changed := j != nil && j.away != away
	if changed {
		j.away = away
	}
	s.mu.Unlock()
	if changed && away {
		s.dispatch()
	}
}

// freeze stops the jobs at work that freezes cover. They wait until those are lifted.
func (s *Jobs) freeze() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, j := range s.jobs {
		if j.cancel == nil || j.Kind.InArchive() {
			continue
		}
		if frozen := s.freezes.over(j.Source, j.Table); frozen != nil {
			j.cancel(frozen)
		}
	}
}

// Line lists the jobs that work and those that wait: by kind, in the order of their turns.
func (s *Jobs) Line() []JobInLine {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []JobInLine
	for _, kind := range catalog.JobKinds {
		var works, waits []*job
		for name, j := range s.jobs {
			if name.kind == kind && j.works() {
				works = append(works, j)
			} else if name.kind == kind {
				waits = append(waits, j)
			}
		}
		slices.SortFunc(works, func(a, b *job) int {
			return cmp.Or(a.Asked.Compare(b.Asked),
				cmp.Compare(a.ID, b.ID))
		})
		slices.SortFunc(waits, before)
		for _, j := range works {
			out = append(out, JobInLine{JobTurn: j.JobTurn, JobOrder: j.JobOrder, Works: true,
				Began: j.began})
		}
		for i, j := range waits {
			why := s.holds(j)
			if why == "" && j.away {
				why = "what it needs does not answer"
			}
			out = append(out, JobInLine{JobTurn: j.JobTurn, JobOrder: j.JobOrder, Position: i + 1, Why: why})
		}
	}
	return out
}

// kindsInWords names the kinds of jobs as a person writes them.
const kindsInWords = "restore, export, disposal, verification, move, copy or audit"

// find returns a job; an error that says so where it neither works nor waits.
func (s *Jobs) find(kind catalog.JobKind, id string) (*job, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !slices.Contains(catalog.JobKinds, kind) {
		return nil, &refuse.Error{Field: "kind", Message: fmt.Sprintf("%q is no kind of job", kind),
			Remedy: "write " + kindsInWords}
	}
	if j := s.jobs[jobName{kind, id}]; j != nil {
		return j, nil
	}
	return nil, fmt.Errorf("%s %s neither works nor waits: %w", kind, id, catalog.ErrState)
}

// turn changes the turn of a job, and keeps that.
func (s *Jobs) turn(ctx context.Context, actor, did string, kind catalog.JobKind, id string,
	change func(*catalog.JobTurn) error) (*job, error) {
	s.turning.Lock()
	defer s.turning.Unlock()
	j, err := s.find(kind, id)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	t := j.JobTurn
	s.mu.Unlock()
	if err := change(&t); err != nil {
		return nil, err
	}
	if err := s.Catalog.SetJobTurn(ctx, actor, did, t); err != nil {
		return nil, err
	}
	s.mu.Lock()
	j.JobTurn = t
	s.mu.Unlock()
	return j, nil
}

// Pause stops a job, which waits until it is resumed.
func (s *Jobs) Pause(ctx context.Context, actor string, kind catalog.JobKind, id string) error {
	j, err := s.turn(ctx, actor, "pause", kind, id, func(t *catalog.JobTurn) error {
		if t.PausedAt != nil {
			return fmt.Errorf("%s %s is paused already: %w", kind, id, catalog.ErrState)
		}
		now := catalog.At(s.Now())
		t.PausedAt, t.PausedBy = &now, actor
		return nil
	})
	if err != nil || kind == catalog.JobVerification { // that one stops at its next segment
		return err
	}
	return s.halt(ctx, j, "paused by "+actor)
}

// halt stops a job at work, and waits until it has stopped, for a while.
func (s *Jobs) halt(ctx context.Context, j *job, why string) error {
	s.mu.Lock()
	cancel, done := j.cancel, j.done
	s.mu.Unlock()
	if cancel == nil {
		return nil
	}
	cancel(&halted{why})
	select {
	case <-done:
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(interruptBudget): // it stops all the same
	}
	return nil
}

// Resume lets a paused job go on when its turn comes.
func (s *Jobs) Resume(ctx context.Context, actor string, kind catalog.JobKind, id string) error {
	_, err := s.turn(ctx, actor, "resume", kind, id, func(t *catalog.JobTurn) error {
		if t.PausedAt == nil {
			return fmt.Errorf("%s %s is not paused: %w", kind, id, catalog.ErrState)
		}
		t.PausedAt, t.PausedBy = nil, ""
		return nil
	})
	s.dispatch()
	return err
}

// SetPriority changes which of the jobs of a kind that wait goes first.
func (s *Jobs) SetPriority(ctx context.Context, actor string, kind catalog.JobKind, id string, priority int) error {
	if err := plan.CheckPriority(priority); err != nil {
		return err
	}
	_, err := s.turn(ctx, actor, "priority", kind, id, func(t *catalog.JobTurn) error {
		t.Priority = priority
		return nil
	})
	s.dispatch()
	return err
}

// Cancel ends a job. What it has done stays.
func (s *Jobs) Cancel(ctx context.Context, actor string, kind catalog.JobKind, id string) error {
	if j, err := s.find(kind, id); err == nil && j.end == nil {
		return &refuse.Error{
			Field:   "job",
			Message: "a second copy is wanted for as long as its store or rule says so",
			Remedy:  "pause it, or name no second store any more (`ambercellar store set`)",
		}
	}
	// Paused first, so that it does not begin again once it has stopped.
	j, err := s.turn(ctx, actor, "cancel", kind, id, func(t *catalog.JobTurn) error {
		now := catalog.At(s.Now())
		t.PausedAt, t.PausedBy = &now, actor
		return nil
	})
	if err != nil {
		return err
	}
	if err := s.halt(ctx, j, "cancelled by "+actor); err != nil {
		return err
	}
	there, works, err := s.remove(ctx, j)
	switch {
	case works:
		return fmt.Errorf("%s %s is paused, and stops as soon as the step that it is in the midst of comes back; "+
			"cancel it then: %w", kind, id, catalog.ErrState)
	case err == nil && !there:
		err = fmt.Errorf("%s %s had ended before it could be cancelled: %w", kind, id, catalog.ErrState)
	case there:
		err = errors.Join(err, j.end("cancelled by "+actor))
	}
	return err
}

// remove takes a job that does not work out of the queue, and forgets its turn in the same step: one of that name that
// is asked for next has the usual one. It says whether the job was there, and whether it works and stays.
func (s *Jobs) remove(ctx context.Context, j *job) (there, works bool, err error) {
	s.turning.Lock()
	defer s.turning.Unlock()
	s.mu.Lock()
	now := s.jobs[jobName{j.Kind, j.ID}]
	there, works = now == j, j.cancel != nil
	if there && !works {
		delete(s.jobs, jobName{j.Kind, j.ID})
	}
	s.mu.Unlock()
	if works || now != nil && !there { // the turn is that of another by now
		return there, works, nil
	}
	return there, works, s.Catalog.EndJobTurn(ctx, j.Kind, j.ID)
}

// passes is asked by a verification before each segment: one that is paused waits there, and others of its kind work;
// one that nobody asked for waits a while for a quiet hour.
func (s *Jobs) passes(ctx context.Context, verification string) error {
	s.mu.Lock()
	j := s.jobs[jobName{catalog.JobVerification, verification}]
	if j == nil {
		s.mu.Unlock()
		return s.slowly(ctx)
	}
	if j.PausedAt == nil {
		s.mu.Unlock()
		return nil
	}
	if j.gate == nil {
		j.gate = make(chan struct{})
	}
	gate := j.gate
	s.mu.Unlock()
	s.dispatch()
	select {
	case <-gate:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}
