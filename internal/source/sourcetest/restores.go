package sourcetest

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

func digestsOf(rows [][]value.Value) (out []value.Digest) {
	var h value.Hasher
	for _, r := range rows {
		out = append(out, h.Row(r))
	}
	return out
}

func chunkOf(rows [][]value.Value) *value.Chunk {
	c := &value.Chunk{Width: len(rows[0])}
	for _, r := range rows {
		c.Values = append(c.Values, r...)
	}
	return c
}

func restores(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	p := w.read(t, sel, nil, 100, 1<<30)
	w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1))
	w.exec(fmt.Sprintf("INSERT INTO scan VALUES (%d, 2, '2026-01-01 00:00:00', 'newer', 'newer')", p.rows[1][0].N))
	out, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r1",
		Columns: allColumns(sel.Table), Rows: chunkOf(p.rows), Digests: digestsOf(p.rows)})
	if err != nil {
		t.Fatal(err)
	}
	var want value.Set
	for i, d := range p.digests {
		if i != 1 {
			want.Add(d)
		}
	}
	expect(t, "inserted and skipped", []int64{out.Inserted, out.Skipped}, []int64{5, 1})
	expect(t, "digest of the rows as they stand now", out.Digest, want)
	expect(t, "present before", out.Present, []bool{false, true, false, false, false, false})
	n, err := w.s.RestoredCount(w.ctx, sel.Table, "r1")
	expect(t, "recorded", fmt.Sprint(n, err), "5 <nil>")
	expect(t, "restored rows are not due", w.due(t, sel), 0)
	expect(t, "restored rows in the count", w.tally(t, sel)[0].Restored, int64(5))
	var keys [][]value.Value
	for _, r := range p.rows {
		keys = append(keys, []value.Value{r[0]})
	}
	count := func(restore string) (n int) {
		err := w.s.Related(w.ctx, source.Query{Selection: source.Selection{Table: sel.Table}, On: sel.Table.Key,
			Values: keys, Restored: restore}, func([]value.Value) error { n++; return nil })
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	expect(t, "rows that each restore put back", []int{count(""), count("r1"), count("r2'")}, []int{6, 5, 0})
	for _, restore := range []string{"r2", "r1"} {
		if err := w.s.ForgetRestored(w.ctx, sel.Table, restore); err != nil {
			t.Fatal(err)
		}
	}
	expect(t, "rows of a restore that is forgotten", count("r1"), 0)
	expect(t, "they are due again", w.due(t, sel), 5)
}

func replaces(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	p := w.read(t, sel, nil, 100, 1<<30)
	w.exec(fmt.Sprintf("DELETE FROM scan WHERE id = %d; UPDATE scan SET note = 'another' WHERE id IN (%d, %d)",
		p.rows[0][0].N, p.rows[1][0].N, p.rows[2][0].N))
	request := source.RestoreRequest{Table: sel.Table, Restore: "r1", Columns: allColumns(sel.Table),
		Rows: chunkOf(p.rows), Digests: digestsOf(p.rows)}
	refusal := errors.New("not now")
	request.Replace = func(*value.Chunk) error { return refusal }
	if _, err := w.s.Restore(w.ctx, request); !errors.Is(err, refusal) {
		t.Errorf("who hears of it did not want it: %v", err)
	}
	var heard []string
	request.Replace = func(c *value.Chunk) error {
		for i := range c.Rows() {
			heard = append(heard, fmt.Sprintf("%d %s", c.Row(i)[0].N, c.Row(i)[4].B))
		}
		return nil
	}
	out, err := w.s.Restore(w.ctx, request)
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(heard)
	want := []string{fmt.Sprintf("%d another", p.rows[1][0].N), fmt.Sprintf("%d another", p.rows[2][0].N)}
	slices.Sort(want)
	expect(t, "rows that were heard of", heard, want)
	expect(t, "inserted, replaced, skipped", []int64{out.Inserted, out.Replaced, out.Skipped}, []int64{3, 2, 3})
	expect(t, "present as they are to be", out.Present, []bool{false, false, false, true, true, true})
	again := w.read(t, w.selection(t, "scan", "scanned_at"), nil, 100, 1<<30)
	expect(t, "rows that are due: those that were not restored", len(again.rows), 3)
	request.Replace = func(*value.Chunk) error { t.Error("rows that are as they are to be were replaced"); return nil }
	if out, err = w.s.Restore(w.ctx, request); err != nil || out.Inserted != 0 || out.Skipped != 6 {
		t.Errorf("once more: %+v, %v", out, err)
	}
}

