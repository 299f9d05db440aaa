// Package sourcetest is the conformance suite of sources: what every implementation must do, on a real database of
// its engine. A new engine is right when Run passes with its Fixture.
package sourcetest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Fixture is what the suite needs to know of an engine.
type Fixture struct {
	// Open returns a source on a new, empty database, and a function that runs statements there behind its back.
	Open func(t *testing.T) (source.Source, func(statements string))
	// AgeType is the type of a timestamp column.
	AgeType string
	// JournalSchema is the schema of the journal; empty where its tables stand beside the others.
	JournalSchema string
	// ClockType is the type of a timestamp column without zone.
	ClockType string
	// Types are column types with literals; each must come back identical, as the database itself judges by Same.
	Types []TypeCase
	// Same is a condition that the values %[1]s and %[2]s are identical, NULLs included.
	Same string
	// Ageless are literals of the age column that are no instants.
	Ageless []string
	// Judged are columns for filters, each with SQL literals of rows and literals of filters; nil where there are
	// none.
	Judged []Judged
	// Folded is a column type under whose collation 'a' and 'A' are equal; empty where there is none.
	Folded string
	// SelfKeeps says that the engine refuses to delete a row that refers to itself.
	SelfKeeps bool
	// PurgesDirect says that the source finds and deletes in one statement.
	PurgesDirect bool
	// where such a statement of five rows ends, in a table whose fifth row by (line, seat) is ('line 0', 16)
	PurgeEnds string
	// NoAddress says that the engine has no address that tells rows apart where there is no key.
	NoAddress bool
	// Endless is a statement that takes minutes.
	Endless string
	// Refused are column types that cannot be archived.
	Refused []string
}

// TypeCase is a column type and literals of it.
type TypeCase struct {
	Type     string
	Literals []string
}

// Run runs the suite.
func Run(t *testing.T, f Fixture) {
	for _, c := range []struct {
		name string
		run  func(*testing.T, *world)
	}{
		{"a table is described with key, indexes and foreign keys both ways", describes},
		{"all tables together are described as each is by itself", listedAsDescribed},
		{"an unknown table is ErrNoTable", unknownTable},
		{"slices cover exactly the due rows in order of age and key", slicesCover},
		{"a slice ends at its bytes as well as at its rows", slicesEnd},
		{"ages that are no instant are never due", agelessStay},
		{"rows are counted by what the slices will take", counts},
		{"each row is governed by one clause", clausesGovern},
		{"held rows stay, also those read before the hold", heldStay},
		{"filters judge as the evaluator does", filtersAgree},
		{"rows that the column's collation judges otherwise get the longer keep", collationKeeps},
		{"conditions can be as long as their text", longConditions},
		{"two selections are compared, and filters counted", compares},
		{"a row is in the journal or in the table at every moment", liveRows},
		{"restored rows that are there still are counted", restoredLive},
		{"sentinels are no ages", sentinelsStay},
		{"a clause without age takes every row", emptyingTakesEveryAge},
		{"clock times are those of the rule's zone", zonesHold},
		{"epochs and days tell ages too", otherAges},
		{"what happens between read and delete", between},
		{"only rows that are still what was read are deleted", deletesUnchanged},
		{"a table that was altered is described again before anything goes", reshaped},
		{"what is purged directly is what is due at that moment", purgesDirect},
		{"a clause without age purges in order of the key", emptiesDirect},
		{"a slice that was read in pieces is deleted as one", piecesJoin},
		{"what goes in spurts is what goes at once", spurtsAreTheSame},
		{"a batch that was committed is not done twice", repeatsNothing},
		{"a lease keeps others out and a lost one deletes nothing", leases},
		{"rows are located again by content", locates},
		{"rows without a key go by their address", withoutKey},
		{"rows that others refer to stay", referencedStay},
		{"families leave whole", familiesLeave},
		{"a family stays for what happens to any of its rows", familiesStay},
		{"a related row that has to stay keeps its family", familiesHeld},
		{"journal and chain keep what they are told", keepsJournal},
		{"restored rows come back and are left alone", restores},
		{"a conflict other than the key takes the whole restore back", restoreConflict},
		{"restored rows replace what is there where they are to, and what they replace is heard of first", replaces},
		{"a table is made that rows fit into", tables},
		{"every type comes back identical", typesReturn},
		{"types that cannot be archived are named", typesRefused},
		{"identifiers may hold anything", oddNames},
		{"what the log grows by is told", measuresLog},
		{"others who are at work are seen", seesOthers},
		{"where a run stands can be read by SQL", showsProgress},
		{"a check reports version and rights", checks},
		{"statements of an administrator's are sent as they are", performs},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, exec := f.Open(t)
			ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute) // nothing hangs
			t.Cleanup(cancel)
			if err := s.PrepareJournal(ctx); err != nil {
				t.Fatal(err)
			}
			c.run(t, &world{f: f, s: s, exec: exec, ctx: ctx})
		})
	}
}

// world is one test's database.
type world struct {
	f    Fixture
	s    source.Source
	exec func(string)
	ctx  context.Context
	turn int
}

// spurts are in which every second read and delete goes: what comes of it is the same.
func (w *world) spurts() *pace.Spurts {
	if w.turn++; w.turn%2 == 0 {
		return pace.NewSpurts(pace.Profile{Spurt: 2})
	}
	return nil
}

var cutoff = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)

