package engine

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/source"
)

// crowded is a database in which as many others are at work as a test says.
type crowded struct {
	source.Source
	busy   atomic.Int64
	hidden string
	silent bool
	after  func(batch int) // hears of each batch that was deleted
}

func (c *crowded) Unwrap() source.Source { return c.Source }

func (c *crowded) Others(_ context.Context, within time.Duration) (pace.Look, error) {
	if c.silent {
		return pace.Look{}, source.ErrUnreachable
	}
	return pace.Look{Busy: int(c.busy.Load()), Span: within, Hidden: c.hidden}, nil
}

func (c *crowded) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	row, err := c.Source.DeleteBatch(ctx, b)
	if err == nil && c.after != nil {
		c.after(b.Number)
	}
	return row, err
}

// TestAGentleRunTakesWhatOthersLeave: alone it hardly rests; beside others each rest is as long as the careful pace's,
// from the next batch on; where it cannot see others it says so and is as careful.
func TestAGentleRunTakesWhatOthersLeave(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		pace   string
		busy   int64
		hidden string
		silent bool // no look is answered
		comes  bool // after the first batch
		least  float64
		most   float64
		why    string
	}{
		{name: "alone", pace: "gentle", most: 3},
		{name: "beside two", pace: "gentle", busy: 2, least: 18, why: "2 sessions of others are at work"},
		{name: "unseen", pace: "gentle", hidden: "GRANT it to us", least: 18, why: "GRANT it to us"},
		{name: "unanswered", pace: "gentle", silent: true, least: 18, why: "who else is at work is not known yet"},
		{name: "when somebody comes", pace: "gentle", comes: true, least: 18,
			why: "one session of others is at work"},
		{name: "careful though alone", pace: "careful", least: 18},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "wal")
			x := &crowded{Source: mustSource(t, b), hidden: c.hidden, silent: c.silent}
			x.busy.Store(c.busy)
			x.after = func(batch int) {
				if c.comes && batch == 1 {
					x.busy.Store(1)
					time.Sleep(3 * time.Second / 2) // until it is seen, and the signals are asked for again
				}
			}
			b.Source = func(context.Context, string) (source.Source, error) { return x, nil }
			b.apply(t, archiving+"pace: "+c.pace+"\n")
			var whys []string
			b.Runs.Progress = func(r *catalog.Run) {
				if r.Pressure != nil && r.Pressure.Why != "" && !slices.Contains(whys, r.Pressure.Why) {
					whys = append(whys, r.Pressure.Why)
				}
			}
			r := b.start(t)
			if err := b.goOn(t, r); err != nil || b.live(t) != 0 {
				t.Fatalf("%d rows are left (%v)", b.live(t), err)
			}
			batches, err := b.Catalog.Batches(t.Context(), r.ID, catalog.First(100))
			if err != nil || len(batches) < 2 {
				t.Fatalf("%d batches (%v)", len(batches), err)
			}
			var took []int64 // what others waited for meanwhile is no work
			for _, x := range batches {
				took = append(took, x.Micros)
			}
			slices.Sort(took)
			for _, x := range batches {
				worked := min(x.Micros, took[min(2, len(took)-1)])
				times := float64(x.Rest) / float64(worked)
				short := times < c.least && time.Duration(x.Rest)*time.Microsecond < pace.MaxRest
				if short && (!c.comes || x.Number > 1) || c.most > 0 && times > c.most {
					t.Errorf("batch %d rests %.1f times as long as it took", x.Number, times)
				}
			}
			if c.why != "" && !slices.ContainsFunc(whys, func(w string) bool { return strings.HasPrefix(w, c.why) }) {
				t.Errorf("it says that it takes no more for %q", whys)
			} else if c.why == "" && len(whys) > 0 {
				t.Errorf("it rests for %q", whys)
			}
		})
	}
}
