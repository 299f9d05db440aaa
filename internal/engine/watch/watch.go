// Package watch looks at who else is at work in a database while we are and at how they fare, and tells the pace.
package watch

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// Every is how often a database is looked at while others are at work, Often while all of it may be taken, and Rarely
// where a look takes long: before what was seen is stale.
const (
	Every  = 150 * time.Millisecond
	Often  = 60 * time.Millisecond
	Rarely = pace.Stale / 2
)

// lasts is how long a look, or a probe, is waited for.
const lasts = 2 * time.Second

// firstLook is how far back the first look sees, where the database can tell.
const firstLook = 10 * time.Second

// Watchers are those of all sources. The zero value has none.
type Watchers struct {
	Usual Usual // what is usual, over restarts; nil: nobody keeps it
	Log   *slog.Logger
	mu    sync.Mutex
	all   map[source.Source]*Watcher
	// what the host has withheld of the processors; nil: as the system says
	stolen func() (sum time.Duration, told bool)
}

// Usual keeps how long probes usually take in a source while nobody of us is at work, hour of the week by hour.
type Usual interface {
	Usually(ctx context.Context, source string, at time.Time) (map[pace.FeelKind]pace.Spread, error)
	LearnUsual(ctx context.Context, source string, at time.Time, felt map[pace.FeelKind]pace.Spread) error
}

// Watcher looks at one source, for all that is at work there.
type Watcher struct {
	name    string // of the source
	users   []*User
	stop    context.CancelFunc
	begun   time.Time
	looked  chan struct{} // closed when it has looked for the first time
	mu      sync.Mutex
	control pace.Control
	work    work
	table   *shape.Table // that is probed; nil: none
	learned map[pace.FeelKind]pace.Spread
	// whether the host keeps this machine waiting, which no probe is to be blamed for
	withheld processors
	wake     chan struct{} // for the probes: we begin to work
	probing  sync.WaitGroup
}

// User is one who works in a source at a pace that heeds others.
type User struct {
	*Watcher
	bound float64 // how much slower others may become for it
	of    *Watchers
	src   source.Source
	once  sync.Once
}

// work is when we are at work in a source.
type work struct {
	now   int           // pieces of work that are going on
	since time.Duration // when the first of them began
	ended time.Duration // when the last one before that ended
	sum   time.Duration // of all, where some go on side by side counted once, since taken last
	taken time.Duration // when it was taken last
}

// Of returns the watcher of a source for one who works there. table is one of those that are worked on, for the probes;
// nil: none. bound is how much slower others may become, as a share; 0: the usual. Looking begins with the first use,
// before this returns, and ends with the last.
func (w *Watchers) Of(src source.Source, name string, table *shape.Table, bound float64) *User {
	w.mu.Lock()
	if w.all == nil {
		w.all = map[source.Source]*Watcher{}
	}
	x := w.all[src]
	if x == nil {
		x = &Watcher{name: name, begun: time.Now(), looked: make(chan struct{}), wake: make(chan struct{}, 1)}
		if x.withheld.stolen = w.stolen; w.stolen == nil {
			x.withheld.stolen = stolen
		}
		ctx, stop := context.WithCancel(context.Background())
		x.stop = stop
		w.all[src] = x
		if w.Usual != nil {
			usual, err := w.Usual.Usually(ctx, name, x.begun)
			if err != nil { // it is learnt anew
				w.Log.Warn("what is usual in a source at this hour cannot be read", "source", name, "error", err)
			}
			for kind, spread := range usual {
				x.control.Expect(kind, spread)
			}
		}
		go x.goOn(ctx, src)
		if p, ok := source.As[source.Probed](src); ok {
			x.probing.Go(func() { x.probe(ctx, p, func() { w.learn(name, x) }) })
		}
	}
	u := &User{Watcher: x, bound: bound, of: w, src: src}
	x.mu.Lock()
	x.users = append(x.users, u)
	if table != nil {
		x.table = table
	}
	x.bounds()
	x.mu.Unlock()
	w.mu.Unlock()
	<-x.looked
	return u
}

