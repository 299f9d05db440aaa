package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/source"
)

// A column that was renamed is one column: rows from before are found by the name that it has now, once that is told;
// before, a search says which segments it did not understand, and nothing is certified of them.
func TestARenamedColumnIsOneColumn(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar}
			b.rule(t, s.rule)
			archived := func(before time.Time) {
				t.Helper()
				b.archived(t, before)
			}
			archived(time.Date(2020, 1, 3, 0, 0, 0, 0, time.UTC))
			h.exec(t, "ALTER TABLE scan RENAME COLUMN note TO remark")
			archived(time.Time{})
			find := func(where string) (*search.Searched, error) {
				return b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan",
					Where: where, Columns: []string{"id"}}, func([]shape.Column) error { return nil },
					func(search.Hit) error { return nil })
			}
			all, err := find("")
			if err != nil || all.Segments < 2 {
				t.Fatalf("all: %+v, %v", all, err)
			}
			if engine != "postgres" { // which knows its columns by number
				some, err := find("remark = 'note'")
				if err != nil || some.Found == 0 || some.Found >= all.Found || len(some.Lacking) != 1 ||
					some.Lacking[0].Column != "remark" || some.Lacking[0].Rows != all.Found-some.Found {
					t.Fatalf("by the new name, of %d rows: %+v, %v", all.Found, some, err)
				}
				d, err := b.Disposals.PlanErasure(t.Context(), "me", dispose.ErasureRequest{Source: "harbour",
					Table: "scan", Where: "remark = 'note' AND id < 60"})
				if err != nil || len(d.Stays.V) != len(some.Lacking[0].Segments) ||
					!strings.Contains(d.Stays.V[0].Reason, "nobody can tell whether it holds such rows") {
					t.Fatalf("an erasure by the new name: %+v, %v", d, err)
				}
			}
			tell := func(name, was string) error {
				_, err := b.Search.TellName(t.Context(), "me", catalog.FormerName{Source: "harbour", Table: "scan",
					Name: name, Was: was})
				return err
			}
			var refused *refuse.Error
			if err := tell("remark", "nota"); !errors.As(err, &refused) || !strings.Contains(refused.Remedy, "note") {
				t.Errorf("a name that no column has had: %v", err)
			}
			if err := tell("remark", "note"); err != nil {
				t.Fatal(err)
			}
			if err := tell("note", "remark"); !errors.As(err, &refused) {
				t.Errorf("a circle of names: %v", err)
			}
			if err := tell("remark", ""); !errors.As(err, &refused) {
				t.Errorf("renamed, and added: %v", err)
			}
			if got, err := find("remark = 'note'"); err != nil || got.Found != all.Found || len(got.Lacking) != 0 {
				t.Errorf("by the new name, told: %+v, %v", got, err)
			}
			if _, err := find("note = 'note'"); err == nil {
				t.Error("the old name still finds a part of the rows")
			}
			sum, err := b.Search.Summarise(t.Context(), search.SummaryRequest{Source: "harbour", Table: "scan",
				GroupBy: []string{"remark"}, Of: []search.Measure{{Of: "count"}}})
			if err != nil || len(sum.Groups) != 1 || *sum.Groups[0][1] != fmt.Sprint(all.Found) {
				t.Errorf("counted by it: %+v, %v", sum, err)
			}
			r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
				Scope: catalog.Scope{Where: "remark = 'note' AND id < 60"}, Target: catalog.TargetTable})
			if err == nil {
				err = b.Restores.Restore(t.Context(), r, t.TempDir())
			}
			if err != nil || r.Restored != 59 ||
				h.count(t, "SELECT count(*) FROM scan WHERE id < 60 AND remark = 'note'") != 59 {
				t.Errorf("restored by it: %+v, %v", r, err)
			}
			d, err := b.Disposals.PlanErasure(t.Context(), "me", dispose.ErasureRequest{Source: "harbour",
				Table: "scan", Where: "remark = 'note' AND id < 60"})
			if err != nil || len(d.Stays.V) != 0 || len(d.Items.V) == 0 {
				t.Errorf("an erasure by it: %+v, %v", d, err)
			}

			// Another column takes the old name, and a third comes: neither is the renamed one.
			h.exec(t, "ALTER TABLE scan ADD note varchar(40)", "ALTER TABLE scan ADD gate varchar(10)",
				"UPDATE scan SET note = 'new', gate = 'north' WHERE id < 60")
			if err := tell("gate", ""); err != nil {
				t.Errorf("a column that no segment has yet: %v", err)
			}
			names, err := b.Catalog.ColumnNames(t.Context(), "harbour", "scan")
			if err != nil {
				t.Fatal(err)
			}
			now := names.Now("", []shape.Column{{Name: "id"}, {Name: "remark"}, {Name: "note"}})
			if now[1].Name != "remark" || now[2].Name != "note" {
				t.Errorf("beside a column of the new name, the old one is %v", now)
			}
		})
	}
}

