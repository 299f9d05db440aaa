// Package pace decides how many rows the next batch takes and how long to rest before it. It computes from measured
// times alone; it neither sleeps nor reads a clock.
package pace

import (
	"cmp"
	"fmt"
	"math"
	"time"
)

// Pace is how hard a run works its source.
type Pace string

const (
	// the default: what is free. Careful while others are at work, without rests while nobody is
	Gentle    Pace = "gentle"
	Careful   Pace = "careful"   // batches of about 5 ms, and many times as long a rest after each, whoever is there
	Unlimited Pace = "unlimited" // for an empty database at night: large batches, no rest
)

// Parse reads a pace; the empty text is Gentle.
func Parse(s string) (Pace, error) {
	switch p := Pace(s); p {
	case "":
		return Gentle, nil
	case Gentle, Careful, Unlimited:
		return p, nil
	}
	return "", fmt.Errorf("%q is not a pace; write %s", s, Names)
}

// Names are the paces, for whoever wrote another one.
const Names = "gentle, careful or unlimited"

// Within returns how much of a database is free for a pace, of what a Control says.
func (p Pace) Within(free float64) float64 {
	switch p {
	case Unlimited:
		return 1
	case Careful:
		return 0
	}
	return free
}

// MaxRest is the longest rest after one batch or one piece of reading: where one took seconds, the machine stalled,
// and resting many times as long relieves nobody. What others suffer while a run works, its signals tell.
const MaxRest = 4 * time.Second

// ReadRest returns how long to rest after reading or verifying a piece of a slice, in multiples of the time that it
// took: a twentieth of a processor is in use for each, or as much less as the profile says, where nothing is free, and
// more the more is free. slow is how much pressure slows the run, from 0 to 1.
func ReadRest(p Pace, m Profile, free, slow float64) float64 {
	rest := cmp.Or(m.ReadRest, gentleRest) * stretch(p.Within(free))
	return rest + max(rest, 8)*slow
}

// stretch is the share of its longest rests that a pace takes where so much is free: at a half an eighth.
func stretch(free float64) float64 { return math.Pow(1-free, 3) }

// Bounds of a batch in rows.
const (
	MinRows = 50
	MaxRows = 50_000
)

// Profile is what a pace keeps to on a kind of database while others are at work. A field of zero: gentleRows, or
// gentleRest.
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

// How long a batch should take: where others are at work, where nobody is, and where nobody matters. The second is as
// long as somebody who comes may have to wait.
const (
	shortBatch = 5 * time.Millisecond
	longBatch  = 50 * time.Millisecond
	hugeBatch  = 400 * time.Millisecond
)

// firstRows is how many rows the first batch takes.
const firstRows = 500

// Steering holds the size of the next batch. Make it with New.
type Steering struct {
	pace    Pace
	profile Profile
	rows    int
	short   int // rows of a batch of shortBatch
	free    float64
}

// New returns a steering that begins with a small batch and finds its size from there, with a database's profile.
func New(p Pace, m Profile) *Steering {
	m.Rows, m.Rest = cmp.Or(m.Rows, gentleRows), cmp.Or(m.Rest, gentleRest)
	s := &Steering{pace: p, profile: m, rows: min(firstRows, m.Rows), short: min(firstRows, m.Rows)}
	if p == Unlimited {
		s.rows = 10 * firstRows
	}
	return s
}

// Change goes on at another pace. The next batch is no larger than the first of that pace would be: what is to become
// gentle is so at once.
func (s *Steering) Change(p Pace, m Profile) {
	next := New(p, m)
	next.rows = min(next.rows, s.rows)
	*s = *next
}

// Free tells how much of the database is free, from 0 to 1. Where that is less than before, the next batch is as short
// at once.
func (s *Steering) Free(free float64) {
	if free = s.pace.Within(free); free < s.free {
		s.rows = min(s.rows, max(int(float64(s.short)*s.target(free)/s.target(0)), s.short))
	}
	s.free = free
}

// target is how long a batch should take, in seconds.
func (s *Steering) target(free float64) float64 {
	if s.pace == Unlimited {
		return hugeBatch.Seconds()
	}
	return shortBatch.Seconds() + free*(longBatch-shortBatch).Seconds()
}

// most is how many rows a batch may have.
func (s *Steering) most(free float64) int {
	if s.pace == Unlimited {
		return MaxRows
	}
	return s.profile.Rows + int(free*float64(MaxRows-s.profile.Rows))
}

// Rows returns how many rows the next batch should take.
func (s *Steering) Rows() int { return s.rows }

// Done tells how long a batch of rows worked, and how much pressure slows the run, from 0 to 1. It returns the rest
// before the next: at the most of pressure, as long again (without a rest otherwise, four times the batch's own time),
// and never more than MaxRest. The size at most doubles or halves from one batch to the next, so that one outlier does
// not throw it.
func (s *Steering) Done(rows int, took time.Duration, slow float64) (rest time.Duration) {
	if rows > 0 && took > 0 {
		each := took.Seconds() / float64(rows)
		s.rows = steer(s.rows, rows, s.target(s.free)/each, s.most(s.free))
		s.short = steer(s.short, rows, s.target(0)/each, s.most(0))
	}
	times := 0.0
	if s.pace != Unlimited {
		times = s.profile.Rest * stretch(s.free)
	}
	return min(time.Duration(float64(took)*(times+max(times, 4)*slow)), MaxRest)
}

// steer returns how many rows the next batch takes instead of size, where so many would be wanted after a batch of
// rows. A short last batch says nothing about a larger one.
func steer(size, rows int, want float64, most int) int {
	want = min(max(want, float64(size)/2), float64(size)*2)
	if rows < size && want >= float64(size) {
		return size
	}
	return min(max(int(math.Round(want)), MinRows), most)
}

// Shrink halves the next batch: others have come into trouble with the last one.
func (s *Steering) Shrink() {
	s.rows = max(s.rows/2, MinRows)
	s.short = min(s.short, s.rows)
}
