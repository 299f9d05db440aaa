package sqlite

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// moving is a slice that was read and is about to be deleted.
type moving struct {
	t       *testing.T
	s       source.Source
	exec    func(string)
	sel     source.Selection
	slice   *source.Slice
	digests []value.Digest
	lease   source.Lease
}

func move(t *testing.T, mode, ddl string) *moving {
	t.Helper()
	s, exec := open(mode)(t)
	exec(ddl)
	if err := s.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	m := &moving{t: t, s: s, exec: exec}
	table, err := s.Table(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	m.sel = source.Every(table, rule.Age{Column: "at"}, time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC))
	var h value.Hasher
	m.slice, err = s.ReadSlice(t.Context(), source.SliceRequest{Selection: m.sel, Columns: m.columns(), MaxRows: 1000,
		MaxBytes: 1 << 30}, func(c *value.Chunk) error {
		for i := range c.Rows() {
			m.digests = append(m.digests, h.Row(c.Row(i)))
		}
		return nil
	})
	if err == nil {
		m.lease, err = s.TakeLease(t.Context(), "scan", "me", "run")
	}
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func (m *moving) columns() (out []int) {
	for i := range m.sel.Table.Columns {
		out = append(out, i)
	}
	return out
}

func (m *moving) delete() (*source.JournalRow, error) {
	b := source.Batch{Selection: m.sel, Lease: m.lease, Segment: 1, Number: 1, Locators: m.slice.Locators,
		Digests: m.digests, Columns: m.columns()}
	for i := range m.digests {
		b.Ordinals = append(b.Ordinals, i)
	}
	return m.s.DeleteBatch(m.t.Context(), b)
}

const rows = "WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 20) INSERT INTO scan " +
	"SELECT %s, datetime('2020-01-01', '+' || g || ' days'), 'note ' || g FROM s;"

func TestWhatHappensBetweenReadAndDelete(t *testing.T) {
	plain := "CREATE TABLE scan (id INTEGER PRIMARY KEY, at DATETIME, note);" + fmt.Sprintf(rows, "g")
	text := "CREATE TABLE scan (id TEXT PRIMARY KEY COLLATE NOCASE NOT NULL, at DATETIME, note);" +
		fmt.Sprintf(rows, "'Key ' || g")
	pair := "CREATE TABLE scan (id, at DATETIME, note, PRIMARY KEY (id, note)) WITHOUT ROWID;" + fmt.Sprintf(rows, "g")
	for _, c := range []struct{ name, ddl, between, want string }{
		{"nothing", plain, "SELECT 1", "20 deleted, changed [], vanished [], skipped []"},
		{"an update that changes nothing", plain, "UPDATE scan SET note = note",
			"20 deleted, changed [], vanished [], skipped []"},
		{"one column of one row", plain, "UPDATE scan SET note = NULL WHERE id = 5",
			"19 deleted, changed [4], vanished [], skipped []"},
		{"another storage class of the same look", plain, "UPDATE scan SET note = CAST(note AS BLOB) WHERE id = 5",
			"19 deleted, changed [4], vanished [], skipped []"},
		{"an age that becomes young", plain, "UPDATE scan SET at = '2026-01-01' WHERE id IN (5, 6)",
			"18 deleted, changed [4 5], vanished [], skipped []"},
		{"deleted and inserted again as it was", plain,
			"DELETE FROM scan WHERE id = 5; INSERT INTO scan VALUES (5, datetime('2020-01-06'), 'note 5')",
			"20 deleted, changed [], vanished [], skipped []"},
		{"keys change places", plain, "UPDATE scan SET id = -5 WHERE id = 5; UPDATE scan SET id = 5 WHERE id = 6",
			"18 deleted, changed [4], vanished [5], skipped []"},
		{"everything is gone", plain, "DELETE FROM scan WHERE id > 1",
			"1 deleted, changed [], vanished [1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19], skipped []"},
		{"a key in other letters", text, "UPDATE scan SET id = upper(id) WHERE id = 'Key 5'",
			"19 deleted, changed [], vanished [4], skipped []"},
		{"a key of two columns", pair,
			"UPDATE scan SET note = 'x' WHERE id = 5; UPDATE scan SET at = '2020-03-01' WHERE id = 6",
			"18 deleted, changed [5], vanished [4], skipped []"},
		{"the file is vacuumed", text, "VACUUM", "20 deleted, changed [], vanished [], skipped []"},
	} {
		for _, mode := range []string{"wal", "delete"} {
			t.Run(c.name+", "+mode, func(t *testing.T) {
				m := move(t, mode, c.ddl)
				m.exec(c.between)
				r, err := m.delete()
				if err != nil {
					t.Fatal(err)
				}
				if got := fmt.Sprintf("%d deleted, changed %v, vanished %v, skipped %v", r.Deleted, r.Changed,
					r.Vanished, r.Skipped); got != c.want {
					t.Errorf("got %s; want %s", got, c.want)
				}
				total := r.Digest
				for _, o := range append(append([]int{}, r.Changed...), r.Vanished...) {
					total.Add(m.digests[o])
				}
				if total != r.Found {
					t.Errorf("deleted and left out are %s, found %s", total, r.Found)
				}
			})
		}
	}
}

func TestAWriterThatHoldsTheLockMakesTheBatchBusy(t *testing.T) {
	m := move(t, "wal", "CREATE TABLE scan (id INTEGER PRIMARY KEY, at DATETIME, note);"+fmt.Sprintf(rows, "g"))
	m.exec("BEGIN IMMEDIATE; UPDATE scan SET note = 'not yet' WHERE id = 3")
	if _, err := m.delete(); !errors.Is(err, source.ErrBusy) {
		t.Errorf("got %v, want ErrBusy", err)
	}
	m.exec("COMMIT")
	r, err := m.delete()
	if err != nil || r.Deleted != 19 || len(r.Changed) != 1 {
		t.Errorf("once the lock is gone: %+v, %v", r, err)
	}
}

func TestATriggerThatRejectsDeletesStopsTheBatchAsAWhole(t *testing.T) {
	m := move(t, "wal", "CREATE TABLE scan (id INTEGER PRIMARY KEY, at DATETIME, note);"+fmt.Sprintf(rows, "g")+
		"CREATE TRIGGER no BEFORE DELETE ON scan WHEN old.id = 13 BEGIN SELECT raise(ABORT, 'not this one'); END;")
	if _, err := m.delete(); err == nil || !strings.Contains(err.Error(), "not this one") {
		t.Errorf("got %v", err)
	}
	if j, err := m.s.Journal(t.Context(), "run", -1); err != nil || len(j) != 0 {
		t.Errorf("the journal holds %+v, %v", j, err)
	}
	table, err := m.s.Table(t.Context(), "scan")
	if err != nil || table.Rows != 20 || len(table.Triggers) != 1 {
		t.Errorf("%+v, %v", table, err)
	}
}

func TestAConflictClauseOfTheTableReplacesNothingInSilence(t *testing.T) {
	m := move(t, "wal", "CREATE TABLE scan (id INTEGER PRIMARY KEY ON CONFLICT REPLACE, at DATETIME, note UNIQUE "+
		"ON CONFLICT REPLACE);"+fmt.Sprintf(rows, "g"))
	if _, err := m.delete(); err != nil {
		t.Fatal(err)
	}
	m.exec("INSERT INTO scan VALUES (5, '2026-01-01', 'newer'), (99, '2026-01-01', 'note 7')")
	restore := func(id int64, note string) (*source.RestoreOutcome, error) {
		row := []value.Value{value.Of(id), value.OfText(fmt.Sprintf("2020-01-%02d 00:00:00", id+1)),
			value.OfText(note)}
		var h value.Hasher
		return m.s.Restore(t.Context(), source.RestoreRequest{Table: m.sel.Table, Restore: "r", Columns: m.columns(),
			Rows: &value.Chunk{Width: 3, Values: row}, Digests: []value.Digest{h.Row(row)}})
	}
	if out, err := restore(5, "note 5"); err != nil || out.Skipped != 1 {
		t.Errorf("a key that is taken: %+v, %v", out, err)
	}
	if out, err := restore(7, "note 7"); err == nil {
		t.Errorf("another unique value that is taken: %+v", out)
	}
	table, err := m.s.Table(t.Context(), "scan")
	if err != nil || table.Rows != 2 {
		t.Errorf("%d rows are there instead of the 2 newer ones, %v", table.Rows, err)
	}
}

func TestADatabaseThatIsNotInWALModeSaysSo(t *testing.T) {
	for mode, blocks := range map[string]bool{"wal": false, "delete": true} {
		s, _ := open(mode)(t)
		if got := s.Reads().BlocksWriters; got != blocks {
			t.Errorf("journal mode %s: readers block writers is %v", mode, got)
		}
		r, err := s.Check(t.Context())
		if err != nil || strings.Contains(fmt.Sprint(r.Items), "not in WAL mode") != blocks {
			t.Errorf("journal mode %s: %+v, %v", mode, r, err)
		}
	}
}
