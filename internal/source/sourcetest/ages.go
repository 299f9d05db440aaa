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
)

func collationKeeps(t *testing.T, w *world) {
	if w.f.Folded == "" {
		t.Skip("the engine's test database has no such collation")
	}
	w.exec(fmt.Sprintf("CREATE TABLE ferry (id integer PRIMARY KEY, at %s, name %s); INSERT INTO ferry VALUES (1, "+
		"'2020-01-01 00:00:00', 'heron'), (2, '2020-01-02 00:00:00', 'Heron'), (3, '2020-01-03 00:00:00', "+
		"'plover'), (4, '2020-01-04 00:00:00', NULL)", w.f.AgeType, w.f.Folded))
	sel := w.selection(t, "ferry", "at")
	heron := bind(t, sel.Table, "name = 'heron'")
	sel.Terms[0].Where = heron
	x := w.tally(t, sel)[0]
	expect(t, "due and judged otherwise, of what is equal", []int64{x.Due, w.tally(t, sel)[-1].Collation},
		[]int64{1, 1})
	expect(t, "rows read", w.due(t, sel), 1)
	// The other way round: Heron is not equal exactly, and is by the collation. It stays in doubt, and so it stays.
	sel.Terms[0].Where, sel.Terms[0].Except = nil, []*filter.Filter{heron}
	x = w.tally(t, sel)[0]
	expect(t, "due and judged otherwise, of what is not", []int64{x.Due, x.Collation}, []int64{2, 1})
	expect(t, "rows read", w.due(t, sel), 2)
	sel.Terms[0].Where, sel.Terms[0].Except = bind(t, sel.Table, "name LIKE 'h%'"), nil
	if n := w.due(t, sel); n > 1 {
		t.Errorf("LIKE took %d rows for one that begins so", n)
	}
}

// longConditions have as many terms as their text can hold.
func longConditions(t *testing.T, w *world) {
	sel := w.scans(t, 10, 6)
	for word, want := range map[string]int64{" AND ": 9, " OR ": 10} {
		text := strings.Repeat("id<>7"+word, 6_000) + "id<>7"
		if word == " OR " {
			text = strings.Repeat("id=7"+word, 6_000) + "id<>7"
		}
		n, err := w.s.CountWhere(w.ctx, sel.Table, bind(t, sel.Table, text), 1000)
		expect(t, "rows by 6,001 terms joined by"+word, fmt.Sprint(n, err), fmt.Sprint(want, " <nil>"))
	}
	mixed := "id IN (7" + strings.Repeat(", 7.5", 4_900) + ")"
	n, err := w.s.CountWhere(w.ctx, sel.Table, bind(t, sel.Table, mixed), 1000)
	expect(t, "rows by a list of 4,901 numbers", fmt.Sprint(n, err), "1 <nil>")
}

