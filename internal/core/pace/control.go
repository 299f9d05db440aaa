package pace

import (
	"fmt"
	"math"
	"strconv"
	"time"
)

// Look is what one look at a database showed of those who use it beside us.
type Look struct {
	Busy    int           // sessions of others that were at work within Span
	Span    time.Duration // how far back the look saw
	Alone   bool          // nobody else has the database open, for sure
	Hidden  string        // why not all of them can be seen, and what to do; empty: they can
	Blocked int           // sessions of others that wait for a lock of ours
	// transactions, or statements, of others that have ended since some beginning, where Counted
	Ended   int64
	Changed int64 // of those, how many changed something: no more than there were
	Counted bool
	Behind  float64 // by how many seconds the slowest replica is behind; 0 where there is none, or that is not told
	Worked  float64 // for how much of the time since the look before we were at work, from 0 to 1
}

// Control decides how much of a database the gentle pace takes. While nobody else is at work that is all of it. While
// others are, it is as much as they do not feel beyond a bound: probes tell how long a look-up and a commit take while
// we rest and while we are at work, and from that follows for how much of the time we may be (Felt.Share). It gives way
// at once and advances step by step, more slowly where others were at work lately. What is not known counts as the
// worst. The zero value has seen nothing yet. Instants are durations since any beginning, by a clock that never jumps.
type Control struct {
	Bound float64 // how much slower others may become at the p99, as a share; 0: UsualBound

	free   float64 // what is free of rests: 1: all; 0: what the careful pace takes; less: not even that
	dread  float64 // how much of the time lately others were at work, from 0 to 1
	last   time.Duration
	seen   bool // since the beginning
	busy   int
	single bool // nobody else had the database open at the last look
	why    string
	held   time.Duration // until when nothing is taken beyond the least
	short  time.Duration // until when batches are short, since others have waited for a lock of ours
	behind float64       // seconds of the slowest replica, at the look before
	others others
	probes probes
	ours   ours
	trial  trial
}

// others is what they do.
type others struct {
	ended   int64         // at the look before
	asked   bool          // whether that was told
	changed int64         // at the look before
	writes  float64       // which share of what others end changes something, lately
	mixes   bool          // whether that is known
	rate    float64       // of what others end a second, lately
	usual   float64       // the same, over a longer while
	told    time.Duration // for how long that has been told since they came
}

// probes is what they show of what others feel.
type probes struct {
	felt   map[FeelKind]*Felt
	faded  time.Duration // when what was felt was faded last
	rested bool          // a look-up was felt alone since the look before
	alone  time.Duration // for how long none was, while others are at work
}

// ours is how much we do, and may.
type ours struct {
	worked float64 // for how much of the time lately we were at work
	recent float64 // the same of the last moments
	want   float64 // for how much of it we may be
	known  bool    // whether that is known
	ease   float64 // how much longer spurts may be than usual, from 0 to 1
}

const (
	// UsualBound is how much slower others may become at the p99 of what probes show, where a rule says nothing else:
	// 10 %.
	UsualBound = 0.10
	// LeastBound and MostBound are the ends of what a rule may say.
	LeastBound, MostBound = 0.01, 1.0

	// Stale is how old a look may be that a run hurries for: without a newer one others may be at work.
	Stale = time.Second
	// quickly and slowly are how long an advance from the longest rests to none takes, where nobody else has been at
	// work lately and where others have all the time.
	quickly = 500 * time.Millisecond
	slowly  = 5 * time.Second
	// alarms and calms are the times in which others at work, or their absence, are taken for usual.
	alarms = 2 * time.Second
	calms  = 30 * time.Second
	// lately is how far back a first look must see for a run to begin at half its speed.
	lately = 5 * time.Second

	// mostBeside is the most that is taken while others are at work, and leastBeside the least: rests are eight times
	// those of the careful pace there.
	mostBeside, leastBeside = 0.9, -1.0
	// advance is how long it takes beside others from the careful pace to the most; a retreat takes looks.
	advance = 10 * time.Second
	// eases is how long it takes until spurts are as long as they become, and tightens until they are short again.
	eases, tightens = 20 * time.Second, 3 * time.Second
	// easesFrom is how many times as much of us others must be able to feel within the bound for spurts to become
	// longer, and mostly for how much of the time we are at work then already.
	easesFrom, mostly = 1.25, 0.5
	// holds is for how long nothing more than the least is taken after others have waited for a lock of ours, or a
	// replica has fallen behind.
	holds = time.Second
	// shortens is for how long batches are short then.
	shortens = 10 * time.Second
	// fades is the time in which what was felt loses half its weight.
	fades = time.Minute
	// mostBehind is how many seconds a replica may be behind before it counts that it falls further behind.
	mostBehind = 1.0
	// rush is by how many times others do more than is usual where that is taken for another load, of which nothing
	// is known yet.
	rush = 1.6
	// settles is how long it takes after others have come until what they do is known.
	settles = 15 * time.Second
	// aloneWithin is for how long it may go without a probe that we do not work beside: what others feel without us
	// changes too, and is what the bound is measured by.
	aloneWithin = 2 * time.Second
	// mostWrites is the most that the share of what changes something counts for, and fewWrites how much of all may do
	// so without others feeling of commits.
	mostWrites, fewWrites = 0.5, 0.02
	// restarts is by how many a count falls only where it begins anew: what we do is known at once, and counted later.
	restarts = 1000
)

