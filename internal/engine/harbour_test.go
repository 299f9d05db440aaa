package engine

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/tables"

	_ "github.com/jackc/pgx/v5/stdlib"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/dbtest/fresh"
	"ambercellar/internal/source"
	"ambercellar/internal/source/mariadb"
	"ambercellar/internal/source/postgres"
	"ambercellar/internal/source/sqlite"
)

func TestMain(m *testing.M) {
	search.NarrowFrom = 0 // every search by key goes by the catalog's spans
	search.LongFrom, search.PartOf = 3, 2
	tables.FirstWait, plan.QuickBudget = 5*time.Millisecond, 10*time.Second
	flag.Parse()
	flag.Set("test.parallel", "3") // they wait a lot
	os.Exit(dbtest.Main(m))
}

// harbour is a database of one of the engines, with a directory for the catalog and the store: what stays when a
// service is gone.
type harbour struct {
	dir, engine, address string
	db                   *sql.DB
	serves               int // services so far
}

func newHarbour(t *testing.T, engine string) *harbour {
	t.Helper()
	dir, address := t.TempDir(), ""
	switch engine {
	case "sqlite":
		address = filepath.Join(dir, "harbour.db")
	case "postgres":
		address = dbtest.Postgres(t)
	case "mariadb":
		address = dbtest.MariaDB(t)
	}
	h := newHarbourAt(t, engine, address)
	h.dir = dir
	return h
}

// newHarbourAt is a database that is there already.
func newHarbourAt(t *testing.T, engine, address string) *harbour {
	t.Helper()
	h := &harbour{engine: engine, address: address}
	var err error
	switch engine {
	case "sqlite":
		h.db, err = sql.Open("sqlite", "file:"+address+"?_pragma=busy_timeout(5000)&_pragma=journal_mode(wal)")
	case "postgres":
		h.db, err = sql.Open("pgx", address)
	case "mariadb":
		h.db, err = dbtest.OpenMariaDB(address)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.db.Close() })
	return h
}

func (h *harbour) exec(t testing.TB, statements ...string) {
	t.Helper()
	for _, s := range statements {
		if _, err := h.db.Exec(s); err != nil {
			t.Fatalf("%v\n%.300s", err, s)
		}
	}
}

func (h *harbour) count(t testing.TB, query string) (n int64) {
	t.Helper()
	if err := h.db.QueryRow(query).Scan(&n); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return n
}

// words reads a query's only value as text.
func (h *harbour) words(t testing.TB, query string) string {
	t.Helper()
	var s sql.NullString
	if err := h.db.QueryRow(query).Scan(&s); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return s.String
}

// openSource opens a database as the service does.
func openSource(ctx context.Context, engine, address string) (source.Source, error) {
	cfg := source.Config{Name: "harbour", Engine: engine, Address: address, TLS: "off", Connections: 6}
	switch engine {
	case "postgres":
		return postgres.Open(ctx, cfg)
	case "mariadb":
		return mariadb.Open(ctx, cfg)
	}
	return sqlite.Open(ctx, cfg)
}

// serve is an engine over the harbour, as a service that has just started has it; wrap, where it is given, stands
// before the database.
func (h *harbour) serve(t *testing.T, wrap func(source.Source) source.Source) *bench {
	t.Helper()
	h.serves++
	fresh.Catalog(t, filepath.Join(h.dir, "catalog.db"))
	c, err := catalog.Open(t.Context(), filepath.Join(h.dir, "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	src, err := openSource(t.Context(), h.engine, h.address)
	if err != nil {
		t.Fatal(err)
	}
	d, err := store.MakeDirectory(filepath.Join(h.dir, "cellar"))
	if err != nil {
		t.Fatal(err)
	}
	shut := func() { src.Close(); c.Close() }
	t.Cleanup(shut)
	used := src
	if wrap != nil {
		used = wrap(src)
	}
	b := &bench{store: &failing{Directory: d}, db: h.db, close: shut, now: time.Date(2026, 11, 23, 12, h.serves, 0, 0,
		time.UTC)}
	b.Engine = New(&deps.Deps{Catalog: c, Instance: "test", Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Now:    b.tick,
		Source: func(context.Context, string) (source.Source, error) { return used, nil },
		Store:  func(context.Context, string) (store.Store, error) { return b.store, nil }})
	b.Runs.SliceRows = 100
	if _, err := c.Source(t.Context(), "harbour"); err == nil {
		return b
	}
	if err := c.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: h.engine}); err != nil {
		t.Fatal(err)
	}
	if err := c.AddStore(t.Context(), "me", catalog.Store{Name: "cellar", Path: "x"}); err != nil {
		t.Fatal(err)
	}
	return b
}

