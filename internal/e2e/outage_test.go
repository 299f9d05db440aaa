package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// finished resumes a run for as long as it fails for want of its database, and returns it once it has ended.
func (w *world) finished(id string) client.RunView {
	w.t.Helper()
	for range 5 {
		r := w.hurried(id)
		if r.State != client.Failed {
			return r
		}
		w.must("run", "resume", id)
	}
	w.t.Fatalf("run %s does not recover", id)
	return client.RunView{}
}

// ownServer is a world with a server of its own, which restart crashes and starts again; it syncs.
func ownServer(t *testing.T, engine string, settings ...string) (w *world, restart func() error) {
	t.Helper()
	w = &world{t: t, dir: t.TempDir(), engine: engine}
	var err error
	if engine == "mariadb" {
		var s *dbtest.MariaServer
		if s, err = dbtest.StartMariaDB(settings...); err == nil {
			t.Cleanup(s.Stop)
			w.dsn, restart = s.URL("harbour"), s.Restart
			err = dbtest.ExecMariaDB(s.URL("mysql"), "CREATE DATABASE harbour CHARACTER SET utf8mb4")
		}
		if err == nil {
			w.db, err = dbtest.OpenMariaDB(w.dsn)
		}
	} else {
		var s *dbtest.Server
		if s, err = dbtest.Start(settings...); err == nil {
			t.Cleanup(s.Stop)
			w.dsn, restart = s.URL("postgres"), s.Restart
			w.db, err = sql.Open("pgx", w.dsn)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	w.start()
	t.Cleanup(func() {
		w.stop(syscall.SIGKILL)
		w.db.Close()
		if t.Failed() {
			t.Logf("the service's log:\n%s", w.svc.log)
		}
	})
	return w, restart
}

func TestADatabaseThatCrashesInTheMiddleCostsNothing(t *testing.T) {
	t.Parallel()
	for _, then := range []string{"archive", "purge"} {
		t.Run(then, func(t *testing.T) {
			t.Parallel()
			w, restart := ownServer(t, "postgres")
			w.scans(8000)
			before := w.content("true")
			w.define(then, "careful")
			r := w.planned()
			for _, deleted := range []int64{300, 2000} {
				w.someDeletedOrFailed(r.ID, deleted)
				if err := restart(); err != nil {
					t.Fatal(err)
				}
			}
			got := w.finished(r.ID)
			if got.State != client.Done {
				t.Fatalf("the run is %s: %s", got.State, got.Reason)
			}
			if l := got.Ledger; l.Balanced == nil || !*l.Balanced || l.Deleted != 8000 {
				t.Errorf("ledger %+v", l)
			}
			if n := w.count("SELECT count(*) FROM scan"); n != 100 {
				t.Errorf("%d rows are live instead of 100", n)
			}
			if then == "archive" {
				w.must("restore", "request", "-pace", "unlimited", "-run", r.ID)
				if w.content("true") != before {
					t.Error("live and archive together are not what the table held")
				}
			}
		})
	}
}

// someDeletedOrFailed waits until a run has deleted so many rows, resuming it where it has failed.
func (w *world) someDeletedOrFailed(id string, rows int64) {
	w.t.Helper()
	// at the careful pace beside other tests that takes minutes
	w.untilWithin(id, fmt.Sprintf("does not get to %d rows", rows), 5*time.Minute, func(r client.RunView) bool {
		switch {
		case r.Ledger.Deleted >= rows:
			return true
		case r.State == client.Failed:
			w.must("run", "resume", id)
		case r.State.Ended():
			w.t.Fatalf("run %s is %s before it has deleted %d rows", id, r.State, rows)
		}
		return false
	})
}

func TestConnectionsThatAreCutAreMadeAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "postgres")
	w.scans(8000)
	before := w.content("true")
	w.define("archive", "careful")
	r := w.planned()
	ctx, stop := context.WithCancel(t.Context())
	cut := make(chan int)
	go func() { // every session of the service, again and again
		n := 0
		defer func() { cut <- n }()
		most := 3 * time.Second // from one cut to the next, where nothing is reached between them
		for ctx.Err() == nil {
			var ended int
			left := w.count("SELECT count(*) FROM scan")
			if w.db.QueryRowContext(ctx, "SELECT count(*) FROM (SELECT pg_terminate_backend(pid) FROM "+
				"pg_stat_activity WHERE application_name = 'ambercellar' AND datname = current_database()) x").Scan(
				&ended) == nil {
				n += ended
			}
			time.Sleep(300 * time.Millisecond)
			// a slow machine gets somewhere too
			begun, reached := time.Now(), false
			for ctx.Err() == nil && !reached && time.Since(begun) < most {
				time.Sleep(50 * time.Millisecond)
				reached = w.count("SELECT count(*) FROM scan") != left
			}
			if most *= 2; reached {
				most = 3 * time.Second
			}
		}
	}()
	w.someDeletedOrFailed(r.ID, 2000)
	stop()
	if n := <-cut; n == 0 {
		t.Fatal("no session was cut")
	}
	got := w.finished(r.ID)
	w.balanced(got, 8000, 8000)
	w.must("restore", "request", "-pace", "unlimited", "-run", r.ID)
	if w.content("true") != before {
		t.Error("live and archive together are not what the table held")
	}
}

func TestWritersNeverLoseAnUpdate(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(8000)
		w.define("archive", "careful")
		r := w.planned()
		ctx, stop := context.WithCancel(t.Context())
		done := make(chan map[int]string)
		go func() { // edits aged rows, the last of them first, again and again while they are on their way
			edits := map[int]string{}
			defer func() { done <- edits }()
			for n, id := 0, 4900; ctx.Err() == nil; n++ {
				time.Sleep(time.Millisecond) // a workload, not a machine in use to its limit
				if id -= 7; id <= 0 {
					id = 4900
				}
				note := fmt.Sprintf("edit %d of %d", n, id)
				res, err := w.db.ExecContext(t.Context(), fmt.Sprintf("UPDATE scan SET note = '%s' WHERE id = %d",
					note, id))
				if err != nil {
					continue
				}
				if n, _ := res.RowsAffected(); n == 1 {
					edits[id] = note
				}
			}
		}()
		w.someDeleted(r.ID, 2000)
		got := w.hurried(r.ID)
		stop()
		edits := <-done
		if got.State != client.Done || got.Ledger.Balanced == nil || !*got.Ledger.Balanced || len(edits) == 0 {
			t.Fatalf("%s %s, ledger %+v, %d edits", got.State, got.Reason, got.Ledger, len(edits))
		}
		// An edited row is live with its edit, or went with it: never is the edit lost.
		w.must("restore", "request", "-pace", "unlimited", "-run", r.ID)
		lost := []string{}
		for id, note := range edits {
			if w.count(fmt.Sprintf("SELECT count(*) FROM scan WHERE id = %d AND note = '%s'", id, note)) != 1 {
				lost = append(lost, note)
			}
		}
		if len(lost) > 0 {
			t.Errorf("%d of %d edits are lost: %s", len(lost), len(edits),
				strings.Join(lost[:min(5, len(lost))], ", "))
		}
		if got.Ledger.Changed == 0 {
			t.Error("no row changed on its way: the test shows nothing")
		}
		if n := w.count("SELECT count(*) FROM scan"); n != 8100 {
			t.Errorf("%d rows are live after the restore instead of 8,100", n)
		}
	})
}
