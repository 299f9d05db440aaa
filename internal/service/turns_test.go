package service

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
)

// begin starts a run of a rule.
func (n *nights) begin(t *testing.T, name string, turn ...catalog.RunTurn) *catalog.Run {
	t.Helper()
	p, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: name})
	if err != nil {
		t.Fatal(err)
	}
	r, err := n.Queue.StartRun(t.Context(), "me", p.ID, false, turn...)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// line writes the queue: position and rule of each.
func (n *nights) line() string {
	var out []string
	for _, x := range n.Queue.Line() {
		out = append(out, x.Run.Rule+" "+string(rune('0'+x.Position)))
	}
	return strings.Join(out, ", ")
}

func TestRunsTakeTheirTurns(t *testing.T) {
	t.Parallel()
	tables := []string{"a", "b", "c", "d"}
	n := openNights(t, tables...)
	for _, table := range tables {
		n.rows(t, table, 3000)
	}
	n.apply(t, "", tables...)
	for _, l := range []QueueLimits{{All: 0, Source: 1}, {All: 1, Source: 0}, {All: 1000, Source: 1},
		{All: 1, Source: 1, Exports: -1}} {
		var refused *refuse.Error
		if _, err := n.Queue.SetLimits(t.Context(), "me", l); !errors.As(err, &refused) {
			t.Errorf("%+v: %v", l, err)
		}
	}
	if _, err := n.Queue.SetLimits(t.Context(), "me", QueueLimits{All: 1, Source: 1}); err != nil {
		t.Fatal(err)
	}
	carefully := func(run *catalog.Run) {
		if _, err := n.Engine.Runs.SetPace(t.Context(), "me", run.ID, "careful"); err != nil {
			t.Fatal(err)
		}
	}
	a := n.begin(t, "a")
	carefully(a)
	b, c := n.begin(t, "b"), n.begin(t, "c", catalog.RunTurn{Priority: 5})
	later := catalog.At(n.Now().Add(time.Hour))
	d := n.begin(t, "d", catalog.RunTurn{StartAt: &later, Priority: 100})
	if got := n.line(); got != "a 0, d 1, c 2, b 3" {
		t.Errorf("the queue: %s", got)
	}
	if _, err := n.Queue.SetPriority(t.Context(), "me", b.ID, 50); err != nil {
		t.Fatal(err)
	}
	if got := n.line(); got != "a 0, d 1, b 2, c 3" {
		t.Errorf("the queue: %s", got)
	}
	// while they wait: one is paused, one cancelled, one watched, and the service is started anew
	if r, err := n.Queue.Pause(t.Context(), "me", c.ID); err != nil || r.State != catalog.Paused {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err := n.Queue.Resume(t.Context(), "me", c.ID); err != nil || r.State != catalog.Queued {
		t.Errorf("%+v, %v", r, err)
	}
	events, stop := n.Queue.Listen(b.ID)
	if e := <-events; e.State != catalog.Queued {
		t.Errorf("%+v", e)
	}
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	for range events { // ends
	}
	stop()
	n.start(t)
	if l := n.Queue.Limits(); l != (QueueLimits{All: 1, Source: 1, Restores: 2, Exports: 2, Disposals: 1,
		Verifications: 1, Moves: 1, Copies: 1, Audits: 1}) {
		t.Errorf("limits %+v", l)
	}
	if got := n.line(); got != "a 0, d 1, b 2, c 3" {
		t.Errorf("the queue after another start: %s", got)
	}
	if r, err := n.Queue.Cancel(t.Context(), "me", a.ID); err != nil || r.State != catalog.Cancelled {
		t.Errorf("%+v, %v", r, err)
	}
	b, c = n.ended(t, b.ID), n.ended(t, c.ID)
	if !b.StartedAt.Before(c.StartedAt.Time) || b.Deleted != 3000 || c.Deleted != 3000 {
		t.Errorf("%+v, %+v", b, c)
	}
	if got := n.line(); got != "d 1" {
		t.Errorf("the queue: %s", got)
	}
	if why := n.Queue.Line()[0].Why; !strings.HasPrefix(why, "it is to begin at ") {
		t.Errorf("it waits as %q", why)
	}
	n.offset.Add(int64(time.Hour))
	if d = n.ended(t, d.ID); d.Deleted != 3000 || d.StartedAt.Before(later.Time) {
		t.Errorf("%+v", d)
	}
	past, far := catalog.At(n.Now().Add(-time.Hour)), catalog.At(n.Now().Add(48*time.Hour))
	for _, turn := range []catalog.RunTurn{{StartAt: &past}, {StartAt: &far}, {Priority: 101}} {
		p, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "a"})
		if err != nil {
			t.Fatal(err)
		}
		var refused *refuse.Error
		if _, err := n.Queue.StartRun(t.Context(), "me", p.ID, false, turn); !errors.As(err, &refused) {
			t.Errorf("%+v: %v", turn, err)
		}
	}
}

