package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/upkeep"
)

const disposedRule = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: " +
	"P1Y\nthen: archive\narchive: {store: cellar, keep: %s}\npace: unlimited\n"

// archivedScans archives the scans in three runs, a segment each, under a rule that keeps segments so long.
func archivedScans(t *testing.T, keep string) (*bench, []catalog.Segment) {
	t.Helper()
	made, _ := archives.LoadOrStore(keep, &archived{})
	x := made.(*archived)
	x.once.Do(func() { x.make(t, keep) })
	if x.files == nil {
		t.Fatal("the archive could not be made, as another test says")
	}
	dir := t.TempDir()
	if err := os.CopyFS(dir, x.files); err != nil {
		t.Fatal(err)
	}
	b := openBench(t, dir, "wal")
	b.now = x.now
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil || len(list) != 3 {
		t.Fatalf("%d segments, %v", len(list), err)
	}
	list[0], list[2] = list[2], list[0]
	return b, list
}

// archived is what archivedScans gives a copy of: made once for all tests, by the keep of the archive.
type archived struct {
	once  sync.Once
	files fs.FS
	now   time.Time // when it was made
}

var archives sync.Map

func (x *archived) make(t *testing.T, keep string) {
	t.Helper()
	dir := t.TempDir()
	b := newBenchIn(t, dir, "wal")
	b.rule(t, fmt.Sprintf(disposedRule, keep))
	for _, before := range []string{"2020-01-02", "2020-01-03", ""} {
		q := plan.PlanRequest{}
		if before != "" {
			q.Before, _ = time.Parse(time.DateOnly, before)
		}
		r := b.begin(t, b.plan(t, q))
		if err := b.Runs.Run(t.Context(), r); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Catalog.SetRunState(t.Context(), "service", r.ID, catalog.Done, ""); err != nil {
			t.Fatal(err)
		}
	}
	b.close()
	files := fstest.MapFS{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, _ := filepath.Rel(dir, path) // below it
		b, err := os.ReadFile(path)
		files[name] = &fstest.MapFile{Data: b, Mode: 0o644}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	x.files, x.now = files, b.now
}

// decide plans a disposal and decides on it.
func (b *bench) decide(t *testing.T) *catalog.Disposal {
	t.Helper()
	d, err := b.Disposals.Plan(t.Context(), "me", "scans", "", "spring cleaning")
	if err == nil {
		d, err = b.Catalog.SetDisposalState(t.Context(), "boss", d.ID, catalog.Disposing, "", catalog.At(b.Now()))
	}
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// stumble disposes with a store that fails at its n-th step, and has a run take the chain further, whatever the
// disposal left. It says whether the disposal came to its end without failing.
func (b *bench) stumble(t *testing.T, d *catalog.Disposal, n int) (through bool) {
	t.Helper()
	whole := b.Store
	weak := &stumbling{Store: b.store, left: n}
	b.Store = func(context.Context, string) (store.Store, error) { return weak, nil }
	err := b.Disposals.Dispose(t.Context(), d)
	b.Store = whole
	if err == nil && n > 10 {
		return true
	}
	b.exec(t, "INSERT INTO scan VALUES (9001, '2020-05-05', 'late')")
	if err := b.Runs.Run(t.Context(), b.begin(t, b.plan(t, plan.PlanRequest{}))); err != nil {
		t.Fatalf("step %d, a run after it: %v", n, err)
	}
	return false
}

// sound says what is wrong with the store, and how many segments of it were disposed of.
func (b *bench) sound(t *testing.T) (wrong []string, disposed int) {
	t.Helper()
	_, err := archive.Examine(t.Context(), []archive.Place{{Name: "cellar", Store: b.store.Directory}},
		archive.Examining{Find: func(f archive.Remark) {
			if f.Wrong {
				wrong = append(wrong, f.Kind+" "+f.File+": "+f.Message)
			}
		}, Seen: func(_ string, m *archive.Manifest) {
			if d, _, _ := archive.LoadDisposal(t.Context(), b.store.Directory, m); d != nil {
				disposed++
			}
		}})
	if err != nil {
		t.Fatal(err)
	}
	return wrong, disposed
}

// TestOnlyWhatIsOverIsDisposedOf: the keep of the archiving and of the rule as it is now must both be over, no hold
// may stand on any row, and what another rule archived, or nothing governs, stays.
func TestOnlyWhatIsOverIsDisposedOf(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "P7D")
	planned := func() (goes int, stays string) {
		t.Helper()
		d, err := b.Disposals.Plan(t.Context(), "me", "scans", "", "")
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range d.Stays.V {
			stays += x.Reason + "\n"
		}
		for _, x := range d.Items.V {
			if x.Kept > 0 {
				stays += fmt.Sprintf("%d of %d rows: %s\n", x.Kept, x.Rows, x.Why)
			}
		}
		return len(d.Items.V), stays
	}
	if goes, stays := planned(); goes != 0 || strings.Count(stays, "it is kept until 2026-11-30") != 3 {
		t.Errorf("too early: %d go, %s", goes, stays)
	}
	b.now = b.now.AddDate(0, 0, 8)
	if goes, stays := planned(); goes != 3 {
		t.Errorf("after a week: %d go, %s", goes, stays)
	}
	// The rule keeps them longer now; then shorter than what they were archived under.
	b.rule(t, fmt.Sprintf(disposedRule, "P10D"))
	if goes, stays := planned(); goes != 0 || !strings.Contains(stays, "until 2026-12-03") {
		t.Errorf("the rule's keep was lengthened: %d go, %s", goes, stays)
	}
	b.rule(t, fmt.Sprintf(disposedRule, "P1D"))
	if goes, _ := planned(); goes != 3 {
		t.Errorf("the rule's keep was shortened: %d go", goes)
	}
	// Counted from the age of the newest row, which is years ago, they were over at once: the later of both counts.
	b.rule(t, strings.Replace(fmt.Sprintf(disposedRule, "P1D"), "keep: P1D}", "keep: P1D, from: age}", 1))
	if goes, stays := planned(); goes != 3 {
		t.Errorf("counted from the age: %d go, %s", goes, stays)
	}
	hold, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Where: "id = 1500", Reference: "case 9", Reason: "inquiry"})
	if err != nil {
		t.Fatal(err)
	}
	if goes, stays := planned(); goes != 3 || !strings.Contains(stays, "1 of 1440 rows: hold "+hold.ID+
		" (case 9) stands on it") {
		t.Errorf("one row is held: %d go, %s", goes, stays)
	}
	if _, err := b.Plans.LiftHold(t.Context(), "me", hold.ID, "over"); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Segments: []string{s[0].ID}, Reference: "case 10", Reason: "inquiry"}); err != nil {
		t.Fatal(err)
	}
	// Decided on, and held a moment before it is done: it stays.
	d := b.decide(t)
	if len(d.Items.V) != 2 {
		t.Fatalf("%+v", d.Items.V)
	}
	if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "scan",
		Segments: []string{s[1].ID}, Reference: "case 11", Reason: "inquiry"}); err != nil {
		t.Fatal(err)
	}
	if err := b.Disposals.Dispose(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	if d.Items.V[0].Destroyed != nil || !strings.Contains(d.Items.V[0].Left, "case 11") ||
		d.Items.V[1].Destroyed == nil {
		t.Errorf("%+v", d.Items.V)
	}
	if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 1 {
		t.Errorf("%d disposed of, and wrong: %v", disposed, wrong)
	}
	var refused *refuse.Error
	b.rule(t, strings.Replace(fmt.Sprintf(disposedRule, "P1D"), ", keep: P1D", "", 1))
	if _, err := b.Disposals.Plan(t.Context(), "me", "scans", "", ""); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "without end") {
		t.Errorf("a rule without archive.keep: %v", err)
	}
}

