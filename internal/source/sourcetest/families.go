package sourcetest

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/family"
)

// relatives is a family of four tables: trips, their legs, the boardings of the legs, and remarks that outlive their
// trip.
type relatives struct {
	*world
	sel     source.Selection
	read    piece
	related []source.RelatedBatch
	l       source.Lease
}

// trips makes n trips of two legs with two boardings each, and a remark on each trip; legs refer with the given
// action.
func (w *world) trips(t *testing.T, n int, action string) *relatives {
	t.Helper()
	w.exec(fmt.Sprintf("CREATE TABLE trip (id integer PRIMARY KEY, left_at %s, name text); CREATE INDEX trip_age "+
		"ON trip (left_at);"+
		"CREATE TABLE leg (id integer PRIMARY KEY, trip_id integer NOT NULL, gate text, left_at %[1]s, FOREIGN KEY "+
		"(trip_id) REFERENCES trip (id) %[2]s);"+
		"CREATE TABLE boarding (id integer PRIMARY KEY, leg_id integer, seat text, FOREIGN KEY (leg_id) REFERENCES "+
		"leg (id));"+
		"CREATE TABLE remark (id integer PRIMARY KEY, trip_id integer, body text, FOREIGN KEY (trip_id) REFERENCES "+
		"trip (id));"+
		"CREATE TABLE refund (id integer PRIMARY KEY, leg_id integer, FOREIGN KEY (leg_id) REFERENCES leg (id));",
		w.f.AgeType, action))
	var b strings.Builder
	for i := 1; i <= n; i++ {
		at := cutoff.AddDate(0, 0, -i).Format(time.DateTime)
		fmt.Fprintf(&b, "INSERT INTO trip VALUES (%d, '%s', 'trip %[1]d'); INSERT INTO remark VALUES (%[1]d, "+
			"%[1]d, 'calm');", i, at)
		for leg := 2*i - 1; leg <= 2*i; leg++ {
			fmt.Fprintf(&b, "INSERT INTO leg VALUES (%d, %d, 'g', '%s'); INSERT INTO boarding VALUES (%[4]d, "+
				"%[1]d, 'a'), (%[5]d, %[1]d, 'b');", leg, i, at, 2*leg-1, 2*leg)
		}
	}
	w.exec(b.String())
	r := &relatives{world: w, sel: w.selection(t, "trip", "left_at")}
	for _, k := range []struct {
		table, ours string
		parent      int
		then        rule.Then
	}{{"leg", "trip_id", -1, rule.ThenArchive}, {"remark", "trip_id", -1, rule.ThenUnlink},
		{"boarding", "leg_id", 0, rule.ThenPurge}} {
		described, err := w.s.Table(w.ctx, k.table)
		if err != nil {
			t.Fatal(err)
		}
		r.sel.Related = append(r.sel.Related, source.Related{Selection: source.Selection{Table: described},
			Parent: k.parent, On: [][2]string{{k.ours, "id"}}, Then: k.then})
	}
	r.readFamilies(t)
	r.l = w.lease(t, "trip", "me")
	for i := range r.related {
		r.related[i].Lease = w.lease(t, r.related[i].Table.Name, "me")
	}
	return r
}

