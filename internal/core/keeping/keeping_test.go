package keeping

import (
	"math"
	"strings"
	"testing"
)

func TestARuleKeepsUpOrDoesNot(t *testing.T) {
	for _, c := range []struct {
		name  string
		facts Facts
		state State
		said  string
		help  string
	}{
		{"not counted yet", Facts{Inflow: -1, Days: 30}, Unknown, "has not been counted", ""},
		{"counted as nonsense", Facts{Inflow: math.NaN(), Days: 30}, Unknown, "has not been counted", ""},
		{"new", Facts{Inflow: 10, Days: 0.5}, Unknown, "not a day old", ""},
		{"daily", Facts{Due: 1000, Inflow: 1000, Taken: 30_000, Days: 30, Gap: 1, Runs: 30, Scheduled: true}, Keeps,
			"keeps up: 1,000 rows become due a day, and its runs took 1,000", ""},
		{"monthly", Facts{Due: 29_000, Inflow: 1000, Taken: 30_000, Days: 30, Gap: 30, Runs: 1}, Keeps,
			"keeps up", ""},
		{"nothing becomes due", Facts{Days: 30}, Keeps, "keeps up: 0 rows", ""},
		{"a backlog that shrinks", Facts{Due: 1_500_000, Inflow: 10_000, Taken: 600_000, Days: 30, Gap: 1, Runs: 30,
			Scheduled: true, Window: true}, Behind,
			"behind by 1,500,000 rows, as many as become due in 150 days; at the rate of its runs it has caught " +
				"up in 150 days", "a longer window"},
		{"one that grows", Facts{Due: 1_500_000, Inflow: 10_000, Taken: 150_000, Days: 30, Gap: 1, Runs: 30,
			Scheduled: true, Beside: true, Partitioned: true}, Falls,
			"falls behind by 5,000 rows a day: 10,000 become due, and its runs took 5,000; it is behind by " +
				"1,500,000 rows",
			"partitions leave as a whole"},
		{"it has never run", Facts{Due: 5000, Inflow: 50, Days: 30}, Falls, "falls behind by 50 rows a day", "run it"},
		{"a backlog of before, nothing new", Facts{Due: 5000, Days: 30, Taken: 100, Runs: 1}, Behind,
			"behind by 5,000 rows; at the rate", "a schedule"},
		{"as fast as it comes", Facts{Due: 9000, Inflow: 100, Days: 10, Taken: 1000, Runs: 10, Scheduled: true,
			Beside: true}, Behind, "in 90 days", "a higher bound"},
		{"whom nobody holds up", Facts{Due: 9000, Inflow: 100, Days: 10, Taken: 900, Runs: 10, Scheduled: true,
			Beside: true, Unlimited: true}, Falls, "falls behind by 10 rows", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			v := Judge(c.facts)
			if v.State != c.state || !strings.Contains(v.Spoken, c.said) ||
				!strings.Contains(strings.Join(v.Help, "; "), c.help) || c.help == "" && len(v.Help) > 0 {
				t.Errorf("%+v", v)
			}
			if (v.State == Behind || v.State == Falls) != (v.Rows > 0) {
				t.Errorf("%s, and behind by %d rows", v.State, v.Rows)
			}
		})
	}
}
