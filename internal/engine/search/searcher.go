// Package search finds, counts and sums up rows, archived and live, and tells which archived version of a row is the
// newest. It changes nothing.
package search

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/shelf"
)

// Searcher searches.
type Searcher struct {
	*deps.Deps
	shelf *shelf.Shelf
}

// New returns a Searcher.
func New(d *deps.Deps, s *shelf.Shelf) *Searcher { return &Searcher{d, s} }
