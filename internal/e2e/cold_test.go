package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/standin"
)

// vault adds a sealed store whose files go cold, in a stand-in with a day of that length, and returns the address of
// its bill.
func (w *world) vault(day time.Duration) (bill string) {
	w.t.Helper()
	h, err := standin.Objects{Buckets: []string{"vault"}, AccessKey: "ferry",
		Cold: &standin.Cold{Day: day, Wait: map[string]time.Duration{"low": 3 * time.Second, "normal": time.Second,
			"high": 100 * time.Millisecond},
			Price: map[string]float64{"low": 1, "normal": 2, "high": 3}}}.Handler()
	if err != nil {
		w.t.Fatal(err)
	}
	s := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		if r.URL.Path == standin.BillPath {
			r.Header.Set("Authorization", "Credential=ferry/")
		}
		h.ServeHTTP(out, r)
	}))
	w.t.Cleanup(s.Close)
	keys := filepath.Join(w.dir, "vault.keys")
	w.must("store", "key", "-out", keys)
	w.must("store", "add", "vault", "-endpoint", s.URL, "-bucket", "vault", "-class", "COLD", "-key-file", keys,
		"-wait", "low=PT3S,normal=PT1S,high=PT1S", "-price", "low=1,normal=2,high=3", "-currency", "EUR", "-days", "1")
	w.must("store", "set", "vault", "-scrub-every", "never")
	return s.URL + standin.BillPath
}

