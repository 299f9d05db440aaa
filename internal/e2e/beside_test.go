package e2e

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/client"
)

// workload looks rows up and changes some, in a few sessions, until it is ended. What fails while the server is away
// does not matter.
func (w *world) workload(sessions int) (end func()) {
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	for n := range sessions {
		all.Go(func() {
			for i := n; ctx.Err() == nil; i += sessions {
				id := i%20_000 + 1
				w.db.ExecContext(ctx, fmt.Sprintf("SELECT note FROM scan WHERE id = %d", id))
				if i%5 == n {
					w.db.ExecContext(ctx, fmt.Sprintf("UPDATE scan SET fare = fare + 1 WHERE id = %d", 20_001+i%100))
				}
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	return func() { stop(); all.Wait() }
}

// heed looks at a run all the time, and returns what ends that and tells what was wrong: it stood still and did not say
// why, or it took all that there is.
func (w *world) heed(id string) (end func() []string) {
	const patience = 3 * time.Second
	done, told := make(chan struct{}), make(chan []string)
	go func() {
		var wrong []string
		var deleted int64
		moved := time.Now()
		for {
			select {
			case <-done:
				told <- wrong
				return
			case <-time.After(50 * time.Millisecond):
			}
			r, err := w.client.Run(context.Background(), id)
			switch {
			case err != nil:
				wrong = append(wrong, err.Error())
			case r.State != client.Running || r.Ledger.Deleted > deleted:
				deleted, moved = r.Ledger.Deleted, time.Now()
			case time.Since(moved) > patience && r.Reason == "":
				wrong = append(wrong, fmt.Sprintf("it has stood still at %d rows for %s, and does not say why", deleted,
					time.Since(moved).Round(time.Second)))
				moved = time.Now()
			}
			if err == nil && r.Pressure != nil && r.Pressure.Free > 0.95 {
				wrong = append(wrong, fmt.Sprintf("at %d rows it takes all that there is", r.Ledger.Deleted))
			}
		}
	}()
	return func() []string { close(done); return <-told }
}

// TestWhatGoesWrongBesideOthers: beside a workload the server forgets its statistics, somebody locks the table for
// longer than a probe waits, all our sessions are ended, and the server crashes. The run goes on after each, never
// stands still without saying why, and never takes the server for empty.
func TestWhatGoesWrongBesideOthers(t *testing.T) {
	t.Parallel()
	for engine, say := range map[string]struct{ forget, lock, unlock, ours string }{
		"postgres": {"SELECT pg_stat_reset(); SELECT pg_stat_reset_shared('bgwriter')",
			"BEGIN; LOCK TABLE scan IN ACCESS EXCLUSIVE MODE", "COMMIT",
			"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'ambercellar%'"},
		"mariadb": {"FLUSH STATUS", "LOCK TABLES scan WRITE", "UNLOCK TABLES", ""},
	} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			w, restart := ownServer(t, engine)
			w.scans(20_000)
			w.define("archive", "{bound: 100%}")
			idle := w.workload(4)
			defer idle()
			time.Sleep(time.Second) // until they are seen
			r := w.planned()
			heeded := w.heed(r.ID)
			more := func(what string) {
				t.Helper()
				from := w.shown(r.ID).Ledger.Deleted
				w.untilWithin(r.ID, "does not go on after "+what, 5*time.Minute, func(v client.RunView) bool {
					if v.State == client.Failed {
						w.must("run", "resume", r.ID)
					}
					return v.Ledger.Deleted >= from+200
				})
			}
			more("its start")
			w.exec(say.forget)
			more("statistics were reset")
			own, err := w.db.Conn(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if _, err := own.ExecContext(t.Context(), say.lock); err != nil {
				t.Fatal(err)
			}
			said := ""
			locked := time.Now()
			for time.Since(locked) < 5*time.Second || said == "" && time.Since(locked) < time.Minute {
				time.Sleep(100 * time.Millisecond)
				if v := w.shown(r.ID); strings.Contains(v.Reason, "lock") || v.Pressure != nil &&
					strings.Contains(v.Pressure.Why, "lock") {
					said = v.Reason
				}
			}
			if said == "" {
				t.Errorf("while the table is locked it says %q", w.shown(r.ID).Reason)
			}
			if _, err := own.ExecContext(t.Context(), say.unlock); err != nil {
				t.Fatal(err)
			}
			own.Close()
			more("the table was locked")
			if say.ours != "" {
				w.exec(say.ours)
				more("our sessions were ended")
			}
			if wrong := heeded(); len(wrong) > 0 {
				t.Errorf("%d times, first: %s", len(wrong), wrong[0])
			}
			if err := restart(); err != nil {
				t.Fatal(err)
			}
			more("the server crashed")
			idle()
			if _, err, status := w.run("run", "pace", r.ID, "unlimited"); status != 0 {
				t.Fatal(err)
			}
			got := w.finished(r.ID)
			w.balanced(got, got.Ledger.Copied, got.Ledger.Deleted)
			if live := w.count("SELECT count(*) FROM scan"); live+got.Ledger.Deleted != 20_100 {
				t.Errorf("%d rows are live and %d deleted of 20,100", live, got.Ledger.Deleted)
			}
		})
	}
}

// TestASlowDiskMakesARunWaitAndNotRest: where each commit waits 10 ms for the log's disk, rests are measured by the
// rest of what a batch does.
func TestASlowDiskMakesARunWaitAndNotRest(t *testing.T) {
	t.Parallel()
	const flush = 10 * time.Millisecond
	for engine, slow := range map[string]struct {
		settings []string
		times    float64 // how many times as long as it worked a batch rests at the careful pace
	}{
		"postgres": {[]string{"commit_delay=10000", "commit_siblings=0"}, 59},
		"mariadb": {[]string{"log-bin", "sync-binlog=1", "binlog-format=ROW", "binlog-commit-wait-usec=10000",
			"binlog-commit-wait-count=1000000"}, 19},
	} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			w, _ := ownServer(t, engine, slow.settings...)
			w.scans(4000)
			w.define("purge", "careful")
			r := w.planned()
			w.until(r.ID, "has deleted a third", func(v client.RunView) bool { return v.Ledger.Deleted > 1300 })
			w.balanced(w.hurried(r.ID), 4000, 4000)
			list, err := w.client.Batches(t.Context(), r.ID, client.BatchesQuery{})
			if err != nil || len(list.Items) < 5 {
				t.Fatalf("%d batches (%v)", len(list.Items), err)
			}
			slices.SortFunc(list.Items, func(a, b client.Batch) int { return cmp.Compare(a.Number, b.Number) })
			waited, long := 0, 0
			for _, b := range list.Items {
				took, rest := time.Duration(b.Micros)*time.Microsecond, time.Duration(b.Rest)*time.Microsecond
				if took >= flush {
					waited++
				}
				if most := time.Duration(slow.times * float64(max(took-flush, 0)+3*time.Millisecond)); rest > most {
					long++ // MariaDB waits for less where others wait for a lock
					t.Logf("batch %d took %s and rests %s, more than %s", b.Number, took, rest, most)
				}
			}
			if waited < len(list.Items)/2 || long > waited/2 {
				t.Errorf("%d of %d batches waited for the disk, and %d rested for that", waited, len(list.Items), long)
			}
		})
	}
}

