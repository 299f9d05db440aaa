package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"ambercellar/internal/service"
)

// What the service keeps for itself is for its owner alone, also where an earlier version or somebody else made it readable for others; the token
// stands in its file and nowhere else.
func TestTheServicesOwnFilesAreForItsOwnerAlone(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0o022))
	w := newWorld(t, "sqlite")
	w.scans(500)
	w.define("archive", "unlimited")
	w.ended(w.planned().ID)
	w.exec("INSERT INTO scan (id, scanned_at, note) VALUES (7, '2020-01-01 00:00:00', 'again')")
	w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", "id < 20", "-conflicts", "replace")
	w.must("restore", "request", "-source", "harbour", "-table", "scan", "-where", "id < 20", "-into", "file", "-format", "csv", "-out", filepath.Join(w.dir, "rows.csv"))
	w.must("catalog", "backup", "-out", filepath.Join(w.dir, "backup.db"))
	data := filepath.Join(w.dir, "data")
	closed := func() {
		t.Helper()
		seen := 0
		for _, root := range []string{data, filepath.Join(w.dir, "rows.csv"), filepath.Join(w.dir, "backup.db")} {
			err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
				if err != nil || strings.HasPrefix(path, filepath.Join(data, "cellar")) { // a store may be for a group, too; the directory above is not
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
