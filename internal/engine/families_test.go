package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
)

// brittle is a source that breaks at one of its steps, before it or after it, and then works again.
type brittle struct {
	source.Source
	source.Families
	mu    sync.Mutex
	steps int // done so far
	at    int // the one that breaks; 0: none
	after bool
}

var errBroken = fmt.Errorf("the service was stopped here: %w", source.ErrAltered) // which is not tried again

func (b *brittle) step(fn func() error) error {
	b.mu.Lock()
	b.steps++
	breaks := b.steps == b.at
	b.mu.Unlock()
	if breaks && !b.after {
		return errBroken
	}
	if err := fn(); err != nil {
		return err
	}
	if breaks {
		return errBroken
	}
	return nil
}

func (b *brittle) DeleteFamilies(ctx context.Context, batch source.Batch) (rows []*source.JournalRow, err error) {
	err = b.step(func() (err error) { rows, err = b.Families.DeleteFamilies(ctx, batch); return err })
	return rows, err
}

func (b *brittle) SetHead(ctx context.Context, table string, h source.Head) error {
	return b.step(func() error { return b.Source.SetHead(ctx, table, h) })
}

func (b *brittle) PruneJournal(ctx context.Context, run string, segment int) error {
	return b.step(func() error { return b.Source.PruneJournal(ctx, run, segment) })
}

func (b *brittle) Journal(ctx context.Context, run string, segment int) (rows []source.JournalRow, err error) {
	err = b.step(func() (err error) { rows, err = b.Source.Journal(ctx, run, segment); return err })
	return rows, err
}

const trips = 60

// withTrips makes trips, each with two legs of three boardings and a remark, all of them due, and a rule for them.
func withTrips(t *testing.T, then, related string) (*bench, *brittle) {
	t.Helper()
	b := newBench(t, "wal")
	if _, err := b.db.Exec(fmt.Sprintf(`PRAGMA foreign_keys = on;
		CREATE TABLE trip (id integer PRIMARY KEY, at datetime NOT NULL, name text); CREATE INDEX trip_at ON trip (at);
		CREATE TABLE leg (id integer PRIMARY KEY, trip integer NOT NULL REFERENCES trip (id) ON DELETE CASCADE,
			pier text); CREATE INDEX leg_trip ON leg (trip);
		CREATE TABLE boarding (id integer PRIMARY KEY, leg integer NOT NULL REFERENCES leg (id), seat text);
			CREATE INDEX boarding_leg ON boarding (leg);
		CREATE TABLE remark (id integer PRIMARY KEY, trip integer REFERENCES trip (id), body text);
			CREATE INDEX remark_trip ON remark (trip);
		WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) INSERT INTO trip SELECT g,
			datetime('2020-01-01', '+' || g || ' hours'), 'trip ' || g FROM s;
		INSERT INTO leg SELECT 2 * id - 1, id, 'north' FROM trip UNION ALL SELECT 2 * id, id, 'south' FROM trip;
		INSERT INTO boarding SELECT 3 * id - 2, id, 'a' FROM leg UNION ALL SELECT 3 * id - 1, id, 'b' FROM leg
			UNION ALL SELECT 3 * id, id, 'c' FROM leg;
		INSERT INTO remark SELECT id, id, 'calm' FROM trip`, trips)); err != nil {
		t.Fatal(err)
	}
	src, _ := b.Source(t.Context(), "harbour")
	broken := &brittle{Source: src, Families: source.FamiliesOf(src)}
	b.Engine.Source = func(context.Context, string) (source.Source, error) { return broken, nil }
	b.rule(t, "rule: trips\nsource: harbour\ntable: trip\nage: at\nzone: UTC\nrelated:"+related+
		"\nclauses:\n  - keep: P1Y\nthen: "+then+"\narchive: {store: cellar}\n")
	return b, broken
}

func (b *bench) rule(t *testing.T, text string) {
	t.Helper()
	if _, _, err := b.Plans.ApplyRules(t.Context(), "me", "r", []byte(text), ""); err != nil {
		t.Fatal(err)
	}
}

const everyWay = "\n  - table: leg\n    then: archive\n    related:\n      - {table: boarding, then: archive}\n  - " +
	"{table: remark, then: unlink}"

func (b *bench) startTrips(t *testing.T) *catalog.Run {
	t.Helper()
	return b.begin(t, b.plan(t, plan.PlanRequest{Rule: "trips", Exact: true}))
}

// counted counts trips, legs, boardings, remarks, and the remarks that refer to a trip.
func (b *bench) counted(t *testing.T) string {
	t.Helper()
	var n [5]int
	if err := b.db.QueryRow("SELECT (SELECT count(*) FROM trip), (SELECT count(*) FROM leg), (SELECT count(*) FROM "+
		"boarding), (SELECT count(*) FROM remark), (SELECT count(trip) FROM remark)").Scan(&n[0], &n[1], &n[2], &n[3],
		&n[4]); err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(n)
}

