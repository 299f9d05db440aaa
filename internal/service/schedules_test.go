package service

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/source"
)

// nights is a service on a clock that is moved, with tables of aged rows in one SQLite source.
type nights struct {
	*Service
	dir    string
	offset atomic.Int64 // of the service's clock, in nanoseconds
}

// openNights begins on an evening, five minutes before 22:00.
func openNights(t *testing.T, tables ...string) *nights {
	t.Helper()
	n := &nights{dir: t.TempDir()}
	n.set(time.Date(2026, 11, 30, 21, 55, 0, 0, time.UTC))
	db := n.db(t)
	for _, table := range tables {
		if _, err := db.Exec(fmt.Sprintf(`CREATE TABLE %s (id integer PRIMARY KEY, at datetime NOT NULL);
			CREATE INDEX %[1]s_at ON %[1]s (at)`, table)); err != nil {
			t.Fatal(err)
		}
	}
	n.start(t)
	if _, err := n.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite",
		Address: filepath.Join(n.dir, "harbour.db")}); err != nil {
		t.Fatal(err)
	}
	return n
}

func (n *nights) db(t *testing.T) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(n.dir, "harbour.db")+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// start starts the service, or starts it again.
func (n *nights) start(t *testing.T) {
	t.Helper()
	n.Service, _ = open(t, filepath.Join(n.dir, "data"), func(s *Service) {
		s.Now = func() time.Time { return time.Now().Add(time.Duration(n.offset.Load())) }
		s.Engine.Plans.Skew = 0
	})
}

func (n *nights) set(at time.Time) { n.offset.Store(int64(time.Until(at))) }

// rows adds aged rows to a table.
func (n *nights) rows(t *testing.T, table string, count int) {
	t.Helper()
	if _, err := n.db(t).Exec(fmt.Sprintf(
		"INSERT INTO %s (at) WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM "+
			"s WHERE g < %d) SELECT '2020-01-01 00:00:00' FROM s", table, count)); err != nil {
		t.Fatal(err)
	}
}

func (n *nights) left(t *testing.T, table string) (count int) {
	t.Helper()
	if err := n.db(t).QueryRow("SELECT count(*) FROM " + table).Scan(&count); err != nil {
		t.Fatal(err)
	}
	return count
}

// apply applies a rule of each table, with further fields.
func (n *nights) apply(t *testing.T, fields string, tables ...string) {
	t.Helper()
	for _, table := range tables {
		text := fmt.Sprintf("rule: %s\nsource: harbour\ntable: %[1]s\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\n"+
			"then: purge\npace: unlimited\n%s", table, fields)
		if _, problems, err := n.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
			rule.Fatal(problems) {
			t.Fatal(problems, err)
		}
	}
}

// firings lists a rule's firings, the oldest first, once none of them is due any more.
func (n *nights) firings(t *testing.T, name string, count int) []catalog.Firing {
	t.Helper()
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		list, err := n.Catalog.Firings(t.Context(), catalog.FiringFilter{Rule: name}, catalog.All)
		if err != nil {
			t.Fatal(err)
		}
		open := 0
		for _, f := range list {
			if f.State == catalog.FiringDue {
				open++
			}
		}
		if len(list) >= count && open == 0 {
			for i, j := 0, len(list)-1; i < j; i, j = i+1, j-1 {
				list[i], list[j] = list[j], list[i]
			}
			if len(list) > count {
				t.Fatalf("rule %s fired %d times, want %d: %+v", name, len(list), count, list)
			}
			return list
		}
		if time.Since(begun) > 90*time.Second {
			t.Fatalf("rule %s fired %d times (%d open), want %d: %+v", name, len(list), open, count, list)
		}
	}
}

// ended waits until a run has ended.
func (n *nights) ended(t *testing.T, run string) *catalog.Run {
	t.Helper()
	return n.until(t, run, "it ends", 3*time.Minute, func(r *catalog.Run) bool { return r.State.Ended() })
}

func (n *nights) tick(t *testing.T) {
	t.Helper()
	if _, err := n.Schedules.Tick(t.Context()); err != nil {
		t.Fatal(err)
	}
}

