package catalog

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Declared is what was taken up last of something that a file declares.
type Declared struct {
	Kind    string `db:"kind"`
	Name    string `db:"name"`
	File    string `db:"file"`
	Text    string `db:"text"` // as it was in force then, in the form in which both are compared
	TakenAt Time   `db:"taken_at"`
}

// Declared lists what was taken up from files.
func (c *Catalog) Declared(ctx context.Context) ([]Declared, error) {
	return list[Declared](ctx, c.db, "SELECT * FROM declared ORDER BY kind, name")
}

// TakeUpDeclared keeps what was taken up, and forgets of what is gone that it ever was.
func (c *Catalog) TakeUpDeclared(ctx context.Context, taken, gone []Declared) error {
	if len(taken)+len(gone) == 0 {
		return nil
	}
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		for _, d := range taken {
			if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO declared VALUES (:kind, :name, :file, "+
				":text, :taken_at)", d); err != nil {
				return err
			}
		}
		for _, d := range gone {
			if _, err := tx.NamedExecContext(ctx, "DELETE FROM declared WHERE kind = :kind AND name = :name",
				d); err != nil {
				return err
			}
		}
		return nil
	})
}
