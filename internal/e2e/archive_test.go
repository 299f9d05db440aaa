package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/standin"
)

// bucket starts a stand-in object store with a bucket and adds it as a store.
func (w *world) bucket(name string, flags ...string) (address string) {
	w.t.Helper()
	h, err := standin.Objects{Buckets: []string{"attic"}, AccessKey: "ferry"}.Handler()
	if err != nil {
		w.t.Fatal(err)
	}
	s := httptest.NewServer(h)
	w.t.Cleanup(s.Close)
	w.must(append([]string{"store", "add", name, "-endpoint", s.URL, "-bucket", "attic", "-prefix", "harbour"},
		flags...)...)
	return s.URL + "/attic/harbour"
}

// in archives the scans in runs of their own up to each day; empty: all that are due.
func (w *world) in(days ...string) {
	w.t.Helper()
	for _, day := range days {
		args := []string{"plan", "make", "scans"}
		if day != "" {
			args = append(args, "-before", day)
		}
		r := must1[client.RunView](w, "run", "start", must1[client.Plan](w, args...).ID)
		if r = w.ended(r.ID); r.State != client.Done {
			w.t.Fatalf("run: %+v", r)
		}
	}
}

// eventually waits until something holds.
func (w *world) eventually(what string, holds func() bool) {
	w.t.Helper()
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		if holds() {
			return
		}
	}
	w.t.Fatalf("%s: not after a minute", what)
}

// outlived waits until the time in the archive is over of all that has one.
func (w *world) outlived() {
	w.t.Helper()
	w.eventually("the time in the archive of all segments is over", func() bool {
		for _, s := range must1[client.Items[client.Segment]](w, "segment", "list").Items {
			if s.State == client.SegmentClosed && s.KeepUntil != nil &&
				time.Until(*s.KeepUntil) > -50*time.Millisecond && time.Until(*s.KeepUntil) < time.Hour {
				return false
			}
		}
		return true
	})
}

