package service

import (
	"database/sql"
	"fmt"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
	"ambercellar/internal/standin"
)

// farStore is a bucket behind a relay, and a plan whose rows go there.
func farStore(t *testing.T, s *Service, dir string, rows int) (*dbtest.Relay, *catalog.Plan) {
	t.Helper()
	h, err := standin.Objects{Buckets: []string{"attic"}}.Handler()
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	relay := dbtest.NewRelay(t, strings.TrimPrefix(server.URL, "http://"))
	t.Cleanup(func() { relay.Frozen.Store(false) })
	if err := s.Places.AddStore(t.Context(), "me",
		catalog.Store{Name: "attic", Bucket: catalog.JSON[store.Bucket]{V: store.Bucket{Endpoint: "http://" +
			relay.Address, Name: "attic"}}}, false); err != nil {
		t.Fatal(err)
	}
	harbour(t, s, dir, rows)
	const text = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: " +
		"archive\narchive: {store: attic}\npace: careful\n"
	if _, problems, err := s.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
		len(problems) > 0 {
		t.Fatal(problems, err)
	}
	p, err := s.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"})
	if err != nil {
		t.Fatal(err)
	}
	return relay, p
}

// farSource is a service whose database is behind a relay, and a run of so many rows that has begun there.
func farSource(t *testing.T, kind string, rows int, pace string) (*Service, *dbtest.Relay, *catalog.Run) {
	t.Helper()
	address, exec := dbtest.Postgres(t), dbtest.Exec
	if kind == "mariadb" {
		address, exec = dbtest.MariaDB(t), dbtest.ExecMariaDB
	}
	at := map[string]string{"postgres": "timestamptz", "mariadb": "datetime"}[kind]
	if err := exec(address, fmt.Sprintf(
		"CREATE TABLE scan (id integer PRIMARY KEY, at %s NOT NULL); CREATE INDEX scan_at ON scan (at); INSERT "+
			"INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) SELECT g, "+
			"'2020-01-01 00:00:00' FROM s", at, rows)); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	relay := dbtest.NewRelay(t, u.Host)
	u.Host = relay.Address
	s, _ := open(t, filepath.Join(t.TempDir(), "data"))
	if _, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: kind,
		Address: u.String(), TLS: "off"}); err != nil {
		t.Fatal(err)
	}
	text := "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: " +
		"archive\narchive: {store: cellar}\npace: " + pace + "\n"
	if _, problems, err := s.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
		len(problems) > 0 {
		t.Fatal(problems, err)
	}
	p, err := s.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"})
	if err != nil {
		t.Fatal(err)
	}
	r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	return s, relay, r
}

// until waits until a run is as it should be.
func (s *Service) until(t *testing.T, id, what string, within time.Duration,
	is func(r *catalog.Run) bool) *catalog.Run {
	t.Helper()
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		r, err := s.Queue.Run(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if is(r) {
			return r
		}
		if time.Since(begun) > within {
			t.Fatalf("%s: after %s it is %s: %s", what, within, r.State, r.Reason)
		}
	}
}

// A store that hangs, or is not there, is waited for: the run says so, is paused at once, lets go of everything after
// a while, and goes on by itself when the store is back. Nothing is lost and nothing is taken twice.
func TestAStoreThatIsAwayIsWaitedFor(t *testing.T) {
	t.Parallel()
	for name, gone := range map[string]func(r *dbtest.Relay, away bool){
		"it hangs":        func(r *dbtest.Relay, away bool) { r.Frozen.Store(away) },
		"nothing answers": func(r *dbtest.Relay, away bool) { r.Cut(away) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			s, _ := open(t, filepath.Join(dir, "data"))
			defer s.Close()
			relay, p := farStore(t, s, dir, 2000)
			defer gone(relay, false)
			r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
			if err != nil {
				t.Fatal(err)
			}
			s.until(t, r.ID, "some are deleted", 3*time.Minute, func(r *catalog.Run) bool { return r.Deleted > 50 })
			gone(relay, true)
			if _, err := s.Engine.Runs.SetPace(t.Context(), "me", r.ID, "unlimited"); err != nil {
				t.Fatal(err)
			}
			s.until(t, r.ID, "it says what it waits for", 20*time.Second, func(r *catalog.Run) bool {
				return r.State == catalog.Running && strings.HasPrefix(r.Reason, "waiting for a store: ")
			})
			begun := time.Now()
			if _, err := s.Places.StoreState(t.Context(), "attic"); err == nil || time.Since(begun) > 2*glance {
				t.Errorf("the store's state, after %s: %v", time.Since(begun), err)
			}
			begun = time.Now()
			now, err := s.Queue.Pause(t.Context(), "me", r.ID)
			if err != nil || now.State != catalog.Paused || time.Since(begun) > 10*time.Second {
				t.Fatalf("paused after %s: %+v, %v", time.Since(begun), now, err)
			}
			if _, err := s.Queue.Resume(t.Context(), "me", r.ID); err != nil {
				t.Fatal(err)
			}
			now = s.until(t, r.ID, "it lets go", 30*time.Second,
				func(r *catalog.Run) bool { return r.State == catalog.Resting })
			if now.ResumeAt != nil || !strings.Contains(now.Reason, "it goes on by itself when that is back") {
				t.Errorf("it rests until %v: %s", now.ResumeAt, now.Reason)
			}
			time.Sleep(3 * time.Second) // it is looked for, in vain
			if now, err := s.Queue.Run(t.Context(), r.ID); err != nil || now.State != catalog.Resting {
				t.Fatalf("%+v, %v", now, err)
			}
			gone(relay, false)
			now = s.until(t, r.ID, "it goes on by itself", 90*time.Second,
				func(r *catalog.Run) bool { return r.State.Ended() })
			if now.State != catalog.Done || now.Deleted != 2000 || now.Balanced == nil || !*now.Balanced {
				t.Fatalf("%+v", now)
			}
			restored, err := s.Queue.RequestRestore(t.Context(), "me",
				restore.RestoreRequest{Scope: catalog.Scope{Run: r.ID}, Target: catalog.TargetTable,
					Pace: "unlimited"})
			if err != nil {
				t.Fatal(err)
			}
			gone(relay, true)
			time.Sleep(time.Second)
			gone(relay, false)
			for begun := time.Now(); ; time.Sleep(10 * time.Millisecond) {
				x, err := s.Catalog.Restore(t.Context(), restored.ID)
				if err != nil || x.State == catalog.RestoreFailed || time.Since(begun) > time.Minute {
					t.Fatalf("%+v, %v", x, err)
				}
				if x.State == catalog.RestoreDone {
					if x.Restored != 2000 {
						t.Errorf("%+v", x)
					}
					break
				}
			}
		})
	}
}