// archived makes a plan and runs it to its end.
func (b *bench) archived(t *testing.T, before time.Time) {
	t.Helper()
	p, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "matrix", Before: before, Confirm: true})
	if err != nil {
		t.Fatal(err)
	}
	r, err := b.Plans.Start(t.Context(), "me", p.ID, false)
	if err == nil {
		r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
	}
	if err == nil {
		err = b.Runs.Run(t.Context(), r)
	}
	if err == nil {
		_, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Done, "")
	}
	if err != nil {
		t.Fatal(err)
	}
}

// The database knows a column by its number, whatever it is called: nobody has to tell that it was renamed, and
// neither a swap of names nor another column that takes one is mistaken.
func TestTheDatabaseKnowsItsColumns(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "postgres")
	h.exec(t, "CREATE TABLE scan (id integer PRIMARY KEY, at timestamp NOT NULL, gate varchar(20), deck "+
		"varchar(20), old varchar(20), seat integer)",
		"INSERT INTO scan SELECT g, timestamp '2020-01-01' + g * interval '1 day', 'gate', 'deck', 'old', g FROM "+
			"generate_series(1, 9) g")
	b := h.serve(t, nil)
	b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2021-01-01", "archive")+cellar)
	b.archived(t, time.Date(2020, 1, 5, 0, 0, 0, 0, time.UTC))
	find := func(where string, want int64) {
		t.Helper()
		got, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan", Where: where,
			Columns: []string{"id"}}, func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
		if err != nil || got.Found != want || len(got.Lacking) > 0 {
			t.Errorf("%s: %+v, %v; want %d rows", where, got, err, want)
		}
	}
	find("gate = 'gate' AND old = 'old'", 3)
	h.exec(t, "ALTER TABLE scan RENAME COLUMN gate TO door")
	find("door = 'gate'", 3) // nothing has looked at the table since
	h.exec(t, "ALTER TABLE scan RENAME COLUMN door TO swap", "ALTER TABLE scan RENAME COLUMN deck TO door",
		"ALTER TABLE scan RENAME COLUMN swap TO deck",
		"ALTER TABLE scan DROP COLUMN old", "ALTER TABLE scan RENAME COLUMN seat TO old",
		"ALTER TABLE scan ADD berth integer")
	b.archived(t, time.Time{})
	find("door = 'deck' AND deck = 'gate'", 9)
	find("old = id", 9)
	find("berth IS NULL", 9) // it was added, as its number tells
	names, err := b.Search.ColumnNames(t.Context(), "harbour", "scan")
	if said := fmt.Sprint(names); err != nil || !strings.Contains(said, "deck gate") ||
		!strings.Contains(said, "door deck") || !strings.Contains(said, "old seat") ||
		strings.Contains(said, "berth") {
		t.Errorf("%v, %v", names, err)
	}
	r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{Where: "id > 0"}, Target: catalog.TargetSide, TargetTable: "aside"})
	if err == nil {
		err = b.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if err != nil || r.Restored != 9 ||
		h.count(t, `SELECT count(*) FROM aside WHERE door = 'deck' AND deck = 'gate' AND old = id AND ("old `+
			`(dropped)" IS NULL) = (id > 3) AND berth IS NULL`) != 9 {
		t.Errorf("a side table: %+v, %v", r, err)
	}
	var refused *refuse.Error
	into := restore.RestoreRequest{Source: "harbour", Table: "scan", Scope: catalog.Scope{Where: "id > 3"},
		Target: catalog.TargetTable}
	if _, err = b.Restores.Request(t.Context(), "me", into); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), `column "old" of the archived rows was dropped`) {
		t.Errorf("a column that is not there: %v", err)
	}
	into.Fit = catalog.Fit{LeaveOut: []string{"old (dropped)"}}
	r, err = b.Restores.Request(t.Context(), "me", into)
	if err == nil {
		err = b.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if err != nil || r.Restored != 6 ||
		h.count(t, "SELECT count(*) FROM scan WHERE door = 'deck' AND deck = 'gate' AND old = id") != 6 {
		t.Errorf("the table: %+v, %v", r, err)
	}
	// whose numbers are others
	h.exec(t, "CREATE TABLE again AS SELECT * FROM scan", "DROP TABLE scan", "ALTER TABLE again RENAME TO scan")
	h.exec(t, "ALTER TABLE scan ADD PRIMARY KEY (id)")
	find("door = 'deck' AND deck = 'gate'", 9)
	if _, err := b.Search.ColumnNames(t.Context(), "harbour", "scan"); err != nil { // the table is looked at
		t.Fatal(err)
	}
	h.exec(t, "ALTER TABLE scan RENAME COLUMN door TO hatch")
	find("hatch = 'deck' AND deck = 'gate'", 9)
}

