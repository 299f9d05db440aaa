package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/upkeep"
)

// Chores keep the archive in order, each in its own loop.
type Chores struct {
	*base
	places   *Places
	queue    *Queue
	notifier *Notifier
	health   *Health

	findings *Findings
	audit    *Audit
	exports  *Exports

	approvals *Approvals
}

// A chore looks again whether there is something to be done when something has changed in the catalog, at the earliest
// tendEvery after it looked last, and tendRarely after that at the latest: what changes outside the catalog wakes
// nobody. After something failed, it waits longer each time, up to tendRarely.
const tendEvery, tendRarely = 2 * time.Second, 30 * time.Second

// chore does what is to be done, and returns when something will be that no change tells of; zero: nothing is known
// of.
type chore func(context.Context) (time.Time, error)

// chores keep the archive in order, beside runs and restores. Each goes on by itself: one that takes hours, or waits
// for what does not answer, keeps none of the others waiting.
func (s *Chores) chores() map[string]chore {
	counted := func(what string, do func(context.Context) (int, error)) chore {
		return func(ctx context.Context) (time.Time, error) {
			n, err := do(ctx)
			if n > 0 {
				s.Log.Info(what, "segments", n)
			}
			return time.Time{}, err
		}
	}
	return map[string]chore{
		"waiting runs":  s.queue.goOnWaiting,
		"freezes":       s.queue.freezes.thaw,
		"findings":      s.finding(),
		"table sizes":   s.keepSizes,
		"store sizes":   s.keepingStores(),
		"what is due":   s.countInflows,
		"second copies": s.copying,
		"audit log":     s.audit.telling(),
		"old entries":   s.audit.keeping(),
		"audit exports": s.exports.tending(),
		"approvals":     s.approvals.tending(),
		"spans":         counted("segments whose keys are known now", s.Engine.Upkeep.SpanSegments),
		"moves":         s.moving,
		"retrievals":    s.lookAfterRetrievals,
		"forgetting":    s.forgetting(),
		"notifications": s.notifier.notify,
		"taking back":   s.takingBack(),
		"scrubbing":     func(ctx context.Context) (time.Time, error) { return time.Time{}, s.scrubAll(ctx) },
	}
}

// tend does one chore again and again.
func (s *Chores) tend(name string, do chore) {
	defer s.wait.Done()
	said, wait := "", tendEvery
	var changed <-chan struct{}
	var next time.Time
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(wait):
		}
		if said == "" && changed != nil {
			rest := tendRarely
			if !next.IsZero() {
				rest = min(rest, next.Sub(s.Now()))
			}
			select {
			case <-s.ctx.Done():
				return
			case <-changed:
			case <-time.After(rest):
			}
		}
		changed = s.Catalog.Changed()
		var err error
		next, err = do(s.ctx)
		s.health.beat(name)
		if err == nil || s.ctx.Err() != nil {
			said, wait = "", tendEvery
			continue
		}
		wait = min(2*wait, tendRarely)
		if err.Error() != said { // once, and again when it is another thing
			said = err.Error()
			s.Log.Error("the archive cannot be tended", "chore", name, "error", err)
		}
	}
}

// lookAfterRetrievals sees what has arrived from cold storage, and lets the restores go on that wait for it.
func (s *Chores) lookAfterRetrievals(ctx context.Context) (time.Time, error) {
	n, err := s.Engine.Retrieve.LookAfterRetrievals(ctx)
	if n > 0 {
		s.Log.Info("retrieved segments are there", "segments", n)
	}
	err = errors.Join(err, s.queue.goOnRetrieved(ctx))
	asked, listing := s.Catalog.RetrievalsIn(ctx, catalog.RetrievalAsked)
	if len(asked) == 0 {
		return time.Time{}, errors.Join(err, listing)
	}
	return s.Now().Add(tendEvery), errors.Join(err, listing)
}

// takeBackAgain is how long a restore whose rows could not be taken back waits before that is tried again.
const takeBackAgain = time.Minute

// takingBack returns what takes back the rows of restores whose time is over.
func (s *Chores) takingBack() chore {
	tried := map[string]time.Time{}
	return func(ctx context.Context) (next time.Time, err error) {
		list, err := s.Catalog.Expiring(ctx, "")
		for i := range list {
			r := &list[i]
			if r.State != catalog.RestoreDone || r.ExpiresAt == nil {
				continue
			}
			due := r.ExpiresAt.Time
			if last, ok := tried[r.ID]; ok {
				due = last.Add(takeBackAgain)
			}
			if s.Now().Before(due) {
				next = sooner(next, due)
				continue
			}
			tried[r.ID] = s.Now()
			one := s.Engine.Restores.TakeBack(ctx, r)
			if one == nil {
				if r.State != catalog.RestoreExpired { // somebody keeps its rows
					continue
				}
				s.Log.Info("restore expired", "restore", r.ID, "taken back", r.TakenBack, "stay", r.Stayed)
				continue
			}
			r.Reason = "its time is over, and its rows could not be taken back yet: " + one.Error()
			err = errors.Join(err, fmt.Errorf("restore %s: %w", r.ID, one), s.Catalog.SaveRestore(ctx, r))
		}
		return next, err
	}
}

