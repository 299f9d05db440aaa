package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// TableSize is how large a table was.
type TableSize struct {
	Source string `db:"source"`
	Table  string `db:"table_name"`
	At     Time   `db:"at"`
	Rows   int64  `db:"row_count"` // the database's estimate; -1 where it has none
	Bytes  int64  `db:"bytes"`     // with indexes
}

// KeepSizes keeps how large tables are.
func (c *Catalog) KeepSizes(ctx context.Context, sizes []TableSize) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		for i := range sizes {
			if _, err := tx.NamedExecContext(ctx,
				`INSERT OR REPLACE INTO table_size (source, table_name, at, row_count,
				bytes) VALUES (:source, :table_name, :at, :row_count, :bytes)`, &sizes[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// SizesKept tells when the sizes of a source's tables were last kept; zero: never.
func (c *Catalog) SizesKept(ctx context.Context, source string) (time.Time, error) {
	found, err := list[Time](ctx, c.db, "SELECT at FROM table_size WHERE source = ? ORDER BY at DESC LIMIT 1", source)
	if err != nil || len(found) == 0 {
		return time.Time{}, err
	}
	return found[0].Time, nil
}

// Growth is a table without a rule that has grown.
type Growth struct {
	Source string `db:"source"`
	Table  string `db:"table_name"`
	Since  Time   `db:"since"`
	Was    int64  `db:"was"` // bytes then
	Is     int64  `db:"is_"` // bytes now
}

// Grown lists the tables that no rule is for, neither as its own nor as a related one, and that have grown since a
// time by so many bytes at least and by such a share.
func (c *Catalog) Grown(ctx context.Context, since time.Time, bytes int64, share float64) ([]Growth, error) {
	return list[Growth](ctx, c.db, `WITH edge AS (
			SELECT source, table_name, min(at) AS first, max(at) AS last FROM table_size WHERE at >= ?1 GROUP BY 1, 2)
		SELECT e.source, e.table_name, e.first AS since, a.bytes AS was, b.bytes AS is_ FROM edge e
			JOIN table_size a ON a.source = e.source AND a.table_name = e.table_name AND a.at = e.first
			JOIN table_size b ON b.source = e.source AND b.table_name = e.table_name AND b.at = e.last
		WHERE b.bytes - a.bytes >= ?2 AND b.bytes - a.bytes >= ?3 * a.bytes
			AND NOT EXISTS (SELECT 1 FROM rule WHERE rule.source = e.source AND rule.table_name = e.table_name)
			AND NOT EXISTS (SELECT 1 FROM rule u JOIN rule_revision v ON v.rule = u.name AND v.revision = u.revision,
				json_tree(v.body, '$.related') x
				WHERE u.source = e.source AND x.key = 'table' AND x.value = e.table_name)
		ORDER BY b.bytes - a.bytes DESC LIMIT 100`, At(since), bytes, share)
}

// WrittenTo is how many bytes runs that ended since a day have written to a store.
func (c *Catalog) WrittenTo(ctx context.Context, store string, since time.Time) (n int64, err error) {
	err = c.db.GetContext(ctx, &n, "SELECT coalesce(sum(file_bytes), 0) FROM day_sum WHERE day >= ? AND store = ?",
		since.UTC().Format(time.DateOnly), store)
	return n, err
}
