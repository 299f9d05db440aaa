package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/run"
	"ambercellar/internal/source"
)

// loaded is a database that shows what a test says.
type loaded struct {
	source.Source
	signals func() map[string]float64
	log     func() int64
}

func (x *loaded) Unwrap() source.Source { return x.Source }

func (l *loaded) Signals(context.Context, *shape.Table) (map[string]float64, error) {
	return l.signals(), nil
}

func (l *loaded) LogWritten(ctx context.Context) (int64, bool, error) {
	if l.log == nil {
		return l.Source.LogWritten(ctx)
	}
	return l.log(), true, nil
}

// load puts a database that shows these signals in place of the bench's.
func (b *bench) load(t *testing.T, signals func() map[string]float64) *loaded {
	t.Helper()
	inner, err := b.Source(t.Context(), "harbour")
	if err != nil {
		t.Fatal(err)
	}
	l := &loaded{Source: inner, signals: signals}
	b.Source = func(context.Context, string) (source.Source, error) { return l, nil }
	return l
}

// watch says how often a test's run asks for the signals while nothing is deleted.
func watch(t *testing.T, every time.Duration) {
	before := run.WatchEvery
	t.Cleanup(func() { run.WatchEvery = before })
	run.WatchEvery = every
}

func calm() map[string]float64 { return map[string]float64{pace.Waiting: 0} }

const archiving = "clauses:\n  - before: 2025-01-01\nthen: archive\narchive: {store: cellar}\n"

// goOn executes a run once more, as the service does when it is resumed.
func (b *bench) goOn(t *testing.T, run *catalog.Run) error {
	t.Helper()
	now, err := b.Catalog.Run(t.Context(), run.ID)
	if err != nil {
		t.Fatal(err)
	}
	*run = *now
	return b.Runs.Run(t.Context(), run)
}

func TestABacklogIsWorkedOffOverManyWindows(t *testing.T) {
	b := newBench(t, "wal")
	b.load(t, calm)
	b.apply(t, archiving+"window: 22:00-05:00\nbudget: {rows: 800}\n")
	run := b.start(t)
	var bites []string
	for window := 1; ; window++ {
		err := b.goOn(t, run)
		bites = append(bites, fmt.Sprint(rows-b.live(t)))
		if err == nil {
			break
		}
		var resting *refuse.Resting
		if !errors.As(err, &resting) {
			t.Fatal(err)
		}
		if want := b.now.Truncate(24 * time.Hour).Add(22 * time.Hour); b.now.Before(want) &&
			!resting.Until.Equal(want) || run.ResumeAt == nil || !run.ResumeAt.Equal(resting.Until) {
			t.Fatalf("at %s it rests until %s", b.now, resting.Until)
		}
		if window > 10 {
			t.Fatal("it never ends")
		}
		b.now = resting.Until
	}
	// It is noon at first, so nothing is done; then 800 rows a night.
	if got := strings.Join(bites, " "); got != "0 800 1600 2400 3000" {
		t.Errorf("after each window %s rows are gone", got)
	}
	if run.Balanced == nil || !*run.Balanced || run.Deleted != rows {
		t.Errorf("the books: %+v", run.Ledger)
	}
}

func TestARestingRunSaysWhenItGoesOnAndForHowLong(t *testing.T) {
	b := newBench(t, "wal")
	b.load(t, calm)
	b.apply(t, archiving+"window: mon-fri 12:00-13:00\nbudget: {rows: 1000}\n")
	run := b.start(t)
	err := b.goOn(t, run)
	want := "it has taken the 1000 rows of its budget for this window; it goes on at 2026-11-24 12:00 UTC; 2000 " +
		"rows are left, for about 2 more windows"
	if err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("it says %v\nwant %s", err, want)
	}
	if run.WindowsLeft == nil || *run.WindowsLeft != 2 {
		t.Errorf("%v windows are left", run.WindowsLeft)
	}
}

func TestABudgetOfTimeEndsAWindowToo(t *testing.T) {
	watch(t, time.Hour) // its samples are counted, or move the clock
	b := newBench(t, "wal")
	b.load(t, func() map[string]float64 { b.now = b.now.Add(20 * time.Minute); return calm() })
	b.apply(t, archiving+"window: 10:00-18:00\nbudget: {time: PT30M}\npace: careful\n")
	run := b.start(t)
	var resting *refuse.Resting
	if err := b.goOn(t, run); !errors.As(err, &resting) || !strings.Contains(err.Error(), "it has worked for PT30M") {
		t.Fatalf("after half an hour: %v", err)
	}
	if gone := rows - b.live(t); gone == 0 || gone == rows {
		t.Errorf("%d rows are gone", gone)
	}
}

