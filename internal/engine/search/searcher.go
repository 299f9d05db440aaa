// Package search finds, counts and sums up rows, archived and live, and tells which archived version of a row is the newest. It changes
// nothing.
package search

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Searcher searches.
type Searcher struct {
	*deps.Deps
	tables *tables.Tables
	shelf  *shelf.Shelf
	due    *due.Selector
}

// New returns a Searcher.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf, u *due.Selector) *Searcher {
	return &Searcher{d, t, s, u}
}