// A database that was turned back gives a number to another column than before. Nothing is concluded from its numbers
// until somebody has settled that it is the one that the catalog knows, and then nothing about what was archived
// before.
func TestNumbersOfADatabaseThatWasTurnedBack(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "postgres")
	h.exec(t, "CREATE TABLE scan (id integer PRIMARY KEY, at timestamp NOT NULL, gate varchar(20))",
		"INSERT INTO scan SELECT g, timestamp '2020-01-01' + g * interval '1 day', 'gate' FROM "+
			"generate_series(1, 9) g")
	b := h.serve(t, nil)
	b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2021-01-01", "archive")+cellar)
	b.archived(t, time.Date(2020, 1, 3, 0, 0, 0, 0, time.UTC))
	at := h.count(t, "SELECT epoch FROM ambercellar.lease WHERE table_name = 'scan'")
	h.exec(t, "ALTER TABLE scan ADD seat varchar(20)", "UPDATE scan SET seat = 'seat'")
	b.archived(t, time.Date(2020, 1, 6, 0, 0, 0, 0, time.UTC))
	// As it was before the column was added, and then another was.
	h.exec(t, "ALTER TABLE scan RENAME COLUMN seat TO berth",
		fmt.Sprintf("UPDATE ambercellar.lease SET epoch = %d WHERE table_name = 'scan'", at))
	find := func(where string, want int64, lacking int) {
		t.Helper()
		got, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan", Where: where,
			Columns: []string{"id"}}, func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
		if err != nil || got.Found != want || len(got.Lacking) != lacking {
			t.Errorf("%s: %+v, %v; want %d rows", where, got, err, want)
		}
	}
	names := func() {
		t.Helper()
		if list, err := b.Search.ColumnNames(t.Context(), "harbour", "scan"); err != nil || len(list) != 0 {
			t.Errorf("seen: %v, %v", list, err)
		}
	}
	names()
	find("seat = 'seat'", 3, 0)
	if _, err := b.Reconcile.Settle(t.Context(), "me", "harbour", "scan", "it was turned back"); err != nil {
		t.Fatal(err)
	}
	names()
	find("seat = 'seat'", 3, 0)
	b.archived(t, time.Time{})
	names()
	find("seat = 'seat'", 3, 1)
	find("berth = 'seat'", 5, 1)
}

