package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
)

// The crash matrix: a process carries a run out and is killed at one of its points, before or after whatever lasts;
// then another takes the run up, and every row is counted. The points are all calls that change the database or the
// store or look at the clock, of which there is one before and after everything that the catalog keeps.
// AMBERCELLAR_MATRIX=full goes through all of them, otherwise some are drawn.

// killer kills this process at one of its points.
type killer struct {
	n, at  atomic.Int64
	dir    string
	strike func()      // what happens at the point instead
	broken atomic.Bool // the store answers nothing any more
	full   atomic.Bool // nothing more fits into it
}

func (k *killer) point(name string) {
	if k.n.Add(1) == k.at.Load() {
		if k.strike != nil {
			k.strike()
			return
		}
		os.WriteFile(filepath.Join(k.dir, "killed"), []byte(name), 0o644)
		syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	}
}

// around is a point before a call and one after it.
func (k *killer) around(name string, call func() error) error {
	k.point("before " + name)
	defer k.point("after " + name)
	return call()
}

// answers says whether the store answers, and writes whether it takes more.
func (k *killer) answers() error {
	if k.broken.Load() {
		return errors.New("the store does not answer")
	}
	return nil
}

func (k *killer) writes() error {
	if k.full.Load() {
		return syscall.ENOSPC
	}
	return k.answers()
}

// fatal is a database whose calls are points.
type fatal struct {
	source.Source
	source.Families
	source.Partitions
	source.Emptier
	k *killer
}

func newFatal(src source.Source, k *killer) *fatal {
	return &fatal{src, source.FamiliesOf(src), source.PartitionsOf(src), source.EmptierOf(src), k}
}

// purger is what finds and deletes in one statement; only asked for where PurgesDirect said so.
func (f *fatal) purger() source.Purger {
	p, _ := source.As[source.Purger](f.Source)
	return p
}

func (f *fatal) PrepareJournal(ctx context.Context) error {
	return f.k.around("journal made", func() error { return f.Source.PrepareJournal(ctx) })
}

func (f *fatal) TakeLease(ctx context.Context, table, holder, run string) (l source.Lease, err error) {
	err = f.k.around("lease taken", func() error { l, err = f.Source.TakeLease(ctx, table, holder, run); return err })
	return l, err
}

func (f *fatal) ReleaseLease(ctx context.Context, l source.Lease) error {
	return f.k.around("lease given back", func() error { return f.Source.ReleaseLease(ctx, l) })
}

func (f *fatal) ReadSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (
	s *source.Slice, err error) {
	err = f.k.around("slice read", func() error { s, err = f.Source.ReadSlice(ctx, req, sink); return err })
	return s, err
}

func (f *fatal) DeleteBatch(ctx context.Context, b source.Batch) (r *source.JournalRow, err error) {
	err = f.k.around("batch deleted", func() error { r, err = f.Source.DeleteBatch(ctx, b); return err })
	return r, err
}

func (f *fatal) PurgesDirect(ctx context.Context, q source.PurgeRequest) bool {
	p, ok := source.As[source.Purger](f.Source)
	return ok && p.PurgesDirect(ctx, q)
}

func (f *fatal) PlaceAhead(ctx context.Context, sel source.Selection, after []value.Value, n int) ([]value.Value,
	error) {
	return f.purger().PlaceAhead(ctx, sel, after, n)
}

func (f *fatal) PurgeStatement(ctx context.Context, q source.PurgeRequest) (source.Statement, error) {
	return f.purger().PurgeStatement(ctx, q)
}

func (f *fatal) Purge(ctx context.Context, q source.PurgeRequest) (r *source.JournalRow, next []value.Value,
	err error) {
	err = f.k.around("batch purged", func() error { r, next, err = f.purger().Purge(ctx, q); return err })
	return r, next, err
}

func (f *fatal) DeleteFamilies(ctx context.Context, b source.Batch) (r []*source.JournalRow, err error) {
	err = f.k.around("families deleted", func() error { r, err = f.Families.DeleteFamilies(ctx, b); return err })
	return r, err
}

func (f *fatal) SetHead(ctx context.Context, table string, h source.Head) error {
	return f.k.around("head of the chain set", func() error { return f.Source.SetHead(ctx, table, h) })
}

