package api

import (
	"time"

	"ambercellar/internal/catalog"
)

// RunSpan is one run, or several of a source that came to the same and followed each other closely.
type RunSpan struct {
	Source string           `json:"source"`
	State  catalog.RunState `json:"state"`
	From   catalog.Time     `json:"from"`
	To     *catalog.Time    `json:"to"` // null: it goes on
	Runs   int              `json:"runs"`
	Rule   string           `json:"rule"` // of the only one; empty: there are several
	Run    string           `json:"run"`  // the newest
}

// spansAtMost is into how many pieces the time is divided within which runs are joined: a picture shows no more.
const spansAtMost = 400

// spansOf joins runs of a source and a state, which come in the order of their starts, where the next begins less than
// so long after the ones before have ended.
func spansOf(runs []catalog.RunTime, apart time.Duration) []RunSpan {
	out := []RunSpan{}
	for _, r := range runs {
		if n := len(out) - 1; n >= 0 && out[n].Source == r.Source && out[n].State == r.State &&
			(out[n].To == nil || r.Started.Before(out[n].To.Add(apart))) {
			last := &out[n]
			last.Runs, last.Rule, last.Run = last.Runs+1, "", r.ID
			if last.To != nil && (r.Ended == nil || r.Ended.After(last.To.Time)) {
				last.To = r.Ended
			}
			continue
		}
		out = append(out, RunSpan{Source: r.Source, State: r.State, From: r.Started, To: r.Ended, Runs: 1, Rule: r.Rule,
			Run: r.ID})
	}
	return out
}
