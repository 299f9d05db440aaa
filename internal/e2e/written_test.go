package e2e

import (
	"archive/tar"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// Small archives of all three engines, as earlier versions of the program wrote them, lie in testdata/written, each
// with its catalog. Every version has to open, verify, search and restore all of them. A format that changes gets an
// archive of its own:
//
//	AMBERCELLAR_WRITE=testdata/written/NAME.tar.gz go test -run TestWriteAnArchive ./internal/e2e
//
// An archive holds a disposed segment, one that was parted, one whose rows were moved, second copies, a sealed store,
// families, joined rows kept beside a segment, rows that were put back, and a run that has copied its rows and not
// deleted them.

// written is what is told of such an archive, in written.json beside its data directory.
type written struct {
	Root   string           `json:"root"`   // where it was made: paths in the catalog begin with that
	Tables map[string]int64 `json:"tables"` // by SOURCE.TABLE: archived rows that a search finds
	Rows   map[string]string
}

// writtenTables are made in each engine's database.
func writtenTables(kind string) string {
	at := map[string]string{"sqlite": "datetime", "postgres": "timestamptz", "mariadb": "datetime"}[kind]
	special := map[string]string{
		"sqlite": "fare numeric, weight numeric, photo blob",
		"postgres": "fare numeric(9,2), weight numeric(30,10), tag uuid, doc jsonb, photo bytea, ok boolean, clock " +
			"time, day date, ratio double precision",
		"mariadb": "fare decimal(9,2), weight decimal(30,10), tag uuid, doc json, photo blob, ok bit(1), clock " +
			"time, day date, ratio double, large bigint unsigned, outcome enum('let in', 'refused'), berth point",
	}[kind]
	values := map[string]string{
		"sqlite": "g * 1.25, g * 1000000000.5, x'00ff'",
		"postgres": "g * 1.25, g * 12345678901.0000000001, ('00000000-0000-4000-8000-' || lpad(g::text, 12, " +
			"'0'))::uuid, ('{\"g\": ' || g || '}')::jsonb, '\\x00ff', g % 2 = 0, time '01:00' + g * interval '1 " +
			"minute', date '2020-01-01' + g, g / 3.0",
		"mariadb": "g * 1.25, g * 12345678901.0000000001, concat('00000000-0000-4000-8000-', lpad(g, 12, '0')), " +
			"concat('{\"g\": ', g, '}'), x'00ff', g % 2, maketime(1, g % 60, 0), '2020-01-01' + INTERVAL g DAY, g " +
			"/ 3.0, 18446744073709551615 - g, if(g % 2 = 0, 'let in', 'refused'), ST_GeomFromText(concat('POINT(', " +
			"g, ' 1)'), if(g % 3 = 0, 4326, 0))",
	}[kind]
	day := map[string]string{"sqlite": "datetime('2020-01-01', '+' || g || ' days')",
		"postgres": "timestamptz '2020-01-01 00:00:00+00' + g * interval '1 day'",
		"mariadb":  "TIMESTAMP '2020-01-01 00:00:00' + INTERVAL g DAY"}[kind]
	series := "WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 150) SELECT "
	return fmt.Sprintf(
		`CREATE TABLE vessel (id integer PRIMARY KEY, name varchar(40)); INSERT INTO vessel VALUES (1, 'Heron'), (2,
			'Tern');
		CREATE TABLE scan (id integer PRIMARY KEY, at %[1]s NOT NULL, note varchar(40), %[2]s);
		CREATE INDEX scan_at ON scan (at);
		CREATE TABLE notice (id integer PRIMARY KEY, at %[1]s NOT NULL, body varchar(80));
		CREATE INDEX notice_at ON notice (at);
		CREATE TABLE trip (id integer PRIMARY KEY, at %[1]s NOT NULL, vessel_id integer REFERENCES vessel (id));
		CREATE INDEX trip_at ON trip (at);
		CREATE TABLE leg (id integer PRIMARY KEY, trip_id integer NOT NULL, pier varchar(40),
			FOREIGN KEY (trip_id) REFERENCES trip (id));
		CREATE INDEX leg_trip ON leg (trip_id);
		CREATE TABLE fare_change (id integer PRIMARY KEY, at %[1]s NOT NULL, fare integer);
		CREATE INDEX fare_change_at ON fare_change (at);
		INSERT INTO scan %[3]sg, %[4]s, 'note ' || g, %[5]s FROM s;
		INSERT INTO notice %[3]sg, %[4]s, 'Your sailing leaves from quay ' || g FROM s;
		INSERT INTO trip %[3]sg, %[4]s, 1 + g %% 2 FROM s;
		INSERT INTO leg %[3]sg, g, 'north' FROM s;
		INSERT INTO fare_change %[3]sg, %[4]s, g FROM s;`, at, special, series, day, values)
}

// writtenRules are those of one source.
func writtenRules(source string) string {
	out := ""
	rule := func(table, then, rest string) {
		out += fmt.Sprintf("---\nrule: %s-%s\nsource: %s\ntable: %s\nage: at\nzone: UTC\nclauses:\n  - keep: "+
			"P1Y\nthen: %s\npace: unlimited\n%s", strings.ReplaceAll(table, "_", "-"), source, source, table, then,
			rest)
	}
	rule("scan", "archive", "archive: {store: cellar, keep: PT1S}\n")
	rule("notice", "archive", "archive: {store: crypt}\n")
	rule("trip", "archive", "archive: {store: cellar}\njoins:\n  vessel: {table: vessel, on: {vessel_id: "+
		"id}}\ncopy: [vessel]\ninclude: [vessel.name]\nrelated:\n  - {table: leg, then: archive}\n")
	rule("fare_change", "copy", "archive: {store: cellar}\n")
	return strings.TrimPrefix(out, "---\n")
}

// TestWriteAnArchive writes such an archive with the program as it is.
func TestWriteAnArchive(t *testing.T) {
	t.Parallel()
	out := os.Getenv("AMBERCELLAR_WRITE")
	if out == "" {
		return // it is asked for by hand
	}
	w := newWorld(t, "sqlite")
	for _, name := range []string{"attic", "vault"} {
		w.must("store", "add", name, "-path", filepath.Join(w.dir, name))
	}
	keys := filepath.Join(w.dir, "keys")
	w.must("store", "key", "-out", keys)
	w.must("store", "add", "crypt", "-path", filepath.Join(w.dir, "crypt"), "-key-file", keys)
	w.must("store", "set", "cellar", "-second", "attic", "-scrub-every", "never")
	told := written{Root: w.dir, Tables: map[string]int64{}, Rows: map[string]string{}}
	run := func(rule, before string) {
		t.Helper()
		args := []string{"plan", "make", rule}
		if before != "" {
			args = append(args, "-before", before)
		}
		r := must1[client.RunView](w, "run", "start", must1[client.Plan](w, args...).ID)
		if r = w.ended(r.ID); r.State != client.Done && r.State != client.Copied {
			t.Fatalf("%+v", r)
		}
	}
	for _, kind := range []string{"sqlite", "postgres", "mariadb"} {
		address := w.dsn
		switch kind {
		case "sqlite":
			w.exec(writtenTables(kind))
		case "postgres":
			address = dbtest.Postgres(t)
			if err := dbtest.Exec(address, writtenTables(kind)); err != nil {
				t.Fatal(err)
			}
		case "mariadb":
			address = dbtest.MariaDB(t)
			if err := dbtest.ExecMariaDB(address, writtenTables(kind)); err != nil {
				t.Fatal(err)
			}
		}
		w.must("source", "add", kind, "-engine", kind, "-address", address, "-tls", "off")
		w.must("rule", "apply", "-f", w.rules(writtenRules(kind)))
		run("scan-"+kind, "2020-02-01")
		run("scan-"+kind, "2020-03-01")
		w.must("hold", "place", kind, "scan", "-where", "id IN (40, 41)", "-reference", "case 4", "-reason", "inquiry")
		w.outlived()
		w.must("disposal", "start", must1[client.Disposal](w, "disposal", "plan", "scan-"+kind).ID)
		run("scan-"+kind, "2020-04-01")
		moved := must1[client.Items[client.Segment]](w, "segment", "list", "-source", kind, "-table", "scan").Items[0]
		run("scan-"+kind, "")
		run("notice-"+kind, "")
		run("trip-"+kind, "")
		if kind == "sqlite" {
			run("fare-change-"+kind, "")
		}
		w.must("restore", "request", "-source", kind, "-table", "scan", "-where", "id BETWEEN 100 AND 104")
		w.eventually("second copies", func() bool {
			for _, s := range must1[client.Items[client.StoreView]](w, "store", "list").Items {
				if s.Name == "cellar" {
					return s.Totals.Unseconded == 1 // the one whose run has only copied
				}
			}
			return false
		})
		w.must("segment", "move", moved.ID, "-to", "vault")
		for _, table := range []string{"scan", "notice", "trip", "leg"} {
			rows := w.must("search", kind, table, "-rows", "csv")
			told.Rows[kind+"."+table] = rows
			told.Tables[kind+"."+table] = int64(strings.Count(rows, "\n") - 1)
		}
	}
	w.must("segment", "verify", "-all")
	w.stop(syscall.SIGTERM)
	w.exec("PRAGMA wal_checkpoint(TRUNCATE)")
	text, err := json.MarshalIndent(told, "", "  ")
	if err == nil {
		err = os.WriteFile(filepath.Join(w.dir, "written.json"), text, 0o640)
	}
	if err == nil {
		err = pack(w.dir, out)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// pack writes a directory into an archive file.
func pack(dir, out string) error {
	f, err := os.Create(out)
	if err != nil {
		return err
	}
	defer f.Close()
	z := gzip.NewWriter(f)
	a := tar.NewWriter(z)
	if err := a.AddFS(os.DirFS(dir)); err != nil {
		return err
	}
	if err := a.Close(); err != nil {
		return err
	}
	return z.Close()
}

// unpack is the inverse of pack.
func unpack(t *testing.T, from, dir string) {
	t.Helper()
	f, err := os.Open(from)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	for a := tar.NewReader(z); ; {
		h, err := a.Next()
		if err == io.EOF {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, filepath.FromSlash(h.Name))
		if h.FileInfo().IsDir() {
			if err := os.MkdirAll(path, 0o750); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(a)
		if err == nil {
			err = os.WriteFile(path, b, fs.FileMode(h.Mode).Perm())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestWhatWasWrittenStaysReadable: each archive of an earlier version is opened with its catalog, which is brought up
// to date; every segment verifies, searches find the very rows that they found then, and rows come back.
func TestWhatWasWrittenStaysReadable(t *testing.T) {
	t.Parallel()
	list, err := filepath.Glob("testdata/written/*.tar.gz")
	if err != nil || len(list) == 0 {
		t.Fatal("there is no archive of an earlier version", err)
	}
	for _, path := range list {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".tar.gz"), func(t *testing.T) { readWritten(t, path) })
	}
}

func readWritten(t *testing.T, path string) {
	w := &world{t: t, dir: t.TempDir(), engine: "sqlite"}
	unpack(t, path, w.dir)
	var told written
	text, err := os.ReadFile(filepath.Join(w.dir, "written.json"))
	if err == nil {
		err = json.Unmarshal(text, &told)
	}
	if err != nil {
		t.Fatal(err)
	}
	addresses := map[string]string{"sqlite": filepath.Join(w.dir, "harbour.db"), "postgres": dbtest.Postgres(t),
		"mariadb": dbtest.MariaDB(t)}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(w.dir, "data", "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	for source, address := range addresses {
		if _, err := db.Exec("UPDATE source SET address = ? WHERE name = ?", address, source); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := db.Exec("UPDATE store SET path = replace(path, ?1, ?2), seal = replace(seal, ?1, ?2)", told.Root,
		w.dir); err != nil {
		t.Fatal(err)
	}
	db.Close()
	w.dsn = addresses["sqlite"]
	if w.db, err = sql.Open("sqlite", "file:"+w.dsn); err != nil {
		t.Fatal(err)
	}
	defer w.db.Close()
	w.start("-new-token") // the one that it was written with is kept hashed
	defer w.stop(syscall.SIGKILL)
	w.must("segment", "verify", "-all")
	for _, s := range must1[client.Items[client.Segment]](w, "segment", "list").Items {
		if s.State == client.SegmentClosed {
			w.must("segment", "verify", s.ID)
		}
	}
	for table, rows := range told.Rows {
		source, name, _ := strings.Cut(table, ".")
		if got := w.must("search", source, name, "-rows", "csv"); got != rows {
			t.Errorf("%s: other rows than were written:\n%.400s\n%.400s", table, got, rows)
		}
		if r := must1[client.Restore](w, "restore", "request", "-source", source, "-table", name, "-where", "id > 0",
			"-into", "file", "-format", "csv"); r.Restored != told.Tables[table] {
			t.Errorf("%s into a file: %+v", table, r)
		}
		if r := must1[client.Restore](w, "restore", "request", "-source", source, "-table", name, "-where", "id > 0",
			"-into", "side", "-side-table", "side_"+name); r.Restored < told.Tables[table] {
			t.Errorf("%s into a side table: %+v", table, r)
		}
	}
	// A segment is parted, and what stays is what stood there.
	for _, source := range []string{"sqlite"} { // whose database is there as it was
		d := must1[client.Disposal](w, "erasure", "plan", source, "scan", "-where", "id = 99")
		w.must("disposal", "start", d.ID)
		lines := strings.SplitAfter(told.Rows[source+".scan"], "\n")
		kept := slices.DeleteFunc(slices.Clone(lines),
			func(line string) bool { return strings.HasPrefix(line, "99,") })
		if got := w.must("search", source, "scan", "-rows", "csv"); len(kept) != len(lines)-1 ||
			!sameLines(got, strings.Join(kept, "")) {
			t.Errorf("%s.scan after one row was erased, %d lines instead of %d:\n%.400s", source,
				strings.Count(got, "\n"), len(kept), got)
		}
	}
	w.must("segment", "verify", "-all")
	// The database of one of them is there as it was: rows come back into their table, the copied run goes on, and
	// another one begins.
	if r := must1[client.Restore](w, "restore", "request", "-source", "sqlite", "-table", "trip", "-where",
		"id < 20"); r.Restored != 2*19 {
		t.Errorf("families into their tables: %+v", r)
	}
	for _, r := range must1[client.Items[client.RunView]](w, "run", "list").Items {
		if r.State == client.Copied {
			w.must("run", "delete", r.ID)
			w.balanced(w.ended(r.ID), 150, 150)
		}
	}
	w.exec("INSERT INTO notice VALUES (9001, '2020-05-05', 'late')")
	r := must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "notice-sqlite").ID)
	w.balanced(w.ended(r.ID), 1, 1)
	w.must("segment", "verify", "-all")
	if x := must1[client.Reconciliation](w, "table", "reconcile", "sqlite", "scan"); !x.Agree {
		t.Errorf("%+v", x)
	}
}

// sameLines says whether two texts have the same lines, in whatever order.
func sameLines(a, b string) bool {
	return slices.Equal(slices.Sorted(strings.Lines(a)), slices.Sorted(strings.Lines(b)))
}
