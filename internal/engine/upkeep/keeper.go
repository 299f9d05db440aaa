// Package upkeep keeps the archive whole and where it belongs: it verifies segments, makes second copies, moves
// segments between stores, adopts what a store holds, and writes ledgers.
package upkeep

import (
	"context"
	"sync"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Keeper does the upkeep.
type Keeper struct {
	*deps.Deps
	tables  *tables.Tables
	shelf   *shelf.Shelf
	moving  sync.Map   // id of a segment → true: its rows are being moved
	mending sync.Mutex // one file at a time is replaced

	// is asked before each step of a verification, which may be made to wait there; may be nil
	Passes func(ctx context.Context, verification string) error
}

// New returns a Keeper.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf) *Keeper {
	return &Keeper{Deps: d, tables: t, shelf: s}
}
