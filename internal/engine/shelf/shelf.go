// Package shelf finds, opens and binds archived segments, and keeps what is being read from being destroyed. It
// changes no segment.
package shelf

import (
	"sync"
	"sync/atomic"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/tables"
)

// Shelf opens segments, and remembers what it learnt of them.
type Shelf struct {
	*deps.Deps
	tables *tables.Tables
	recent struct { // what searches keep of segments
		sync.Mutex
		segments map[string]*Learnt
		checked  map[string]bool // store and stem: a file of rows that was what was written when it was first read
		keyBytes int             // of their filters of keys
	}
	Reading    sync.RWMutex // whoever reads archived rows holds it for reading, what destroys them for writing
	Destroying atomic.Int32 // how many wait for that
}

// New returns a Shelf that has learnt nothing yet.
func New(d *deps.Deps, t *tables.Tables) *Shelf { return &Shelf{Deps: d, tables: t} }
