package engine

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
)

// found is what a search finds, a line for each row.
func (b *bench) found(t *testing.T, q SearchRequest) (string, *Searched) {
	t.Helper()
	q.Source, q.Table = "harbour", "scan"
	var lines []string
	s, err := b.Search(t.Context(), q, func([]shape.Column) error { return nil }, func(h Hit) error {
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

func TestArchivedRowsAreFoundByAnyCondition(t *testing.T) {
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			h.exec(t, "UPDATE scan SET note = 'it''s odd' WHERE id = 120", "UPDATE scan SET note = NULL WHERE id = 121")
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
			if _, _, err := b.ApplyRules(t.Context(), "me", "r", []byte(rule), "the column gate is new"); err != nil {
				t.Fatal(err)
			}
			p := b.plan(t, PlanRequest{Rule: "matrix"})
			if err := b.Run(t.Context(), b.begin(t, p)); err != nil {
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
				if got, _ := b.found(t, SearchRequest{Where: c.where, Columns: strings.Split(c.columns, ",")}); got != c.want {
					t.Errorf("%s: found %s, want %s", c.where, got, c.want)
				}
			}
			if _, s := b.found(t, SearchRequest{Where: "id = 7"}); s.Segments != 3 || s.Passed != 2 || s.Found != 1 || s.Rows > 100 {
				t.Errorf("a look-up by key: %+v", s)
			}
			if got, s := b.found(t, SearchRequest{Columns: []string{"id"}, Limit: 3}); got != "1|2|3" || !s.More {
				t.Errorf("limited: %s, %+v", got, s)
			}
			var text bytes.Buffer
			if s, err := b.SearchRows(t.Context(), SearchRequest{Source: "harbour", Table: "scan", Columns: []string{"id", "note"}, Where: "id IN (120, 121)"}, "csv", &text); err != nil || s.Found != 2 || text.String() != "id,note\r\n120,\"it's odd\"\r\n121,\r\n" {
				t.Errorf("as CSV: %q, %v", text.String(), err)
			}
			text.Reset()
			if _, err := b.SearchRows(t.Context(), SearchRequest{Source: "harbour", Table: "scan", Columns: []string{"id", "gate"}, Where: "id > 190"}, "ndjson", &text); err != nil || text.String() != "{\"id\":191,\"gate\":\"north\"}\n" {
				t.Errorf("as JSON: %q, %v", text.String(), err)
			}
			for text, q := range map[string]SearchRequest{"there is no column nota": {Where: "nota = 'x'"}, "has a column \"gat\"": {Columns: []string{"gat"}}, "is compared with": {Where: "note = 5"}} {
				q.Source, q.Table = "harbour", "scan"
				var refused *RefusedError
				if _, err := b.Search(t.Context(), q, func([]shape.Column) error { return nil }, func(Hit) error { return nil }); !errors.As(err, &refused) || !strings.Contains(err.Error(), text) {
					t.Errorf("%+v: %v", q, err)
				}
			}
		})
	}
}
