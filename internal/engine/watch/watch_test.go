package watch

import (
	"context"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// crowd is a database in which others are at work all the time. What a probe takes grows with each, so that it can be
// told which ones count.
type crowd struct {
	source.Source
	probes atomic.Int64
	takes  atomic.Int64 // that the next probes say
}

func (s *crowd) Others(_ context.Context, within time.Duration) (pace.Look, error) {
	return pace.Look{Busy: 3, Span: within}, nil
}

func (s *crowd) Probe(context.Context, pace.FeelKind, *shape.Table) (begun time.Time, took time.Duration, err error) {
	s.probes.Add(1)
	return time.Now(), time.Duration(s.takes.Load()), nil
}

// felt is how many look-ups count, and the slowest of them.
func felt(u *User) (n float64, slowest time.Duration) {
	u.mu.Lock()
	defer u.mu.Unlock()
	s := u.control.Felt(pace.FeelLookup)
	return s.Alone.Total + s.Beside.Total + s.Often.Total, max(s.Alone.Quantile(1), s.Beside.Quantile(1))
}

// Probes of the first two seconds, and those that are made while the host withholds the processors, tell nothing of
// what others feel.
func TestWhichProbesCount(t *testing.T) {
	t.Parallel()
	var taken atomic.Int64
	var steals atomic.Bool
	begun := time.Now()
	all := &Watchers{Log: slog.New(slog.DiscardHandler), stolen: func() (time.Duration, bool) {
		if steals.Load() {
			taken.Store(int64(time.Since(begun)))
		}
		return time.Duration(taken.Load()), true
	}}
	s := &crowd{}
	s.takes.Store(int64(time.Second)) // connections are new
	u := all.Of(s, "harbour", &shape.Table{TableForm: shape.TableForm{Name: "scan"}}, 0)
	defer u.Leave()
	time.Sleep(settles - 300*time.Millisecond)
	if n, _ := felt(u); n > 0 || s.probes.Load() < 10 {
		t.Errorf("%v of %d probes count while it settles", n, s.probes.Load())
	}
	s.takes.Store(int64(time.Millisecond))
	until := func(what string, done func() bool) {
		t.Helper()
		for since := time.Now(); !done(); time.Sleep(10 * time.Millisecond) {
			if time.Since(since) > 30*time.Second {
				t.Fatal(what)
			}
		}
	}
	until("no probe counts", func() bool { n, _ := felt(u); return n >= 50 })
	if n, slowest := felt(u); slowest > 10*time.Millisecond {
		t.Errorf("of %v that count one took %s", n, slowest)
	}
	steals.Store(true)
	time.Sleep(2 * readEach)
	s.takes.Store(int64(time.Second))
	from := s.probes.Load()
	until("no probes are made", func() bool { return s.probes.Load() > from+30 })
	s.takes.Store(int64(time.Millisecond))
	time.Sleep(2 * readEach)
	steals.Store(false)
	before, _ := felt(u)
	until("no probe counts any more", func() bool { n, _ := felt(u); return n > before+20 })
	if _, slowest := felt(u); slowest > 10*time.Millisecond {
		t.Errorf("one that took %s counts though the host kept the machine waiting", slowest)
	}
}

// Until it is known how others fare without us, probes are made many times a second, and then no more often than they
// have to be.
func TestProbesAreManyAtFirst(t *testing.T) {
	t.Parallel()
	all := &Watchers{Log: slog.New(slog.DiscardHandler)}
	s := &crowd{}
	s.takes.Store(int64(500 * time.Microsecond))
	u := all.Of(s, "harbour", &shape.Table{TableForm: shape.TableForm{Name: "scan"}}, 0)
	defer u.Leave()
	begun := time.Now()
	for n := 0.0; n < 400; n, _ = felt(u) {
		if time.Sleep(50 * time.Millisecond); time.Since(begun) > 60*time.Second {
			t.Fatalf("%v probes count after a minute", n)
		}
	}
	took, first := time.Since(begun), s.probes.Load()
	time.Sleep(2 * time.Second)
	if later := s.probes.Load() - first; took < 20*time.Second && float64(later)/2 > 0.7*float64(first)/took.Seconds() {
		t.Errorf("%d probes in %s, and then %d in two seconds", first, took, later)
	}
}