// TestTheArchiveIsProvenAndMended: segments get a second copy in an object store; whatever is done to the files of one
// store is named exactly, with the service and without it, mended from the other, and read from there as long as it is
// not.
func TestTheArchiveIsProvenAndMended(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(4000)
	before := w.content("true")
	address := w.bucket("attic")
	w.refuse(1, []string{"second", "no second store of its own"}, "store", "set", "cellar", "-second", "cellar")
	w.refuse(1, []string{"there is no store loft"}, "store", "set", "cellar", "-second", "loft")
	w.must("store", "set", "cellar", "-second", "attic", "-scrub-every", "never")
	w.refuse(1, []string{"has a second store itself"}, "store", "set", "attic", "-second", "cellar")
	w.must("store", "check", "attic")
	w.define("archive", "unlimited")
	w.in("2020-02-01", "2020-04-01", "")
	segments := must1[client.Items[client.Segment]](w, "segment", "list").Items
	if len(segments) != 3 {
		t.Fatalf("%d segments", len(segments))
	}
	w.eventually("second copies", func() bool {
		for _, s := range must1[client.Items[client.StoreView]](w, "store", "list").Items {
			if s.Name == "cellar" {
				return s.Totals.Segments == 3 && s.Totals.Unseconded == 0
			}
		}
		return false
	})
	if out := w.must("segment", "verify", "-all"); !strings.Contains(out, "6 segments, 8,000 rows") ||
		!strings.Contains(out, "0, of which 0 repaired") {
		t.Errorf("a good archive:\n%s", out)
	}
	cellar := filepath.Join(w.dir, "data", "cellar")
	if out := w.must("segment", "verify", "-store", cellar); !strings.Contains(out, "harbour.scan") ||
		!strings.Contains(out, "3 segments, 4,000 rows") ||
		!strings.Contains(out, "cannot tell whether the newest records") {
		t.Errorf("without the service:\n%s", out)
	}
	if out := w.must("segment", "verify", "-store", cellar, "-store", address, "-table",
		"harbour.scan"); !strings.Contains(out, "6 segments") {
		t.Errorf("both stores without the service:\n%s", out)
	}

	file := func(s client.Segment, ending string) string { return filepath.Join(cellar, s.Stem+ending) }
	flipped, gone, late := segments[0], segments[1], segments[2]
	content, err := os.ReadFile(file(flipped, ".parquet"))
	if err != nil {
		t.Fatal(err)
	}
	damaged := bytes.Clone(content)
	damaged[500] ^= 1
	for path, b := range map[string][]byte{file(flipped, ".parquet"): damaged,
		filepath.Join(cellar, "notes.txt"): []byte("somebody's"), file(late, ".closing.json"): []byte("{}")} {
		if err := os.WriteFile(path, b, 0o640); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Remove(file(gone, ".parquet")); err != nil {
		t.Fatal(err)
	}
	wrong := []string{"damaged", flipped.Stem + ".parquet", "missing", gone.Stem + ".parquet", late.Stem +
		".closing.json", "foreign", "notes.txt", "not everything is what was written"}
	w.refuse(1, wrong, "segment", "verify", "-store", cellar)
	w.refuse(1, append(wrong, "3, of which 0 repaired"), "segment", "verify", "-all")
	if s := must1[client.SegmentDetail](w, "segment", "show", flipped.ID); !strings.Contains(s.Damage, "SHA-256") {
		t.Errorf("the damaged segment says %q", s.Damage)
	}
	if st := must1[client.Items[client.StoreView]](w, "store", "list").Items; st[1].Name != "cellar" ||
		st[1].Totals.Damaged != 3 {
		t.Errorf("the stores: %+v", st)
	}
	// Damaged as it is, everything can be restored, from the second copies.
	if r := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-from",
		"2020-01-01", "-into", "file", "-format", "csv"); r.Restored != 4000 || r.Verified == nil {
		t.Errorf("a restore from second copies: %+v", r)
	}
	if out := w.must("segment", "verify", "-in", "cellar", "-repair"); !strings.Contains(out,
		"4, of which 4 repaired") || !strings.Contains(out, "repaired from attic") {
		t.Errorf("repairing:\n%s", out)
	}
	if now, err := os.ReadFile(file(flipped, ".parquet")); err != nil || !bytes.Equal(now, content) {
		t.Errorf("the file is not what it was, %v", err)
	}
	w.must("segment", "verify", "-all")
	if s := must1[client.SegmentDetail](w, "segment", "show", flipped.ID); s.Damage != "" || s.VerifiedAt == nil {
		t.Errorf("the mended segment: %+v", s)
	}
	if out := w.must("verification", "list"); strings.Count(out, "done") != 4 {
		t.Errorf("verifications:\n%s", out)
	}

	// The end of the chain is cut off in both stores: only the catalog can tell.
	w.must("store", "set", "cellar", "-second", "none")
	newest := segments[0]
	for _, s := range segments {
		if s.ClosingSeq > newest.ClosingSeq {
			newest = s
		}
	}
	aside := t.TempDir()
	for _, ending := range []string{".parquet", ".manifest.json", ".closing.json", ".range.json"} {
		if err := os.Rename(file(newest, ending), filepath.Join(aside, "x"+ending)); err != nil {
			t.Fatal(err)
		}
	}
	w.must("segment", "verify", "-store", cellar)
	w.refuse(1, []string{"the catalog knows this segment", newest.Stem + ".manifest.json"}, "segment", "verify", "-in",
		"cellar")
	for _, ending := range []string{".parquet", ".manifest.json", ".closing.json", ".range.json"} {
		if err := os.Rename(filepath.Join(aside, "x"+ending), file(newest, ending)); err != nil {
			t.Fatal(err)
		}
	}

	// Scrubbing, on its own, finds what is damaged and mends it.
	w.must("store", "set", "cellar", "-second", "attic")
	if err := os.WriteFile(file(flipped, ".parquet"), damaged, 0o640); err != nil {
		t.Fatal(err)
	}
	w.must("store", "set", "cellar", "-scrub-every", "PT1S", "-scrub-rate", "0", "-scrub-window", "any")
	w.eventually("scrubbing", func() bool {
		now, err := os.ReadFile(file(flipped, ".parquet"))
		return err == nil && bytes.Equal(now, content)
	})
	w.must("store", "set", "cellar", "-scrub-every", "never")
	r := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-from", "2020-01-01")
	if r.Restored != 4000 || w.content("true") != before {
		t.Errorf("in the end: %+v", r)
	}
	w.refuse(2, []string{"say what is to be verified"}, "segment", "verify")
	w.refuse(2, []string{"SOURCE.TABLE"}, "segment", "verify", "-table", "scan")
	w.refuse(1, []string{"no such file"}, "segment", "verify", "-store", filepath.Join(w.dir, "nowhere"))
}