// ledgers writes what became of the rows of each table: copied, deleted, unlinked, left out for other reasons.
func ledgers(t *testing.T, r *catalog.Run) string {
	t.Helper()
	line := func(name string, l catalog.Ledger) string {
		if l.Balanced == nil || !*l.Balanced {
			t.Errorf("the ledger of %s does not balance: %+v", name, l)
		}
		return fmt.Sprintf("%s %d %d %d %d", name, l.Copied, l.Deleted, l.Unlinked, l.LeftOut()-l.Unlinked)
	}
	out := []string{line("trip", r.Ledger)}
	for _, p := range r.Passes.V {
		for _, x := range p.Related {
			out = append(out, line(x.Table, x.Ledger))
		}
	}
	return strings.Join(out, ", ")
}

func TestFamiliesGoAndComeBackTogether(t *testing.T) {
	t.Parallel()
	b, _ := withTrips(t, "archive", everyWay)
	p, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "trips", Exact: true})
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"leg trip trip = id archive 120", "remark trip trip = id unlink 60",
		"boarding leg leg = id archive 360"} {
		x := p.Detail.V.Related[i]
		if got := fmt.Sprint(x.Table, " ", x.Above, " ", x.On, " ", x.Then, " ", x.Rows); got != want {
			t.Errorf("planned: %s, want %s", got, want)
		}
	}
	r := b.startTrips(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if got := b.counted(t); got != "[0 0 0 60 0]" {
		t.Errorf("left: %s", got)
	}
	if got := ledgers(t, r); got != "trip 60 60 0 0, leg 120 120 0 0, remark 60 0 60 0, boarding 360 360 0 0" {
		t.Errorf("ledgers: %s", got)
	}
	restored := func(q restore.RestoreRequest) *catalog.Restore {
		t.Helper()
		q.Target = "table"
		x, err := b.Restores.Request(t.Context(), "me", q)
		if err == nil {
			err = b.Restores.Restore(t.Context(), x, t.TempDir())
		}
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	some := restored(restore.RestoreRequest{Source: "harbour", Table: "trip",
		Scope: catalog.Scope{From: "2020-01-01T05:00:00", To: "2020-01-01T08:00:00"}})
	if got := b.counted(t); some.Restored != 3+6+18 || got != "[3 6 18 60 0]" {
		t.Errorf("three trips came back as %d rows: %s", some.Restored, got)
	}
	// Two more for a time: they go again with all that came with them, the rows that refer to others first.
	timed := restored(restore.RestoreRequest{Source: "harbour", Table: "trip",
		Scope: catalog.Scope{From: "2020-01-01T10:00:00", To: "2020-01-01T12:00:00"}, For: "P1D"})
	if got := b.counted(t); timed.Restored != 2+4+12 || got != "[5 10 30 60 0]" {
		t.Errorf("two trips came back as %d rows: %s", timed.Restored, got)
	}
	b.now = b.now.AddDate(0, 0, 2)
	if err := b.Restores.TakeBack(t.Context(), timed); err != nil {
		t.Fatal(err)
	}
	if got := b.counted(t); timed.TakenBack != 18 || timed.Stayed != 0 || got != "[3 6 18 60 0]" {
		t.Errorf("of two trips %d rows went again: %s", timed.TakenBack, got)
	}
	all := restored(restore.RestoreRequest{Scope: catalog.Scope{Run: r.ID}})
	if got := b.counted(t); all.Restored != 540-27 || all.Skipped != 27 || got != "[60 120 360 60 0]" {
		t.Errorf("the run came back as %d rows, %d skipped: %s", all.Restored, all.Skipped, got)
	}
	if p, err = b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "trips", Exact: true}); err != nil ||
		p.Counts.V.Due != 0 || p.Counts.V.Restored != trips {
		t.Errorf("restored families are due again: %+v, %v", p.Counts.V, err)
	}
}

