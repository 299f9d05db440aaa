package pace

import (
	"cmp"
	"math"
	"slices"
	"sync"
	"time"
)

// Spurts cut what one transaction does into spurts with short breaks in between, beside others who are at work. Whoever
// needs the processor, or what we hold for a moment, then waits for the end of a spurt at the most, and not for that of
// a batch: a scheduler may leave a process that works on alone for milliseconds. What a transaction costs besides its
// rows is still paid once. It is safe for concurrent use; nil does everything at once. Make it with NewSpurts.
//
// A spurt is steered to SpurtLength, or to as long as the room allows (Within). But a statement costs something
// whatever its rows, and much where the database sorts a lot to find them: a spurt is longer where half as many rows
// would cost 1.4 times as much each. What a spurt takes is told by the quicker of those like it, since what others are
// at makes it differ from one to the next.
type Spurts struct {
	mu     sync.Mutex
	least  int           // rows of the smallest
	size   int           // a spurt has least << size rows
	length time.Duration // of one
	each   [spurtSizes][8]time.Duration
	seen   [spurtSizes]int
	breaks time.Duration
}

const (
	// SpurtLength is how long a spurt takes, and SpurtBreak how long the break after it.
	SpurtLength = 300 * time.Microsecond
	SpurtBreak  = time.Millisecond
	// mostLonger is how many times as long one takes at the most where others do not feel it.
	mostLonger = 8.0
	// spurtSizes are from the fewest rows of a spurt to as many as a batch has.
	spurtSizes = 12
	// longSpurt is how long one takes that others feel.
	longSpurt = 2 * time.Millisecond
	// spurtPays is what a row costs in a spurt twice as large, of what it costs in this one, where that pays, and
	// spurtPaysLong the same for a long one.
	spurtPays, spurtPaysLong = 0.72, 0.55
)

// NewFindSpurts is NewSpurts, of work that looks for its rows.
func NewFindSpurts(m Profile) *Spurts {
	if m.Spurt > 0 {
		m.Spurt = cmp.Or(m.Find, m.Spurt)
	}
	return NewSpurts(m)
}

// NewSpurts begins with small ones, as a database's profile has them; nil where it has none.
func NewSpurts(m Profile) *Spurts {
	if m.Spurt <= 0 {
		return nil
	}
	return &Spurts{least: m.Spurt, size: 1, length: SpurtLength}
}

// Within makes the next spurts as long as the room allows.
func (s *Spurts) Within(room Room) *Spurts {
	if s == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.length = time.Duration(float64(SpurtLength) * math.Pow(mostLonger, min(max(room.Ease, 0), 1)))
	return s
}

// Rows returns how many rows the next spurt should have.
func (s *Spurts) Rows() int {
	if s == nil {
		return math.MaxInt
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.least << s.size
}

// quick is how many seconds a spurt of a size takes: as long as the second quickest of the last eight; 0: not known.
func (s *Spurts) quick(size int) float64 {
	if size < 0 || size >= spurtSizes || s.seen[size] < 4 {
		return 0
	}
	known := slices.Clone(s.each[size][:min(s.seen[size], len(s.each[size]))])
	slices.Sort(known)
	return known[1].Seconds()
}

// Done tells how long a spurt of rows took.
func (s *Spurts) Done(rows int, took time.Duration) {
	if s == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if rows < s.least<<s.size || took <= 0 { // a short last one says nothing
		return
	}
	s.each[s.size][s.seen[s.size]%len(s.each[s.size])] = took
	s.seen[s.size]++
	now, smaller, larger := s.quick(s.size), 2*s.quick(s.size-1), s.quick(s.size+1)/2 // for as many rows
	long := now > s.length.Seconds()
	switch {
	case now == 0:
	case long && s.size > 0 && paysAt(now)*smaller <= now:
		s.size--
	case s.size == spurtSizes-1:
	case larger > 0 && larger < paysAt(2*larger)*now, larger == 0 && long, now <= s.length.Seconds()/2:
		s.size++
	}
}

// paysAt is what a row must cost in a spurt that takes so many seconds, of what it costs in one half as large, for that
// to pay: little more than half where it takes so long that others feel it.
func paysAt(length float64) float64 {
	if length > longSpurt.Seconds() {
		return spurtPaysLong
	}
	return spurtPays
}

// Break returns how long to wait before the next spurt.
func (s *Spurts) Break() time.Duration {
	if s == nil {
		return 0
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.breaks += SpurtBreak
	return SpurtBreak
}

// Breaks returns how long all breaks were: that was no work.
func (s *Spurts) Breaks() time.Duration {
	if s == nil {
		return 0
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.breaks
}