func TestARuleRunsByItself(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 30)
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	n.tick(t)
	n.firings(t, "scan", 0)
	n.set(time.Date(2026, 11, 30, 21, 59, 59, 8e8, time.UTC))
	f := n.firings(t, "scan", 1)[0]
	if late := f.BeganAt.Sub(f.At.Time); f.State != catalog.FiringStarted || f.At.Format(time.RFC3339) !=
		"2026-11-30T22:00:00Z" || f.Due != 30 || late > 2*time.Second {
		t.Errorf("%+v, %s after its time", f, late)
	}
	r := n.ended(t, f.Run)
	if r.State != catalog.Done || r.Deleted != 30 || r.Scheduled == nil || !r.Scheduled.Equal(f.At.Time) ||
		n.left(t, "scan") != 0 {
		t.Errorf("%+v", r)
	}
	n.set(time.Date(2026, 12, 1, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	if f := n.firings(t, "scan", 2)[1]; f.State != catalog.FiringNothing || f.Run != "" {
		t.Errorf("with no row due: %+v", f)
	}
	n.set(time.Date(2026, 11, 30, 20, 0, 0, 0, time.UTC)) // the clock is set back, and what it shows comes again
	n.tick(t)
	n.set(time.Date(2026, 12, 1, 22, 3, 0, 0, time.UTC))
	n.tick(t)
	n.firings(t, "scan", 2)
}

func TestFiringsThatWereMissed(t *testing.T) {
	t.Parallel()
	n := openNights(t, "once", "skip")
	n.rows(t, "once", 5)
	n.rows(t, "skip", 5)
	n.apply(t, "schedule: daily at 22:00\n", "once")
	n.apply(t, "schedule: {when: daily at 22:00, missed: skip}\n", "skip")
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	n.set(time.Date(2026, 12, 3, 9, 0, 0, 0, time.UTC)) // three nights later
	n.start(t)
	f := n.firings(t, "once", 1)[0]
	if f.State != catalog.FiringStarted || f.Missed != 2 || f.At.Format(time.DateOnly) != "2026-12-02" ||
		!strings.Contains(f.Reason, "its time had passed by 11h") {
		t.Errorf("%+v", f)
	}
	n.ended(t, f.Run)
	if f := n.firings(t, "skip", 1)[0]; f.State != catalog.FiringSkipped || f.Missed != 2 || n.left(t, "skip") != 5 {
		t.Errorf("%+v", f)
	}
	n.set(time.Date(2056, 12, 3, 9, 0, 0, 0, time.UTC)) // and thirty years
	n.tick(t)
	if f := n.firings(t, "skip", 2)[1]; f.State != catalog.FiringSkipped ||
		f.At.Format(time.DateOnly) != "2056-12-02" {
		t.Errorf("%+v", f)
	}
	n.set(time.Date(2056, 12, 3, 22, 0, 0, 0, time.UTC))
	n.tick(t)
	if f := n.firings(t, "skip", 3)[2]; f.State != catalog.FiringStarted {
		t.Errorf("%+v", f)
	}
}

// Whatever asks at the same time, and wherever the process ends: a firing has one run.
func TestAFiringHasOneRun(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "quay")
	n.rows(t, "scan", 40)
	n.rows(t, "quay", 40)
	n.apply(t, "schedule: daily at 22:00\n", "scan", "quay")
	n.set(time.Date(2026, 11, 30, 22, 0, 0, 0, time.UTC))
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() { n.tick(t) })
	}
	group.Wait()
	n.ended(t, n.firings(t, "scan", 1)[0].Run)
	n.ended(t, n.firings(t, "quay", 1)[0].Run)
	for step, leave := range []func(f *catalog.Firing){
		func(*catalog.Firing) {}, // it is kept, and nothing else
		func(f *catalog.Firing) { // its plan is made
			r, err := n.Catalog.Rule(t.Context(), "scan")
			if err == nil {
				var p *catalog.Plan
				p, err = n.Schedules.plan(t.Context(), f, &r.Body.V)
				f.Plan = p.ID
			}
			if err == nil {
				err = n.Catalog.SaveFiring(t.Context(), f)
			}
			if err != nil {
				t.Fatal(err)
			}
		},
		func(f *catalog.Firing) { // its run is made, and has not begun
			if r, err := n.Engine.Plans.Start(t.Context(), "schedule", f.Plan, false,
				catalog.RunTurn{Scheduled: &f.At}); err != nil || r.Scheduled == nil {
				t.Fatal(r, err)
			}
			if _, err := n.Engine.Plans.Start(t.Context(), "schedule", f.Plan, false,
				catalog.RunTurn{Scheduled: &f.At}); err == nil {
				t.Error("a firing has a second run")
			}
		},
	} {
		n.rows(t, "scan", 40)
		day := time.Date(2026, 12, 2+step, 22, 0, 0, 0, time.UTC)
		if _, err := n.Catalog.Fire(t.Context(), &catalog.Firing{Rule: "scan", At: catalog.At(day), Source: "harbour",
			Table: "scan", State: catalog.FiringDue}); err == nil {
			t.Error("it fires before its time")
		}
		// what the service does, up to where it is killed
		f := &catalog.Firing{Rule: "scan", At: catalog.At(day), Source: "harbour", Table: "scan",
			State: catalog.FiringDue}
		n.Schedules.mu.Lock()
		n.Schedules.firing["harbour"] = true
		n.Schedules.mu.Unlock()
		n.Schedules.ticking.Lock()
		n.set(day)
		if first, err := n.Catalog.Fire(t.Context(), f); !first || err != nil {
			t.Fatal(first, err)
		}
		if again, err := n.Catalog.Fire(t.Context(), f); again || err != nil {
			t.Errorf("it is fired again: %v, %v", again, err)
		}
		if step == 2 {
			r, err := n.Catalog.Rule(t.Context(), "scan")
			if err != nil {
				t.Fatal(err)
			}
			p, err := n.Schedules.plan(t.Context(), f, &r.Body.V)
			if err != nil {
				t.Fatal(err)
			}
			f.Plan = p.ID
			if err := n.Catalog.SaveFiring(t.Context(), f); err != nil {
				t.Fatal(err)
			}
		}
		leave(f)
		n.Schedules.ticking.Unlock()
		if err := n.Close(); err != nil {
			t.Fatal(err)
		}
		n.set(day.Add(time.Minute))
		n.start(t)
		list := n.firings(t, "scan", 2+step)
		last := list[len(list)-1]
		if last.State != catalog.FiringStarted {
			t.Fatalf("killed after step %d: %+v", step, last)
		}
		n.ended(t, last.Run)
		runs, err := n.Catalog.Runs(t.Context(), catalog.RunFilter{Rule: "scan"}, catalog.All)
		if err != nil || len(runs) != 2+step || n.left(t, "scan") != 0 {
			t.Errorf("killed after step %d: %d runs, %d rows left, %v", step, len(runs), n.left(t, "scan"), err)
		}
	}
}

