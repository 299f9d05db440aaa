// Package engine plans, runs, restores and recovers: it joins a source, an archive and the catalog, and is the only
// place where rows move. It starts nothing on its own and speaks to no user; the service tells it what to do and hears
// how far it is.
package engine

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/source"
)

// Engine works on sources, stores and the catalog. Its fields are set once, before its first use.
type Engine struct {
	Catalog    *catalog.Catalog
	Source     func(ctx context.Context, name string) (source.Source, error)
	Store      func(ctx context.Context, name string) (store.Store, error)
	Instance   string           // tells this service from every other in the sources' leases
	Now        func() time.Time // the service's clock
	Log        *slog.Logger
	Progress   func(*catalog.Run)                  // hears of every change of a run's counts; may be nil
	Waits      func(run, reason string, away bool) // hears of what a run waits for, and whether that is something that does not answer; by the empty text that it goes on. May be nil
	Skew       time.Duration                       // by how much the service's clock may differ from a source's; 0: not compared
	sliceRows  int                                 // of a slice; 0: as many as there can be
	familyRows int                                 // of a slice with related rows, where it is not found out as the run goes
	claims     sync.Map                            // source and table → chan struct{}: held by the execution that works on the table
	paces      sync.Map                            // id of a run → pace.Pace, for its next batch
	recent     struct {                            // what searches keep of segments
		sync.Mutex
		segments map[string]*learnt
		checked  map[string]bool // store and stem: a file of rows that was what was written when it was first read
		keyBytes int             // of their filters of keys
	}
	inHand     sync.Map     // store and stem → true: files are being written there whose segment is not known there yet
	reading    sync.RWMutex // whoever reads archived rows holds it for reading, what destroys them for writing
	destroying atomic.Int32 // how many wait for that
	moving     sync.Map     // id of a segment → true: its rows are being moved
	takingBack sync.Map     // id of a restore → true: its rows are being taken back
	mending    sync.Mutex   // one file at a time is replaced
	gates      sync.Map     // source and table → *sync.RWMutex: what removes rows holds it for reading, a hold being placed for writing
}

// A slice is a segment's worth of rows. Of three slices at most, keys and digests are in memory at a time.
const (
	sliceRows      = 125_000
	sliceBytes     = 48 << 20
	firstRows      = 25_000 // of a large run's first slice
	shortSliceRows = 5_000  // of that at the gentle pace, and of all where reading keeps writers waiting
)

// planLife is how long a plan can be run after it was made.
const planLife = 24 * time.Hour
