package engine

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/source"
)

// absent is a store that is away from one operation on, for so many operations.
type absent struct {
	store.Store
	mu       sync.Mutex
	from, to int
	seen     int
	reads    func(name string) // hears of each file that is opened; may be nil
}

func (a *absent) step() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.seen++; a.seen > a.from && a.seen <= a.to {
		return errStumbled
	}
	return nil
}

func (a *absent) Open(ctx context.Context, name string) (store.Reader, error) {
	if err := a.step(); err != nil {
		return nil, err
	}
	if a.reads != nil {
		a.reads(name)
	}
	r, err := a.Store.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return &absentReader{r, a}, nil
}

func (a *absent) List(ctx context.Context, prefix string) ([]store.Object, error) {
	if err := a.step(); err != nil {
		return nil, err
	}
	return a.Store.List(ctx, prefix)
}

type absentReader struct {
	store.Reader
	a *absent
}

func (r *absentReader) ReadAt(p []byte, off int64) (int, error) {
	if err := r.a.step(); err != nil {
		return 0, err
	}
	return r.Reader.ReadAt(p, off)
}

// Wherever a store goes away, a verification waits for it, says so meanwhile, and finds what it finds where nothing
// happens.
func TestAVerificationWaitsForItsStores(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.Runs.SliceRows = 1000
	r := b.start(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	verified := func(a *absent) (*catalog.Verification, error) {
		b.Engine.Store = func(context.Context, string) (store.Store, error) { return a, nil }
		v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return v, b.Upkeep.Verify(t.Context(), v, 0)
	}
	whole := &absent{Store: b.store}
	want, err := verified(whole)
	if err != nil || want.Segments != 3 || want.Rows != rows || len(want.Findings.V) != 0 || whole.seen < 12 {
		t.Fatalf("%d steps, %+v, %v", whole.seen, want, err)
	}
	for from := 0; from < whole.seen; from++ {
		got, err := verified(&absent{Store: b.store, from: from, to: from + 2})
		if err != nil || got.State != catalog.VerificationDone || got.Reason != "" || got.Segments != want.Segments ||
			got.Of != want.Of || got.Rows != want.Rows || got.Bytes != want.Bytes || len(got.Findings.V) != 0 {
			t.Fatalf("away from step %d on: %+v instead of %+v, %v", from, got, want, err)
		}
	}
	// What is waited for is shown, and whoever stops it does so at once.
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	b.Engine.Store = func(context.Context, string) (store.Store, error) {
		return &absent{Store: b.store, to: 1 << 30},
			nil
	}
	v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { copied := *v; done <- b.Upkeep.Verify(ctx, &copied, 0) }()
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		if now, err := b.Catalog.Verification(t.Context(), v.ID); err != nil || time.Since(begun) > 20*time.Second {
			t.Fatalf("%+v, %v", now, err)
		} else if strings.HasPrefix(now.Reason, "waiting for a store: ") && now.State == catalog.Verifying {
			break
		}
	}
	stop()
	if err := <-done; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// What is to be destroyed waits for the segment that a verification is at, not for all of them.
func TestAVerificationLetsDisposalsIn(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.Runs.SliceRows = 100
	r := b.start(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	var once sync.Once
	let, in := make(chan error, 1), false
	var mu sync.Mutex
	a := &absent{Store: b.store, reads: func(name string) {
		if !strings.HasSuffix(name, ".parquet") {
			return
		}
		once.Do(func() {
			go func() {
				let <- b.Shelf.Exclusively(t.Context(), func() error {
					mu.Lock()
					defer mu.Unlock()
					in = true
					return nil
				})
			}()
		})
		time.Sleep(2 * time.Millisecond)
	}}
	b.Engine.Store = func(context.Context, string) (store.Store, error) { return a, nil }
	v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	left := -1 // segments that were not verified yet when the other was let in
	show := a.reads
	a.reads = func(name string) {
		show(name)
		mu.Lock()
		defer mu.Unlock()
		if in && left < 0 {
			left = rows/100 - v.Segments
		}
	}
	if err := errors.Join(b.Upkeep.Verify(t.Context(), v, 0), <-let); err != nil {
		t.Fatal(err)
	}
	if left < rows/100/2 {
		t.Errorf("%d segments were left to verify when the other was let in", left)
	}
}

// tardy is a database that takes its time with the first batch, and with the first slice.
type tardy struct {
	source.Source
	takes           time.Duration
	reading, delete sync.Once
}

func (s *tardy) Unwrap() source.Source { return s.Source }

func (s *tardy) ReadSlice(ctx context.Context, q source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	s.reading.Do(func() { time.Sleep(s.takes) })
	return s.Source.ReadSlice(ctx, q, sink)
}

func (s *tardy) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	s.delete.Do(func() { time.Sleep(s.takes) })
	return s.Source.DeleteBatch(ctx, b)
}

// TestARunSaysThatItWaitsForAnAnswer: where a statement takes long, it is told which, again and again, and no longer
// once the answer is there.
func TestARunSaysThatItWaitsForAnAnswer(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	r := b.start(t)
	x := &tardy{Source: mustSource(t, b), takes: 900 * time.Millisecond}
	b.Source = func(context.Context, string) (source.Source, error) { return x, nil }
	var mu sync.Mutex
	var told []string
	b.Runs.Patient = 200 * time.Millisecond
	b.Runs.Waits = func(_, reason string, away bool) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, reason)
		if away {
			t.Errorf("it counts as away: %s", reason)
		}
	}
	if err := b.goOn(t, r); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	defer mu.Unlock()
	for _, what := range []string{": reading rows", ": deleting a batch"} {
		said := 0
		for _, reason := range told {
			if strings.HasPrefix(reason, "waiting for the database for ") && strings.HasSuffix(reason, what) {
				said++
			}
		}
		if said < 2 {
			t.Errorf("%d times it says that it waits%s: %q", said, what, told)
		}
	}
	if len(told) == 0 || told[len(told)-1] != "" {
		t.Errorf("in the end it says %q", told)
	}
}

