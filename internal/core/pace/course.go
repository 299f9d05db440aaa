package pace

import (
	"strings"
	"time"
	"unicode"
)

// Course is how a run went: what it took and what others felt, moment after moment, and each change of its speed. It
// holds no more than a run of any length can be drawn with.
type Course struct {
	Step   float64        `json:"step_secs"`            // how long a moment is, about
	Points []CourseMoment `json:"points"`               // the oldest first
	Turns  []Turn         `json:"turns"`                // changes of speed, the oldest first
	Lost   int            `json:"turns_lost,omitempty"` // changes in between that are not kept any more
}

// CourseMoment is what went on in a moment of a run. Of others is told what the database and its probes show; left out:
// that is not known.
type CourseMoment struct {
	At     time.Time `json:"at"`                      // its end
	Secs   float64   `json:"secs"`                    // how long it is
	Rows   int64     `json:"rows"`                    // that left the table in it
	Worked float64   `json:"worked"`                  // for how much of it we were at work in the database, from 0 to 1
	Busy   float64   `json:"busy"`                    // sessions of others at work
	Rate   *float64  `json:"rate,omitempty"`          // transactions, or statements, that others ended a second
	Bound  float64   `json:"bound,omitempty"`         // how much slower they may become, as a share
	Share  *float64  `json:"share,omitempty"`         // for how much of the time that lets us work, from 0 to 1
	Alone  float64   `json:"alone_millis,omitempty"`  // p99 of a look-up by key while we rest
	Beside float64   `json:"beside_millis,omitempty"` // p99 of one while we work
	Commit float64   `json:"commit_millis,omitempty"` // p99 of a commit while we rest
	Behind float64   `json:"behind_secs,omitempty"`   // of the slowest replica
}

// Turn is a change of a run's speed, and why.
type Turn struct {
	At  time.Time `json:"at"`
	Why string    `json:"why"`
}

const (
	// mostPoints is how many moments a course has at the most: then two each become one.
	mostPoints = 600
	// mostTurns is how many changes are kept: the first half of them and the newest.
	mostTurns = 200
)

// Add takes in a moment. Moments become longer as the run does.
func (c *Course) Add(m CourseMoment) {
	if n := len(c.Points); n > 0 && c.Points[n-1].Secs+m.Secs <= c.Step {
		c.Points[n-1] = together(c.Points[n-1], m)
		return
	}
	if c.Points = append(c.Points, m); len(c.Points) < mostPoints {
		return
	}
	out := c.Points[:0]
	for i := 0; i+1 < len(c.Points); i += 2 {
		out = append(out, together(c.Points[i], c.Points[i+1]))
	}
	c.Points, c.Step = out, 2*c.Step
}

// together makes one moment of two: of what was felt, the worse counts.
func together(a, b CourseMoment) CourseMoment {
	mean := func(x, y float64) float64 { return x + (y-x)*b.Secs/max(a.Secs+b.Secs, 1e-9) }
	out := b
	out.Rows, out.Secs = a.Rows+b.Rows, a.Secs+b.Secs
	out.Worked, out.Busy = mean(a.Worked, b.Worked), mean(a.Busy, b.Busy)
	if a.Rate != nil && b.Rate != nil {
		rate := mean(*a.Rate, *b.Rate)
		out.Rate = &rate
	}
	out.Alone, out.Beside, out.Commit = max(a.Alone, b.Alone), max(a.Beside, b.Beside), max(a.Commit, b.Commit)
	out.Behind = max(a.Behind, b.Behind)
	return out
}

// Turn takes in why the run goes as fast as it does at an instant. That is a change where the words are others than
// before, whatever the numbers in them.
func (c *Course) Turn(at time.Time, why string) {
	if n := len(c.Turns); n > 0 && words(c.Turns[n-1].Why) == words(why) {
		return
	}
	if len(c.Turns) == mostTurns {
		c.Turns = append(c.Turns[:mostTurns/2], c.Turns[mostTurns/2+1:]...)
		c.Lost++
	}
	c.Turns = append(c.Turns, Turn{At: at, Why: why})
}

// words are those of a text, without its numbers; one session of others is as many.
func words(text string) string {
	text = strings.ReplaceAll(text, "one session of others is", "0 sessions of others are")
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) || r == '.' {
			return -1
		}
		return r
	}, text)
}
