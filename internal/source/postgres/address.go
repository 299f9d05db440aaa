package postgres

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// nowhere is an address that no row has, by the type of the hidden column.
var nowhere = map[string]string{"oid": "0", "tid": "(0,0)"}

// address returns the hidden columns that tell where a row of a table without key lies: its place, and in a
// partitioned table, where places repeat themselves, its partition before it.
func address(t *shape.Table) []shape.Column {
	if len(t.Key) > 0 || len(t.Obstacles) > 0 {
		return nil
	}
	out := []shape.Column{{Name: "ctid", Type: "tid", Kind: value.Text, AsText: true}}
	if t.Partitioned {
		out = append([]shape.Column{{Name: "tableoid", Type: "oid", Kind: value.Text, AsText: true}}, out...)
	}
	return out
}

// restoreKeyless puts rows back into a table without key. Which rows of a segment have been put back stands in the
// record and nowhere else, so it is written in the same transaction, and what it names is not put back again.
func (s *Source) restoreKeyless(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	t := req.Table
	n := req.Rows.Rows()
	out := &source.RestoreOutcome{Present: make([]bool, n)}
	names, all := insertable(req)
	err := s.transaction(ctx, func(tx pgx.Tx) error {
		pc := tx.Conn().PgConn()
		for _, q := range []string{
			fmt.Sprintf("CREATE TEMP TABLE ambercellar_in ON COMMIT DROP AS SELECT 0::bigint AS ambercellar_ord, "+
				"%s FROM %s WITH NO DATA", quoteAll("", all), table(t)),
			"CREATE TEMP TABLE ambercellar_marks (ord bigint, ordinal bigint) ON COMMIT DROP",
		} {
			if err := run(ctx, pc, q); err != nil {
				return err
			}
		}
		var marks strings.Builder
		for i, o := range req.Ordinals {
			fmt.Fprintf(&marks, "%d\t%d\n", i, o)
			out.Present[i] = true
		}
		if _, err := pc.CopyFrom(ctx, strings.NewReader(marks.String()),
			"COPY pg_temp.ambercellar_marks FROM STDIN"); err != nil {
			return err
		}
		fresh := &value.Chunk{Width: req.Rows.Width}
		var digests []value.Digest
		err := eachRow(ctx, pc, "WITH fresh AS (INSERT INTO "+restoredTable(t)+
			" SELECT $1, $2, ordinal FROM pg_temp.ambercellar_marks ON CONFLICT DO NOTHING RETURNING ordinal) "+
			"SELECT m.ord FROM fresh JOIN pg_temp.ambercellar_marks m USING (ordinal) ORDER BY m.ord",
			[][]byte{[]byte(req.Restore), []byte(req.Segment)}, []uint32{typeText, typeText}, func(f [][]byte) error {
				i := binary.BigEndian.Uint64(f[0])
				out.Present[i] = false
				fresh.Values = append(fresh.Values, req.Rows.Row(int(i))...)
				digests = append(digests, req.Digests[i])
				return nil
			})
		if err != nil {
			return err
		}
		staged := req
		staged.Rows = fresh
		if _, err := pc.CopyFrom(ctx, &copyText{req: staged, staged: true},
			fmt.Sprintf("COPY pg_temp.ambercellar_in (ambercellar_ord, %s) FROM STDIN",
				quoteAll("", all))); err != nil {
			return err
		}
		// What the table then holds under the addresses that the insert reported, after all triggers.
		var want, got value.Set
		for _, d := range digests {
			want.Add(d)
		}
		tids, leaves := newArray(typeTID, len(digests), 6), newArray(typeOID, len(digests), 4)
		inserted := 0
		err = eachRow(ctx, pc, fmt.Sprintf(
			"INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM pg_temp.ambercellar_in ORDER BY "+
				"ambercellar_ord RETURNING tableoid, ctid",
			table(t), quoteAll("", names), quoteAll("", names)), nil, nil, func(f [][]byte) error {
			if inserted++; inserted <= len(digests) {
				leaves, tids = appendElement(leaves, f[0]), appendElement(tids, f[1])
			}
			return nil
		})
		if err != nil {
			return err
		}
		if inserted != len(digests) {
			return source.ErrAltered
		}
		query := fmt.Sprintf("SELECT %s FROM unnest($1::oid[], $2::tid[]) AS d(leaf, tid) JOIN %s t ON t.tableoid "+
			"= d.leaf AND t.ctid = d.tid WHERE t.xmin = pg_current_xact_id()::xid",
			strings.Join(expressions(t, req.Columns), ", "), table(t))
		if len(digests) > 0 {
			err = eachRow(ctx, pc, query, [][]byte{leaves, tids}, []uint32{arrayOID, arrayTID},
				func(f [][]byte) error {
					d, err := rowDigest(t, req.Columns, f)
					got.Add(d)
					out.Inserted++
					return err
				})
		}
		if err == nil && got != want {
			err = source.ErrAltered
		}
		out.Digest = got
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: rows cannot be put back: %w", t.Name, err)
	}
	out.Skipped = int64(n) - out.Inserted
	return out, nil
}