// abreast is a database whose second slice takes a while that begins and ends while the first batch is being deleted.
type abreast struct {
	source.Source
	slices, batches atomic.Int32
	takes           time.Duration
	read, deleted   atomic.Bool
}

func (s *abreast) Unwrap() source.Source { return s.Source }

func (s *abreast) ReadSlice(ctx context.Context, q source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	if s.slices.Add(1) == 2 {
		time.Sleep(s.takes)
		defer func() { s.read.Store(!s.deleted.Load()) }()
	}
	return s.Source.ReadSlice(ctx, q, sink)
}

func (s *abreast) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	if s.batches.Add(1) == 1 {
		time.Sleep(3 * s.takes)
		defer s.deleted.Store(true)
	}
	return s.Source.DeleteBatch(ctx, b)
}

// TestWhatReadsDoesNotEndTheWaitOfWhatDeletes: a run that waits in two places says so until it waits in neither.
func TestWhatReadsDoesNotEndTheWaitOfWhatDeletes(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.Runs.SliceRows = 100
	r := b.start(t)
	x := &abreast{Source: mustSource(t, b), takes: 500 * time.Millisecond}
	b.Source = func(context.Context, string) (source.Source, error) { return x, nil }
	b.Runs.Patient = 100 * time.Millisecond
	var told atomic.Int32
	b.Runs.Waits = func(_, reason string, _ bool) {
		if reason == "" && x.batches.Load() == 1 && !x.deleted.Load() {
			t.Error("it says that it goes on while its first batch is being deleted")
		} else if reason != "" {
			told.Add(1)
		}
	}
	if err := b.goOn(t, r); err != nil {
		t.Fatal(err)
	}
	if told.Load() < 5 || !x.read.Load() {
		t.Errorf("told %d times; the slice was read meanwhile: %t", told.Load(), x.read.Load())
	}
}

// locked is a database whose first batch waits for a lock, in vain, and whose second try takes as long.
type locked struct {
	source.Source
	tries atomic.Int32
	takes time.Duration
}

func (s *locked) Unwrap() source.Source { return s.Source }

func (s *locked) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	switch s.tries.Add(1) {
	case 1:
		time.Sleep(s.takes)
		return nil, source.ErrBusy
	case 2:
		time.Sleep(s.takes)
	}
	return s.Source.DeleteBatch(ctx, b)
}

// TestAWaitIsToldUntilItsBatchIsBooked: between the end of one try and the beginning of the next, and between the end
// of the last and its counts, a run still says what it waits for, and rather what failed than what takes long.
func TestAWaitIsToldUntilItsBatchIsBooked(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	r := b.start(t)
	x := &locked{Source: mustSource(t, b), takes: 500 * time.Millisecond}
	b.Source = func(context.Context, string) (source.Source, error) { return x, nil }
	b.Runs.Patient = 100 * time.Millisecond
	var mu sync.Mutex
	var told []string
	booked := false
	b.Runs.Progress = func(r *catalog.Run) {
		mu.Lock()
		defer mu.Unlock()
		booked = booked || r.Ledger.Deleted > 0
	}
	b.Runs.Waits = func(_, reason string, _ bool) {
		mu.Lock()
		defer mu.Unlock()
		if !booked {
			told = append(told, reason)
		}
	}
	if err := b.goOn(t, r); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	defer mu.Unlock()
	failed := false
	for i, reason := range told {
		locked := strings.HasPrefix(reason, "waiting: ")
		if reason == "" || failed && i < len(told)-1 && !locked && strings.HasPrefix(told[i+1], "waiting: ") {
			t.Errorf("after %d of %d it says %q", i, len(told), reason)
		}
		failed = failed || locked
	}
	if !failed || len(told) < 5 {
		t.Errorf("it told %q", told)
	}
}
