package engine

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/sweep"
	"ambercellar/internal/engine/upkeep"
)

// turnBack puts a backup of the catalog in the place of the present one.
func (b *bench) turnBack(t *testing.T, backup string) {
	t.Helper()
	c, err := catalog.Open(t.Context(), backup)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	b.Catalog = c
}

// backup writes a backup of the catalog.
func (b *bench) backup(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "backup.db")
	if err := b.Catalog.Backup(t.Context(), path); err != nil {
		t.Fatal(err)
	}
	return path
}

// wrong verifies everything and returns what is wrong, as KIND STORE FILE.
func (b *bench) wrong(t *testing.T, repair bool) (out []string) {
	t.Helper()
	v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{Repair: repair}, nil)
	if err == nil {
		err = b.Upkeep.Verify(t.Context(), v, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range v.Findings.V {
		if f.Wrong && (!repair || f.Repaired == "") {
			out = append(out, f.Kind+" "+f.Store+" "+f.File)
		}
	}
	slices.Sort(out)
	return out
}

func (b *bench) sweepAll(t *testing.T, name string) *sweep.Swept {
	t.Helper()
	s, err := b.Sweeps.Sweep(t.Context(), "me", name, b.now.AddDate(1, 0, 0), true)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestAnOlderCatalogCostsNoSegment: rows were moved, and a catalog of before that is put back. Verifying and
// reconciling notice it, sweeping leaves the only copy alone, and taking up what lies in the stores finds the rows
// again.
func TestAnOlderCatalogCostsNoSegment(t *testing.T) {
	t.Parallel()
	b, vault := newVault(t)
	b.finish(t, plan.PlanRequest{})
	all := b.archivedRows(t, "")
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil || len(list) != 1 {
		t.Fatal(len(list), err)
	}
	before := b.backup(t)
	if _, err := b.moveSegment(t, list[0].ID, "vault"); err != nil {
		t.Fatal(err)
	}
	b.turnBack(t, before)
	m := archive.ManifestAt(list[0].Stem)
	s := b.sweepAll(t, "vault")
	if s.Removed != 0 || len(s.Files) != 1 || !strings.Contains(s.Files[0].Reason, "may be the only copy") {
		t.Errorf("swept: %+v", s)
	}
	if f, err := vault.Open(t.Context(), m.RowsName()); err != nil {
		t.Fatalf("the only copy is gone: %v", err)
	} else {
		f.Close()
	}
	if got := b.wrong(t, false); !slices.Contains(got, "missing cellar "+m.RowsName()) {
		t.Errorf("verifying finds %v", got)
	}
	x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
	if err != nil || x.Agree || len(x.Displaced) != 1 {
		t.Errorf("reconciling: %+v, %v", x, err)
	}
	if n, err := b.Upkeep.Adopt(t.Context(), "me", "cellar"); err != nil || n != (upkeep.Adopted{Renewed: 1}) {
		t.Errorf("taken up: %+v, %v", n, err)
	}
	if got, err := b.Catalog.Segment(t.Context(), list[0].ID); err != nil || got.RowsIn() != "vault" {
		t.Errorf("%+v, %v", got, err)
	}
	if got := b.archivedRows(t, ""); got != all {
		t.Errorf("%d of %d rows are found", got, all)
	}
	if got := b.wrong(t, false); len(got) != 0 {
		t.Errorf("in the end verifying finds %v", got)
	}
}

// TestAnOlderCatalogHearsOfDisposals: what was destroyed since, and what stayed of it, is taken up from the records.
func TestAnOlderCatalogHearsOfDisposals(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "PT1S")
	b.now = b.now.Add(time.Minute)
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Where: "id = 10", Reference: "case 9", Reason: "inquiry"}); err != nil {
		t.Fatal(err)
	}
	before := b.backup(t)
	d := b.decide(t)
	if err := b.Disposals.Dispose(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	b.turnBack(t, before)
	x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
	if err != nil || x.Agree || !strings.Contains(strings.Join(x.Differences, "; "),
		"were destroyed, by their records") {
		t.Errorf("%+v, %v", x, err)
	}
	if swept := b.sweepAll(t, "cellar"); swept.Removed != 0 {
		t.Errorf("the rows that stayed were swept: %+v", swept)
	}
	if x, err = b.Reconcile.Settle(t.Context(), "me", "harbour", "scan", "an old catalog"); err != nil || !x.Agree {
		t.Errorf("%+v, %v", x, err)
	}
	for _, one := range s {
		if got, err := b.Catalog.Segment(t.Context(), one.ID); err != nil || got.State != catalog.SegmentDisposed {
			t.Errorf("%+v, %v", got, err)
		}
	}
	if got := b.archivedRows(t, ""); got != 1 {
		t.Errorf("%d rows are found, 1 stayed", got)
	}
	if got := b.wrong(t, false); len(got) != 0 {
		t.Errorf("verifying finds %v", got)
	}
}