// findEvery is how often findings are looked for.
const findEvery = time.Minute

// finding returns what looks for findings.
func (s *Chores) finding() chore {
	var next time.Time // by time that passes, whatever the clock says
	return func(ctx context.Context) (time.Time, error) {
		if time.Now().Before(next) {
			return time.Time{}, nil
		}
		next = time.Now().Add(findEvery)
		return time.Time{}, s.findings.Look(ctx)
	}
}

// sooner returns the earlier of two times; zero is never.
func sooner(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// scrubAll verifies the segments whose time has come, all stores side by side, each in its window.
func (s *Chores) scrubAll(ctx context.Context) error {
	stores, err := s.Catalog.Stores(ctx)
	failed := make([]error, len(stores))
	var group sync.WaitGroup
	for i := range stores {
		group.Go(func() {
			if one := s.scrub(ctx, &stores[i]); one != nil {
				failed[i] = fmt.Errorf("scrubbing store %s: %w", stores[i].Name, one)
			}
		})
	}
	group.Wait()
	return errors.Join(append(failed, err)...)
}

func (s *Chores) scrub(ctx context.Context, st *catalog.Store) error {
	how := st.Scrub.V
	if how.Every == "" {
		return nil
	}
	every, err := period.Parse(how.Every)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if how.Window != "" {
		w, err := calendar.ParseWindow(how.Window)
		if err != nil {
			return err
		}
		span, open := calendar.At([]calendar.Window{w}, s.Now(), time.UTC)
		if !open {
			return nil
		}
		ctx, cancel = context.WithDeadlineCause(ctx, span.To, errWindow)
		defer cancel()
	}
	since := every.Before(s.Now(), time.UTC)
	if n, err := s.Engine.Retrieve.RetrieveToVerify(ctx, st, since); err != nil {
		return err
	} else if n > 0 {
		s.Log.Info("cold segments are retrieved to be verified", "store", st.Name, "segments", n)
	}
	if some, err := s.Catalog.Unverified(ctx, st.Name, since, s.Now()); err != nil || !some {
		return err
	}
	older := catalog.At(since)
	v, err := s.Engine.Upkeep.RequestVerification(ctx, "service", upkeep.VerificationRequest{Store: st.Name,
		Repair: true}, &older)
	if err != nil {
		return err
	}
	err = s.Engine.Upkeep.Verify(ctx, v, how.Rate)
	// it goes on in the next window, with what is left
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, errWindow) {
		return nil
	}
	s.Log.Info("store scrubbed", "store", st.Name, "segments", v.Segments, "wrong", v.Wrong, "repaired", v.Repaired)
	return err
}

var errWindow = errors.New("the window for scrubbing closed; what is left follows in the next one")

// RequestVerification keeps a verification and carries it out in the background.
func (s *Queue) RequestVerification(ctx context.Context, actor string, q upkeep.VerificationRequest) (
	*catalog.Verification, error) {
	v, err := s.Engine.Upkeep.RequestVerification(ctx, actor, q, nil)
	if err != nil {
		return nil, err
	}
	copied := *v
	s.verify(v)
	return &copied, nil
}

// verify puts a verification into the queue.
func (s *Queue) verify(v *catalog.Verification) {
	what := "verification of every store"
	if v.Store != "" {
		what = "verification of store " + v.Store
	}
	s.jobs.enter(s.ctx, catalog.JobVerification, v.ID, JobOrder{Source: v.Source, Table: v.Table, What: what,
		By: v.CreatedBy, Asked: v.CreatedAt.Time},
		jobWork{do: func(ctx context.Context) error {
			err := s.Engine.Upkeep.Verify(ctx, v, 0)
			if err != nil {
				s.Log.Error("a verification failed", "verification", v.ID, "error", err)
				// it was tried once
				s.insist("verification "+v.ID,
					func() error { return s.Catalog.SaveVerification(context.Background(), v) })
			}
			return err
		},
			end: func(reason string) error {
				now := catalog.At(s.Now())
				v.State, v.EndedAt, v.Reason = catalog.VerificationFailed, &now, reason
				return s.Catalog.SaveVerification(context.Background(), v)
			}})
}