// TestFamiliesOutliveEveryStep breaks a run at each of its steps, before it and after it, takes it up again, and
// counts.
func TestFamiliesOutliveEveryStep(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		then, related string
		ledgers       []string
	}{
		{"archive", everyWay, []string{"trip 60 60 0 0", "remark 60 0 60 0", " 120 0 ", " 360 0 "}},
		{"purge", strings.Replace(everyWay, "{table: boarding, then: archive}", "{table: boarding, then: purge}", 1),
			[]string{"trip 60 60 0 0", "remark 60 0 60 0", " 120 0 ", "boarding 360 360 0 0"}},
	} {
		for at := 1; ; at++ {
			b, s := withTrips(t, c.then, c.related)
			b.Runs.FamilyRows = 30
			r := b.startTrips(t)
			s.steps, s.at, s.after = 0, at, at%2 == 0
			err := b.Runs.Run(t.Context(), r)
			broken := errors.Is(err, errBroken)
			if broken {
				s.at = 0
				if r, err = b.Catalog.Run(t.Context(), r.ID); err == nil {
					err = b.Runs.Run(t.Context(), r)
				}
			}
			if err != nil {
				t.Fatalf("%s, broken at step %d: %v", c.then, at, err)
			}
			if got := b.counted(t); got != "[0 0 0 60 0]" {
				t.Errorf("%s, broken at step %d: left %s", c.then, at, got)
			}
			got := ledgers(t, r)
			// a segment of related rows whose parents were not proven yet is copied again
			for _, want := range c.ledgers {
				if !strings.Contains(got, want) {
					t.Errorf("%s, broken at step %d: ledgers %s", c.then, at, got)
				}
			}
			if !broken {
				t.Logf("%s: %d steps", c.then, at-1)
				break
			}
		}
	}
}

func TestCopiedFamiliesAreDeletedByASecondDecision(t *testing.T) {
	t.Parallel()
	b, s := withTrips(t, "copy", strings.Replace(everyWay, "{table: boarding, then: archive}",
		"{table: boarding, then: purge}", 1))
	b.Runs.FamilyRows = 25
	r := b.startTrips(t)
	if err := b.Runs.Run(t.Context(), r); !errors.Is(err, refuse.ErrCopied) {
		t.Fatalf("a run that copies ended with %v", err)
	}
	if got := b.counted(t); got != "[60 120 360 60 60]" {
		t.Errorf("copying took rows: %s", got)
	}
	// Between the copy and the decision, a leg comes, another changes, and a trip loses one.
	for _, statement := range []string{"INSERT INTO leg VALUES (900, 7, 'late')",
		"UPDATE leg SET pier = 'west' WHERE id = 40", "DELETE FROM boarding WHERE leg = 61",
		"DELETE FROM leg WHERE id = 61"} {
		if _, err := b.db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	r, err := b.Catalog.Run(t.Context(), r.ID)
	if err != nil {
		t.Fatal(err)
	}
	r.Deleting = true
	s.steps, s.at = 0, 9
	if err := b.Runs.Run(t.Context(), r); !errors.Is(err, errBroken) {
		t.Fatalf("the deleting was to break: %v", err)
	}
	s.at = 0
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if got := b.counted(t); got != "[2 5 12 60 2]" { // trips 7 and 20 stay whole, 7 with its new leg
		t.Errorf("left: %s", got)
	}
	if got := ledgers(t, r); !strings.HasPrefix(got, "trip 60 58 0 2, leg 120 115 0 5, ") {
		t.Errorf("ledgers: %s", got)
	}
}

func TestARelatedRowKeepsItsFamilyByItsOwnRuleOrAHold(t *testing.T) {
	t.Parallel()
	b, _ := withTrips(t, "archive", everyWay)
	b.rule(t, "rule: legs\nsource: harbour\ntable: leg\nage: {column: id, unit: seconds}\nclauses:\n  - keep: "+
		"forever\n    where: id <= 4\nthen: archive\narchive: {store: cellar}\nrelated: [{table: boarding, then: "+
		"archive}]\n")
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "boarding",
		Where: "leg = 20", Reference: "R 1", Reason: "a claim"}); err != nil {
		t.Fatal(err)
	}
	p, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "trips", Exact: true})
	if err != nil {
		t.Fatal(err)
	}
	if c := p.Counts.V; c.Due != 57 || c.Held != 3 || !p.Detail.V.Related[0].Keeps ||
		p.Detail.V.Related[2].Rows != 57*6 {
		t.Errorf("planned: %+v, %+v", c, p.Detail.V.Related)
	}
	r := b.startTrips(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if got := b.counted(t); got != "[3 6 18 60 3]" {
		t.Errorf("left: %s", got)
	}
}

func TestTwoRunsOverOneTableTakeTurns(t *testing.T) {
	t.Parallel()
	b, _ := withTrips(t, "archive", everyWay)
	release, err := b.Tables.Claim(t.Context(), "harbour", []string{"leg", "leg"})
	if err != nil {
		t.Fatal(err)
	}
	r := b.startTrips(t)
	ctx, cancel := context.WithCancelCause(t.Context())
	done := make(chan error)
	go func() { done <- b.Runs.Run(ctx, r) }()
	select {
	case err := <-done:
		t.Fatalf("the run did not wait for the table: %v", err)
	case <-time.After(100 * time.Millisecond):
	}
	release()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	cancel(nil)
}