// TestSegmentsLieInAnObjectStore: rules can name a bucket; runs, searches, verifications and restores work on it, and
// a lost catalog is made again from it.
func TestSegmentsLieInAnObjectStore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(3000)
	before := w.content("true")
	w.refuse(1, []string{"endpoint", "is no endpoint"}, "store", "add", "attic", "-endpoint", "attic:9000", "-bucket",
		"attic")
	address := w.bucket("attic")
	w.refuse(2, []string{"either -path, or -endpoint"}, "store", "add", "loft")
	w.refuse(1, []string{"there is a store attic"}, "store", "add", "attic", "-endpoint", "http://127.0.0.1:1",
		"-bucket", "attic")
	w.define("archive", "unlimited")
	w.must("rule", "apply", "-f", w.rules(
		strings.Replace(fmt.Sprintf(scanRule, "archive", "archive: {store: attic, keep: P7Y}", "unlimited"),
			"keep: 1 year", "keep: 1 year\n    where: id <> 17", 1)))
	w.in("2020-03-01", "")
	if n := w.count("SELECT count(*) FROM scan"); n != 101 {
		t.Errorf("%d rows are live", n)
	}
	w.must("segment", "verify", "-all")
	if out := w.must("segment", "verify", "-store", address); !strings.Contains(out, "2 segments, 2,999 rows") {
		t.Errorf("%s", out)
	}
	found := must1[client.Found](w, "search", "harbour", "scan", "-where", "id = 2500")
	if len(found.Items) != 1 || found.Searched.Passed != 1 {
		t.Errorf("found: %+v", found)
	}
	row := fmt.Sprintf("%s:%d", found.Items[0].Segment, found.Items[0].Ordinal)
	one := must1[client.Restore](w, "restore", "request", "-row", row)
	if one.Restored != 1 || w.count("SELECT count(*) FROM scan WHERE id = 2500") != 1 {
		t.Errorf("one row: %+v", one)
	}
	// The catalog is lost.
	w.stop(syscall.SIGTERM)
	backup := filepath.Join(w.dir, "catalog-of-before.db")
	if err := os.Rename(filepath.Join(w.dir, "data", "catalog.db"), backup); err != nil {
		t.Fatal(err)
	}
	w.start()
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
	u, prefix, _ := strings.Cut(address, "/attic/")
	w.refuse(1, []string{"is a store already", "-existing"}, "store", "add", "attic", "-endpoint", u, "-bucket",
		"attic", "-prefix", prefix)
	w.must("store", "add", "attic", "-endpoint", u, "-bucket", "attic", "-prefix", prefix, "-existing")
	if out := w.must("catalog", "rebuild"); !strings.Contains(out, "attic") {
		t.Errorf("%s", out)
	}
	segments := must1[client.Items[client.Segment]](w, "segment", "list").Items
	if len(segments) != 2 || segments[0].KeepUntil == nil || segments[0].State != client.SegmentClosed {
		t.Errorf("the rebuilt catalog: %+v", segments)
	}
	r := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-from", "2020-01-01")
	if r.Restored != 2998 || r.Skipped != 1 || w.content("true") != before {
		t.Errorf("after the catalog was lost: %+v", r)
	}
}

