package catalog

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/jmoiron/sqlx"
)

// old makes a catalog whose tables are of an earlier version.
func old(t *testing.T, dir string, at int64) (path string) {
	t.Helper()
	path = filepath.Join(dir, "catalog.db")
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=journal_mode(wal)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	provider, err := upgrades(db)
	if err == nil {
		_, err = provider.UpTo(t.Context(), at)
	}
	if err == nil {
		_, err = db.Exec("INSERT INTO setting VALUES ('instance', 'the-quay')")
	}
	if err != nil {
		t.Fatal(err)
	}
	return path
}

// TestAnUpgradeLeavesACopyOfWhatWasBefore: whole, and none where nothing changed.
func TestAnUpgradeLeavesACopyOfWhatWasBefore(t *testing.T) {
	known, err := supported()
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []int64{1, 9, 17, known - 1, known} {
		dir := t.TempDir()
		path := old(t, dir, at)
		left := path + ".version-2-20260101T000000.000000Z.partial-journal" // by one that was killed
		if err := os.WriteFile(left, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			c, err := Open(t.Context(), path)
			if err != nil {
				t.Fatal(at, err)
			}
			if name, err := c.Setting(t.Context(), "instance"); err != nil || name != "the-quay" {
				t.Errorf("%d: %q, %v", at, name, err)
			}
			if err := c.Close(); err != nil {
				t.Fatal(err)
			}
		}
		copies, err := filepath.Glob(path + fmt.Sprintf(".version-%d-*Z", at))
		if err != nil || (at < known) != (len(copies) == 1) {
			t.Fatalf("%d: copies %v, %v", at, copies, err)
		}
		if partial, _ := filepath.Glob(path + ".*partial"); len(partial) > 0 {
			t.Errorf("%d: there stay %v", at, partial)
		}
		if at == known {
			continue
		}
		if st, err := os.Stat(copies[0]); err != nil || st.Mode().Perm() != 0o600 {
			t.Errorf("%d: others can read it: %v, %v", at, st, err)
		}
		if err := CheckFile(t.Context(), copies[0]); err != nil {
			t.Errorf("%d: the copy: %v", at, err)
		}
		if err := os.Rename(copies[0], path); err != nil { // back to before
			t.Fatal(err)
		}
		c, err := Open(t.Context(), path)
		if err != nil {
			t.Fatalf("%d: the copy again: %v", at, err)
		}
		c.Close()
	}
}

func TestACatalogOfANewerVersionIsRefusedAndNotTouched(t *testing.T) {
	dir := t.TempDir()
	known, err := supported()
	if err != nil {
		t.Fatal(err)
	}
	path := old(t, dir, known)
	db, err := sql.Open("sqlite", "file:"+path)
	if err == nil {
		_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)",
			known+3)
	}
	if err = errors.Join(err, db.Close()); err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var newer *NewerError
	if _, err := Open(t.Context(), path); !errors.As(err, &newer) || newer.Is != known+3 || newer.Supports != known ||
		!strings.Contains(err.Error(), "start the newer version") {
		t.Errorf("it is opened: %v", err)
	}
	if err := CheckFile(t.Context(), path); !errors.As(err, &newer) {
		t.Errorf("as a backup: %v", err)
	}
	if after, err := os.ReadFile(path); err != nil || !bytes.Equal(before, after) {
		t.Errorf("it was changed: %v", err)
	}
}

