package pace

import "time"

// trial is when a run that others seem to feel much of works often for a moment, to learn what they would feel then.
// Seldom at work it makes few probes beside itself, and those are of work that finds its caches cold: without a trial
// it would take minutes until it knows better.
//
// What others feel of trials is part of the bound: a share of what they may feel is put by for them (trialPart), and a
// trial ends at the latest when what it cost has used that up. So one that nobody feels goes on until enough is known,
// and one that is felt ends within moments. The next comes when as much is put by as it will cost, and ever later
// where others felt much.
type trial struct {
	next   time.Duration // when one may begin
	gap    time.Duration // from one to the next
	until  time.Duration // when the one that goes on ends at the latest; 0: none goes on
	from   float64       // what was free before
	worked float64       // for how many seconds we were at work in it
	limit  time.Duration // from which on a probe is slow
	slow   float64       // probes beside us that were, in it
	seen   float64       // all of them
	saved  float64       // seconds for which what others do may be slow, put by
	cost   float64       // what a second of work in the last one cost of that
}

const (
	// trialAfter is how long after others have come the first trial is, and trialGap the longest time between two.
	trialAfter, trialGap = 5 * time.Second, 160 * time.Second
	// trialLasts is how long a trial lasts at the most: a rest of before may take half of that.
	trialLasts = 2 * MaxRest
	// trialFree is the most that is free meanwhile: a run is at work for about half of the time. It gets so much in
	// steps, and less again where all that we do comes to more than trialWorked of the time: many runs work at once.
	trialFree, trialUp, trialDown, trialWorked = 0.72, 0.12, 0.05, 0.6
	// nearlyFree is what is free after one that they felt a little of: we are at work for about a tenth of the time.
	nearlyFree = 0.45
	// trialEnough is how many look-ups tell enough, and trialBad how many where they have been slow.
	trialEnough, trialBad = 300, 40
	// trialPart is which part of what others may feel is put by for trials, trialFirst how much there is in the
	// beginning, and trialMost the most: for so many seconds what others do may be slow.
	trialPart, trialFirst, trialMost = 0.25, 0.05, 0.3
	// trialNeeds is for how many seconds we are at work in a trial that is felt until that is known.
	trialNeeds = 0.4
)

// anew begins when others have come. What is put by stays, so that those who come and go do not pay for a trial each
// time.
func (t trial) anew(at time.Duration) trial {
	if t.gap == 0 { // the first
		t.saved = trialFirst
	}
	return trial{next: at + trialAfter, gap: trialAfter, saved: t.saved, cost: t.cost}
}

// feel takes in a probe beside us.
func (t *trial) feel(took time.Duration) {
	if t.seen++; took > t.limit {
		t.slow++
	}
}

// spent is how much of what is put by the trial has cost so far. Of one that has only begun, one probe in ten is
// taken for slow.
func (t *trial) spent() float64 {
	t.cost = (t.slow + 0.2) / (t.seen + 2)
	return t.cost * t.worked
}

// end ends the trial, if one goes on, after which we may be at work for a share of the time.
func (t *trial) end(at time.Duration, share float64) {
	switch {
	case t.until == 0:
		return
	case share >= often:
		t.gap = trialAfter
	case share >= often/2: // nearly so
		t.gap = min(t.gap*3/2, trialGap)
	default:
		t.gap = min(2*t.gap, trialGap)
	}
	t.saved -= t.spent()
	t.until, t.next = 0, at+t.gap
}

// tries says whether a trial goes on at an instant, and begins and ends it. passed and worked are the time since the
// look before and the share of it that we were at work.
func (c *Control) tries(at, passed time.Duration, worked float64) bool {
	t, known := &c.trial, c.whole()
	if t.until == 0 {
		spare, _ := known.spare(c.bound())
		t.saved = min(t.saved+trialPart*spare*passed.Seconds(), trialMost)
		if c.ours.want > often || at < t.next || at < c.short || t.saved < min(t.cost*trialNeeds, trialMost) {
			return false
		}
		t.until, t.from, t.worked, t.slow, t.seen = at+trialLasts, c.free, 0, 0, 0
		t.limit, _ = known.slow(c.bound())
		for _, f := range c.probes.felt {
			f.Often = Spread{}
		}
		known = c.whole()
	}
	t.worked += worked * passed.Seconds()
	share, told := known.share(&known.Often, c.bound())
	felt := told && share < often/4 && known.Often.Total >= trialBad || t.spent() > t.saved
	if at >= t.until || felt || known.Often.Total >= trialEnough {
		if share = min(share, c.ours.want); share < often/2 {
			c.free = t.from
		} else if share < often {
			c.free = max(t.from, min(c.free, nearlyFree))
		}
		t.end(at, share)
		return false
	}
	if c.ours.recent > trialWorked {
		c.free = max(c.free-trialDown, min(t.from, c.free))
	} else {
		c.free = min(max(c.free+trialUp, 0), max(trialFree, c.free))
	}
	return true
}
