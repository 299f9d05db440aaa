package postgres

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"

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

// keyless puts rows back into a table without key. Which rows of a segment have been put back stands in the record and
// nowhere else, so it is written in the same transaction, and what it names is not put back again.
func (r *restoring) keyless(ctx context.Context) error {
	x := &keylessRestore{restoring: r}
	for _, step := range []func(context.Context) error{x.record, x.stage, x.insert} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

type keylessRestore struct {
	*restoring
	fresh   value.Chunk // the rows that are not back yet, and their digests
	digests []value.Digest
}

// record notes which rows are put back, and finds those that have not been yet.
func (x *keylessRestore) record(ctx context.Context) error {
	if err := run(ctx, x.pc, "CREATE TEMP TABLE ambercellar_marks (ord bigint, ordinal bigint) ON "+
		"COMMIT DROP"); err != nil {
		return err
	}
	var marks strings.Builder
	for i, o := range x.Ordinals {
		fmt.Fprintf(&marks, "%d\t%d\n", i, o)
		x.out.Present[i] = true
	}
	if _, err := x.pc.CopyFrom(ctx, strings.NewReader(marks.String()),
		"COPY pg_temp.ambercellar_marks FROM STDIN"); err != nil {
		return err
	}
	x.fresh.Width = x.Rows.Width
	return eachRow(ctx, x.pc, "WITH fresh AS (INSERT INTO "+restoredTable(x.Table)+
		" SELECT $1, $2, ordinal FROM pg_temp.ambercellar_marks ON CONFLICT DO NOTHING RETURNING ordinal) "+
		"SELECT m.ord FROM fresh JOIN pg_temp.ambercellar_marks m USING (ordinal) ORDER BY m.ord",
		[][]byte{[]byte(x.Restore), []byte(x.Segment)}, []uint32{typeText, typeText}, func(f [][]byte) error {
			i := binary.BigEndian.Uint64(f[0])
			x.out.Present[i] = false
			x.fresh.Values = append(x.fresh.Values, x.Rows.Row(int(i))...)
			x.digests = append(x.digests, x.Digests[i])
			return nil
		})
}

// stage copies those rows into a table of the transaction's own.
func (x *keylessRestore) stage(ctx context.Context) error {
	_, all := insertable(x.RestoreRequest)
	if err := run(ctx, x.pc, fmt.Sprintf("CREATE TEMP TABLE ambercellar_in ON COMMIT DROP AS SELECT 0::bigint AS "+
		"ambercellar_ord, %s FROM %s WITH NO DATA", quoteAll("", all), table(x.Table))); err != nil {
		return err
	}
	staged := x.RestoreRequest
	staged.Rows = &x.fresh
	_, err := x.pc.CopyFrom(ctx, &copyText{req: staged, staged: true},
		fmt.Sprintf("COPY pg_temp.ambercellar_in (ambercellar_ord, %s) FROM STDIN", quoteAll("", all)))
	return err
}

// insert puts the staged rows into the table, and compares what it then holds under the addresses that the insert
// reported, after all triggers.
func (x *keylessRestore) insert(ctx context.Context) error {
	names, _ := insertable(x.RestoreRequest)
	var want, got value.Set
	for _, d := range x.digests {
		want.Add(d)
	}
	tids, leaves := newArray(typeTID, len(x.digests), 6), newArray(typeOID, len(x.digests), 4)
	inserted := 0
	err := eachRow(ctx, x.pc, fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM "+
		"pg_temp.ambercellar_in ORDER BY ambercellar_ord RETURNING tableoid, ctid", table(x.Table),
		quoteAll("", names), quoteAll("", names)), nil, nil, func(f [][]byte) error {
		if inserted++; inserted <= len(x.digests) {
			leaves, tids = appendElement(leaves, f[0]), appendElement(tids, f[1])
		}
		return nil
	})
	if err != nil {
		return err
	}
	if inserted != len(x.digests) {
		return source.ErrAltered
	}
	if inserted > 0 {
		err = eachRow(ctx, x.pc, fmt.Sprintf(
			"SELECT %s FROM unnest($1::oid[], $2::tid[]) AS d(leaf, tid) JOIN %s t ON "+
				"t.tableoid = d.leaf AND t.ctid = d.tid WHERE t.xmin = pg_current_xact_id()::xid",
			strings.Join(expressions(x.Table, x.Columns), ", "), table(x.Table)), [][]byte{leaves, tids},
			[]uint32{arrayOID, arrayTID}, func(f [][]byte) error {
				d, err := rowDigest(x.Table, x.Columns, f)
				got.Add(d)
				x.out.Inserted++
				return err
			})
	}
	if err == nil && got != want {
		err = source.ErrAltered
	}
	x.out.Digest = got
	return err
}
