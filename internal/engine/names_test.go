package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
)

// A column that was renamed is one column: rows from before are found by the name that it has now, once that is told; before, a search says
// which segments it did not understand, and nothing is certified of them.
func TestARenamedColumnIsOneColumn(t *testing.T) {
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar}
			b.rule(t, s.rule)
			archived := func(before time.Time) {
				t.Helper()
				p, err := b.MakePlan(t.Context(), "me", PlanRequest{Rule: "matrix", Before: before, Confirm: true})
				if err != nil {
					t.Fatal(err)
				}
				r, err := b.StartRun(t.Context(), "me", p.ID, false)
				if err == nil {
					r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
				}
				if err == nil {
					err = b.Run(t.Context(), r)
				}
				if err == nil {
					_, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Done, "")
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			archived(time.Date(2020, 1, 3, 0, 0, 0, 0, time.UTC))
			h.exec(t, "ALTER TABLE scan RENAME COLUMN note TO remark")
			archived(time.Time{})
			search := func(where string) (*Searched, error) {
				return b.Search(t.Context(), SearchRequest{Source: "harbour", Table: "scan", Where: where, Columns: []string{"id"}}, func([]shape.Column) error { return nil }, func(Hit) error { return nil })
			}
			all, err := search("")
			if err != nil || all.Segments < 2 {
				t.Fatalf("all: %+v, %v", all, err)
			}
			some, err := search("remark = 'note'")
			if err != nil || some.Found == 0 || some.Found >= all.Found || len(some.Lacking) != 1 || some.Lacking[0].Column != "remark" || some.Lacking[0].Rows != all.Found-some.Found {
				t.Fatalf("by the new name, of %d rows: %+v, %v", all.Found, some, err)
			}
			d, err := b.PlanErasure(t.Context(), "me", ErasureRequest{Source: "harbour", Table: "scan", Where: "remark = 'note' AND id < 60"})
			if err != nil || len(d.Stays.V) != len(some.Lacking[0].Segments) || !strings.Contains(d.Stays.V[0].Reason, "nobody can tell whether it holds such rows") {
				t.Fatalf("an erasure by the new name: %+v, %v", d, err)
			}
			tell := func(name, was string) error {
				_, err := b.TellName(t.Context(), "me", catalog.FormerName{Source: "harbour", Table: "scan", Name: name, Was: was})
				return err
			}
			var refused *RefusedError
			if err := tell("remark", "nota"); !errors.As(err, &refused) || !strings.Contains(refused.Remedy, "note") {
				t.Errorf("a name that no column has had: %v", err)
			}
			if err := tell("remark", "note"); err != nil {
				t.Fatal(err)
			}
			if err := tell("note", "remark"); !errors.As(err, &refused) {
				t.Errorf("a circle of names: %v", err)
			}
			if err := tell("remark", ""); !errors.As(err, &refused) {
				t.Errorf("renamed, and added: %v", err)
			}
			if got, err := search("remark = 'note'"); err != nil || got.Found != all.Found || len(got.Lacking) != 0 {
				t.Errorf("by the new name, told: %+v, %v", got, err)
			}
			if _, err := search("note = 'note'"); err == nil {
				t.Error("the old name still finds a part of the rows")
			}
			sum, err := b.Summarise(t.Context(), SummaryRequest{Source: "harbour", Table: "scan", GroupBy: []string{"remark"}, Of: []Measure{{Of: "count"}}})
			if err != nil || len(sum.Groups) != 1 || *sum.Groups[0][1] != fmt.Sprint(all.Found) {
				t.Errorf("counted by it: %+v, %v", sum, err)
			}
			r, err := b.RequestRestore(t.Context(), "me", RestoreRequest{Source: "harbour", Table: "scan", Scope: catalog.Scope{Where: "remark = 'note' AND id < 60"}, Target: TargetTable})
			if err == nil {
				err = b.Restore(t.Context(), r, t.TempDir())
			}
			if err != nil || r.Restored != 59 || h.count(t, "SELECT count(*) FROM scan WHERE id < 60 AND remark = 'note'") != 59 {
				t.Errorf("restored by it: %+v, %v", r, err)
			}
			d, err = b.PlanErasure(t.Context(), "me", ErasureRequest{Source: "harbour", Table: "scan", Where: "remark = 'note' AND id < 60"})
			if err != nil || len(d.Stays.V) != 0 || len(d.Items.V) == 0 {
				t.Errorf("an erasure by it: %+v, %v", d, err)
			}

			// Another column takes the old name, and a third comes: neither is the renamed one.
			h.exec(t, "ALTER TABLE scan ADD note varchar(40)", "ALTER TABLE scan ADD gate varchar(10)", "UPDATE scan SET note = 'new', gate = 'north' WHERE id < 60")
			if err := tell("gate", ""); err != nil {
				t.Errorf("a column that no segment has yet: %v", err)
			}
			names, err := b.Catalog.FormerNames(t.Context(), "harbour", "scan")
			if err != nil {
				t.Fatal(err)
			}
			now := names.Now([]shape.Column{{Name: "id"}, {Name: "remark"}, {Name: "note"}})
			if now[1].Name != "remark" || now[2].Name != "note" {
				t.Errorf("beside a column of the new name, the old one is %v", now)
			}
		})
	}
}