func TestAFreezeStopsTheWork(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "quay")
	const rows = 120_000
	n.rows(t, "scan", rows)
	n.rows(t, "quay", 10)
	n.apply(t, "schedule: daily at 22:00\n", "scan", "quay")
	for _, f := range []catalog.Freeze{{}, {Reason: " "}, {Reason: "x", Table: "scan"},
		{Reason: "x", Source: "nowhere"}} {
		if _, err := n.Freezes.Freeze(t.Context(), "me", f); err == nil {
			t.Errorf("%+v is taken", f)
		}
	}
	r := n.begin(t, "scan")
	n.until(t, r.ID, "it deletes", 90*time.Second, func(r *catalog.Run) bool { return r.Deleted > 0 })
	table, err := n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Source: "harbour", Table: "scan",
		Reason: "the disk moves"})
	if err != nil {
		t.Fatal(err)
	}
	rested := n.until(t, r.ID, "it rests", 5*time.Second,
		func(r *catalog.Run) bool { return r.State == catalog.Resting })
	if !strings.Contains(rested.Reason, "the disk moves") {
		t.Errorf("it rests as %q", rested.Reason)
	}
	left := n.left(t, "scan")
	if left == 0 || left == rows {
		t.Fatalf("%d rows are left", left)
	}
	// a firing waits, one of another table does not, and all of that holds after another start
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		if n.left(t, "quay") == 0 {
			break
		}
		if time.Since(begun) > 10*time.Second {
			t.Fatal("the other table's firing waits too")
		}
	}
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	n.start(t)
	time.Sleep(3 * time.Second)
	now, err := n.Queue.Run(t.Context(), r.ID)
	if err != nil || now.State != catalog.Resting || n.left(t, "scan") != left {
		t.Errorf("%+v, %d of %d rows left, %v", now, n.left(t, "scan"), left, err)
	}
	all, err := n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Reason: "an audit"})
	if err != nil {
		t.Fatal(err)
	}
	var frozen *refuse.Frozen
	if _, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "quay"}); !errors.As(err, &frozen) {
		t.Errorf("a plan is made: %v", err)
	}
	if _, err := n.Queue.RequestRestore(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
		Table: "scan"}); err == nil {
		t.Error("a restore is taken")
	}
	n.offset.Add(int64(25 * time.Hour))
	if err := n.Findings.Look(t.Context()); err != nil {
		t.Fatal(err)
	}
	if list, err := n.Catalog.Findings(t.Context(), false, catalog.All); err != nil || len(list) < 2 {
		t.Errorf("%+v, %v", list, err)
	}
	for _, f := range []*catalog.Freeze{table, all} {
		lifted, err := n.Freezes.Lift(t.Context(), "me", f.ID, "done")
		if err != nil || lifted.LiftedAt == nil || lifted.LiftedBy != "me" || lifted.LiftReason != "done" {
			t.Errorf("%+v, %v", lifted, err)
		}
		if _, err := n.Freezes.Lift(t.Context(), "me", f.ID, "again"); !errors.Is(err, catalog.ErrState) {
			t.Errorf("lifted twice: %v", err)
		}
	}
	if now := n.ended(t, r.ID); now.State != catalog.Done || now.Deleted != rows || n.left(t, "scan") != 0 {
		t.Errorf("%+v", now)
	}
}

func TestAFreezeEndsByItself(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 10)
	n.apply(t, "", "scan")
	until := catalog.At(n.Now().Add(time.Hour))
	p, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scan"})
	if err != nil {
		t.Fatal(err)
	}
	f, err := n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Source: "harbour", Table: "scan", Reason: "x",
		Until: &until})
	if err != nil {
		t.Fatal(err)
	}
	r, err := n.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	if l := n.Queue.Line(); len(l) != 1 || l[0].Position != 1 || !strings.Contains(l[0].Why, "is frozen (x)") {
		t.Errorf("%+v", l)
	}
	n.offset.Add(int64(time.Hour + time.Second))
	n.ended(t, r.ID)
	for begun := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		list, err := n.Catalog.Freezes(t.Context(), true)
		if err != nil || len(list) != 1 || list[0].ID != f.ID {
			t.Fatalf("%+v, %v", list, err)
		}
		if list[0].LiftedAt != nil && list[0].LiftedBy == "service" {
			break
		}
		if time.Since(begun) > 40*time.Second {
			t.Fatalf("%+v", list[0])
		}
	}
}

