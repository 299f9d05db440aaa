package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// Queue carries out runs, restores, disposals and verifications in the background.
type Queue struct {
	*base
	places   *Places
	lineages *Lineages
	notifier *Notifier
	freezes  *Freezes

	conditions *Conditions
	jobs       *Jobs

	mu      sync.Mutex
	limits  QueueLimits
	active  map[string]*activeRun
	looking map[string]*lookout // by run: of those that wait for what does not answer
}

// takeUp starts again what an earlier start of the service left unfinished.
func (s *Queue) takeUp(ctx context.Context) error {
	runs, err := s.Catalog.RunsIn(ctx, catalog.Running, catalog.Queued)
	if err != nil {
		return err
	}
	for i := range runs {
		s.Log.Info("taking up a run", "run", runs[i].ID, "rule", runs[i].Rule, "state", runs[i].State)
		s.add(&runs[i])
	}
	s.dispatch()
	disposals, err := s.Catalog.DisposalsIn(ctx, catalog.Disposing)
	if err != nil {
		return err
	}
	for i := range disposals {
		s.Log.Info("taking up a disposal", "disposal", disposals[i].ID)
		s.dispose(&disposals[i])
	}
	verifications, err := s.Catalog.Verifications(ctx, catalog.First(1000))
	if err != nil {
		return err
	}
	for i := range verifications {
		v := &verifications[i]
		if v.State != catalog.Verifying {
			continue
		}
		if v.Of == 0 && v.Segments == 0 { // its turn had not come
			s.verify(v)
			continue
		}
		now := catalog.At(s.Now())
		v.State, v.EndedAt, v.Reason = catalog.VerificationFailed, &now,
			"the service stopped while it went on; ask for it again"
		if err := s.Catalog.SaveVerification(ctx, v); err != nil {
			return err
		}
	}
	// of tries that were killed; each makes its own
	stale, err := filepath.Glob(filepath.Join(s.restoreDirectory(), "seen-*"))
	for _, file := range stale {
		err = errors.Join(err, os.Remove(file))
	}
	if err != nil {
		return err
	}
	restores, err := s.Catalog.RestoresIn(ctx, catalog.Restoring)
	for i := range restores {
		s.Log.Info("taking up a restore", "restore", restores[i].ID)
		s.restore(&restores[i])
	}
	return err
}

// StartRun makes a run of a plan and puts it into the queue.
func (s *Queue) StartRun(ctx context.Context, actor, plan string, empty bool, turn ...catalog.RunTurn) (*catalog.Run,
	error) {
	r, err := s.Engine.Plans.Start(ctx, actor, plan, empty, turn...)
	if err != nil {
		return nil, err
	}
	copied := r.Clone()
	s.launch(r)
	return copied, nil
}

// launch puts a run into the queue: it is carried out in the background when its turn comes.
func (s *Queue) launch(r *catalog.Run) {
	s.add(r)
	s.dispatch()
}

// add puts a run into the queue, and lets nobody begin yet.
func (s *Queue) add(r *catalog.Run) {
	ctx, cancel := context.WithCancelCause(s.ctx)
	a := &activeRun{run: r, cancel: cancel, latest: r.Clone(), reason: r.Reason,
		listeners: map[chan *catalog.Run]bool{}, done: make(chan struct{}), ctx: ctx}
	s.mu.Lock()
	s.active[r.ID] = a
	delete(s.looking, r.ID)
	s.mu.Unlock()
	if r.Cancelling { // since before the service stopped, perhaps
		s.stopRun(a, refuse.ErrCancel)
	}
}

// execute carries out a run whose turn has come, or that is to stop before that.
func (s *Queue) execute(a *activeRun) {
	defer s.wait.Done()
	defer a.cancel(nil)
	r := a.run
	err := s.carryOut(a.ctx, a, r)
	now := s.conclude(a, r, err)
	close(a.done)
	if now != nil {
		soon, cancel := context.WithTimeout(s.ctx, tellBudget) // the database may be what it stopped for
		defer cancel()
		s.Engine.Runs.Tell(soon, now)
	}
}

// tellBudget is how long the source has to take in what became of a run.
const tellBudget = 10 * time.Second

func (s *Queue) carryOut(ctx context.Context, a *activeRun, r *catalog.Run) (err error) {
	defer func() { // stopped before it had begun with anything
		if cause := context.Cause(ctx); errors.Is(err, context.Canceled) &&
			(errors.Is(cause, refuse.ErrPause) || errors.Is(cause, refuse.ErrShutdown)) {
			err = cause
		}
	}()
	defer s.giveSlot(a, false)
	// A run that has begun and is cancelled still has its open segments to close.
	if ctx.Err() != nil && !(r.StartedAt != nil && errors.Is(context.Cause(ctx), refuse.ErrCancel)) {
		return context.Cause(ctx)
	}
	if r.State != catalog.Running {
		// also one that is only to be closed
		running, err := s.Catalog.SetRunState(context.WithoutCancel(ctx), "service", r.ID, catalog.Running, "")
		if err != nil {
			return err
		}
		r.State, r.StartedAt, r.Reason = running.State, running.StartedAt, ""
		s.publish(r)
	}
	s.Log.Info("run begins", "run", r.ID, "rule", r.Rule, "due", r.Due, "cutoff", r.Cutoff.Time)
	return s.Engine.Runs.Run(ctx, r)
}

