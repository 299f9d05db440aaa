package catalog

import (
	"context"
	"database/sql"
	"sync"

	"github.com/jmoiron/sqlx"
)

// reader is what the catalog reads with. It keeps the statements that it is asked, prepared: to read their text costs
// SQLite more than most of them cost themselves.
type reader struct {
	*sqlx.DB
	mu       sync.Mutex
	prepared map[string]*sqlx.Stmt
}

// keptStatements is how many statements a reader keeps; there are fewer, but for lists of changing lengths. None is let
// go again, as another may be about to ask it.
const keptStatements = 300

// statement returns a statement, prepared; nil where it is not kept.
func (r *reader) statement(ctx context.Context, query string) *sqlx.Stmt {
	r.mu.Lock()
	s, full := r.prepared[query], len(r.prepared) >= keptStatements
	r.mu.Unlock()
	if s != nil || full {
		return s
	}
	s, err := r.PreparexContext(ctx, query)
	if err != nil {
		return nil // asked without, it fails in the same way
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if first := r.prepared[query]; first != nil { // somebody was faster
		s.Close()
		return first
	}
	r.prepared[query] = s
	return s
}

// QueryContext, QueryxContext and QueryRowxContext ask a statement that is prepared; GetContext and SelectContext do so
// through them.
func (r *reader) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := r.statement(ctx, query); s != nil {
		return s.QueryContext(ctx, args...)
	}
	return r.DB.QueryContext(ctx, query, args...)
}

func (r *reader) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	if s := r.statement(ctx, query); s != nil {
		return s.QueryxContext(ctx, args...)
	}
	return r.DB.QueryxContext(ctx, query, args...)
}

func (r *reader) QueryRowxContext(ctx context.Context, query string, args ...any) *sqlx.Row {
	if s := r.statement(ctx, query); s != nil {
		return s.QueryRowxContext(ctx, args...)
	}
	return r.DB.QueryRowxContext(ctx, query, args...)
}

func (r *reader) GetContext(ctx context.Context, to any, query string, args ...any) error {
	return sqlx.GetContext(ctx, r, to, query, args...)
}

func (r *reader) SelectContext(ctx context.Context, to any, query string, args ...any) error {
	return sqlx.SelectContext(ctx, r, to, query, args...)
}