// TestTheCatalogIsBackedUpWhileTheServiceRuns: a backup taken at any moment is whole, is checked before it is put
// back, and segments made after it are taken up from the store.
func TestTheCatalogIsBackedUpWhileTheServiceRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2000)
	w.define("archive", "unlimited")
	w.in("2020-02-01")
	backup := filepath.Join(w.dir, "backup.db")
	w.must("catalog", "backup", "-out", backup)
	w.refuse(1, []string{"exists"}, "catalog", "backup", "-out", backup)
	w.refuse(2, []string{"-out is missing"}, "catalog", "backup")
	w.in("2020-03-01")
	made := len(must1[client.Items[client.Segment]](w, "segment", "list").Items)
	data := filepath.Join(w.dir, "data")
	w.refuse(1, []string{"another service is running"}, "catalog", "restore", backup, "-data", data)
	w.stop(syscall.SIGTERM)
	bad := filepath.Join(w.dir, "bad.db")
	if err := os.WriteFile(bad, []byte("no database"), 0o640); err != nil {
		t.Fatal(err)
	}
	w.refuse(1, []string{"bad.db"}, "catalog", "restore", bad, "-data", data)
	if out := w.must("catalog", "restore", backup, "-data", data); !strings.Contains(out, "the one before is") {
		t.Errorf("%s", out)
	}
	w.start()
	if n := len(must1[client.Items[client.Segment]](w, "segment", "list").Items); n >= made {
		t.Errorf("the catalog of before knows %d segments", n)
	}
	w.must("catalog", "rebuild")
	if n := len(must1[client.Items[client.Segment]](w, "segment", "list").Items); n != made {
		t.Errorf("%d segments instead of %d", n, made)
	}
	w.must("segment", "verify", "-all")
}

// TestRestoresAreChosenShownAndPutAside: by condition, by single rows, into a side table; what is there already is
// counted before anything happens.
func TestRestoresAreChosenShownAndPutAside(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(3000)
		before := w.content("true")
		w.define("archive", "unlimited")
		w.in("2020-02-01", "2020-03-01", "")
		w.exec("INSERT INTO scan (id, vessel_id, scanned_at, note) VALUES (40, 1, '2026-11-01', 'another 40')")
		where := "id BETWEEN 39 AND 41 OR note = 'note 1500'"
		p := must1[restore.RestorePreview](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			where, "-try")
		if p.Rows != 4 || p.Segments != 2 || p.Conflicts != 1 || p.Into != "table scan of source harbour" {
			t.Errorf("the preview: %+v", p)
		}
		if out := w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", where,
			"-try"); !strings.Contains(out, "nothing was changed") || !strings.Contains(out, "1 of these rows") {
			t.Errorf("the preview says:\n%s", out)
		}
		w.refuse(1, []string{"the keys of 1 of 4 rows are in table scan already"}, "restore", "request", "-source",
			"harbour", "-table", "scan", "-where", where, "-conflicts", "fail")
		w.refuse(1, []string{"where", "did you mean note?"}, "restore", "request", "-source", "harbour", "-table",
			"scan", "-where", "nota = 'x'")
		w.refuse(1, []string{"exactly one of"}, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			where, "-run", "x")
		w.refuse(2, []string{"write SEGMENT:NUMBER"}, "restore", "request", "-row", "x")
		w.refuse(1, []string{"target_table"}, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			where, "-side-table", "aside")
		if n := w.count("SELECT count(*) FROM scan"); n != 101 {
			t.Errorf("%d rows are live, and nothing was restored", n)
		}
		r := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where", where)
		if r.Found != 4 || r.Restored != 3 || r.Skipped != 1 || r.Segments != 2 {
			t.Errorf("by condition: %+v", r)
		}
		side := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			"id < 100", "-into", "side", "-side-table", "aside")
		if side.Restored != 99 || w.count("SELECT count(*) FROM aside WHERE note = concat('note ', id)") != 99 {
			t.Errorf("into a side table: %+v", side)
		}
		w.refuse(1, []string{"has a table aside already"}, "restore", "request", "-source", "harbour", "-table",
			"scan", "-where", "id < 100", "-into", "side", "-side-table", "aside")
		w.refuse(1, []string{"there is no source pier"}, "restore", "request", "-source", "harbour", "-table", "scan",
			"-where", "id < 100", "-into", "side", "-side-source", "pier")
		named := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			"id = 5", "-into", "side")
		if !strings.HasPrefix(named.TargetTable, "scan_restored_") || named.TargetSource != "harbour" ||
			w.count("SELECT count(*) FROM "+named.TargetTable) != 1 {
			t.Errorf("into a side table of no name: %+v", named)
		}
		found := must1[client.Found](w, "search", "harbour", "scan", "-where", "id IN (10, 2000)")
		args := []string{"restore", "request"}
		for _, x := range found.Items {
			args = append(args, "-row", fmt.Sprintf("%s:%d", x.Segment, x.Ordinal))
		}
		if two := must1[client.Restore](w, args...); two.Restored != 2 ||
			w.count("SELECT count(*) FROM scan WHERE id IN (10, 2000)") != 2 {
			t.Errorf("two rows of a search: %+v", two)
		}
		// For a time: the rows go again by themselves.
		timed := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			"id BETWEEN 200 AND 219", "-for", "PT2S")
		if timed.Restored != 20 || timed.ExpiresAt == nil ||
			w.count("SELECT count(*) FROM scan WHERE id BETWEEN 200 AND 219") != 20 {
			t.Errorf("for a time: %+v", timed)
		}
		w.exec("UPDATE scan SET note = 'seen 205' WHERE id = 205")
		w.eventually("rows that were restored for a time are gone",
			func() bool { return w.count("SELECT count(*) FROM scan WHERE id BETWEEN 200 AND 219") == 1 })
		w.eventually("the restore is expired", func() bool {
			r := must1[client.Restore](w, "restore", "show", timed.ID)
			return r.State == client.RestoreExpired && r.TakenBack == 19 && r.Stayed == 1
		})
		if out := w.must("restore", "show", timed.ID); !strings.Contains(out,
			"19 taken back, 1 had been changed and stay") {
			t.Errorf("%s", out)
		}
		w.refuse(1, []string{"is expired"}, "restore", "keep", timed.ID, "-for", "P5D")
		w.exec("DELETE FROM scan WHERE id = 205")
		w.exec("DELETE FROM scan WHERE note = 'another 40'")
		must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where", "id > 0")
		if w.content("true") != before {
			t.Error("the rows that came back are not the rows that went")
		}
	})
}

