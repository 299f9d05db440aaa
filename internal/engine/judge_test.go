package engine

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/upkeep"
)

// keysNamed counts the variables with keys of sealed stores.
var keysNamed atomic.Int64

// shelves is a bench whose segments have second copies, in stores whose files a test can reach.
type shelves struct {
	*bench
	roots map[string]string
}

// frozen is a directory whose files can be let go cold, and are not read then.
type frozen struct {
	*store.Directory
	cold map[string]bool
}

func (f *frozen) Open(ctx context.Context, name string) (store.Reader, error) {
	x, err := f.Directory.Open(ctx, name)
	if err == nil && f.cold[name] {
		x.Close()
		return nil, fmt.Errorf("%s: %w", name, store.ErrCold)
	}
	return x, err
}

func (f *frozen) Remove(ctx context.Context, name string) error {
	delete(f.cold, name)
	return f.Directory.Remove(ctx, name)
}

func (f *frozen) Cool(_ context.Context, name string) error { f.cold[name] = true; return nil }

func (f *frozen) Warmth(_ context.Context, name string) (store.Warmth, error) {
	return store.Warmth{Cold: f.cold[name]}, nil
}

func (f *frozen) Retrieve(context.Context, string, store.Priority, int) error { return nil }

// newShelves makes the stores cellar, with second copies in attic, and vault; those that are named are sealed, and
// vault is cold, perhaps.
func newShelves(t *testing.T, cold bool, sealed ...string) *shelves {
	t.Helper()
	x := &shelves{bench: newBench(t, "wal"), roots: map[string]string{}}
	stores := map[string]store.Store{}
	for _, name := range []string{"cellar", "attic", "vault"} {
		x.roots[name] = filepath.Join(t.TempDir(), name)
		d, err := store.MakeDirectory(x.roots[name])
		if err != nil {
			t.Fatal(err)
		}
		if stores[name] = d; cold && name == "vault" {
			stores[name] = &frozen{d, map[string]bool{}}
		}
		if slices.Contains(sealed, name) {
			key, _, err := store.NewSealKey()
			if err != nil {
				t.Fatal(err)
			}
			variable := fmt.Sprintf("KEYS_%s_%d", strings.ToUpper(name), keysNamed.Add(1)) // tests go side by side
			os.Setenv(variable, key)
			t.Cleanup(func() { os.Unsetenv(variable) })
			if stores[name], err = store.OpenSealed(d, store.Seal{Env: variable}); err != nil {
				t.Fatal(err)
			}
		}
		if name != "cellar" {
			if err := x.Catalog.AddStore(t.Context(), "me", catalog.Store{Name: name, Path: name}); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := x.Catalog.SetStore(t.Context(), "me", catalog.Store{Name: "cellar", Second: "attic"}); err != nil {
		t.Fatal(err)
	}
	x.Store = func(_ context.Context, name string) (store.Store, error) {
		if stores[name] == nil {
			return nil, catalog.ErrNotFound
		}
		return stores[name], nil
	}
	return x
}

// path is where a file of a store lies, sealed or not; empty where it does not.
func (x *shelves) path(t *testing.T, name, file string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(x.roots[name], file) + "*")
	if err != nil || len(found) > 1 {
		t.Fatal(found, err)
	}
	if len(found) == 0 {
		return ""
	}
	return found[0]
}

// restored counts the rows that a restore into a file finds.
func (x *shelves) restored(t *testing.T) int64 {
	t.Helper()
	r, err := x.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{Where: "id > 0"}, Target: catalog.TargetFile, Format: "csv"})
	if err == nil {
		err = x.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if err != nil {
		t.Errorf("restoring: %v", err)
		return -1
	}
	return r.Restored
}

// damages are the ways in which a file comes to harm.
var damages = map[string]func(b []byte) []byte{
	"missing": func([]byte) []byte { return nil },
	"cut":     func(b []byte) []byte { return b[:len(b)/2] },
	"flipped": func(b []byte) []byte { b = bytes.Clone(b); b[len(b)/3] ^= 1; return b },
	"empty":   func([]byte) []byte { return []byte{} },
	"changed": func(b []byte) []byte { // it parses as before
		if !bytes.HasPrefix(b, []byte("{")) {
			return nil
		}
		return append(bytes.Clone(b), '\n')
	},
}