// A run that will not take what its budget gives it says so while its window is open, and not at its end alone.
func TestARunThatIsBehindItsBudgetSaysSoEarly(t *testing.T) {
	watch(t, time.Hour) // its samples are counted, or move the clock
	b := newBench(t, "wal")
	b.load(t, func() map[string]float64 { b.now = b.now.Add(90 * time.Minute); return calm() })
	b.apply(t, archiving+"window: 10:00-20:00\nbudget: {rows: 2900}\npace: careful\n")
	var said time.Time
	b.Runs.Progress = func(r *catalog.Run) {
		if said.IsZero() && strings.Contains(r.Reason, "behind its budget: at this rate it takes about") &&
			strings.Contains(r.Reason, "of 2900 rows in this window") {
			said = b.now
		}
	}
	run := b.start(t)
	var resting *refuse.Resting
	if err := b.goOn(t, run); !errors.As(err, &resting) {
		t.Fatal(err)
	}
	if said.IsZero() || said.Hour() > 18 {
		t.Errorf("it says so at %s, after %d rows", said, rows-b.live(t))
	}
}

func TestARunPausesWhenTheLogHasGrownEnough(t *testing.T) {
	b := newBench(t, "wal")
	total := int64(0)
	l := b.load(t, calm)
	l.log = func() int64 { total += 80 << 20; return total }
	b.apply(t, archiving+"pace: careful\nlog: {run: 60 MB}\n")
	run := b.start(t)
	var stopped *refuse.Stopped
	if err := b.goOn(t, run); !errors.As(err, &stopped) || !strings.Contains(err.Error(), "80 MiB") ||
		!strings.Contains(err.Error(), "57.2 MiB") {
		t.Fatalf("after one batch: %v", err)
	}
	first := rows - b.live(t)
	if err := b.goOn(t, run); !errors.As(err, &stopped) {
		t.Fatalf("resumed, it goes on to %v", err)
	}
	if second := rows - b.live(t); first == 0 || second <= first || second == rows {
		t.Errorf("%d rows are gone at first and %d after it was resumed", first, second)
	}
}

func TestARunRestsWhileTheDatabaseIsUnderPressure(t *testing.T) {
	watch(t, time.Hour) // its samples are counted, or move the clock
	b := newBench(t, "wal")
	asked := 0
	b.load(t, func() map[string]float64 {
		b.now = b.now.Add(2 * time.Second) // so that every batch asks
		switch asked++; asked {
		case 2:
			return map[string]float64{pace.Waiting: 9}
		case 4:
			return map[string]float64{pace.Waiting: 4}
		}
		return calm()
	})
	b.apply(t, archiving+"pace: careful\nlimits: {waiting: 5}\n")
	moved := b.start(t)
	begun := time.Now()
	if err := b.goOn(t, moved); err != nil {
		t.Fatal(err)
	}
	if time.Since(begun) < run.SampleEvery {
		t.Errorf("it did not rest")
	}
	list, err := b.Catalog.Slowdowns(t.Context(), moved.ID, catalog.First(10))
	if err != nil || len(list) != 2 {
		t.Fatalf("slowed down %d times (%v), want twice", len(list), err)
	}
	for i, want := range []string{"sessions that wait for locks: 4 (at most 5)",
		"sessions that wait for locks: 9 (at most 5)"} {
		if s := list[i]; s.Reason != want || s.Ended == nil || s.Rests != (i == 1) {
			t.Errorf("slowdown %+v, want %s", s, want)
		}
	}
	batches, err := b.Catalog.Batches(t.Context(), moved.ID, catalog.First(100))
	if err != nil || b.live(t) != 0 {
		t.Fatalf("%d rows are left (%v)", b.live(t), err)
	}
	slowest := 0.0
	for _, x := range batches {
		slowest = max(slowest, float64(x.Rest)/float64(x.Micros))
	}
	if slowest < 3 { // at the gentle pace it is 1; past half of a limit by three fifths, 2.4 more
		t.Errorf("the longest rest is %.1f times its batch", slowest)
	}
}

func TestTheLogOfAMinuteHasABound(t *testing.T) {
	watch(t, time.Hour) // its samples are counted, or move the clock
	b := newBench(t, "wal")
	l := b.load(t, func() map[string]float64 { b.now = b.now.Add(10 * time.Second); return calm() })
	l.log = func() int64 { return int64(rows-b.live(t)) * 100 << 10 }
	b.apply(t, archiving+"pace: careful\nlog: {minute: 100 MiB}\n")
	run := b.start(t)
	if err := b.goOn(t, run); err != nil {
		t.Fatal(err)
	}
	list, err := b.Catalog.Slowdowns(t.Context(), run.ID, catalog.First(10))
	if err != nil || !slices.ContainsFunc(list, func(s catalog.Slowdown) bool {
		return s.Rests && strings.Contains(s.Reason, "log written in the last minute")
	}) {
		t.Errorf("slowed down: %+v (%v)", list, err)
	}
	if b.live(t) != 0 {
		t.Errorf("%d rows are left", b.live(t))
	}
}

