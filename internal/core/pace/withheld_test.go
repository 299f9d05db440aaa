package pace

import (
	"testing"
	"time"
)

func TestWhatAHostWithholdsIsToldUntilItIsUsual(t *testing.T) {
	var w Withheld
	at, sum := time.Duration(0), 7*time.Hour // whatever was before does not count
	step := func(share float64) bool {
		at += 50 * time.Millisecond
		sum += time.Duration(share * float64(2*50*time.Millisecond))
		return w.Since(at, sum, 2)
	}
	if step(1) {
		t.Error("nothing is known at first")
	}
	for range 100 {
		if step(0.01) {
			t.Fatal("one per cent is nothing")
		}
	}
	if !step(0.4) || !step(0.1) || step(0) {
		t.Error("a stall of 40 and 10 per cent, and its end")
	}
	told := 0
	for range 4000 { // 200 seconds
		if step(0.3) {
			told++
		}
	}
	if told < 50 || told > 1000 {
		t.Errorf("30 per cent all the time were told of %d times of 4,000", told)
	}
	if step(0.3) || !step(1) {
		t.Error("what is usual now is none, and all of it still is")
	}
	if w.Since(at, sum-time.Hour, 2) || w.Since(at-time.Second, sum, 2) {
		t.Error("counts and clocks that go back say nothing")
	}
}