// TestNoCopyOutlivesADisposal: a copy of which the catalog does not know yet, files of a killed run, and those of runs
// that nobody knows: the first two go, the last are named in the certificate.
func TestNoCopyOutlivesADisposal(t *testing.T) {
	t.Parallel()
	b, vault := newVault(t)
	b.rule(t, "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: "+
		"archive\narchive: {store: cellar, keep: PT1S}\npace: unlimited\n")
	run := b.finish(t, plan.PlanRequest{})
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	m, books, err := b.Engine.Shelf.Load(t.Context(), b.store, &list[0])
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range m.Files(books, nil) { // a second copy that has just ended
		if _, err := archive.CopyFile(t.Context(), b.store, vault, file); err != nil {
			t.Fatal(err)
		}
	}
	begin := func(st store.Store, run string) {
		t.Helper()
		x := &archive.Manifest{ManifestOrigin: archive.ManifestOrigin{Source: "harbour", Table: "scan", Run: run,
			Number: 9}}
		x.Name()
		f, err := st.Create(t.Context(), x.RowsName())
		if err == nil {
			_, err = f.Write([]byte("rows"))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	begin(b.store.Directory, run.ID)
	begin(vault, run.ID)
	begin(vault, ulid.Make().String())
	b.now = b.now.Add(time.Minute)
	d := b.decide(t)
	if err := b.Disposals.Dispose(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Catalog.SetDisposalState(t.Context(), "service", d.ID, catalog.DisposalDone, "",
		catalog.At(b.Now())); err != nil {
		t.Fatal(err)
	}
	if list, err := vault.List(t.Context(), ""); err != nil || slices.ContainsFunc(list, func(o store.Object) bool {
		return strings.HasSuffix(o.Name, ".parquet") || strings.HasSuffix(o.Name, ".range.json")
	}) {
		t.Errorf("in the vault: %+v, %v", list, err)
	}
	for name, st := range map[string]store.Store{"cellar": b.store.Directory, "vault": vault} {
		left, err := st.Unfinished(t.Context(), "")
		if want := map[string]int{"vault": 1}[name]; err != nil || len(left) != want {
			t.Errorf("begun in the %s: %+v, %v", name, left, err)
		}
	}
	c, err := b.Disposals.Certificate(t.Context(), d.ID)
	if err != nil || len(c.Destroyed) != 1 || !slices.Equal(c.Destroyed[0].Searched, []string{"cellar", "vault"}) {
		t.Fatalf("%+v, %v", c, err)
	}
	if len(c.Remains) != 1 || !strings.Contains(c.Remains[0], "store vault, harbour/scan/") ||
		!strings.Contains(c.Remains[0], "is not known to this service") {
		t.Errorf("what remains: %q", c.Remains)
	}
	// A second copy that was listed before is not made any more.
	if err := b.Upkeep.CopySecond(t.Context(), list[0].ID); err != nil {
		t.Error(err)
	}
	if err := b.Catalog.SetSecond(t.Context(), list[0].ID, "vault", b.now); !errors.Is(err, catalog.ErrState) {
		t.Errorf("a destroyed segment got a second copy: %v", err)
	}
	stale := list[0]
	stale.RowsStore, stale.Leaving = "vault", "cellar"
	if err := b.Catalog.Moved(t.Context(), "me", &stale, "cellar"); !errors.Is(err, catalog.ErrState) {
		t.Errorf("a destroyed segment was moved: %v", err)
	}
}

// TestAStoreThatIsAwayHoldsADisposalUp: where a copy is known to lie there; the certificate is written when it could
// be listed.
func TestAStoreThatIsAwayHoldsADisposalUp(t *testing.T) {
	t.Parallel()
	b, _ := newVault(t)
	b.rule(t, "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: "+
		"archive\narchive: {store: cellar, keep: PT1S, second: vault}\npace: unlimited\n")
	b.finish(t, plan.PlanRequest{})
	if n, err := b.copySeconds(t); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	b.now = b.now.Add(time.Minute)
	d := b.decide(t)
	whole, calls := b.Store, 0
	b.Store = func(ctx context.Context, name string) (store.Store, error) {
		if name == "vault" {
			calls++
			return nil, store.ErrAway
		}
		return whole(ctx, name)
	}
	if err := b.Disposals.Dispose(t.Context(), d); !errors.Is(err, store.ErrAway) || calls == 0 {
		t.Errorf("%v after %d calls", err, calls)
	}
	b.Store = whole
	again, err := b.Catalog.Disposal(t.Context(), d.ID)
	if err == nil {
		err = b.Disposals.Dispose(t.Context(), again)
	}
	if err != nil || again.Items.V[0].Destroyed == nil || len(again.Items.V[0].Remains) != 0 {
		t.Errorf("%+v, %v", again.Items.V, err)
	}
}

// TestAnInterruptedAdoptionIsTakenUp: a segment that an older version left half known is known as a whole afterwards.
func TestAnInterruptedAdoptionIsTakenUp(t *testing.T) {
	t.Parallel()
	for _, state := range []catalog.SegmentState{catalog.SegmentWriting, catalog.SegmentOpen} {
		b := newBench(t, "wal")
		b.finish(t, plan.PlanRequest{})
		all := b.archivedRows(t, "")
		list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
		if err != nil {
			t.Fatal(err)
		}
		c, err := catalog.Open(t.Context(), filepath.Join(t.TempDir(), "lost.db"))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if err := c.AddStore(t.Context(), "me", catalog.Store{Name: "cellar", Path: "x"}); err != nil {
			t.Fatal(err)
		}
		b.Catalog = c
		half := list[0]
		half.State, half.Deleted, half.ClosingHash, half.ClosingSeq = state, 0, "", 0
		if err := c.AddSegment(t.Context(), &half); err != nil {
			t.Fatal(err)
		}
		if n, err := b.Upkeep.Adopt(t.Context(), "me", "cellar"); err != nil || n != (upkeep.Adopted{Renewed: 1}) {
			t.Errorf("%s: %+v, %v", state, n, err)
		}
		if got, err := c.Segment(t.Context(), half.ID); err != nil || got.State != catalog.SegmentClosed ||
			got.Deleted != list[0].Deleted || b.archivedRows(t, "") != all {
			t.Errorf("%s: %+v, %v", state, got, err)
		}
		if n, err := b.Upkeep.Adopt(t.Context(), "me", "cellar"); err != nil || n != (upkeep.Adopted{}) {
			t.Errorf("%s, once more: %+v, %v", state, n, err)
		}
	}
}

// TestASegmentThatCannotBeReadKeepsNoOtherFromBeingTakenUp.
func TestASegmentThatCannotBeReadKeepsNoOtherFromBeingTakenUp(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "P7Y")
	c, err := catalog.Open(t.Context(), filepath.Join(t.TempDir(), "lost.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if err := c.AddStore(t.Context(), "me", catalog.Store{Name: "cellar", Path: "x"}); err != nil {
		t.Fatal(err)
	}
	b.Catalog = c
	if err := os.WriteFile(filepath.Join(b.cellar, s[1].Stem+".manifest.json"), []byte("{"), 0o640); err != nil {
		t.Fatal(err)
	}
	if n, err := b.Upkeep.Adopt(t.Context(), "me", "cellar"); !errors.Is(err, archive.ErrDamaged) || n.Segments != 2 {
		t.Errorf("%+v, %v", n, err)
	}
}
