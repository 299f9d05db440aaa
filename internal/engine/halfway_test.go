package engine

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// halfway is a database at which something happens after the first batch of a run.
type halfway struct {
	*fatal
	once   sync.Once
	happen func()
}

func (f *halfway) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	defer f.once.Do(f.happen)
	return f.fatal.DeleteBatch(ctx, b)
}

func (f *halfway) DeleteFamilies(ctx context.Context, b source.Batch) ([]*source.JournalRow, error) {
	defer f.once.Do(f.happen)
	return f.fatal.DeleteFamilies(ctx, b)
}

func (f *halfway) Purge(ctx context.Context, q source.PurgeRequest) (*source.JournalRow, []value.Value, error) {
	defer f.once.Do(f.happen)
	return f.fatal.Purge(ctx, q)
}

// mishap is what somebody does to a table, or to our account, while a run works on it.
type mishap struct {
	name    string
	engines string
	strike  map[string][]string // by engine; "" for those that are not named
	mend    map[string][]string // what makes the run possible again; nil: nothing does
	reason  string              // that the run stops for
	keeps   bool                // not a row goes after it
}

const every = "sqlite postgres mariadb"

var mishaps = []mishap{
	{name: "a column is added and filled", engines: every,
		reason: `altered since the plan was made (column "extra" is new)`, keeps: true,
		strike: map[string][]string{"": {"ALTER TABLE scan ADD extra varchar(20)",
			"UPDATE scan SET extra = 'important'"}}},
	{name: "a column is dropped", engines: every, reason: `altered since the plan was made (column "note" is gone)`,
		keeps:  true,
		strike: map[string][]string{"": {"ALTER TABLE scan DROP COLUMN note"}}},
	{name: "a column has another type", engines: "postgres mariadb", reason: `column "note" is now of type`,
		keeps: true,
		strike: map[string][]string{"postgres": {"ALTER TABLE scan ALTER note TYPE text"},
			"mariadb": {"ALTER TABLE scan MODIFY note varchar(80)"}}},
	{name: "rows of another table refer to it and would go along", engines: every,
		reason: "child (scan) now refers to it", keeps: true,
		strike: map[string][]string{"": {
			"CREATE TABLE child (id integer PRIMARY KEY, scan integer, FOREIGN KEY (scan) REFERENCES scan (id) ON " +
				"DELETE CASCADE)", "INSERT INTO child SELECT id, id FROM scan"}}},
	{name: "it is dropped", engines: every, reason: "is not there any more",
		strike: map[string][]string{"": {"DROP TABLE scan"}}},
	{name: "it is renamed", engines: every, reason: "is not there any more", keeps: true,
		strike: map[string][]string{"": {"ALTER TABLE scan RENAME TO old_scan"}},
		mend:   map[string][]string{"": {"ALTER TABLE old_scan RENAME TO scan"}}},
	{name: "another takes its place", engines: every, reason: "altered since the plan was made", keeps: true,
		strike: map[string][]string{ // at once: a run that looks in between would find no table
			"": {"BEGIN; ALTER TABLE scan RENAME TO old_scan; CREATE TABLE scan (id integer PRIMARY KEY, at " +
				"date, remark varchar(9)); COMMIT"},
			"mariadb": {"CREATE TABLE new_scan (id integer PRIMARY KEY, at date, remark varchar(9))",
				"RENAME TABLE scan TO old_scan, new_scan TO scan"}},
		mend: map[string][]string{"": {"DROP TABLE scan", "ALTER TABLE old_scan RENAME TO scan"}}},
	{name: "the right to delete is revoked", engines: "postgres mariadb", reason: "no right to that",
		strike: map[string][]string{"postgres": {"REVOKE DELETE ON scan FROM ACCOUNT"},
			"mariadb": {"REVOKE DELETE ON scan FROM ACCOUNT@'%'"}},
		mend: map[string][]string{"postgres": {"GRANT DELETE ON scan TO ACCOUNT"},
			"mariadb": {"GRANT DELETE ON scan TO ACCOUNT@'%'"}}},
	{name: "a trigger rejects deletes", engines: every, reason: "not now", keeps: true,
		strike: map[string][]string{"sqlite": {
			"CREATE TRIGGER no BEFORE DELETE ON scan BEGIN SELECT RAISE(ABORT, 'not now'); END"},
			"postgres": {"CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'not " +
				"now'; END $$", "CREATE TRIGGER no BEFORE DELETE ON scan FOR EACH ROW EXECUTE FUNCTION no()"},
			"mariadb": {"CREATE TRIGGER no BEFORE DELETE ON scan FOR EACH ROW SIGNAL SQLSTATE '45000' SET " +
				"MESSAGE_TEXT = 'not now'"}},
		mend: map[string][]string{"": {"DROP TRIGGER no"}, "postgres": {"DROP TRIGGER no ON scan"}}},
}