func (f *fatal) PruneJournal(ctx context.Context, run string, segment int) error {
	return f.k.around("journal pruned", func() error { return f.Source.PruneJournal(ctx, run, segment) })
}

func (f *fatal) Restore(ctx context.Context, q source.RestoreRequest) (o *source.RestoreOutcome, err error) {
	err = f.k.around("rows restored", func() error { o, err = f.Source.Restore(ctx, q); return err })
	return o, err
}

func (f *fatal) Detach(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	return f.k.around("partition taken out", func() error { return f.Partitions.Detach(ctx, l, t, partition) })
}

func (f *fatal) Return(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	return f.k.around("partition put back", func() error { return f.Partitions.Return(ctx, l, t, partition) })
}

func (f *fatal) Empty(ctx context.Context, l source.Lease, t *shape.Table, segment int,
	columns []int) (r *source.JournalRow, err error) {
	err = f.k.around("table emptied", func() error {
		r, err = f.Emptier.Empty(ctx, l, t, segment, columns)
		return err
	})
	return r, err
}

func (f *fatal) Emptied(ctx context.Context, l source.Lease, t *shape.Table, segment int) (r *source.JournalRow,
	err error) {
	err = f.k.around("emptying found out", func() error { r, err = f.Emptier.Emptied(ctx, l, t, segment); return err })
	return r, err
}

func (f *fatal) Seize(ctx context.Context, l source.Lease, t *shape.Table, partition string) (z source.Seized,
	err error) {
	err = f.k.around("partition locked", func() error {
		z, err = f.Partitions.Seize(ctx, l, t, partition)
		return err
	})
	return &fatalSeized{z, f.k}, err
}

type fatalSeized struct {
	source.Seized
	k *killer
}

func (f *fatalSeized) Drop(ctx context.Context, rows []*source.JournalRow) error {
	return f.k.around("partition dropped", func() error { return f.Seized.Drop(ctx, rows) })
}

// fatalStore is a store whose calls are points.
type fatalStore struct {
	store.Store
	k *killer
}

func (f *fatalStore) Create(ctx context.Context, name string) (w store.File, err error) {
	kind := filepath.Ext(name)
	err = f.k.around("file begun "+kind, func() error {
		if err := f.k.writes(); err != nil {
			return err
		}
		w, err = f.Store.Create(ctx, name)
		return err
	})
	return &fatalFile{w, f.k, kind}, err
}

func (f *fatalStore) Remove(ctx context.Context, name string) error {
	return f.k.around("file removed", func() error { return errors.Join(f.k.answers(), f.Store.Remove(ctx, name)) })
}

func (f *fatalStore) Open(ctx context.Context, name string) (r store.Reader, err error) {
	err = f.k.around("file read "+filepath.Ext(name), func() error {
		if err := f.k.answers(); err != nil {
			return err
		}
		r, err = f.Store.Open(ctx, name)
		return err
	})
	return r, err
}

type fatalFile struct {
	store.File
	k    *killer
	kind string
}

func (f *fatalFile) Write(p []byte) (int, error) {
	f.k.point("file written " + f.kind)
	if err := f.k.writes(); err != nil {
		return 0, err
	}
	return f.File.Write(p)
}

func (f *fatalFile) Commit() error {
	return f.k.around("file there "+f.kind, func() error {
		if err := f.k.writes(); err != nil {
			return err
		}
		return f.File.Commit()
	})
}

// scene is what a process does, and what must be true when it is done.
type scene struct {
	name    string
	engines string
	prepare func(t testing.TB, h *harbour)
	rule    string
	tables  []string // whose rows are accounted for
	purges  bool     // rows go without a copy: those of the first table that are due
	gone    int64    // of the first table
	empty   bool
	restore bool   // the run is done already, and restored
	meddle  string // a statement before the first partition is taken out
}

const matrixRows = 250