// StoreChange is what is to be changed of a store; nil: as it was.
type StoreChange struct {
	Second *string        `json:"second,omitempty"` // the store for second copies; empty: none any more
	Scrub  *catalog.Scrub `json:"scrub,omitempty"`
	// where the keys are; files that are there already are sealed by a reseal
	Seal   *store.Seal     `json:"seal,omitempty"`
	Tariff *catalog.Tariff `json:"tariff,omitempty"` // of a store whose files go cold
}

// SetStore changes a store's second store, or how it is scrubbed.
func (s *Places) SetStore(ctx context.Context, actor, name string, c StoreChange) error {
	st, err := s.Catalog.Store(ctx, name)
	if err != nil {
		return err
	}
	if c.Second != nil {
		st.Second = *c.Second
		if err := s.checkSecond(ctx, st); err != nil {
			return err
		}
	}
	if c.Scrub != nil {
		st.Scrub.V = *c.Scrub
		if err := checkScrub(&st.Scrub.V); err != nil {
			return err
		}
	}
	if c.Tariff != nil {
		if st.Tariff.V = *c.Tariff; !st.Cold() {
			return &refuse.Error{Field: "tariff", Message: "files of store " + name +
				" do not go cold, so nothing is retrieved", Remedy: "leave it out"}
		}
		if err := checkTariff(c.Tariff); err != nil {
			return err
		}
	}
	if c.Seal == nil {
		return s.Catalog.SetStore(ctx, actor, *st)
	}
	if st.Seal.V.Sealed() && !c.Seal.Sealed() {
		return &refuse.Error{Field: "seal", Message: "store " + name +
			" is sealed, and its files could not be read without their keys",
			Remedy: "add an unsealed store and move the segments there"}
	}
	if err := s.sealable(*c.Seal); err != nil {
		return err
	}
	st.Seal.V = *c.Seal
	if _, err := openStore(st); err != nil {
		return &refuse.Error{Field: "seal", Message: err.Error()}
	}
	if err := s.Catalog.SetStore(ctx, actor, *st); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.stores, name) // it is opened anew, with these keys
	s.mu.Unlock()
	return nil
}

func checkTariff(t *catalog.Tariff) error {
	refused := func(field, message, remedy string) error {
		return &refuse.Error{Field: "tariff." + field, Message: message, Remedy: remedy}
	}
	for p, r := range t.Of {
		if !slices.Contains(store.Priorities, p) {
			return refused("of", fmt.Sprintf("%q is none of the priorities low, normal and high", p),
				"write one of them")
		}
		wait, err := period.Parse(r.Wait)
		if err != nil {
			return refused("of."+string(p)+".wait", err.Error(), "")
		}
		if r.Price < 0 {
			return refused("of."+string(p)+".price", fmt.Sprintf("%g is no price of a GiB", r.Price),
				"write 0 or more")
		}
		r.Wait = wait.String()
		t.Of[p] = r
	}
	if t.Days < 0 || t.Days > 365 {
		return refused("days", fmt.Sprintf("a copy cannot stay for %d days", t.Days),
			"write 1 to 365, or 0 for the usual")
	}
	if t.Budget < 0 {
		return refused("budget", "a budget cannot be less than nothing", "write bytes in 30 days, or 0 for none")
	}
	return nil
}

func (s *Places) checkSecond(ctx context.Context, st *catalog.Store) error {
	if st.Second == "" {
		return nil
	}
	refused := func(message, remedy string) error {
		return &refuse.Error{Field: "second", Message: message, Remedy: remedy}
	}
	if st.Second == st.Name {
		return refused("a store is no second store of its own", "name another store, on other disks")
	}
	second, err := s.Catalog.Store(ctx, st.Second)
	if errors.Is(err, catalog.ErrNotFound) {
		return refused(fmt.Sprintf("there is no store %s", st.Second), "add it first (`ambercellar store add`)")
	} else if err != nil {
		return err
	}
	if second.Cold() {
		return refused(fmt.Sprintf("store %s lets its files go cold, and a second copy has to be there when it is "+
			"needed", second.Name), "name a warm store")
	}
	if second.Second != "" {
		return refused(fmt.Sprintf("store %s has a second store itself (%s)", second.Name, second.Second),
			"name a store that has none")
	}
	return nil
}

func checkScrub(c *catalog.Scrub) error {
	if c.Every != "" {
		p, err := period.Parse(c.Every)
		if err != nil {
			return &refuse.Error{Field: "scrub.every", Message: err.Error()}
		}
		c.Every = p.String()
	}
	if c.Rate < 0 {
		return &refuse.Error{Field: "scrub.rate", Message: fmt.Sprintf("%d bytes a second is no rate", c.Rate),
			Remedy: "give bytes a second, or 0 for no limit"}
	}
	if c.Window != "" {
		w, err := calendar.ParseWindow(c.Window)
		if err != nil {
			return &refuse.Error{Field: "scrub.window", Message: err.Error()}
		}
		c.Window = w.String()
	}
	return nil
}
