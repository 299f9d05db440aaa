package pace

import "time"

// trial is when a run that others seem to feel much of works often for a moment, to learn what they would feel then.
// Seldom at work it makes few probes beside itself, and those are of work that finds its caches cold: without a trial
// it would take minutes until it knows better. A trial ends when enough is known. The next comes after twice the time
// where others felt much of it, and soon where they did not.
type trial struct {
	next  time.Duration // when one may begin
	gap   time.Duration // from one to the next
	until time.Duration // when the one that goes on ends at the latest; 0: none goes on
	from  float64       // what was free before
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
)

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
	t.until, t.next = 0, at+t.gap
}

// tries says whether a trial goes on at an instant, and begins and ends it.
func (c *Control) tries(at time.Duration) bool {
	t := &c.trial
	if t.until == 0 {
		if c.want > often || at < t.next || at < c.short {
			return false
		}
		t.until, t.from = at+trialLasts, c.free
		for _, f := range c.felt {
			f.Often = Spread{}
		}
	}
	known := c.feltOf(FeelLookup)
	share, told := known.share(&known.Often, c.bound())
	felt := told && share < often/4 && known.Often.Total >= trialBad
	if at >= t.until || felt || known.Often.Total >= trialEnough {
		if share = min(share, c.want); share < often/2 {
			c.free = t.from
		} else if share < often {
			c.free = max(t.from, min(c.free, nearlyFree))
		}
		t.end(at, share)
		return false
	}
	if c.recent > trialWorked {
		c.free = max(c.free-trialDown, min(t.from, c.free))
	} else {
		c.free = min(max(c.free+trialUp, 0), max(trialFree, c.free))
	}
	return true
}