func scans(t testing.TB, h *harbour) {
	kind := map[string]string{"sqlite": "datetime", "postgres": "timestamptz", "mariadb": "datetime"}[h.engine]
	at := map[string]string{"sqlite": "datetime('2020-01-01', '+' || g || ' hours')",
		"postgres": "timestamptz '2020-01-01 00:00:00+00' + g * interval '1 hour'",
		"mariadb":  "TIMESTAMP '2020-01-01 00:00:00' + INTERVAL g HOUR"}[h.engine]
	h.exec(t, "CREATE TABLE scan (id integer PRIMARY KEY, at "+kind+" NOT NULL, note varchar(40))",
		"CREATE INDEX scan_at ON scan (at)",
		fmt.Sprintf("INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < "+
			"%d) SELECT g, %s, 'note' FROM s", matrixRows, at))
}

// heap is scans without a key, with every row there twice.
func heap(t testing.TB, h *harbour) {
	scans(t, h)
	kind := map[string]string{"sqlite": "datetime", "postgres": "timestamptz"}[h.engine]
	h.exec(t, "CREATE TABLE pairs (id integer, at "+kind+" NOT NULL, note varchar(40))",
		"INSERT INTO pairs SELECT * FROM scan WHERE id <= 125", "INSERT INTO pairs SELECT * FROM scan WHERE id <= 125",
		"DROP TABLE scan", "ALTER TABLE pairs RENAME TO scan", "CREATE INDEX scan_at ON scan (at)")
}

// allScans is a query for all that table scan holds, restored rows among it.
func (h *harbour) allScans() string {
	switch h.engine {
	case "postgres":
		return "SELECT string_agg(scan::text, '|' ORDER BY id) FROM scan"
	case "mariadb":
		return "SELECT GROUP_CONCAT(id, at, note ORDER BY id) FROM scan"
	}
	return "SELECT group_concat(id || at || note, '|' ORDER BY id) FROM scan"
}

func journeys(t testing.TB, h *harbour) {
	kind := map[string]string{"sqlite": "datetime", "postgres": "timestamptz", "mariadb": "datetime"}[h.engine]
	h.exec(t, "CREATE TABLE trip (id integer PRIMARY KEY, at "+kind+" NOT NULL, name varchar(40))",
		"CREATE INDEX trip_at ON trip (at)",
		"CREATE TABLE leg (id integer PRIMARY KEY, trip integer NOT NULL, pier varchar(40), FOREIGN KEY (trip) "+
			"REFERENCES trip (id))", "CREATE INDEX leg_trip ON leg (trip)")
	for i := range 40 {
		h.exec(t, fmt.Sprintf("INSERT INTO trip VALUES (%d, '2020-01-%02d 10:00:00', 'trip')", i+1, i%28+1),
			fmt.Sprintf("INSERT INTO leg VALUES (%d, %d, 'north'), (%d, %d, 'south')", 2*i+1, i+1, 2*i+2, i+1))
	}
}

const matrixRule = "rule: matrix\nsource: harbour\ntable: %s\nage: at\nzone: UTC\nclauses:\n  - %s\nthen: " +
	"%s\npace: unlimited\n"
const cellar = "archive: {store: cellar}\n"

