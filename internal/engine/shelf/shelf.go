// Package shelf finds, opens and binds archived segments, and keeps what is being read from being destroyed. It
// changes no segment.
package shelf

import (
	lru "github.com/hashicorp/golang-lru/v2"

	"sync"
	"sync/atomic"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/tables"
)

// Shelf opens segments, and remembers what it learnt of them.
type Shelf struct {
	*deps.Deps
	tables   *tables.Tables
	segments *lru.Cache[string, *Learnt] // what searches keep of segments, by id
	// by store and stem: files of rows that were what was written when they were first read
	whole *lru.Cache[string, struct{}]
	keys  struct { // filters of keys that are in memory
		sync.Mutex
		bytes int
	}
	Reading    sync.RWMutex // whoever reads archived rows holds it for reading, what destroys them for writing
	Destroying atomic.Int32 // how many wait for that
}

// New returns a Shelf that has learnt nothing yet.
func New(d *deps.Deps, t *tables.Tables) *Shelf {
	sh := &Shelf{Deps: d, tables: t}
	// a size that is none is the only error
	sh.segments, _ = lru.NewWithEvict(mostLearnt, func(_ string, k *Learnt) { sh.drop(k) })
	sh.whole, _ = lru.New[string, struct{}](mostChecked)
	return sh
}