// stumbling is a store whose nth operation, and all after it, fail.
type stumbling struct {
	store.Store
	left int
}

var errStumbled = fmt.Errorf("stumbled: %w", store.ErrUnreachable)

func (s *stumbling) step() error {
	if s.left--; s.left < 0 {
		return errStumbled
	}
	return nil
}

func (s *stumbling) Create(ctx context.Context, name string) (store.File, error) {
	if err := s.step(); err != nil {
		return nil, err
	}
	f, err := s.Store.Create(ctx, name)
	if err != nil {
		return nil, err
	}
	return &stumblingFile{f, s}, nil
}

func (s *stumbling) Open(ctx context.Context, name string) (store.Reader, error) {
	if err := s.step(); err != nil {
		return nil, err
	}
	return s.Store.Open(ctx, name)
}

func (s *stumbling) Remove(ctx context.Context, name string) error {
	if err := s.step(); err != nil {
		return err
	}
	return s.Store.Remove(ctx, name)
}

type stumblingFile struct {
	store.File
	s *stumbling
}

// Commit fails after it was done: the answer got lost.
func (f *stumblingFile) Commit() error { return errors.Join(f.File.Commit(), f.s.step()) }

// TestADisposalGoesOnWhereItStopped: wherever the store fails, and wherever the service is stopped between record and
// catalog, the chain stays whole, runs go on with it, and the disposal ends when it is started again.
func TestADisposalGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	steps := 0
	for n := 0; ; n++ {
		b, s := archivedScans(t, "PT1S")
		b.now = b.now.Add(time.Minute)
		d := b.decide(t)
		if b.stumble(t, d, n) {
			break
		}
		steps++
		again, err := b.Catalog.Disposal(t.Context(), d.ID)
		if err == nil {
			err = b.Disposals.Dispose(t.Context(), again)
		}
		if err != nil {
			t.Fatalf("step %d, again: %v", n, err)
		}
		if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 3 {
			t.Fatalf("step %d: %d disposed of, and wrong: %s", n, disposed, strings.Join(wrong, "\n"))
		}
		for _, x := range s {
			m := archive.ManifestAt(x.Stem)
			if _, err := b.store.Directory.Open(t.Context(), m.RowsName()); !errors.Is(err, fs.ErrNotExist) {
				t.Fatalf("step %d: the rows of %s are there: %v", n, x.ID, err)
			}
		}
		v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{}, nil)
		if err == nil {
			err = b.Upkeep.Verify(t.Context(), v, 0)
		}
		if err != nil || v.Wrong != 0 {
			t.Fatalf("step %d: %+v, %v", n, v, err)
		}
		if x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan"); err != nil || !x.Agree {
			t.Fatalf("step %d: %+v, %v", n, x, err)
		}
	}
	if steps < 15 {
		t.Errorf("only %d steps", steps)
	}
}

