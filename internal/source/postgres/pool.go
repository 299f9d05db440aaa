package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/source"
)

// pool marks what fails on its connections. When one of them turns out to be cut off, the others are no longer relied
// on either: what is tried again has a new one, instead of meeting one dead connection after the other.
type pool struct{ *pgxpool.Pool }

func (p pool) marked(err error) error {
	if err = unreachable(err); errors.Is(err, source.ErrUnreachable) {
		p.Reset()
	}
	return err
}

func (p pool) Acquire(ctx context.Context) (*pgxpool.Conn, error) {
	c, err := p.Pool.Acquire(ctx)
	return c, p.marked(err)
}

func (p pool) Exec(ctx context.Context, statement string, args ...any) (pgconn.CommandTag, error) {
	tag, err := p.Pool.Exec(ctx, statement, args...)
	return tag, p.marked(err)
}

func (p pool) Query(ctx context.Context, query string, args ...any) (pgx.Rows, error) {
	r, err := p.Pool.Query(ctx, query, args...)
	return rows{r, p}, p.marked(err)
}

func (p pool) QueryRow(ctx context.Context, query string, args ...any) pgx.Row {
	return row{p.Pool.QueryRow(ctx, query, args...), p}
}

type rows struct {
	pgx.Rows
	pool
}

func (r rows) Err() error { return r.marked(r.Rows.Err()) }

type row struct {
	pgx.Row
	pool
}

func (r row) Scan(into ...any) error { return r.marked(r.Row.Scan(into...)) }
