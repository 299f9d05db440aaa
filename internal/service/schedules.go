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
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Schedules fire: at the moments that rules' schedules say, they plan and start runs.
type Schedules struct {
	*base
	health  *Health
	queue   *Queue
	freezes *Freezes

	ticking sync.Mutex // one looks at a time

	mu     sync.Mutex
	mark   string // of the rules as they were read
	rules  map[string]*scheduledRule
	firing map[string]bool // by source: where a firing is being carried out
}

// scheduledRule is a rule with a schedule, and when it fires next.
type scheduledRule struct {
	catalog.Scheduled
	times rule.Schedule
	zone  *time.Location
	next  time.Time // zero: never again
}

const (
	// late is how long after its time a firing still counts as on time.
	late = 5 * time.Minute
	// setBack is by how much the clock may be set back so that what has fired is waited for, and does not fire twice.
	setBack = 25 * time.Hour
	// mostMissed is how many missed firings are counted one by one.
	mostMissed = 1000
	// firingTries is how often a firing is tried for which something does not answer, and the pauses between.
	firingTries               = 8
	firstRetry, longestRetry  = time.Minute, 30 * time.Minute
	looksAtLeast, looksAtMost = 30 * time.Second, 200 * time.Millisecond
)

// keep fires when it is time, for as long as the service runs.
func (s *Schedules) keep() {
	defer s.wait.Done()
	said := ""
	for {
		changed := s.Catalog.Changed()
		next, err := s.Tick(s.ctx)
		s.health.beat("schedules")
		if err != nil && s.ctx.Err() == nil && err.Error() != said {
			said = err.Error()
			s.Log.Error("schedules cannot be kept", "error", err)
		} else if err == nil {
			said = ""
		}
		wait := looksAtLeast
		if !next.IsZero() {
			wait = max(min(wait, next.Sub(s.Now())), looksAtMost)
		}
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(wait):
		case <-changed: // batches write many times a second
			select {
			case <-s.ctx.Done():
				return
			case <-time.After(min(wait, time.Second)):
			}
		}
	}
}

// Next says when each rule with a schedule fires next.
func (s *Schedules) Next() map[string]time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]time.Time{}
	for name, r := range s.rules {
		if !r.next.IsZero() {
			out[name] = r.next
		}
	}
	return out
}

// Tick fires what is due, carries out what was fired, and returns when to look again.
func (s *Schedules) Tick(ctx context.Context) (next time.Time, err error) {
	s.ticking.Lock()
	defer s.ticking.Unlock()
	if err := s.read(ctx); err != nil {
		return next, err
	}
	now := s.Now()
	s.mu.Lock()
	var due, ahead []*scheduledRule
	for _, r := range s.rules {
		if r.FiredTo != nil && r.FiredTo.Sub(now) > setBack {
			ahead = append(ahead, r)
		}
		if r.next.IsZero() || r.Off {
			continue
		}
		if r.next.After(now) {
			next = sooner(next, r.next)
		} else {
			due = append(due, r)
		}
	}
	s.mu.Unlock()
	for _, r := range ahead {
		s.Log.Warn("the clock had been ahead, and is set back: a rule fires again from now on", "rule", r.Rule,
			"fired to", r.FiredTo.Time)
		if err := s.Catalog.ClockWasAhead(ctx, r.Rule); err != nil {
			return next, err
		}
		s.mu.Lock()
		s.mark = "" // they are read anew
		s.mu.Unlock()
		next = sooner(next, now)
	}
	for _, r := range due {
		at, one := s.fire(ctx, r, now)
		err = errors.Join(err, one)
		next = sooner(next, at)
	}
	again, one := s.carryOutDue(ctx)
	return sooner(next, again), errors.Join(err, one)
}

// read reads the rules anew where they have changed.
func (s *Schedules) read(ctx context.Context) error {
	mark, err := s.Catalog.Revised(ctx)
	s.mu.Lock()
	same := mark == s.mark
	s.mu.Unlock()
	if err != nil || same {
		return err
	}
	list, err := s.Catalog.ScheduledRules(ctx)
	if err != nil {
		return err
	}
	named, err := s.Engine.Plans.Schedules(ctx)
	if err != nil {
		return err
	}
	rules := map[string]*scheduledRule{}
	for _, x := range list {
		r := &scheduledRule{Scheduled: x, zone: time.UTC}
		if zone, err := time.LoadLocation(x.Zone); err == nil {
			r.zone = zone
		}
		var ok bool
		if r.times, ok = x.Times.V.Resolved(named); ok {
			from := x.Applied.Time
			if x.FiredTo != nil {
				from = x.FiredTo.Time
			}
			r.next = r.times.Next(from, r.zone)
		}
		rules[x.Rule] = r
	}
	s.mu.Lock()
	s.rules, s.mark = rules, mark
	s.mu.Unlock()
	return nil
}