// readFamilies reads all due trips and what goes along with them.
func (r *relatives) readFamilies(t *testing.T) {
	t.Helper()
	r.read, r.related = r.world.read(t, r.sel, nil, 1000, 1<<30), nil
	above := map[int][][]value.Value{-1: r.read.rows}
	roots := map[int][]int{-1: {}}
	for i := range r.read.rows {
		roots[-1] = append(roots[-1], i)
	}
	var hasher value.Hasher
	for i, k := range r.sel.Related {
		columns := allColumns(k.Table)
		parent := r.sel.Table
		if k.Parent >= 0 {
			parent = r.sel.Related[k.Parent].Table
		}
		referred := family.Referred(parent, allColumns(parent), k)
		values := make([][]value.Value, len(above[k.Parent]))
		for j, row := range above[k.Parent] {
			values[j] = referred(row)
		}
		b := source.RelatedBatch{Related: k, Segment: i + 2, Columns: columns}
		err := family.Read(r.ctx, r.s, k, columns, values, func(at int, row []value.Value) error {
			above[i] = append(above[i], row[:len(columns)])
			b.Roots = append(b.Roots, roots[k.Parent][at])
			b.Keys = append(b.Keys, row[len(columns):])
			b.Digests = append(b.Digests, hasher.Row(row[:len(columns)]))
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		roots[i] = b.Roots
		r.related = append(r.related, b)
	}
}

func (r *relatives) delete(t *testing.T, number int) []*source.JournalRow {
	t.Helper()
	b := r.batch(r.sel, r.read, r.l, number)
	b.Families = r.related
	rows, err := source.FamiliesOf(r.s).DeleteFamilies(r.ctx, b)
	if err != nil {
		t.Fatal(err)
	}
	return rows
}

// outcome writes what became of a batch's rows: for each table deleted, changed, vanished, held, skipped.
func outcome(rows []*source.JournalRow) string {
	parts := make([]string, len(rows))
	for i, r := range rows {
		parts[i] = "-"
		if r != nil {
			parts[i] = fmt.Sprintf("%d/%d/%d/%d/%d", r.Deleted, len(r.Changed), len(r.Vanished), len(r.Held),
				len(r.Skipped))
		}
	}
	return strings.Join(parts, " ")
}

// left counts the rows of the tables.
func (r *relatives) left(t *testing.T) (out []int64) {
	t.Helper()
	for _, name := range []string{"trip", "leg", "remark", "boarding"} {
		described, err := r.s.Table(r.ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		n, err := r.s.CountWhere(r.ctx, described, bind(t, described, "TRUE"), 10_000)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, n)
	}
	return out
}

func familiesLeave(t *testing.T, w *world) {
	r := w.trips(t, 6, "")
	for i, want := range []int64{12, 6, 24} {
		n, err := source.FamiliesOf(r.s).CountRelated(r.ctx, r.sel, i)
		expect(t, "counted in "+r.sel.Related[i].Table.Name, fmt.Sprint(n, err), fmt.Sprint(want, " <nil>"))
	}
	rows := r.delete(t, 1)
	expect(t, "outcome", outcome(rows), "6/0/0/0/0 12/0/0/0/0 6/0/0/0/0 24/0/0/0/0")
	expect(t, "left", r.left(t), []int64{0, 0, 6, 0})
	for i, k := range r.related {
		var all value.Set
		for _, d := range k.Digests {
			all.Add(d)
		}
		expect(t, "digest of "+k.Table.Name, rows[i+1].Digest, all)
	}
	again := r.delete(t, 1)
	expect(t, "a repeated batch", outcome(again), outcome(rows))
	remarks, _ := r.s.Table(r.ctx, "remark")
	n, _ := r.s.CountWhere(r.ctx, remarks, bind(t, remarks, "trip_id IS NULL"), 100)
	expect(t, "unlinked", n, int64(6))
}

// familiesStay: whatever happens to a member after the family was read keeps all of it, and only it.
func familiesStay(t *testing.T, w *world) {
	for i, c := range []struct{ what, action, meanwhile, want string }{
		{"a leg came", "", "INSERT INTO leg VALUES (900, 2, 'late', NULL)",
			"3/0/0/1/0 6/0/0/2/0 3/0/0/1/0 12/0/0/4/0"},
		{"a leg came under a cascading key", "ON DELETE CASCADE", "INSERT INTO leg VALUES (900, 2, 'late', NULL)",
			"3/0/0/1/0 6/0/0/2/0 3/0/0/1/0 12/0/0/4/0"},
		{"a boarding came", "", "INSERT INTO boarding VALUES (900, 3, 'late')",
			"3/0/0/1/0 6/0/0/2/0 3/0/0/1/0 12/0/0/4/0"},
		{"a boarding changed", "ON DELETE CASCADE", "UPDATE boarding SET seat = 'z' WHERE id = 6",
			"3/0/0/1/0 6/0/0/2/0 3/0/0/1/0 12/1/0/3/0"},
		{"a boarding moved to another trip's leg", "", "UPDATE boarding SET leg_id = 5 WHERE id = 6",
			"2/0/0/2/0 4/0/0/4/0 2/0/0/2/0 8/1/0/7/0"},
		{"a boarding went", "", "DELETE FROM boarding WHERE id = 6", "4/0/0/0/0 8/0/0/0/0 4/0/0/0/0 15/0/1/0/0"},
		{"a trip changed", "", "UPDATE trip SET name = 'renamed' WHERE id = 2",
			"3/1/0/0/0 6/0/0/2/0 3/0/0/1/0 12/0/0/4/0"},
		{"a trip went with its legs", "",
			"DELETE FROM boarding WHERE leg_id IN (3, 4); DELETE FROM leg WHERE trip_id = 2; UPDATE remark SET " +
				"trip_id = NULL WHERE trip_id = 2; DELETE FROM trip WHERE id = 2",
			"3/0/1/0/0 6/0/2/0/0 3/1/0/0/0 12/0/4/0/0"},
		{"a refund refers to a leg", "", "INSERT INTO refund VALUES (1, 4)",
			"3/0/0/0/1 6/0/0/0/2 3/0/0/0/1 12/0/0/0/4"},
	} {
		if i > 0 {
			w.exec("DROP TABLE refund; DROP TABLE remark; DROP TABLE boarding; DROP TABLE leg; DROP TABLE trip;")
		}
		r := w.trips(t, 4, c.action)
		w.exec(c.meanwhile)
		before := r.left(t)
		rows := r.delete(t, 10+i)
		expect(t, c.what, outcome(rows), c.want)
		after := r.left(t)
		for _, at := range []int{0, 1, 3} { // what was deleted is gone, and nothing besides
			expect(t, c.what+": rows that went", before[at]-after[at], int64(rows[at].Deleted))
		}
	}
}

// familiesHeld: a related row that a hold or its own rule keeps, or that others refer to, keeps its family from the
// start, and once it is read.
func familiesHeld(t *testing.T, w *world) {
	r := w.trips(t, 5, "")
	r.related[2].Holds = []*filter.Filter{bind(t, r.related[2].Table, "seat = 'b' AND id = 6")}
	r.related[0].Age = rule.Age{Column: "left_at"}
	// keeps the legs of the first trip
	r.related[0].Terms = []rule.Term{{Cutoff: rule.Cutoff{At: cutoff.AddDate(0, 0, -1)}}}
	w.exec("INSERT INTO refund VALUES (1, 6)") // of the third trip
	reading := r.sel
	reading.Related = []source.Related{r.related[0].Related, r.related[1].Related, r.related[2].Related}
	counted := w.tally(t, reading)[0]
	expect(t, "due, held, referenced", []int64{counted.Due, counted.Held, counted.Referenced}, []int64{2, 2, 1})
	expect(t, "rows of a slice", w.due(t, reading), 2)
	expect(t, "outcome", outcome(r.delete(t, 1)), "2/0/0/2/1 4/0/0/4/2 2/0/0/2/1 8/0/0/8/4")
	lost := r.related[0].Lease
	w.lease(t, "leg", "me")
	b := r.batch(r.sel, r.read, r.l, 2)
	b.Families = r.related
	b.Families[0].Lease = lost
	if _, err := source.FamiliesOf(r.s).DeleteFamilies(r.ctx, b); err == nil {
		t.Error("a batch went on whose related table another has taken")
	}
}
