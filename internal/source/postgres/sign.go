package postgres

import (
	"context"

	"github.com/jackc/pgx/v5/pgconn"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// signQuery is what the server's catalog says of a table's columns, unique indexes, rewrite rules and row security, and of the
// triggers on it and its partitions: a foreign key that refers to a table shows there too.
const signQuery = `SELECT concat_ws(' ', c.oid, c.relhasrules, c.relrowsecurity,
	(SELECT md5(string_agg(concat_ws(' ', attnum, attname, atttypid, atttypmod, attcollation, attnotnull, attgenerated, attisdropped), ',' ORDER BY attnum)) FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0),
	(SELECT md5(string_agg(indexrelid::text, ',' ORDER BY indexrelid)) FROM pg_index WHERE indrelid = c.oid AND indisunique),
	(SELECT md5(string_agg(concat_ws(' ', oid, tgenabled), ',' ORDER BY oid)) FROM pg_trigger WHERE tgrelid = c.oid OR c.relkind = 'p' AND tgrelid IN (SELECT relid FROM pg_partition_tree(c.oid))))
	FROM pg_class c WHERE c.oid = $1::text::regclass`

// unaltered checks, within a transaction that has deleted from a table, that it is shaped as it was described: what would alter
// it has to wait for that transaction.
func unaltered(ctx context.Context, pc *pgconn.PgConn, t *shape.Table) error {
	if t.Sign == nil {
		return nil
	}
	words := ""
	params, types := texts(table(t))
	if err := eachRow(ctx, pc, signQuery, params, types, func(raw [][]byte) error {
		words = string(raw[0])
		return nil
	}); err != nil {
		return err
	}
	if !t.Sign.Is(words) {
		return source.ErrReshaped
	}
	return nil
}

// sign gives a table that is about to be described its sign.
func (s *Source) sign(ctx context.Context, t *shape.Table) error {
	var words string
	err := s.pool.QueryRow(ctx, signQuery, table(t)).Scan(&words)
	t.Sign = shape.NewSign(words)
	return unreachable(err)
}
