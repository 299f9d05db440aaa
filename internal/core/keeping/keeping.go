// Package keeping says whether a rule keeps up with its table: whether its runs take the rows that become due.
package keeping

import (
	"fmt"
	"math"
	"strconv"

	"github.com/dustin/go-humanize"
)

// Facts are what is known of a rule.
type Facts struct {
	Due    float64 // rows that are due now
	Inflow float64 // rows that become due a day; less than 0: not known
	Taken  int64   // rows that its runs have taken within Days
	Days   float64 // how far back its runs are looked at
	Gap    float64 // days from one run, or one cutoff, to the next; 0: not known
	Runs   int     // within Days

	Window      bool // it may not run at any time
	Beside      bool // its newest run went beside others for most of its time
	Unlimited   bool // it heeds nobody
	Partitioned bool // the table has partitions by age, which do not leave as a whole
	Scheduled   bool
}

// State says in a word how a rule keeps up.
type State string

const (
	Unknown State = "unknown"      // since when, or how much becomes due, is not known
	Keeps   State = "keeps up"     // what is due is what has become due since its last run
	Behind  State = "behind"       // more is due, and becomes less
	Falls   State = "falls behind" // more is due, and becomes more
)

// Verdict is how a rule keeps up.
type Verdict struct {
	State  State    `json:"state"`
	Spoken string   `json:"spoken"`              // in words
	Rows   int64    `json:"rows"`                // that it is behind by
	Days   float64  `json:"days"`                // for how many days such rows have become due
	Grows  int64    `json:"grows"`               // rows a day that come beyond what its runs take; less than 0: fewer
	Help   []string `json:"help,omitempty"`      // what would help
	Until  *float64 `json:"days_left,omitempty"` // until it has caught up, where it is behind
}

const (
	// leeway is by how many times what becomes due between two runs may be due before a rule is behind, leastRows how
	// many rows at any rate.
	leeway, leastRows = 1.5, 100
	// leastDays is for how long a rule must have been there before it is judged.
	leastDays = 1
	// holds is the share of the inflow that counts as all of it: both are measured over days.
	holds = 0.95
)

// Judge says how a rule keeps up.
func Judge(f Facts) Verdict {
	switch {
	case f.Inflow < 0 || math.IsNaN(f.Inflow):
		return Verdict{State: Unknown, Spoken: "not known yet: how many rows become due a day has not been counted"}
	case f.Days < leastDays:
		return Verdict{State: Unknown, Spoken: "not known yet: the rule is not a day old"}
	}
	taken := float64(f.Taken) / f.Days
	v := Verdict{Grows: int64(math.Round(f.Inflow - taken))}
	usual := max(leeway*f.Inflow*max(f.Gap, 1), leastRows)
	if f.Due <= usual {
		v.State = Keeps
		v.Spoken = fmt.Sprintf(
			"keeps up: %s rows become due a day, and its runs took %s",
			count(f.Inflow),
			count(taken),
		)
		return v
	}
	v.Rows = int64(f.Due)
	v.Days = f.Due / max(f.Inflow, 1)
	behind := "behind by " + count(f.Due) + " rows"
	if f.Inflow >= 1 {
		behind += ", as many as become due in " + days(v.Days)
	}
	v.Help = help(f)
	if taken < holds*f.Inflow {
		v.State = Falls
		v.Spoken = fmt.Sprintf("falls behind by %s rows a day: %s become due, and its runs took %s; it is %s",
			count(f.Inflow-taken), count(f.Inflow), count(taken), behind)
		return v
	}
	v.State, v.Spoken = Behind, behind
	if faster := taken - f.Inflow; faster >= 1 {
		left := f.Due / faster
		v.Until = &left
		v.Spoken += "; at the rate of its runs it has caught up in " + days(left)
	}
	return v
}

// help says what would help a rule that is behind.
func help(f Facts) (out []string) {
	if f.Runs == 0 {
		out = append(out, "run it: it has not run in this time")
	}
	if !f.Scheduled {
		out = append(out, "a schedule (`schedule: daily at 02:30`)")
	}
	if f.Partitioned {
		out = append(out, "let partitions leave as a whole (take `partitions: rows` out)")
	}
	if f.Window && f.Runs > 0 {
		out = append(out, "a longer window")
	}
	if f.Beside && !f.Unlimited {
		out = append(out, "a higher bound for what others feel (`pace: {bound: 20%}`)")
	}
	return out
}

func count(v float64) string { return humanize.Comma(int64(math.Round(v))) }

func days(d float64) string {
	switch {
	case d < 1.05:
		return "a day"
	case d < 10:
		return strconv.FormatFloat(d, 'f', 1, 64) + " days"
	}
	return count(d) + " days"
}