// conclude gives a run the state that follows from how its execution stopped, and tells everyone who listens. It
// returns the run as it is then, nil where that could not be kept. From the moment at which it is kept, the run can be
// taken up again, as an execution of its own.
func (s *Queue) conclude(a *activeRun, r *catalog.Run, err error) *catalog.Run {
	ctx := context.Background()
	to, reason, actor := catalog.Done, "", "service"
	s.lineages.heldBy(r.Source, r.Table, err)
	var resting *refuse.Resting
	var stopped *refuse.Stopped
	var waiting *tables.Waiting
	var frozen *refuse.Frozen
	var unmet *refuse.Unmet
	switch {
	case err == nil:
	case errors.Is(err, refuse.ErrCopied):
		to, reason = catalog.Copied, "copied and verified; nothing is deleted until `ambercellar run delete "+r.ID+"`"
		if r.DeleteAt != nil {
			reason = "copied and verified; the rows are deleted on " + r.DeleteAt.Format(time.RFC3339) +
				", or earlier by `ambercellar run delete " + r.ID + "`"
		}
	case errors.As(err, &unmet):
		to, reason = catalog.Resting, unmet.Reason
	case errors.As(err, &frozen):
		to, reason = catalog.Resting, fmt.Sprintf("%s is frozen (%s); it goes on when the freeze is lifted",
			frozen.Where, frozen.Reason)
	case errors.Is(err, refuse.ErrShutdown):
		s.Log.Info("run rests until the next start", "run", r.ID)
		s.finish(a, r)
		return nil
	case errors.As(err, &resting):
		to, reason = catalog.Resting, resting.Reason
	case errors.As(err, &waiting):
		to, reason = catalog.Resting, waiting.Reason+"; it goes on by itself when that is back"
	case errors.As(err, &stopped):
		to, reason = catalog.Paused, stopped.Reason
	case errors.Is(err, refuse.ErrPause):
		actor = refuse.Whose(err)
		to, reason = catalog.Paused, "paused by "+actor
	case errors.Is(err, refuse.ErrCancel):
		if to, reason, actor = catalog.Cancelled, "cancelled", refuse.Whose(err); actor != "service" {
			reason += " by " + actor
		}
	default:
		s.lineages.disagrees(err)
		to, reason = catalog.Failed, err.Error()
		s.Log.Error("run stopped", "run", r.ID, "error", err)
	}
	var now *catalog.Run
	keep := func() (*catalog.Run, error) { return s.Catalog.SetRunState(ctx, actor, r.ID, to, reason) }
	if to == catalog.Failed && triesAgain(r, err) {
		at := s.Now().Add(firstRunRetry << r.Retries)
		to = catalog.Resting
		reason = fmt.Sprintf("it failed, and is tried again at %s (%d of %d): %s", at.UTC().Format(time.RFC3339),
			r.Retries+1, runRetries, reason)
		keep = func() (*catalog.Run, error) { return s.Catalog.RetryRun(ctx, r.ID, reason, at) }
	}
	if unmet != nil {
		keep = func() (*catalog.Run, error) {
			return s.Catalog.Unmet(ctx, r.ID, reason, unmet.Again)
		}
	}
	err = s.insist("run "+r.ID, func() (err error) {
		if now, err = keep(); err != nil {
			r.Reason = fmt.Sprintf("it is %s, which cannot be kept: %v", to, err)
			s.publish(r)
		}
		return err
	})
	if err != nil {
		s.finish(a, r)
		return nil
	}
	s.Log.Info("run "+string(to), "run", r.ID, "deleted", now.Deleted, "not deleted", now.LeftOut())
	s.finish(a, now)
	return now
}

// A scheduled run that failed is tried again by itself so often, the first time after a pause that doubles each time.
const (
	runRetries    = 5
	firstRunRetry = 5 * time.Minute
)

// triesAgain says whether a run that failed is tried again by itself.
func triesAgain(r *catalog.Run, err error) bool {
	return r.Scheduled != nil && r.Retries < runRetries && !r.Cancelling && !lasting(err)
}

