package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
)

// TestRowsThatCameBackForATimeGoAgain: those that are still what was archived, and nothing else; those that were
// changed are rows like any from then on.
func TestRowsThatCameBackForATimeGoAgain(t *testing.T) {
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
			if _, err := b.Catalog.SetRunState(t.Context(), "service", run, catalog.Done, ""); err != nil {
				t.Fatal(err)
			}
			putBack := func(q restore.RestoreRequest) *catalog.Restore {
				t.Helper()
				q.Source, q.Table, q.Target = "harbour", "scan", catalog.TargetTable
				r, err := b.Restores.Request(t.Context(), "me", q)
				if err == nil {
					err = b.Restores.Restore(t.Context(), r, t.TempDir())
				}
				if err == nil {
					r, err = b.Catalog.Restore(t.Context(), r.ID)
				}
				if err != nil {
					t.Fatal(err)
				}
				return r
			}
			ids := func(where string) int64 { return h.count(t, "SELECT count(*) FROM scan WHERE "+where) }
			live := ids("id > 0")
			good := putBack(restore.RestoreRequest{Scope: catalog.Scope{Where: "id IN (3, 4)"}})
			timed := putBack(restore.RestoreRequest{Scope: catalog.Scope{Where: "id BETWEEN 1 AND 10"}, For: "P2D"})
			if timed.Restored != 8 || timed.Skipped != 2 || timed.Lasts != "P2D" || timed.ExpiresAt == nil ||
				timed.ExpiresAt.Sub(timed.EndedAt.Time) < 47*time.Hour {
				t.Fatalf("%+v", timed)
			}
			h.exec(t, "UPDATE scan SET note = 'changed' WHERE id = 6", "DELETE FROM scan WHERE id = 7")
			// While they are there, rules leave them alone and their segments stay.
			p := b.plan(t, plan.PlanRequest{Rule: "matrix"})
			if p.Counts.V.Due != 0 {
				t.Errorf("%d rows are due again", p.Counts.V.Due)
			}
			if r, err := needed(t, b, run); err != nil || r == nil || r.ID != timed.ID {
				t.Errorf("the segments are needed by %+v, %v", r, err)
			}
			b.now = b.now.AddDate(0, 0, 3)
			for range 2 { // once more does nothing more
				if err := b.Restores.TakeBack(t.Context(), timed); err != nil {
					t.Fatal(err)
				}
			}
			// one is gone already
			if timed.State != catalog.RestoreExpired || timed.TakenBack != 6 || timed.Stayed != 1 {
				t.Errorf("%d were taken back and %d stay: %+v", timed.TakenBack, timed.Stayed, timed)
			}
			if ids("id > 0") != live+3 || ids("id IN (3, 4, 6)") != 3 {
				t.Errorf("%d rows are live, of which %d should be", ids("id > 0"), ids("id IN (3, 4, 6)"))
			}
			// What was changed is a row like any: the next run archives it anew, in a version that supersedes.
			if p = b.plan(t, plan.PlanRequest{Rule: "matrix"}); p.Counts.V.Due != 1 || p.Counts.V.Restored != 2 {
				t.Errorf("due %d, restored %d", p.Counts.V.Due, p.Counts.V.Restored)
			}
			if r, err := needed(t, b, run); err != nil || r != nil {
				t.Errorf("the segments are still needed by %+v, %v", r, err)
			}
			if x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan"); err != nil || !x.Agree {
				t.Errorf("%+v, %v", x, err)
			}
			// Longer, and for good.
			if r, err := b.Restores.KeepRestored(t.Context(), "me", good.ID, "P5D"); err != nil || r.Lasts != "P5D" ||
				r.ExpiresAt == nil {
				t.Errorf("%+v, %v", r, err)
			}
			if r, err := b.Restores.KeepRestored(t.Context(), "me", good.ID, ""); err != nil || r.Lasts != "" ||
				r.ExpiresAt != nil {
				t.Errorf("%+v, %v", r, err)
			}
			if _, err := b.Restores.KeepRestored(t.Context(), "me", timed.ID, "P5D"); !errors.Is(err,
				catalog.ErrState) {
				t.Errorf("rows that are gone are kept: %v", err)
			}
			for says, q := range map[string]restore.RestoreRequest{"is no time at all": {For: "PT0S",
				Target: catalog.TargetTable}, "only rows that go back into their table": {For: "P1D",
				Target: catalog.TargetSide}, "is not a": {For: "soon", Target: catalog.TargetTable}} {
				q.Source, q.Table, q.Scope.Where = "harbour", "scan", "id = 1"
				if _, err := b.Restores.Request(t.Context(), "me", q); err == nil ||
					!strings.Contains(err.Error(), says) {
					t.Errorf("%+v: %v", q, err)
				}
			}
		})
	}
}

// needed returns a restore that needs the segments of a run.
func needed(t *testing.T, b *bench, run string) (*catalog.Restore, error) {
	t.Helper()
	n, err := b.Shelf.NeedsOf(t.Context(), "harbour")
	if err != nil {
		t.Fatal(err)
	}
	return n.By(t.Context(), &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: "x", Run: run,
		Source: "harbour"}})
}
