package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/dbtest/fresh"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/run"
	"ambercellar/internal/source"
	"ambercellar/internal/source/sqlite"
)

// failing is a store that a test can make fail or lie.
type failing struct {
	*store.Directory
	full     int64  // bytes that fit into one file; 0: no bound
	refuse   string // names with this ending cannot be created
	lie      bool   // one bit of what is read is not what was written
	creating int    // how often create was refused
}

func (f *failing) Create(ctx context.Context, name string) (store.File, error) {
	if f.refuse != "" && strings.HasSuffix(name, f.refuse) {
		f.creating++
		return nil, errors.New("the store does not answer")
	}
	file, err := f.Directory.Create(ctx, name)
	if err != nil || f.full == 0 {
		return file, err
	}
	return &fullFile{File: file, left: f.full}, nil
}

type fullFile struct {
	store.File
	left int64
}

func (f *fullFile) Write(p []byte) (int, error) {
	if f.left -= int64(len(p)); f.left < 0 {
		return 0, fmt.Errorf("write: %w", syscall.ENOSPC)
	}
	return f.File.Write(p)
}

func (f *failing) Open(ctx context.Context, name string) (store.Reader, error) {
	r, err := f.Directory.Open(ctx, name)
	if err != nil || !f.lie || !strings.HasSuffix(name, ".parquet") {
		return r, err
	}
	return lyingReader{r}, nil
}

type lyingReader struct{ store.Reader }

func (l lyingReader) ReadAt(p []byte, off int64) (int, error) {
	n, err := l.Reader.ReadAt(p, off)
	if at := 1000 - off; at >= 0 && at < int64(n) {
		p[at] ^= 1
	}
	return n, err
}

// bench is an engine over a real database, store and catalog.
type bench struct {
	cellar string // the directory of the store
	*Engine
	store *failing
	db    *sql.DB
	now   time.Time
	close func()
	clock sync.Mutex
}

// tick is the bench's clock, which goes on a little whenever it is read.
func (b *bench) tick() time.Time {
	b.clock.Lock()
	defer b.clock.Unlock()
	b.now = b.now.Add(time.Millisecond)
	return b.now
}

const rows = 3000

func newBench(t *testing.T, mode string) *bench {
	t.Helper()
	return newBenchIn(t, t.TempDir(), mode)
}

func newBenchIn(t *testing.T, dir, mode string) *bench {
	t.Helper()
	b := openBench(t, dir, mode)
	if _, err := b.db.Exec(fmt.Sprintf(
		"CREATE TABLE scan (id integer PRIMARY KEY, at datetime, note text); CREATE INDEX scan_at ON scan (at);"+
			"WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) INSERT INTO scan SELECT "+
			"g, datetime('2020-01-01', '+' || g || ' minutes'), 'note ' || g FROM s", rows)); err != nil {
		t.Fatal(err)
	}
	if err := b.Catalog.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite"}); err != nil {
		t.Fatal(err)
	}
	if err := b.Catalog.AddStore(t.Context(), "me", catalog.Store{Name: "cellar", Path: "x"}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := b.Plans.ApplyRules(t.Context(), "me", "r",
		[]byte("rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: "+
			"archive\narchive: {store: cellar}\npace: unlimited\n"), ""); err != nil {
		t.Fatal(err)
	}
	return b
}

// openBench is an engine over what a directory holds: source, store and catalog.
func openBench(t *testing.T, dir, mode string) *bench {
	t.Helper()
	path := filepath.Join(dir, "harbour.db")
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)&_pragma=journal_mode("+mode+")")
	if err == nil {
		err = db.Ping() // which makes the file
	}
	if err != nil {
		t.Fatal(err)
	}
	fresh.Catalog(t, filepath.Join(dir, "catalog.db"))
	c, err := catalog.Open(t.Context(), filepath.Join(dir, "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	src, err := sqlite.Open(t.Context(), source.Config{Name: "harbour", Address: path, Connections: 4})
	if err != nil {
		t.Fatal(err)
	}
	d, err := store.MakeDirectory(filepath.Join(dir, "cellar"))
	if err != nil {
		t.Fatal(err)
	}
	closed := sync.OnceFunc(func() { src.Close(); c.Close(); db.Close() })
	t.Cleanup(closed)
	b := &bench{store: &failing{Directory: d}, cellar: filepath.Join(dir, "cellar"), db: db,
		now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), close: closed}
	b.Engine = New(&deps.Deps{Catalog: c, Instance: "test", Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Now:    b.tick,
		Source: func(context.Context, string) (source.Source, error) { return src, nil },
		Store:  func(context.Context, string) (store.Store, error) { return b.store, nil }})
	return b
}

// start begins a run of a plan of the rule scans.
func (b *bench) start(t *testing.T) *catalog.Run {
	t.Helper()
	return b.begin(t, b.plan(t, plan.PlanRequest{}))
}

