package service

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"time"
)

// A chore looks when something was written, when it said that it would have to, and hardly ever besides.
func TestChoresAreWokenByWhatIsWritten(t *testing.T) {
	t.Parallel()
	s, _ := open(t, t.TempDir())
	var looks, timed atomic.Int64
	s.wait.Add(2)
	go s.Chores.tend("look", func(context.Context) (time.Time, error) { looks.Add(1); return time.Time{}, nil })
	go s.Chores.tend("in time", func(context.Context) (time.Time, error) {
		timed.Add(1)
		return s.Now().Add(2 * tendEvery), nil
	})
	time.Sleep(4 * tendEvery) // what the start of the service writes is written
	quiet, before := looks.Load(), timed.Load()
	time.Sleep(4 * tendEvery)
	if n := looks.Load(); n != quiet {
		t.Errorf("it looked %d times without need", n-quiet)
	}
	if n := timed.Load(); n == before || n > before+3 {
		t.Errorf("what is to be done in time was looked after %d times", n-before)
	}
	begun := time.Now()
	if err := s.Catalog.Note(t.Context(), "me", "look", "here", ""); err != nil {
		t.Fatal(err)
	}
	for looks.Load() == quiet {
		if time.Since(begun) > tendEvery {
			t.Fatal("it was not woken")
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// One that fails waits longer each time, whatever is written.
func TestAChoreThatFailsWaits(t *testing.T) {
	t.Parallel()
	s, _ := open(t, t.TempDir())
	var looks atomic.Int64
	s.wait.Add(1)
	go s.Chores.tend("fail", func(ctx context.Context) (time.Time, error) {
		looks.Add(1)
		return time.Time{}, errors.Join(errors.New("it cannot be done"), s.Catalog.Note(ctx, "me", "fail", "here", ""))
	})
	time.Sleep(tendEvery + 2*tendEvery + tendEvery) // the first look, and the second
	if n := looks.Load(); n < 1 || n > 2 {
		t.Errorf("it was tried %d times", n)
	}
}