// TestEveryFileOfEveryCopyIsJudgedAndMended: each file of each copy of a segment comes to harm in each way. Verifying
// names that file in that store, searches and restores read the other copy, and repairing puts it back where it lay.
func TestEveryFileOfEveryCopyIsJudgedAndMended(t *testing.T) {
	t.Parallel()
	for name, layout := range map[string]struct {
		sealed              []string
		moved, parted, cold bool
	}{
		"plain": {}, "moved": {moved: true}, "sealed": {sealed: []string{"cellar", "attic"}}, "parted": {parted: true},
		"cold": {moved: true, cold: true}, "moved to a sealed store": {moved: true, sealed: []string{"vault"}},
	} {
		t.Run(name, func(t *testing.T) {
			x := newShelves(t, layout.cold, layout.sealed...)
			x.rule(t, fmt.Sprintf(disposedRule, "PT1S"))
			x.finish(t, plan.PlanRequest{})
			if layout.parted {
				if _, err := x.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
					Where: "id <= 500", Reference: "case 9", Reason: "inquiry"}); err != nil {
					t.Fatal(err)
				}
				x.now = x.now.Add(time.Minute)
				if err := x.Disposals.Dispose(t.Context(), x.decide(t)); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := x.copySeconds(t); err != nil {
				t.Fatal(err)
			}
			list, err := x.Catalog.Segments(t.Context(), catalog.SegmentFilter{State: "closed"}, catalog.All)
			if err != nil || len(list) != 1 || list[0].Second != "attic" {
				t.Fatal(list, err)
			}
			s := &list[0]
			if layout.moved {
				if s, err = x.moveSegment(t, s.ID, "vault"); err != nil {
					t.Fatal(err)
				}
			}
			all := x.archivedRows(t, "")
			if got := x.wrong(t, false); len(got) > 0 || x.restored(t) != int64(all) {
				t.Fatalf("before anything came to harm: %v", got)
			}
			m := archive.ManifestAt(s.Stem)
			records := []string{m.ManifestName(), m.ClosingName(), m.RangeName()}
			where := map[string][]string{"attic": append([]string{m.RowsName()}, records...), "cellar": records}
			where[s.RowsIn()] = append([]string{m.RowsName()}, where[s.RowsIn()]...)
			for place, files := range where {
				for _, file := range files {
					path := x.path(t, place, file)
					content, err := os.ReadFile(path)
					if err != nil {
						t.Fatal(err)
					}
					for way, harm := range damages {
						if layout.cold && place == "vault" && harm(content) != nil {
							continue // nobody can tell before it is retrieved
						}
						if layout.cold && place == "attic" && file == m.RowsName() { // the only copy that can be read
							x.unread(t, s, way+" of the rows in attic", path, content, harm(content))
							continue
						}
						x.harmed(t, s, fmt.Sprintf("%s of %s in %s", way, strings.TrimPrefix(file, s.Stem), place),
							place, file, path, content, harm(content), int64(all))
					}
				}
			}
		})
	}
}

// unread does harm to the only copy of rows that is not cold: that is found, and nobody gets an answer that looks
// whole.
func (x *shelves) unread(t *testing.T, s *catalog.Segment, what, path string, content, harm []byte) {
	t.Helper()
	err := os.Remove(path)
	if err == nil && harm != nil {
		err = os.WriteFile(path, harm, 0o640)
	}
	if err != nil {
		t.Fatal(err)
	}
	x.Shelf.Forget()
	if got, err := x.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan"},
		func([]shape.Column) error { return nil }, func(search.Hit) error { return nil }); err == nil &&
		got.Incomplete() == "" {
		t.Errorf("%s: a search finds %d rows, and nothing is wrong", what, got.Found)
	}
	if len(x.wrong(t, false)) == 0 {
		t.Errorf("%s: verifying finds nothing", what)
	}
	if left := x.wrong(t, true); len(left) == 0 {
		t.Errorf("%s: it was mended from rows that nobody can read", what)
	}
	os.Remove(path)
	if err := os.WriteFile(path, content, 0o640); err != nil {
		t.Fatal(err)
	}
	if left := x.wrong(t, false); len(left) != 0 {
		t.Errorf("%s: after the file was brought back by hand verifying finds %v", what, left)
	}
}

