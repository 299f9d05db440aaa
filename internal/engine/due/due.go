// Package due says which rows of a table are due by its rule: the selection, joined and related tables, and what holds keep. It counts and
// moves nothing.
package due

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/tables"
)

// A slice is a segment's worth of rows. Of three slices at most, keys and digests are in memory at a time.
const (
	SliceRows  = 125_000
	SliceBytes = 48 << 20
)

// Selector makes selections.
type Selector struct {
	*deps.Deps
	tables *tables.Tables
}

// New returns a Selector.
func New(d *deps.Deps, t *tables.Tables) *Selector { return &Selector{d, t} }