// insist keeps in the catalog what became of something, for as long as that takes: the disk of the data directory may
// be full. It gives up where the service ends, whose next start takes the thing up again.
func (s *Queue) insist(what string, keep func() error) error {
	for wait := firstWait; ; wait = min(2*wait, longWait) {
		err := keep()
		if err == nil {
			return nil
		}
		s.Log.Error("what became of it cannot be kept", "of", what, "error", err)
		if errors.Is(err, catalog.ErrState) || s.ctx.Err() != nil {
			return err
		}
		select {
		case <-s.ctx.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// insisted reads a record of the catalog, for as long as that takes; what is not there, it does not wait for.
func insisted[T any](ctx context.Context, s *Queue, what string, read func(context.Context, string) (T, error),
	id string) (v T, err error) {
	missing := s.insist(what+" "+id, func() error {
		if v, err = read(ctx, id); errors.Is(err, catalog.ErrNotFound) || ctx.Err() != nil {
			return nil
		}
		return err
	})
	if ctx.Err() != nil {
		return v, context.Cause(ctx)
	}
	return v, errors.Join(err, missing)
}

// Waits between tries to keep something.
const firstWait, longWait = time.Second, 30 * time.Second

// finish shows an execution of a run for the last time and lets its listeners go. Another one may have begun
// meanwhile.
func (s *Queue) finish(a *activeRun, r *catalog.Run) {
	copied := r.Clone()
	s.mu.Lock()
	defer s.mu.Unlock()
	a.show(copied)
	for l := range a.listeners {
		close(l)
	}
	a.listeners = map[chan *catalog.Run]bool{}
	if s.active[r.ID] == a {
		delete(s.active, r.ID)
	}
}

// publish hands a run's newest counts to all who listen.
func (s *Queue) publish(r *catalog.Run) {
	copied := r.Clone()
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.active[r.ID]; a != nil {
		a.show(copied)
	}
}

// waits shows what a run waits for; empty: it goes on. For as long as what it waits for does not answer, another run
// works in its place.
func (s *Queue) waits(run, reason string, away bool) {
	s.mu.Lock()
	a := s.active[run]
	if a != nil && a.waits != reason {
		a.waits = reason
		latest := a.latest.Clone()
		latest.Reason = a.reason
		a.show(latest)
	}
	lends, back := a != nil && away && a.slot, a != nil && reason == "" && a.lent
	s.mu.Unlock()
	if lends {
		s.giveSlot(a, true)
	} else if back {
		s.takeSlot(a)
	}
}

// show hands a run's newest counts to those who listen to an execution. A listener that is slow misses some, never the
// newest.
func (a *activeRun) show(r *catalog.Run) {
	a.reason = r.Reason
	if a.waits != "" && r.State == catalog.Running {
		r.Reason = a.waits
	}
	a.latest = r
	for l := range a.listeners {
		select {
		case <-l:
		default:
		}
		l <- r
	}
}

// Listen returns a channel that carries a run's newest counts until it stops, and a function to stop listening. Of a
// run that is not going on, the channel is closed already.
func (s *Queue) Listen(id string) (<-chan *catalog.Run, func()) {
	l := make(chan *catalog.Run, 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	a := s.active[id]
	if a == nil {
		close(l)
		return l, func() {}
	}
	a.listeners[l] = true
	l <- a.latest
	return l, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(a.listeners, l)
	}
}

// Run returns a run with its newest counts.
func (s *Queue) Run(ctx context.Context, id string) (*catalog.Run, error) {
	r, err := s.Catalog.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.active[id]; a != nil && r.State == catalog.Running && a.latest.State == catalog.Running {
		latest := *a.latest
		return &latest, nil
	}
	return r, nil
}

// Pause stops a run after its current batch; Resume goes on from there.
func (s *Queue) Pause(ctx context.Context, actor, id string) (*catalog.Run, error) {
	return s.interrupt(ctx, actor, id, refuse.ErrPause)
}

// Cancel ends a run after its current batch. What was archived stays archived; rows not reached stay live.
func (s *Queue) Cancel(ctx context.Context, actor, id string) (*catalog.Run, error) {
	r, err := s.Catalog.Cancelling(ctx, actor, id)
	if err != nil {
		return nil, err
	}
	if r.State == catalog.Paused || r.State == catalog.Failed || r.State == catalog.Copied ||
		r.State == catalog.Resting {
		// Its open segments are closed by an execution that is cancelled from the start.
		if r, err = s.Catalog.SetRunState(ctx, actor, id, catalog.Running, "being cancelled"); err != nil {
			return nil, err
		}
		s.launch(r)
	}
	return s.interrupt(ctx, actor, id, refuse.ErrCancel)
}

// interruptBudget is how long whoever stops a run waits until it has stopped. It stops all the same where what it is
// in the midst of takes longer.
const interruptBudget = 40 * time.Second

// interrupt stops a run for a cause, at the wish of somebody, and waits until it has stopped.
func (s *Queue) interrupt(ctx context.Context, actor, id string, cause error) (*catalog.Run, error) {
	a, r, err := s.takenUp(ctx, id)
	if err != nil {
		return nil, err
	}
	if a == nil {
		if r.State == catalog.Resting && errors.Is(cause, refuse.ErrPause) { // it does not go on by itself any more
			return s.Catalog.SetRunState(ctx, actor, id, catalog.Paused, "paused by "+actor)
		}
		return nil, fmt.Errorf("run %s is %s: %w", id, r.State, catalog.ErrState)
	}
	s.stopRun(a, &refuse.By{Cause: cause, Who: actor})
	select {
	case <-a.done:
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(interruptBudget):
		r, err := s.Run(ctx, id)
		if err == nil {
			r.Reason = "it stops as soon as the step that it is in the midst of comes back"
			if a := s.waitsFor(id); a != "" {
				r.Reason += "; " + a
			}
		}
		return r, err
	}
	return s.Catalog.Run(ctx, id)
}

// takeUpBudget is how long it may take until a run that the catalog has as queued or at work is in the queue.
const takeUpBudget = 5 * time.Second

// takenUp returns a run's execution; nil: it has none, and is as the catalog has it. One that is made in this moment is
// in the catalog before it is in the queue.
func (s *Queue) takenUp(ctx context.Context, id string) (*activeRun, *catalog.Run, error) {
	for begun := time.Now(); ; {
		s.mu.Lock()
		a := s.active[id]
		s.mu.Unlock()
		if a != nil {
			return a, nil, nil
		}
		r, err := s.Catalog.Run(ctx, id)
		if err != nil || r.State != catalog.Queued && r.State != catalog.Running || time.Since(begun) > takeUpBudget {
			return nil, r, err
		}
		if err := source.Rest(ctx, 20*time.Millisecond); err != nil {
			return nil, nil, err
		}
	}
}

// waitsFor tells what a run waits for just now.
func (s *Queue) waitsFor(id string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.active[id]; a != nil {
		return a.waits
	}
	return ""
}

// Resume puts a paused or failed run back into the queue.
func (s *Queue) Resume(ctx context.Context, actor, id string) (*catalog.Run, error) {
	r, err := s.Catalog.SetRunState(ctx, actor, id, catalog.Queued, "")
	if err != nil {
		return nil, err
	}
	copied := r.Clone()
	s.launch(r)
	return copied, nil
}

// Delete decides that the rows of a run that copied them go now: those that still are what was copied.
func (s *Queue) Delete(ctx context.Context, actor, id string) (*catalog.Run, error) {
	r, err := s.Catalog.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.State != catalog.Copied {
		return nil, fmt.Errorf("run %s is %s; only rows of a run that is copied wait for this: %w", id, r.State,
			catalog.ErrState)
	}
	r.Deleting, r.DeleteAt = true, nil
	if err := s.Catalog.SaveProgress(ctx, r, catalog.Progress{}); err != nil {
		return nil, err
	}
	if r, err = s.Catalog.SetRunState(ctx, actor, id, catalog.Queued, ""); err != nil {
		return nil, err
	}
	copied := r.Clone()
	s.launch(r)
	return copied, nil
}

// goOnWaiting deletes copied rows when the time that their clause gave has passed, and lets resting runs go on.
func (s *Queue) goOnWaiting(ctx context.Context) (next time.Time, err error) {
	next = s.dispatch()
	runs, err := s.Catalog.RunsIn(ctx, catalog.Copied, catalog.Resting)
	for _, r := range runs {
		at := r.ResumeAt
		if r.State == catalog.Copied {
			at = r.DeleteAt
		}
		switch {
		case r.State == catalog.Resting && s.freezes.over(r.Source, r.Table) != nil:
		case r.State == catalog.Resting && at != nil && r.UnmetSince != nil && !s.Now().Before(at.Time):
			next = sooner(next, s.lookOut(&r))
		case at == nil && r.State == catalog.Resting:
			next = sooner(next, s.lookOut(&r))
		case at == nil: // somebody decides
		case s.Now().Before(at.Time):
			next = sooner(next, at.Time)
		case r.State == catalog.Resting:
			s.Log.Info("the window of a resting run opens", "run", r.ID)
			// somebody was first
			if _, one := s.Resume(ctx, "service", r.ID); one != nil && !errors.Is(one, catalog.ErrState) {
				err = errors.Join(err, fmt.Errorf("run %s cannot go on: %w", r.ID, one))
			}
		default:
			s.Log.Info("the time of copied rows has come", "run", r.ID)
			if _, one := s.Delete(ctx, "service", r.ID); one != nil && !errors.Is(one, catalog.ErrState) {
				err = errors.Join(err, fmt.Errorf("the copied rows of run %s cannot be deleted: %w", r.ID, one))
			}
		}
	}
	return next, err
}