// A service whose store hangs ends all the same, and a run that is at it goes on at the next start.
func TestAServiceEndsThoughAStoreHangs(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"))
	relay, p := farStore(t, s, dir, 2000)
	r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	s.until(t, r.ID, "some are deleted", 3*time.Minute, func(r *catalog.Run) bool { return r.Deleted > 50 })
	relay.Frozen.Store(true)
	if _, err := s.Engine.Runs.SetPace(t.Context(), "me", r.ID, "unlimited"); err != nil {
		t.Fatal(err)
	}
	s.until(t, r.ID, "it waits", 20*time.Second,
		func(r *catalog.Run) bool { return strings.HasPrefix(r.Reason, "waiting for a store: ") })
	begun := time.Now()
	if err := s.Close(); err != nil || time.Since(begun) > 10*time.Second {
		t.Errorf("it ended after %s: %v", time.Since(begun), err)
	}
	relay.Frozen.Store(false)
	s, _ = open(t, filepath.Join(dir, "data"))
	defer s.Close()
	now := s.until(t, r.ID, "it goes on", time.Minute, func(r *catalog.Run) bool { return r.State.Ended() })
	if now.State != catalog.Done || now.Deleted != 2000 {
		t.Errorf("%+v", now)
	}
}

// Runs that wait for what does not answer keep no others from working, and work on in their turn when that is back.
func TestARunThatWaitsLetsOthersWork(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"), func(s *Service) { s.Queue.limits.All, s.Queue.limits.Source = 1, 1 })
	defer s.Close()
	relay, p := farStore(t, s, dir, 2000)
	defer relay.Cut(false)
	far, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	s.until(t, far.ID, "some are deleted", 3*time.Minute, func(r *catalog.Run) bool { return r.Deleted > 50 })
	relay.Cut(true)
	if _, err := s.Engine.Runs.SetPace(t.Context(), "me", far.ID, "unlimited"); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "quay.db"))
	if err == nil {
		_, err = db.Exec("CREATE TABLE scan (id integer PRIMARY KEY, at datetime NOT NULL); CREATE INDEX scan_at " +
			"ON scan (at); INSERT INTO scan VALUES (1, '2020-01-01 00:00:00')")
	}
	if err != nil {
		t.Fatal(err)
	}
	db.Close()
	if _, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "quay", Engine: "sqlite",
		Address: filepath.Join(dir, "quay.db")}); err != nil {
		t.Fatal(err)
	}
	const text = "rule: near\nsource: quay\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: " +
		"archive\narchive: {store: cellar}\npace: unlimited\n"
	if _, problems, err := s.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
		len(problems) > 0 {
		t.Fatal(problems, err)
	}
	if p, err = s.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "near"}); err != nil {
		t.Fatal(err)
	}
	near, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	s.until(t, near.ID, "another run works meanwhile", 20*time.Second,
		func(r *catalog.Run) bool { return r.State == catalog.Done })
	if now, err := s.Queue.Run(t.Context(), far.ID); err != nil || now.State != catalog.Running ||
		!strings.HasPrefix(now.Reason, "waiting for a store: ") {
		t.Errorf("%+v, %v", now, err)
	}
	relay.Cut(false)
	now := s.until(t, far.ID, "it works on", time.Minute, func(r *catalog.Run) bool { return r.State.Ended() })
	if now.State != catalog.Done || now.Deleted != 2000 || len(s.Queue.Line()) != 0 {
		t.Errorf("%+v, in the queue %+v", now, s.Queue.Line())
	}
}

