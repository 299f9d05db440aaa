package engine

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/search"
)

// found is what a search finds, a line for each row.
func (b *bench) found(t *testing.T, q search.SearchRequest) (string, *search.Searched) {
	t.Helper()
	q.Source, q.Table = "harbour", "scan"
	var lines []string
	s, err := b.Search.Search(t.Context(), q, func([]shape.Column) error { return nil }, func(h search.Hit) error {
		var line []string
		for _, v := range h.Row {
			line = append(line, string(v.AppendText(nil)))
		}
		lines = append(lines, strings.Join(line, " "))
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(lines, "|"), s
}

// summaries counts and sums up the archived rows: ids 1 to 191, notes but for one, a gate from 151 on.
func (b *bench) summaries(t *testing.T) {
	t.Helper()
	text := func(v *string) string {
		if v == nil {
			return "NULL"
		}
		return *v
	}
	for _, c := range []struct {
		q    search.SummaryRequest
		want string
	}{
		{search.SummaryRequest{Of: []search.Measure{{Of: "count"}}}, "191"},
		{search.SummaryRequest{Of: []search.Measure{{Of: "sum", Column: "id"}, {Of: "min", Column: "id"},
			{Of: "max", Column: "id"}, {Of: "min", Column: "note"}}}, "18336 1 191 it's odd"},
		{search.SummaryRequest{Of: []search.Measure{{Of: "count"}, {Of: "min", Column: "id"},
			{Of: "max", Column: "gate"}}, GroupBy: []string{"gate"}}, "NULL 150 1 NULL|north 41 151 north"},
		{search.SummaryRequest{Of: []search.Measure{{Of: "count"}}, GroupBy: []string{"note", "gate"},
			Where: "id IN (120, 121, 152)"}, "NULL NULL 1|it's odd NULL 1|note north 1"},
		{search.SummaryRequest{Of: []search.Measure{{Of: "count"}, {Of: "sum", Column: "id"}}, Where: "id > 5000"},
			"0 NULL"},
		{search.SummaryRequest{Of: []search.Measure{{Of: "count"}}, GroupBy: []string{"id"}, Where: "id > 5000"}, ""},
	} {
		c.q.Source, c.q.Table = "harbour", "scan"
		s, err := b.Search.Summarise(t.Context(), c.q)
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, g := range s.Groups {
			var line []string
			for _, v := range g {
				line = append(line, text(v))
			}
			lines = append(lines, strings.Join(line, " "))
		}
		if got := strings.Join(lines, "|"); got != c.want {
			t.Errorf("%+v: %s, want %s", c.q, got, c.want)
		}
	}
	for says, q := range map[string]search.SummaryRequest{
		"has no sum": {Of: []search.Measure{{Of: "sum", Column: "note"}}}, "not said what": {},
		"is nothing that can be made": {Of: []search.Measure{{Of: "median", Column: "id"}}},
		"has a column \"berth\"":      {Of: []search.Measure{{Of: "max", Column: "berth"}}}} {
		q.Source, q.Table = "harbour", "scan"
		if _, err := b.Search.Summarise(t.Context(), q); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v", q, err)
		}
	}
}

// TestSumsAreExact: decimals are added as decimals, beyond what an integer holds.
func TestSumsAreExact(t *testing.T) {
	t.Parallel()
	var x search.Tallied
	for _, v := range []value.Value{{Kind: value.Decimal, N: 10, Scale: 2}, {Kind: value.Decimal, N: 20, Scale: 2},
		{Kind: value.Decimal, B: []byte("99999999999999999999.125")}, {}, value.Of(1 << 62)} {
		x.Add("sum", v)
	}
	if got := x.Text("sum"); got == nil || *got != "104611686018427387903.425" {
		t.Errorf("%v", *got)
	}
	x.Add("sum", value.Value{Kind: value.Decimal, B: []byte("NaN")})
	if got := x.Text("sum"); got != nil {
		t.Errorf("with NaN: %s", *got)
	}
	var f search.Tallied
	for range 4 {
		f.Add("sum", value.OfFloat(0.5))
	}
	if got := f.Text("sum"); *got != "2" {
		t.Errorf("of floats: %s", *got)
	}
}

func TestArchivedRowsAreFoundByAnyCondition(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			h.exec(t, "UPDATE scan SET note = 'it''s odd' WHERE id = 120",
				"UPDATE scan SET note = NULL WHERE id = 121")
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar}
			first := s.start(t, h, b)
			if err := s.work(t, b, first); err != nil {
				t.Fatal(err)
			}
			if _, err := b.Catalog.SetRunState(t.Context(), "service", first, catalog.Done, ""); err != nil {
				t.Fatal(err)
			}
			// A column that comes later: rows from before it have NULL there.
			h.exec(t, "ALTER TABLE scan ADD gate varchar(10)", "UPDATE scan SET gate = 'north' WHERE id > 150")
			rule := strings.Replace(s.rule, "2020-01-06", "2020-01-09", 1)
			if _, _, err := b.Plans.ApplyRules(t.Context(), "me", "r", []byte(rule),
				"the column gate is new"); err != nil {
				t.Fatal(err)
			}
			p := b.plan(t, plan.PlanRequest{Rule: "matrix"})
			if err := b.Runs.Run(t.Context(), b.begin(t, p)); err != nil {
				t.Fatal(err)
			}
			for _, c := range []struct{ where, columns, want string }{
				{"id = 7", "id,note", "7 note"},
				{"note = 'it''s odd'", "id,gate", "120 "},
				{"id IN (3, 150, 152, 999)", "id,gate", "3 |150 |152 north"},
				{"id BETWEEN 98 AND 101 OR note IS NULL", "id", "98|99|100|101|121"},
				{"gate = 'north' AND id < 153", "id", "151|152"},
				{"gate IS NULL AND id > 148", "id", "149|150"},
				{"id > 188", "note,id", "note 189|note 190|note 191"},
				{"id > 5000", "id", ""},
			} {
				if got, _ := b.found(t, search.SearchRequest{Where: c.where,
					Columns: strings.Split(c.columns, ",")}); got != c.want {
					t.Errorf("%s: found %s, want %s", c.where, got, c.want)
				}
			}
			if _, s := b.found(t, search.SearchRequest{Where: "id = 7"}); s.Segments != 3 || s.Passed != 2 ||
				s.Found != 1 || s.Rows > 100 {
				t.Errorf("a look-up by key: %+v", s)
			}
			if got, s := b.found(t, search.SearchRequest{Columns: []string{"id"}, Limit: 3}); got != "1|2|3" ||
				!s.More {
				t.Errorf("limited: %s, %+v", got, s)
			}
			var text bytes.Buffer
			if s, err := b.Search.SearchRows(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan",
				Columns: []string{"id", "note"}, Where: "id IN (120, 121)"}, "csv", &text); err != nil ||
				s.Found != 2 || text.String() != "id,note\r\n120,\"it's odd\"\r\n121,\r\n" {
				t.Errorf("as CSV: %q, %v", text.String(), err)
			}
			text.Reset()
			if _, err := b.Search.SearchRows(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan",
				Columns: []string{"id", "gate"}, Where: "id > 190"}, "ndjson", &text); err != nil ||
				text.String() != "{\"id\":191,\"gate\":\"north\"}\n" {
				t.Errorf("as JSON: %q, %v", text.String(), err)
			}
			b.summaries(t)
			// The table itself too: rows that are there, then those of the archive.
			var lines []string
			s2, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan",
				Where: "id IN (7, 195, 999)", Columns: []string{"id", "gate"}, Limit: 10, Live: true},
				func([]shape.Column) error { return nil }, func(h search.Hit) error {
					lines = append(lines, fmt.Sprint(h.Segment == "", " ", h.Row[0], " ", h.Row[1]))
					return nil
				})
			if err != nil || s2.Live != 1 || s2.Found != 2 ||
				strings.Join(lines, "|") != "true 195 north|false 7 NULL" {
				t.Errorf("live and archived: %v, %+v, %v", lines, s2, err)
			}
			if _, s := b.found(t, search.SearchRequest{Columns: []string{"id"}, Limit: 3, Live: true}); s.Live != 3 ||
				!s.More {
				t.Errorf("live, limited: %+v", s)
			}
			for text, q := range map[string]search.SearchRequest{"needs a limit": {Live: true},
				"there is no column nota": {Where: "nota = 'x'"}, "has a column \"gat\"": {Columns: []string{"gat"}},
				"is compared with": {Where: "note = 5"}} {
				q.Source, q.Table = "harbour", "scan"
				var refused *refuse.Error
				if _, err := b.Search.Search(t.Context(), q, func([]shape.Column) error { return nil },
					func(search.Hit) error { return nil }); !errors.As(err, &refused) ||
					!strings.Contains(err.Error(), text) {
					t.Errorf("%+v: %v", q, err)
				}
			}
		})
	}
}

// The answer to a search is no larger than it may be, however wide the rows are, and what waits to be taken is bounded
// too.
func TestWideRowsAreFoundWithinABound(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "sqlite")
	h.exec(t, "CREATE TABLE scan (id integer PRIMARY KEY, at datetime NOT NULL, note text)",
		"CREATE INDEX scan_at ON scan (at)",
		"INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 60) SELECT g, "+
			"'2020-01-01 00:00:00', hex(randomblob(1 << 20)) FROM s")
	b := h.serve(t, nil)
	s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar}
	if err := s.work(t, b, s.start(t, h, b)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		limit, want int
		large       bool
	}{{500, 16, true}, {5, 5, false}, {0, 60, false}} {
		var bytes, rows int
		got, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan",
			Limit: c.limit}, func([]shape.Column) error { return nil }, func(h search.Hit) error {
			rows++
			bytes += len(h.Row[2].B)
			return nil
		})
		if err != nil || got.Large != c.large || got.More != (c.limit > 0) || c.large &&
			(bytes > search.MostFound || bytes < search.MostFound/2) || !c.large && rows != c.want {
			t.Errorf("limit %d: %d rows of %d bytes, %+v, %v", c.limit, rows, bytes, got, err)
		}
	}
}