// readings makes table reading, divided by months, with so many rows in each of the five months from January 2026 on,
// 50 apart in their keys; the last month is not due under readingRule.
func (h *harbour) readings(t testing.TB, perMonth int) {
	t.Helper()
	ends := []string{"2026-02-01", "2026-03-01", "2026-04-01", "2026-05-01", "2026-06-01"}
	switch h.engine {
	case "postgres":
		h.exec(t, "CREATE TABLE reading (id bigint NOT NULL, at timestamptz NOT NULL, deck text, celsius "+
			"numeric(5,2), CHECK (celsius < 900), PRIMARY KEY (id, at)) PARTITION BY RANGE (at)",
			"CREATE INDEX ON reading (at)")
		from := "2026-01-01"
		for _, to := range ends {
			h.exec(t, fmt.Sprintf("CREATE TABLE reading_%s PARTITION OF reading FOR VALUES FROM ('%s+00') TO "+
				"('%s+00')", strings.ReplaceAll(from[:7], "-", "_"), from, to))
			from = to
		}
	case "mariadb":
		var parts []string
		from := "2026-01-01"
		for _, to := range ends {
			parts = append(parts, fmt.Sprintf("PARTITION reading_%s VALUES LESS THAN (TO_DAYS('%s'))",
				strings.ReplaceAll(from[:7], "-", "_"), to))
			from = to
		}
		h.exec(t, "CREATE TABLE reading (id bigint NOT NULL AUTO_INCREMENT, at datetime NOT NULL, deck "+
			"varchar(20), celsius decimal(5,2), double_it decimal(6,2) AS (celsius * 2) VIRTUAL, PRIMARY KEY (id, "+
			"at), KEY (at)) PARTITION BY RANGE (TO_DAYS(at)) ("+strings.Join(parts, ", ")+")")
	}
	for m := range 5 {
		var rows []string
		for i := range perMonth {
			at := time.Date(2026, time.Month(m+1), 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(i) * 40 * time.Minute)
			rows = append(rows, fmt.Sprintf("(%d, '%s', 'deck %d', %d.25)", (m*perMonth+i)*50+1,
				at.Format("2006-01-02 15:04:05"), i%7, i%90))
		}
		h.exec(t, "INSERT INTO reading (id, at, deck, celsius) VALUES "+strings.Join(rows, ", "))
	}
	if h.engine == "postgres" {
		h.exec(t, "ANALYZE reading")
	}
}

const readingRule = "rule: readings\nsource: harbour\ntable: reading\nage: at\nzone: UTC\nclauses:\n  - before: " +
	"2026-05-01\nthen: %s\narchive: {store: cellar}\npace: unlimited\n"

// parts lists the partitions of table reading and how the last run dealt with them.
func (h *harbour) parts(t testing.TB) string {
	t.Helper()
	if h.engine == "postgres" {
		return h.words(t, "SELECT string_agg(substr(c.relname, 9), ' ' ORDER BY c.relname) FROM pg_inherits JOIN "+
			"pg_class c ON c.oid = inhrelid WHERE inhparent = 'reading'::regclass")
	}
	return h.words(t, "SELECT GROUP_CONCAT(SUBSTR(PARTITION_NAME, 9) ORDER BY PARTITION_NAME SEPARATOR ' ') FROM "+
		"information_schema.PARTITIONS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'reading'")
}