// TestSegmentsGoColdAndComeBack: a rule moves segments to a sealed cold store. Searches name those that they cannot
// look into, with price and wait; a restore waits for what it needs and tells the asker; verifying is planned within a
// budget; a lost catalog is made again; and a segment can be moved back.
func TestSegmentsGoColdAndComeBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(4000)
	before := w.content("true")
	bill := w.vault(20 * time.Second)
	w.refuse(1, []string{"lets its files go cold"}, "store", "set", "cellar", "-second", "vault")
	w.define("archive", "unlimited")
	rule := func(archive string) string {
		return w.rules(fmt.Sprintf(scanRule, "archive", "archive: "+archive, "unlimited"))
	}
	w.refuse(1, []string{"cold_store and cold_after go together"}, "rule", "apply", "-f",
		rule("{store: cellar, keep: P7Y, cold_store: vault}"))
	w.refuse(1, []string{"lets its files go cold"}, "rule", "apply", "-f", rule("{store: vault, keep: P7Y}"))
	w.refuse(1, []string{"did you mean vault?"}, "rule", "apply", "-f",
		rule("{store: cellar, keep: P7Y, cold_store: valt, cold_after: P1D}"))
	w.must("rule", "apply", "-f", rule("{store: cellar, keep: P7Y, cold_store: vault, cold_after: PT1S}"))
	w.in("2020-02-01", "2020-03-01", "")
	cold := func() (n int) {
		for _, s := range must1[client.Items[client.Segment]](w, "segment", "list").Items {
			if s.Cold && s.RowsStore == "vault" {
				n++
			}
		}
		return n
	}
	w.eventually("all segments are cold", func() bool { return cold() == 3 })
	cellar := filepath.Join(w.dir, "data", "cellar")
	filepath.WalkDir(cellar, func(path string, _ os.DirEntry, _ error) error {
		if strings.HasSuffix(path, ".parquet") {
			t.Errorf("%s was left", path)
		}
		return nil
	})
	if out := w.must("store", "list"); !strings.Contains(out, "bucket, sealed, cold") ||
		!strings.Contains(out, "3 (3 with rows elsewhere)") {
		t.Errorf("%s", out)
	}

	// Only the segment that can hold the row is named, by what lies warm.
	where := "id = 1500"
	out := w.must("search", "harbour", "scan", "-where", where)
	if !strings.Contains(out, "not searched: 1 segment in cold storage") ||
		!strings.Contains(out, "low priority: PT3S, less than 0.01 EUR") {
		t.Errorf("the search says:\n%s", out)
	}
	if found := must1[client.Found](w, "search", "harbour", "scan", "-where",
		"id = 99999"); found.Searched.Cold != nil || found.Searched.Passed != 3 {
		t.Errorf("no segment can hold it: %+v", found.Searched)
	}
	segments := must1[client.Items[client.Segment]](w, "segment", "list").Items
	w.refuse(1, []string{"in cold storage"}, "segment", "verify", segments[0].ID)
	w.refuse(1, []string{"in cold storage", "segment retrieve"}, "segment", "move", segments[0].ID, "-to", "cellar")
	if out := w.must("segment", "verify", "-all"); strings.Count(out, "in cold storage and were not read") != 3 {
		t.Errorf("verifying all:\n%s", out)
	}
	if c := must1[shelf.Chilled](w, "segment", "retrieve", "-table", "harbour.scan", "-try"); len(c.Segments) != 3 ||
		c.Rows != 4000 || *c.Offers[2].Price <= *c.Offers[0].Price {
		t.Errorf("what it would take: %+v", c)
	}

	// A restore waits for the segment that it needs, and the asker is told.
	var told struct {
		sync.Mutex
		notices []notify.Notice
	}
	desk := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		told.Lock()
		defer told.Unlock()
		var x notify.Notice
		if err := json.NewDecoder(r.Body).Decode(&x); err == nil {
			told.notices = append(told.notices, x)
		}
	}))
	defer desk.Close()
	p := must1[restore.RestorePreview](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
		where, "-try")
	if p.Cold == nil || len(p.Cold.Segments) != 1 || p.Rows != 0 {
		t.Errorf("the preview: %+v", p)
	}
	w.refuse(1, []string{"is no mail address", "or a URL like"}, "restore", "request", "-source", "harbour", "-table",
		"scan", "-where", where, "-tell", "desk")
	r := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-keys", "1500",
		"-priority", "high", "-wait=false", "-tell", desk.URL)
	if r.State != client.Retrieving || !strings.Contains(r.Reason, "1 segment is being retrieved") {
		t.Fatalf("the restore: %+v", r)
	}
	// It goes on although the service is killed meanwhile.
	w.stop(syscall.SIGKILL)
	w.start()
	w.eventually("the restore is done",
		func() bool { return must1[client.Restore](w, "restore", "show", r.ID).State == client.RestoreDone })
	if n := w.count("SELECT count(*) FROM scan WHERE id = 1500"); n != 1 {
		t.Errorf("%d rows are back", n)
	}
	w.eventually("the asker is told", func() bool {
		told.Lock()
		defer told.Unlock()
		return len(told.notices) == 1 && told.notices[0].Record == r.ID &&
			told.notices[0].Kind == notify.EventRestoreReady
	})
	if l := must1[client.Items[client.Retrieval]](w, "retrieval", "list").Items; len(l) != 1 ||
		l[0].State != client.RetrievalReady || l[0].Priority != "high" || l[0].Price == nil ||
		!strings.Contains(l[0].Note, r.ID) {
		t.Errorf("retrievals: %+v", l)
	}
	charged, err := http.Get(bill)
	if err != nil {
		t.Fatal(err)
	}
	var bills []standin.Charged
	if err := json.NewDecoder(charged.Body).Decode(&bills); err != nil || len(bills) != 1 ||
		bills[0].Priority != "high" || bills[0].Price <= 0 {
		t.Errorf("the bill: %+v, %v", bills, err)
	}
	charged.Body.Close()
	if found := must1[client.Found](w, "search", "harbour", "scan", "-where", where); len(found.Items) != 1 ||
		found.Searched.Cold != nil {
		t.Errorf("while the copy is there: %+v", found)
	}
	var moved string
	for _, s := range must1[client.Items[client.Segment]](w, "segment", "list").Items {
		if s.WarmUntil != nil {
			moved = s.ID
		}
	}
	w.must("segment", "verify", moved)
	if s := must1[client.Segment](w, "segment", "move", moved, "-to", "cellar"); s.RowsStore != "" || s.Cold {
		t.Errorf("moved back: %+v", s)
	}
	w.refuse(1, []string{"lie in store cellar already"}, "segment", "move", moved, "-to", "cellar")

	// Verifying cold segments is planned under a budget: the first one alone fits into it.
	w.must("store", "set", "vault", "-verify-budget", fmt.Sprint(segments[0].FileBytes+segments[1].FileBytes+
		segments[2].FileBytes-1), "-scrub-every", "PT1S", "-scrub-window", "any")
	w.eventually("a cold segment is verified", func() bool {
		for _, v := range must1[client.Items[client.Verification]](w, "verification", "list").Items {
			if v.Store == "vault" && v.State == client.VerificationDone && v.Segments > 0 && v.Wrong == 0 {
				return true
			}
		}
		return false
	})
	w.must("store", "set", "vault", "-scrub-every", "never", "-verify-budget", "0")
	for _, x := range must1[client.Items[client.Retrieval]](w, "retrieval", "list").Items {
		if x.CreatedBy == "service" && x.Priority != "low" {
			t.Errorf("retrieved to verify: %+v", x)
		}
	}

	// The catalog is lost: what lies cold is found again.
	w.stop(syscall.SIGTERM)
	vault := must1vault(w)
	if err := os.Rename(filepath.Join(w.dir, "data", "catalog.db"),
		filepath.Join(w.dir, "catalog-of-before.db")); err != nil {
		t.Fatal(err)
	}
	w.start()
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
	w.must("store", "add", "vault", "-endpoint", strings.TrimSuffix(bill, standin.BillPath), "-bucket", "vault",
		"-class", "COLD", "-key-file", vault, "-existing")
	w.must("catalog", "rebuild")
	if n := cold(); n != 2 {
		t.Errorf("%d segments are known to be cold", n)
	}
	w.must("segment", "retrieve", "-table", "harbour.scan", "-priority", "high")
	all := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-from",
		"2020-01-01", "-pace", "unlimited")
	if all.Restored != 3999 || all.Skipped != 1 || w.content("true") != before {
		t.Errorf("everything back: %+v", all)
	}
}

