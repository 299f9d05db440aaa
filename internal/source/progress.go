package source

import (
	"time"
)

// Progress is where the newest run of a table stands, for those who read it by SQL in the source itself.
type Progress struct {
	Table, Rule, Run, Action, State, Reason, Pace string
	Cutoff                                        time.Time
	Due, Done, Deleted                            int64
	ResumesAt                                     *time.Time // of a run that rests
	At                                            time.Time
	RuleText                                      string // as it stood for the run
}

// ProgressColumns are the columns of the journal's progress table, in the order of Values. Times are ISO 8601 in UTC.
var ProgressColumns = []string{"table_name", "rule", "run", "action", "state", "reason", "pace", "cutoff", "due",
	"done", "deleted", "resumes_at", "updated_at", "rule_text"}

// ProgressView is what the view shows of them.
const ProgressView = "table_name, rule, run, action, state, reason, pace, cutoff, due, done, deleted, CASE WHEN " +
	"due > done THEN due - done ELSE 0 END AS rows_left, resumes_at, updated_at, rule_text"

// Values are those of one row of the progress table.
func (p *Progress) Values() []any {
	iso := func(t *time.Time) any {
		if t == nil {
			return nil
		}
		return t.UTC().Format(time.RFC3339)
	}
	return []any{p.Table, p.Rule, p.Run, p.Action, p.State, p.Reason, p.Pace, iso(&p.Cutoff), p.Due, p.Done, p.Deleted,
		iso(p.ResumesAt), iso(&p.At), p.RuleText}
}