var scenes = []scene{
	{name: "archive", engines: "sqlite postgres mariadb", prepare: scans,
		rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", "archive") + cellar, tables: []string{"scan"},
		gone: 239},
	{name: "purge", engines: "sqlite postgres mariadb", prepare: scans,
		rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", "purge"), tables: []string{"scan"}, purges: true,
		gone: 239},
	{name: "families", engines: "sqlite postgres mariadb", prepare: journeys,
		rule: fmt.Sprintf(matrixRule, "trip", "before: 2020-01-20", "archive") + cellar +
			"related:\n  - {table: leg, then: archive}\n", tables: []string{"trip", "leg"}, gone: 31},
	{name: "partitions", engines: "postgres mariadb", prepare: func(t testing.TB, h *harbour) { h.readings(t, 30) },
		rule:   fmt.Sprintf(matrixRule, "reading", "before: 2026-03-01", "archive") + cellar,
		tables: []string{"reading"}, gone: 60},
	{name: "purged partitions", engines: "postgres mariadb",
		prepare: func(t testing.TB, h *harbour) { h.readings(t, 30) }, rule: fmt.Sprintf(matrixRule, "reading",
			"before: 2026-03-01", "purge"), tables: []string{"reading"}, purges: true, gone: 60},
	{name: "a partition that goes back", engines: "postgres mariadb",
		prepare: func(t testing.TB, h *harbour) { h.readings(t, 30) }, rule: fmt.Sprintf(matrixRule, "reading",
			"before: 2026-03-01", "archive") + cellar, tables: []string{"reading"}, gone: 59,
		meddle: "DELETE FROM reading WHERE id = 101"},
	{name: "empty", engines: "postgres mariadb", prepare: func(t testing.TB, h *harbour) {
		h.queue(t, 50)
		if h.engine == "mariadb" { // a table made just now cannot be told from one emptied just now
			h.exec(t, "DO SLEEP(3.1)")
		}
	}, rule: strings.Replace(emptyRule, "rule: queue", "rule: matrix", 1), tables: []string{"waiting"}, purges: true,
		gone: 50, empty: true},
	{name: "without key", engines: "sqlite postgres", prepare: heap,
		rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar, tables: []string{"scan"},
		gone: 238},
	{name: "purge without key", engines: "sqlite postgres", prepare: heap,
		rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "purge"), tables: []string{"scan"}, purges: true,
		gone: 238},
	{name: "restore without key", engines: "sqlite postgres", prepare: heap,
		rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-06", "archive") + cellar, tables: []string{"scan"},
		restore: true},
	{name: "restore", engines: "sqlite postgres mariadb", prepare: scans,
		rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", "archive") + cellar, tables: []string{"scan"},
		restore: true},
}

// work carries the scene's work out, or goes on with it.
func (s *scene) work(t *testing.T, b *bench, run string) error {
	r, err := b.Catalog.Run(t.Context(), run)
	if err != nil {
		return err
	}
	if !s.restore {
		return b.Runs.Run(t.Context(), r)
	}
	x, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Scope: catalog.Scope{Run: r.ID},
		Target: "table"})
	if err != nil {
		return err
	}
	return b.Restores.Restore(t.Context(), x, t.TempDir())
}

// start prepares the scene up to where a process is to do its work.
func (s *scene) start(t *testing.T, h *harbour, b *bench) (run string) {
	if _, _, err := b.Plans.ApplyRules(t.Context(), "me", "r", []byte(s.rule), ""); err != nil {
		t.Fatal(err)
	}
	p := b.plan(t, plan.PlanRequest{Rule: "matrix"})
	r, err := b.Plans.Start(t.Context(), "me", p.ID, s.empty)
	if err == nil {
		r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
	}
	if err == nil && s.restore {
		if err = b.Runs.Run(t.Context(), r); err == nil {
			r, err = b.Catalog.SetRunState(t.Context(), "service", r.ID, catalog.Done, "")
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	return r.ID
}

// meddled lets somebody change the first partition before it is taken out.
func (s *scene) meddled(t *testing.T, h *harbour, src source.Source) source.Source {
	if s.meddle == "" {
		return src
	}
	return &meddled{Source: src, Partitions: source.PartitionsOf(src), detach: func() {
		other := newHarbourAt(t, h.engine, h.address)
		other.exec(t, s.meddle)
		other.db.Close()
	}}
}

// TestCrashChild is the process that is killed.
func TestCrashChild(t *testing.T) {
	var q struct {
		Dir, Engine, Address, Scene, Run string
		At                               int64
	}
	text := os.Getenv("AMBERCELLAR_CRASH")
	if text == "" {
		return // it is run by the matrix alone
	}
	if err := json.Unmarshal([]byte(text), &q); err != nil {
		t.Fatal(err)
	}
	h := &harbour{dir: q.Dir, engine: q.Engine, address: q.Address}
	k := &killer{dir: q.Dir}
	k.at.Store(q.At)
	for _, s := range scenes {
		if s.name != q.Scene {
			continue
		}
		b := h.serve(t, func(src source.Source) source.Source {
			return s.meddled(t, h, newFatal(src, k))
		})
		b.Engine.Store = func(context.Context, string) (store.Store, error) { return &fatalStore{b.store, k}, nil }
		clock := b.Engine.Now
		b.Engine.Now = func() time.Time { k.point("clock read"); return clock() }
		if err := s.work(t, b, q.Run); err != nil {
			t.Fatal(err)
		}
		os.WriteFile(filepath.Join(q.Dir, "points"), fmt.Append(nil, k.n.Load()), 0o644)
	}
}

// seeded returns what a test draws its points with. The seed is shown, and AMBERCELLAR_SEED gives it.
func seeded(t *testing.T) *rand.Rand {
	t.Helper()
	seed := rand.Uint64()
	if text := os.Getenv("AMBERCELLAR_SEED"); text != "" {
		var err error
		if seed, err = strconv.ParseUint(text, 10, 64); err != nil {
			t.Fatalf("AMBERCELLAR_SEED: %v", err)
		}
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("AMBERCELLAR_SEED=%d draws the same points again", seed)
		}
	})
	t.Logf("seed %d", seed)
	return rand.New(rand.NewPCG(seed, 0))
}