// TestRowsAreErasedOnRequest: from the first store and the second, by decision and with an approval where that is
// demanded; what is left verifies without the service, and its books add up.
func TestRowsAreErasedOnRequest(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(3000)
	w.bucket("attic")
	w.must("store", "set", "cellar", "-second", "attic", "-scrub-every", "never")
	w.define("archive", "unlimited")
	w.refuse(1, []string{"nothing of harbour.scan is archived"}, "erasure", "plan", "harbour", "scan", "-where",
		"id = 7")
	w.in("2020-02-01", "2020-03-01", "")
	w.eventually("second copies", func() bool {
		return must1[client.Items[client.StoreView]](w, "store", "list").Items[1].Totals.Unseconded == 0
	})
	w.refuse(1, []string{"say which rows"}, "erasure", "plan", "harbour", "scan")
	w.refuse(1, []string{"nobody"}, "erasure", "plan", "harbour", "scan", "-where", "nobody = 7")
	out := w.must("erasure", "plan", "harbour", "scan", "-keys", "7,1500", "-note", "request 12")
	for _, want := range []string{"nothing was destroyed", `erases    "id" IN (7, 1500)`,
		"rows stay: they are not meant", "cellar, attic"} {
		if !strings.Contains(out, want) {
			t.Errorf("the plan does not say %q:\n%s", want, out)
		}
	}
	d := must1[client.Items[client.Disposal]](w, "disposal", "list").Items[0]
	w.must("guard", "set", "harbour", "-approve", "disposals")
	w.refuse(3, []string{"somebody else has to approve it first"}, "disposal", "start", d.ID)
	w.must("disposal", "approve", d.ID)
	w.must("disposal", "start", d.ID)
	if out := w.must("search", "harbour", "scan", "-where", "id IN (7, 1500)"); strings.Contains(out, "note") {
		t.Errorf("%s", out)
	}
	if c := must1[dispose.Certificate](w, "disposal", "certificate", d.ID); c.Kind != catalog.KindErasure ||
		c.Rows != 2 || c.Kept == 0 || c.Note != "request 12" {
		t.Errorf("%+v", c)
	}
	w.must("disposal", "certificate", d.ID, "-format", "pdf", "-out", filepath.Join(w.dir, "erasure.pdf"))
	if out := w.must("disposal", "show", d.ID); strings.Contains(out, "1500") {
		t.Errorf("the keys are told still:\n%s", out)
	}
	w.eventually("second copies of what stays", func() bool {
		return must1[client.Items[client.StoreView]](w, "store", "list").Items[1].Totals.Unseconded == 0
	})
	w.must("segment", "verify", "-all")
	w.must("segment", "verify", "-store", filepath.Join(w.dir, "data", "cellar"))
	if out := w.must("table", "reconcile", "harbour", "scan"); !strings.Contains(out, "+ 2 erased, which adds up") {
		t.Errorf("%s", out)
	}
	w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", "id > 0")
	if n := w.count("SELECT count(*) FROM scan WHERE id IN (7, 1500)"); n != 0 {
		t.Errorf("%d erased rows came back", n)
	}
}

