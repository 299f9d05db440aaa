package mariadb

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Index 0 of an enumeration is no label, not even the empty one, and stays what it is: in a key, on the way through
// slices, in a delete, back in the table, and in a table of its own. So do labels beyond the basic plane.
func TestAnEnumerationKeepsItsIndexes(t *testing.T) {
	s, exec := open(t)
	ctx := t.Context()
	const labels = "'rough', 'calm', 'it''s', '🚢'"
	exec("CREATE TABLE sea (id integer NOT NULL, mood enum(" + labels +
		") NOT NULL, at datetime NOT NULL, other enum(" + labels + ", ''), PRIMARY KEY (id, mood), KEY (at))")
	for i := range 5 {
		for mood := range 5 {
			exec(fmt.Sprintf("SET STATEMENT sql_mode = '' FOR INSERT INTO sea VALUES (%d, %d, '2020-01-01', IF(%d "+
				"= 3, NULL, %d))", i, mood, i, (mood+i)%6))
		}
	}
	if err := s.PrepareJournal(ctx); err != nil {
		t.Fatal(err)
	}
	table, err := s.Table(ctx, "sea")
	if err != nil {
		t.Fatal(err)
	}
	sel := source.Every(table, rule.Age{Column: "at"}, time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC))
	columns := []int{0, 1, 2, 3}
	rows := &value.Chunk{Width: len(columns)}
	var digests []value.Digest
	var h value.Hasher
	var pieces []*source.Slice
	var after []value.Value
	for rows.Rows() <= 25 {
		slice, err := s.ReadSlice(ctx, source.SliceRequest{Selection: sel, After: after, Columns: columns, MaxRows: 3,
			MaxBytes: 1 << 30}, func(c *value.Chunk) error {
			for i := range c.Rows() {
				digests = append(digests, h.Row(c.Row(i)))
				for _, v := range c.Row(i) {
					rows.Values = append(rows.Values, v.Clone())
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		pieces = append(pieces, slice)
		if after = slice.Next; !slice.More {
			break
		}
	}
	if rows.Rows() != 25 {
		t.Fatalf("slices of 3 rows found %d of 25: %v", rows.Rows(), rows.Values)
	}
	seen := map[string]int{}
	for i := range rows.Rows() {
		seen[rows.Row(i)[1].Exact()]++
	}
	if want := map[string]int{"int:0": 5, "text:it's": 5, "text:calm": 5, "text:rough": 5, "text:🚢": 5}; fmt.Sprint(
		seen) != fmt.Sprint(want) {
		t.Fatalf("they hold %v", seen)
	}
	lease, err := s.TakeLease(ctx, "sea", "me", "run")
	if err != nil {
		t.Fatal(err)
	}
	at := 0
	for n, slice := range pieces {
		k := min(3, len(digests)-at)
		ordinals := []int{0, 1, 2}[:k]
		row, err := s.DeleteBatch(ctx, source.Batch{Selection: sel, Lease: lease, Segment: n + 1, Number: 1,
			Ordinals: ordinals, Locators: slice.Locators, Digests: digests[at : at+k], Columns: columns,
			LockWait: time.Second})
		if err != nil || row.Deleted != k {
			t.Fatalf("a batch of %d: %+v, %v", k, row, err)
		}
		at += k
	}
	var want value.Set
	for _, d := range digests {
		want.Add(d)
	}
	if err := s.MakeTable(ctx, "sea_aside", table.Columns, table.Key); err != nil {
		t.Fatal(err)
	}
	back, err := s.Restore(ctx, source.RestoreRequest{Table: table, Restore: "r", Columns: columns, Rows: rows,
		Digests: digests})
	if err != nil || back.Inserted != 25 || back.Digest != want {
		t.Fatalf("put back: %+v, %v", back, err)
	}
	if shown, err := s.Table(ctx, "sea_aside"); err != nil || !slices.Equal(shown.Key, table.Key) {
		t.Fatalf("the table beside it: %+v, %v", shown, err)
	} else {
		labelled := &value.Chunk{Width: rows.Width}
		var kept []value.Digest
		for i := range rows.Rows() {
			if r := rows.Row(i); r[1].Kind == value.Text && r[3].Kind != value.Int {
				labelled.Values = append(labelled.Values, r...)
				kept = append(kept, digests[i])
			}
		}
		aside, err := s.Restore(ctx, source.RestoreRequest{Table: shown, Restore: "a", Columns: columns,
			Rows: labelled, Digests: kept})
		if err != nil || aside.Inserted != int64(len(kept)) {
			t.Errorf("beside the table, %d rows with labels: %+v, %v", len(kept), aside, err)
		}
	}
	exec("CREATE TABLE calm (id integer NOT NULL, mood enum('x', '') NOT NULL, at datetime NOT NULL, PRIMARY KEY " +
		"(id, mood))")
	if shown, err := s.Table(ctx, "calm"); err != nil || len(shown.Key) != 0 {
		t.Errorf("a key in which the server takes an empty label and index 0 for equal: %v, %v", shown.Key, err)
	}
}