// A side table has the columns of all segments that go into it, under the names that they have now; what does not go
// together is refused before a table is made.
func TestASideTableTakesRowsFromBeforeAndAfter(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			b := h.serve(t, nil)
			b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive")+cellar+"mask:\n  note: hash\n")
			b.archived(t, time.Date(2020, 1, 2, 0, 0, 0, 0, time.UTC))
			h.exec(t, "ALTER TABLE scan RENAME COLUMN note TO remark", "ALTER TABLE scan ADD gate integer")
			b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive")+cellar)
			b.archived(t, time.Date(2020, 1, 3, 0, 0, 0, 0, time.UTC))
			if _, err := b.Search.TellName(t.Context(), "me", catalog.FormerName{Source: "harbour", Table: "scan",
				Name: "remark", Was: "note"}); err != nil {
				t.Fatal(err)
			}
			tables := 0
			into := func(where string) (*catalog.Restore, string, error) {
				tables++
				name := fmt.Sprintf("aside_%d", tables)
				r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
					Table: "scan", Scope: catalog.Scope{Where: where}, Target: catalog.TargetSide, TargetTable: name})
				if err == nil {
					err = b.Restores.Restore(t.Context(), r, t.TempDir())
				}
				return r, name, err
			}
			all, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan"},
				func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
			if err != nil || all.Segments < 2 {
				t.Fatalf("%+v, %v", all, err)
			}
			r, name, err := into("id > 0")
			if err != nil || r.Restored != all.Found {
				t.Fatalf("%+v, %v", r, err)
			}
			plain := h.count(t, "SELECT count(*) FROM "+name+" WHERE remark = 'note' AND gate IS NULL")
			if hashed := h.count(t, "SELECT count(*) FROM "+name+" WHERE length(remark) = 64"); plain == 0 ||
				hashed == 0 || int64(plain+hashed) != all.Found {
				t.Errorf("%d rows as they were and %d hashes, of %d", plain, hashed, all.Found)
			}
			if engine == "sqlite" {
				return // a column keeps its type there
			}
			h.exec(t, map[string]string{"postgres": "ALTER TABLE scan ALTER gate TYPE varchar(20)",
				"mariadb": "ALTER TABLE scan MODIFY gate varchar(20)"}[engine])
			b.archived(t, time.Time{})
			var refused *refuse.Error
			if _, name, err = into("id > 0"); !errors.As(err, &refused) ||
				!strings.Contains(err.Error(), `column "gate" of scan is of type integer`) &&
					!strings.Contains(err.Error(), `column "gate" of scan is of type int`) {
				t.Errorf("two types: %v", err)
			}
			src, err := b.Source(t.Context(), "harbour")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := src.Table(t.Context(), name); err == nil {
				t.Error("the side table was made")
			}
		})
	}
}

