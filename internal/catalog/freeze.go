package catalog

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
)

// Freeze keeps the service from touching databases: all of them, one source, or one table of it.
type Freeze struct {
	ID       string `db:"id"`
	Source   string `db:"source"`     // empty: all
	Table    string `db:"table_name"` // empty: all of the source
	Reason   string `db:"reason"`
	Until    *Time  `db:"until"` // when it lifts itself; nil: somebody lifts it
	PlacedAt Time   `db:"placed_at"`
	PlacedBy string `db:"placed_by"`
	FreezeLift
}

// FreezeLift is how a freeze ended.
type FreezeLift struct {
	LiftedAt   *Time  `db:"lifted_at"`
	LiftedBy   string `db:"lifted_by"`
	LiftReason string `db:"lift_reason"`
}

// Where names what is frozen.
func (f *Freeze) Where() string {
	switch {
	case f.Source == "":
		return "every source"
	case f.Table == "":
		return "source " + f.Source
	}
	return "table " + f.Table + " of source " + f.Source
}

// Covers says whether the freeze is for a table of a source; of the source as such where no table is named.
func (f *Freeze) Covers(source, table string) bool {
	return f.Source == "" || f.Source == source && (f.Table == "" || f.Table == table)
}

// PlaceFreeze keeps a freeze.
func (c *Catalog) PlaceFreeze(ctx context.Context, actor string, f Freeze) (*Freeze, error) {
	f.ID, f.PlacedAt, f.PlacedBy = ulid.Make().String(), At(c.Now()), actor
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO freeze (id, source, table_name, reason, until, placed_at,
			placed_by) VALUES (:id, :source, :table_name, :reason, :until, :placed_at, :placed_by)`, f); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "service freeze", f.ID, f.Where()+": "+f.Reason)
	})
	return &f, err
}

// LiftFreeze ends a freeze.
func (c *Catalog) LiftFreeze(ctx context.Context, actor, id, reason string) (*Freeze, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		f, err := get[Freeze](ctx, tx, "freeze", id, "SELECT * FROM freeze WHERE id = ?", id)
		if err != nil {
			return err
		}
		if f.LiftedAt != nil {
			return fmt.Errorf("freeze %s was lifted already: %w", id, ErrState)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE freeze SET lifted_at = ?, lifted_by = ?, lift_reason = ? WHERE id = ?",
			At(c.Now()), actor, reason, id); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "service unfreeze", id, f.Where()+": "+reason)
	})
	if err != nil {
		return nil, err
	}
	return get[Freeze](ctx, c.db, "freeze", id, "SELECT * FROM freeze WHERE id = ?", id)
}

// Freezes lists freezes, the newest first: all of them, or those that stand.
func (c *Catalog) Freezes(ctx context.Context, lifted bool) ([]Freeze, error) {
	if lifted {
		return list[Freeze](ctx, c.db, "SELECT * FROM freeze ORDER BY placed_at DESC, id DESC LIMIT 1000")
	}
	return list[Freeze](ctx, c.db, "SELECT * FROM freeze WHERE lifted_at IS NULL ORDER BY placed_at DESC, id DESC")
}
