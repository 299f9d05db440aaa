package pace

import (
	"math"
	"time"
)

// Spread tells how long something took how often, in steps of 9 %. What is older weighs less. The zero value has seen
// nothing.
type Spread struct {
	Counts [spreadSteps]float64 `json:"counts"`
	Total  float64              `json:"-"`
}

// Steps of a spread: eight to each doubling, from 16 µs to about 16 s.
const (
	spreadSteps = 8 * 20
	spreadFrom  = 16 * time.Microsecond
	spreadEach  = 8.0
)

// Add takes in one time.
func (s *Spread) Add(took time.Duration) {
	s.Counts[stepOf(took)]++
	s.Total++
}

func stepOf(took time.Duration) int {
	at := spreadEach * math.Log2(float64(max(took, 1))/float64(spreadFrom))
	return int(min(max(at, 0), spreadSteps-1))
}

// Fade makes what has been seen weigh so much, from 0 to 1.
func (s *Spread) Fade(by float64) {
	for i := range s.Counts {
		s.Counts[i] *= by
	}
	s.Total *= by
}

// Merge adds another spread, at a weight.
func (s *Spread) Merge(from *Spread, weight float64) {
	for i, n := range from.Counts {
		s.Counts[i] += n * weight
	}
	s.Total += from.Total * weight
}

// Sum makes the total that of the counts again; those that count nothing become zero. It is for a spread that comes
// from elsewhere.
func (s *Spread) Sum() {
	s.Total = 0
	for i, n := range s.Counts {
		if !(n >= 0 && n < 1e12) {
			n = 0
		}
		s.Counts[i] = n
		s.Total += n
	}
}

// Quantile returns the time that so much of all, from 0 to 1, took no longer than; 0 where nothing is known.
func (s *Spread) Quantile(q float64) time.Duration {
	if s.Total <= 0 {
		return 0
	}
	left := q * s.Total
	for i, n := range s.Counts {
		if n > 0 && left <= n {
			return edge(float64(i) + left/n)
		}
		left -= n
	}
	return edge(spreadSteps)
}

func edge(step float64) time.Duration {
	return time.Duration(float64(spreadFrom) * math.Exp2(step/spreadEach))
}

// Beyond returns how much of all, from 0 to 1, took longer than a time.
func (s *Spread) Beyond(took time.Duration) float64 {
	if s.Total <= 0 {
		return 0
	}
	at := min(max(spreadEach*math.Log2(float64(max(took, 1))/float64(spreadFrom)), 0), spreadSteps)
	sum := 0.0
	for i := int(at); i < spreadSteps; i++ {
		if n := s.Counts[i]; i == int(at) {
			sum += n * (1 - (at - float64(i)))
		} else {
			sum += n
		}
	}
	return sum / s.Total
}

// Feel is what one probe shows of what others feel: how long it took, and whether we were at work meanwhile.
type Feel struct {
	Kind   FeelKind
	Took   time.Duration
	Beside bool // we were at work
}

// FeelKind is what a probe does.
type FeelKind string

const (
	FeelLookup FeelKind = "look-up" // of one row by its key
	FeelCommit FeelKind = "commit"  // of a transaction that changes next to nothing
)

// FeelKinds are all of them.
var FeelKinds = []FeelKind{FeelLookup, FeelCommit}

// Felt holds what others feel, by kind of probe: alone, while we rest; beside us, while we are at work now and then;
// and beside us while we are at work often. What is done seldom finds nothing in the processors' caches, and others
// feel more of each moment of it.
type Felt struct{ Alone, Beside, Often Spread }

// mix is what is felt where so much of all, from 0 to 1, is of another kind. It counts for as many probes as there
// would be in that ratio.
func (f *Felt) mix(other *Felt, share float64) *Felt {
	of := func(a, b *Spread) (out Spread) {
		total := min(a.Total/(1-share), b.Total/share)
		if total <= 0 {
			return Spread{}
		}
		out.Merge(a, total*(1-share)/a.Total)
		out.Merge(b, total*share/b.Total)
		return out
	}
	return &Felt{Alone: of(&f.Alone, &other.Alone), Beside: of(&f.Beside, &other.Beside),
		Often: of(&f.Often, &other.Often)}
}