// of picks an engine's statements, with the name of our account in them.
func of(statements map[string][]string, engine, account string) (out []string) {
	list, ok := statements[engine]
	if !ok {
		list = statements[""]
	}
	for _, s := range list {
		out = append(out, strings.ReplaceAll(s, "ACCOUNT", account))
	}
	return out
}

// Whatever becomes of a table, or of our rights on it, in the middle of a run: the run stops with a reason, nothing
// goes that was not copied, and what can go on goes on when it was put right.
func TestWhatHappensToATableInTheMiddleOfARun(t *testing.T) {
	t.Parallel()
	for _, m := range mishaps {
		for _, engine := range strings.Fields(m.engines) {
			for _, then := range []string{"archive", "purge"} {
				t.Run(m.name+", "+then+" "+engine, func(t *testing.T) { m.play(t, engine, then) })
			}
		}
	}
}

func (m *mishap) play(t *testing.T, engine, then string) {
	h := newHarbour(t, engine)
	scans(t, h)
	b := h.serve(t, nil)
	s := &scene{name: m.name, rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", then),
		tables: []string{"scan"}, purges: then == "purge", gone: 239}
	if !s.purges {
		s.rule += cellar
	}
	before := s.rows(t, b)
	run := s.start(t, h, b)
	account := h.account(t, b)
	b.close()
	root := h.address
	if account != "" {
		u, _ := url.Parse(h.address)
		u.User = url.User(account)
		h.address = u.String()
	}
	left := int64(-1)
	b = h.serve(t, func(src source.Source) source.Source {
		return &halfway{fatal: newFatal(src, &killer{}), happen: func() {
			h.exec(t, of(m.strike, engine, account)...)
			if m.keeps {
				left = h.count(t, "SELECT count(*) FROM "+m.table())
			}
		}}
	})
	err := s.work(t, b, run)
	if err == nil || !strings.Contains(err.Error(), m.reason) {
		t.Errorf("the run says %v, not %q", err, m.reason)
	}
	if m.keeps {
		if n := h.count(t, "SELECT count(*) FROM "+m.table()); n != left || n == matrixRows {
			t.Errorf("%d rows are live, and %d were when it happened", n, left)
		}
	}
	b.close()
	if m.mend != nil {
		h.exec(t, of(m.mend, engine, account)...)
		b = h.serve(t, nil)
		if err := s.work(t, b, run); err != nil {
			t.Fatalf("put right again: %v", err)
		}
		s.account(t, b, h, run, before, "put right again")
		return
	}
	b = h.serve(t, nil)
	r := cancelled(t, b, run)
	h.address = root
	if r.Deleted == 0 || r.Deleted >= s.gone {
		t.Errorf("%+v", r.Ledger)
	}
	if n := int64(len(archivedNotes(t, b, run))); !s.purges && n != r.Deleted {
		t.Errorf("%d rows are in the archive, and %d were deleted", n, r.Deleted)
	}
	if m.keeps && r.Deleted+left != matrixRows {
		t.Errorf("%d rows were deleted, and %d are live", r.Deleted, left)
	}
	if strings.Contains(m.reason, "child") {
		if n := h.count(t, "SELECT count(*) FROM child"); n != left {
			t.Errorf("%d rows refer to %d", n, left)
		}
	}
}

// table is where the rows lie when it has happened.
func (m *mishap) table() string {
	for _, list := range m.strike {
		for _, s := range list {
			if strings.Contains(s, "RENAME TO old_scan") {
				return "old_scan"
			}
		}
	}
	return "scan"
}

