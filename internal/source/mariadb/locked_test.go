package mariadb

import (
	"context"
	"database/sql"
	"testing"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/dbtest"
)

// somebodyElse is a connection of another user of a database.
func somebodyElse(t *testing.T, url string) *sql.Conn {
	t.Helper()
	db, err := dbtest.OpenMariaDB(url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	c, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// A table that others have locked is one line of the list, and keeps the others from nothing.
func TestALockedTableIsOneLineOfTheList(t *testing.T) {
	url := dbtest.MariaDB(t)
	if err := dbtest.ExecMariaDB(url,
		`CREATE TABLE scan (id int PRIMARY KEY, at datetime NOT NULL, KEY (at)); INSERT INTO scan VALUES (1,
			'2020-01-01');
		CREATE TABLE other (id int PRIMARY KEY, at datetime NOT NULL, KEY (at)); INSERT INTO other VALUES (1,
			'2020-01-01')`); err != nil {
		t.Fatal(err)
	}
	c := somebodyElse(t, url)
	if _, err := c.ExecContext(t.Context(), "LOCK TABLES scan WRITE"); err != nil {
		t.Fatal(err)
	}
	s := openAt(t, url)
	begun := time.Now()
	list, err := s.Tables(t.Context())
	if err != nil || len(list) != 2 {
		t.Fatalf("%d tables, %v", len(list), err)
	}
	for _, x := range list {
		if (x.Oldest == "") != (x.Name == "scan") || len(x.Columns) != 2 {
			t.Errorf("%+v", x)
		}
	}
	if _, err := s.Check(t.Context()); err != nil {
		t.Errorf("the check of the source: %v", err)
	}
	if took := time.Since(begun); took > 3500*time.Millisecond { // one lock is waited for, for a second: no more
		t.Errorf("it took %s", took)
	}
}

// A probe that waits for a lock takes as long as the lock is held: what comes before a probe does not wait for it
// unseen.
func TestAProbeFeelsALock(t *testing.T) {
	url := dbtest.MariaDB(t)
	err := dbtest.ExecMariaDB(url, "CREATE TABLE scan (id int PRIMARY KEY); INSERT INTO scan VALUES (1)")
	if err != nil {
		t.Fatal(err)
	}
	s := openAt(t, url)
	table, err := s.Table(t.Context(), "scan")
	if err == nil {
		err = s.PrepareJournal(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	c := somebodyElse(t, url)
	for _, kind := range pace.FeelKinds {
		if _, err := c.ExecContext(t.Context(), "LOCK TABLES scan WRITE"); err != nil {
			t.Fatal(err)
		}
		done := make(chan error)
		time.AfterFunc(300*time.Millisecond, func() {
			_, err := c.ExecContext(context.Background(), "UNLOCK TABLES")
			done <- err
		})
		called := time.Now()
		begun, took, err := s.Probe(t.Context(), kind, table)
		if err != nil || begun.Before(called) || took < 200*time.Millisecond || took > time.Since(called) {
			t.Errorf("a %s beside a lock of 300 ms took %s: %v", kind, took, err)
		}
		if err := <-done; err != nil {
			t.Fatal(err)
		}
	}
}
