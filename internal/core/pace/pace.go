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

// MaxRest is the longest rest after one batch or one piece of reading: where one took seconds, the machine stalled,
// and resting many times as long relieves nobody. What others suffer while a run works, its signals tell.
const MaxRest = 4 * time.Second

// ReadRest returns how long to rest after reading or verifying a piece of a slice, in multiples of the time that it
// took: a twentieth of a processor is in use for each, or as much less as the profile says, where nothing is free, and
// more the more is free. slow is how much pressure slows the run, from 0 to 1.
func ReadRest(p Pace, m Profile, room Room, slow float64) float64 {
	rest := cmp.Or(m.ReadRest, gentleRest) * stretch(p.Within(room).Free)
	return rest + max(rest, 8)*slow
}

// Room is what a pace may take of a database at a moment.
type Room struct {
	// 1: all, without rests; 0: what the careful pace takes; less, to -1: not even that
	Free float64
	// how long a batch or a piece of reading may last that goes at once; 0: as Free says
	Burst time.Duration
	// how long it may last where it goes in spurts, since others may be at work; 0: it goes at once
	Spurts time.Duration
	// how much longer than SpurtLength each of those may be: from 0, no longer, to 1, the longest
	Ease float64
}

// Within returns what a pace takes of the room that a Control says there is.
func (p Pace) Within(r Room) Room {
	switch p {
	case Unlimited:
		return Room{Free: 1}
	case Careful:
		return Room{}
	}
	return r
}

// stretch is the share of its longest rests that a pace takes where so much is free: at a half an eighth, and where not
// even those are free up to eight times as much.
func stretch(free float64) float64 { return math.Pow(1-free, 3) }

// Bounds of a batch in rows.
const (
	MinRows = 50
	MaxRows = 50_000
)

// Profile is what a pace keeps to on a kind of database while others are at work. Rows or rests of zero: gentleRows, or
// gentleRest.
type Profile struct {
	Rows     int     // the most rows of a batch
	Rest     float64 // how long to rest after a batch, in multiples of the time that it took
	ReadRest float64 // the same after reading or verifying a piece of a slice
	Spurt    int     // the fewest rows of a spurt; 0: all goes at once
	Find     int     // the same of a spurt that looks for its rows, reading or purging; 0: as of any
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
	room    Room
	costs   costs
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

// Free tells how much room there is. Where a batch is to be shorter than before, the next one is so at once.
func (s *Steering) Free(room Room) {
	room = s.pace.Within(room)
	if s.target(room) < s.target(s.room) {
		s.rows = min(s.rows, max(int(float64(s.short)*s.target(room)/s.target(Room{})), s.short))
	}
	s.room = room
}

// target is how long a batch should take, in seconds.
func (s *Steering) target(room Room) float64 {
	switch {
	case s.pace == Unlimited:
		return hugeBatch.Seconds()
	case room.Spurts > 0 && s.profile.Spurt > 0:
		return room.Spurts.Seconds()
	case room.Burst > 0:
		return room.Burst.Seconds()
	}
	return shortBatch.Seconds() + max(room.Free, 0)*(longBatch-shortBatch).Seconds()
}

// manyRows is by how many times more rows a batch may have that lasts long beside others.
const manyRows = 5

// most is how many rows a batch may have.
func (s *Steering) most(room Room) int {
	if s.pace == Unlimited {
		return MaxRows
	}
	rows := s.profile.Rows + int(max(room.Free, 0)*float64(MaxRows-s.profile.Rows))
	if s.target(room) > shortBatch.Seconds() && room.Spurts > 0 {
		rows = max(rows, min(manyRows*s.profile.Rows, MaxRows))
	}
	return rows
}

// Rows returns how many rows the next batch should take.
func (s *Steering) Rows() int { return s.rows }

// Done tells how long a batch of rows took, how much of that were breaks between its spurts, and how much pressure
// slows the run, from 0 to 1. It returns the rest before the next, in multiples of what the batch worked, which others
// like it tell: at the most of pressure, as long again (without a rest otherwise, four times the batch's own work), and
// never more than MaxRest. The size at most doubles or halves from one batch to the next, so that one outlier does not
// throw it.
func (s *Steering) Done(rows int, took, breaks time.Duration, slow float64) (rest time.Duration) {
	if rows > 0 && took > 0 {
		each := took.Seconds() / float64(rows)
		s.rows = steer(s.rows, rows, s.target(s.room)/each, s.most(s.room))
		s.short = steer(s.short, rows, s.target(Room{})/each, s.most(Room{}))
	}
	times := 0.0
	if s.pace != Unlimited {
		times = s.profile.Rest * stretch(s.room.Free)
	}
	worked := s.costs.of(rows, took-breaks)
	return min(time.Duration(float64(worked)*(times+max(times, 4)*slow)), MaxRest)
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