// must1vault is the file of the vault's keys.
func must1vault(w *world) string { return filepath.Join(w.dir, "vault.keys") }

// TestRestoresAreApprovedReplaceAndGoOn: where guard rails demand it somebody approves first; rows that are replaced
// are kept in a file; and a restore that the end of the service interrupts goes on at the next start, with every row
// once.
func TestRestoresAreApprovedReplaceAndGoOn(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(6000)
		before := w.content("true")
		w.define("archive", "unlimited")
		w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar, keep: PT1S}",
			"unlimited")))
		w.in("")
		w.must("guard", "set", "harbour", "-approve", "restores,disposals")
		w.refuse(1, []string{"nothing that can be made to need an approval"}, "guard", "set", "harbour", "-approve",
			"everything")
		r := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where", "id = 5")
		if r.State != client.RestoreAsked {
			t.Fatalf("%+v", r)
		}
		w.refuse(1, []string{"needs a reason"}, "restore", "refuse", r.ID)
		w.must("restore", "refuse", r.ID, "-reason", "not yours")
		w.refuse(1, []string{"refused and waits for no decision"}, "restore", "approve", r.ID)
		r = must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where", "id = 5")
		w.must("restore", "approve", r.ID)
		w.eventually("the approved restore is done",
			func() bool { return must1[client.Restore](w, "restore", "show", r.ID).State == client.RestoreDone })
		w.outlived()
		d := must1[client.Disposal](w, "disposal", "plan", "scans")
		w.refuse(3, []string{"somebody else has to approve it first"}, "disposal", "start", d.ID)
		w.must("guard", "set", "harbour")

		// Replaced: what was there is kept.
		w.exec("UPDATE scan SET note = 'scribbled over' WHERE id = 5")
		w.refuse(1, []string{"cannot go again by themselves"}, "restore", "request", "-source", "harbour", "-table",
			"scan", "-where", "id < 10", "-conflicts", "replace", "-for", "P1D")
		r = must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where", "id < 10",
			"-conflicts", "replace")
		if r.Restored != 9 || r.Replaced != 1 || r.Skipped != 0 ||
			w.count("SELECT count(*) FROM scan WHERE id = 5 AND note = 'note 5'") != 1 {
			t.Errorf("replaced: %+v", r)
		}
		aside := filepath.Join(w.dir, "replaced.ndjson")
		w.must("restore", "replaced", r.ID, "-out", aside)
		if b, err := os.ReadFile(aside); err != nil || strings.Count(string(b), "\n") != 1 ||
			!strings.Contains(string(b), "scribbled over") {
			t.Errorf("what was replaced: %s, %v", b, err)
		}
		again := must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-where",
			"id < 10", "-conflicts", "replace")
		if again.Replaced != 0 || again.Skipped != 9 {
			t.Errorf("once more: %+v", again)
		}
		w.refuse(1, []string{"replaced no row"}, "restore", "replaced", again.ID, "-out", aside+"2")

		// Interrupted: it goes on, and each row counts once.
		r = must1[client.Restore](w, "restore", "request", "-source", "harbour", "-table", "scan", "-from",
			"2020-01-01", "-wait=false")
		w.eventually("some rows are back", func() bool { return w.count("SELECT count(*) FROM scan") > 1000 })
		w.stop(syscall.SIGKILL)
		if n := w.count("SELECT count(*) FROM scan"); n >= 6000 {
			t.Logf("all %d rows were back before the service was killed", n)
		}
		w.start()
		w.eventually("the restore is done",
			func() bool { return must1[client.Restore](w, "restore", "show", r.ID).State != client.Restoring })
		r = must1[client.Restore](w, "restore", "show", r.ID)
		if r.State != client.RestoreDone || r.Restored != 5991 || r.Skipped != 9 || w.content("true") != before {
			t.Errorf("interrupted: %+v", r)
		}
	})
}
