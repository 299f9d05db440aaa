// Package plan checks and applies rules, computes what a run would do, and compares and forecasts. It changes no row
// of a source.
package plan

import (
	"time"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Planner makes plans.
type Planner struct {
	*deps.Deps
	tables *tables.Tables
	shelf  *shelf.Shelf
	due    *due.Selector
	Skew   time.Duration // by how much the service's clock may differ from a source's; 0: not compared
}

// New returns a Planner.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf, u *due.Selector) *Planner {
	return &Planner{Deps: d, tables: t, shelf: s, due: u}
}

// planLife is how long a plan can be run after it was made.
const planLife = 24 * time.Hour
