package pace

import (
	"fmt"
	"math"
	"time"
)

// Look is what one look at a database showed of those who use it beside us.
type Look struct {
	Busy   int           // sessions of others that were at work within Span
	Span   time.Duration // how far back the look saw
	Hidden string        // why not all of them can be seen, and what to do; empty: they can
}

// Control decides how much of a database the gentle pace takes: nothing more than rests of many times the work allow
// while others are at work, and all of it while nobody is. It gives way at once and advances step by step, more slowly
// where others were at work lately. The zero value has seen nothing yet. Instants are durations since any beginning,
// by a clock that never jumps.
type Control struct {
	free  float64       // 0: others are at work, or may be; 1: nobody is
	dread float64       // how much of the time lately others were at work, from 0 to 1
	last  time.Duration // when it was looked at last
	seen  bool          // since the beginning
	why   string
}

const (
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
)

// Look takes in a look at an instant.
func (c *Control) Look(at time.Duration, l Look) {
	passed := min(max(at-c.last, 0), 2*Stale)
	first := !c.seen
	c.last, c.seen = at, true
	switch {
	case l.Hidden != "":
		c.free, c.why = 0, l.Hidden
	case l.Busy > 0:
		if first {
			passed = min(l.Span, alarms)
		}
		c.dread += (1 - c.dread) * (1 - math.Exp(-passed.Seconds()/alarms.Seconds()))
		c.free, c.why = 0, "one session of others is at work"
		if l.Busy > 1 {
			c.why = fmt.Sprintf("%d sessions of others are at work", l.Busy)
		}
	case first && l.Span >= lately:
		c.free = 0.5
	case first:
		c.dread = 1
	default:
		c.dread *= math.Exp(-passed.Seconds() / calms.Seconds())
		whole := quickly.Seconds() + (slowly-quickly).Seconds()*c.dread
		c.free = min(c.free+passed.Seconds()/whole, 1)
	}
	if l.Hidden == "" && l.Busy == 0 {
		c.why = ""
	}
}

// Free returns how much of the database is free at an instant, from 0 (others are at work, or may be) to 1, and why it
// is not more; the empty text where nobody else is at work.
func (c *Control) Free(at time.Duration) (float64, string) {
	switch {
	case !c.seen:
		return 0, "who else is at work is not known yet"
	case at-c.last > Stale:
		return 0, fmt.Sprintf("who else is at work was last seen %s ago", (at - c.last).Round(time.Second))
	}
	return c.free, c.why
}