// fire keeps that a rule fires, and returns when it does so next. Of firings that were missed, the last stands for
// all.
func (s *Schedules) fire(ctx context.Context, r *scheduledRule, now time.Time) (next time.Time, err error) {
	at, missed := r.next, 0
	for ; missed < mostMissed; missed++ {
		further := r.times.Next(at, r.zone)
		if further.IsZero() || further.After(now) {
			break
		}
		at = further
	}
	if missed == mostMissed { // a long time: the moment before now that its schedule names
		at = s.lastBefore(r, at, now)
	}
	f := &catalog.Firing{Rule: r.Rule, At: catalog.At(at), Source: r.Source, Table: r.Table, State: catalog.FiringDue,
		Missed: missed}
	if missed > 0 || now.Sub(at) > late {
		f.Reason = fmt.Sprintf("its time had passed by %s when the service could act", now.Sub(at).Round(time.Second))
		if r.times.Missed == rule.MissedSkip {
			f.State, f.Reason = catalog.FiringSkipped, f.Reason+"; the schedule skips what was missed"
		}
	}
	if off, err := s.offSchedule(ctx, r.Rule, at); err != nil {
		return now.Add(time.Second), err
	} else if off != nil {
		f.State, f.Reason = catalog.FiringSkipped, fmt.Sprintf("the rule is off its schedule since %s, by %s: %s",
			off.PlacedAt.Format(time.RFC3339), off.PlacedBy, off.Reason)
	}
	first, err := s.Catalog.Fire(ctx, f)
	if err != nil {
		return now.Add(time.Second), fmt.Errorf("rule %s fired at %s, which cannot be kept: %w", r.Rule,
			at.Format(time.RFC3339), err)
	}
	if first {
		s.Log.Info("a rule fires", "rule", r.Rule, "at", at, "missed", missed, "state", f.State)
	}
	next = r.times.Next(at, r.zone)
	s.mu.Lock()
	r.next, r.FiredTo = next, &f.At
	s.mu.Unlock()
	return next, nil
}

// lastBefore is the last firing up to now, found by halving the time since at.
func (s *Schedules) lastBefore(r *scheduledRule, at, now time.Time) time.Time {
	low := at
	for high := now; high.Sub(low) > time.Minute; {
		middle := low.Add(high.Sub(low) / 2)
		if next := r.times.Next(middle, r.zone); next.IsZero() || next.After(now) {
			high = middle
		} else {
			low = next
		}
	}
	return low
}

// carryOutDue carries out the firings that were kept, those of different sources side by side, and returns when to
// look again.
func (s *Schedules) carryOutDue(ctx context.Context) (next time.Time, err error) {
	due, err := s.Catalog.DueFirings(ctx)
	if err != nil {
		return next, err
	}
	now := s.Now()
	for i := range due {
		f := &due[i]
		if f.NextTry != nil && now.Before(f.NextTry.Time) {
			next = sooner(next, f.NextTry.Time)
			continue
		}
		if s.freezes.over(f.Source, f.Table) != nil {
			continue // until it is lifted, which writes to the catalog
		}
		s.mu.Lock()
		busy := s.firing[f.Source]
		s.firing[f.Source] = true
		s.mu.Unlock()
		if busy {
			continue // when the one before is done, the catalog has changed
		}
		s.wait.Add(1)
		go func() {
			defer s.wait.Done()
			err := s.carryOut(s.ctx, f)
			s.mu.Lock()
			delete(s.firing, f.Source)
			s.mu.Unlock()
			if err != nil && s.ctx.Err() == nil {
				s.Log.Error("a firing cannot be carried out", "rule", f.Rule, "at", f.At.Time, "error", err)
			}
		}()
	}
	return next, nil
}

// carryOut plans what a firing takes and starts its run.
func (s *Schedules) carryOut(ctx context.Context, f *catalog.Firing) error {
	r, err := s.Catalog.Rule(ctx, f.Rule)
	if err != nil {
		return err
	}
	body := &r.Body.V
	if body.Off || body.Schedule == nil && f.AskedBy == "" {
		return s.ends(ctx, f, catalog.FiringSkipped, "the rule is not enabled any more, or has no schedule")
	}
	runs, err := s.Catalog.UnendedOf(ctx, r.Source, r.Table)
	if err != nil {
		return err
	}
	if len(runs) > 0 {
		return s.ends(ctx, f, catalog.FiringSkipped, fmt.Sprintf("run %s of the table had not ended (it is %s)",
			runs[0].ID,
			runs[0].State))
	}
	p, err := s.plan(ctx, f, body)
	if err != nil {
		return s.failed(ctx, f, err)
	}
	f.Plan, f.Due, f.NextTry = p.ID, p.Counts.V.Due, nil
	if f.Tries > 0 { // what kept it from that is over
		f.Reason = ""
	}
	if f.Due == 0 {
		return s.ends(ctx, f, catalog.FiringNothing, "no row was due")
	}
	last, err := s.Catalog.LastTaken(ctx, f.Rule)
	if err != nil {
		return err
	}
	over := body.Limit.Over(f.Due, p.Counts.V.Total, last)
	if over != "" {
		f.State, f.Reason = catalog.FiringAsking, over+"; `ambercellar run start "+p.ID+"` starts it all the same"
		s.Log.Warn("a firing asks", "rule", f.Rule, "plan", p.ID, "reason", over)
	}
	if err := s.Catalog.SaveFiring(ctx, f); err != nil || over != "" {
		return err
	}
	if _, err := s.queue.StartRun(ctx, cmp.Or(f.AskedBy, "schedule"), p.ID, false,
		catalog.RunTurn{Scheduled: &f.At}); err != nil {
		var outstanding *refuse.Outstanding
		if errors.As(err, &outstanding) {
			f.State, f.Reason = catalog.FiringAsking, outstanding.Error()
			return s.Catalog.SaveFiring(ctx, f)
		}
		return s.failed(ctx, f, err)
	}
	return nil
}

