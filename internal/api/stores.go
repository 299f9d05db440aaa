package api

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
)

// storeRoutes are the routes of stores.
func (a *API) storeRoutes() []route {
	s := a.service
	return []route{
		whole("/stores", "Stores", "All stores", a.stores),
		take("POST", "/stores", "AddStore", "Add a store", a.addStore).created(),
		take("PATCH", "/stores/{store}", "SetStore", "Change a store's second store, or how it is scrubbed",
			func(ctx context.Context, r request, in service.StoreChange) (*StoreKept, error) {
				if err := s.Places.SetStore(ctx, r.actor(), r.Param("store"), in); err != nil {
					return nil, err
				}
				return a.storeKept(ctx, r.Param("store"))
			}),
		act("POST", "/stores/{store}/check", "CheckStore",
			"Write to a store, read it back, list and remove it, and say what the place does with files on its own",
			a.checkStore),
		take("POST", "/stores/{store}/sweep", "Sweep",
			"List what interrupted runs left behind in a store, and remove it where that is asked for", a.sweep),
		act("POST", "/stores/{store}/reseal", "Reseal", "Seal every file of a store with the newest of its keys",
			func(ctx context.Context, r request) (*service.Resealed, error) {
				return s.Places.Reseal(ctx, r.actor(), r.Param("store"))
			}),
		act("POST", "/stores/{store}/adopt", "Adopt",
			"Bring segments of a store into the catalog that it does not know, and find out anew where the rows of "+
				"those lie that it knows", func(ctx context.Context, r request) (upkeep.Adopted, error) {
				return s.Engine.Upkeep.Adopt(ctx, r.actor(), r.Param("store"))
			}),
	}
}

func (a *API) stores(ctx context.Context, _ request) ([]StoreView, error) {
	list, err := a.service.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]StoreView, len(list))
	var group sync.WaitGroup
	defer group.Wait()
	for i, s := range list {
		out[i].Store, out[i].Warnings = view.StoreOf(&s), service.StoreWarnings(&s, list)
		group.Go(func() {
			var err error
			if out[i].Free, err = a.service.Places.StoreState(ctx, s.Name); err != nil {
				out[i].Problem = err.Error()
			}
		})
		totals, err := a.service.Catalog.StoreTotals(ctx, &s)
		if err != nil {
			return nil, err
		}
		out[i].Totals = view.StoreTotalsOf(totals)
	}
	group.Wait()
	return out, nil
}

func (a *API) addStore(ctx context.Context, r request, in NewStore) (*StoreKept, error) {
	s := catalog.Store{Name: in.Name, Path: in.Path, Second: in.Second}
	if in.Seal != nil {
		s.Seal.V = *in.Seal
	}
	if in.Tariff != nil {
		s.Tariff.V = *in.Tariff
	}
	if in.Bucket != nil {
		s.Bucket.V = *in.Bucket
	}
	if err := a.service.Places.AddStore(ctx, r.actor(), s, in.Existing); err != nil {
		return nil, err
	}
	return a.storeKept(ctx, in.Name)
}

func (a *API) storeKept(ctx context.Context, name string) (*StoreKept, error) {
	list, err := a.service.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if s := &list[i]; s.Name == name {
			return &StoreKept{view.StoreOf(s), service.StoreWarnings(s, list)}, nil
		}
	}
	return nil, fmt.Errorf("store %s: %w", name, catalog.ErrNotFound)
}

func (a *API) checkStore(ctx context.Context, r request) (out Items[store.Habit], err error) {
	if _, err := a.service.Catalog.Store(ctx, r.Param("store")); err != nil {
		return out, err
	}
	st, err := a.service.Store(ctx, r.Param("store"))
	if err == nil {
		err = st.Check(ctx)
	}
	if err != nil {
		return out, &refuse.Error{Message: err.Error(),
			Remedy: "mend that at the store; the service needs to write, read, list and remove there"}
	}
	return all(st.Habits(ctx))
}

func (a *API) sweep(ctx context.Context, r request, in NewSweep) (*sweep.Swept, error) {
	if in.Older == "" {
		in.Older = "P1D"
	}
	older, err := period.Parse(in.Older)
	if err != nil {
		return nil, &refuse.Error{Field: "older", Message: err.Error()}
	}
	return a.service.Engine.Sweeps.Sweep(ctx, r.actor(), r.Param("store"), older.Before(a.service.Now(), time.UTC),
		in.Remove)
}

// catalogRoutes are the routes of the service's own records.
func (a *API) catalogRoutes() []route {
	s := a.service
	return []route{
		file("/catalog/backup", "BackupCatalog", "The catalog as it is at this moment, as an SQLite file", a.backup),
		get("/catalog/keeps", "RecordKeeps",
			"How long records of the service's own are kept, by kind; empty: for good",
			func(ctx context.Context, _ request) (catalog.RecordKeeps, error) {
				return s.Catalog.RecordKeeps(ctx)
			}),
		take("PATCH", "/catalog/keeps", "SetRecordKeeps", "Change how long records of the service's own are kept",
			func(ctx context.Context, r request, in catalog.RecordKeeps) (catalog.RecordKeeps, error) {
				return s.Chores.SetRecordKeeps(ctx, r.actor(), in)
			}),
	}
}

// backup sends the catalog as it is. It is made whole, and checked, before the first byte is sent.
func (a *API) backup(c *gin.Context) {
	path, err := a.service.Backup(c.Request.Context(), request{c}.actor())
	if err != nil {
		fail(c, err)
		return
	}
	defer os.Remove(path)
	c.Header("Content-Type", "application/vnd.sqlite3")
	c.Header("Content-Disposition", `attachment; filename="ambercellar-catalog.db"`)
	http.ServeFile(c.Writer, c.Request, path)
}
