package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
)

// TestSweepingTakesOnlyWhatRunsLeft: files of a known run that has ended, without manifest or never completed, and old
// enough; nothing else that lies in a store.
func TestSweepingTakesOnlyWhatRunsLeft(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	root := t.TempDir()
	d, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	b.store.Directory = d
	ended := b.start(t)
	if err := b.Runs.Run(t.Context(), ended); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Catalog.SetRunState(t.Context(), "service", ended.ID, catalog.Done, ""); err != nil {
		t.Fatal(err)
	}
	b.exec(t, "INSERT INTO scan VALUES (9001, '2020-05-05', 'late')")
	going := b.start(t)
	stem := func(run string) string { return "harbour/scan/" + run + "/000077-" + ulid.Make().String() }
	old := b.now.AddDate(0, 0, -3)
	put := func(name string, at time.Time) string {
		path := filepath.Join(root, name)
		err := os.MkdirAll(filepath.Dir(path), 0o750)
		if err == nil {
			err = os.WriteFile(path, []byte("left"), 0o640)
		}
		if err == nil {
			err = os.Chtimes(path, at, at)
		}
		if err != nil {
			t.Fatal(err)
		}
		return path
	}
	goes := []string{put(stem(ended.ID)+".parquet", old), put(stem(ended.ID)+".range.json", old),
		put(stem(ended.ID)+".parquet."+ulid.Make().String()+".partial", old),
		put(stem(ended.ID)+".with-booking.parquet", old)}
	stays := []string{put(stem(ended.ID)+".parquet", b.now), put(stem(going.ID)+".parquet", old),
		put(stem(ulid.Make().String())+".parquet", old), put("notes.txt", old),
		put("harbour/scan/"+ended.ID+"/readme", old),
		put("mine.partial", old), put(stem(ended.ID)+".exe", old), put(stem(ended.ID)+".closing.json", old)}
	segments, err := filepath.Glob(filepath.Join(root, "harbour", "scan", ended.ID, "000001-*"))
	if err != nil || len(segments) != 4 {
		t.Fatalf("%v, %v", segments, err)
	}
	there := func(paths []string) (n int) {
		for _, p := range paths {
			if _, err := os.Stat(p); err == nil {
				n++
			}
		}
		return n
	}
	older := b.now.AddDate(0, 0, -1)
	s, err := b.Sweeps.Sweep(t.Context(), "me", "cellar", older, false)
	if err != nil || s.Going != 4 || s.Removed != 0 || s.Bytes != 16 || there(goes) != 4 {
		t.Errorf("listed: %+v, %v", s, err)
	}
	s, err = b.Sweeps.Sweep(t.Context(), "me", "cellar", older, true)
	if err != nil || s.Removed != 4 || there(goes) != 0 || there(stays) != len(stays) || there(segments) != 4 {
		t.Errorf("removed: %+v, %v; of what goes %d are there, of what stays %d", s, err, there(goes), there(stays))
	}
	reasons := ""
	for _, f := range s.Files {
		reasons += fmt.Sprintln(f.Goes, f.Removed, f.Reason)
	}
	for _, want := range []string{"true true begun and never completed; run " + ended.ID,
		"true true no manifest tells of it", "false false it was touched not long ago", "run " + going.ID +
			" is running", "is not known to this service", "never touched"} {
		if !strings.Contains(reasons, want) {
			t.Errorf("nothing says %q:\n%s", want, reasons)
		}
	}
	if s, err = b.Sweeps.Sweep(t.Context(), "me", "cellar", older, true); err != nil || s.Going != 0 {
		t.Errorf("once more: %+v, %v", s, err)
	}
}

// TestNothingIsSweptThatIsInUse: sweeping again and again, however young the files, while a run writes segments, a
// restore and a search read them and a segment moves, takes nothing of theirs.
func TestNothingIsSweptThatIsInUse(t *testing.T) {
	t.Parallel()
	b, _ := newVault(t)
	b.Engine.Now = time.Now // it is asked from many sides
	b.Runs.SliceRows = 100
	soon := time.Now().Add(time.Hour)
	sweeping := func(what string, work func() error) {
		t.Helper()
		done := make(chan error, 1)
		go func() { done <- work() }()
		for n := 0; ; n++ {
			for _, name := range []string{"cellar", "vault"} {
				s, err := b.Sweeps.Sweep(t.Context(), "me", name, soon, true)
				if err != nil {
					t.Fatal(err)
				}
				if s.Removed > 0 {
					t.Fatalf("%s: %+v", what, s.Files)
				}
			}
			select {
			case err := <-done:
				if err != nil {
					t.Fatalf("%s: %v", what, err)
				}
				if n < 3 {
					t.Logf("%s: swept only %d times meanwhile", what, n)
				}
				return
			default:
			}
		}
	}
	gone := b.live(t)
	run := b.start(t)
	sweeping("a run", func() error { return b.Runs.Run(t.Context(), run) })
	if _, err := b.Catalog.SetRunState(t.Context(), "service", run.ID, catalog.Done, ""); err != nil {
		t.Fatal(err)
	}
	gone -= b.live(t)
	if n := b.archivedRows(t, ""); n != gone || gone == 0 {
		t.Fatalf("%d of %d rows are in the archive", n, gone)
	}
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil || len(list) < 10 {
		t.Fatalf("%d segments, %v", len(list), err)
	}
	sweeping("a move", func() error {
		for _, s := range list[:5] {
			if _, err := b.moveSegment(t, s.ID, "vault"); err != nil {
				return err
			}
		}
		return nil
	})
	sweeping("a search", func() error {
		_, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan"},
			func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
		return err
	})
	sweeping("a restore", func() error {
		r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
			Scope: catalog.Scope{Run: run.ID}, Target: catalog.TargetTable, Pace: "unlimited"})
		if err == nil {
			err = b.Restores.Restore(t.Context(), r, t.TempDir())
		}
		return err
	})
	if n := b.live(t); n != rows {
		t.Errorf("%d rows are back", n)
	}
}
