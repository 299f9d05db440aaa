package engine

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
)

// elsewhere is the harbour's server with another database.
func (h *harbour) elsewhere(database string) string {
	u, _ := url.Parse(h.address)
	u.Path = "/" + database
	return u.String()
}

func (h *harbour) database() string {
	u, _ := url.Parse(h.address)
	return strings.Trim(u.Path, "/")
}

// save keeps the database as it is, and turnBack makes it so again. No service may be connected.
func (h *harbour) save(t *testing.T) (turnBack func()) {
	t.Helper()
	copyFile := func(from, to string) {
		b, err := os.ReadFile(from)
		if err == nil {
			err = os.WriteFile(to, b, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	open := func() { h.db.Close(); h.db = newHarbourAt(t, h.engine, h.address).db }
	kept := h.database() + "_kept"
	switch h.engine {
	case "sqlite":
		h.exec(t, "PRAGMA wal_checkpoint(TRUNCATE)")
		h.db.Close()
		copyFile(h.address, h.address+".kept")
		open()
		return func() {
			h.db.Close()
			os.Remove(h.address + "-wal")
			os.Remove(h.address + "-shm")
			copyFile(h.address+".kept", h.address)
			open()
		}
	case "postgres":
		become := func(to, from string) {
			h.db.Close()
			for _, s := range []string{"DROP DATABASE IF EXISTS " + to + " WITH (FORCE)", "CREATE DATABASE " + to +
				" TEMPLATE " + from} {
				if err := dbtest.Exec(h.elsewhere("postgres"), s); err != nil {
					t.Fatal(err)
				}
			}
			open()
		}
		become(kept, h.database())
		return func() { become(h.database(), kept) }
	}
	become := func(to, from string) {
		rows, err := h.db.Query("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND "+
			"TABLE_TYPE = 'BASE TABLE'", from)
		if err != nil {
			t.Fatal(err)
		}
		var tables []string
		for rows.Next() {
			var name string
			rows.Scan(&name)
			tables = append(tables, name)
		}
		rows.Close()
		h.exec(t, "DROP DATABASE IF EXISTS "+to, "CREATE DATABASE "+to)
		for _, name := range tables {
			h.exec(t, fmt.Sprintf("CREATE TABLE %s.%s LIKE %s.%s", to, name, from, name),
				fmt.Sprintf("INSERT INTO %s.%s SELECT * FROM %s.%s", to, name, from, name))
		}
		open()
	}
	become(kept, h.database())
	return func() { become(h.database(), kept) }
}

const reconciledRule = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - before: " +
	"2020-01-11\nthen: archive\narchive: {store: cellar}\npace: unlimited\n"

// carry plans a run and carries it out.
func (b *bench) carry(t *testing.T) (*catalog.Run, error) {
	t.Helper()
	p, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans", Exact: true})
	if err != nil {
		return nil, err
	}
	r, err := b.Plans.Start(t.Context(), "me", p.ID, false)
	if err != nil {
		return nil, err
	}
	if r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, ""); err == nil {
		if err = b.Runs.Run(t.Context(), r); err == nil {
			_, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Done, "")
		}
	}
	return r, err
}

func everywhere(t *testing.T, fn func(t *testing.T, h *harbour)) {
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) { fn(t, newHarbour(t, engine)) })
	}
}

func TestATurnedBackDatabaseStopsItsRunsUntilThatIsSettled(t *testing.T) {
	t.Parallel()
	everywhere(t, func(t *testing.T, h *harbour) {
		scans(t, h)
		b := h.serve(t, nil)
		b.rule(t, reconciledRule)
		if _, err := b.carry(t); err != nil {
			t.Fatal(err)
		}
		h.exec(t, "INSERT INTO scan SELECT id + 1000, '2020-01-02 00:00:00', 'second' FROM scan WHERE id > 239")
		b.close()
		content := h.words(t, h.allScans())
		turnBack := h.save(t)
		b = h.serve(t, nil)
		if r, err := b.carry(t); err != nil || r.Deleted != 11 {
			t.Fatal(r, err)
		}
		b.close()
		turnBack()

		b = h.serve(t, nil)
		_, err := b.carry(t)
		if !errors.Is(err, refuse.ErrDisagree) ||
			!strings.Contains(err.Error(),
				"the source's journal is at lease 1 of the table and the catalog has seen lease 2: the database "+
					"was turned back") {
			t.Fatalf("a run of a database that was turned back: %v", err)
		}
		x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
		if err != nil || x.Agree || len(x.Differences) != 2 || x.SourceLink != 6 || x.CatalogLink != 8 ||
			len(x.Reappeared) != 1 || x.Reappeared[0].Deleted != 11 || x.Reappeared[0].Live != 11 {
			t.Fatalf("%+v, %v", x, err)
		}
		if got := h.words(t, h.allScans()); got != content {
			t.Error("looking changed something")
		}
		if _, err := b.Reconcile.Settle(t.Context(), "me", "harbour", "scan", " "); err == nil {
			t.Error("settled without a reason")
		}
		if x, err = b.Reconcile.Settle(t.Context(), "me", "harbour", "scan",
			"restored from the backup of last night"); err != nil || !x.Agree {
			t.Fatalf("%+v, %v", x, err)
		}
		r, err := b.carry(t)
		if err != nil || r.Deleted != 11 {
			t.Fatal(r, err)
		}
		if _, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
			Scope: catalog.Scope{From: "2020-01-01"}, Target: "table"}); err != nil {
			t.Fatal(err)
		}
		b.restore(t, r)
		if n := h.count(t, "SELECT count(*) FROM scan WHERE id > 1000"); n != 11 {
			t.Errorf("%d of 11 rows came back", n)
		}
		audit, err := b.Catalog.AuditLog(t.Context(), catalog.AuditFilter{}, catalog.First(100))
		if err != nil || !slices.ContainsFunc(audit, func(a catalog.Entry) bool {
			return a.Action == "table settled" &&
				strings.Contains(a.Detail, "11 rows that were archived and deleted are live again") &&
				strings.Contains(a.Detail, "last night")
		}) {
			t.Errorf("the audit log does not say that it was settled: %v", err)
		}
	})
}

