// Package watch looks at who else is at work in a database while we are, and tells the pace.
package watch

import (
	"context"
	"sync"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/source"
)

// Every is how often a database is looked at, and Rarely where a look takes long: before what was seen is stale.
const (
	Every  = 150 * time.Millisecond
	Rarely = pace.Stale / 2
)

// lasts is how long a look is waited for.
const lasts = 2 * time.Second

// firstLook is how far back the first look sees, where the database can tell.
const firstLook = 10 * time.Second

// Watchers are those of all sources. The zero value has none.
type Watchers struct {
	mu  sync.Mutex
	all map[source.Source]*Watcher
}

// Watcher looks at one source, for all that is at work there.
type Watcher struct {
	users   int // of it
	stop    context.CancelFunc
	mu      sync.Mutex
	control pace.Control
	begun   time.Time
	looked  chan struct{} // closed when it has looked for the first time
}

// Of returns the watcher of a source, and what ends its use. Looking begins with the first use, before this returns,
// and ends with the last.
func (w *Watchers) Of(src source.Source) (*Watcher, func()) {
	w.mu.Lock()
	if w.all == nil {
		w.all = map[source.Source]*Watcher{}
	}
	x := w.all[src]
	if x == nil {
		x = &Watcher{begun: time.Now(), looked: make(chan struct{})}
		ctx, stop := context.WithCancel(context.Background())
		x.stop = stop
		w.all[src] = x
		go x.goOn(ctx, src)
	}
	x.users++
	w.mu.Unlock()
	<-x.looked
	return x, sync.OnceFunc(func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		if x.users--; x.users == 0 {
			x.stop()
			delete(w.all, src)
		}
	})
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
		wait = min(max(Every, 50*time.Since(begun)), Rarely)
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
	x.control.Look(time.Since(x.begun), seen)
}

// Free returns how much of the database is free, from 0 to 1, and why it is not more.
func (x *Watcher) Free() (float64, string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.control.Free(time.Since(x.begun))
}
