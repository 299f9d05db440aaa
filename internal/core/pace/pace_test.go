package pace

import (
	"testing"
	"time"
)

func TestBatchesFindTheirSize(t *testing.T) {
	for _, c := range []struct {
		pace   Pace
		perRow time.Duration
		want   int
	}{{Gentle, 50 * time.Microsecond, 2000}, {Gentle, 10 * time.Millisecond, MinRows}, {Unlimited, time.Microsecond, MaxRows}, {Unlimited, 100 * time.Microsecond, 4000}} {
		s := New(c.pace)
		for range 30 {
			rest := s.Done(s.Rows(), time.Duration(s.Rows())*c.perRow)
			if (rest > 0) != (c.pace == Gentle) {
				t.Fatalf("%s rests %s", c.pace, rest)
			}
		}
		if got := s.Rows(); got < c.want*9/10 || got > c.want*11/10 {
			t.Errorf("%s at %s a row: batches of %d, want about %d", c.pace, c.perRow, got, c.want)
		}
	}
}

func TestOneOutlierDoesNotThrowTheSize(t *testing.T) {
	s := New(Gentle)
	s.Done(500, 100*time.Millisecond)
	s.Done(500, 10*time.Second)
	if s.Rows() < 250 {
		t.Errorf("one slow batch made it %d", s.Rows())
	}
	s = New(Gentle)
	s.Done(3, time.Microsecond)
	if s.Rows() != 500 {
		t.Errorf("a short last batch made it %d", s.Rows())
	}
}

func TestParseKnowsThePaces(t *testing.T) {
	if p, err := Parse(""); err != nil || p != Gentle {
		t.Errorf("the default is %q, %v", p, err)
	}
	if _, err := Parse("furious"); err == nil {
		t.Error("furious passed for a pace")
	}
}
