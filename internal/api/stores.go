package api

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
)

func (a *API) setStore(c *gin.Context) (any, error) {
	var in service.StoreChange
	if err := read(c, &in); err != nil {
		return nil, err
	}
	if err := a.service.SetStore(c.Request.Context(), actor, c.Param("store"), in); err != nil {
		return nil, err
	}
	return a.storeKept(c.Request.Context(), c.Param("store"))
}

func (a *API) storeKept(ctx context.Context, name string) (*StoreKept, error) {
	list, err := a.service.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if s := &list[i]; s.Name == name {
			return &StoreKept{*s, service.StoreWarnings(s, list)}, nil
		}
	}
	return nil, fmt.Errorf("store %s: %w", name, catalog.ErrNotFound)
}

func (a *API) checkStore(c *gin.Context) (any, error) {
	if _, err := a.service.Catalog.Store(c.Request.Context(), c.Param("store")); err != nil {
		return nil, err
	}
	st, err := a.service.Store(c.Request.Context(), c.Param("store"))
	if err == nil {
		err = st.Check(c.Request.Context())
	}
	if err != nil {
		return nil, &refuse.Error{Message: err.Error(), Remedy: "mend that at the store; the service needs to write, read, list and remove there"}
	}
	return all(st.Habits(c.Request.Context()))
}

// backup sends the catalog as it is. It is made whole, and checked, before the first byte is sent.
func (a *API) backup(c *gin.Context) {
	path, err := a.service.Backup(c.Request.Context(), actor)
	if err != nil {
		fail(c, err)
		return
	}
	defer os.Remove(path)
	c.Header("Content-Type", "application/vnd.sqlite3")
	c.Header("Content-Disposition", `attachment; filename="ambercellar-catalog.db"`)
	http.ServeFile(c.Writer, c.Request, path)
}

func (a *API) sweep(c *gin.Context) (any, error) {
	var in NewSweep
	if err := read(c, &in); err != nil {
		return nil, err
	}
	if in.Older == "" {
		in.Older = "P1D"
	}
	older, err := period.Parse(in.Older)
	if err != nil {
		return nil, &refuse.Error{Field: "older", Message: err.Error()}
	}
	return a.service.Sweeps.Sweep(c.Request.Context(), actor, c.Param("store"), older.Before(a.service.Now(), time.UTC), in.Remove)
}
