package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Restore puts rows back: through COPY into a temporary table of the same types, from there with a skip for
// conflicts on the key alone, and then reads what the table now holds to compute its digest.
func (s *Source) Restore(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	t := req.Table
	if t.ByAddress() {
		return s.restoreKeyless(ctx, req)
	}
	out := &source.RestoreOutcome{Present: make([]bool, req.Rows.Rows())}
	for i := range out.Present {
		out.Present[i] = true
	}
	names, all := insertable(req)
	on := make([]string, len(t.Key))
	for i, k := range t.Key {
		on[i] = fmt.Sprintf("t.%s = n.%s", quote(k), quote(k))
	}
	// Rows of this transaction that stand under one of our keys: what has been inserted, and nothing else.
	ours := fmt.Sprintf("FROM pg_temp.ambercellar_in n JOIN %s t ON %s WHERE t.xmin = pg_current_xact_id()::xid", table(t), strings.Join(on, " AND "))
	err := s.transaction(ctx, func(tx pgx.Tx) error {
		pc := tx.Conn().PgConn()
		for _, q := range []string{
			fmt.Sprintf("CREATE TEMP TABLE ambercellar_in ON COMMIT DROP AS SELECT 0::bigint AS ambercellar_ord, %s FROM %s WITH NO DATA", quoteAll("", all), table(t)),
			restoredSchema(t),
		} {
			if err := run(ctx, pc, q); err != nil {
				return err
			}
		}
		if _, err := pc.CopyFrom(ctx, bytes.NewReader(copyText(req.Rows)), fmt.Sprintf("COPY pg_temp.ambercellar_in (ambercellar_ord, %s) FROM STDIN", quoteAll("", all))); err != nil {
			return err
		}
		if err := run(ctx, pc, fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM pg_temp.ambercellar_in ORDER BY ambercellar_ord ON CONFLICT (%s) DO NOTHING",
			table(t), quoteAll("", names), quoteAll("", names), quoteAll("", t.Key))); err != nil {
			return err
		}
		query := fmt.Sprintf("SELECT n.ambercellar_ord, %s %s", strings.Join(expressions(t, req.Columns), ", "), ours)
		err := eachRow(ctx, pc, query, nil, nil, func(f [][]byte) error {
			i := binary.BigEndian.Uint64(f[0])
			d, err := rowDigest(t, req.Columns, f[1:])
			if err == nil && d != req.Digests[i] {
				err = source.ErrAltered
			}
			out.Digest.Add(d)
			out.Present[i] = false
			out.Inserted++
			return err
		})
		if err != nil {
			return err
		}
		return run(ctx, pc, fmt.Sprintf("INSERT INTO %s SELECT $1, %s %s ON CONFLICT (%s) DO UPDATE SET restore = excluded.restore",
			restoredTable(t), quoteAll("t.", t.Key), ours, restoredKey(t)), req.Restore)
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: rows cannot be put back: %w", t.Name, err)
	}
	out.Skipped = int64(len(out.Present)) - out.Inserted
	return out, nil
}

// insertable returns the columns that are written, and all that the rows have.
func insertable(req source.RestoreRequest) (names, all []string) {
	for _, i := range req.Columns {
		c := &req.Table.Columns[i]
		if all = append(all, c.Name); !c.Generated {
			names = append(names, c.Name)
		}
	}
	return names, all
}

func restoredKey(t *shape.Table) string {
	keys := make([]string, len(t.Key))
	for i := range t.Key {
		keys[i] = fmt.Sprintf("k%d", i+1)
	}
	return strings.Join(keys, ", ")
}

// restoredSchema makes the record of restored rows, with key columns of the table's own types.
func restoredSchema(t *shape.Table) string {
	columns := []string{"restore text NOT NULL"}
	for i, k := range t.Key {
		c, _ := t.Column(k)
		columns = append(columns, fmt.Sprintf("k%d %s", i+1, c.Type))
	}
	return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (%s, PRIMARY KEY (%s))", restoredTable(t), strings.Join(columns, ", "), restoredKey(t))
}

var copyEscapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`)

// copyText writes rows in COPY's text format, each with its ordinal in front.
func copyText(rows *value.Chunk) []byte {
	var b bytes.Buffer
	for i := range rows.Rows() {
		fmt.Fprintf(&b, "%d", i)
		for _, v := range rows.Row(i) {
			b.WriteByte('\t')
			if v.Kind == value.Null {
				b.WriteString(`\N`)
			} else {
				copyEscapes.WriteString(&b, input(v))
			}
		}
		b.WriteByte('\n')
	}
	return b.Bytes()
}

// MakeTable makes a table without what computes or checks values: rows come as they were.
func (s *Source) MakeTable(ctx context.Context, name string, columns []shape.Column, key []string) error {
	parts := make([]string, len(columns), len(columns)+1)
	for i, c := range columns {
		parts[i] = quote(c.Name) + " " + c.Type
	}
	if len(key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+quoteAll("", key)+")")
	}
	schema, base, ok := strings.Cut(name, ".")
	if !ok {
		schema, base = "public", name
	}
	_, err := s.pool.Exec(ctx, fmt.Sprintf("CREATE TABLE %s.%s (%s)", quote(schema), quote(base), strings.Join(parts, ", ")))
	return err
}
