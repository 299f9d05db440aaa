package service

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/engine"
	"ambercellar/internal/silence"
	"ambercellar/internal/source"
)

// A run whose database does not answer any more can be paused, and whoever asks that database for something hears of it, all within the time that
// silence is borne.
func TestASilentDatabaseIsNotWaitedForWithoutEnd(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"postgres", "mariadb"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			address, exec := dbtest.Postgres(t), dbtest.Exec
			if kind == "mariadb" {
				address, exec = dbtest.MariaDB(t), dbtest.ExecMariaDB
			}
			at := map[string]string{"postgres": "timestamptz", "mariadb": "datetime"}[kind]
			if err := exec(address, fmt.Sprintf("CREATE TABLE scan (id integer PRIMARY KEY, at %s NOT NULL); CREATE INDEX scan_at ON scan (at); INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 8000) SELECT g, '2020-01-01 00:00:00' FROM s", at)); err != nil {
				t.Fatal(err)
			}
			u, err := url.Parse(address)
			if err != nil {
				t.Fatal(err)
			}
			relay := dbtest.NewRelay(t, u.Host)
			u.Host = relay.Address
			s, _ := open(t, filepath.Join(t.TempDir(), "data"))
			defer s.Close()
			defer relay.Frozen.Store(false)
			if _, err := s.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: kind, Address: u.String(), TLS: "off"}); err != nil {
				t.Fatal(err)
			}
			const text = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\npace: gentle\n"
			if _, problems, err := s.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil || len(problems) > 0 {
				t.Fatal(problems, err)
			}
			p, err := s.MakePlan(t.Context(), "me", engine.PlanRequest{Rule: "scans"})
			if err != nil {
				t.Fatal(err)
			}
			r, err := s.StartRun(t.Context(), "me", p.ID, false)
			if err != nil {
				t.Fatal(err)
			}
			for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
				now, err := s.Run(t.Context(), r.ID)
				if err != nil || time.Since(begun) > 2*time.Minute {
					t.Fatalf("%+v, %v", now, err)
				}
				if now.Deleted > 50 {
					break
				}
			}
			relay.Frozen.Store(true)
			begun := time.Now()
			if now, err := s.Pause(t.Context(), r.ID); err != nil || now.State != catalog.Paused {
				t.Errorf("%+v, %v", now, err)
			}
			src, err := s.Source(t.Context(), "harbour")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := src.Tables(t.Context()); !errors.Is(err, source.ErrUnreachable) {
				t.Errorf("its tables: %v", err)
			}
			if took := time.Since(begun); took > 30*time.Second {
				t.Errorf("it took %s", took)
			} else {
				t.Log(took)
			}
		})
	}
}

// All tests wait for less long than usual for what does not answer.
func TestMain(m *testing.M) {
	silence.Bear(500*time.Millisecond, time.Second)
	engine.Outage = 8 * time.Second
	os.Setenv("AWS_ACCESS_KEY_ID", "ferry")
	os.Setenv("AWS_SECRET_ACCESS_KEY", "not-needed")
	os.Exit(dbtest.Main(m))
}