// Whatever is done to the queue while runs work, in whatever order: in the end every row is accounted for, once.
func TestTheQueueUnderAttack(t *testing.T) {
	t.Parallel()
	tables := []string{"a", "b", "c", "d"}
	n := openNights(t, tables...)
	const rows = 20_000
	for _, table := range tables {
		n.rows(t, table, rows)
	}
	n.apply(t, "schedule: daily at 22:00\n", tables...)
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	random := rand.New(rand.NewPCG(22, 11))
	frozen := func(err error) {
		var f *refuse.Frozen
		var refused *refuse.Error
		if err != nil && !errors.As(err, &f) && !errors.As(err, &refused) && !errors.Is(err, catalog.ErrState) &&
			!errors.Is(err, catalog.ErrNotFound) && !errors.Is(err, catalog.ErrActive) {
			t.Error(err)
		}
	}
	for step := range 300 {
		n.tick(t)
		runs, err := n.Catalog.Runs(t.Context(), catalog.RunFilter{}, catalog.All)
		if err != nil {
			t.Fatal(err)
		}
		id := ""
		if len(runs) > 0 {
			id = runs[random.IntN(len(runs))].ID
		}
		switch random.IntN(9) {
		case 0:
			_, err = n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Reason: "attack"})
		case 1:
			_, err = n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Source: "harbour",
				Table: tables[random.IntN(len(tables))], Reason: "attack"})
		case 2, 3:
			var list []catalog.Freeze
			if list, err = n.Catalog.Freezes(t.Context(), false); err == nil {
				for _, f := range list {
					_, err = n.Freezes.Lift(t.Context(), "me", f.ID, "")
				}
			}
		case 4:
			_, err = n.Queue.Pause(t.Context(), "me", id)
		case 5, 6:
			_, err = n.Queue.Resume(t.Context(), "me", id)
		case 7:
			_, err = n.Queue.SetLimits(t.Context(), "me", QueueLimits{All: 1 + random.IntN(4),
				Source: 1 + random.IntN(4)})
		case 8:
			if step%40 == 0 {
				err = n.Close()
				n.start(t)
			}
		}
		frozen(err)
		time.Sleep(time.Duration(random.IntN(8)) * time.Millisecond)
	}
	list, err := n.Catalog.Freezes(t.Context(), false)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range list {
		if _, err := n.Freezes.Lift(t.Context(), "me", f.ID, "over"); err != nil {
			t.Fatal(err)
		}
	}
	for _, table := range tables {
		f := n.firings(t, table, 1)[0]
		if f.State != catalog.FiringStarted {
			t.Fatalf("%+v", f)
		}
		if _, err := n.Queue.Resume(t.Context(), "me", f.Run); err != nil {
			frozen(err)
		}
		r := n.ended(t, f.Run)
		if r.State != catalog.Done || r.Deleted != rows || n.left(t, table) != 0 {
			t.Errorf("table %s: %d of %d rows deleted, %d left, run %s: %s", table, r.Deleted, rows, n.left(t, table),
				r.State,
				r.Reason)
		}
		runs, err := n.Catalog.Runs(t.Context(), catalog.RunFilter{Rule: table}, catalog.All)
		if err != nil || len(runs) != 1 {
			t.Errorf("table %s has %d runs, %v", table, len(runs), err)
		}
	}
	if l := n.Queue.Line(); len(l) != 0 {
		t.Errorf("in the queue: %+v", l)
	}
}

// Ten thousand runs that wait keep neither the start, nor the queue, nor one that goes before them.
func TestTenThousandRunsWait(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 100)
	n.apply(t, "", "scan")
	later := catalog.At(n.Now().Add(time.Hour))
	first := n.begin(t, "scan", catalog.RunTurn{StartAt: &later})
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	const many = 10_000
	db, err := sql.Open("sqlite", "file:"+filepath.Join(n.dir, "data", "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	rows, err := db.Query("SELECT name FROM pragma_table_info('run')")
	if err != nil {
		t.Fatal(err)
	}
	var columns, values []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		columns = append(columns, name)
		switch name {
		case "id", "table_name", "rule":
			name += " || g"
		case "start_at":
			name = "NULL"
		}
		values = append(values, name)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(fmt.Sprintf(
		"INSERT INTO run (%s) WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s "+
			"WHERE g < %d) SELECT %s FROM run, s", strings.Join(columns, ", "), many,
		strings.Join(values, ", "))); err != nil {
		t.Fatal(err)
	}
	// All of them wait for a freeze, but for the one whose turn comes later.
	if _, err := db.Exec(
		`INSERT INTO freeze (id, source, table_name, reason, placed_at, placed_by) SELECT 'f' || id, source,
		table_name, 'an audit', created_at, 'me' FROM run WHERE start_at IS NULL LIMIT 50`); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE run SET start_at = (SELECT start_at FROM run WHERE id = ?) WHERE start_at IS "+
		"NULL AND "+
		"table_name NOT IN (SELECT table_name FROM freeze)", first.ID); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	n.start(t)
	if line := n.Queue.Line(); len(line) != many+1 {
		t.Errorf("%d runs wait", len(line))
	}
	if _, err := n.Queue.SetPriority(t.Context(), "me", first.ID, 100); err != nil {
		t.Fatal(err)
	}
	if r, err := n.Queue.Cancel(t.Context(), "me", first.ID); err != nil || r.State != catalog.Cancelled {
		t.Errorf("%+v, %v", r, err)
	}
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	n.start(t)
	if took := time.Since(begun); took > time.Minute { // each looked at all others once
		t.Errorf("it took %s", took)
	}
}
