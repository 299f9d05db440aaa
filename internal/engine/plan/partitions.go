package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// partitions says how the rows of each partition would leave, and looks into the one that takes what no other does.
func (p *planning) partitions(ctx context.Context) error {
	d := &p.plan.Detail.V
	d.Partitions = []catalog.PlanPartition{}
	if len(p.table.Partitions) == 0 {
		return nil
	}
	timed, cancel := context.WithTimeout(ctx, QuickBudget)
	defer cancel()
	for i, way := range p.rule.Ways(p.table, p.sel.Terms) {
		x := p.table.Partitions[i]
		if way.Way == rule.WayWhole {
			if narrowed := d.Narrow.Where + d.Narrow.Keys; narrowed != "" || d.Narrow.Limit > 0 {
				way = rule.PartWay{Way: rule.WayRows, Why: "the plan takes only some of its rows"}
			} else if why := p.keeps(timed, x.Name); why != "" {
				way = rule.PartWay{Way: rule.WayRows, Why: why}
			}
		}
		d.Partitions = append(d.Partitions, catalog.PlanPartition{Name: x.Name, From: x.From, To: x.To, Rows: x.Rows,
			Bytes: x.Bytes, IndexBytes: x.IndexBytes, Way: way.Way, Why: way.Why})
	}
	if p.table.CatchAll == "" {
		return nil
	}
	all := *p.table
	all.Partitions = append(slices.Clone(all.Partitions), shape.Partition{Name: all.CatchAll, Schema: all.Schema})
	part := source.PartitionsOf(p.source).Part(&all, all.CatchAll, false)
	d.CatchAll = &catalog.PlanCatchAll{Name: all.CatchAll, Rows: catalog.NotCounted, Due: catalog.NotCounted}
	sel := p.sel
	sel.Table = part
	tallies, err := p.source.Tally(timed, sel, source.Span{})
	if err != nil {
		if timed.Err() != nil && ctx.Err() == nil {
			return nil // not counted
		}
		return err
	}
	d.CatchAll.Rows, d.CatchAll.Due = 0, 0
	for _, t := range tallies {
		d.CatchAll.Rows += t.Rows
		d.CatchAll.Due += t.Due
	}
	return nil
}

// keeps says why a partition whose range is due cannot leave as a whole all the same; empty where nothing is known to
// speak against it. The run looks again.
func (p *planning) keeps(ctx context.Context, name string) string {
	sel := p.sel
	sel.Table = source.PartitionsOf(p.source).Part(p.table, name, false)
	var differs *refuse.Differs
	if err := due.Wholly(ctx, p.source, sel); errors.As(err, &differs) {
		return differs.Why
	}
	return ""
}

// empties says, of a rule that empties its table, whether that can be done at once and what it means.
func (p *planning) empties(context.Context) error {
	d := &p.plan.Detail.V
	if !p.sel.Empties() {
		return nil
	}
	c, x := p.plan.Counts.V, &catalog.PlanEmptying{Effects: []string{}}
	d.Emptying = x
	traits := p.source.Reads()
	switch {
	case traits.CannotEmpty != "":
		x.Why = traits.CannotEmpty
	case len(d.Clauses) != 1 || d.Clauses[0].Then != rule.ThenPurge:
		x.Why = "only a rule with one clause, which purges, lets all rows go without looking at each"
	case d.Narrow.Where+d.Narrow.Keys != "" || d.Narrow.Limit > 0 || d.Narrow.Before != nil:
		x.Why = "the plan takes only some of the rows"
	case len(p.table.ReferencedBy) > 0:
		x.Why = fmt.Sprintf("%s refers to the table", p.table.ReferencedBy[0].Table)
	case len(p.sel.Related) > 0:
		x.Why = "other tables' rows go along with its own"
	case len(p.sel.Holds) > 0:
		x.Why = "there is a hold on the table"
	case c.Uncovered > 0 || c.Held > 0 || c.Restored > 0:
		x.Why = "some rows may not go"
	default:
		x.Offered = true
	}
	if !x.Offered {
		return nil
	}
	x.Effects = append(x.Effects, "it locks the table against everybody, readers among them, while its rows are "+
		"counted (3 seconds at the most) and removed; if it does not get that lock, the rows go in batches")
	if len(p.table.Triggers) > 0 {
		x.Effects = append(x.Effects, "it passes by the triggers that fire on delete: "+
			strings.Join(p.table.Triggers, ", "))
	}
	x.Effects = append(x.Effects, traits.EmptyingDoes)
	return nil
}

// PartitionsAhead is what making partitions in advance does, or would do.
type PartitionsAhead struct {
	Made       bool                    `json:"made"`
	Partitions []catalog.PlanPartition `json:"partitions"` // the new ones
	Statements []string                `json:"statements"`
}

// mostAhead is how many partitions can be made at once.
const mostAhead = 120

// MakeAhead makes the next n partitions of a table, each as long as its newest, or only says what it would send.
func (pl *Planner) MakeAhead(ctx context.Context, actor, sourceName, table string, n int, try bool) (*PartitionsAhead,
	error) {
	if n < 1 || n > mostAhead {
		return nil, &refuse.Error{Field: "ahead", Message: fmt.Sprintf("%d is no number of partitions to make", n),
			Remedy: fmt.Sprintf("give a number from 1 to %d", mostAhead)}
	}
	src, err := pl.Source(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, table)
	if err != nil {
		return nil, err
	}
	if len(t.Partitions) == 0 {
		return nil, &refuse.Error{Field: "table",
			Message: fmt.Sprintf("table %s is not divided by ranges of one column", t.Name),
			Remedy:  "name a table that is; `ambercellar table show` lists a table's partitions"}
	}
	bounds, err := rule.Further(t.Partitions, n)
	if err != nil {
		return nil, &refuse.Error{Field: "table", Message: err.Error(),
			Remedy: "make the next partition by hand; the ones after it can follow its length"}
	}
	names, statements, err := source.PartitionsOf(src).Ahead(ctx, t, bounds, try)
	if errors.Is(err, source.ErrBusy) {
		return nil, &refuse.Error{Message: "others are at the table: " + err.Error(),
			Remedy: "try again at a quiet time"}
	} else if errors.Is(err, source.ErrWhole) {
		return nil, &refuse.Error{Field: "table", Message: "the partitions cannot be made: " +
			strings.TrimPrefix(err.Error(), source.ErrWhole.Error()+": "), Remedy: "make them by hand"}
	} else if err != nil {
		return nil, err
	}
	out := &PartitionsAhead{Made: !try, Statements: statements, Partitions: []catalog.PlanPartition{}}
	for i, name := range names {
		out.Partitions = append(out.Partitions,
			catalog.PlanPartition{Name: name, From: bounds[i][0].Format(time.RFC3339),
				To: bounds[i][1].Format(time.RFC3339), Way: rule.WayStays})
	}
	if try {
		return out, nil
	}
	return out, pl.Catalog.Note(ctx, actor, "partitions ahead", sourceName+"."+t.Name, strings.Join(names, ", "))
}
