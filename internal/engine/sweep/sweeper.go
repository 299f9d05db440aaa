// Package sweep removes from stores what belongs to no segment, once it is shown that nothing is lost by that.
package sweep

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Sweeper sweeps stores.
type Sweeper struct {
	*deps.Deps
	tables *tables.Tables
	shelf  *shelf.Shelf
}

// New returns a Sweeper.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf) *Sweeper { return &Sweeper{d, t, s} }
