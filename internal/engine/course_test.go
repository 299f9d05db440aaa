package engine

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// probed is a crowded source in which each probe takes 2 ms.
type probed struct {
	crowded
	probes atomic.Int64
}

func (p *probed) Probe(context.Context, pace.FeelKind, *shape.Table) (time.Time, time.Duration, error) {
	begun := time.Now()
	time.Sleep(2 * time.Millisecond)
	p.probes.Add(1)
	return begun, time.Since(begun), nil
}

// How a run went stays with it: every row, and why it went as fast as it did; while it works that is told as well.
func TestHowARunWentStaysWithIt(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	x := &probed{crowded: crowded{Source: mustSource(t, b)}}
	x.busy.Store(3)
	b.Source = func(context.Context, string) (source.Source, error) { return x, nil }
	b.apply(t, archiving+"pace: {bound: 25%}\n")
	during, begun := 0, time.Now()
	b.Runs.Progress = func(r *catalog.Run) {
		if c, err := b.Runs.Course(t.Context(), r.ID); err == nil && len(c.Turns) > 0 && r.State == catalog.Running {
			if during++; during > 1 {
				return
			}
			// it rests here until it has been probed, however slow the machine is
			for begun, n := time.Now(), x.probes.Load(); x.probes.Load() < n+15 && time.Since(begun) < time.Minute; {
				time.Sleep(5 * time.Millisecond)
			}
		}
	}
	r := b.start(t)
	if err := b.goOn(t, r); err != nil {
		t.Fatal(err)
	}
	c, err := b.Runs.Course(t.Context(), r.ID)
	if err != nil || during == 0 {
		t.Fatalf("%d times while it worked (%v)", during, err)
	}
	rows := int64(0)
	for _, m := range c.Points {
		rows += m.Rows
		if m.Busy != 3 || m.Bound != 0.25 || m.Secs <= 0 || m.Worked < 0 || m.Worked > 1 {
			t.Errorf("%+v", m)
		}
	}
	if rows != r.Deleted || r.Deleted == 0 {
		t.Errorf("the moments tell of %d rows, and %d are gone", rows, r.Deleted)
	}
	if len(c.Turns) == 0 || !strings.Contains(c.Turns[len(c.Turns)-1].Why, "3 sessions of others are at work") {
		t.Errorf("%+v", c.Turns)
	}
	usual, err := b.Catalog.Usually(t.Context(), "harbour", time.Now())
	if err == nil && len(usual) == 0 { // another hour has begun
		usual, err = b.Catalog.Usually(t.Context(), "harbour", begun)
	}
	if look := usual[pace.FeelLookup]; err != nil || look.Total == 0 || look.Quantile(0.5) < time.Millisecond {
		t.Errorf("of what is usual at this hour it keeps %.0f probes (%v)", look.Total, err)
	}
	if c, err := b.Runs.Course(t.Context(), "nobody"); err == nil {
		t.Errorf("of a run that is not there: %+v", c)
	}
}