// Others says in words that others are at work in a source where we are; empty: no look shows any.
func (w *Watchers) Others() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, x := range w.all {
		if s := x.State(); s.Busy > 0 {
			return "in source " + x.name + " " + pace.Others(s.Busy)
		}
	}
	return ""
}

// Leave ends the use, where there is one. After the last of a source nothing of it goes on, and what was learnt is
// kept.
func (u *User) Leave() {
	if u == nil {
		return
	}
	u.once.Do(func() {
		if u.leaves() {
			u.probing.Wait()
		}
	})
}

// leaves takes the user out, and says whether it was the last.
func (u *User) leaves() (last bool) {
	u.of.mu.Lock()
	defer u.of.mu.Unlock()
	x := u.Watcher
	x.mu.Lock()
	defer x.mu.Unlock()
	x.users = slices.DeleteFunc(x.users, func(other *User) bool { return other == u })
	x.bounds()
	if last = len(x.users) == 0; last {
		x.stop()
		delete(u.of.all, u.src)
	}
	return last
}

// Heed changes how much slower others may become for the user.
func (u *User) Heed(bound float64) {
	if u == nil {
		return
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.bound = bound
	u.bounds()
}

// bounds makes the strictest bound of all users the one that is kept to.
func (x *Watcher) bounds() {
	x.control.Bound = 0
	for _, u := range x.users {
		if b := u.bound; b > 0 && (x.control.Bound == 0 || b < x.control.Bound) {
			x.control.Bound = b
		}
	}
}

func (x *Watcher) goOn(ctx context.Context, of source.Source) {
	src, ok := source.As[source.Watched](of)
	if ok {
		x.look(ctx, src, firstLook)
	}
	close(x.looked)
	if !ok {
		return
	}
	wait := Every
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		begun := time.Now()
		x.look(ctx, src, wait+Every)
		least := Every
		if room, _ := x.Free(); room.Free == 1 {
			least = Often
		}
		wait = min(max(least, 50*time.Since(begun)), Rarely)
	}
}

// look looks once. What fails is no look: the pace takes an old one for none.
func (x *Watcher) look(ctx context.Context, src source.Watched, within time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, lasts)
	defer cancel()
	seen, err := src.Others(ctx, within)
	if err != nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	now := time.Since(x.begun)
	seen.Worked = x.work.take(now)
	x.control.Look(now, seen)
}

// take returns for how much of the time since it was asked last we were at work.
func (w *work) take(now time.Duration) (share float64) {
	if w.now > 0 {
		w.sum, w.since = w.sum+now-w.since, now
	}
	if passed := now - w.taken; passed > 0 {
		share = min(w.sum.Seconds()/passed.Seconds(), 1)
	}
	w.sum, w.taken = 0, now
	return share
}

// Work notes that a piece of work begins, and returns what notes its end. Nobody notes it for a nil user.
func (u *User) Work() (end func()) {
	if u == nil {
		return func() {}
	}
	x := u.Watcher
	x.mu.Lock()
	defer x.mu.Unlock()
	w := &x.work
	if w.now++; w.now == 1 {
		w.since = time.Since(x.begun)
		x.awake()
	}
	return sync.OnceFunc(func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		if w.now--; w.now == 0 {
			w.ended = time.Since(x.begun)
			w.sum += w.ended - w.since
		}
	})
}

// awake has the next probe made.
func (x *Watcher) awake() {
	select {
	case x.wake <- struct{}{}:
	default:
	}
}

const (
	// probeEvery is how often a look-up is made while others are at work, commitEach how many of them for a commit.
	probeEvery = 50 * time.Millisecond
	commitEach = 5
	// probeSoon is how often at first, until it is known how others fare while we rest.
	probeSoon = 12 * time.Millisecond
	// besideWithin is how long after we have begun a piece of work a look-up is made at the latest, and after that the
	// next ones while it goes on and little is known of what others feel then.
	besideWithin = 4 * time.Millisecond
	// after is how long what we did may still be felt.
	after = 5 * time.Millisecond
	// settles is how long after looking has begun probes tell what is usual at this hour, and not yet what others feel
	// of us: connections are new then, and what begins does more than what goes on.
	settles = 2 * time.Second
	// learnEvery is how often what is usual is kept.
	learnEvery = 5 * time.Minute
)