// A large run's first slices are small, so that deleting begins soon; a gentle run's grow with what it has read.
func TestTheFirstSlicesOfALargeRunAreSmall(t *testing.T) {
	sizes := func(p pace.Pace, due int64) (out []int) {
		r := &run.Execution{Run: &catalog.Run{RunOrder: catalog.RunOrder{Pace: string(p), Due: due}},
			Pass: &run.Pass{}}
		r.SetReading()
		for read, n := 0, 0; len(out) < 8; read += n {
			n = r.Ramp(read)
			out = append(out, n)
		}
		return out
	}
	for _, c := range []struct {
		pace pace.Pace
		due  int64
		want string
	}{
		{pace.Gentle, 2_000_000, "[5000 5000 5000 7500 11250 16875 25312 37968]"},
		{pace.Unlimited, 2_000_000, "[25000 125000 125000 125000 125000 125000 125000 125000]"},
		{pace.Gentle, 50_000, "[125000 125000 125000 125000 125000 125000 125000 125000]"},
	} {
		if got := fmt.Sprint(sizes(c.pace, c.due)); got != c.want {
			t.Errorf("%s, %d rows due: slices of %s, want %s", c.pace, c.due, got, c.want)
		}
	}
}

// dragging is a database from which each piece is read in a while.
type dragging struct {
	*loaded
	pieces atomic.Int64
}

func (d *dragging) ReadSlice(ctx context.Context, q source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	d.pieces.Add(1)
	q.MaxRows = min(q.MaxRows, 50)
	time.Sleep(5 * time.Millisecond)
	return d.Source.ReadSlice(ctx, q, sink)
}

// TestReadingGivesWayToo: also while nothing is deleted, the signals are asked for and shown, reading rests under
// pressure, and a new pace holds from then on.
func TestReadingGivesWayToo(t *testing.T) {
	watch(t, 40*time.Millisecond)
	b := newBench(t, "wal")
	var waiting atomic.Int64
	d := &dragging{loaded: b.load(t,
		func() map[string]float64 { return map[string]float64{pace.Waiting: float64(waiting.Load())} })}
	b.Source = func(context.Context, string) (source.Source, error) { return d, nil }
	var shown atomic.Pointer[catalog.Run]
	b.Runs.Progress = func(r *catalog.Run) { shown.Store(r) }
	b.apply(t, "clauses:\n  - before: 2025-01-01\nthen: copy\narchive: {store: cellar}\npace: careful\n")
	moved := b.start(t)
	ended := make(chan error, 1)
	go func() { ended <- b.goOn(t, moved) }()
	until := func(what string, ok func() bool) {
		t.Helper()
		eventually(t, what, ok)
	}
	until("pieces are read", func() bool { return d.pieces.Load() >= 2 })
	waiting.Store(1000)
	until("pressure is shown while the first slice is read", func() bool {
		r := shown.Load()
		return r != nil && r.Pressure != nil && r.Pressure.Rest && strings.HasPrefix(r.Reason, "resting: ")
	})
	time.Sleep(3 * run.WatchEvery) // the piece that was going on, and its own rest
	before := d.pieces.Load()
	time.Sleep(10 * run.WatchEvery)
	if now := d.pieces.Load(); now > before+1 || now >= rows/50 {
		t.Errorf("%d pieces were read while the run rested", now-before)
	}
	waiting.Store(0)
	until("reading goes on", func() bool { return d.pieces.Load() > before+1 })
	if _, err := b.Runs.SetPace(t.Context(), "me", moved.ID, "unlimited"); err != nil {
		t.Fatal(err)
	}
	begun, left := time.Now(), rows/50-d.pieces.Load()
	if err := <-ended; !errors.Is(err, refuse.ErrCopied) || moved.Done() != rows {
		t.Fatalf("%d rows done: %v", moved.Done(), err)
	}
	if gentle := time.Duration(left) * 19 * 5 * time.Millisecond; left > 20 && time.Since(begun) > gentle/2 {
		t.Errorf("%d pieces took %s at the unlimited pace, and would take %s with their rests", left,
			time.Since(begun), gentle)
	}
}