func TestAFiringThatIsOverItsLimitAsks(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 10)
	n.apply(t, "schedule: daily at 22:00\nlimit: {against_last: 3x}\n", "scan")
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	n.ended(t, n.firings(t, "scan", 1)[0].Run)
	n.rows(t, "scan", 31)
	n.set(time.Date(2026, 12, 1, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	f := n.firings(t, "scan", 2)[1]
	if f.State != catalog.FiringAsking || !strings.Contains(f.Reason, "3.1 times as many") || n.left(t, "scan") != 31 {
		t.Fatalf("%+v", f)
	}
	n.found(t, "over limit scan")
	r, err := n.Queue.StartRun(t.Context(), "me", f.Plan, false)
	if err != nil {
		t.Fatal(err)
	}
	n.ended(t, r.ID)
	if f = n.firings(t, "scan", 2)[1]; f.State != catalog.FiringStarted || f.Run != r.ID || n.left(t, "scan") != 0 {
		t.Errorf("%+v", f)
	}
	n.found(t)
}

// found compares the open findings with what they should be: kind and subject of each.
func (n *nights) found(t *testing.T, want ...string) {
	t.Helper()
	if err := n.Findings.Look(t.Context()); err != nil {
		t.Fatal(err)
	}
	list, err := n.Catalog.Findings(t.Context(), false, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range list {
		if f.Kind != "clock" { // which these tests set
			got = append(got, f.Kind+" "+f.Subject)
		}
	}
	if strings.Join(got, ", ") != strings.Join(want, ", ") {
		t.Errorf("findings %q, want %q", got, want)
	}
}

func TestAFiringIsTriedAgain(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 10)
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(n.dir, "harbour.db")
	if err := os.Rename(path, path+".away"); err != nil {
		t.Fatal(err)
	}
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	n.start(t)
	first := n.tried(t, 1)
	if first.State != catalog.FiringDue || first.NextTry == nil || first.Reason == "" {
		t.Fatalf("%+v", first)
	}
	n.set(first.NextTry.Add(time.Second))
	second := n.tried(t, 2)
	if pause := second.NextTry.Sub(first.NextTry.Time); pause < 2*firstRetry {
		t.Errorf("the second pause is %s", pause)
	}
	if err := os.Rename(path+".away", path); err != nil {
		t.Fatal(err)
	}
	n.set(second.NextTry.Add(time.Second))
	n.ended(t, n.firings(t, "scan", 1)[0].Run)
	if _, err := n.db(t).Exec("ALTER TABLE scan RENAME TO other"); err != nil {
		t.Fatal(err)
	}
	n.set(time.Date(2026, 12, 1, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	if f := n.firings(t, "scan", 2)[1]; f.State != catalog.FiringFailed || f.Tries != 1 {
		t.Errorf("without its table: %+v", f)
	}
	n.found(t, "firing failed scan")
	if _, err := n.db(t).Exec("ALTER TABLE other RENAME TO scan"); err != nil {
		t.Fatal(err)
	}
	n.set(time.Date(2026, 12, 2, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	n.firings(t, "scan", 3)
	n.found(t)
}

// tried waits until the only firing was tried so often.
func (n *nights) tried(t *testing.T, times int) *catalog.Firing {
	t.Helper()
	for begun := time.Now(); time.Since(begun) < 40*time.Second; time.Sleep(10 * time.Millisecond) {
		list, err := n.Catalog.Firings(t.Context(), catalog.FiringFilter{}, catalog.All)
		if err != nil {
			t.Fatal(err)
		}
		if len(list) == 1 && list[0].Tries >= times {
			return &list[0]
		}
		n.tick(t)
	}
	t.Fatalf("it was not tried %d times", times)
	return nil
}

func TestTablesThatMatchNothingAndRulesWithoutSchedule(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "quay")
	n.rows(t, "quay", 3)
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	n.apply(t, "", "quay")
	for night := range 3 {
		n.found(t)
		n.set(time.Date(2026, 11, 30+night, 22, 0, 1, 0, time.UTC))
		n.tick(t)
		n.firings(t, "scan", night+1)
	}
	n.found(t, "nothing due scan")
	n.set(time.Date(2027, 1, 15, 12, 0, 0, 0, time.UTC))
	n.tick(t)
	n.firings(t, "scan", 4)
	n.found(t, "unscheduled quay", "nothing due scan")
	list, err := n.Catalog.Findings(t.Context(), false, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Findings.Acknowledge(t.Context(), "me", list[0].ID, " ", nil); err == nil {
		t.Error("a finding is acknowledged without a reason")
	}
	until := catalog.At(n.Now().Add(time.Hour))
	f, err := n.Findings.Acknowledge(t.Context(), "me", list[0].ID, "it runs by hand", &until)
	if err != nil || !f.Quiet(n.Now()) || f.Quiet(n.Now().Add(2*time.Hour)) {
		t.Errorf("%+v, %v", f, err)
	}
	n.rows(t, "scan", 1)
	n.set(time.Date(2027, 1, 15, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	n.ended(t, n.firings(t, "scan", 5)[4].Run)
	n.found(t, "unscheduled quay")
}

func TestAScheduledRunThatFailsIsTriedAgain(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	const rows = 60_000
	n.rows(t, "scan", rows)
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	run := n.firings(t, "scan", 1)[0].Run
	n.until(t, run, "it deletes", 90*time.Second, func(r *catalog.Run) bool { return r.Deleted > 0 })
	if _, err := n.db(t).Exec("CREATE TRIGGER broken BEFORE DELETE ON scan BEGIN SELECT RAISE(ABORT, 'no ferry " +
		"today'); " +
		"END"); err != nil {
		t.Fatal(err)
	}
	for _, try := range []int{0, runRetries - 1} {
		r := n.until(t, run, "it fails", 90*time.Second,
			func(r *catalog.Run) bool { return r.State == catalog.Resting && r.Retries == try+1 })
		if r.ResumeAt == nil || !strings.Contains(r.Reason, fmt.Sprintf("(%d of 5)", try+1)) {
			t.Fatalf("%+v", r)
		}
		if pause := r.ResumeAt.Sub(n.Now()); pause < firstRunRetry<<try-time.Minute || pause > firstRunRetry<<try {
			t.Errorf("after failure %d it rests for %s", try+1, pause)
		}
		n.found(t)
		if try == 0 {
			n.retried(t, run, runRetries-1)
		}
		n.set(r.ResumeAt.Add(time.Second))
		if _, err := n.Queue.goOnWaiting(t.Context()); err != nil { // which happens by itself, half a minute later
			t.Fatal(err)
		}
	}
	r := n.until(t, run, "it is given up", 60*time.Second,
		func(r *catalog.Run) bool { return r.State == catalog.Failed })
	if left := n.left(t, "scan"); left == 0 || left == rows || !strings.Contains(r.Reason, "no ferry today") {
		t.Errorf("%d rows are left: %s", left, r.Reason)
	}
	n.found(t, "run stopped "+run)
	if _, err := n.db(t).Exec("DROP TRIGGER broken"); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Queue.Resume(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	if r = n.ended(t, run); r.State != catalog.Done || r.Deleted != rows || n.left(t, "scan") != 0 {
		t.Errorf("%+v", r)
	}
	n.found(t)
}

// retried has it that a run was tried again so often.
func (n *nights) retried(t *testing.T, run string, times int) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(n.dir, "data", "catalog.db")+"?_pragma=busy_timeout(10000)")
	if err == nil {
		_, err = db.Exec("UPDATE run SET retries = ? WHERE id = ?", times, run)
	}
	if err = errors.Join(err, db.Close()); err != nil {
		t.Fatal(err)
	}
}

// A clock that was a year ahead and is set back keeps no rule from firing, and what it showed meanwhile comes again.
func TestAClockThatWasAhead(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	n.tick(t)
	n.set(time.Date(2027, 11, 30, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	if f := n.firings(t, "scan", 1)[0]; f.At.Format(time.DateOnly) != "2027-11-30" {
		t.Errorf("%+v", f)
	}
	n.set(time.Date(2026, 11, 30, 23, 0, 0, 0, time.UTC))
	n.tick(t)
	n.tick(t)
	n.set(time.Date(2026, 12, 1, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	list := n.firings(t, "scan", 2)
	// it fires, and says what is wrong: no plan is made with a clock before that of the last one
	if f := list[0]; f.At.Format(time.DateOnly) != "2026-12-01" || !strings.Contains(f.Reason, "set the clock right") {
		t.Errorf("%+v", list)
	}
	for day := range 2 { // up to the day that the clock had shown
		n.set(time.Date(2027, 11, 29+day, 22, 0, 1, 0, time.UTC))
		n.tick(t)
		n.firings(t, "scan", 3)
	}
	list = n.firings(t, "scan", 3)
	if f := list[2]; f.At.Format(time.DateOnly) != "2027-11-30" || f.Missed != 0 {
		t.Errorf("%+v", list)
	}
}

// A firing whose time comes when the disk of the catalog is full is carried out once there is room: once.
func TestAFiringOnAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Log("not root: the small file system cannot be mounted here")
		return
	}
	n := openNights(t, "scan")
	n.rows(t, "scan", 500)
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	data, aside := filepath.Join(n.dir, "data"), filepath.Join(n.dir, "aside")
	if err := os.Rename(data, aside); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(data, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("tmpfs", data, "tmpfs", 0, "size=8m"); err != nil {
		t.Logf("this machine mounts no file systems: %v", err)
		return
	}
	t.Cleanup(func() { syscall.Unmount(data, syscall.MNT_DETACH) })
	if err := os.CopyFS(data, os.DirFS(aside)); err != nil {
		t.Fatal(err)
	}
	n.start(t)
	filler := filepath.Join(data, "filler")
	fill := func() {
		t.Helper()
		f, err := os.Create(filler)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		for size := 1 << 20; size > 0; {
			if _, err := f.Write(make([]byte, size)); err != nil {
				size /= 2
			}
		}
	}
	fill()
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	refused := false
	for range 20 {
		_, err := n.Schedules.Tick(t.Context())
		refused = refused || err != nil
		time.Sleep(20 * time.Millisecond)
	}
	if !refused {
		t.Error("it fired on a full disk")
	}
	if n.left(t, "scan") != 500 {
		t.Error("rows went whose run could not be kept")
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	n.tick(t)
	f := n.firings(t, "scan", 1)
	if f[0].State != catalog.FiringStarted {
		t.Fatalf("%+v", f)
	}
	if r := n.ended(t, f[0].Run); r.State != catalog.Done || r.Deleted != 500 {
		t.Errorf("%+v", r)
	}
	n.tick(t)
	n.firings(t, "scan", 1)
}

// Night after night, the journal in the source holds the newest batch of a table, and nothing of earlier runs.
func TestEarlierRunsLeaveNothingInTheJournal(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth")
	n.apply(t, "", "scan", "berth")
	for night := range 4 {
		for _, table := range []string{"scan", "berth"} {
			n.rows(t, table, 10)
			n.ended(t, n.now(t, table))
		}
		var rows, runs int
		if err := n.db(t).QueryRow("SELECT count(*), count(DISTINCT run) FROM ambercellar_batch").Scan(&rows,
			&runs); err != nil {
			t.Fatal(err)
		}
		if rows != 2 || runs != 2 {
			t.Errorf("after night %d, the journal has %d rows of %d runs", night, rows, runs)
		}
	}
}