func TestCrashMatrix(t *testing.T) {
	t.Parallel()
	full := os.Getenv("AMBERCELLAR_MATRIX") == "full"
	for i := range scenes {
		s := &scenes[i]
		for _, engine := range strings.Fields(s.engines) {
			t.Run(s.name+" "+engine, func(t *testing.T) {
				draw := seeded(t)
				points := s.kill(t, engine, 0)
				if points == 0 {
					t.Fatal("the process came through no point at all, so there is nothing to kill it at")
				}
				stride := 1
				if !full {
					stride = points
				}
				done := 0
				for at := 1 + draw.IntN(stride); at <= points; at += stride {
					if s.kill(t, engine, at) == 0 {
						done++
					}
				}
				if t.Logf("killed at %d of %d points", done, points); full && done == 0 {
					t.Fatal("the process was killed at no point")
				}
			})
		}
	}
}

// kill plays a scene whose process is killed at a point, and counts. It returns how many points the process came
// through; 0 where it was killed.
func (s *scene) kill(t *testing.T, engine string, at int) (points int) {
	t.Helper()
	h := newHarbour(t, engine)
	defer h.drop()
	s.prepare(t, h)
	b := h.serve(t, nil)
	before := s.rows(t, b)
	var content string
	if s.restore {
		content = h.words(t, h.allScans())
	}
	run := s.start(t, h, b)
	b.close()
	q, _ := json.Marshal(map[string]any{"Dir": h.dir, "Engine": engine, "Address": h.address, "Scene": s.name,
		"Run": run, "At": at})
	child := exec.Command(os.Args[0], "-test.run=^TestCrashChild$")
	child.Env = append(os.Environ(), "AMBERCELLAR_CRASH="+string(q))
	out, err := child.CombinedOutput()
	where, _ := os.ReadFile(filepath.Join(h.dir, "killed"))
	var exit *exec.ExitError
	if err != nil && (!errors.As(err, &exit) || exit.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL ||
		len(where) == 0) {
		t.Fatalf("at point %d: %v\n%s", at, err, out)
	}
	if text, err := os.ReadFile(filepath.Join(h.dir, "points")); err == nil {
		fmt.Sscan(string(text), &points)
	}
	again := h.serve(t, func(src source.Source) source.Source { return s.meddled(t, h, src) })
	defer again.close()
	if points == 0 || s.restore {
		if err := s.work(t, again, run); err != nil {
			t.Fatalf("killed at point %d, %s: %v", at, where, err)
		}
	}
	if r, err := again.Catalog.Run(t.Context(), run); s.empty && at == 0 &&
		(err != nil || partStates(r) != " left 50") {
		t.Errorf("not emptied at once: %s, %v", partStates(r), err)
	}
	s.account(t, again, h, run, before, fmt.Sprintf("killed at point %d, %s", at, where))
	if s.restore && h.words(t, h.allScans()) != content {
		t.Errorf("killed at point %d, %s: what was restored is not what there was", at, where)
	}
	return points
}

// drop removes the database of a server, of which a whole matrix would leave many.
func (h *harbour) drop() {
	h.db.Close()
	switch h.engine {
	case "postgres":
		dbtest.Exec(h.elsewhere("postgres"), "DROP DATABASE "+h.database()+" WITH (FORCE)")
	case "mariadb":
		dbtest.ExecMariaDB(h.elsewhere("mysql"), "DROP DATABASE "+h.database())
	}
}