// account makes an account that has what a run on table scan needs and nothing else, and returns its name; SQLite has
// none.
func (h *harbour) account(t *testing.T, b *bench) string {
	t.Helper()
	if h.engine == "sqlite" {
		return ""
	}
	if err := mustSource(t, b).PrepareJournal(t.Context()); err != nil {
		t.Fatal(err)
	}
	name := "keeper_" + h.database()
	if h.engine == "postgres" {
		h.exec(t, "CREATE ROLE "+name+" LOGIN", "GRANT SELECT, DELETE ON scan TO "+name,
			"GRANT USAGE ON SCHEMA ambercellar TO "+name,
			"GRANT ALL ON ALL TABLES IN SCHEMA ambercellar TO "+name)
		return name
	}
	at := name + "@'%'"
	h.exec(t, "CREATE USER "+at, "GRANT CREATE, CREATE VIEW, SELECT, INSERT, UPDATE ON "+h.database()+".* TO "+at,
		"GRANT DELETE ON scan TO "+at)
	for _, table := range strings.Split(
		h.words(t, "SELECT GROUP_CONCAT(table_name) FROM information_schema.tables WHERE table_schema = DATABASE() "+
			"AND table_name LIKE 'ambercellar%'"), ",") {
		h.exec(t, "GRANT DELETE ON "+table+" TO "+at)
	}
	return name
}

// A related table is what was planned, too, and so is a partition when it is taken out.
func TestRelatedTablesAndPartitionsThatAreAlteredStopTheRun(t *testing.T) {
	t.Parallel()
	for _, engine := range strings.Fields(every) {
		t.Run("related and dropped "+engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			journeys(t, h)
			s := scenes[slices.IndexFunc(scenes, func(s scene) bool { return s.name == "families" })]
			b := h.serve(t, func(src source.Source) source.Source {
				return &halfway{fatal: newFatal(src, &killer{}), happen: func() { h.exec(t, "DROP TABLE leg") }}
			})
			b.Engine.Runs.SliceRows = 10
			run := s.start(t, h, b)
			if err := s.work(t, b, run); err == nil ||
				!strings.Contains(err.Error(),
					"table trip was altered since the plan was made (leg (trip) no longer refers to it)") {
				t.Errorf("the run says %v", err)
			}
			b.close()
			if r := cancelled(t, h.serve(t, nil), run); r.Deleted != 40-h.count(t, "SELECT count(*) FROM trip") ||
				r.Deleted == 0 {
				t.Errorf("%d families left, ledger %+v", 40-h.count(t, "SELECT count(*) FROM trip"), r.Ledger)
			}
		})
		t.Run("joined and dropped "+engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			h.exec(t, "CREATE TABLE gate (id integer PRIMARY KEY, name varchar(20))",
				"INSERT INTO gate SELECT id, 'north' FROM scan")
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "where: gate.name = 'north'\n    before: 2020-01-11",
				"archive") + cellar + "joins: {gate: {table: gate, on: {id: id}}}\ninclude: [gate.name]\n"}
			b := h.serve(t, func(src source.Source) source.Source {
				return &halfway{fatal: newFatal(src, &killer{}), happen: func() { h.exec(t, "DROP TABLE gate") }}
			})
			run := s.start(t, h, b)
			if err := s.work(t, b, run); err == nil ||
				!strings.Contains(err.Error(), "table gate is not there any more") {
				t.Errorf("the run says %v", err)
			}
			b.close()
			b = h.serve(t, nil)
			r := cancelled(t, b, run)
			if live := h.count(t, "SELECT count(*) FROM scan"); r.Deleted != matrixRows-live || r.Deleted == 0 ||
				int64(len(archivedNotes(t, b, run))) != r.Deleted {
				t.Errorf("%d rows are live, ledger %+v", live, r.Ledger)
			}
		})
		t.Run("related "+engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			journeys(t, h)
			s := scenes[slices.IndexFunc(scenes, func(s scene) bool { return s.name == "families" })]
			b := h.serve(t, nil)
			b.Engine.Runs.SliceRows = 10
			run := s.start(t, h, b)
			b.close()
			left := int64(-1)
			b = h.serve(t, func(src source.Source) source.Source {
				return &halfway{fatal: newFatal(src, &killer{}), happen: func() {
					h.exec(t, "ALTER TABLE leg ADD extra varchar(20)", "UPDATE leg SET extra = 'important'")
					left = h.count(t, "SELECT count(*) FROM leg")
				}}
			})
			b.Engine.Runs.SliceRows = 10
			if err := s.work(t, b, run); err == nil ||
				!strings.Contains(err.Error(),
					`table leg was altered since the plan was made (column "extra" is new)`) {
				t.Errorf("the run says %v", err)
			}
			if n := h.count(t, "SELECT count(*) FROM leg WHERE extra = 'important'"); n != left || n == 80 || n < 20 {
				t.Errorf("%d related rows are live, and %d were when it happened", n, left)
			}
		})
		if engine == "sqlite" { // which has no partitions
			continue
		}
		t.Run("partitions "+engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			h.readings(t, 30)
			s := scenes[slices.IndexFunc(scenes, func(s scene) bool { return s.name == "partitions" })]
			b := h.serve(t, func(src source.Source) source.Source {
				return &meddled{Source: src, Partitions: source.PartitionsOf(src), detach: func() {
					h.exec(t, "ALTER TABLE reading ADD extra varchar(20)", "UPDATE reading SET extra = 'important'")
				}}
			})
			run := s.start(t, h, b)
			before := h.parts(t)
			if err := s.work(t, b, run); err == nil ||
				!strings.Contains(err.Error(),
					`table reading was altered since the plan was made (column "extra" is new)`) {
				t.Errorf("the run says %v", err)
			}
			if n, now := h.count(t, "SELECT count(*) FROM reading WHERE extra = 'important'"), h.parts(t); n != 150 ||
				now != before {
				t.Errorf("%d rows are there, in partitions %s instead of %s", n, now, before)
			}
		})
	}
}

