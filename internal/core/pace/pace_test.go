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

func TestAnotherPaceBeginsGently(t *testing.T) {
	s := New(Unlimited)
	for range 10 {
		s.Done(s.Rows(), 10*time.Millisecond)
	}
	if s.Rows() != MaxRows {
		t.Fatalf("batches are of %d rows", s.Rows())
	}
	s.Change(Gentle)
	if rest := s.Done(s.Rows(), 100*time.Millisecond); s.Rows() != 500 || rest != 100*time.Millisecond {
		t.Errorf("gentle batches are of %d rows, with a rest of %s", s.Rows(), rest)
	}
	s.Done(s.Rows(), time.Second) // the database is slow
	small := s.Rows()
	s.Change(Unlimited)
	if rest := s.Done(s.Rows(), 100*time.Millisecond); small >= 500 || s.Rows() > 2*small || rest != 0 {
		t.Errorf("from %d rows it jumps to %d, with a rest of %s", small, s.Rows(), rest)
	}
}