// scans makes table scan with n rows, one an hour ending at the cutoff's year; the first due rows are due.
func (w *world) scans(t *testing.T, n, due int) source.Selection {
	t.Helper()
	w.exec(fmt.Sprintf("CREATE TABLE vessel (id integer PRIMARY KEY, name text); CREATE TABLE scan (id integer "+
		"PRIMARY KEY, vessel_id integer REFERENCES vessel (id), scanned_at %s, gate text NOT NULL, note text, "+
		"UNIQUE (gate)); CREATE INDEX scan_age ON scan (scanned_at);", w.f.AgeType))
	w.exec("INSERT INTO vessel VALUES (1, 'Plover'), (2, 'Dunlin')")
	var b strings.Builder
	for i := range n {
		at := cutoff.Add(time.Duration(i-due) * time.Hour)
		fmt.Fprintf(&b, "INSERT INTO scan VALUES (%d, %d, '%s', 'g%d', 'note %d');\n", (i*7919)%n+1, i%2+1,
			at.Format("2006-01-02 15:04:05"), i, i)
	}
	w.exec(b.String())
	return w.selection(t, "scan", "scanned_at")
}

func (w *world) selection(t *testing.T, table, age string) source.Selection {
	t.Helper()
	described, err := w.s.Table(w.ctx, table)
	if err != nil {
		t.Fatal(err)
	}
	return source.Every(described, rule.Age{Column: age}, cutoff)
}

// tally counts a selection as a whole, in two spans, and checks that they agree with one.
func (w *world) tally(t *testing.T, sel source.Selection) map[int]source.Tally {
	t.Helper()
	read := func(spans ...source.Span) map[int]source.Tally {
		out := map[int]source.Tally{}
		for _, span := range spans {
			list, err := w.s.Tally(w.ctx, sel, span)
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range list {
				sum := out[x.Clause]
				sum.Clause = x.Clause
				for into, n := range map[*int64]int64{&sum.Rows: x.Rows, &sum.Due: x.Due, &sum.Held: x.Held,
					&sum.Restored: x.Restored, &sum.Referenced: x.Referenced, &sum.Collation: x.Collation} {
					*into += n
				}
				first := func(into *string, v string) {
					if *into == "" {
						*into = v
					}
				}
				first(&sum.Oldest, x.Oldest)
				first(&sum.FirstStays, x.FirstStays)
				if x.LastGoing != "" {
					sum.LastGoing = x.LastGoing
				}
				sum.Newest = x.Newest
				out[x.Clause] = sum
			}
		}
		return out
	}
	whole := read(source.Span{})
	middle := cutoff.Add(-50 * time.Hour)
	expect(t, "counted in two spans", read(source.Span{To: middle}, source.Span{From: middle}), whole)
	return whole
}

func allColumns(t *shape.Table) []int {
	out := make([]int, len(t.Columns))
	for i := range out {
		out[i] = i
	}
	return out
}

// piece is a slice with its rows and digests.
type piece struct {
	*source.Slice
	rows    [][]value.Value
	digests []value.Digest
}

