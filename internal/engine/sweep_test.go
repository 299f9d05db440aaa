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
)

// TestSweepingTakesOnlyWhatRunsLeft: files of a known run that has ended, without manifest or never completed, and old enough;
// nothing else that lies in a store.
func TestSweepingTakesOnlyWhatRunsLeft(t *testing.T) {
	b := newBench(t, "wal")
	root := t.TempDir()
	d, err := store.OpenDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	b.store.Directory = d
	ended := b.start(t)
	if err := b.Run(t.Context(), ended); err != nil {
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
	goes := []string{put(stem(ended.ID)+".parquet", old), put(stem(ended.ID)+".range.json", old), put(stem(ended.ID)+".parquet."+ulid.Make().String()+".partial", old), put(stem(ended.ID)+".with-booking.parquet", old)}
	stays := []string{put(stem(ended.ID)+".parquet", b.now), put(stem(going.ID)+".parquet", old), put(stem(ulid.Make().String())+".parquet", old), put("notes.txt", old), put("harbour/scan/"+ended.ID+"/readme", old),
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
	s, err := b.Sweep(t.Context(), "me", "cellar", older, false)
	if err != nil || s.Going != 4 || s.Removed != 0 || s.Bytes != 16 || there(goes) != 4 {
		t.Errorf("listed: %+v, %v", s, err)
	}
	s, err = b.Sweep(t.Context(), "me", "cellar", older, true)
	if err != nil || s.Removed != 4 || there(goes) != 0 || there(stays) != len(stays) || there(segments) != 4 {
		t.Errorf("removed: %+v, %v; of what goes %d are there, of what stays %d", s, err, there(goes), there(stays))
	}
	reasons := ""
	for _, f := range s.Files {
		reasons += fmt.Sprintln(f.Goes, f.Removed, f.Reason)
	}
	for _, want := range []string{"true true begun and never completed; run " + ended.ID, "true true no manifest tells of it", "false false it was touched not long ago", "run " + going.ID + " is running", "is not known to this service", "never touched"} {
		if !strings.Contains(reasons, want) {
			t.Errorf("nothing says %q:\n%s", want, reasons)
		}
	}
	if s, err = b.Sweep(t.Context(), "me", "cellar", older, true); err != nil || s.Going != 0 {
		t.Errorf("once more: %+v, %v", s, err)
	}
}
