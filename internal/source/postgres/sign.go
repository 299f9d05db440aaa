package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// signQuery reads of a table which versions of the server's catalog rows describe its columns, rewrite rules and row
// security, and the foreign keys that refer to it, which are triggers there. It is asked with every batch, so it is
// short: rows go by their address and version, whatever becomes of the key.
const signQuery = `SELECT concat_ws(' ', c.oid, c.relhasrules, c.relrowsecurity,
	(SELECT string_agg(concat(ctid, xmin), ',' ORDER BY attnum) FROM pg_attribute WHERE attrelid = c.oid
		AND attnum > 0),
	(SELECT string_agg(concat(oid, xmin), ',' ORDER BY oid) FROM pg_trigger WHERE %s))
	FROM pg_class c WHERE c.oid = $1::text::regclass`

func signOf(t *shape.Table) string {
	if t.Partitioned { // what refers to a partition of it, too
		return fmt.Sprintf(signQuery, "tgrelid IN (SELECT relid FROM pg_partition_tree(c.oid))")
	}
	return fmt.Sprintf(signQuery, "tgrelid = c.oid")
}

// unaltered checks, within a transaction that has deleted from a table, that it is shaped as it was described: what
// would alter it has to wait for that transaction.
func unaltered(ctx context.Context, pc *pgconn.PgConn, t *shape.Table) error {
	same, asked := sameShape(t)
	if err := together(ctx, pc, asked); err != nil {
		return err
	}
	return same()
}

// sameShape is unaltered as a step among others: same tells what it has found.
func sameShape(t *shape.Table) (same func() error, asked step) {
	words := ""
	return func() error {
			if t.Sign != nil && !t.Sign.Is(words) {
				return source.ErrReshaped
			}
			return nil
		}, step{query: signOf(t), values: []string{table(t)}, fixed: true, row: func(raw [][]byte) error {
			words = string(raw[0])
			return nil
		}}
}

// sign gives a table that is about to be described its sign.
func (s *Source) sign(ctx context.Context, t *shape.Table) error {
	var words string
	err := s.pool.QueryRow(ctx, signOf(t), table(t)).Scan(&words)
	t.Sign = shape.NewSign(words)
	return err
}
