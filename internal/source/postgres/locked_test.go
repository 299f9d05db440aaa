package postgres

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

// A table that others have locked is one line of the list, and keeps the others from nothing.
func TestALockedTableIsOneLineOfTheList(t *testing.T) {
	url := dbtest.Postgres(t)
	if err := dbtest.Exec(url,
		`CREATE TABLE scan (id int PRIMARY KEY, at timestamptz NOT NULL, note text DEFAULT now()::text);
			CREATE INDEX scan_at ON scan (at, lower(note)); INSERT INTO scan VALUES (1, '2020-01-01');
		CREATE TABLE part (id int, at timestamptz NOT NULL) PARTITION BY RANGE (at); CREATE TABLE part_1
			PARTITION OF part FOR VALUES FROM ('2020-01-01') TO ('2020-02-01');
		CREATE TABLE other (id int PRIMARY KEY, at timestamptz NOT NULL, scan_id int REFERENCES scan (id));
			INSERT INTO other VALUES (1, '2020-01-01', 1); CREATE INDEX other_at ON other (at)`); err != nil {
		t.Fatal(err)
	}
	c, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(t.Context(), "BEGIN; LOCK TABLE scan, part IN ACCESS EXCLUSIVE MODE"); err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), source.Config{Name: "harbour", Address: url, TLS: "off"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	begun := time.Now()
	list, err := s.Tables(t.Context())
	if err != nil || len(list) != 3 {
		t.Fatalf("%d tables, %v", len(list), err)
	}
	for _, x := range list {
		if locked := x.Name != "other"; x.Locked != locked || (x.Bytes < 0) != locked || (x.Oldest == "") != locked ||
			len(x.Columns) < 2 {
			t.Errorf("%+v", x)
		}
	}
	if _, err := s.Check(t.Context()); err != nil {
		t.Errorf("the check of the source: %v", err)
	}
	if took := time.Since(begun); took > 1900*time.Millisecond { // less than one lock is waited for
		t.Errorf("it took %s", took)
	}
}

// A probe that waits for a lock takes as long as the lock is held: what comes before a probe does not wait for it
// unseen.
func TestAProbeFeelsALock(t *testing.T) {
	url, s, table := probed(t)
	probe := func(kind pace.FeelKind) time.Duration {
		called := time.Now()
		begun, took, err := s.Probe(t.Context(), kind, table)
		if err != nil || begun.Before(called) || begun.Add(took).After(time.Now()) {
			t.Fatalf("a probe of %s: %v", took, err)
		}
		return took
	}
	c := workload(t, url)
	for _, kind := range pace.FeelKinds {
		probe(kind)
		if _, err := c.Exec(t.Context(), "BEGIN; LOCK TABLE scan IN ACCESS EXCLUSIVE MODE"); err != nil {
			t.Fatal(err)
		}
		held, done := time.Now(), make(chan error)
		time.AfterFunc(300*time.Millisecond, func() {
			_, err := c.Exec(context.Background(), "ROLLBACK")
			done <- err
		})
		if took := probe(kind); took < 200*time.Millisecond {
			t.Errorf("a %s beside a lock of %s took %s", kind, time.Since(held), took)
		}
		if err := <-done; err != nil {
			t.Fatal(err)
		}
	}
}