// A side table that an interrupted restore has made keeps its names, whatever is told of its columns before the
// restore goes on.
func TestASideTableKeepsItsNamesWhileItIsFilled(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "sqlite")
	scans(t, h)
	b := h.serve(t, nil)
	b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive")+cellar)
	b.archived(t, time.Date(2020, 1, 3, 0, 0, 0, 0, time.UTC))
	h.exec(t, "ALTER TABLE scan RENAME COLUMN note TO remark")
	b.archived(t, time.Time{})
	tell := func(name, was string) {
		t.Helper()
		if _, err := b.Search.TellName(t.Context(), "me", catalog.FormerName{Source: "harbour", Table: "scan",
			Name: name, Was: was}); err != nil {
			t.Fatal(err)
		}
	}
	tell("remark", "note")
	r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{All: true}, Target: catalog.TargetSide, TargetTable: "aside"})
	if err != nil {
		t.Fatal(err)
	}
	inner := mustSource(t, b)
	ctx, stop := context.WithCancelCause(t.Context())
	b.Source = func(context.Context, string) (source.Source, error) {
		return &halting{Source: inner, left: 1, after: true, end: stop}, nil
	}
	if err := b.Restores.Restore(ctx, r, t.TempDir()); !errors.Is(err, refuse.ErrShutdown) {
		t.Fatalf("it was not stopped: %v", err)
	}
	b.Source = func(context.Context, string) (source.Source, error) { return inner, nil }
	tell("comment", "remark")
	all, err := b.Search.Search(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan"},
		func([]shape.Column) error { return nil }, func(search.Hit) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	if r, err = b.Catalog.Restore(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	if err := b.Restores.Restore(t.Context(), r, t.TempDir()); err != nil || r.Restored != all.Found ||
		h.count(t, "SELECT count(*) FROM aside WHERE remark = 'note'") != all.Found {
		t.Errorf("%d of %d rows, %v", r.Restored, all.Found, err)
	}
}

// A restore into a side table that failed in the midst can be asked for again, into the table that it made; nobody
// else's table is taken.
func TestASideTableThatWasLeftIsGoneOnWith(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "sqlite")
	scans(t, h)
	b := h.serve(t, nil)
	b.rule(t, fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive")+cellar)
	b.archived(t, time.Date(2020, 1, 3, 0, 0, 0, 0, time.UTC))
	b.archived(t, time.Time{})
	ask := restore.RestoreRequest{Source: "harbour", Table: "scan", Scope: catalog.Scope{All: true},
		Target: catalog.TargetSide, TargetTable: "aside"}
	r, err := b.Restores.Request(t.Context(), "me", ask)
	if err != nil {
		t.Fatal(err)
	}
	inner := mustSource(t, b)
	b.Source = func(context.Context, string) (source.Source, error) {
		return &fewRestores{Source: inner, left: 1},
			nil
	}
	if err := b.Restores.Restore(t.Context(), r, t.TempDir()); err == nil || r.State != catalog.RestoreFailed {
		t.Fatalf("it did not fail: %+v, %v", r, err)
	}
	b.Source = func(context.Context, string) (source.Source, error) { return inner, nil }
	there := h.count(t, "SELECT count(*) FROM aside")
	if r, err = b.Restores.Request(t.Context(), "me", ask); err == nil {
		err = b.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if all := h.count(t, "SELECT count(*) FROM aside"); err != nil || there == 0 || r.Skipped != there || r.Restored+
		r.Skipped != all || all != 119 {
		t.Errorf("%d rows were there, and %d are, %+v, %v", there, all, r, err)
	}
	var refused *refuse.Error
	// another one, and one that somebody has made in the place of ours
	for _, theirs := range []string{"theirs", "aside"} {
		h.exec(t, "DROP TABLE IF EXISTS "+theirs, fmt.Sprintf("CREATE TABLE %s (id integer PRIMARY KEY, name text)",
			theirs))
		ask.TargetTable = theirs
		if _, err := b.Restores.Request(t.Context(), "me", ask); !errors.As(err, &refused) ||
			!strings.Contains(err.Error(), "has a table "+theirs+" already") {
			t.Errorf("somebody else's table: %v", err)
		}
	}
}

// fewRestores is a database that takes so many batches of restored rows, and no more.
type fewRestores struct {
	source.Source
	left int
}

func (x *fewRestores) Unwrap() source.Source { return x.Source }

func (f *fewRestores) Restore(ctx context.Context, q source.RestoreRequest) (*source.RestoreOutcome, error) {
	if f.left--; f.left < 0 {
		return nil, errors.New("a fault")
	}
	return f.Source.Restore(ctx, q)
}
