// Package deps names what every part of the engine works on. It does nothing itself.
package deps

import (
	"context"
	"log/slog"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/watch"
	"ambercellar/internal/source"
)

// Deps are the databases, stores and records that the engine works on, its clock and its log. All parts of one engine
// share one of these; its fields are set before the first use.
type Deps struct {
	Catalog  *catalog.Catalog
	Source   func(ctx context.Context, name string) (source.Source, error)
	Store    func(ctx context.Context, name string) (store.Store, error)
	Watch    watch.Watchers   // of who else is at work in the databases
	Instance string           // tells this service from every other in the sources' leases
	Now      func() time.Time // the service's clock
	Log      *slog.Logger
	// Allowed says whether others have approved something, where they have to, and gives the context to do it with.
	// nil:
	// nobody can be asked, and what has to be approved waits.
	Allowed func(context.Context, Need) (context.Context, error)
}

// Usually is what the catalog, which may be opened later than the watchers are wired, keeps of how long probes take.
func (d *Deps) Usually(ctx context.Context, source string, at time.Time) (map[pace.FeelKind]pace.Spread, error) {
	return d.Catalog.Usually(ctx, source, at)
}

// LearnUsual adds to that.
func (d *Deps) LearnUsual(ctx context.Context, source string, at time.Time,
	felt map[pace.FeelKind]pace.Spread) error {
	return d.Catalog.LearnUsual(ctx, source, at, felt)
}

// Need is something that others may have to approve before it is carried out.
type Need struct {
	Whats   []approval.What // what it is; the first names it
	Source  string
	Table   string
	Rule    string
	Subject string // the plan, restore, disposal, hold or source
	Rows    int64  // that it is about; less than 0: that is not known
	Of      any    // exactly what is to be carried out, as JSON: what is approved is this, and nothing else
	Summary string // of it, in words
	Asker   string
	Until   time.Time // when it is too late for it; zero: nothing bounds it
	Begins  any       // what is carried out by itself once it is approved, as JSON; nil: nothing
}

// Allow says whether something may be carried out now: with the context that it returns, or not before others have
// approved it, which is a refuse.Outstanding.
func (d *Deps) Allow(ctx context.Context, n Need) (context.Context, error) {
	if d.Allowed != nil {
		return d.Allowed(ctx, n)
	}
	g, err := d.Catalog.Guard(ctx, n.Source)
	if err != nil {
		return ctx, err
	}
	persons, err := approval.Persons(g.Approve, n.Whats, n.Rule, n.Rows)
	if err != nil || persons == 0 {
		return ctx, err
	}
	return ctx, &refuse.Outstanding{What: string(n.Whats[0]), Persons: persons}
}