// tables are made as rows need them, and never in the place of another.
func tables(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	p := w.read(t, sel, nil, 100, 1<<30)
	if err := w.s.MakeTable(w.ctx, "scan_aside", sel.Table.Columns, sel.Table.Key); err != nil {
		t.Fatal(err)
	}
	foreign := slices.Clone(sel.Table.Columns) // as a manifest could have it that somebody has written
	foreign[len(foreign)-1].Type = "integer); DROP TABLE scan; --"
	if err := w.s.MakeTable(w.ctx, "scan_foreign", foreign, sel.Table.Key); err == nil ||
		!strings.Contains(err.Error(), "is no type") {
		t.Errorf("a type that is none: %v", err)
	}
	if err := w.s.MakeTable(w.ctx, "scan_aside", sel.Table.Columns, sel.Table.Key); err == nil {
		t.Error("a table was made in the place of another")
	}
	side, err := w.s.Table(w.ctx, "scan_aside")
	if err != nil {
		t.Fatal(err)
	}
	out, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: side, Restore: "s1", Columns: allColumns(side),
		Rows: chunkOf(p.rows), Digests: digestsOf(p.rows)})
	if err != nil {
		t.Fatal(err)
	}
	var want value.Set
	for _, d := range digestsOf(p.rows) {
		want.Add(d)
	}
	expect(t, "rows put aside", out.Digest, want)
	expect(t, "the key of the table that was made", side.Key, sel.Table.Key)
}

func restoreConflict(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	p := w.read(t, sel, nil, 100, 1<<30)
	w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1))
	// takes the gate of a row that is to come back
	w.exec(fmt.Sprintf("INSERT INTO scan VALUES (7777, 1, '2026-01-01 00:00:00', '%s', NULL)", p.rows[4][3].B))
	if _, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r1",
		Columns: allColumns(sel.Table), Rows: chunkOf(p.rows), Digests: digestsOf(p.rows)}); err == nil {
		t.Error("a conflict on another unique key passed in silence")
	}
	w.exec("DELETE FROM scan WHERE id = 7777; DELETE FROM vessel WHERE id = 99")
	out, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r1",
		Columns: allColumns(sel.Table), Rows: chunkOf(p.rows), Digests: digestsOf(p.rows)})
	if err != nil {
		t.Fatal(err)
	}
	expect(t, "nothing of the failed restore had stayed", out.Inserted, int64(6))
	w.exec(fmt.Sprintf("DELETE FROM scan WHERE id = %d", p.rows[0][0].N))
	orphan := value.CloneRow(p.rows[0])
	orphan[1] = value.Of(12345)
	if _, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r2",
		Columns: allColumns(sel.Table), Rows: chunkOf([][]value.Value{orphan}),
		Digests: digestsOf([][]value.Value{orphan})}); err == nil {
		t.Error("a row whose parent is missing came back in silence")
	}
}

func typesReturn(t *testing.T, w *world) {
	for i, c := range w.f.Types {
		name := fmt.Sprintf("typed%d", i)
		w.exec(fmt.Sprintf("CREATE TABLE %s (id integer PRIMARY KEY, at %s, v %s)", name, w.f.AgeType, c.Type))
		w.exec(fmt.Sprintf("INSERT INTO %s VALUES (0, '2020-01-01 00:00:00', NULL)", name))
		for j, lit := range c.Literals {
			w.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, '2020-01-01 00:00:00', %s)", name, j+1, lit))
		}
		w.exec(fmt.Sprintf("CREATE TABLE before_%s AS SELECT * FROM %s", name, name))
		sel := w.selection(t, name, "at")
		if col, _ := sel.Table.Column("v"); col.Problem != "" {
			t.Errorf("type %s: %s", c.Type, col.Problem)
			continue
		}
		p := w.read(t, sel, nil, 100, 1<<30)
		exact := make([][]value.Value, len(p.rows))
		for k, r := range p.rows { // as it would come back from an archive
			for _, v := range r {
				back, err := value.ParseExact(v.Exact())
				if err != nil {
					t.Fatalf("type %s: %v", c.Type, err)
				}
				exact[k] = append(exact[k], back)
			}
		}
		if got := w.delete(t, w.batch(sel, p, w.lease(t, name, "me"), 1+i)).Deleted; got != len(c.Literals)+1 {
			t.Errorf("type %s: %d of %d rows were deleted", c.Type, got, len(c.Literals)+1)
		}
		out, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r",
			Columns: allColumns(sel.Table), Rows: chunkOf(exact), Digests: digestsOf(exact)})
		if err != nil {
			t.Errorf("type %s: %v", c.Type, err)
			continue
		}
		var want value.Set
		for _, d := range p.digests {
			want.Add(d)
		}
		expect(t, "type "+c.Type+": digest after restore", out.Digest, want)
		// The database's own judgement, through a unique row that only exists where something differs.
		same := fmt.Sprintf(w.f.Same, "a.v", "b.v")
		w.exec(fmt.Sprintf("CREATE TABLE differs_%s AS SELECT a.id FROM %s a JOIN before_%s b ON a.id = b.id WHERE "+
			"NOT (%s)", name, name, name, same))
		different := w.selection(t, "differs_"+name, "id")
		different.Age.Unit = rule.Seconds
		different.Table.Key = []string{"id"}
		for _, r := range w.read(t, different, nil, 100, 1<<30).rows {
			literal := "NULL"
			if r[0].N > 0 {
				literal = c.Literals[r[0].N-1]
			}
			t.Errorf("type %s: %s came back different", c.Type, literal)
		}
	}
}

