// Package dispose destroys archived rows: those whose time is over, and those of a person who is to be erased. It
// plans first, and destroys what was decided on.
package dispose

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/tables"
)

// Disposer carries out disposals.
type Disposer struct {
	*deps.Deps
	tables   *tables.Tables
	shelf    *shelf.Shelf
	search   *search.Searcher
	restores *restore.Restorer
	sweeps   *sweep.Sweeper
}

// Rooms are the rooms of the engine that a Disposer works with.
type Rooms struct {
	Tables   *tables.Tables
	Shelf    *shelf.Shelf
	Search   *search.Searcher
	Restores *restore.Restorer
	Sweeps   *sweep.Sweeper
}

// New returns a Disposer.
func New(d *deps.Deps, r Rooms) *Disposer {
	return &Disposer{d, r.Tables, r.Shelf, r.Search, r.Restores, r.Sweeps}
}
