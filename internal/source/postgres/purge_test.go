package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// purge purges the next rows of a table that move has read, as batch n of slice 2.
func (m *moving) purge(n, rows int, after []value.Value) (*source.JournalRow, []value.Value, error) {
	return m.s.(*Source).Purge(m.t.Context(), source.PurgeRequest{Selection: m.sel, Lease: m.lease, Segment: 2,
		Number: n, Rows: rows, After: after})
}

func TestOnlyWhatNothingElseDecidesIsPurgedDirectly(t *testing.T) {
	const many = "INSERT INTO scan SELECT g, timestamptz '2020-01-01' + (g / %s) * interval '1 minute', " +
		"repeat('x', 200) FROM generate_series(0, 5999) g; ANALYZE scan;"
	few, far := fmt.Sprintf(scanTable, "")+scanRows, fmt.Sprintf(many, "2")
	bare := strings.Replace(fmt.Sprintf(scanTable, ""), "CREATE INDEX ON scan (at);", "", 1)
	for _, c := range []struct {
		name, ddl string
		want      bool
	}{
		{"few rows, without an index of the age", bare + scanRows, true},
		{"many rows, without an index of the age", bare + far, false},
		{"many rows, with an index of the age", fmt.Sprintf(scanTable, "") + far, true},
		{"many rows, with an index that leads elsewhere", bare + "CREATE INDEX ON scan (note, at);" + far, false},
		{"many rows, with an index of some", bare + "CREATE INDEX ON scan (at) WHERE id > 5;" + far, false},
		{"many rows, with an index that has no order", bare + "CREATE INDEX ON scan USING brin (at);" + far, false},
		{"many rows of one age", fmt.Sprintf(scanTable, "") + fmt.Sprintf(many, "100"), false},
		{"others refer to it", few + "CREATE TABLE claim (id integer PRIMARY KEY, scan integer REFERENCES scan (id))",
			false},
		{"triggers see its deletes", few +
			"CREATE FUNCTION seen() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN OLD; END'; CREATE TRIGGER " +
			"seen BEFORE DELETE ON scan FOR EACH ROW EXECUTE FUNCTION seen()", false},
		{"others inherit from it", few + "CREATE TABLE late () INHERITS (scan)", false},
		{"rules rewrite its deletes", few + "CREATE RULE never AS ON DELETE TO scan DO INSTEAD NOTHING", false},
		{"policies hide rows", few + "ALTER TABLE scan ENABLE ROW LEVEL SECURITY", false},
		{"it is partitioned", "CREATE TABLE scan (id integer, at timestamptz NOT NULL, note text, PRIMARY KEY (id, " +
			"at)) PARTITION BY RANGE (at); CREATE TABLE scan_all PARTITION OF scan DEFAULT", false},
		{"it has no key", "CREATE TABLE scan (id integer, at timestamptz NOT NULL, note text);" + scanRows, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, exec := open(t)
			exec(c.ddl)
			table, err := s.Table(t.Context(), "scan")
			if err != nil {
				t.Fatal(err)
			}
			q := source.PurgeRequest{Selection: source.Every(table, rule.Age{Column: "at"},
				time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)), Rows: 5000}
			if got := s.(*Source).PurgesDirect(t.Context(), q); got != c.want {
				t.Errorf("purged unread: %v", got)
			}
			s.(*Source).cfg.Origin = "cellar"
			if s.(*Source).PurgesDirect(t.Context(), q) {
				t.Error("two sessions side by side would need one replication origin")
			}
		})
	}
}