func typesRefused(t *testing.T, w *world) {
	for i, typ := range w.f.Refused {
		name := fmt.Sprintf("refused%d", i)
		w.exec(fmt.Sprintf("CREATE TABLE %s (id integer PRIMARY KEY, v %s)", name, typ))
		described, err := w.s.Table(w.ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		if described.Columns[1].Problem == "" {
			t.Errorf("type %s is not refused", typ)
		}
	}
}

// liveRows sees the journal and the rows of a table at one moment: a row is in the one or in the other, whatever is
// deleted in between.
func liveRows(t *testing.T, w *world) {
	sel := w.scans(t, 40, 30)
	p := w.read(t, sel, nil, 100, 1<<30)
	l := w.lease(t, "scan", "me")
	w.delete(t, w.batch(sel, p, l, 1, 0, 1, 2, 3, 4, 5, 6, 7, 8, 9))
	all, err := w.s.CountWhere(w.ctx, sel.Table, bind(t, sel.Table, "TRUE"), 1000)
	if err != nil {
		t.Fatal(err)
	}
	told, rows := 0, 0
	n, err := w.s.LiveRows(w.ctx, source.LiveQuery{Table: sel.Table, Columns: []int{0}, Limit: 1000,
		Runs: []string{"run1"},
		Journal: func(journal []source.JournalRow) error {
			for _, row := range journal {
				told += row.Deleted
			}
			if !w.s.Reads().BlocksWriters { // else it would wait for us
				w.delete(t, w.batch(sel, p, l, 2, 10, 11, 12, 13, 14))
			}
			return nil
		},
		Row: func(row []value.Value) error {
			rows++
			return nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	expect(t, "told by the journal, counted and handed on", []int64{int64(told), n, int64(rows)},
		[]int64{10, all, all})
	n, err = w.s.LiveRows(w.ctx, source.LiveQuery{Table: sel.Table, Filter: bind(t, sel.Table, "id < 0"),
		Columns: []int{0}, Limit: 1000})
	expect(t, "by a condition, without a journal", fmt.Sprint(n, err), "0 <nil>")
	n, err = w.s.LiveRows(w.ctx, source.LiveQuery{Table: sel.Table, Columns: []int{0}, Limit: 3,
		Row: func([]value.Value) error { return nil }})
	expect(t, "to a limit", fmt.Sprint(n, err), "3 <nil>")
	failed := errors.New("the reader has had enough")
	if _, err := w.s.LiveRows(w.ctx, source.LiveQuery{Table: sel.Table, Columns: []int{0}, Limit: 1000,
		Row: func([]value.Value) error { return failed }}); !errors.Is(err, failed) {
		t.Errorf("a reader that fails: %v", err)
	}
}

// restoredLive counts the restored rows that are there still.
func restoredLive(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	p := w.read(t, sel, nil, 100, 1<<30)
	w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1))
	if _, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r1",
		Columns: allColumns(sel.Table), Rows: chunkOf(p.rows), Digests: digestsOf(p.rows)}); err != nil {
		t.Fatal(err)
	}
	live := func() string {
		n, err := w.s.RestoredLive(w.ctx, sel.Table, "r1")
		return fmt.Sprint(n, err)
	}
	expect(t, "all of them", live(), "6 <nil>")
	w.exec(fmt.Sprintf("DELETE FROM scan WHERE id = %d", p.rows[2][0].N))
	w.exec(fmt.Sprintf("UPDATE scan SET id = 4711 WHERE id = %d", p.rows[3][0].N))
	expect(t, "without one that was deleted and one that has another key", live(), "4 <nil>")
	n, err := w.s.RestoredLive(w.ctx, sel.Table, "another")
	expect(t, "of a restore that nobody knows", fmt.Sprint(n, err), "0 <nil>")
}
