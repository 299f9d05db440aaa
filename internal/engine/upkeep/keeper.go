// Package upkeep keeps the archive whole and where it belongs: it verifies segments, makes second copies, moves segments between stores,
// adopts what a store holds, and writes ledgers.
package upkeep

import (
	"sync"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/tables"
)

// Keeper does the upkeep.
type Keeper struct {
	*deps.Deps
	tables    *tables.Tables
	shelf     *shelf.Shelf
	search    *search.Searcher
	retrieve  *retrieve.Retriever
	sweeps    *sweep.Sweeper
	disposals *dispose.Disposer
	moving    sync.Map   // id of a segment → true: its rows are being moved
	mending   sync.Mutex // one file at a time is replaced
}

// New returns a Keeper.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf, x *search.Searcher, v *retrieve.Retriever, w *sweep.Sweeper, p *dispose.Disposer) *Keeper {
	return &Keeper{Deps: d, tables: t, shelf: s, search: x, retrieve: v, sweeps: w, disposals: p}
}
