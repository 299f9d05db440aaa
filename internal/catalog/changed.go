package catalog

import (
	"context"
	"database/sql"
	"sync"

	"github.com/jmoiron/sqlx"
)

// writer is what the catalog writes with: one connection, so that nobody waits for the file's lock and finds it taken
// again and again. It wakes whoever waits for something to change.
type writer struct {
	*sqlx.DB
	mu      sync.Mutex
	waiting chan struct{} // closed by the next change; nil: nobody waits
}

// Changed returns a channel that is closed once something has been written. Ask for it before looking at what there
// is, so that nothing is missed.
func (c *Catalog) Changed() <-chan struct{} {
	c.writes.mu.Lock()
	defer c.writes.mu.Unlock()
	if c.writes.waiting == nil {
		c.writes.waiting = make(chan struct{})
	}
	return c.writes.waiting
}

// tell wakes who waits. It is called after something was written, or may have been: a commit that failed can have
// happened.
func (w *writer) tell() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.waiting != nil {
		close(w.waiting)
		w.waiting = nil
	}
}

func (w *writer) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	defer w.tell()
	done, err := w.DB.ExecContext(ctx, query, args...)
	return done, noRoom(err)
}

func (w *writer) NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error) {
	defer w.tell()
	done, err := w.DB.NamedExecContext(ctx, query, arg)
	return done, noRoom(err)
}
