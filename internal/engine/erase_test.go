package engine

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/search"
)

// erased plans an erasure and carries it out.
func (b *bench) erased(t *testing.T, where string) *catalog.Disposal {
	t.Helper()
	d, err := b.Disposals.PlanErasure(t.Context(), "me", dispose.ErasureRequest{Source: "harbour", Table: "scan",
		Where: where, Note: "request 12"})
	if err == nil {
		d, err = b.Catalog.SetDisposalState(t.Context(), "boss", d.ID, catalog.Disposing, "", catalog.At(b.Now()))
	}
	if err == nil {
		err = b.Disposals.Dispose(t.Context(), d)
	}
	if err == nil {
		d, err = b.Catalog.SetDisposalState(t.Context(), "service", d.ID, catalog.DisposalDone, "",
			catalog.At(b.Now()))
	}
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// hits counts the archived scans of a condition.
func (b *bench) hits(t *testing.T, where string) int {
	t.Helper()
	found, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan", Where: where},
		func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	return int(found.Found)
}

// TestAnErasureTakesItsRowsAndNothingElse: rows of a condition go from the archive long before their time, others of
// the same segments stay as they were, the books add up, and nothing that remains tells what was asked for.
func TestAnErasureTakesItsRowsAndNothingElse(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "P7Y")
	b.exec(t, "INSERT INTO scan VALUES (900001, '2026-11-22', 'secret 7')")
	hits := func(where string) int { return b.hits(t, where) }
	whole := hits("id > 0")
	const where = "id IN (7, 8, 9) OR note = 'note 1500' OR note = 'secret 7'"
	d, err := b.Disposals.PlanErasure(t.Context(), "me", dispose.ErasureRequest{Source: "harbour", Table: "scan",
		Where: where, Note: "request 12"})
	if err != nil || len(d.Items.V) != 2 || len(d.Stays.V) != 0 || d.Items.V[0].Kept != d.Items.V[0].Rows-3 ||
		d.Items.V[1].Kept != d.Items.V[1].Rows-1 || d.Erases != where {
		t.Fatalf("%+v, %v", d, err)
	}
	if d.Reason != "the table itself has 1 such row; an erasure leaves that alone" {
		t.Errorf("the plan says %q", d.Reason)
	}
	if n := hits("id > 0"); n != whole {
		t.Errorf("planning changed something: %d of %d rows", n, whole)
	}
	hold, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Where: "id = 8", Reference: "case 9", Reason: "inquiry"})
	if err != nil {
		t.Fatal(err)
	}
	d = b.erased(t, where)
	if n := hits(where); n != 1 || hits("id = 8") != 1 || hits("id > 0") != whole-3 {
		t.Errorf("%d rows of the condition are left, %d of %d in all", n, hits("id > 0"), whole)
	}
	if x := d.Items.V[0]; x.Destroyed == nil || x.Left != "" || !strings.Contains(x.Why, "but for 1 on which hold "+
		hold.ID+" (case 9) stands") {
		t.Errorf("%+v", x)
	}
	if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 2 {
		t.Errorf("%d disposed of, wrong: %v", disposed, wrong)
	}
	r, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
	if err != nil || !r.Totals.AddsUp || r.Totals.Erased != 3 || r.Totals.Disposed != 0 ||
		r.Totals.Archived != int64(whole-3) {
		t.Errorf("%+v, %v", r.Totals, err)
	}
	c, err := b.Disposals.Certificate(t.Context(), d.ID)
	if err != nil || c.Kind != catalog.KindErasure || c.Rows != 3 || c.Segments != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	if again, err := b.Catalog.Disposal(t.Context(), d.ID); err != nil || again.Erases != "" {
		t.Errorf("the condition is kept: %q, %v", again.Erases, err)
	}
	entries, err := b.Catalog.AuditLog(t.Context(), catalog.AuditFilter{}, catalog.First(1000))
	if err != nil || strings.Contains(fmt.Sprint(entries), "secret") {
		t.Errorf("the audit log tells of it: %v, %v", entries, err)
	}
	filepath.WalkDir(b.cellar, func(path string, x fs.DirEntry, _ error) error {
		if text, err := os.ReadFile(path); err == nil && filepath.Ext(path) == ".json" &&
			strings.Contains(string(text), "note 1500") {
			t.Errorf("%s names the row", path)
		}
		if strings.Contains(path, s[0].ID) && filepath.Ext(path) == ".parquet" {
			t.Errorf("%s is left", path)
		}
		return nil
	})
	if d, err := b.Disposals.PlanErasure(t.Context(), "me", dispose.ErasureRequest{Source: "harbour", Table: "scan",
		Keys: []string{"7", "8"}}); err != nil || len(d.Items.V) != 0 || len(d.Stays.V) != 1 ||
		!strings.Contains(d.Stays.V[0].Reason, "stands on every such row of it") {
		t.Errorf("once more: %+v, %v", d, err)
	}
	var refused *refuse.Error
	for _, q := range []dispose.ErasureRequest{{Source: "harbour", Table: "scan"},
		{Source: "harbour", Table: "scan", Where: "id = 1", Keys: []string{"1"}},
		{Source: "harbour", Table: "scan", Where: "nobody = 1"},
		{Source: "harbour", Table: "nowhere", Where: "id = 1"}} {
		if _, err := b.Disposals.PlanErasure(t.Context(), "me", q); !errors.As(err, &refused) {
			t.Errorf("%+v: %v", q, err)
		}
	}
}

// TestAnErasureGoesOnAfterAnyFailure: the store fails at every step in turn; started again, the erasure comes to its
// end, and the rows that were not meant are there once.
func TestAnErasureGoesOnAfterAnyFailure(t *testing.T) {
	t.Parallel()
	for n := 1 + rand.IntN(4); ; n += 4 { // every fourth step, from another one each time
		b, _ := archivedScans(t, "P7Y")
		before := b.hits(t, "id > 0")
		d, err := b.Disposals.PlanErasure(t.Context(), "me", dispose.ErasureRequest{Source: "harbour", Table: "scan",
			Where: "id = 7 OR id = 1500"})
		if err == nil {
			d, err = b.Catalog.SetDisposalState(t.Context(), "boss", d.ID, catalog.Disposing, "", catalog.At(b.Now()))
		}
		if err != nil {
			t.Fatal(err)
		}
		through := b.stumble(t, d, n)
		if d, err = b.Catalog.Disposal(t.Context(), d.ID); err == nil {
			b.now = b.now.Add(time.Minute)
			err = b.Disposals.Dispose(t.Context(), d)
		}
		if err != nil {
			t.Fatalf("step %d: %v", n, err)
		}
		after, want := b.hits(t, "id > 0"), before-2
		if !through {
			want++ // the row that a run archived in between
		}
		if after != want {
			t.Fatalf("step %d: %d rows are archived, not %d", n, after, want)
		}
		if wrong, _ := b.sound(t); len(wrong) > 0 {
			t.Fatalf("step %d: %v", n, wrong)
		}
		if through {
			t.Logf("there are fewer than %d steps", n)
			return
		}
	}
}
