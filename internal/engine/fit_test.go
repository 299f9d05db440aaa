package engine

import (
	"fmt"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/restore"
)

// TestRowsGoBackIntoAnAlteredTable: columns that came later get their defaults; those that were renamed or dropped are
// refused until it is said what becomes of them; and nothing is written where a value has no room any more.
func TestRowsGoBackIntoAnAlteredTable(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar}
			run := s.start(t, h, b)
			if err := s.work(t, b, run); err != nil {
				t.Fatal(err)
			}
			restore := func(where string, fit catalog.Fit) (*catalog.Restore, error) {
				r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
					Table: "scan", Scope: catalog.Scope{Where: where}, Target: catalog.TargetTable, Fit: fit})
				if err == nil {
					err = b.Restores.Restore(t.Context(), r, t.TempDir())
				}
				return r, err
			}
			refused := func(says string, fit catalog.Fit) {
				t.Helper()
				if _, err := restore("id = 5", fit); err == nil || !strings.Contains(err.Error(), says) {
					t.Errorf("%+v: %v", fit, err)
				}
			}
			h.exec(t, "ALTER TABLE scan RENAME COLUMN note TO remark",
				"ALTER TABLE scan ADD gate varchar(10) DEFAULT 'north'")
			if engine != "postgres" { // which knows the column by its number
				refused(`has no column "note" any more`, catalog.Fit{})
			}
			refused(`has no column "notes" that "note" could go to`,
				catalog.Fit{Rename: map[string]string{"note": "notes"}})
			refused(`column "id" of table scan is now of type`, catalog.Fit{Rename: map[string]string{"note": "id"}})
			refused(`nothing for column "id"`, catalog.Fit{Rename: map[string]string{"note": "remark"},
				LeaveOut: []string{"id"}})
			r, err := restore("id IN (5, 6)", catalog.Fit{Rename: map[string]string{"note": "remark"}})
			if err != nil || r.Restored != 2 ||
				h.count(t, "SELECT count(*) FROM scan WHERE id IN (5, 6) AND remark LIKE 'note%' AND gate = "+
					"'north'") != 2 {
				t.Errorf("renamed: %+v, %v", r, err)
			}
			r, err = restore("id = 7", catalog.Fit{LeaveOut: []string{"note"}})
			if err != nil || r.Restored != 1 ||
				h.count(t, "SELECT count(*) FROM scan WHERE id = 7 AND remark IS NULL") != 1 {
				t.Errorf("left out: %+v, %v", r, err)
			}
			if engine == "sqlite" { // its types bound nothing
				return
			}
			h.exec(t, "UPDATE scan SET remark = 'x'",
				map[string]string{"postgres": "ALTER TABLE scan ALTER remark TYPE varchar(3)",
					"mariadb": "ALTER TABLE scan MODIFY remark varchar(3)"}[engine])
			before := h.count(t, "SELECT count(*) FROM scan")
			_, err = restore("id < 100", catalog.Fit{Rename: map[string]string{"note": "remark"}})
			if err == nil || !strings.Contains(err.Error(), "does not fit any more") ||
				h.count(t, "SELECT count(*) FROM scan") != before {
				t.Errorf("a narrower column: %v", err)
			}
		})
	}
}

func TestTypesHaveRoomForWhatFits(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		column shape.Column
		value  value.Value
		fits   bool
	}{
		{shape.Column{Type: "varchar(3)", Kind: value.Text}, value.OfText("äöü"), true},
		{shape.Column{Type: "character varying(3)", Kind: value.Text}, value.OfText("four"), false},
		{shape.Column{Type: "numeric(5,2)", Kind: value.Decimal, Precision: 5, Scale: 2},
			value.Value{Kind: value.Decimal, N: 99999, Scale: 2}, true},
		{shape.Column{Type: "numeric(5,2)", Kind: value.Decimal, Precision: 5, Scale: 2},
			value.Value{Kind: value.Decimal, N: 100000, Scale: 2}, false},
		{shape.Column{Type: "numeric(5,2)", Kind: value.Decimal, Precision: 5, Scale: 2},
			value.Value{Kind: value.Decimal, B: []byte("-1.125")}, false},
		{shape.Column{Type: "numeric(5,2)", Kind: value.Decimal, Precision: 5, Scale: 2},
			value.Value{Kind: value.Decimal, B: []byte("001.500")}, true},
		{shape.Column{Type: "smallint", Kind: value.Int}, value.Of(-32768), true},
		{shape.Column{Type: "smallint", Kind: value.Int}, value.Of(32768), false},
		{shape.Column{Type: "tinyint(3) unsigned", Kind: value.Int}, value.Of(255), true},
		{shape.Column{Type: "tinyint(3) unsigned", Kind: value.Int}, value.Of(-1), false},
		{shape.Column{Type: "integer", Kind: value.Int}, value.Of(1 << 31), false},
	} {
		if judge := restore.Room(&c.column); judge == nil || judge(c.value) != c.fits {
			t.Errorf("%s, %s: fits %v is wrong", c.column.Type, c.value.Exact(), c.fits)
		}
	}
	for _, free := range []string{"text", "bigint", "timestamp with time zone", ""} {
		if restore.Room(&shape.Column{Type: free}) != nil {
			t.Errorf("%q bounds something", free)
		}
	}
}
