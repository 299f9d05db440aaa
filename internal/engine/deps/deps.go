// Package deps names what every part of the engine works on. It does nothing itself.
package deps

import (
	"context"
	"log/slog"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
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
}
