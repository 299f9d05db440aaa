package e2e

import (
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"ambercellar/client"
	"ambercellar/internal/service"
)

// What the service keeps for itself is for its owner alone, also where an earlier version or somebody else made it
// readable for others; the token stands in its file and nowhere else.
func TestTheServicesOwnFilesAreForItsOwnerAlone(t *testing.T) {
	t.Parallel()
	defer syscall.Umask(syscall.Umask(0o022))
	w := newWorld(t, "sqlite")
	w.scans(500)
	w.define("archive", "unlimited")
	w.ended(w.planned().ID)
	w.exec("INSERT INTO scan (id, scanned_at, note) VALUES (7, '2020-01-01 00:00:00', 'again')")
	w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", "id < 20", "-conflicts", "replace")
	w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", "id < 20", "-into", "file",
		"-format", "csv", "-out", filepath.Join(w.dir, "rows.csv"))
	w.must("catalog", "backup", "-out", filepath.Join(w.dir, "backup.db"))
	data := filepath.Join(w.dir, "data")
	closed := func() {
		t.Helper()
		seen := 0
		for _, root := range []string{data, filepath.Join(w.dir, "rows.csv"), filepath.Join(w.dir, "backup.db")} {
			err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
				// a store may be for a group, too; the directory above is not
				if err != nil || strings.HasPrefix(path, filepath.Join(data, "cellar")) {
					return err
				}
				st, err := d.Info()
				if err == nil && st.Mode().Perm()&0o077 != 0 {
					t.Errorf("%s is %s", path, st.Mode())
				}
				seen++
				return err
			})
			if err != nil {
				t.Fatal(err)
			}
		}
		if seen < 8 {
			t.Errorf("only %d files were looked at", seen)
		}
	}
	closed()
	if strings.Contains(w.svc.log.String(), w.token) {
		t.Error("the token stands in the log")
	}
	old := w.token
	w.stop(syscall.SIGTERM)
	for _, path := range []string{data, filepath.Join(data, "catalog.db")} {
		if err := os.Chmod(path, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Remove(filepath.Join(data, service.TokenFile)); err != nil {
		t.Fatal(err)
	}
	w.start("-new-token")
	closed()
	if w.token == old {
		t.Error("the new token is the old one")
	}
	w.must("run", "list")
}

// raw is the text of the catalog's file, when all of its log is in it.
func (w *world) raw() string {
	w.t.Helper()
	w.stop(syscall.SIGTERM)
	path := filepath.Join(w.dir, "data", "catalog.db")
	db, err := sql.Open("sqlite", "file:"+path)
	if err == nil {
		_, err = db.Exec("PRAGMA wal_checkpoint(TRUNCATE)")
		db.Close()
	}
	b, failed := os.ReadFile(path)
	if err = errors.Join(err, failed); err != nil {
		w.t.Fatal(err)
	}
	w.start()
	return string(b)
}

// No row stands in the service's own records: what a plan would take is read anew when somebody looks, as the rule
// would archive it. Where rows were erased, the conditions that named them are gone too, but for those of holds that
// stand.
func TestTheCatalogKeepsNoRows(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(600)
		w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\nomit: [fare]\nmask: {note: " +
			"last4}\n")
		p := must1[client.Plan](w, "plan", "make", "scans")
		if out := w.must("plan", "show", p.ID, "-rows"); strings.Contains(out, "note 1") ||
			!strings.Contains(out, "NOTE") || strings.Contains(out, "FARE") {
			t.Errorf("what the plan would take:\n%s", out)
		}
		sample, err := w.client.Sample(t.Context(), p.ID)
		if err != nil || len(sample.Rows) != 5 ||
			!slices.Equal(sample.Columns, []string{"id", "vessel_id", "scanned_at", "note"}) {
			t.Errorf("%+v, %v", sample, err)
		}
		w.must("rule", "apply", "-f", w.rules(
			scansWith("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")), "-reason", "as they are")
		p = must1[client.Plan](w, "plan", "make", "scans", "-exact")
		w.must("plan", "make", "scans", "-where", "note = 'note 77'")
		w.balanced(w.ended(must1[client.RunView](w, "run", "start", p.ID).ID), 600, 600)
		if out := w.must("plan", "show", p.ID, "-rows"); strings.Contains(out, "note 1") {
			t.Errorf("rows that are gone are shown:\n%s", out)
		}
		w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", "note = 'note 78'", "-into",
			"file", "-format", "csv")
		lifted := must1[client.Placed](w, "hold", "place", "harbour", "scan", "-where", "note = 'note 79'", "-reason",
			"inquiry", "-reference", "case 4")
		w.must("hold", "lift", lifted.ID, "-reason", "it is over")
		w.must("hold", "place", "harbour", "scan", "-where", "note = 'note 80'", "-reason", "inquiry", "-reference",
			"case 5")
		raw := w.raw()
		for _, text := range []string{"note 77", "note 78", "note 79", "note 80"} {
			if !strings.Contains(raw, text) {
				t.Errorf("%q is not in the catalog even before", text) // so that the search is one
			}
		}
		if strings.Contains(raw, "note 1\"") || strings.Contains(raw, "note 12") {
			t.Error("rows stand in the catalog")
		}
		d := must1[client.Disposal](w, "erasure", "plan", "harbour", "scan", "-where",
			"note IN ('note 77', 'note 78', 'note 79')")
		w.must("disposal", "start", d.ID)
		raw = w.raw()
		for _, text := range []string{"note 77", "note 78", "note 79"} {
			if strings.Contains(raw, text) {
				t.Errorf("%q stands in the catalog after it was erased", text)
			}
		}
		if !strings.Contains(raw, "note 80") {
			t.Error("a hold that stands has lost its condition")
		}
		w.must("plan", "show", p.ID)
		w.must("restore", "list")
		w.must("hold", "list")
	})
}