func compares(t *testing.T, w *world) {
	sel := w.scans(t, 100, 60)
	late := sel
	late.Terms = []rule.Term{{Cutoff: rule.Cutoff{At: cutoff.Add(10 * time.Hour)},
		Where: bind(t, sel.Table, "id > 50")}}
	onlyA, onlyB, both, err := w.s.Difference(w.ctx, sel, late)
	if err != nil {
		t.Fatal(err)
	}
	count := func(text string) int64 {
		n, err := w.s.CountWhere(w.ctx, sel.Table, bind(t, sel.Table, text), 1000)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	expect(t, "rows in either", onlyA+both, int64(60))
	expect(t, "rows above 50", count("id > 50"), int64(50))
	a := w.tally(t, sel)[0].Due
	b := w.tally(t, late)[0].Due
	expect(t, "what each has alone and both", []int64{onlyA + both, onlyB + both}, []int64{a, b})
	n, err := w.s.CountWhere(w.ctx, sel.Table, bind(t, sel.Table, "gate LIKE 'g%'"), 7)
	expect(t, "counted to a limit", fmt.Sprint(n, err), "7 <nil>")
	none := source.Selection{Table: sel.Table, Age: sel.Age}
	_, onlyB, both, err = w.s.Difference(w.ctx, none, sel)
	expect(t, "compared with nothing", fmt.Sprint(onlyB, both, err), "60 0 <nil>")
}

func sentinelsStay(t *testing.T, w *world) {
	sel := w.scans(t, 10, 4)
	w.exec("UPDATE scan SET scanned_at = '1970-01-01 00:00:00' WHERE id IN (SELECT id FROM scan WHERE scanned_at < " +
		"'2024-12-31 22:00:00')")
	expect(t, "due before", w.due(t, sel), 4)
	never := "1970-01-01 00:00:00"
	if c, _ := sel.Table.Column("scanned_at"); c.Kind.String() == "instant" {
		never += "Z"
	}
	sel.Age.Never = []string{never}
	expect(t, "due without the sentinel", w.due(t, sel), 2)
	n, err := w.s.Outside(w.ctx, sel)
	expect(t, "rows of no age", fmt.Sprint(n, err), "2 <nil>")
	expect(t, "counted", w.tally(t, sel)[0].Due, int64(2))
	oldest, _, ok, err := w.s.Ends(w.ctx, sel)
	if err != nil || !ok || oldest.Year() != 2024 {
		t.Errorf("the oldest age is %s, %v, %v", oldest, ok, err)
	}
}

// zonesHold: at 01:30 in summer time before clocks are set back, a row that shows 02:15 may be older or younger.
func zonesHold(t *testing.T, w *world) {
	w.exec(fmt.Sprintf("CREATE TABLE watch (id integer PRIMARY KEY, at %s)", w.f.ClockType))
	for i, at := range []string{"2024-10-27 01:59:59", "2024-10-27 02:00:00", "2024-10-27 02:15:00",
		"2024-10-27 03:00:00"} {
		w.exec(fmt.Sprintf("INSERT INTO watch VALUES (%d, '%s')", i+1, at))
	}
	sel := w.selection(t, "watch", "at")
	sel.Age.Zone = "Europe/Berlin"
	for cut, due := range map[string]int{"2024-10-26T23:59:59Z": 0, "2024-10-27T00:30:00Z": 1,
		"2024-10-27T01:30:00Z": 3, "2024-10-27T02:00:00Z": 3, "2024-10-27T02:00:01Z": 4} {
		at, err := time.Parse(time.RFC3339, cut)
		if err != nil {
			t.Fatal(err)
		}
		sel.Terms[0].At = at
		expect(t, "due before "+cut, w.due(t, sel), due)
		x, err := w.s.Tally(w.ctx, sel, source.Span{})
		if err != nil || len(x) != 1 || x[0].Due != int64(due) {
			t.Errorf("counted before %s: %+v, %v", cut, x, err)
		}
	}
}

func otherAges(t *testing.T, w *world) {
	w.exec("CREATE TABLE log (id integer PRIMARY KEY, at bigint, day date)")
	for i, unit := range []rule.Unit{rule.Seconds, rule.Milliseconds, rule.Microseconds} {
		w.exec("DELETE FROM log")
		for j, at := range []time.Time{cutoff.Add(-time.Second), cutoff, cutoff.Add(time.Second)} {
			w.exec(fmt.Sprintf("INSERT INTO log VALUES (%d, %d, '%s')", 10*i+j, unit.Count(at),
				at.Format(time.DateOnly)))
		}
		w.exec(fmt.Sprintf("INSERT INTO log VALUES (%d, NULL, NULL)", 10*i+3))
		sel := w.selection(t, "log", "at")
		sel.Age.Unit = unit
		expect(t, "due in "+string(unit), w.due(t, sel), 1)
		x := w.tally(t, sel)[0]
		expect(t, "counted in "+string(unit), []int64{x.Rows, x.Due}, []int64{3, 1})
		oldest, _, ok, err := w.s.Ends(w.ctx, sel)
		if err != nil || !ok || !oldest.Equal(cutoff.Add(-time.Second)) {
			t.Errorf("the oldest age in %s is %s, %v, %v", unit, oldest, ok, err)
		}
	}
	// The day of the cutoff stays: a day is before it when it lies before its day, in the zone.
	sel := w.selection(t, "log", "day")
	expect(t, "due by day", w.due(t, sel), 1)
	sel.Age.Zone = "Pacific/Auckland" // there it is one o'clock in the afternoon of 1 January
	sel.Terms[0].At = cutoff.Add(11 * time.Hour)
	expect(t, "due by day elsewhere", w.due(t, sel), 3)
}

// between is what others may do between the read and the delete, case by case, on every engine alike.
func between(t *testing.T, w *world) {
	sel := w.scans(t, 20, 20)
	for i, c := range []struct{ name, does, want string }{
		{"nothing", "SELECT 1", "20 deleted, changed [], vanished [], held []"},
		{"one column of one row", "UPDATE scan SET note = NULL WHERE gate = 'g4'",
			"19 deleted, changed [4], vanished [], held []"},
		{"an age that becomes young", "UPDATE scan SET scanned_at = '2026-01-01 00:00:00' WHERE gate IN ('g4', 'g5')",
			"18 deleted, changed [4 5], vanished [], held []"},
		{"keys change places", "UPDATE scan SET id = 777 WHERE gate = 'g4'; UPDATE scan SET id = 778 WHERE gate = " +
			"'g5'; UPDATE scan SET id = 7000 WHERE gate = 'g4'", "18 deleted, changed [], vanished [4 5], held []"},
		{"everything is gone but one", "DELETE FROM scan WHERE gate <> 'g0'",
			"1 deleted, changed [], vanished [1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19], held []"},
	} {
		w.exec("DELETE FROM scan")
		for j := range 20 {
			w.exec(fmt.Sprintf("INSERT INTO scan VALUES (%d, 1, '%s', 'g%d', 'note')", 100+j,
				cutoff.Add(time.Duration(j-40)*time.Hour).Format(time.DateTime), j))
		}
		p := w.read(t, sel, nil, 100, 1<<30)
		for _, statement := range splitStatements(c.does) {
			w.exec(statement)
		}
		b := w.batch(sel, p, w.lease(t, "scan", "me"), 1)
		b.Segment = i + 1
		r := w.delete(t, b)
		expect(t, c.name, fmt.Sprintf("%d deleted, changed %v, vanished %v, held %v", r.Deleted, r.Changed, r.Vanished,
			r.Held), c.want)
		total := r.Digest
		for _, o := range append(append([]int{}, r.Changed...), r.Vanished...) {
			total.Add(p.digests[o])
		}
		expect(t, c.name+": deleted and left out together", total, r.Found)
	}
}

func splitStatements(s string) (out []string) {
	from := 0
	for i, c := range s + ";" {
		if c == ';' {
			out = append(out, s[from:min(i, len(s))])
			from = i + 1
		}
	}
	return out
}

// emptyingTakesEveryAge: rows without an age, dated in the future, or with an endless age go too, in order of the key.
func emptyingTakesEveryAge(t *testing.T, w *world) {
	sel := w.scans(t, 10, 4)
	w.exec("UPDATE scan SET scanned_at = NULL WHERE id IN (2, 5); UPDATE scan SET scanned_at = '2999-01-01 " +
		"00:00:00' WHERE id = 7")
	aged := sel
	aged.Terms = []rule.Term{{Cutoff: sel.Terms[0].Cutoff, Clause: 1, Where: bind(t, sel.Table, "gate = 'g0'")}}
	early := w.due(t, aged)
	sel.Terms[0].All = true
	x, err := w.s.Tally(w.ctx, sel, source.Span{})
	if err != nil || len(x) != 1 || x[0].Due != 10 || x[0].Rows != 10 {
		t.Errorf("counted: %+v, %v", x, err)
	}
	var after []value.Value
	var sizes []int
	deleted := 0
	l := w.lease(t, "scan", "me")
	for n := 1; ; n++ {
		p := w.read(t, sel, after, 3, 1<<20)
		if len(p.rows) == 0 {
			break
		}
		b := w.batch(sel, p, l, n)
		deleted += w.delete(t, b).Deleted
		sizes, after = append(sizes, len(p.rows)), p.Last
	}
	expect(t, "read and deleted", fmt.Sprint(sizes, deleted), "[3 3 3 1] 10")
	// Beside a clause that goes by the age, only the rows of the emptying one go whatever theirs.
	w.exec("INSERT INTO scan VALUES (1, 1, NULL, 'g0', NULL), (2, 1, NULL, 'x', NULL), (3, 1, '2999-01-01 " +
		"00:00:00', 'y', NULL)")
	sel.Terms = append(aged.Terms, rule.Term{Clause: 2, Except: []*filter.Filter{aged.Terms[0].Where},
		Cutoff: sel.Terms[0].Cutoff})
	expect(t, "due beside another clause", fmt.Sprint(early, w.due(t, sel)), fmt.Sprint(early, 2))
	if x, err = w.s.Tally(w.ctx, sel, source.Span{}); err != nil || len(x) != 2 || x[0].Due+x[1].Due != 2 {
		t.Errorf("counted beside another clause: %+v, %v", x, err)
	}
}
