package postgres

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

// moving is a slice that was read and is about to be deleted, with a session beside it that interferes.
type moving struct {
	t       *testing.T
	s       source.Source
	exec    func(string)
	sel     source.Selection
	slice   *source.Slice
	keys    [][]value.Value
	digests []value.Digest
	lease   source.Lease
	batch   int
	columns []int
}

const scanTable = "CREATE TABLE scan (id integer PRIMARY KEY, at timestamptz NOT NULL, note text) %s; CREATE INDEX " +
	"ON scan (at);"
const scanRows = "INSERT INTO scan SELECT g, timestamptz '2020-01-01' + g * interval '1 day', 'note ' || g FROM " +
	"generate_series(1, 40) g;"

// move fills a table, reads all of it as one slice, and takes the lease.
func move(t *testing.T, ddl string) *moving {
	t.Helper()
	s, exec := open(t)
	return moveAt(t, s, exec, ddl)
}

func moveAt(t *testing.T, s source.Source, exec func(string), ddl string) *moving {
	t.Helper()
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
	m.columns = []int{0, 1, 2}
	var h value.Hasher
	m.slice, err = s.ReadSlice(t.Context(), source.SliceRequest{Selection: m.sel, Columns: m.columns, MaxRows: 1000,
		MaxBytes: 1 << 30}, func(c *value.Chunk) error {
		for i := range c.Rows() {
			m.digests = append(m.digests, h.Row(c.Row(i)))
			m.keys = append(m.keys, value.CloneRow(c.Row(i)[:1]))
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

func (m *moving) delete(ctx context.Context) (*source.JournalRow, error) {
	m.batch++
	b := source.Batch{Selection: m.sel, Lease: m.lease, Segment: 1, Number: m.batch, Locators: m.slice.Locators,
		Digests: m.digests, Columns: m.columns, LockWait: 50 * time.Millisecond}
	for i := range m.digests {
		b.Ordinals = append(b.Ordinals, i)
	}
	return m.s.DeleteBatch(ctx, b)
}

func (m *moving) mustDelete() *source.JournalRow {
	m.t.Helper()
	row, err := m.delete(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	return row
}

func (m *moving) live() (n int) {
	m.t.Helper()
	if err := m.s.(*Source).pool.QueryRow(m.t.Context(), "SELECT count(*) FROM public.scan").Scan(&n); err != nil {
		m.t.Fatal(err)
	}
	return n
}

// outcome is what a batch did, in one line.
func outcome(r *source.JournalRow) string {
	return fmt.Sprintf("%d deleted, changed %v, vanished %v, skipped %v", r.Deleted, r.Changed, r.Vanished, r.Skipped)
}

func TestWhatHappensBetweenReadAndDelete(t *testing.T) {
	plain := fmt.Sprintf(scanTable, "") + scanRows
	for _, c := range []struct {
		name, ddl, between, want string
	}{
		{"nothing", plain, "SELECT 1", "40 deleted, changed [], vanished [], skipped []"},
		{"an update that changes nothing", plain, "UPDATE scan SET note = note WHERE id = 5",
			"39 deleted, changed [4], vanished [], skipped []"},
		{"an update that makes a row young", plain, "UPDATE scan SET at = now() WHERE id = 5",
			"39 deleted, changed [4], vanished [], skipped []"},
		{"deleted and inserted again", plain,
			"DELETE FROM scan WHERE id = 5; INSERT INTO scan VALUES (5, '2020-01-06', 'note 5')",
			"39 deleted, changed [4], vanished [], skipped []"},
		{"keys change places", plain, "UPDATE scan SET id = -5 WHERE id = 5; UPDATE scan SET id = 5 WHERE id = 6",
			"38 deleted, changed [4], vanished [5], skipped []"},
		{"everything is gone", plain, "DELETE FROM scan", fmt.Sprintf("0 deleted, changed [], vanished %v, skipped []",
			upTo(40))},
		{"deleted, vacuumed, and the space used again", plain,
			"DELETE FROM scan WHERE id <= 3; VACUUM scan; INSERT INTO scan SELECT g, '2020-01-01', 'new' FROM " +
				"generate_series(101, 103) g", "37 deleted, changed [], vanished [0 1 2], skipped []"},
		{"frozen in place", plain, "VACUUM FREEZE scan", "40 deleted, changed [], vanished [], skipped []"},
		{"a row moves to another partition",
			"CREATE TABLE scan (id integer, at timestamptz NOT NULL, note text, PRIMARY KEY (id, at)) PARTITION BY " +
				"RANGE (at); CREATE TABLE scan_a PARTITION OF scan FOR VALUES FROM ('2020-01-01') TO " +
				"('2020-01-20'); CREATE TABLE scan_b PARTITION OF scan FOR VALUES FROM ('2020-01-20') TO " +
				"('2021-01-01');" + scanRows,
			"UPDATE scan SET at = '2020-06-01' WHERE id = 2", "39 deleted, changed [], vanished [1], skipped []"},
		{"a partition is dropped", "CREATE TABLE scan (id integer, at timestamptz NOT NULL, note text, PRIMARY KEY " +
			"(id, at)) PARTITION BY RANGE (at); CREATE TABLE scan_a PARTITION OF scan FOR VALUES FROM " +
			"('2020-01-01') TO ('2020-01-04'); CREATE TABLE scan_b PARTITION OF scan FOR VALUES FROM " +
			"('2020-01-04') TO ('2021-01-01');" + scanRows,
			"DROP TABLE scan_a", "38 deleted, changed [], vanished [0 1], skipped []"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := move(t, c.ddl)
			for _, statement := range split(c.between) {
				m.exec(statement)
			}
			row := m.mustDelete()
			if got := outcome(row); got != c.want {
				t.Errorf("got %s; want %s", got, c.want)
			}
			var want value.Set
			left := map[int]bool{}
			for _, o := range append(append(append([]int{}, row.Changed...), row.Vanished...), row.Skipped...) {
				left[o] = true
			}
			for o, d := range m.digests {
				if !left[o] {
					want.Add(d)
				}
			}
			if row.Digest != want {
				t.Errorf("the digest of the deleted rows is %s instead of %s", row.Digest, want)
			}
		})
	}
}

func upTo(n int) (out []int) {
	for i := range n {
		out = append(out, i)
	}
	return out
}

// split takes statements apart, since VACUUM stands alone.
func split(statements string) (out []string) {
	from := 0
	for i, c := range statements + ";" {
		if c == ';' {
			out = append(out, statements[from:min(i, len(statements))])
			from = i + 1
		}
	}
	return out
}

func TestEqualAddressesInSeveralPartitionsAreToldApart(t *testing.T) {
	ddl := "CREATE TABLE scan (id integer, at timestamptz NOT NULL, note text, PRIMARY KEY (id, at)) PARTITION BY " +
		"RANGE (at); CREATE TABLE s1 PARTITION OF scan FOR VALUES FROM ('2020-01-01') TO ('2020-01-12'); CREATE " +
		"TABLE s2 PARTITION OF scan FOR VALUES FROM ('2020-01-12') TO ('2020-01-22'); CREATE TABLE s3 PARTITION OF " +
		"scan FOR VALUES FROM ('2020-01-22') TO ('2021-01-01');" + scanRows
	m := move(t, ddl)
	m.exec("UPDATE s2 SET note = 'edited' WHERE ctid = '(0,3)'") // s1 and s3 have rows of that address and version too
	if got := outcome(m.mustDelete()); got != "39 deleted, changed [12], vanished [], skipped []" {
		t.Errorf("got %s", got)
	}
	if n := m.live(); n != 1 {
		t.Errorf("%d rows are live instead of 1", n)
	}
}

func TestARewrittenTableVoidsTheLocators(t *testing.T) {
	for _, rewrite := range []string{"VACUUM FULL scan", "CLUSTER scan USING scan_pkey",
		"ALTER TABLE scan SET UNLOGGED"} {
		t.Run(rewrite, func(t *testing.T) {
			m := move(t, fmt.Sprintf(scanTable, "")+scanRows)
			m.exec("UPDATE scan SET note = 'edited' WHERE id = 7; DELETE FROM scan WHERE id = 9")
			m.exec(rewrite)
			if _, err := m.delete(t.Context()); !errors.Is(err, source.ErrLocators) {
				t.Fatalf("got %v, want ErrLocators", err)
			}
			if n := m.live(); n != 39 {
				t.Fatalf("%d rows are live instead of 39: something was deleted by an address of the old file", n)
			}
			var err error
			if m.slice.Locators, err = m.s.Locate(t.Context(), m.sel, m.keys, m.digests); err != nil {
				t.Fatal(err)
			}
			if got := outcome(m.mustDelete()); got != "38 deleted, changed [6], vanished [8], skipped []" {
				t.Errorf("got %s", got)
			}
		})
	}
}

func TestLockedRowsAreSkippedAndComeAgain(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows)
	c, err := pgx.Connect(t.Context(), m.s.(*Source).cfg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(t.Context(),
		"BEGIN; UPDATE scan SET note = 'not yet' WHERE id IN (3, 4); SELECT * FROM scan WHERE id = 8 FOR "+
			"SHARE"); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	if got := outcome(m.mustDelete()); got != "37 deleted, changed [], vanished [], skipped [2 3 7]" {
		t.Errorf("got %s", got)
	}
	if took := time.Since(begun); took > 3*time.Second {
		t.Errorf("it waited %s for locks of others", took)
	}
	if _, err := c.Exec(t.Context(), "COMMIT"); err != nil {
		t.Fatal(err)
	}
	m.batch++
	row, err := m.s.DeleteBatch(t.Context(), source.Batch{Selection: m.sel, Lease: m.lease, Segment: 1,
		Number: m.batch, Retry: true, Ordinals: []int{2, 3, 7}, Locators: m.slice.Locators, Digests: m.digests,
		Columns: m.columns, LockWait: time.Second})
	if err != nil || outcome(row) != "1 deleted, changed [2 3], vanished [], skipped []" {
		t.Errorf("again: %+v, %v", row, err)
	}
}

func TestATableThatIsLockedAsAWholeIsBusy(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows)
	c, err := pgx.Connect(t.Context(), m.s.(*Source).cfg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(t.Context(), "BEGIN; LOCK TABLE scan IN SHARE MODE"); err != nil {
		t.Fatal(err)
	}
	if _, err := m.delete(t.Context()); !errors.Is(err, source.ErrBusy) {
		t.Errorf("got %v, want ErrBusy", err)
	}
	if _, err := c.Exec(t.Context(), "COMMIT"); err != nil {
		t.Fatal(err)
	}
	if got := m.mustDelete().Deleted; got != 40 {
		t.Errorf("%d rows were deleted once the lock was gone", got)
	}
}

func TestATriggerThatRejectsDeletesStopsTheBatchAsAWhole(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows+
		"CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF OLD.id = 30 THEN RAISE 'not this "+
		"one'; END IF; RETURN OLD; END $$; CREATE TRIGGER no BEFORE DELETE ON scan FOR EACH ROW EXECUTE FUNCTION no()")
	if _, err := m.delete(t.Context()); err == nil {
		t.Error("the batch passed")
	}
	if n := m.live(); n != 40 {
		t.Errorf("%d rows are live instead of 40", n)
	}
	if j, err := m.s.Journal(t.Context(), "run", -1); err != nil || len(j) != 0 {
		t.Errorf("the journal holds %+v, %v", j, err)
	}
}

func TestATriggerThatKeepsRowsInSilenceIsSeen(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows+
		"CREATE FUNCTION keep() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF OLD.id = 30 THEN RETURN NULL; END "+
		"IF; RETURN OLD; END $$; CREATE TRIGGER keep BEFORE DELETE ON scan FOR EACH ROW EXECUTE FUNCTION keep()")
	if got := outcome(m.mustDelete()); got != "39 deleted, changed [], vanished [], skipped [29]" {
		t.Errorf("got %s", got)
	}
}

func TestARestartOfTheServerVoidsTheLocators(t *testing.T) {
	s, err := dbtest.Start("fsync=off")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	src, err := Open(t.Context(), source.Config{Name: "harbour", Address: s.URL("postgres"), TLS: "off"})
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	if err := s.Exec("postgres", fmt.Sprintf(scanTable, "")+scanRows); err != nil {
		t.Fatal(err)
	}
	if err := src.PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	table, err := src.Table(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	m := &moving{t: t, s: src, columns: []int{0, 1, 2}, sel: source.Every(table, rule.Age{Column: "at"},
		time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC))}
	m.slice, err = src.ReadSlice(t.Context(), source.SliceRequest{Selection: m.sel, Columns: m.columns, MaxRows: 1000,
		MaxBytes: 1 << 30}, func(c *value.Chunk) error {
		m.digests = append(m.digests, make([]value.Digest, c.Rows())...)
		return nil
	})
	if err == nil {
		m.lease, err = src.TakeLease(t.Context(), "scan", "me", "run")
	}
	if err == nil {
		err = s.Restart()
	}
	if err != nil {
		t.Fatal(err)
	}
	for try := 0; ; try++ {
		_, err := m.delete(t.Context())
		if errors.Is(err, source.ErrLocators) {
			break
		}
		if err == nil || try == 10 {
			t.Fatalf("after a restart of the server: %v, want ErrLocators", err)
		}
	}
	if n := m.live(); n != 40 {
		t.Errorf("%d rows are live instead of 40", n)
	}
}

func TestAFenceWaitsForTheBatchInHand(t *testing.T) {
	m := move(t, fmt.Sprintf(scanTable, "")+scanRows)
	c, err := pgx.Connect(t.Context(), m.s.(*Source).cfg.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(t.Context(),
		"BEGIN; SELECT 1 FROM ambercellar.lease WHERE table_name = 'scan' FOR UPDATE"); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- m.s.Fence(t.Context(), "scan") }()
	select {
	case err := <-ended:
		if !errors.Is(err, source.ErrBusy) {
			t.Fatalf("it ended while the batch was going on: %v", err)
		}
		go func() { ended <- m.s.Fence(t.Context(), "scan") }()
	case <-time.After(300 * time.Millisecond):
	}
	if _, err := c.Exec(t.Context(), "COMMIT"); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if err := m.s.Fence(t.Context(), "other"); err != nil {
		t.Errorf("of a table without a lease: %v", err)
	}
	if _, err := c.Exec(t.Context(), "DROP SCHEMA ambercellar CASCADE"); err != nil {
		t.Fatal(err)
	}
	if err := m.s.Fence(t.Context(), "scan"); err != nil {
		t.Errorf("without a journal: %v", err)
	}
}

// A statement that a connection keeps for spurts is of the table as it was: it neither fails for good nor deletes from
// a table that was altered since.
func TestSpurtsGoOnAfterTheKeyHasAnotherType(t *testing.T) {
	m := move(t, "CREATE TABLE scan (id varchar(20) PRIMARY KEY, at timestamptz NOT NULL, note text);"+scanRows)
	deletes := func(number, from int) (*source.JournalRow, error) {
		b := source.Batch{Selection: m.sel, Lease: m.lease, Segment: 1, Number: number, Locators: m.slice.Locators,
			Digests: m.digests, Columns: m.columns, LockWait: 50 * time.Millisecond,
			Spurts: pace.NewSpurts(pace.Profile{Spurt: 2})}
		for o := from; o < from+10; o++ {
			b.Ordinals = append(b.Ordinals, o)
		}
		return m.s.DeleteBatch(t.Context(), b)
	}
	if row, err := deletes(1, 0); err != nil || row.Deleted != 10 {
		t.Fatalf("%+v, %v", row, err)
	}
	m.exec("ALTER TABLE scan ALTER id TYPE text")
	if row, err := deletes(2, 10); !errors.Is(err, source.ErrReshaped) || m.live() != 30 {
		t.Errorf("of a table that was altered: %+v, %v", row, err)
	}
	now, err := m.s.Table(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	m.sel.Table.Sign.Renew(now.Sign)
	if row, err := deletes(2, 10); err != nil || row.Deleted != 10 || m.live() != 20 {
		t.Errorf("described again: %+v, %v", row, err)
	}
}