// A run that is cancelled while its store is away ends by itself when that is back: what was archived is closed, and
// what was not reached stays.
func TestARunIsCancelledThoughItsStoreIsAway(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"))
	defer s.Close()
	relay, p := farStore(t, s, dir, 2000)
	defer relay.Cut(false)
	r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	s.until(t, r.ID, "some are deleted", 3*time.Minute, func(r *catalog.Run) bool { return r.Deleted > 50 })
	relay.Cut(true)
	begun := time.Now()
	if now, err := s.Queue.Cancel(t.Context(), "me", r.ID); err != nil || now.State == catalog.Failed ||
		time.Since(begun) > interruptBudget+5*time.Second {
		t.Fatalf("after %s: %+v, %v", time.Since(begun), now, err)
	}
	if now, err := s.Queue.Pause(t.Context(), "me", r.ID); err == nil && now.State != catalog.Paused {
		t.Errorf("%+v", now)
	} else if err == nil {
		if _, err := s.Queue.Resume(t.Context(), "me", r.ID); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(2 * time.Second)
	relay.Cut(false)
	now := s.until(t, r.ID, "it ends by itself", time.Minute, func(r *catalog.Run) bool { return r.State.Ended() })
	if now.State != catalog.Cancelled || now.Balanced == nil || !*now.Balanced || now.Deleted == 0 ||
		now.Deleted == 2000 {
		t.Errorf("%+v", now)
	}
	live := 0
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "harbour.db")+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if err := db.QueryRow("SELECT count(*) FROM scan").Scan(&live); err != nil || int64(live)+now.Deleted != 2000 {
		t.Errorf("%d rows are live and %d archived, %v", live, now.Deleted, err)
	}
}

// A restore whose database is away for a while, in the middle of it, goes on, and counts each row once.
func TestARestoreWaitsForItsDatabase(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"postgres", "mariadb"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			s, relay, r := farSource(t, kind, 2000, "unlimited")
			defer s.Close()
			defer relay.Cut(false)
			s.until(t, r.ID, "done", time.Minute, func(r *catalog.Run) bool { return r.State == catalog.Done })
			asked, err := s.Queue.RequestRestore(t.Context(), "me",
				restore.RestoreRequest{Scope: catalog.Scope{Run: r.ID}, Target: catalog.TargetTable, Pace: "careful"})
			if err != nil {
				t.Fatal(err)
			}
			cuts, said := 0, false
			for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
				x, err := s.Catalog.Restore(t.Context(), asked.ID)
				if err != nil || x.State == catalog.RestoreFailed || time.Since(begun) > 5*time.Minute {
					t.Fatalf("after %d cuts: %+v, %v", cuts, x, err)
				}
				if x.State == catalog.RestoreDone {
					if cuts < 2 || !said || x.Restored != 2000 || x.Skipped != 0 {
						t.Errorf("after %d cuts, said so %v: %+v", cuts, said, x)
					}
					break
				}
				if x.Restored >= int64(500*(cuts+1)) && cuts < 2 {
					relay.Cut(true)
					for wait := time.Now(); time.Since(wait) < time.Duration(1+4*cuts)*time.Second &&
						!said; time.Sleep(5 * time.Millisecond) {
						x, err := s.Catalog.Restore(t.Context(), asked.ID)
						said = err == nil && strings.HasPrefix(x.Reason, "waiting for the database: ")
					}
					relay.Cut(false)
					cuts++
				}
			}
			src, err := s.Source(t.Context(), "harbour")
			if err != nil {
				t.Fatal(err)
			}
			table, err := src.Table(t.Context(), "scan")
			if err != nil {
				t.Fatal(err)
			}
			if n, err := src.RestoredCount(t.Context(), table, asked.ID); err != nil || n != 2000 {
				t.Errorf("%d rows are recorded as restored, %v", n, err)
			}
		})
	}
}

// A SQLite database that others write to without a pause keeps a run waiting, and does not fail its start.
func TestARunOfABusySQLiteDatabaseIsStarted(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"))
	defer s.Close()
	p := harbour(t, s, dir, 2000)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "harbour.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	locked, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := locked.ExecContext(t.Context(), "BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	s.until(t, r.ID, "it says what it waits for", 30*time.Second, func(r *catalog.Run) bool {
		return r.State == catalog.Running && strings.HasPrefix(r.Reason, "waiting: ")
	})
	if _, err := locked.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Engine.Runs.SetPace(t.Context(), "me", r.ID, "unlimited"); err != nil {
		t.Fatal(err)
	}
	now := s.until(t, r.ID, "it goes on", time.Minute, func(r *catalog.Run) bool { return r.State.Ended() })
	if now.State != catalog.Done || now.Deleted != 2000 {
		t.Errorf("%+v", now)
	}
}