// Look takes in a look at an instant.
func (c *Control) Look(at time.Duration, l Look) {
	passed := min(max(at-c.last, 0), 2*Stale)
	first, before := !c.seen, c.busy
	c.last, c.seen, c.busy, c.single = at, true, l.Busy, l.Alone
	c.ours.worked += (l.Worked - c.ours.worked) * (1 - math.Exp(-passed.Seconds()/2))
	c.ours.recent += (l.Worked - c.ours.recent) * (1 - math.Exp(-passed.Seconds()/0.4))
	c.fade(at)
	another := c.others.count(passed, l)
	c.why = ""
	switch {
	case l.Hidden != "":
		c.free, c.ours.known, c.why = 0, false, l.Hidden
	case l.Busy > 0:
		if first {
			passed = min(l.Span, alarms)
		}
		c.dread += (1 - c.dread) * (1 - math.Exp(-passed.Seconds()/alarms.Seconds()))
		if before == 0 || first {
			c.free, c.others.told, c.probes.alone = min(c.free, 0), 0, 0
			c.trial = c.trial.anew(at)
		}
		c.beside(at, passed, l, another)
	case first && l.Span >= lately:
		c.free = 0.5
	case first:
		c.dread = 1
	default:
		c.dread *= math.Exp(-passed.Seconds() / calms.Seconds())
		whole := quickly.Seconds() + (slowly-quickly).Seconds()*c.dread
		c.free = min(max(c.free, 0)+passed.Seconds()/whole, 1)
	}
	c.behind = l.Behind
	if c.busy == 0 || c.free <= 0 {
		c.ours.ease = 0
	}
}

// count takes in what others have ended, and says whether they do so much more than lately that what is known of them
// does not hold any more.
func (o *others) count(passed time.Duration, l Look) (another bool) {
	ended, changed, told := l.Ended-o.ended, l.Changed-o.changed, o.asked && l.Counted && passed > 0
	o.ended, o.changed, o.asked = l.Ended, l.Changed, l.Counted
	if !l.Counted {
		o.rate, o.usual, o.mixes = 0, 0, false
		return false
	}
	if !told || ended < -restarts { // the server was started anew, its statistics were reset, or a counter wrapped
		return false
	}
	if ended > 0 {
		share := min(max(float64(changed)/float64(ended), 0), mostWrites)
		if weight := 1 - math.Exp(-passed.Seconds()/3); o.mixes {
			o.writes += (share - o.writes) * weight
		} else {
			o.writes, o.mixes = share, true
		}
	}
	now := float64(ended) / passed.Seconds()
	o.rate += (now - o.rate) * (1 - math.Exp(-passed.Seconds()/3))
	o.usual += (now - o.usual) * (1 - math.Exp(-passed.Seconds()/20))
	if o.told += passed; o.told < settles { // they have just come
		o.usual = o.rate
	}
	return o.rate > rush*o.usual+10
}