// What others do to rows while a purge waits for them is judged as it then stands; the place where the next batch
// begins is none of theirs.
func TestAPurgeJudgesRowsAsOthersLeaveThem(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows)
	other, err := pgx.Connect(t.Context(), m.s.(*Source).cfg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close(context.Background())
	do := func(statements string) {
		t.Helper()
		if _, err := other.Exec(t.Context(), statements); err != nil {
			t.Fatal(err)
		}
	}

	do("BEGIN; UPDATE scan SET note = 'still in hand' WHERE id = 4")
	if _, _, err := m.purge(1, 10, nil); !errors.Is(err, source.ErrBusy) {
		t.Fatalf("beside a row that is locked: %v", err)
	}
	if n := m.live(); n != 40 {
		t.Fatalf("%d rows are live: a part of the batch is gone", n)
	}
	do("COMMIT")

	// 3 is not due any more, 4 still is, 5 has become older than all and 6 the newest that is due, 7 is gone, 8 is
	// another row of its key.
	do(`BEGIN; UPDATE scan SET at = '2026-01-01' WHERE id = 3; UPDATE scan SET note = 'changed'
		WHERE id = 4; UPDATE scan SET at = '2019-01-01' WHERE id = 5;
		UPDATE scan SET at = '2024-12-31' WHERE id = 6; DELETE FROM scan WHERE id IN (7, 8); INSERT INTO scan
			VALUES (8, '2026-01-01', 'new')`)
	committed := make(chan error, 1)
	go func() {
		for waiting := 0; waiting == 0; {
			if err := other.QueryRow(context.Background(), "SELECT count(*) FROM pg_locks WHERE NOT granted").Scan(
				&waiting); err != nil {
				committed <- err
				return
			}
		}
		_, err := other.Exec(context.Background(), "COMMIT")
		committed <- err
	}()
	row, next, err := m.purge(1, 10, nil)
	if err := errors.Join(err, <-committed); err != nil {
		t.Fatal(err)
	}
	ids := func() (out string) {
		if err := m.s.(*Source).pool.QueryRow(t.Context(),
			"SELECT string_agg(id::text, ' ' ORDER BY id) FROM public.scan WHERE id < 13").Scan(&out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	if got := ids(); got != "3 6 8 11 12" || next[1].N != 10 {
		t.Errorf("after a batch of ten: %s live, %d gone, the next begins behind %v", got, row.Deleted, next)
	}

	// The rest goes, with the one that became the newest, in batches that end where they were looked up to end.
	gone := row.Deleted
	for n := 2; ; n++ {
		row, place, err := m.purge(n, 10, next)
		if err != nil {
			t.Fatal(err)
		}
		if row.Rows == 0 {
			break
		}
		gone, next = gone+row.Deleted, place
	}
	if got := ids(); got != "3 8" || m.live() != 40-1-gone {
		t.Errorf("in the end %s of the first are live, %d of all, and %d were purged", got, m.live(), gone)
	}
}

// The server may still be at a batch whose connection was cut. It is waited for, and what it did is not done again.
func TestABatchWaitsForAnEarlierTryOfItself(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows)
	other, err := pgx.Connect(t.Context(), m.s.(*Source).cfg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close(context.Background())
	for at, commit := range []bool{false, true} {
		if _, err := other.Exec(t.Context(),
			fmt.Sprintf("BEGIN; INSERT INTO ambercellar.batch VALUES ('run', 2, %[1]d, 'scan', false, 0, '%[2]s', "+
				"0, '%[2]s', '%[3]s', 0, 0, now())", at+1, value.Set{},
				(&source.JournalRow{}).LeftOut())); err != nil {
			t.Fatal(err)
		}
		type answer struct {
			row  *source.JournalRow
			next []value.Value
			err  error
		}
		got := make(chan answer, 1)
		go func() {
			row, next, err := m.purge(at+1, 5, nil)
			got <- answer{row, next, err}
		}()
		select {
		case a := <-got:
			t.Fatalf("it did not wait: %+v", a)
		case <-time.After(3 * purgeWait):
		}
		if !commit { // meanwhile others put rows where the batch has looked already: it is no larger for them
			m.exec("INSERT INTO scan SELECT 100 + g, '2020-01-02', 'late' FROM generate_series(1, 3) g")
		}
		end := map[bool]string{true: "COMMIT", false: "ROLLBACK"}[commit]
		if _, err := other.Exec(t.Context(), end); err != nil {
			t.Fatal(err)
		}
		a := <-got
		if commit {
			if a.err != nil || a.next != nil || a.row.Batch != 2 || m.live() != 38 {
				t.Errorf("where the earlier try was committed: %+v, next %v, %v, %d live", a.row, a.next, a.err,
					m.live())
			}
			continue
		}
		if a.err != nil || a.row.Deleted != 5 || m.live() != 38 {
			t.Errorf("where it was taken back: %+v, %v, %d live", a.row, a.err, m.live())
		}
	}
}
