// Package reconcile compares what source, stores and catalog say of a table, and settles where they disagree.
package reconcile

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/engine/upkeep"
)

// Reconciler compares and settles.
type Reconciler struct {
	*deps.Deps
	tables *tables.Tables
	shelf  *shelf.Shelf
	search *search.Searcher
	upkeep *upkeep.Keeper
}

// New returns a Reconciler.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf, x *search.Searcher, k *upkeep.Keeper) *Reconciler {
	return &Reconciler{d, t, s, x, k}
}