// beside decides what is free while others are at work.
func (c *Control) beside(at, passed time.Duration, l Look, another bool) {
	who := Others(l.Busy)
	c.ours.want, c.ours.known = c.share()
	if c.ours.want <= often { // a trial begins with short spurts
		c.ours.ease = 0
	}
	if c.ours.want < often && c.trial.saved < trialMost {
		c.ours.want *= 1 - trialPart
	}
	if l.Blocked > 0 || another || at < c.held || !c.ours.known {
		c.trial.end(at, 0)
	}
	switch {
	case l.Blocked > 0:
		c.free, c.held, c.short = leastBeside/2, at+holds, at+shortens
		c.why = fmt.Sprintf("%s, and %s for a lock of ours", who, waits(l.Blocked))
		return
	case l.Behind > mostBehind && l.Behind > c.behind:
		c.free, c.held = min(c.free, 0), at+holds
		c.why = fmt.Sprintf("%s, and a replica falls behind, by %s now", who, Seconds.Spoken(l.Behind))
		return
	case another: // as if they had just come
		for _, f := range c.probes.felt {
			f.Fade(0.25)
		}
		c.free, c.held = min(c.free, 0), at+holds
		c.others.usual = c.others.rate
		c.why = who + ", and do much more than before"
		return
	case at < c.held:
		c.free = min(c.free, 0)
		c.why = who
		return
	case !c.ours.known:
		c.free = 0
		c.why = who + "; what they feel of us is not known yet"
		return
	case c.tries(at, passed, l.Worked):
		c.why = who + "; it tries for a moment whether they would feel it if it worked more"
		return
	}
	step := passed.Seconds() / advance.Seconds()
	if c.probes.alone += passed; c.probes.rested {
		c.probes.rested, c.probes.alone = false, 0
	}
	if ratio := c.ours.worked / max(c.ours.want, 1e-3); c.probes.alone > aloneWithin {
		c.free = max(c.free-3*step, min(c.free, 0)) // the careful pace rests for long enough
	} else if ratio > 1 {
		c.free -= 10 * step * min(ratio-1, 1)
	} else {
		c.free += step * min(1/max(ratio, 0.1)-1, 1)
	}
	c.free = min(max(c.free, leastBeside), mostBeside)
	c.lengthen(passed)
	c.why = fmt.Sprintf("%s; a bound of %s for what they feel leaves us %s of the time", who, percent(c.bound()),
		percent(c.ours.want))
}

// lengthen lets spurts be longer, step by step, where we are mostly at work and others would feel no more than the
// bound of more; and shorter again, much sooner, where they would. After each quarter of the way half of what was felt
// before is forgotten, so that probes come often again and tell of what is done now.
func (c *Control) lengthen(passed time.Duration) {
	felt, before := c.whole(), c.ours.ease
	_, stalled := felt.slow(c.bound())
	switch times := felt.times(&felt.Often, c.bound()); {
	case felt.Often.Total < trialEnough: // that is learned just now
	case stalled:
		c.ours.ease = 0
	case times < 1:
		c.ours.ease = max(c.ours.ease-min(1/max(times, 0.1)-1, 1)*passed.Seconds()/tightens.Seconds(), 0)
	case times > easesFrom && c.ours.worked > mostly:
		c.ours.ease = min(c.ours.ease+passed.Seconds()/eases.Seconds(), 1)
	}
	if math.Floor(4*c.ours.ease) > math.Floor(4*before) {
		for _, f := range c.probes.felt {
			f.Often.Fade(0.5)
		}
	}
}

// Others says how many sessions of others are at work.
func Others(n int) string {
	if n == 1 {
		return "one session of others is at work"
	}
	return fmt.Sprintf("%d sessions of others are at work", n)
}

func waits(n int) string {
	if n == 1 {
		return "one waits"
	}
	return fmt.Sprintf("%d wait", n)
}

// percent writes a share: to one digit behind the point below ten per cent.
func percent(share float64) string {
	digits := 0
	if share < 0.0995 {
		digits = 1
	}
	return strconv.FormatFloat(100*share, 'f', digits, 64) + " %"
}

func (c *Control) bound() float64 {
	if c.Bound <= 0 {
		return UsualBound
	}
	return c.Bound
}

// share is for how much of the time we may be at work beside others; false where that is not known.
func (c *Control) share() (share float64, known bool) { return c.whole().Share(c.bound()) }

// whole is what others feel of all that they do: look-ups and commits, as often as they read and change something.
// Where that is not known, or one of the two, it is what they feel of the one of which they feel more.
func (c *Control) whole() *Felt {
	lookups, commits := c.feltOf(FeelLookup), c.feltOf(FeelCommit)
	if c.others.mixes && c.others.writes < fewWrites {
		return lookups
	}
	if c.others.mixes && commits.Alone.Total >= enoughAlone*c.others.writes {
		return lookups.mix(commits, c.others.writes)
	}
	one, known := lookups.Share(c.bound())
	if other, too := commits.Share(c.bound()); too && (!known || other < one) {
		return commits
	}
	return lookups
}

func (c *Control) fade(at time.Duration) {
	if c.probes.faded == 0 || at < c.probes.faded {
		c.probes.faded = at
	}
	if passed := at - c.probes.faded; passed >= fades/20 {
		for _, f := range c.probes.felt {
			f.Fade(math.Exp2(-passed.Seconds() / fades.Seconds()))
		}
		c.probes.faded = at
	}
}

// Feel takes in what a probe showed.
func (c *Control) Feel(f Feel) {
	x := c.feltOf(f.Kind)
	if f.Beside {
		c.besideIn(x).Add(f.Took)
		if c.trial.until > 0 {
			c.trial.feel(f.Took)
		}
	} else {
		x.Alone.Add(f.Took)
		c.probes.rested = c.probes.rested || f.Kind == FeelLookup
	}
}