// TestAHundredRunsOnOneServer: with 64 of them at work at a time beside a workload none fails, none takes the server
// for empty, and each takes its rows.
func TestAHundredRunsOnOneServer(t *testing.T) {
	t.Parallel()
	const runs, rows, atWork = 100, 60, 64
	w := newWorld(t, "postgres")
	w.scans(20_000)
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
	var text strings.Builder
	for i := range runs {
		w.exec(fmt.Sprintf("CREATE TABLE pier_%d (id integer PRIMARY KEY, at timestamptz NOT NULL); INSERT INTO "+
			"pier_%[1]d SELECT g, timestamptz '2020-01-01' + g * interval '1 hour' FROM generate_series(1, %d) g",
			i, rows))
		fmt.Fprintf(&text, "---\nrule: pier-%d\nsource: harbour\ntable: pier_%[1]d\nage: at\nclauses:\n  - keep: P1Y\n"+
			"then: archive\narchive: {store: cellar}\n", i)
	}
	w.must("rule", "apply", "-f", w.rules(text.String()))
	limits, err := w.client.QueueLimits(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	limits.All, limits.Source = atWork, atWork
	if _, err := w.client.SetQueueLimits(t.Context(), *limits); err != nil {
		t.Fatal(err)
	}
	idle := w.workload(4)
	defer idle()
	var ids []string
	for i := range runs {
		p, err := w.client.MakePlan(t.Context(), client.NewPlan{Rule: fmt.Sprintf("pier-%d", i)})
		if err != nil {
			t.Fatal(err)
		}
		r, err := w.client.StartRun(t.Context(), client.NewRun{Plan: p.ID})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, r.ID)
	}
	for begun := time.Now(); len(ids) > 0; time.Sleep(200 * time.Millisecond) {
		ids = slices.DeleteFunc(ids, func(id string) bool {
			r := w.shown(id)
			if r.Pressure != nil && r.Pressure.Free > 0.95 {
				t.Errorf("run %s takes all that there is, at %d rows", id, r.Ledger.Deleted)
			}
			switch r.State {
			case client.Done:
				w.balanced(r, rows, rows)
				return true
			case client.Queued, client.Running:
				return false
			}
			t.Errorf("run %s is %s: %s", id, r.State, r.Reason)
			return true
		})
		if time.Since(begun) > 5*time.Minute {
			t.Fatalf("%d runs have not ended: %+v", len(ids), w.shown(ids[0]))
		}
	}
}
