// Package pace decides how many rows the next batch takes and how long to rest before it. It computes from measured
// times alone; it neither sleeps nor reads a clock.
package pace

import (
	"cmp"
	"fmt"
	"time"
)

// Pace is how hard a run works its source.
type Pace string

const (
	Gentle    Pace = "gentle"    // the default: batches of about 5 ms, and many times as long a rest after each
	Unlimited Pace = "unlimited" // for an empty database at night: large batches, no rest
)

// Parse reads a pace; the empty text is Gentle.
func Parse(s string) (Pace, error) {
	switch p := Pace(s); p {
	case "":
		return Gentle, nil
	case Gentle, Unlimited:
		return p, nil
	}
	return "", fmt.Errorf("%q is not a pace; write gentle or unlimited", s)
}

// MaxRest is the longest rest after one batch or one piece of reading: where one took seconds, the machine stalled,
// and resting many times as long relieves nobody. What others suffer while a run works, its signals tell.
const MaxRest = 4 * time.Second

// ReadRest returns how long to rest after reading or verifying a piece of a slice, in multiples of the time that it
// took: at the gentle pace a twentieth of a processor is in use for each, or as much less as the profile says. slow is
// how much pressure slows the run, from 0 to 1.
func ReadRest(p Pace, m Profile, slow float64) float64 {
	if p == Unlimited {
		return 8 * slow
	}
	return cmp.Or(m.ReadRest, gentleRest) * (1 + slow)
}

// Bounds of a batch in rows.
const (
	MinRows = 50
	MaxRows = 50_000
)

// Profile is what the gentle pace keeps to on a kind of database. A field of zero: gentleRows, or gentleRest.
type Profile struct {
	Rows     int     // the most rows of a batch
	Rest     float64 // how long to rest after a batch, in multiples of the time that it took
	ReadRest float64 // the same after reading or verifying a piece of a slice
}

// gentleRows and gentleRest are for databases that ask for nothing else.
const (
	gentleRows = 20_000
	gentleRest = 19
)

// Steering holds the size of the next batch. Make it with New.
type Steering struct {
	rows   int
	most   int
	target time.Duration
	rest   float64 // of the batch's own time
}

// New returns a steering that begins with a small batch and finds its size from there, with the profile of the gentle
// pace.
func New(p Pace, m Profile) *Steering {
	if p == Unlimited {
		return &Steering{rows: 5_000, most: MaxRows, target: 400 * time.Millisecond}
	}
	most := cmp.Or(m.Rows, gentleRows)
	return &Steering{rows: min(500, most), most: most, target: 5 * time.Millisecond, rest: cmp.Or(m.Rest, gentleRest)}
}

// Change goes on at another pace. The next batch is no larger than the first of that pace would be: what is to become
// gentle is so at once.
func (s *Steering) Change(p Pace, m Profile) {
	next := New(p, m)
	next.rows = min(next.rows, s.rows)
	*s = *next
}

// Rows returns how many rows the next batch should take.
func (s *Steering) Rows() int { return s.rows }

// Done tells how long a batch of rows took, and how much pressure slows the run, from 0 to 1. It returns the rest
// before the next: at the most of pressure, as long again (without a rest otherwise, four times the batch's own time),
// and never more than MaxRest. The size at most doubles or halves from one batch to the next, so that one outlier does
// not throw it.
func (s *Steering) Done(rows int, took time.Duration, slow float64) (rest time.Duration) {
	if rows > 0 && took > 0 {
		want := float64(rows) * float64(s.target) / float64(took)
		want = min(max(want, float64(s.rows)/2), float64(s.rows)*2)
		if rows >= s.rows || want < float64(s.rows) { // a short last batch says nothing about a larger one
			s.rows = min(max(int(want), MinRows), s.most)
		}
	}
	return min(time.Duration(float64(took)*(s.rest+max(s.rest, 4)*slow)), MaxRest)
}

// Shrink halves the next batch: others have come into trouble with the last one.
func (s *Steering) Shrink() { s.rows = max(s.rows/2, MinRows) }