// Felt is what has been felt by a kind of probe, as it is weighed now.
func (c *Control) Felt(k FeelKind) Felt { return *c.feltOf(k) }

func (c *Control) feltOf(k FeelKind) *Felt {
	if c.probes.felt == nil {
		c.probes.felt = map[FeelKind]*Felt{}
	}
	if c.probes.felt[k] == nil {
		c.probes.felt[k] = &Felt{}
	}
	return c.probes.felt[k]
}

// plenty is how many probes tell enough of what others feel.
const plenty = 400

// Learns says whether more probes beside us would tell more of what others feel.
func (c *Control) Learns() bool { return c.besideIn(c.feltOf(FeelLookup)).Total < plenty }

// LearnsAlone says whether more probes while we rest would tell more of how others fare without us: everything is
// measured by that, and the slowest hundredth of few is but one.
func (c *Control) LearnsAlone() bool { return c.feltOf(FeelLookup).Alone.Total < plenty }

// besideIn is where what others feel beside us now is held.
func (c *Control) besideIn(f *Felt) *Spread {
	if c.ours.recent >= often {
		return &f.Often
	}
	return &f.Beside
}

// usualWeight is how many probes what is usual at this hour stands for, at the most: fewer than a minute brings.
const usualWeight = 300

// Expect takes in how long a probe usually takes alone at this hour, before any has been made.
func (c *Control) Expect(k FeelKind, usual Spread) {
	if usual.Total > 0 {
		c.feltOf(k).Alone.Merge(&usual, min(usualWeight/usual.Total, 1))
	}
}

// besideBurst is how long a batch lasts beside others where it is known what they feel of it, and spurtsBurst the same
// in spurts: long enough that what a transaction costs besides its rows does not matter, and short enough to give way
// within one.
const (
	besideBurst = 25 * time.Millisecond
	spurtsBurst = 40 * time.Millisecond
)

// singleBurst is how long a batch lasts where nobody else has the database open: whoever comes opens it first, and
// waits for one batch at the most.
const singleBurst = 300 * time.Millisecond

// Free returns what room there is at an instant, and why it is not all; the empty text where nobody else is at work.
func (c *Control) Free(at time.Duration) (Room, string) {
	switch {
	case !c.seen:
		return Room{Spurts: shortBatch}, "who else is at work is not known yet"
	case at-c.last > Stale:
		return Room{Free: min(c.free, 0), Spurts: shortBatch},
			fmt.Sprintf("who else is at work was last seen %s ago", (at - c.last).Round(time.Second))
	}
	room := Room{Free: c.free}
	if c.why != "" {
		room.Spurts = shortBatch
	}
	if c.single && c.why == "" && room.Free == 1 {
		room.Burst = singleBurst
	}
	if c.busy > 0 && at >= c.short {
		if room.Spurts = spurtsBurst; c.ours.known {
			room.Burst, room.Ease = besideBurst, c.ours.ease
		}
	}
	return room, c.why
}

// State is what a Control knows at a moment, for showing.
type State struct {
	Free   float64 // of the database, from -1 to 1
	Why    string  // it is not more
	Busy   int     // sessions of others at work
	Rate   float64 // of what they end, a second
	Told   bool    // whether that is known
	Bound  float64
	Want   float64 // for how much of the time we may be at work beside them; less than 0: not known
	Worked float64 // for how much of it we are
	Behind float64 // seconds of the slowest replica
	Felt   map[FeelKind]Felt99
}

// Felt99 is the p99 of a probe; 0 where too little is known.
type Felt99 struct{ Alone, Beside time.Duration }

// State returns what is known at an instant.
func (c *Control) State(at time.Duration) State {
	s := State{Busy: c.busy, Rate: max(c.others.rate, 0), Told: c.others.asked, Bound: c.bound(), Want: -1,
		Worked: c.ours.worked, Behind: c.behind, Felt: map[FeelKind]Felt99{}}
	room, why := c.Free(at)
	s.Free, s.Why = room.Free, why
	if c.ours.known && c.busy > 0 {
		s.Want = c.ours.want
	}
	for k, f := range c.probes.felt {
		var x Felt99
		if f.Alone.Total >= enoughAlone {
			x.Alone = f.Alone.Quantile(1 - felt99)
		}
		if beside := c.besideIn(f); beside.Total >= enoughBeside {
			x.Beside = beside.Quantile(1 - felt99)
		}
		s.Felt[k] = x
	}
	return s
}

// Busy says whether others were at work at the last look.
func (c *Control) Busy() bool { return c.busy > 0 }
