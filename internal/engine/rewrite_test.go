package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/upkeep"
)

// archivedRows counts the archived rows that a search finds.
func (b *bench) archivedRows(t *testing.T, where string) int {
	t.Helper()
	text, s := b.found(t, search.SearchRequest{Where: where, Columns: []string{"id"}})
	if int64(len(strings.Fields(strings.ReplaceAll(text, "|", " ")))) != s.Found {
		t.Errorf("%q and %d found", text, s.Found)
	}
	return int(s.Found)
}

// TestASegmentIsParted: of a segment whose time is over, the rows that a hold stands on go into a segment of their
// own, and so do rows whose own time is not over where it counts from their age; the others are gone, and the
// certificate tells both.
func TestASegmentIsParted(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "PT1S")
	b.now = b.now.Add(time.Minute)
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Where: "id BETWEEN 10 AND 19", Reference: "case 9", Reason: "inquiry"}); err != nil {
		t.Fatal(err)
	}
	d := b.decide(t)
	if len(d.Items.V) != 3 || d.Items.V[0].Kept != 10 || d.Items.V[1].Kept != 0 {
		t.Fatalf("%+v", d.Items.V)
	}
	if err := b.Disposals.Dispose(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 3 {
		t.Fatalf("%d disposed of, and wrong: %s", disposed, strings.Join(wrong, "\n"))
	}
	kept, err := b.Catalog.Segment(t.Context(), d.Items.V[0].Successor)
	if err != nil || kept.State != catalog.SegmentClosed || kept.Rows != 10 || kept.Rewrites != s[0].ID ||
		kept.Deleted != 10 {
		t.Fatalf("%+v, %v", kept, err)
	}
	if n := b.archivedRows(t, ""); n != 10 {
		t.Errorf("%d rows are in the archive", n)
	}
	if _, err := b.Catalog.SetDisposalState(t.Context(), "service", d.ID, catalog.DisposalDone, "",
		catalog.At(b.Now())); err != nil {
		t.Fatal(err)
	}
	c, err := b.Disposals.Certificate(t.Context(), d.ID)
	if err != nil || c.Kept != 10 || c.Rows != rows-10 || c.Destroyed[0].Why == "" {
		t.Errorf("%+v, %v", c, err)
	}
	// What stays can be put back, is verified, and stays while the hold does.
	r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{Where: "id < 15"}, Target: catalog.TargetTable, Pace: "unlimited"})
	if err == nil {
		err = b.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if err != nil || r.Restored != 5 {
		t.Errorf("%+v, %v", r, err)
	}
	if again, err := b.Disposals.Plan(t.Context(), "me", "scans", "", ""); err != nil || len(again.Items.V) != 0 ||
		!strings.Contains(again.Stays.V[0].Reason, "case 9") {
		t.Errorf("%+v, %v", again, err)
	}
	if n, err := b.Upkeep.Adopt(t.Context(), "me", "cellar"); err != nil || n != (upkeep.Adopted{}) {
		t.Errorf("%+v adopted, %v", n, err)
	}
}

// TestRowsGoByTheirAge: where the keep counts from the age, a segment is parted where the age of its rows is.
func TestRowsGoByTheirAge(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	byAge := "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: " +
		"archive\narchive: {store: cellar, keep: P7Y, from: age}\npace: unlimited\n"
	b.rule(t, byAge)
	run := b.start(t)
	if err := b.Runs.Run(t.Context(), run); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Catalog.SetRunState(t.Context(), "service", run.ID, catalog.Done, ""); err != nil {
		t.Fatal(err)
	}
	all := b.archivedRows(t, "")
	if d, err := b.Disposals.Plan(t.Context(), "me", "scans", "", ""); err != nil || len(d.Items.V) != 0 ||
		!strings.Contains(d.Stays.V[0].Reason, "it is kept until 2027") {
		t.Fatalf("%+v, %v", d, err)
	}
	b.now = time.Date(2027, 1, 1, 10, 0, 0, 0, time.UTC) // ten hours of 2020 are seven years ago
	d := b.decide(t)
	if len(d.Items.V) != 1 || d.Items.V[0].Rows-d.Items.V[0].Kept != 600 ||
		!strings.Contains(d.Items.V[0].Why, "that of some of its rows is over") {
		t.Fatalf("%+v, %+v", d.Items.V, d.Stays.V)
	}
	if err := b.Disposals.Dispose(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	if n := b.archivedRows(t, ""); n != all-600 || b.archivedRows(t, "at <= TIMESTAMP '2020-01-01 10:00:00'") != 0 {
		t.Errorf("%d of %d rows are in the archive", n, all)
	}
	if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 1 {
		t.Errorf("%d disposed of, and wrong: %v", disposed, wrong)
	}
}

// TestPartingGoesOnWhereItStopped: wherever the store fails, the chain stays whole, runs go on with it, and in the end
// each held row is in the archive once, and no other.
func TestPartingGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	steps := 0
	for n := 0; ; n++ {
		b, _ := archivedScans(t, "PT1S")
		b.now = b.now.Add(time.Minute)
		if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
			Where: "id BETWEEN 10 AND 19", Reference: "case 9", Reason: "inquiry"}); err != nil {
			t.Fatal(err)
		}
		d := b.decide(t)
		d.Items.V = d.Items.V[:1]
		if b.stumble(t, d, n) {
			break
		}
		steps++
		if err := b.Disposals.Dispose(t.Context(), d); err != nil {
			t.Fatalf("step %d, again: %v", n, err)
		}
		if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 1 {
			t.Fatalf("step %d: %d disposed of, and wrong: %s", n, disposed, strings.Join(wrong, "\n"))
		}
		if got, _ := b.found(t, search.SearchRequest{Where: "id < 1000",
			Columns: []string{"id"}}); got != "10|11|12|13|14|15|16|17|18|19" {
			t.Fatalf("step %d: the archive has %s", n, got)
		}
		v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{}, nil)
		if err == nil {
			err = b.Upkeep.Verify(t.Context(), v, 0)
		}
		if err != nil || v.Wrong != 0 {
			t.Fatalf("step %d: %+v, %v", n, v, err)
		}
		if x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan"); err != nil || !x.Agree {
			t.Fatalf("step %d: %+v, %v", n, x, err)
		}
	}
	if steps < 25 {
		t.Errorf("only %d steps", steps)
	}
	fmt.Fprintln(t.Output(), steps, "steps")
}