// TestAFullDiskInTheMiddleOfAnUpgrade: there is no room for the copy, or none for the new tables. The catalog stays
// what it was, and the upgrade goes on once there is room.
func TestAFullDiskInTheMiddleOfAnUpgrade(t *testing.T) {
	for _, free := range []int{0, 40, 200, 450, 700} { // KiB beside the catalog
		dir := t.TempDir()
		if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=64m"); err != nil {
			t.Skipf("no file system can be mounted: %v", err)
		}
		t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
		path := old(t, dir, 3)
		var st syscall.Statfs_t
		if err := syscall.Statfs(dir, &st); err != nil {
			t.Fatal(err)
		}
		filler := filepath.Join(dir, "filler")
		if err := os.WriteFile(filler, make([]byte, int(st.Bavail)*int(st.Bsize)-free<<10), 0o600); err != nil {
			t.Fatal(err)
		}
		c, err := Open(t.Context(), path)
		if err == nil {
			if err := c.Close(); err != nil {
				t.Fatal(err)
			}
			if free == 0 {
				t.Error("without room for a copy the catalog was changed")
			}
		} else if !strings.Contains(err.Error(), "full") {
			t.Errorf("%d KiB: %v", free, err)
		}
		if err := os.Remove(filler); err != nil {
			t.Fatal(err)
		}
		c, err = Open(t.Context(), path)
		if err != nil {
			t.Fatalf("%d KiB, with room again: %v", free, err)
		}
		if name, err := c.Setting(t.Context(), "instance"); err != nil || name != "the-quay" {
			t.Errorf("%d KiB: %q, %v", free, name, err)
		}
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
		copies, err := fs.Glob(os.DirFS(dir), "catalog.db.version-*")
		if err != nil || len(copies) == 0 {
			t.Errorf("%d KiB: copies %v, %v", free, copies, err)
		}
		for _, name := range copies {
			if err := CheckFile(t.Context(), filepath.Join(dir, name)); err != nil {
				t.Errorf("%d KiB: %v", free, err)
			}
		}
	}
}

// tablesOf writes down the tables and indexes of a catalog.
func tablesOf(t *testing.T, path string) string {
	t.Helper()
	db, err := sqlx.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	list := []string{}
	if err := db.Select(&list, "SELECT sql FROM sqlite_master AS m WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' "+
		// not those that a virtual table makes for itself
		"AND NOT EXISTS (SELECT 1 FROM sqlite_master WHERE sql LIKE 'CREATE VIRTUAL%' AND "+
		"m.name IN (name || '_node', name || '_parent', name || '_rowid')) "+
		"ORDER BY type = 'trigger', type = 'index', name"); err != nil {
		t.Fatal(err)
	}
	return strings.Join(list, ";\n") + ";\n"
}

// TestANewCatalogIsAsUpgradesMakeIt: its tables are made at once, and are those that every upgrade together makes. With
// AMBERCELLAR_SCHEMA=write it writes them down.
func TestANewCatalogIsAsUpgradesMakeIt(t *testing.T) {
	known, err := supported()
	if err != nil {
		t.Fatal(err)
	}
	upgraded := tablesOf(t, old(t, t.TempDir(), known))
	if os.Getenv("AMBERCELLAR_SCHEMA") == "write" {
		if err := os.WriteFile("schema.sql", []byte(upgraded), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(t.TempDir(), "catalog.db")
	c, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	var log, versions string
	err = errors.Join(c.db.GetContext(t.Context(), &log, "SELECT value FROM setting WHERE name = 'audit_log'"),
		c.db.GetContext(t.Context(), &versions, "SELECT group_concat(version_id) FROM goose_db_version"), c.Close())
	if err != nil || len(log) != 26 || !strings.HasSuffix(versions, fmt.Sprintf(",%d,%d", known-1, known)) {
		t.Errorf("log %q, versions %q (%v)", log, versions, err)
	}
	if made := tablesOf(t, path); made != upgraded {
		at := 0
		for at < min(len(made), len(upgraded)) && made[at] == upgraded[at] {
			at++
		}
		t.Errorf("schema.sql is not what the upgrades make, from here on: %.200q\nWrite it anew with "+
			"AMBERCELLAR_SCHEMA=write, and look at the difference", made[max(at-60, 0):])
	}
	// and the next start finds nothing to do
	if c, err = Open(t.Context(), path); err != nil {
		t.Fatal(err)
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
}