// A clock that jumps in the middle of a run moves no cutoff.
func TestAClockThatJumpsInTheMiddleOfARunMovesNoCutoff(t *testing.T) {
	t.Parallel()
	for _, engine := range strings.Fields(every) {
		for _, jump := range []time.Duration{20 * 365 * 24 * time.Hour, -20 * 365 * 24 * time.Hour} {
			t.Run(fmt.Sprint(engine, " ", jump), func(t *testing.T) {
				h := newHarbour(t, engine)
				scans(t, h)
				b := h.serve(t, nil)
				s := &scene{name: "a clock", rule: fmt.Sprintf(matrixRule, "scan", "keep: P2510D", "archive") + cellar,
					tables: []string{"scan"}}
				before := s.rows(t, b)
				run := s.start(t, h, b)
				r, err := b.Catalog.Run(t.Context(), run)
				if err != nil {
					t.Fatal(err)
				}
				if s.gone = r.Due; s.gone < 200 || s.gone == matrixRows {
					t.Fatalf("%d rows are due", s.gone)
				}
				b.close()
				b = h.serve(t, func(src source.Source) source.Source {
					return &halfway{fatal: newFatal(src, &killer{}), happen: func() {
						b.clock.Lock()
						defer b.clock.Unlock()
						b.now = b.now.Add(jump)
					}}
				})
				if err := s.work(t, b, run); err != nil {
					t.Fatal(err)
				}
				s.account(t, b, h, run, before, "when the clock jumped")
			})
		}
	}
}

// cancelled cancels a run that has stopped, and returns how it ended.
func cancelled(t *testing.T, b *bench, run string) *catalog.Run {
	t.Helper()
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(refuse.ErrCancel)
	r, err := b.Catalog.Run(t.Context(), run)
	if err == nil {
		err = b.Runs.Run(ctx, r)
	}
	if !errors.Is(err, refuse.ErrCancel) {
		t.Fatalf("cancelled: %v", err)
	}
	if r, err = b.Catalog.Run(t.Context(), run); err != nil || r.Balanced == nil || !*r.Balanced {
		t.Fatalf("cancelled, but %+v, %v", r, err)
	}
	return r
}
