package plan

import (
	"context"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// InflowDays is how many of the days to come are counted for what becomes due a day, where rows become due day by day.
const InflowDays = 7

// horizons are for how many days it is counted: the first within which all of a rule's cutoffs move that ever do, since
// those that are cut at the month or the year stand still for as long.
var horizons = []int{InflowDays, 31, 92, 366}

// Inflow is how many rows become due.
type Inflow struct {
	PerDay float64
	Days   int   // for which that was counted
	Due    int64 // now, by the database's statistics; less than 0: those do not tell
}

// Inflow counts how many rows become due by a rule a day in the time to come.
func (pl *Planner) Inflow(ctx context.Context, name string) (out Inflow, err error) {
	out.Due = -1
	kept, err := pl.Catalog.Rule(ctx, name)
	if err != nil {
		return out, err
	}
	c, err := pl.CheckRules(ctx, "", []byte(kept.Text))
	if err != nil {
		return out, err
	}
	if len(c.Documents) != 1 || c.tables[0] == nil || rule.Fatal(c.Problems) {
		return out, &refuse.Problems{Problems: c.Problems}
	}
	ctx, cancel := context.WithTimeout(ctx, forecastBudget)
	defer cancel()
	r, t := &c.Documents[0].Rule, c.tables[0]
	src, err := pl.Source(ctx, r.Source)
	if err != nil {
		return out, err
	}
	sel := source.Selection{Table: t, Age: r.Age, Joins: due.JoinsOf(r, c.joined[0])}
	begin := pl.Now().UTC()
	terms := func(days int) ([]rule.Term, error) {
		cutoffs, err := r.Cutoffs(begin.AddDate(0, 0, days), c.resolver(t))
		if err != nil {
			return nil, err
		}
		return r.Terms(cutoffs, r.Scope(t, c.joined[0]))
	}
	if sel.Terms, err = terms(0); err != nil {
		return out, err
	}
	if sel.Holds, err = pl.tables.HoldsOn(ctx, r.Source, t); err != nil {
		return out, err
	}
	if list, failed := src.Estimate(ctx, sel); failed == nil {
		out.Due = 0
		for _, n := range list {
			out.Due += n
		}
	}
	before := sel.Terms
	last, err := terms(horizons[len(horizons)-1])
	if err != nil {
		return out, err
	}
	for _, out.Days = range horizons {
		if sel.Terms, err = terms(out.Days); err != nil {
			return out, err
		}
		if moved(before, sel.Terms, last, out.Days) {
			break
		}
	}
	out.PerDay, err = pl.becomesDue(ctx, src, sel, before, begin)
	return out, err
}

// moved says whether all cutoffs that ever move have moved by more than half of so many days.
func moved(before, after, last []rule.Term, days int) bool {
	for i := range min(len(before), len(after), len(last)) {
		still := last[i].Never || last[i].None || !last[i].At.After(before[i].At)
		if !still && after[i].At.Sub(before[i].At) < time.Duration(days)*12*time.Hour {
			return false
		}
	}
	return true
}

// becomesDue counts the rows between the cutoffs of before and those of the selection, and returns how many that are
// for each day by which those move.
func (pl *Planner) becomesDue(ctx context.Context, src source.Source, sel source.Selection, before []rule.Term,
	begin time.Time) (perDay float64, err error) {
	daily := int64(-1)
	for i, term := range sel.Terms {
		if term.Never || term.None || i >= len(before) || !term.At.After(before[i].At) {
			continue
		}
		rows, days := 0.0, term.At.Sub(before[i].At).Hours()/24
		list, err := src.Tally(ctx, sel, source.Span{From: before[i].At, To: term.At})
		if err != nil {
			return 0, err
		}
		for _, x := range list {
			if x.Clause == term.Clause {
				rows += float64(x.Due)
			}
		}
		if from := later(before[i].At, begin); term.At.After(from) { // rows that are not written yet
			if daily < 0 {
				if daily, err = written(ctx, src, sel, begin); err != nil {
					return 0, err
				}
			}
			rows += term.At.Sub(from).Hours() / 24 * float64(daily)
		}
		perDay += rows / days
	}
	return perDay, nil
}