// often is for how much of the time at the least we are at work where that is often.
const often = 0.25

const (
	// enoughAlone and enoughBeside are how many probes have to be known for what they show to count.
	enoughAlone  = 150
	enoughBeside = 30
	// felt99 is the share of others' statements that is slower than the p99.
	felt99 = 0.01
	// stalls is how many times the median the p99 is where something stalls. What others feel of us is told then by how
	// many more of theirs are slower than so many medians beside us: stalledMore of all, at a bound of 100 %. We take
	// between leastStalled and mostStalled of the time.
	stalls, stalledMore       = 10, 0.02
	leastStalled, mostStalled = 0.03, 0.3
)

// Share returns for how much of the time, from 0 to 1, we may be at work so that the p99 of others is no more than
// bound (0.1 is 10 %) above what it is alone; false where too little is known.
func (f *Felt) Share(bound float64) (share float64, known bool) {
	share, known = f.share(&f.Beside, bound)
	if high, told := f.share(&f.Often, bound); told && high >= often || told && !known {
		return high, true
	} else if told {
		return min(share, often), true
	}
	return share, known
}

// share is Share by what probes beside us have shown.
//
// What others feel is a mixture: for as much of the time as we work, what probes beside us show, and for the rest what
// they show alone. Its p99 stays within the bound where no more than a hundredth of the mixture lies beyond
// x = (1 + bound) × p99 alone, which is so up to a share of (0.01 − A) / (B − A), where A and B are what lies beyond x
// alone and beside us. A is not counted, which would hang on a handful of probes, but taken from how the slowest
// twentieth alone is spread: as a power of the time.
//
// Where the p99 alone is more than ten times the median, something stalls, and a bound that is measured by it would
// allow anything. What we may add then is a share of statements that take longer than ten medians.
func (f *Felt) share(by *Spread, bound float64) (share float64, known bool) {
	if f.Alone.Total < enoughAlone || by.Total < enoughBeside {
		return 0, false
	}
	share = f.times(by, bound)
	if _, stalled := f.slow(bound); stalled {
		return min(max(share, leastStalled), mostStalled), true
	}
	return min(share, 1), true
}

// times is how many times as much as probes beside us have shown others may feel within the bound, if we were at work
// all the time.
func (f *Felt) times(by *Spread, bound float64) float64 {
	slow, _ := f.slow(bound)
	spare, alone := f.spare(bound)
	return spare / max(besideBeyond(by, slow)-alone, 1e-6)
}

// slow is the time from which on it counts that something takes longer beside us than alone. stalled says whether that
// is so many medians, and not what the bound makes of the p99.
func (f *Felt) slow(bound float64) (limit time.Duration, stalled bool) {
	p99 := f.Alone.Quantile(1 - felt99)
	if slow := stalls * f.Alone.Quantile(0.5); p99 > slow {
		return slow, true
	}
	return time.Duration(float64(p99) * (1 + bound)), false
}

// spare is how much more of all that others do may be slow than is alone, and which share is slow alone; both from 0
// to 1.
func (f *Felt) spare(bound float64) (spare, alone float64) {
	slow, stalled := f.slow(bound)
	if stalled {
		return stalledMore * bound, f.Alone.Beyond(slow)
	}
	p95, p99 := f.Alone.Quantile(0.95), f.Alone.Quantile(1-felt99)
	slope := 16.0 // of a tail so steep that its edge is a wall
	if p99 > p95 && p95 > 0 {
		slope = min(math.Log(0.05/felt99)/math.Log(float64(p99)/float64(p95)), slope)
	}
	alone = felt99 * math.Pow(1+bound, -slope)
	return felt99 - alone, alone
}

// besideBeyond is how much of all, from 0 to 1, takes longer than a time beside us: the next may be one of those.
func besideBeyond(beside *Spread, took time.Duration) float64 {
	return (beside.Beyond(took)*beside.Total + 1) / (beside.Total + 1)
}

// Fade makes what has been felt weigh so much, from 0 to 1.
func (f *Felt) Fade(by float64) {
	f.Alone.Fade(by)
	f.Beside.Fade(by)
	f.Often.Fade(by)
}