// TestALockedBucketKeepsSegmentsAndSaysUntilWhen: the check of the store says that it locks files, a disposal leaves
// them as long as it does, and then removes every version.
func TestALockedBucketKeepsSegmentsAndSaysUntilWhen(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(1500)
	h, err := standin.Objects{Buckets: []string{"attic"}, AccessKey: "ferry", Lock: 6 * time.Second}.Handler()
	if err != nil {
		t.Fatal(err)
	}
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	w.must("store", "add", "attic", "-endpoint", s.URL, "-bucket", "attic")
	w.refuse(1, []string{"the bucket locks every file for 1 days (compliance), that which tried it out among them: " +
		"nothing can be disposed of before that, whatever a rule says"}, "store", "check", "attic")
	w.define("archive", "unlimited")
	w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: attic, keep: PT1S}",
		"unlimited")))
	w.in("")
	w.outlived()
	d := must1[client.Disposal](w, "disposal", "plan", "scans")
	if len(d.Items) != 0 || len(d.Stays) != 1 ||
		!strings.Contains(d.Stays[0].Reason, "store attic itself keeps a version of its files until 2") ||
		d.Stays[0].Due == nil {
		t.Fatalf("%+v, %+v", d.Items, d.Stays)
	}
	w.eventually("the lock is over", func() bool { return time.Now().After(*d.Stays[0].Due) })
	d = must1[client.Disposal](w, "disposal", "plan", "scans")
	w.must("disposal", "start", d.ID)
	if c := must1[dispose.Certificate](w, "disposal", "certificate", d.ID); c.Segments != 1 || len(c.Left) != 0 {
		t.Errorf("%+v", c)
	}
	req, err := http.NewRequest(http.MethodGet, s.URL+"/attic?versions", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Credential=ferry/")
	got, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer got.Body.Close()
	listed, _ := io.ReadAll(got.Body)
	out := string(listed)
	if strings.Contains(out, ".parquet") || !strings.Contains(out, ".disposed.json") {
		t.Errorf("%s", out)
	}
}

