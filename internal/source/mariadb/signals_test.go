package mariadb

import (
	"database/sql"
	"errors"
	"testing"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

func TestSignalsTellWhoWaitsForOurs(t *testing.T) {
	url := dbtest.MariaDB(t)
	s := openAt(t, url)
	if err := dbtest.ExecMariaDB(url, "CREATE TABLE scan (id integer PRIMARY KEY, at datetime); INSERT INTO scan VALUES (1, '2020-01-01'), (2, '2020-01-02')"); err != nil {
		t.Fatal(err)
	}
	table, err := s.Table(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	v, err := s.Signals(t.Context(), table)
	if err != nil || v[pace.Blocked] != 0 || v[pace.Probe] <= 0 {
		t.Fatalf("at rest: %v (%v)", v, err)
	}
	for _, name := range []string{pace.Active, pace.Waiting, pace.Deadlocks, pace.History} {
		if _, ok := v[name]; !ok {
			t.Errorf("nothing is told of %s", name)
		}
	}
	others, err := dbtest.OpenMariaDB(url)
	if err != nil {
		t.Fatal(err)
	}
	defer others.Close()
	done := make(chan error, 1)
	err = s.transaction(t.Context(), func(c *sql.Conn) error {
		if _, err := c.ExecContext(t.Context(), "UPDATE scan SET at = '2021-01-01' WHERE id = 1"); err != nil {
			return err
		}
		go func() {
			_, err := others.Exec("UPDATE scan SET at = '2022-01-01' WHERE id = 1")
			done <- err
		}()
		for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(200 * time.Millisecond) { // the server makes the list anew when nobody has asked for a tenth of a second
			v, err := s.Signals(t.Context(), table)
			if err != nil || v[pace.Blocked] == 1 {
				return err
			}
			if time.Now().After(deadline) {
				t.Errorf("while one waits for ours: %v", v)
				return nil
			}
		}
	})
	if err = errors.Join(err, <-done); err != nil {
		t.Fatal(err)
	}
}

func TestALogThatIsWrittenByStatementIsRefused(t *testing.T) {
	server, s := ownServer(t, "log-bin", "binlog-format=STATEMENT", "innodb-flush-log-at-trx-commit=0")
	if err := s.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := s.TakeLease(t.Context(), "scan", "me", "run"); !errors.Is(err, source.ErrByStatement) {
		t.Errorf("taking a table in hand: %v", err)
	}
	if err := dbtest.ExecMariaDB(server.URL("mysql"), "SET GLOBAL binlog_format = 'ROW'"); err != nil {
		t.Fatal(err)
	}
	again := openAt(t, server.URL("harbour"))
	if _, err := again.TakeLease(t.Context(), "scan", "me", "run"); err != nil {
		t.Errorf("by row: %v", err)
	}
}
