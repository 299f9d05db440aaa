package pace

import (
	"testing"
	"time"
)

func TestSpurtsAreAsShortAsPays(t *testing.T) {
	for _, c := range []struct {
		name        string
		fixed, each time.Duration
		least, most int
	}{
		{"cheap rows", 100 * time.Microsecond, 5 * time.Microsecond, 32, 64},
		{"dear rows", 100 * time.Microsecond, 25 * time.Microsecond, 16, 16},
		{"rows of a millisecond", 100 * time.Microsecond, time.Millisecond, 16, 16},
		{"a statement that takes longer than a spurt", time.Millisecond, 5 * time.Microsecond, 64, 512},
		{"a statement that sorts", 200 * time.Millisecond, 5 * time.Microsecond, 1024, 16 << (spurtSizes - 1)},
	} {
		s, late := NewSpurts(Profile{Spurt: 16}), 0
		for i := range 400 {
			took := c.fixed + time.Duration(s.Rows())*c.each
			if i%3 == 0 { // others are at work
				took *= 4
			}
			if s.Done(s.Rows(), took); i > 200 && (s.Rows() < c.least || s.Rows() > c.most) {
				late++
			}
		}
		if late > 0 {
			t.Errorf("%s: %d of 200 spurts had fewer than %d rows or more than %d: %d at last", c.name, late, c.least,
				c.most, s.Rows())
		}
	}
	s := NewSpurts(Profile{Spurt: 16})
	if s.Done(3, time.Second); s.Rows() != NewSpurts(Profile{Spurt: 16}).Rows() {
		t.Error("a short last spurt changes the next")
	}
	s.Break()
	eased := NewSpurts(Profile{Spurt: 16}).Within(Room{Ease: 1})
	for range 100 {
		eased.Done(eased.Rows(), 100*time.Microsecond+time.Duration(eased.Rows())*5*time.Microsecond)
	}
	if rows := eased.Rows(); rows < 256 || rows > 512 {
		t.Errorf("where others do not feel it a spurt of rows of 5 µs has %d", rows)
	}
	var none *Spurts
	none.Within(Room{}).Done(1, time.Second)
	if s.Breaks() != SpurtBreak || none.Break()+none.Breaks() != 0 || none.Rows() < 1<<40 {
		t.Error("breaks are not counted, or taken where there are none")
	}
}

func TestSpurtsThatLookForRowsMayBeLarger(t *testing.T) {
	if NewFindSpurts(Profile{}) != nil || NewFindSpurts(Profile{Find: 16}) != nil {
		t.Error("where nothing goes in spurts reading does")
	}
	plain, own := NewFindSpurts(Profile{Spurt: 4}).Rows(), NewFindSpurts(Profile{Spurt: 4, Find: 16}).Rows()
	if plain != NewSpurts(Profile{Spurt: 4}).Rows() || own != 4*plain {
		t.Errorf("they begin with %d and %d rows", plain, own)
	}
}