// TestSegmentsAreDisposedOfByDecision: nothing goes before it is decided; then it is gone from both stores, the chain
// and the books stay, and a certificate tells what was destroyed.
func TestSegmentsAreDisposedOfByDecision(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(3000)
	w.bucket("attic")
	w.must("store", "set", "cellar", "-second", "attic", "-scrub-every", "never")
	w.define("archive", "unlimited")
	w.refuse(1, []string{"nothing of harbour.scan is archived"}, "disposal", "plan", "scans")
	w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar, keep: PT1S}",
		"unlimited")))
	w.in("2020-02-01", "2020-03-01", "")
	w.must("hold", "place", "harbour", "scan", "-where", "id = 1000", "-reference", "case 4", "-reason", "inquiry")
	w.eventually("second copies", func() bool {
		return must1[client.Items[client.StoreView]](w, "store", "list").Items[1].Totals.Unseconded == 0
	})
	w.outlived()
	out := w.must("disposal", "plan", "scans", "-note", "the seventh year is over")
	if !strings.Contains(out, "nothing was destroyed") || !strings.Contains(out, "1 row stays: hold") ||
		!strings.Contains(out, "cellar, attic") {
		t.Errorf("the plan:\n%s", out)
	}
	w.must("segment", "verify", "-all")
	d := must1[client.Items[client.Disposal]](w, "disposal", "list").Items[0]
	if d.Segments != 3 || d.Rows != 2999 || d.Gone != 0 || len(d.Items) != 0 {
		t.Errorf("in the list: %+v", d)
	}
	if d = must1[client.Disposal](w, "disposal", "show", d.ID); len(d.Items) != 3 || d.Items[1].Kept != 1 ||
		d.State != client.DisposalPlanned {
		t.Fatalf("%+v", d)
	}
	w.refuse(1, []string{"is planned, and a certificate is of what was done"}, "disposal", "certificate", d.ID)
	if out := w.must("disposal", "start", d.ID); strings.Count(out, "destroyed 2") != 3 {
		t.Errorf("%s", out)
	}
	for _, ending := range []string{".parquet", ".range.json"} {
		left, err := filepath.Glob(filepath.Join(w.dir, "data", "cellar", "harbour", "scan", "*", "*"+ending))
		if err != nil || len(left) != 1 {
			t.Errorf("there is %v, %v", left, err)
		}
	}
	w.eventually("what stays has its second copy", func() bool {
		return must1[client.Items[client.StoreView]](w, "store", "list").Items[1].Totals.Unseconded == 0
	})
	if out := w.must("segment", "verify", "-all"); !strings.Contains(out, "8 segments") {
		t.Errorf("%s", out)
	}
	gone := d.Items[0].Segment
	if s := must1[client.SegmentDetail](w, "segment", "show", gone); s.State != client.SegmentDisposed ||
		s.Disposal != d.ID || s.DisposalHash == "" {
		t.Errorf("%+v", s)
	}
	w.refuse(1, []string{"was destroyed by disposal"}, "segment", "verify", gone)
	w.refuse(1, []string{"is disposed; only closed segments give rows"}, "restore", "request", "-segment", gone)
	if found := must1[client.Found](w, "search", "harbour", "scan", "-where", "id IN (5, 1000, 2900)"); len(
		found.Items) != 1 {
		t.Errorf("found: %+v", found)
	}
	c := must1[dispose.Certificate](w, "disposal", "certificate", d.ID)
	if c.Segments != 3 || c.Rows != 2999 || c.Kept != 1 || c.DecidedBy != "administrator" ||
		c.Note != "the seventh year is over" || c.Destroyed[0].Record == "" || c.Oldest == "" {
		t.Errorf("the certificate: %+v", c)
	}
	pdf := filepath.Join(w.dir, "certificate.pdf")
	w.must("disposal", "certificate", d.ID, "-format", "pdf", "-out", pdf)
	if b, err := os.ReadFile(pdf); err != nil || !bytes.HasPrefix(b, []byte("%PDF-")) || len(b) < 2000 {
		t.Errorf("the certificate as PDF has %d bytes, %v", len(b), err)
	}
	// The chain goes on, and a lost catalog knows what was disposed of.
	w.exec("INSERT INTO scan (id, vessel_id, scanned_at, note) VALUES (90001, 1, '2020-05-05', 'late')")
	w.in("")
	w.must("segment", "verify", "-all")
	if out := w.must("table", "reconcile", "harbour", "scan"); !strings.Contains(out, "agree") {
		t.Errorf("%s", out)
	}
	w.must("disposal", "plan", "scans")
	second := must1[client.Items[client.Disposal]](w, "disposal", "list").Items[0]
	w.must("disposal", "cancel", second.ID)
	w.refuse(1, []string{"is cancelled"}, "disposal", "start", second.ID)
	w.refuse(2, []string{"none of json and pdf"}, "disposal", "certificate", d.ID, "-format", "xml")
}