// rows is the set of live rows of each table.
func (s *scene) rows(t *testing.T, b *bench) map[string]value.Set {
	t.Helper()
	src, out := mustSource(t, b), map[string]value.Set{}
	for _, name := range s.tables {
		table, err := src.Table(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		table.ReferencedBy = nil
		var set value.Set
		var hasher value.Hasher
		req := source.SliceRequest{Selection: source.Selection{Table: table, Age: rule.Age{Column: "at"},
			Terms: []rule.Term{{Cutoff: rule.Cutoff{At: time.Now().AddDate(50, 0, 0), All: true}}}},
			Columns: due.Readable(table, nil), MaxRows: 10_000, MaxBytes: 1 << 30}
		if c, _ := table.Column("at"); c == nil {
			req.Age.Column = table.Key[0]
		}
		if _, err := src.ReadSlice(t.Context(), req, func(c *value.Chunk) error {
			for i := range c.Rows() {
				set.Add(hasher.Row(c.Row(i)))
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		out[name] = set
	}
	return out
}

// account: what is live and what was deleted after it was archived are together what there was, nothing twice, and
// nothing is half done.
func (s *scene) account(t *testing.T, b *bench, h *harbour, run string, before map[string]value.Set, where string) {
	t.Helper()
	fail := func(format string, args ...any) {
		t.Helper()
		t.Errorf("%s: %s", where, fmt.Sprintf(format, args...))
	}
	r, err := b.Catalog.Run(t.Context(), run)
	if err != nil {
		t.Fatal(err)
	}
	if r.Balanced == nil || !*r.Balanced {
		fail("the books do not balance: %+v", r.Ledger)
	}
	live := s.rows(t, b)
	segments, err := b.Catalog.RunSegments(t.Context(), run)
	if err != nil {
		t.Fatal(err)
	}
	archived, known := map[string]value.Set{}, map[string]bool{}
	for _, x := range segments {
		if x.State == catalog.SegmentAbandoned {
			continue
		}
		known[x.Stem] = true
		m, _, err := archive.LoadManifest(t.Context(), b.store, x.Stem)
		if err != nil {
			fail("segment %d: %v", x.Number, err)
			continue
		}
		books, _, err := archive.LoadClosing(t.Context(), b.store, m)
		if err != nil || books == nil || x.State != catalog.SegmentClosed {
			fail("segment %d is %s: %v", x.Number, x.State, err)
			continue
		}
		if _, err := b.Upkeep.VerifySegment(t.Context(), x.ID); err != nil {
			fail("segment %d: %v", x.Number, err)
		}
		sum := archived[x.Table]
		sum.Merge(books.Digest)
		archived[x.Table] = sum
	}
	for stem, err := range archive.Stems(t.Context(), b.store, "") {
		if err != nil {
			t.Fatal(err)
		}
		if !known[stem] {
			fail("a segment is in the store that nobody knows: %s", stem)
		}
	}
	first := s.tables[0]
	for _, name := range s.tables {
		total := live[name]
		total.Merge(archived[name])
		want := before[name]
		if s.restore {
			continue
		}
		if name == first && (s.purges || s.meddle != "") {
			if total.Count != want.Count-s.missing() {
				fail("%d of %d rows of %s are there", total.Count, want.Count, name)
			}
		} else if total != want {
			fail("%s: live %v and archived %v are not what there was, %v", name, live[name], archived[name], want)
		}
	}
	if n := before[first].Count - live[first].Count; !s.restore && n != s.gone+
		int64(strings.Count(s.meddle, "DELETE")) {
		fail("%d rows of %s are gone, not %d", n, first, s.gone)
	}
	if !s.restore && r.Deleted != s.gone {
		fail("the ledger says that %d rows were deleted, not %d", r.Deleted, s.gone)
	}
	list, err := source.PartitionsOf(mustSource(t, b)).Departures(t.Context(), first)
	if err != nil || len(list) > 0 {
		fail("partitions are on their way still: %v, %v", list, err)
	}
}

// missing is how many rows of the first table nobody can bring back.
func (s *scene) missing() int64 {
	if s.purges {
		return s.gone
	}
	return int64(strings.Count(s.meddle, "DELETE"))
}
