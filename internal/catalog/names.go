package catalog

import (
	"context"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/shape"
)

// FormerName is a name that a column of a table has had, as the administrator tells it.
type FormerName struct {
	Source string `db:"source" json:"source"`
	Table  string `db:"table_name" json:"table"`
	Name   string `db:"name" json:"name"`       // that the column has now, or had next
	Was    string `db:"was" json:"was"`         // that it had before; empty: none, the column was added
	ToldAt Time   `db:"told_at" json:"told_at"` // when that was told
	ToldBy string `db:"told_by" json:"told_by"`
}

// FormerNames are all that is told of a table's columns.
type FormerNames []FormerName

// Now returns the columns of an archived table under the names that they have now: one whose name was another's before has that, unless a
// column of that name stands beside it. Names follow each other, however often a column was renamed.
func (f FormerNames) Now(columns []shape.Column) []shape.Column {
	out := columns
	for range f { // each can apply once
		changed := false
		for _, n := range f {
			at, taken := -1, false
			for i := range out {
				if n.Was != "" && out[i].Name == n.Was {
					at = i
				}
				taken = taken || out[i].Name == n.Name
			}
			if at < 0 || taken {
				continue
			}
			if !changed && &out[0] == &columns[0] {
				out = append([]shape.Column{}, columns...)
			}
			out[at].Name, changed = n.Name, true
		}
		if !changed {
			break
		}
	}
	return out
}

// Added says whether a column is told to have had no other name before.
func (f FormerNames) Added(name string) bool {
	for _, n := range f {
		if n.Name == name && n.Was == "" {
			return true
		}
	}
	return false
}

// FormerNames lists what is told of a table's columns, in the order in which it was told.
func (c *Catalog) FormerNames(ctx context.Context, source, table string) (FormerNames, error) {
	return list[FormerName](ctx, c.db, "SELECT * FROM column_name WHERE source = ? AND table_name = ? ORDER BY told_at, name, was", source, table)
}

// TellName keeps a former name of a column.
func (c *Catalog) TellName(ctx context.Context, n FormerName) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO column_name VALUES (:source, :table_name, :name, :was, :told_at, :told_by)", n); err != nil {
			return err
		}
		return note(ctx, tx, n.ToldBy, "column tell", n.Source+"."+n.Table, n.said())
	})
}

// ForgetName takes back what was told of a column. ErrNotFound: it was not.
func (c *Catalog) ForgetName(ctx context.Context, actor string, n FormerName) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.NamedExecContext(ctx, "DELETE FROM column_name WHERE source = :source AND table_name = :table_name AND name = :name AND was = :was", n)
		if err != nil {
			return err
		}
		if k, err := res.RowsAffected(); err != nil || k == 0 {
			return fmt.Errorf("that %s of %s.%s %w", n.said(), n.Source, n.Table, ErrNotFound)
		}
		return note(ctx, tx, actor, "column forget", n.Source+"."+n.Table, n.said())
	})
}

func (n FormerName) said() string {
	if n.Was == "" {
		return strings.TrimSpace("column " + n.Name + " was added")
	}
	return "column " + n.Name + " was called " + n.Was
}
