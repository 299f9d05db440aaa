// Package engine wires the parts together that plan, move, search, restore, dispose of and look after rows. Each part
// is a package below this folder, and imports only what stands above it in the list of Engine's fields. They start
// nothing on their own and speak to no user; the service tells them what to do and hears how far it is.
package engine

import (
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/run"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/engine/upkeep"
)

// Engine is all parts, bottom up.
type Engine struct {
	*deps.Deps
	Tables    *tables.Tables
	Shelf     *shelf.Shelf
	Due       *due.Selector
	Plans     *plan.Planner
	Runs      *run.Mover
	Search    *search.Searcher
	Retrieve  *retrieve.Retriever
	Restores  *restore.Restorer
	Sweeps    *sweep.Sweeper
	Disposals *dispose.Disposer
	Upkeep    *upkeep.Keeper
	Reconcile *reconcile.Reconciler
}

// New wires an engine that works on what d names.
func New(d *deps.Deps) *Engine {
	e := &Engine{Deps: d, Tables: tables.New(d)}
	d.Watch.Usual, d.Watch.Log = d, d.Log
	e.Shelf = shelf.New(d, e.Tables)
	e.Due = due.New(d, e.Tables)
	e.Plans = plan.New(d, e.Tables, e.Shelf, e.Due)
	e.Runs = run.New(d, e.Tables, e.Shelf, e.Due)
	e.Search = search.New(d, e.Shelf)
	e.Retrieve = retrieve.New(d, e.Shelf, e.Search)
	e.Restores = restore.New(d, e.Tables, e.Shelf, e.Search, e.Retrieve)
	e.Sweeps = sweep.New(d, e.Tables, e.Shelf)
	e.Disposals = dispose.New(d, dispose.Rooms{Tables: e.Tables, Shelf: e.Shelf, Search: e.Search,
		Restores: e.Restores, Sweeps: e.Sweeps})
	e.Upkeep = upkeep.New(d, e.Tables, e.Shelf)
	e.Reconcile = reconcile.New(d, e.Tables, e.Shelf, e.Search, e.Upkeep)
	return e
}
