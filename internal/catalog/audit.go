package catalog

import (
	"context"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Entry is a line of the audit log.
type Entry struct {
	ID      int64  `db:"id"`
	At      Time   `db:"at"`
	Actor   string `db:"actor"`
	Action  string `db:"action"`
	Subject string `db:"subject"`
	Detail  string `db:"detail"`
}

// Note writes a line into the audit log.
func (c *Catalog) Note(ctx context.Context, actor, action, subject, detail string) error {
	return c.note(ctx, c.writes, actor, action, subject, detail)
}

func (c *Catalog) note(ctx context.Context, x sqlx.ExecerContext, actor, action, subject, detail string) error {
	_, err := x.ExecContext(ctx, "INSERT INTO audit (at, actor, action, subject, detail) VALUES (?, ?, ?, ?, ?)",
		At(c.Now()), actor, action, subject, detail)
	return err
}

// AuditLog returns the newest lines of the audit log.
func (c *Catalog) AuditLog(ctx context.Context, p Page) ([]Entry, error) {
	return paged[Entry](ctx, c.db, p, order{columns: []string{"id"}}, "SELECT * FROM audit WHERE true")
}