// probe makes probes while others are at work: now and then, which is mostly while we rest, and soon after we have
// begun to work.
func (x *Watcher) probe(ctx context.Context, src source.Probed, learn func()) {
	defer learn()
	next, kept := time.Now(), time.Now()
	for n := 1; ; n++ {
		var worked bool
		select {
		case <-ctx.Done():
			return
		case <-x.wake:
			worked = true
			time.Sleep(rand.N(besideWithin))
		case <-time.After(time.Until(next)):
		}
		x.mu.Lock()
		busy, t := x.control.Busy(), x.table
		x.mu.Unlock()
		next = time.Now().Add(probeEvery/2 + rand.N(probeEvery))
		if !busy || t == nil {
			continue
		}
		kind := pace.FeelLookup
		if n%commitEach == 0 {
			kind = pace.FeelCommit
		}
		took := x.probeOnce(ctx, src, t, kind)
		if beside, alone := x.learns(); beside {
			next = time.Now().Add(took + rand.N(besideWithin))
		} else if alone {
			next = time.Now().Add(min(4*took, probeEvery) + rand.N(probeSoon))
		} else {
			wait := min(max(20*took, probeEvery/2), time.Second) // what takes long is asked seldom
			if worked {
				x.drowse(ctx, wait)
			}
			next = time.Now().Add(wait + rand.N(probeEvery))
		}
		if time.Since(kept) > learnEvery {
			kept = time.Now()
			learn()
		}
	}
}

// learns says whether we are at work, and little is known of what others feel then; or whether we rest, and little is
// known of how they fare without us.
func (x *Watcher) learns() (beside, alone bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.work.now > 0 {
		return x.control.Learns(), false
	}
	return false, x.control.LearnsAlone()
}

// drowse waits, and forgets what it was woken for meanwhile.
func (x *Watcher) drowse(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
	select {
	case <-x.wake:
	default:
	}
}

// probeOnce makes one probe, and takes in what it showed.
func (x *Watcher) probeOnce(ctx context.Context, src source.Probed, t *shape.Table, kind pace.FeelKind) time.Duration {
	ctx, cancel := context.WithTimeout(ctx, lasts)
	defer cancel()
	at, took, err := src.Probe(ctx, kind, t)
	if at.IsZero() || err != nil && ctx.Err() == nil {
		return time.Second / 20 // no connection, no right, or the database is away: nothing is known
	}
	begun := at.Sub(x.begun)
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.withheld.now(time.Since(x.begun)) {
		return took
	}
	w := &x.work
	f := pace.Feel{Kind: kind, Took: took, Beside: w.now > 0 || w.ended > begun}
	if f.Beside || w.ended == 0 || begun-w.ended > after {
		if begun >= settles {
			x.control.Feel(f)
		}
		if !f.Beside {
			x.learn(f)
		}
	}
	return took
}

// learn takes in what a probe showed while nobody of us was at work.
func (x *Watcher) learn(f pace.Feel) {
	if x.learned == nil {
		x.learned = map[pace.FeelKind]pace.Spread{}
	}
	s := x.learned[f.Kind]
	s.Add(f.Took)
	x.learned[f.Kind] = s
}

// learn keeps what has been learned since.
func (w *Watchers) learn(name string, x *Watcher) {
	x.mu.Lock()
	felt := x.learned
	x.learned = nil
	x.mu.Unlock()
	if w.Usual != nil && len(felt) > 0 {
		if err := w.Usual.LearnUsual(context.Background(), name, time.Now(), felt); err != nil {
			w.Log.Warn("what is usual in a source at this hour cannot be kept", "source", name, "error", err)
		}
	}
}

// Free returns what room there is in the database, and why it is not all.
func (x *Watcher) Free() (pace.Room, string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.control.Free(time.Since(x.begun))
}

// State returns what is known of others now.
func (x *Watcher) State() pace.State {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.control.State(time.Since(x.begun))
}
