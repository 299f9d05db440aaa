package mariadb

import (
	"database/sql"
	"errors"
	"regexp"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

func TestSignalsTellWhoWaitsForOurs(t *testing.T) {
	url := dbtest.MariaDB(t)
	s := openAt(t, url)
	if err := dbtest.ExecMariaDB(url,
		"CREATE TABLE scan (id integer PRIMARY KEY, at datetime); INSERT INTO scan VALUES (1, '2020-01-01'), (2, "+
			"'2020-01-02')"); err != nil {
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
		// the server makes the list anew when nobody has asked for a tenth of a second
		for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(200 * time.Millisecond) {
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
	if err := s.PrepareJournal(t.Context()); !errors.Is(err, source.ErrByStatement) {
		t.Errorf("making the journal: %v", err)
	}
	if _, err := s.TakeLease(t.Context(), "scan", "me", "run"); !errors.Is(err, source.ErrByStatement) {
		t.Errorf("taking a table in hand: %v", err)
	}
	if err := dbtest.ExecMariaDB(server.URL("mysql"), "SET GLOBAL binlog_format = 'ROW'"); err != nil {
		t.Fatal(err)
	}
	again, err := Open(t.Context(), source.Config{Name: "harbour", Address: server.URL("harbour"), Connections: 4,
		Origin: "7"})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if err := again.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	lease, err := again.TakeLease(t.Context(), "scan", "me", "run")
	if err != nil {
		t.Errorf("by row: %v", err)
	}
	// Those who read the log can tell our deletes by their domain, and by the statement that is kept with the rows.
	if err := dbtest.ExecMariaDB(server.URL("harbour"),
		"CREATE TABLE scan (id integer PRIMARY KEY, at datetime); INSERT INTO scan VALUES (1, '2020-01-01'), (2, "+
			"'2020-01-02')"); err != nil {
		t.Fatal(err)
	}
	table, err := again.Table(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	sel := source.Every(table, rule.Age{Column: "at"}, time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC))
	var digests []value.Digest
	var h value.Hasher
	slice, err := again.ReadSlice(t.Context(), source.SliceRequest{Selection: sel, Columns: []int{0, 1}, MaxRows: 10,
		MaxBytes: 1 << 20}, func(c *value.Chunk) error {
		for i := range c.Rows() {
			digests = append(digests, h.Row(c.Row(i)))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if row, err := again.DeleteBatch(t.Context(), source.Batch{Selection: sel, Lease: lease, Segment: 1, Number: 1,
		Ordinals: []int{0, 1}, Locators: slice.Locators, Digests: digests, Columns: []int{0, 1},
		LockWait: time.Second}); err != nil || row.Deleted != 2 {
		t.Fatal(row, err)
	}
	rows, err := again.db.Query("SHOW BINLOG EVENTS")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var info []string
	for rows.Next() {
		var name, kind, text string
		var from, server, to int64
		if err := rows.Scan(&name, &from, &kind, &server, &to, &text); err != nil {
			t.Fatal(err)
		}
		info = append(info, text)
	}
	if got := strings.Join(info, "\n"); !strings.Contains(got,
		"/* ambercellar: run run, segment 1, batch 1 */ DELETE FROM `scan`") || !strings.Contains(got, "GTID 7-") ||
		!strings.Contains(got, "GTID 0-") {
		t.Errorf("the binary log:\n%s", got)
	}
}

// An account that may not see what others do says so while others are connected; one that may sees who is at work, and
// not our own.
func TestOthersAreSeenOrSaidToBeHidden(t *testing.T) {
	t.Parallel()
	server, ruler := ownServer(t)
	url := server.URL("harbour")
	if err := dbtest.ExecMariaDB(url, "CREATE USER keeper@'%'; CREATE USER keeper@localhost; "+
		"GRANT ALL ON harbour.* TO keeper@'%'; GRANT ALL ON harbour.* TO keeper@localhost"); err != nil {
		t.Fatal(err)
	}
	keeper := openAt(t, regexp.MustCompile("//[^@]*@").ReplaceAllString(url, "//keeper@"))
	look := func(s *Source) pace.Look {
		seen, err := s.Others(t.Context(), 300*time.Millisecond)
		if err != nil {
			t.Fatal(err)
		}
		return seen
	}
	look(ruler)
	time.Sleep(500 * time.Millisecond)
	if seen := look(ruler); seen.Hidden != "" || seen.Busy != 0 {
		t.Errorf("beside our own alone: %+v", seen)
	}
	others, err := dbtest.OpenMariaDB(url)
	if err != nil {
		t.Fatal(err)
	}
	defer others.Close()
	others.SetMaxOpenConns(1)
	busy := func() {
		if _, err := others.Exec("SELECT 1"); err != nil {
			t.Fatal(err)
		}
	}
	busy()
	if seen := look(ruler); seen.Busy != 1 || seen.Hidden != "" {
		t.Errorf("who sees all sees %+v", seen)
	}
	second, err := dbtest.OpenMariaDB(url)
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	if err := second.Ping(); err != nil {
		t.Fatal(err)
	}
	if seen := look(keeper); !strings.Contains(seen.Hidden, "GRANT PROCESS") {
		t.Errorf("who may not see others sees %+v", seen)
	}
	look(ruler) // which sees that somebody came
	time.Sleep(500 * time.Millisecond)
	if seen := look(ruler); seen.Busy != 0 || seen.Hidden != "" {
		t.Errorf("beside somebody who is idle: %+v", seen)
	}
	busy()
	if seen := look(ruler); seen.Busy != 1 {
		t.Errorf("when that one works again: %+v", seen)
	}
}