// TestDisposalsFollowEachOther: each takes the lease of the table, and the catalog hears of it.
func TestDisposalsFollowEachOther(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "PT1S")
	b.now = b.now.Add(time.Minute)
	for i := range s {
		d := b.decide(t)
		d.Items.V = d.Items.V[:1]
		if err := b.Disposals.Dispose(t.Context(), d); err != nil {
			t.Fatalf("disposal %d: %v", i+1, err)
		}
	}
	if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 3 {
		t.Errorf("%d disposed of, and wrong: %v", disposed, wrong)
	}
	if x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan"); err != nil || !x.Agree {
		t.Errorf("%+v, %v", x, err)
	}
}

// TestNothingIsDestroyedUnderAReader: a disposal waits for whoever reads, and readers do not wait for it.
func TestNothingIsDestroyedUnderAReader(t *testing.T) {
	t.Parallel()
	b, s := archivedScans(t, "PT1S")
	b.now = b.now.Add(time.Minute)
	d := b.decide(t)
	b.Shelf.Reading.RLock()
	done := make(chan error, 1)
	go func() { done <- b.Disposals.Dispose(context.Background(), d) }()
	m := archive.ManifestAt(s[0].Stem)
	for range 20 {
		b.Shelf.Reading.RLock() // another reader comes in while the disposal waits
		f, err := b.store.Directory.Open(t.Context(), m.RowsName())
		if err != nil {
			t.Fatalf("destroyed under a reader: %v", err)
		}
		f.Close()
		b.Shelf.Reading.RUnlock()
		time.Sleep(5 * time.Millisecond)
	}
	b.Shelf.Reading.RUnlock()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if wrong, disposed := b.sound(t); len(wrong) > 0 || disposed != 3 {
		t.Errorf("%d disposed of, and wrong: %v", disposed, wrong)
	}
}