func (w *world) read(t *testing.T, sel source.Selection, after []value.Value, maxRows int, maxBytes int64) piece {
	t.Helper()
	var p piece
	var h value.Hasher
	slice, err := w.s.ReadSlice(w.ctx, source.SliceRequest{Selection: sel, After: after,
		Columns: allColumns(sel.Table), MaxRows: maxRows, MaxBytes: maxBytes, Spurts: w.spurts(),
	}, func(c *value.Chunk) error {
		for i := range c.Rows() {
			p.rows = append(p.rows, value.CloneRow(c.Row(i)))
			p.digests = append(p.digests, h.Row(c.Row(i)))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if slice.Locators.Len() != len(p.rows) {
		t.Fatalf("%d locators for %d rows", slice.Locators.Len(), len(p.rows))
	}
	p.Slice = slice
	return p
}

// spurtsAreTheSame: rows, places and ends of a slice that is read in spurts are those of one that is read at once, and
// a batch that is deleted in spurts tells of each row what has become of it.
func spurtsAreTheSame(t *testing.T, w *world) {
	sel := w.scans(t, 70, 50)
	w.turn = 0
	for _, limit := range []struct {
		rows  int
		bytes int64
	}{{1000, 1 << 20}, {50, 1 << 20}, {23, 1 << 20}, {4, 1 << 20}, {1000, 400}} {
		atOnce, inSpurts := w.read(t, sel, nil, limit.rows, limit.bytes), w.read(t, sel, nil, limit.rows, limit.bytes)
		expect(t, "digests", fmt.Sprint(inSpurts.digests), fmt.Sprint(atOnce.digests))
		expect(t, "where it ends", fmt.Sprint(inSpurts.Last, inSpurts.Next, inSpurts.More),
			fmt.Sprint(atOnce.Last, atOnce.Next, atOnce.More))
	}
	w.turn = 1
	p := w.read(t, sel, nil, 1000, 1<<20)
	w.exec("UPDATE scan SET note = 'other' WHERE note = 'note 20'")
	w.exec("DELETE FROM scan WHERE note = 'note 40'")
	w.turn = 1
	b := w.batch(sel, p, w.lease(t, "scan", "me"), 1)
	row := w.delete(t, b)
	if b.Spurts == nil || row.Deleted != 48 || len(row.Changed) != 1 || len(row.Vanished) != 1 {
		t.Errorf("in spurts %+v", row)
	}
	expect(t, "due rows that stay", w.due(t, sel), 1)
}

func (w *world) lease(t *testing.T, table, holder string) source.Lease {
	t.Helper()
	l, err := w.s.TakeLease(w.ctx, table, holder, "run1")
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func (w *world) batch(sel source.Selection, p piece, l source.Lease, number int, ordinals ...int) source.Batch {
	if ordinals == nil {
		for i := range p.rows {
			ordinals = append(ordinals, i)
		}
	}
	return source.Batch{Selection: sel, Lease: l, Segment: 1, Number: number, Ordinals: ordinals, Locators: p.Locators,
		Digests: p.digests, Columns: allColumns(sel.Table), LockWait: 100 * time.Millisecond, Spurts: w.spurts()}
}

func (w *world) delete(t *testing.T, b source.Batch) *source.JournalRow {
	t.Helper()
	row, err := w.s.DeleteBatch(w.ctx, b)
	if err != nil {
		t.Fatal(err)
	}
	return row
}

// due reads how many rows of a table are due, by reading them.
func (w *world) due(t *testing.T, sel source.Selection) int {
	t.Helper()
	return len(w.read(t, sel, nil, 1_000_000, 1<<40).rows)
}

func expect[T any](t *testing.T, what string, got, want T) {
	t.Helper()
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%s: got %v, want %v", what, got, want)
	}
}

func describes(t *testing.T, w *world) {
	w.scans(t, 3, 1)
	scan := w.selection(t, "scan", "scanned_at").Table
	expect(t, "columns", scan.ColumnNames(), []string{"id", "vessel_id", "scanned_at", "gate", "note"})
	expect(t, "key", scan.Key, []string{"id"})
	expect(t, "likely age column", scan.AgeColumn, "scanned_at")
	expect(t, "age index", scan.IndexServes("scanned_at"), true)
	expect(t, "no index on note", scan.IndexServes("note"), false)
	if len(scan.References) != 1 || scan.References[0].RefTable != "vessel" ||
		!slices.Equal(scan.References[0].Columns, []string{"vessel_id"}) || scan.References[0].Alters() {
		t.Errorf("foreign keys of scan: %+v", scan.References)
	}
	vessel, err := w.s.Table(w.ctx, "vessel")
	if err != nil {
		t.Fatal(err)
	}
	if len(vessel.ReferencedBy) != 1 || vessel.ReferencedBy[0].Table != "scan" ||
		!slices.Equal(vessel.ReferencedBy[0].RefColumns, []string{"id"}) {
		t.Errorf("references to vessel: %+v", vessel.ReferencedBy)
	}
	tables, err := w.s.Tables(w.ctx)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, x := range tables {
		names = append(names, x.Name)
	}
	expect(t, "tables, the journal's own left out", names, []string{"scan", "vessel"})
}

// listedAsDescribed: all tables together are described as each is by itself, with references in all directions.
func listedAsDescribed(t *testing.T, w *world) {
	w.scans(t, 3, 1)
	w.exec(`CREATE TABLE quay (line integer NOT NULL, berth integer NOT NULL, of_vessel integer, PRIMARY KEY (line,
		berth));
		CREATE TABLE "Odd name" (id integer PRIMARY KEY, line integer, berth integer, parent integer,
			label varchar(20) NOT NULL, FOREIGN KEY (line, berth) REFERENCES quay (line, berth),
			FOREIGN KEY (parent) REFERENCES "Odd name" (id));
		CREATE UNIQUE INDEX by_label ON "Odd name" (label);
		CREATE TABLE bare (at ` + w.f.AgeType + `, note varchar(20));
		CREATE TABLE chit (label varchar(20) NOT NULL, vessel_id integer REFERENCES vessel (id));
		CREATE UNIQUE INDEX chit_label ON chit (label)`)
	// Looking for ages is given up soon, so that it is asked again where the machine stalls.
	unaged := func(x *shape.Table) bool { return x.Name == "scan" && x.Oldest == "" }
	tables, err := w.s.Tables(w.ctx)
	for range 5 {
		if err == nil && slices.ContainsFunc(tables, func(x shape.Table) bool { return unaged(&x) }) {
			tables, err = w.s.Tables(w.ctx)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	expect(t, "tables", len(tables), 6)
	for i := range tables {
		alone, err := w.s.Table(w.ctx, tables[i].Name)
		for range 5 {
			if err == nil && unaged(alone) {
				alone, err = w.s.Table(w.ctx, tables[i].Name)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		listed := &tables[i]
		for what, pair := range map[string][2]any{"columns": {listed.Columns, alone.Columns},
			"key": {listed.Key, alone.Key}, "indexes": {listed.Indexes, alone.Indexes},
			"references":     {listed.References, alone.References},
			"referred to by": {listed.ReferencedBy, alone.ReferencedBy}, "age": {listed.AgeColumn, alone.AgeColumn},
			"obstacles": {listed.Obstacles, alone.Obstacles}, "notes": {listed.Notes, alone.Notes},
			"triggers": {listed.Triggers, alone.Triggers}, "address": {listed.Address, alone.Address},
			"ages": {listed.Oldest + listed.Newest, alone.Oldest + alone.Newest}} {
			expect(t, listed.Name+", "+what, pair[0], pair[1])
		}
	}
}

func unknownTable(t *testing.T, w *world) {
	if _, err := w.s.Table(w.ctx, "nowhere"); !errors.Is(err, source.ErrNoTable) {
		t.Errorf("got %v, want ErrNoTable", err)
	}
}

func slicesCover(t *testing.T, w *world) {
	sel := w.scans(t, 100, 60)
	// many of one age
	w.exec("UPDATE scan SET scanned_at = '2024-12-31 00:00:00' WHERE id IN (SELECT id FROM scan WHERE scanned_at < " +
		"'2024-12-31 12:00:00')")
	var after []value.Value
	var ids []int64
	for i := 0; ; i++ {
		p := w.read(t, sel, after, 7, 1<<30)
		for _, r := range p.rows {
			ids = append(ids, r[0].N)
		}
		if !p.More {
			break
		}
		if after = p.Last; i > 20 {
			t.Fatal("the slices do not end")
		}
	}
	expect(t, "rows read", len(ids), 60)
	slices.Sort(ids)
	expect(t, "rows read once each", len(slices.Compact(ids)), 60)
}

func slicesEnd(t *testing.T, w *world) {
	sel := w.scans(t, 50, 50)
	p := w.read(t, sel, nil, 1000, 100)
	if n := len(p.rows); n == 0 || n > 20 || !p.More {
		t.Errorf("a slice of 100 bytes took %d rows (more: %v)", n, p.More)
	}
	rest := w.read(t, sel, p.Last, 1000, 1<<30)
	expect(t, "rows in both slices", len(p.rows)+len(rest.rows), 50)
}

func agelessStay(t *testing.T, w *world) {
	sel := w.scans(t, 10, 4)
	for i, lit := range w.f.Ageless {
		w.exec(fmt.Sprintf("INSERT INTO scan VALUES (%d, 1, %s, 'ageless%d', NULL)", 1000+i, lit, i))
	}
	expect(t, "due rows", w.due(t, sel), 4)
	n, err := w.s.Outside(w.ctx, sel)
	expect(t, "ageless rows counted", fmt.Sprint(n, err), fmt.Sprint(len(w.f.Ageless), " <nil>"))
}

func clean(age string) string { return strings.TrimSuffix(strings.Replace(age, "T", " ", 1), "Z") }

func counts(t *testing.T, w *world) {
	sel := w.scans(t, 200, 120)
	tally := w.tally(t, sel)[0]
	expect(t, "rows and due", []int64{tally.Rows, tally.Due}, []int64{200, 120})
	expect(t, "last value that goes", clean(tally.LastGoing), "2024-12-31 23:00:00")
	expect(t, "first value that stays", clean(tally.FirstStays), "2025-01-01 00:00:00")
	oldest, newest, ok, err := w.s.Ends(w.ctx, sel)
	expect(t, "ends", fmt.Sprint(oldest.Format(time.DateTime), " ", newest.Format(time.DateTime), " ", ok, " ", err),
		"2024-12-27 00:00:00 2025-01-04 07:00:00 true <nil>")
	estimate, err := w.s.Estimate(w.ctx, sel)
	if err != nil || len(estimate) != 1 || estimate[0] < 0 || estimate[0] > 2000 {
		t.Errorf("estimate %v, %v", estimate, err)
	}
	clock, err := w.s.Clock(w.ctx)
	if d := time.Since(clock); err != nil || d > time.Minute || d < -time.Minute {
		t.Errorf("the clock shows %s, %v", clock, err)
	}
	expect(t, "nothing was changed", w.due(t, sel), 120)
}

// bind makes a filter for a table.
func bind(t *testing.T, table *shape.Table, text string) *filter.Filter {
	t.Helper()
	f, bad := filter.Bind(text, filter.TableScope(table))
	if len(bad) > 0 {
		t.Fatalf("%s: %v", text, bad[0])
	}
	return f
}

func clausesGovern(t *testing.T, w *world) {
	sel := w.scans(t, 200, 120)
	w.exec("UPDATE scan SET note = NULL WHERE id <= 40; UPDATE scan SET note = 'kept' WHERE id > 40 AND id <= 80; " +
		"UPDATE scan SET note = 'short' WHERE id > 80 AND id <= 120")
	kept, short := bind(t, sel.Table, "note = 'kept'"), bind(t, sel.Table, "note IN ('kept', 'short')")
	at := func(hours int) rule.Cutoff { return rule.Cutoff{At: cutoff.Add(time.Duration(hours) * time.Hour)} }
	sel.Terms = []rule.Term{
		{Clause: 0, Where: kept, Cutoff: at(-60)},
		{Clause: 1, Where: short, Except: []*filter.Filter{kept}, Cutoff: at(0)},
		{Clause: 2, Except: []*filter.Filter{kept, short}, Cutoff: at(-30)},
	}
	tally := w.tally(t, sel)
	expect(t, "rows governed", []int64{tally[0].Rows, tally[1].Rows, tally[2].Rows, tally[-1].Rows},
		[]int64{40, 40, 120, 0})
	total := 0
	for i, term := range sel.Terms {
		one := sel
		one.Terms = []rule.Term{term}
		n := w.due(t, one)
		expect(t, fmt.Sprintf("due by clause %d", i), tally[i].Due, int64(n))
		total += n
	}
	expect(t, "due by all clauses in one", w.due(t, sel), total)
	sel.Terms = sel.Terms[:1]
	expect(t, "uncovered", w.tally(t, sel)[-1].Rows, int64(160))
	sel.Terms[0].Never = true
	expect(t, "never due", w.due(t, sel), 0)
	expect(t, "never due, counted", w.tally(t, sel)[0].Rows, int64(40))
	statements, err := w.s.Statements(w.ctx, sel, allColumns(sel.Table))
	if err != nil || len(statements) < 2 || !strings.Contains(statements[1].SQL, "DELETE") {
		t.Errorf("statements %+v, %v", statements, err)
	}
}

func heldStay(t *testing.T, w *world) {
	sel := w.scans(t, 30, 20)
	p := w.read(t, sel, nil, 100, 1<<30)
	held := bind(t, sel.Table, fmt.Sprintf("gate = '%s' OR note = 'nothing has it' OR id = %d", p.rows[3][3].B,
		p.rows[5][0].N))
	sel.Holds = []*filter.Filter{held}
	expect(t, "due rows that are not held", w.due(t, sel), 18)
	tally := w.tally(t, sel)[0]
	expect(t, "due and held in the count", []int64{tally.Due, tally.Held}, []int64{18, 2})
	row := w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1)) // read before the hold was placed
	expect(t, "deleted", row.Deleted, 18)
	expect(t, "held", row.Held, []int{3, 5})
	journal, err := w.s.Journal(w.ctx, "run1", 1)
	if err != nil || len(journal) != 1 || !slices.Equal(journal[0].Held, []int{3, 5}) {
		t.Errorf("the journal has %+v, %v", journal, err)
	}
	sel.Holds = nil
	sel.Only = []*filter.Filter{bind(t, sel.Table, "id <> 0 AND gate LIKE 'g%'")}
	expect(t, "lifted, and narrowed", w.due(t, sel), 2)
	sel.Only = append(sel.Only, bind(t, sel.Table, "note IS NULL"))
	expect(t, "narrowed to nothing", w.due(t, sel), 0)
}

// piecesJoin reads a slice in three pieces. A row of the first gets a later age before the last is read, which so
// holds it once more: the first copy is void, the second goes.
func piecesJoin(t *testing.T, w *world) {
	sel := w.scans(t, 30, 20)
	p := w.read(t, sel, nil, 8, 1<<30)
	w.exec(fmt.Sprintf("UPDATE scan SET scanned_at = '2024-12-31 23:30:00' WHERE id = %d", p.rows[2][0].N))
	for p.More {
		q := w.read(t, sel, p.Next, 8, 1<<30)
		if err := p.Locators.Append(q.Locators); err != nil {
			t.Fatal(err)
		}
		p.rows, p.digests = append(p.rows, q.rows...), append(p.digests, q.digests...)
		p.Next, p.More = q.Next, q.More
	}
	if len(p.rows) != 21 || p.Locators.Len() != 21 {
		t.Fatalf("%d rows and %d locators, of 20 rows and one that came again", len(p.rows), p.Locators.Len())
	}
	row := w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1))
	expect(t, "deleted", row.Deleted, 20)
	expect(t, "the copy that is void", append(row.Changed, row.Vanished...), []int{2})
	var want value.Set
	for i, d := range p.digests {
		if i != 2 {
			want.Add(d)
		}
	}
	expect(t, "digest of what the delete reported", row.Digest, want)
	expect(t, "due rows left", w.due(t, sel), 0)
}

func deletesUnchanged(t *testing.T, w *world) {
	sel := w.scans(t, 30, 20)
	p := w.read(t, sel, nil, 100, 1<<30)
	changed, vanished, moved := p.rows[3][0].N, p.rows[5][0].N, p.rows[7][0].N
	w.exec(fmt.Sprintf("UPDATE scan SET note = 'edited' WHERE id = %d; DELETE FROM scan WHERE id = %d; UPDATE scan "+
		"SET id = 5000 WHERE id = %d", changed, vanished, moved))
	row := w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1))
	expect(t, "deleted", row.Deleted, 17)
	expect(t, "changed", row.Changed, []int{3})
	expect(t, "vanished", row.Vanished, []int{5, 7})
	var want value.Set
	for i, d := range p.digests {
		if i != 3 && i != 5 && i != 7 {
			want.Add(d)
		}
	}
	expect(t, "digest of what the delete reported", row.Digest, want)
	expect(t, "due rows left: the changed and the one with a new key", w.due(t, sel), 2)
}

func repeatsNothing(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	p := w.read(t, sel, nil, 100, 1<<30)
	b := w.batch(sel, p, w.lease(t, "scan", "me"), 1)
	first := w.delete(t, b)
	first.At, first.Flushed = time.Time{}, 0
	id := p.rows[0][0].N
	w.exec(fmt.Sprintf("INSERT INTO scan VALUES (%d, 1, '2024-01-01 00:00:00', 'again', NULL)", id))
	second := w.delete(t, b)
	second.At, second.Flushed = time.Time{}, 0
	expect(t, "the second answer", *second, *first)
	expect(t, "rows inserted meanwhile stay", w.due(t, sel), 1)
}

func leases(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	mine := w.lease(t, "scan", "me")
	_, err := w.s.TakeLease(w.ctx, "scan", "other", "run2")
	var held *source.HeldError
	if !errors.As(err, &held) || held.Holder != "me" || held.Run != "run1" {
		t.Fatalf("a second holder got %v", err)
	}
	p := w.read(t, sel, nil, 100, 1<<30)
	again := w.lease(t, "scan", "me") // a later start of the same service
	if _, err := w.s.DeleteBatch(w.ctx, w.batch(sel, p, mine, 1)); !errors.Is(err, source.ErrLeaseLost) {
		t.Errorf("a batch under an old epoch got %v", err)
	}
	expect(t, "due rows", w.due(t, sel), 6)
	if rows, err := w.s.Journal(w.ctx, "run1", -1); err != nil || len(rows) != 0 {
		t.Errorf("the refused batch left %d journal rows (%v)", len(rows), err)
	}
	if err := w.s.ReleaseLease(w.ctx, again); err != nil {
		t.Fatal(err)
	}
	if _, err := w.s.TakeLease(w.ctx, "scan", "other", "run2"); err != nil {
		t.Errorf("after the release: %v", err)
	}
}

func locates(t *testing.T, w *world) {
	sel := w.scans(t, 12, 8)
	p := w.read(t, sel, nil, 100, 1<<30)
	w.exec(fmt.Sprintf("UPDATE scan SET note = NULL WHERE id = %d; DELETE FROM scan WHERE id = %d", p.rows[2][0].N,
		p.rows[4][0].N))
	var keys [][]value.Value
	for _, r := range p.rows {
		keys = append(keys, r[:1])
	}
	found, err := w.s.Locate(w.ctx, sel, keys, p.digests)
	if err != nil {
		t.Fatal(err)
	}
	p.Locators = found
	row := w.delete(t, w.batch(sel, p, w.lease(t, "scan", "me"), 1))
	expect(t, "deleted", row.Deleted, 6)
	expect(t, "changed", row.Changed, []int{2})
	expect(t, "vanished", row.Vanished, []int{4})
}

func withoutKey(t *testing.T, w *world) {
	w.exec(fmt.Sprintf("CREATE TABLE ping (pinged_at %s NOT NULL, gate varchar(20))", w.f.AgeType))
	for i := range 22 { // pairs of equal rows, two pairs of each age; the last pair is not due
		w.exec(fmt.Sprintf("INSERT INTO ping VALUES ('%s', 'g%d')",
			cutoff.Add(time.Duration(i/4-5)*time.Hour).Format("2006-01-02 15:04:05"), i/2))
	}
	sel := w.selection(t, "ping", "pinged_at")
	if w.f.NoAddress {
		expect(t, "a key", sel.Table.Key, nil)
		return
	}
	expect(t, "told apart by address", sel.Table.ByAddress(), true)
	p := w.read(t, sel, nil, 100, 1<<30)
	expect(t, "rows read", len(p.rows), 20)
	pieces := 0
	for after, more := []value.Value(nil), true; more; {
		piece := w.read(t, sel, after, 3, 1<<30)
		pieces += len(piece.rows)
		after, more = piece.Last, piece.More
	}
	expect(t, "rows read in slices of three", pieces, 20)
	w.exec("UPDATE ping SET gate = 'edited' WHERE gate = 'g3'; DELETE FROM ping WHERE gate = 'g5'")
	lease := w.lease(t, "ping", "me")
	row := w.delete(t, w.batch(sel, p, lease, 1))
	expect(t, "deleted", row.Deleted, 16)
	left := append(slices.Clone(row.Changed), row.Vanished...)
	slices.Sort(left)
	expect(t, "changed or vanished", left, []int{6, 7, 10, 11})
	gone := source.RestoreRequest{Table: sel.Table, Restore: "r1", Segment: "s1", Columns: allColumns(sel.Table)}
	var rows [][]value.Value
	for i, r := range p.rows {
		if !slices.Contains(left, i) {
			rows, gone.Ordinals, gone.Digests = append(rows, r), append(gone.Ordinals, i),
				append(gone.Digests, p.digests[i])
		}
	}
	gone.Rows = chunkOf(rows)
	for _, want := range []int64{16, 0} { // each row is put back once
		out, err := w.s.Restore(w.ctx, gone)
		if err != nil {
			t.Fatal(err)
		}
		expect(t, "inserted and skipped", []int64{out.Inserted, out.Skipped}, []int64{want, 16 - want})
	}
	expect(t, "due again", w.due(t, sel), 18)
	again := w.read(t, sel, nil, 100, 1<<30)
	b := w.batch(sel, again, lease, 2, 0, 1)
	b.Locators, b.Digests = again.Locators.Arrange([]int{7, -1}), []value.Digest{again.digests[7], {}}
	row = w.delete(t, b)
	expect(t, "deleted and not found, arranged", fmt.Sprint(row.Deleted, row.Vanished), "1 [1]")
	w.exec(fmt.Sprintf("DROP TABLE ping; CREATE TABLE ping (id integer PRIMARY KEY, pinged_at %s NOT NULL); INSERT "+
		"INTO ping VALUES (1, '2020-01-01 00:00:00')", w.f.AgeType))
	expect(t, "due once the table has a key", w.due(t, w.selection(t, "ping", "pinged_at")), 1)
}

func referencedStay(t *testing.T, w *world) {
	w.scans(t, 4, 4)
	w.exec(fmt.Sprintf("CREATE TABLE port (id integer PRIMARY KEY, opened %s, mother integer REFERENCES port "+
		"(id)); CREATE TABLE berth (id integer PRIMARY KEY, port_id integer REFERENCES port (id))", w.f.AgeType))
	w.exec("INSERT INTO port VALUES (1, '2020-01-01 00:00:00', NULL), (2, '2020-01-02 00:00:00', 1), (3, " +
		"'2020-01-03 00:00:00', 3), (4, '2020-01-04 00:00:00', NULL); INSERT INTO berth VALUES (1, 4)")
	sel := w.selection(t, "port", "opened")
	p := w.read(t, sel, nil, 100, 1<<30)
	want := []int64{2, 3} // port 1 is referred to by port 2, and port 4 by a berth
	if w.f.SelfKeeps {
		want = want[:1]
	}
	var got []int64
	for _, r := range p.rows {
		got = append(got, r[0].N)
	}
	expect(t, "ports that nothing refers to", got, want)
	w.exec("INSERT INTO berth VALUES (2, 2)") // between reading and deleting
	row := w.delete(t, w.batch(sel, p, w.lease(t, "port", "me"), 1))
	expect(t, "deleted", row.Deleted, len(want)-1)
	expect(t, "skipped", row.Skipped, []int{0})
	expect(t, "referenced rows in the count", w.tally(t, sel)[0].Referenced, int64(5-len(want)))
}

func keepsJournal(t *testing.T, w *world) {
	sel := w.scans(t, 20, 20)
	p := w.read(t, sel, nil, 100, 1<<30)
	l := w.lease(t, "scan", "me")
	for i := range 4 {
		b := w.batch(sel, p, l, i+1, i*5, i*5+1, i*5+2)
		if i == 3 {
			b.Segment = 2
		}
		w.delete(t, b)
	}
	rows, err := w.s.Journal(w.ctx, "run1", 1)
	if err != nil || len(rows) != 3 {
		t.Fatalf("journal of segment 1: %d rows, %v", len(rows), err)
	}
	r := rows[2]
	expect(t, "third batch", []int{r.Batch, r.Rows, r.Deleted, r.First, r.Last}, []int{3, 3, 3, 10, 12})
	for segment := 1; segment <= 2; segment++ {
		if err := w.s.PruneJournal(w.ctx, "run1", segment); err != nil {
			t.Fatal(err)
		}
	}
	rows, err = w.s.Journal(w.ctx, "run1", -1)
	if err != nil || len(rows) != 1 || rows[0].Segment != 2 {
		t.Errorf("after pruning only the newest row stays; got %+v, %v", rows, err)
	}
	if h, err := w.s.Head(w.ctx, "scan"); err != nil || h != (source.Head{}) {
		t.Errorf("head of a new chain: %v, %v", h, err)
	}
	for i := range 2 {
		if err := w.s.SetHead(w.ctx, "scan",
			source.Head{Sequence: int64(i + 1), Hash: fmt.Sprint("h", i)}); err != nil {
			t.Fatal(err)
		}
	}
	h, err := w.s.Head(w.ctx, "scan")
	expect(t, "head", fmt.Sprint(h, err), "{2 h1} <nil>")
}

func oddNames(t *testing.T, w *world) {
	q := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	for i, name := range []string{`Scan "of" day`, `größe; drop table x --`, `select`, `100%s {}`, `a'b`} {
		key, age, body := name+"$key", name+" at", name+`\body`
		w.exec(fmt.Sprintf("CREATE TABLE %s (%s integer PRIMARY KEY, %s %s, %s text)", q(name), q(key), q(age),
			w.f.AgeType, q(body)))
		w.exec(fmt.Sprintf("INSERT INTO %s VALUES (1, '2020-01-01 00:00:00', 'a'), (2, '2020-01-02 00:00:00', "+
			"'b''\\'), (3, '2026-01-01 00:00:00', 'c')", q(name)))
		sel := w.selection(t, name, age)
		quoted := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
		text := quoted(body) + " <> 'x''; drop' AND " + quoted(key) + " > 0"
		sel.Terms[0].Where = bind(t, sel.Table, text)
		sel.Holds = []*filter.Filter{bind(t, sel.Table, quoted(body)+" = 'y\"\\'")}
		if n := w.tally(t, sel)[0].Due; n != 2 {
			t.Errorf("table %s: %d rows are counted as due", name, n)
		}
		p := w.read(t, sel, nil, 1, 1<<30)
		rest := w.read(t, sel, p.Last, 10, 1<<30)
		expect(t, "rows of "+name, len(p.rows)+len(rest.rows), 2)
		expect(t, "deleted from "+name, w.delete(t, w.batch(sel, rest, w.lease(t, name, "me"), i+1)).Deleted, 1)
		found, err := w.s.Locate(w.ctx, sel, [][]value.Value{p.rows[0][:1]}, p.digests)
		if err != nil || found.Len() != 1 {
			t.Errorf("table %s: locate: %v", name, err)
		}
		out, err := w.s.Restore(w.ctx, source.RestoreRequest{Table: sel.Table, Restore: "r",
			Columns: allColumns(sel.Table), Rows: chunkOf(rest.rows), Digests: digestsOf(rest.rows)})
		if err != nil || out.Inserted != 1 {
			t.Errorf("table %s: restore: %+v, %v", name, out, err)
		}
	}
}

func checks(t *testing.T, w *world) {
	w.exec("CREATE TABLE keyless (v text)")
	r, err := w.s.Check(w.ctx)
	if err != nil {
		t.Fatal(err)
	}
	if r.Version == "" || !r.OK() {
		t.Errorf("report: %+v", r)
	}
	found := false
	for _, f := range r.Items {
		found = found || f.Table == "keyless" && f.Level == source.Refused
	}
	expect(t, "a table without key is refused", found, w.f.NoAddress)
}

func measuresLog(t *testing.T, w *world) {
	sel := w.scans(t, 400, 400)
	before, known, err := w.s.LogWritten(w.ctx)
	if err != nil || known == w.s.Reads().BlocksWriters {
		t.Fatalf("the log is known: %v, %v", known, err)
	}
	if !known {
		return
	}
	l := w.lease(t, "scan", "me")
	grown := int64(0)
	for n := range 2 {
		w.delete(t, w.batch(sel, w.read(t, sel, nil, 200, 1<<20), l, n+1))
		after, _, err := w.s.LogWritten(w.ctx)
		if err != nil {
			t.Fatal(err)
		}
		if grown = after - before; grown < 200*20*int64(n+1) {
			t.Errorf("%d batches of 200 rows grew the log by %d bytes", n+1, grown)
		}
	}
	if grown > 64<<20 {
		t.Errorf("400 rows grew the log by %d bytes", grown)
	}
}

// seesOthers has somebody come and go, with a connection for each statement, until that is seen.
func seesOthers(t *testing.T, w *world) {
	watched, ok := source.As[source.Watched](w.s)
	if !ok {
		t.Fatal("the source does not show who else is at work")
	}
	w.exec("CREATE TABLE tide (id integer PRIMARY KEY)")
	look := func() pace.Look {
		seen, err := watched.Others(w.ctx, 200*time.Millisecond)
		if err != nil || seen.Hidden != "" {
			t.Fatalf("%+v (%v)", seen, err)
		}
		return seen
	}
	look()
	for id, deadline := 0, time.Now().Add(10*time.Second); ; id++ {
		w.exec(fmt.Sprintf("INSERT INTO tide VALUES (%d)", id))
		if seen := look(); seen.Busy > 0 {
			probes(t, w, watched)
			return
		} else if time.Now().After(deadline) {
			t.Fatalf("after %d statements of others: %+v", id, seen)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// probes makes both kinds of probes, and looks whether the source counts what others end, and neither those nor what
// the run does.
func probes(t *testing.T, w *world, watched source.Watched) {
	p, ok := source.As[source.Probed](w.s)
	if !ok { // it has nothing that others would feel
		return
	}
	table, err := w.s.Table(w.ctx, "tide")
	if err == nil {
		err = w.s.PrepareJournal(w.ctx)
	}
	for _, kind := range pace.FeelKinds {
		for range 2 {
			if err == nil {
				_, _, err = p.Probe(w.ctx, kind, table)
			}
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	ended := func() pace.Look {
		time.Sleep(3 * time.Second / 2) // PostgreSQL's sessions tell once a second
		seen, err := watched.Others(w.ctx, time.Second)
		if err != nil || !seen.Counted || seen.Blocked != 0 || seen.Behind < 0 {
			t.Fatalf("%+v (%v)", seen, err)
		}
		return seen
	}
	before := ended()
	for range 200 {
		for _, kind := range pace.FeelKinds {
			called := time.Now()
			begun, took, err := p.Probe(w.ctx, kind, table)
			if err != nil || took <= 0 || begun.Before(called) || begun.Add(took).After(time.Now()) {
				t.Fatalf("a probe of %s from %s on: %v", took, begun.Sub(called), err)
			}
		}
	}
	between := ended()
	for id := range 60 {
		w.exec(fmt.Sprintf("INSERT INTO tide VALUES (%d)", 10_000+id))
	}
	after := ended()
	ours, theirs := between.Ended-before.Ended, after.Ended-between.Ended
	if ours > 100 || theirs < 50 || theirs > 600 {
		t.Errorf("400 probes count as %d of others', and 60 of theirs as %d", ours, theirs)
	}
	ours, theirs = between.Changed-before.Changed, after.Changed-between.Changed
	if ours > 0 || theirs < 40 || theirs > 120 { // a server changes something now and then by itself
		t.Errorf("of 400 probes %d count as changes of others, and of 60 inserts of theirs %d", ours, theirs)
	}
}

// showsProgress keeps where a run stands twice, and reads it through the view with a restore of one row's worth of
// SQL: a table that is made from the view.
func showsProgress(t *testing.T, w *world) {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	p := source.Progress{Table: "scan", Rule: "scans", Run: "run1", Action: "archive", State: "running",
		Pace: "gentle", Cutoff: cutoff, Due: 100, Done: 40, Deleted: 39, At: at, RuleText: "rule: 'scans'"}
	for range 2 {
		if err := w.s.Show(w.ctx, p); err != nil {
			t.Fatal(err)
		}
		p.State, p.Done, p.ResumesAt = "resting", 120, &at
	}
	w.exec("CREATE TABLE seen (id integer PRIMARY KEY, scanned_at " + w.f.AgeType + ", note text)")
	view := "ambercellar_runs"
	if w.f.JournalSchema != "" {
		view = w.f.JournalSchema + ".runs"
	}
	w.exec("INSERT INTO seen SELECT 1, '2020-01-01 00:00:00', table_name || '/' || state || '/' || done || '/' || " +
		"rows_left || '/' || resumes_at || '/' || rule_text FROM " + view)
	piece := w.read(t, w.selection(t, "seen", "scanned_at"), nil, 10, 1<<20)
	expect(t, "the view", string(piece.rows[0][2].B), "scan/resting/120/0/2026-11-23T12:00:00Z/rule: 'scans'")
}
