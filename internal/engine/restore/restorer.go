// Package restore brings archived rows back: into their table, into a side table or into a file; and takes those back
// whose time is over.
package restore

import (
	"sync"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Restorer carries out restores.
type Restorer struct {
	*deps.Deps
	tables     *tables.Tables
	shelf      *shelf.Shelf
	search     *search.Searcher
	retrieve   *retrieve.Retriever
	takingBack sync.Map // id of a restore → true: its rows are being taken back
}

// New returns a Restorer.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf, x *search.Searcher, v *retrieve.Retriever) *Restorer {
	return &Restorer{Deps: d, tables: t, shelf: s, search: x, retrieve: v}
}
