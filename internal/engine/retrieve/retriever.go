// Package retrieve brings segments back from cold storage, for a while and within a budget.
package retrieve

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
)

// Retriever retrieves segments.
type Retriever struct {
	*deps.Deps
	shelf  *shelf.Shelf
	search *search.Searcher
}

// New returns a Retriever.
func New(d *deps.Deps, s *shelf.Shelf, x *search.Searcher) *Retriever { return &Retriever{d, s, x} }
