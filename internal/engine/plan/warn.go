package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// warn says what a careful colleague would.
func (p *planning) warn(ctx context.Context) {
	c, d := p.plan.Counts.V, p.plan.Detail.V
	out := []string{}
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	for _, x := range p.checked.Problems {
		if x.Warning {
			x.Rule, x.File, x.Line, x.Warning, x.Field = "", "", 0, false, ""
			out = append(out, x.Error())
		}
	}
	if p.rule.Off {
		add("the rule is not enabled: it can be planned, and not run")
	}
	for _, text := range d.Drift {
		add("since the rule was applied: %s", text)
	}
	for _, text := range d.Guards {
		add("overridden for this plan: %s", text)
	}
	if !c.Counted {
		add("the numbers are the database's estimate; an exact plan counts them")
	}
	if slices.ContainsFunc(p.rule.Clauses, func(x rule.Clause) bool { return x.Keep.Newest > 0 && !x.Off }) {
		if ahead := rule.Ahead(p.table.Partitions, p.now, p.rule.Location()); len(ahead) > 0 {
			add("partitions that have not begun do not count among the newest: %s", strings.Join(ahead, ", "))
		}
	}
	if c.Due == 0 {
		since := "and none has been since the rule was applied"
		if runs, err := p.Catalog.Runs(ctx, catalog.RunFilter{Rule: p.rule.Name}, catalog.First(1000)); err != nil {
			since = "and whether one ever was cannot be told: " + err.Error()
		} else {
			for _, r := range runs {
				if r.Deleted > 0 {
					since = "the last run that took rows began " + r.CreatedAt.Format(time.RFC3339)
					break
				}
			}
		}
		add("no row is due: a run would do nothing; %s", since)
	}
	if c.Total > 0 && c.Due > c.Total/2 {
		add("%s of %s rows are due, which is more than half of the table", humanize.Comma(c.Due),
			humanize.Comma(c.Total))
	}
	for i, x := range c.Clauses {
		if c.Counted && x.Rows == 0 {
			add("clause %s governs no row", d.Clauses[i].Label)
		}
	}
	for i, x := range d.Clauses {
		if x.Then == rule.ThenPurge && c.Clauses[i].Due > 0 {
			add("clause %s purges: its rows are deleted without a copy", x.Label)
		}
	}
	if c.Uncovered > 0 {
		add("%s rows are covered by no clause and stay", humanize.Comma(c.Uncovered))
	}
	if c.Collation > 0 {
		add("%s rows are due by an exact comparison of text and not by the column's own collation, or the other "+
			"way round; they get the longer keep and stay, and a check by hand would count otherwise",
			humanize.Comma(c.Collation))
	}
	if c.Referenced > 0 {
		add("%s rows that are old enough stay, since other tables refer to them", humanize.Comma(c.Referenced))
	}
	if p.table.Followed {
		add("a publication sends the table's deletes on: subscribers and change feeds will delete these rows too; " +
			"one that is to keep them leaves deletes out (publish = 'insert, update'), or skips the sessions that " +
			"are named ambercellar")
	}
	if p.rule.Modified != "" && p.rule.Age.Join == "" && c.Due > 0 {
		p.warnOfWriters(ctx, add)
	}
	p.plan.Warnings.V = out
}

// warnOfWriters compares, on the oldest rows that would go, the keep with how long after their age writers still
// touched them.
func (p *planning) warnOfWriters(ctx context.Context, add func(string, ...any)) {
	_, at := p.table.Column(p.rule.Modified)
	_, age := p.table.Column(p.rule.Age.Column)
	quick, cancel := context.WithTimeout(ctx, QuickBudget)
	defer cancel()
	rows, late := 0, 0
	modified := rule.Age{Column: p.rule.Modified, Zone: p.rule.Zone}
	shortest := time.Duration(1<<63 - 1)
	for _, t := range p.sel.Terms {
		if !t.Never && !t.None {
			shortest = min(shortest, p.now.Sub(t.At))
		}
	}
	_, err := p.source.ReadSlice(quick, source.SliceRequest{Selection: p.sel, Columns: []int{at, age}, MaxRows: 5000,
		MaxBytes: 1 << 20}, func(c *value.Chunk) error {
		for i := range c.Rows() {
			m, ok1 := modified.Instant(c.Row(i)[0])
			a, ok2 := p.rule.Age.Instant(c.Row(i)[1])
			if ok1 && ok2 {
				if rows++; m.Sub(a) > shortest {
					late++
				}
			}
		}
		return nil
	})
	if err != nil && late == 0 {
		add("whether writers are done with rows that are due (%s) was not found out: %v", p.rule.Modified, err)
	}
	if late > 0 {
		add("of the %d oldest due rows, %d were still changed (%s) later than the keep after their age: writers "+
			"may not be done with such rows", rows, late, p.rule.Modified)
	}
}