// plan makes the plan of a firing. What an estimate takes for nothing is counted, and so is what a limit is for.
func (s *Schedules) plan(ctx context.Context, f *catalog.Firing, r *rule.Rule) (*catalog.Plan, error) {
	q := plan.PlanRequest{Rule: f.Rule, Note: "scheduled for " + f.At.Format(time.RFC3339), Exact: r.Limit != nil}
	if f.AskedBy != "" {
		q.Note = f.Reason
	}
	p, err := s.Engine.Plans.Make(ctx, cmp.Or(f.AskedBy, "schedule"), q)
	if err == nil && p.Counts.V.Due == 0 && !p.Counts.V.Counted {
		q.Exact = true
		return s.Engine.Plans.Make(ctx, cmp.Or(f.AskedBy, "schedule"), q)
	}
	return p, err
}

// ends keeps what became of a firing.
func (s *Schedules) ends(ctx context.Context, f *catalog.Firing, to catalog.FiringState, reason string) error {
	f.State, f.Reason, f.NextTry = to, reason, nil
	s.Log.Info("a firing "+string(to), "rule", f.Rule, "at", f.At.Time, "reason", reason)
	return s.Catalog.SaveFiring(ctx, f)
}

// failed tries a firing again later where its fault may pass, and otherwise keeps that it failed.
func (s *Schedules) failed(ctx context.Context, f *catalog.Firing, err error) error {
	if s.ctx.Err() != nil {
		return nil // the next start takes it up
	}
	var frozen *refuse.Frozen
	if errors.As(err, &frozen) {
		return nil
	}
	f.Tries++
	if lasting(err) || f.Tries >= firingTries {
		return s.ends(ctx, f, catalog.FiringFailed, err.Error())
	}
	pause := min(firstRetry<<(f.Tries-1), longestRetry)
	at := catalog.At(s.Now().Add(pause))
	f.NextTry, f.Reason = &at, err.Error()
	s.Log.Warn("a firing is tried again", "rule", f.Rule, "at", f.At.Time, "in", pause, "error", err)
	return s.Catalog.SaveFiring(ctx, f)
}

// lasting says whether trying again later cannot mend a fault: somebody has to.
func lasting(err error) bool {
	var refused *refuse.Error
	var problems *refuse.Problems
	return errors.As(err, &refused) || errors.As(err, &problems) || errors.Is(err, refuse.ErrDisagree) ||
		slices.ContainsFunc([]error{refuse.ErrBooks, catalog.ErrNotFound, catalog.ErrState, source.ErrNoTable,
			source.ErrReshaped, source.ErrAltered, source.ErrDenied, source.ErrByStatement},
			func(e error) bool { return errors.Is(err, e) })
}

// Coming is a firing that is to come.
type Coming struct {
	Rule, Source, Table string
	At                  time.Time
	Expected            int64 // rows that the run before it took; 0: not known
}

// Coming lists the firings of all rules up to a time, the soonest first, so many at the most.
func (s *Schedules) Coming(ctx context.Context, rule string, until time.Time, most int) ([]Coming, error) {
	if err := s.read(ctx); err != nil {
		return nil, err
	}
	offs, err := s.Catalog.OffSchedules(ctx, "")
	if err != nil {
		return nil, err
	}
	off := map[string]*catalog.OffSchedule{}
	for i := range offs {
		off[offs[i].Rule] = &offs[i]
	}
	now := s.Now()
	s.mu.Lock()
	rules := make([]scheduledRule, 0, len(s.rules))
	for _, r := range s.rules {
		if !r.Off && (rule == "" || r.Rule == rule) {
			rules = append(rules, *r)
		}
	}
	s.mu.Unlock()
	var out []Coming
	last := map[string]int64{}
	for len(out) < most {
		soonest := -1
		for i := range rules {
			next := rules[i].next
			if !next.IsZero() && next.Before(until) && (soonest < 0 || next.Before(rules[soonest].next)) {
				soonest = i
			}
		}
		if soonest < 0 {
			break
		}
		r := &rules[soonest]
		if _, ok := last[r.Rule]; !ok {
			n, err := s.Catalog.LastTaken(ctx, r.Rule)
			if err != nil {
				return nil, err
			}
			last[r.Rule] = n
		}
		if r.next.After(now) && !stands(off[r.Rule], r.next) {
			out = append(out, Coming{r.Rule, r.Source, r.Table, r.next, last[r.Rule]})
		}
		r.next = r.times.Next(r.next, r.zone)
	}
	return out, nil
}