// begin begins a run of a plan; Run carries it out.
func (b *bench) begin(t *testing.T, p *catalog.Plan) *catalog.Run {
	t.Helper()
	r, err := b.Plans.Start(t.Context(), "me", p.ID, false)
	if err == nil {
		r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
	}
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func (b *bench) live(t *testing.T) (n int) {
	t.Helper()
	if err := b.db.QueryRow("SELECT count(*) FROM scan").Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

func TestAStoreThatFailsOrLiesCostsNoRow(t *testing.T) {
	t.Parallel()
	for _, mode := range []string{"wal", "delete"} {
		for _, c := range []struct {
			name string
			set  func(*failing)
			want error // nil: any
			gone int   // rows that may be gone by then, as their segment is proven
		}{
			{"the disk is full", func(f *failing) { f.full = 2000 }, syscall.ENOSPC, 0},
			{"it returns other bytes than were written", func(f *failing) { f.lie = true }, archive.ErrDamaged, 0},
			{"it takes the rows and not the manifest", func(f *failing) { f.refuse = ".manifest.json" }, nil, 0},
			{"it takes no closing record", func(f *failing) { f.refuse = ".closing.json" }, nil, rows},
		} {
			t.Run(mode+": "+c.name, func(t *testing.T) {
				b := newBench(t, mode)
				r := b.start(t)
				c.set(b.store)
				err := b.Runs.Run(t.Context(), r)
				if err == nil || c.want != nil && !errors.Is(err, c.want) {
					t.Fatalf("the run ended with %v, want %v", err, c.want)
				}
				if n := b.live(t); n < rows-c.gone {
					t.Errorf("%d rows are live", n)
				}
				closed, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{State: "closed"},
					catalog.First(10))
				if err != nil || len(closed) != 0 {
					t.Errorf("%d closed segments, %v", len(closed), err)
				}
				// The store is well again: the same run goes on to its end, and its books balance.
				*b.store = failing{Directory: b.store.Directory}
				r, err = b.Catalog.Run(t.Context(), r.ID)
				if err != nil {
					t.Fatal(err)
				}
				if err := b.Runs.Run(t.Context(), r); err != nil {
					t.Fatal(err)
				}
				if l := r.Ledger; l.Balanced == nil || !*l.Balanced || l.Deleted != rows || l.Copied != rows {
					t.Errorf("ledger %+v", l)
				}
				if n := b.live(t); n != 0 {
					t.Errorf("%d rows are live at the end", n)
				}
			})
		}
	}
}

func TestPlansAreRefusedForAClockThatJumps(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.start(t)
	b.now = b.now.AddDate(0, 0, -3)
	var refused *refuse.Error
	if _, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"}); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "clock") {
		t.Errorf("a clock that went back: %v", err)
	}
}

func TestPlansGrowOld(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	p, err := b.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"})
	if err != nil {
		t.Fatal(err)
	}
	b.now = b.now.Add(25 * time.Hour)
	var refused *refuse.Error
	if _, err := b.Plans.Start(t.Context(), "me", p.ID, false); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "make a new one") {
		t.Errorf("a plan of yesterday: %v", err)
	}
}

func TestBooksThatDoNotBalanceAreFound(t *testing.T) {
	t.Parallel()
	var h value.Hasher
	w := &run.Work{}
	for i := range 4 {
		w.Add([]value.Digest{h.Row([]value.Value{value.Of(int64(i))})})
	}
	sum := func(ordinals ...int) (s value.Set) {
		for _, o := range ordinals {
			s.Add(w.Digests[o])
		}
		return s
	}
	good := func() []source.JournalRow {
		return []source.JournalRow{
			{Batch: 1, Rows: 2, First: 0, Last: 1, Found: sum(0, 1), Deleted: 1, Digest: sum(0), Skipped: []int{1}},
			{Batch: 2, Rows: 2, First: 2, Last: 3, Found: sum(2, 3), Deleted: 1, Digest: sum(3), Changed: []int{2}},
			{Batch: 3, Retry: true, Rows: 1, First: 1, Last: 1, Deleted: 1, Digest: sum(1)},
		}
	}
	books, err := run.ClosingOf(w, good(), nil)
	if err != nil || books.Deleted != 3 || books.Digest != sum(0, 1, 3) || books.Left != sum(2) ||
		fmt.Sprint(books.LeftOut()) != "[2]" {
		t.Fatalf("good books: %+v, %v", books, err)
	}
	if books, err := run.ClosingOf(w, good()[:1], []int{2, 3}); err != nil || fmt.Sprint(books.Skipped) != "[1 2 3]" {
		t.Errorf("books of a cancelled run: %+v, %v", books, err)
	}
	for name, spoil := range map[string]func([]source.JournalRow) []source.JournalRow{
		"a batch is missing": func(j []source.JournalRow) []source.JournalRow { return j[:1] },
		"a row was deleted that was not said": func(j []source.JournalRow) []source.JournalRow {
			j[0].Deleted = 2
			return j
		},
		"another row was deleted than copied": func(j []source.JournalRow) []source.JournalRow {
			j[1].Digest = sum(2)
			return j
		},
		"a row is in two batches": func(j []source.JournalRow) []source.JournalRow { return append(j, j[0]) },
		"a row is named that is not there": func(j []source.JournalRow) []source.JournalRow {
			j[1].Changed = []int{9}
			return j
		},
		"a changed row counts as deleted": func(j []source.JournalRow) []source.JournalRow {
			j[1].Changed = nil
			return j
		},
	} {
		if _, err := run.ClosingOf(w, spoil(good()), nil); !errors.Is(err, refuse.ErrBooks) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