func TestAnOldCatalogStopsRunsUntilItKnowsTheRest(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "sqlite")
	scans(t, h)
	b := h.serve(t, nil)
	b.rule(t, reconciledRule)
	b.close()
	path := filepath.Join(h.dir, "catalog.db")
	old, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	b = h.serve(t, nil)
	before := h.words(t, h.allScans())
	for range 2 {
		if _, err := b.carry(t); err != nil {
			t.Fatal(err)
		}
	}
	b.close()
	for _, end := range []string{"-wal", "-shm"} {
		os.Remove(path + end)
	}
	if err := os.WriteFile(path, old, 0o644); err != nil {
		t.Fatal(err)
	}
	b = h.serve(t, nil)
	if _, err := b.carry(t); !errors.Is(err, refuse.ErrDisagree) {
		t.Fatalf("a run with an old catalog: %v", err)
	}
	x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
	if err != nil || x.Agree || len(x.Unknown) != 3 || x.SourceLink != 6 || x.CatalogLink != 0 || x.StoreLink != 6 {
		t.Fatalf("%+v, %v", x, err)
	}
	if x, err = b.Reconcile.Settle(t.Context(), "me", "harbour", "scan", "the catalog is from a backup"); err != nil ||
		!x.Agree {
		t.Fatalf("%+v, %v", x, err)
	}
	q, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{From: "2020-01-01"}, Target: "table"})
	if err == nil {
		err = b.Restores.Restore(t.Context(), q, t.TempDir())
	}
	if err != nil || h.words(t, h.allScans()) != before {
		t.Errorf("what the old catalog did not know did not come back: %v", err)
	}
}

// forgetful is a database that is out of reach for a moment, and then has lost its newest batch.
type forgetful struct {
	source.Source
	forget  func()
	batches int
}

func (x *forgetful) Unwrap() source.Source { return x.Source }

func (f *forgetful) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	if f.batches++; f.batches == 2 {
		f.forget()
		return nil, fmt.Errorf("%w: for the test", source.ErrUnreachable)
	}
	return f.Source.DeleteBatch(ctx, b)
}

func TestWhatAnswersAfterAnOutageMustKnowWhatWasCommitted(t *testing.T) {
	t.Parallel()
	everywhere(t, func(t *testing.T, h *harbour) {
		scans(t, h)
		journal := map[string]string{"postgres": "ambercellar.batch"}[h.engine]
		if journal == "" {
			journal = "ambercellar_batch"
		}
		f := &forgetful{forget: func() { h.exec(t, "DELETE FROM "+journal) }}
		b := h.serve(t, func(s source.Source) source.Source { f.Source = s; return f })
		b.rule(t, reconciledRule)
		_, err := b.carry(t)
		if !errors.Is(err, refuse.ErrDisagree) ||
			!strings.Contains(err.Error(),
				"batch 1 of slice 1 was committed before the outage, and what answers now does not know it") ||
			f.batches != 2 {
			t.Errorf("after %d batches: %v", f.batches, err)
		}
		f.forget, f.batches = func() {}, 0
		h.exec(t, "DROP TABLE "+strings.Replace(journal, "batch", "origin", 1))
		if x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan"); err != nil || x.Agree ||
			!strings.Contains(x.Differences[0], "no journal any more") {
			t.Errorf("%+v, %v", x, err)
		}
	})
}
