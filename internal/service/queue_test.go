package service

import (
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/engine/plan"

	_ "modernc.org/sqlite"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// harbour gives a service a source with aged rows, and a plan for them.
func harbour(t *testing.T, s *Service, dir string, rows int) *catalog.Plan {
	t.Helper()
	path := filepath.Join(dir, "harbour.db")
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(fmt.Sprintf(
		`CREATE TABLE scan (id integer PRIMARY KEY, at datetime NOT NULL, note text); CREATE INDEX scan_at
			ON scan (at);
		INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) SELECT g,
			'2020-01-01 00:00:00', 'note' FROM s`, rows)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite",
		Address: path}); err != nil {
		t.Fatal(err)
	}
	const text = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: " +
		"archive\narchive: {store: cellar}\npace: careful\n"
	if _, problems, err := s.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
		len(problems) > 0 {
		t.Fatal(problems, err)
	}
	p, err := s.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// A run is paused and resumed by several at once, while somebody listens: each execution ends by itself and takes
// nothing of the next with it.
func TestARunThatIsResumedAgainAndAgain(t *testing.T) {
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"))
	defer s.Close()
	p := harbour(t, s, dir, 4000)
	r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	var group sync.WaitGroup
	var mu sync.Mutex
	resumed := 0
	end := time.Now().Add(2 * time.Second)
	for range 2 {
		group.Go(func() {
			for ; time.Now().Before(end); time.Sleep(time.Millisecond) {
				if _, err := s.Queue.Resume(t.Context(), "me", r.ID); err == nil {
					mu.Lock()
					resumed++
					mu.Unlock()
				} else if !errors.Is(err, catalog.ErrState) {
					t.Error(err)
				}
			}
		})
		group.Go(func() {
			for ; time.Now().Before(end); time.Sleep(3 * time.Millisecond) {
				if _, err := s.Queue.Pause(t.Context(), "me", r.ID); err != nil && !errors.Is(err, catalog.ErrState) {
					t.Error(err)
				}
			}
		})
		group.Go(func() {
			for ; time.Now().Before(end); time.Sleep(time.Millisecond) {
				events, stop := s.Queue.Listen(r.ID)
				for range events {
					if time.Now().After(end) {
						break
					}
				}
				stop()
			}
		})
	}
	group.Wait()
	if t.Logf("resumed %d times", resumed); resumed < 5 {
		t.Errorf("resumed %d times", resumed)
	}
	if _, err := s.Engine.Runs.SetPace(t.Context(), "me", r.ID, "unlimited"); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		now, err := s.Queue.Run(t.Context(), r.ID)
		if err != nil || time.Now().After(deadline) {
			t.Fatalf("%+v, %v", now, err)
		}
		if now.State == catalog.Paused {
			if _, err := s.Queue.Resume(t.Context(), "me", r.ID); err != nil && !errors.Is(err, catalog.ErrState) {
				t.Fatal(err)
			}
		}
		if now.State == catalog.Done {
			if now.Deleted != 4000 || now.Ledger.Balanced == nil || !*now.Ledger.Balanced {
				t.Errorf("%+v", now.Ledger)
			}
			return
		}
		if now.State == catalog.Failed {
			t.Fatal(now.Reason)
		}
	}
}

// Whoever does not answer when told of a restore keeps neither second copies nor others who are told waiting.
func TestWhoDoesNotAnswerHoldsUpNothingElse(t *testing.T) {
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"), func(s *Service) {
		s.Notifier.Change(func(w *Ways) { w.Hosts = []string{"127.0.0.1"} })
	})
	defer s.Close()
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	told := make(chan bool, 1)
	desk := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { told <- true }))
	defer desk.Close()
	p := harbour(t, s, dir, 400)
	if err := s.Places.AddStore(t.Context(), "me", catalog.Store{Name: "attic", Path: filepath.Join(dir, "attic")},
		false); err != nil {
		t.Fatal(err)
	}
	attic := "attic"
	if err := s.Places.SetStore(t.Context(), "me", "cellar", StoreChange{Second: &attic}); err != nil {
		t.Fatal(err)
	}
	now := catalog.At(time.Now())
	for i, to := range []string{"http://" + silent.Addr().String(), desk.URL} {
		r := &catalog.Restore{RestoreOrder: catalog.RestoreOrder{ID: fmt.Sprint("r", i), Source: "harbour",
			Table: "scan", Target: "file", CreatedAt: now, Tell: to},
			RestoreStanding: catalog.RestoreStanding{State: catalog.RestoreAsked}}
		if err := s.Catalog.AddRestore(t.Context(), r); err != nil {
			t.Fatal(err)
		}
		r.State, r.EndedAt = catalog.RestoreRefused, &now
		if err := s.Catalog.SaveRestore(t.Context(), r); err != nil {
			t.Fatal(err)
		}
	}
	r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err == nil {
		_, err = s.Engine.Runs.SetPace(t.Context(), "me", r.ID, "unlimited")
	}
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	<-told
	for {
		list, err := s.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
		if err != nil {
			t.Fatal(err)
		}
		if len(list) > 0 && list[0].Second == "attic" {
			break
		}
		if time.Since(begun) > 15*time.Second {
			t.Fatalf("no second copy after %s: %+v", time.Since(begun), list)
		}
		time.Sleep(20 * time.Millisecond)
	}
	s.stop(refuse.ErrShutdown) // the one that is silent is not waited for
}
