// Package run moves rows: it carries out runs, slice by slice and batch by batch, and recovers those that were
// interrupted. It decides nothing about what is due.
package run

import (
	"context"
	"sync"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Mover carries out runs.
type Mover struct {
	*deps.Deps
	tables *tables.Tables
	shelf  *shelf.Shelf
	due    *due.Selector

	Progress func(*catalog.Run) // hears of every change of a run's counts; may be nil
	// hears of what a run waits for, and whether that is something that does not answer; by the empty text that it
	// goes on. May be nil
	Waits func(run, reason string, away bool)
	// how long an answer of a database is waited for until Waits hears of it; 0: 3 seconds
	Patient time.Duration
	// is asked before a run works, or ends because it was cancelled; an error keeps it from working. leave hears how
	// that ended, whatever Around said, and returns that. May be nil
	Around     func(ctx context.Context, run *catalog.Run, r *rule.Rule, cancelled bool) (leave Leave, err error)
	SliceRows  int      // of a slice; 0: as many as there can be
	FamilyRows int      // of a slice with related rows, where it is not found out as the run goes
	paces      sync.Map // id of a run → pace.Pace, for its next batch
	courses    sync.Map // id of a run that works → *course
}

// Leave is called when a run has stopped working, with the cause, and returns it.
type Leave func(err error) error

// New returns a Mover.
func New(d *deps.Deps, t *tables.Tables, s *shelf.Shelf, u *due.Selector) *Mover {
	return &Mover{Deps: d, tables: t, shelf: s, due: u}
}
