package api

import (
	"fmt"
	"testing"
	"time"

	"ambercellar/internal/catalog"
)

func TestRunsThatFollowCloselyAreOne(t *testing.T) {
	base := time.Date(2026, 11, 30, 22, 0, 0, 0, time.UTC)
	run := func(id, source string, state catalog.RunState, from, to int) catalog.RunTime {
		r := catalog.RunTime{ID: id, Rule: "rule-" + id, Source: source, State: state,
			Started: catalog.At(base.Add(time.Duration(from) * time.Minute))}
		if to > 0 {
			end := catalog.At(base.Add(time.Duration(to) * time.Minute))
			r.Ended = &end
		}
		return r
	}
	got := ""
	for _, s := range spansOf([]catalog.RunTime{run("a", "harbour", catalog.Done, 0, 10),
		run("b", "harbour", catalog.Done, 2, 5), run("c", "harbour", catalog.Done, 12, 13),
		run("d", "harbour", catalog.Done, 20, 21), run("e", "harbour", catalog.Failed, 21, 0),
		run("f", "harbour", catalog.Failed, 90, 0), run("g", "quay", catalog.Failed, 91, 92)}, 3*time.Minute) {
		to := "-"
		if s.To != nil {
			to = s.To.Format("15:04")
		}
		got += fmt.Sprintf("%s %s %s-%s %d %s %s\n", s.Source, s.State, s.From.Format("15:04"), to, s.Runs, s.Rule,
			s.Run)
	}
	want := `harbour done 22:00-22:13 3  c
harbour done 22:20-22:21 1 rule-d d
harbour failed 22:21-- 2  f
quay failed 23:31-23:32 1 rule-g g
`
	if got != want {
		t.Errorf("%s, want\n%s", got, want)
	}
	if out := spansOf(nil, time.Minute); out == nil || len(out) != 0 {
		t.Error(out)
	}
}