// harmed does harm to one file, and sees what comes of it.
func (x *shelves) harmed(t *testing.T, s *catalog.Segment, what, place, file, path string, content, harm []byte,
	all int64) {
	t.Helper()
	err := os.Remove(path)
	if err == nil && harm != nil {
		err = os.WriteFile(path, harm, 0o640)
	}
	if err != nil {
		t.Fatal(err)
	}
	x.Shelf.Forget() // as after a start
	found := x.wrong(t, false)
	if n := len(found); n == 0 || !slices.ContainsFunc(found,
		func(f string) bool { return strings.HasSuffix(f, " "+place+" "+file) }) {
		t.Errorf("%s: verifying finds %v", what, found)
	}
	for _, f := range found {
		if !strings.HasSuffix(f, " "+place+" "+file) && !strings.HasPrefix(f, "chain ") {
			t.Errorf("%s: verifying finds %s too", what, f)
		}
	}
	if now, err := x.Catalog.Segment(t.Context(), s.ID); err != nil || now.Damage == "" {
		t.Errorf("%s: the segment is not marked as damaged, %v", what, err)
	}
	if _, err := x.Upkeep.VerifySegment(t.Context(), s.ID); err == nil {
		t.Errorf("%s: the segment verifies", what)
	}
	if n := x.archivedRows(t, ""); int64(n) != all {
		t.Errorf("%s: a search finds %d of %d rows", what, n, all)
	}
	if n := x.archivedRows(t, "id = 77"); n != 1 {
		t.Errorf("%s: a search by key finds %d rows", what, n)
	}
	if n := x.restored(t); n != all {
		t.Errorf("%s: a restore finds %d of %d rows", what, n, all)
	}
	if left := x.wrong(t, true); len(left) != 0 {
		t.Errorf("%s: repairing left %v", what, left)
	}
	if left := x.wrong(t, false); len(left) != 0 {
		t.Errorf("%s: after repairing verifying finds %v", what, left)
	}
	if _, err := x.Upkeep.VerifySegment(t.Context(), s.ID); err != nil {
		t.Errorf("%s: after repairing: %v", what, err)
	}
	if now := x.path(t, place, file); now == "" {
		t.Errorf("%s: the file did not come back where it lay", what)
	} else if b, err := os.ReadFile(now); err != nil || !strings.HasSuffix(now, ".age") && !bytes.Equal(b, content) {
		t.Errorf("%s: the file came back as another, %v", what, err)
	}
}

// TestALostSideFileIsMadeAgain from the rows, where no copy has it, and is told from one that came to harm.
func TestALostSideFileIsMadeAgain(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.finish(t, plan.PlanRequest{})
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(b.cellar, list[0].Stem+".range.json")
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	if got := b.wrong(t, false); len(got) != 1 || !strings.HasPrefix(got[0], "missing cellar ") {
		t.Errorf("%v", got)
	}
	if got := b.wrong(t, true); len(got) != 0 {
		t.Errorf("repairing left %v", got)
	}
	if got := b.wrong(t, false); len(got) != 0 {
		t.Errorf("%v", got)
	}
	if n := b.archivedRows(t, "id = 77"); n != 1 {
		t.Errorf("%d rows", n)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, bytes.Replace(text, []byte("2020-01-01 00:01:00"), []byte("2020-01-01 00:01:01"), 1),
		0o640); err != nil {
		t.Fatal(err)
	}
	if got := b.wrong(t, false); len(got) != 1 || !strings.HasPrefix(got[0], "damaged cellar ") {
		t.Errorf("a changed one: %v", got)
	}
}

// What a verification has judged is kept at once, the longest unlooked-at first: one that ends in the midst goes on
// with what is left.
func TestAVerificationThatEndsInTheMidstHasJudgedSomething(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.Runs.SliceRows = 500
	r := b.start(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Done, ""); err != nil {
		t.Fatal(err)
	}
	verified := func() (ids []string) {
		t.Helper()
		list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range list {
			if s.VerifiedAt != nil {
				ids = append(ids, s.ID)
			}
		}
		if len(list) < 4 {
			t.Fatalf("only %d segments", len(list))
		}
		return ids
	}
	older := catalog.At(b.Now().Add(time.Hour))
	for night := 1; len(verified()) < 4; night++ {
		before := len(verified())
		ctx, stop := context.WithCancel(t.Context())
		v, err := b.Upkeep.RequestVerification(ctx, "service", upkeep.VerificationRequest{Store: "cellar"}, &older)
		if err != nil {
			t.Fatal(err)
		}
		done := make(chan error, 1)
		go func() { done <- b.Upkeep.Verify(ctx, v, 20_000) }() // slowly
		eventually(t, "one more segment is judged", func() bool { return len(verified()) > before })
		stop()
		if err := <-done; err == nil {
			break // it was through
		}
		if night > 20 {
			t.Fatal("it does not get on")
		}
	}
	older = catalog.At(b.Now().Add(time.Hour))
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	looked := b.Now().Add(time.Minute)
	for i := range list[1:] { // the first of the list was looked at longest ago
		if err := b.Catalog.Judged(t.Context(), list[i+1].ID, "", looked); err != nil {
			t.Fatal(err)
		}
	}
	j := &upkeep.Judging{Keeper: b.Upkeep,
		V: &catalog.Verification{VerificationOrder: catalog.VerificationOrder{Older: &older}}}
	ctx, stop := context.WithCancel(t.Context())
	j.Pause = func(context.Context, int) error { stop(); return nil } // while the first is read
	if err := j.All(ctx); err == nil || len(j.V.Findings.V) != 0 {
		t.Errorf("%v, %+v", err, j.V.Findings.V)
	}
	for _, s := range list[1:] {
		now, err := b.Catalog.Segment(t.Context(), s.ID)
		if err != nil || !now.VerifiedAt.Equal(catalog.At(looked).Time) {
			t.Errorf("segment %s was looked at before the one that waited longer: %v, %v", s.ID, now.VerifiedAt, err)
		}
	}
}
