package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
)

// How long counting may take: unasked, so that a plan of a small table is exact and one of a large table is there at
// once; and where an exact plan is asked for, unless another budget is given. Tests change the former, for a machine
// that does much else.
var QuickBudget = 300 * time.Millisecond

const ExactBudget = 10 * time.Minute

// PlanRequest asks for a plan of a rule, or of part of what the rule would take.
type PlanRequest struct {
	Rule     string        `json:"rule"`
	Before   time.Time     `json:"before,omitzero"`    // a cutoff earlier than the rule's
	Where    string        `json:"where,omitempty"`    // a further condition
	Keys     string        `json:"keys,omitempty"`     // FROM..TO
	Limit    int64         `json:"limit,omitempty"`    // rows
	Note     string        `json:"note,omitempty"`     // what the plan is for
	Exact    bool          `json:"exact,omitempty"`    // count, rather than estimate
	Budget   time.Duration `json:"budget,omitempty"`   // for counting
	Confirm  bool          `json:"confirm,omitempty"`  // the table's changes since the rule was applied are meant
	Override string        `json:"override,omitempty"` // the reason to go beyond a guard rail

	Counted func(done, pieces int) `json:"-"` // told after each piece of an exact plan; may be nil
}

// planning is a plan being made.
type planning struct {
	*Planner
	q       PlanRequest
	now     time.Time
	record  *catalog.Rule
	rule    *rule.Rule
	checked *Checked
	table   *shape.Table
	joined  due.JoinedTables
	related due.JoinedTables // by the name that the rule gives
	source  source.Source
	cutoffs []rule.Cutoff
	sel     source.Selection
	plan    *catalog.Plan
	draft   bool // nothing is kept, and what cannot be counted in time is estimated
}

// MakePlan computes what a run of a rule would do and keeps it. Nothing in the source changes.
func (pl *Planner) Make(ctx context.Context, actor string, q PlanRequest) (*catalog.Plan, error) {
	p := &planning{Planner: pl, q: q, now: pl.Now().UTC()}
	for _, step := range []func(context.Context) error{p.begin, p.compareClocks, p.cut, p.narrow, p.selects, p.guard,
		p.count, p.partitions, p.empties, p.show} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	p.warn(ctx)
	if q.Override != "" || q.Confirm {
		if err := pl.Catalog.Note(ctx, actor, "plan override", p.plan.ID,
			fmt.Sprintf("rule %s; guard rails: %v; table: %v; reason: %s", q.Rule, p.plan.Detail.V.Guards,
				p.plan.Detail.V.Drift, q.Override)); err != nil {
			return nil, err
		}
	}
	p.plan.MadeBy = actor
	return p.plan, pl.Catalog.AddPlan(ctx, p.plan)
}

// begin reads the rule, checks it anew, and compares its table with what that was when the rule was applied.
func (p *planning) begin(ctx context.Context) (err error) {
	if p.record, err = p.Catalog.Rule(ctx, p.q.Rule); err != nil {
		return err
	}
	if p.checked, err = p.CheckRules(ctx, "", []byte(p.record.Text)); err != nil {
		return err
	}
	if len(p.checked.Documents) != 1 || p.checked.tables[0] == nil {
		return &refuse.Problems{Problems: p.checked.Problems}
	}
	p.rule, p.table = &p.checked.Documents[0].Rule, p.checked.tables[0]
	p.plan = &catalog.Plan{ID: ulid.Make().String(), Rule: p.record.Name, Revision: p.record.Revision,
		Source: p.record.Source, Table: p.table.Name, MadeAt: catalog.At(p.now),
		Shape: catalog.JSON[shelf.ShapeTable]{V: *p.table}}
	d := &p.plan.Detail.V
	d.Note, d.Override, d.Drift, d.Guards = p.q.Note, strings.TrimSpace(p.q.Override), []string{}, []string{}
	if before := p.record.Shape.V; before.Base != "" {
		var stops []string
		for _, c := range shape.Drift(&before, p.table) {
			d.Drift = append(d.Drift, c.Text)
			if c.Stops {
				stops = append(stops, c.Text)
			}
		}
		if d.Confirm = len(stops) > 0; d.Confirm && !p.q.Confirm {
			return &refuse.Error{Field: "table",
				Message: fmt.Sprintf("table %s is not what it was when rule %s was applied: %s", p.table.Name,
					p.rule.Name, strings.Join(stops, "; ")),
				Remedy: "apply the rule again if it still says what is meant, or confirm the changes for this one " +
					"plan (-confirm)"}
		}
	}
	var lasting []rule.Problem
	for _, x := range p.checked.Problems { // breaches of guard rails are judged for the plan itself
		if !x.Warning && !strings.Contains(x.Message, "the guard rails of source") {
			lasting = append(lasting, x)
		}
	}
	if len(lasting) > 0 {
		return &refuse.Problems{Problems: lasting}
	}
	p.joined, p.related = p.checked.joined[0], p.checked.related[0]
	p.source, err = p.Source(ctx, p.record.Source)
	return err
}

// compareClocks refuses a plan where a clock is wrong, since a wrong clock would make everything due.
func (p *planning) compareClocks(ctx context.Context) error {
	earlier, err := p.Catalog.Plans(ctx, p.rule.Name, catalog.First(1))
	if err != nil {
		return err
	}
	if len(earlier) > 0 && p.now.Before(earlier[0].MadeAt.Time) {
		return &refuse.Error{Message: fmt.Sprintf(
			"the service's clock shows %s, which lies before the last plan of this rule (%s)",
			p.now.Format(time.RFC3339), earlier[0].MadeAt.Format(time.RFC3339)),
			Remedy: "set the clock right; a wrong clock would make the wrong rows due"}
	}
	if p.Skew == 0 {
		return nil
	}
	theirs, err := p.source.Clock(ctx)
	if err != nil {
		return source.Of(p.rule.Source, fmt.Errorf("its clock cannot be read: %w", err))
	}
	if d := p.Now().Sub(theirs).Round(time.Second); d > p.Skew || d < -p.Skew {
		return &refuse.Error{Message: fmt.Sprintf(
			"the service's clock differs from that of source %s by %s, and %s is the most that is allowed",
			p.rule.Source, d.Abs(), p.Skew),
			Remedy: "set the wrong one right; a wrong clock would make the wrong rows due"}
	}
	return nil
}

// cut computes the cutoffs, earlier where that was asked for.
func (p *planning) cut(context.Context) (err error) {
	if p.cutoffs, err = p.rule.Cutoffs(p.now, p.checked.resolver(p.table)); err != nil {
		return &refuse.Error{Message: err.Error(), Remedy: "change the rule"}
	}
	before := p.q.Before.UTC().Truncate(time.Second)
	if p.q.Before.IsZero() {
		return nil
	}
	latest, any := time.Time{}, false
	for i, c := range p.cutoffs {
		if !c.Never && !p.rule.Clauses[i].Off && c.At.After(latest) {
			latest, any = c.At, true
		}
	}
	switch {
	case before.After(p.now):
		return &refuse.Error{Field: "before",
			Message: fmt.Sprintf("the cutoff %s lies in the future, so rows that are not written yet would be due",
				before.Format(time.RFC3339)), Remedy: "give a time before now, or leave it out and the rule decides"}
	case any && before.After(latest):
		return &refuse.Error{Field: "before",
			Message: fmt.Sprintf("the rule keeps rows from %s on, so %s would take more than it allows",
				latest.Format(time.RFC3339), before.Format(time.RFC3339)),
			Remedy: "give an earlier time, or change the rule"}
	}
	at := catalog.At(before)
	p.plan.Detail.V.Narrow.Before = &at
	return nil
}

// narrow reads the further conditions of the plan.
func (p *planning) narrow(context.Context) error {
	n := &p.plan.Detail.V.Narrow
	n.Where, n.Keys, n.Limit = strings.TrimSpace(p.q.Where), strings.TrimSpace(p.q.Keys), p.q.Limit
	if n.Limit < 0 {
		return &refuse.Error{Field: "limit", Message: fmt.Sprintf("%d is no number of rows", n.Limit),
			Remedy: "give a number above zero, or leave it out"}
	}
	_, err := due.Narrowing(p.rule, p.table, p.joined, *n)
	return err
}

// selects pins each clause, and makes the selection of all of them.
func (p *planning) selects(ctx context.Context) (err error) {
	d := &p.plan.Detail.V
	if d.Narrow.Before != nil {
		for i := range p.cutoffs {
			if !p.cutoffs[i].Never && p.cutoffs[i].At.After(d.Narrow.Before.Time) {
				p.cutoffs[i].At = d.Narrow.Before.Time
			}
			p.cutoffs[i].All = false
		}
	}
	d.Clauses = []catalog.PlanClause{}
	for i, c := range p.rule.Clauses {
		if c.Off {
			continue
		}
		e := p.rule.Effective(i)
		x := catalog.PlanClause{Clause: i, Label: p.rule.Label(i), About: c.About, Locked: c.Locked,
			Keep: c.Keep.String(), Then: e.Then, Omit: e.Omit, Mask: e.Mask}
		if c.Keep.Name != "" {
			named := p.checked.keeps[c.Keep.Name]
			x.Keep = fmt.Sprintf("%s (%s)", c.Keep.Name, named.Keep())
			if x.About == "" {
				x.About = named.About
			}
		}
		if e.Then.Copies() {
			x.Store = e.Archive.Store
			if e.Archive.Keep != nil {
				x.ArchiveKeep = e.Archive.Keep.String()
			}
		}
		if e.DeleteAfter != nil {
			x.DeleteAfter = e.DeleteAfter.String()
		}
		if !p.cutoffs[i].Never {
			at := catalog.At(p.cutoffs[i].At)
			x.Cutoff = &at
		}
		d.Clauses = append(d.Clauses, x)
	}
	if p.sel, err = due.Selection(p.rule, p.table, p.joined, p.cutoffs, d.Narrow); err != nil {
		return err
	}
	if d.Pinned, err = p.due.PinRelated(ctx, p.rule, p.related, p.now); err != nil {
		return err
	}
	if p.sel.Related, err = p.due.Related(ctx, p.source, p.rule, p.table, p.related, d.Pinned); err != nil {
		return err
	}
	d.Related = []catalog.PlanRelated{}
	for _, k := range p.sel.Related {
		above := p.table.Name
		if k.Parent >= 0 {
			above = p.sel.Related[k.Parent].Table.Name
		}
		d.Related = append(d.Related, catalog.PlanRelated{Table: k.Table.Name, Above: above, On: due.RelationText(k),
			Then: k.Then, Rows: catalog.NotCounted, Keeps: len(k.Terms) > 0 && k.Then != rule.ThenUnlink})
	}
	p.sel, err = p.due.WithHolds(ctx, p.rule.Source, p.sel)
	latest, _ := p.sel.Latest()
	p.plan.Cutoff = catalog.At(latest)
	return err
}

// guard compares the plan with the guard rails of its source.
func (p *planning) guard(ctx context.Context) error {
	g, err := p.Catalog.Guard(ctx, p.rule.Source)
	if err != nil {
		return err
	}
	d := &p.plan.Detail.V
	for _, b := range guarded(g, p.rule, p.now, p.checked.resolver(p.table)) {
		d.Guards = append(d.Guards, b.message)
	}
	if len(d.Guards) > 0 && d.Override == "" {
		return &refuse.Error{Field: "override", Message: strings.Join(d.Guards, "; "),
			Remedy: "change the rule, or give the reason for going beyond the guard rail in this one plan " +
				"(-override), which is kept"}
	}
	if len(d.Guards) == 0 {
		d.Override = ""
	}
	return nil
}

// count fills in the numbers.
func (p *planning) count(ctx context.Context) error {
	budget := QuickBudget
	if p.q.Exact {
		if budget = ExactBudget; p.q.Budget > 0 {
			budget = p.q.Budget
		}
	}
	counts, err := p.exactly(ctx, budget)
	if errors.Is(err, errBudget) {
		if p.q.Exact && !p.draft {
			return &refuse.Error{Field: "budget", Message: fmt.Sprintf("counting took longer than %s", budget),
				Remedy: "give more time (-budget), or take the estimate (without -exact)"}
		}
		counts, err = p.estimated(ctx)
	}
	if err != nil {
		return fmt.Errorf("plan of rule %s: %w", p.rule.Name, err)
	}
	c := counts
	width := due.AverageBytes(p.sel)
	if c.Due > 0 {
		width = max(width, p.dueWidth(ctx))
	}
	if n := p.plan.Detail.V.Narrow.Limit; n > 0 && c.Due > n {
		c.Due = n
	}
	for i := range c.Clauses {
		c.Clauses[i].Bytes = c.Clauses[i].Due * width
	}
	c.Bytes = c.Due * width
	p.plan.Counts.V = *c
	p.plan.Batches = divideUp(c.Due, int64(pace.New(p.rule.Pace, p.source.Reads().Gentle).Rows()))
	for i, x := range p.plan.Detail.V.Clauses {
		if x.Then.Copies() {
			p.plan.Segments += max(divideUp(c.Clauses[i].Due, due.SliceRows),
				divideUp(c.Clauses[i].Bytes, due.SliceBytes))
		}
	}
	if err := p.countRelated(ctx, budget); err != nil {
		return err
	}
	return p.expect(ctx)
}

// How many rows, and how many bytes of them, are looked at for how wide the due rows are.
const widthRows, widthBytes = 100, 4 << 20

// dueWidth is how wide the oldest due rows are, by what they hold: databases put long values elsewhere, and compress
// them, so that the table's size tells less. 0: not known, where it would take long.
func (p *planning) dueWidth(ctx context.Context) int64 {
	long := slices.ContainsFunc(p.table.Columns, func(c shape.Column) bool {
		return c.Kind == value.Text ||
			c.Kind == value.Bytes
	})
	if !long || p.sel.Age.Join != "" || !p.table.IndexServes(p.sel.Age.Column) {
		return 0
	}
	quick, cancel := context.WithTimeout(ctx, QuickBudget)
	defer cancel()
	var rows, bytes int64
	_, err := p.source.ReadSlice(quick, source.SliceRequest{Selection: p.sel, Columns: due.Readable(p.table, nil),
		MaxRows: widthRows, MaxBytes: widthBytes}, func(c *value.Chunk) error {
		rows += int64(c.Rows())
		bytes += c.Weight()
		return nil
	})
	if err != nil || rows == 0 { // it is an estimate without that too
		return 0
	}
	return bytes / rows
}

// countRelated counts the related rows that would go along. Where they were not asked for exactly and take too long,
// or only some of the due rows are wanted, they are not counted.
func (p *planning) countRelated(ctx context.Context, budget time.Duration) error {
	d := &p.plan.Detail.V
	if d.Narrow.Limit > 0 || !p.plan.Counts.V.Counted {
		return nil
	}
	timed, cancel := context.WithTimeout(ctx, budget)
	defer cancel()
	for i := range p.sel.Related {
		n, err := source.FamiliesOf(p.source).CountRelated(timed, p.sel, i)
		switch {
		case err == nil:
			d.Related[i].Rows = n
			if d.Related[i].Then == rule.ThenArchive {
				p.plan.Segments += divideUp(n, due.SliceRows)
			}
		case timed.Err() == nil || ctx.Err() != nil:
			return err
		case p.q.Exact && !p.draft:
			return &refuse.Error{Field: "budget", Message: fmt.Sprintf("counting took longer than %s", budget),
				Remedy: "give more time (-budget), or take the estimate (without -exact)"}
		default:
			return nil
		}
	}
	return nil
}

func divideUp(a, b int64) int64 { return (a + b - 1) / b }

// expect says what earlier runs of the table let one expect.
func (p *planning) expect(ctx context.Context) error {
	runs, err := p.Catalog.Runs(ctx, catalog.RunFilter{Rule: p.rule.Name}, catalog.First(20))
	if err != nil {
		return err
	}
	var rows, copied, working, bytes, logged, log int64
	for _, r := range runs {
		if r.Deleted > 0 && r.Working > 0 {
			rows, working = rows+r.Deleted, working+r.Working
		}
		if r.Deleted > 0 && r.LogBytes != nil {
			logged, log = logged+r.Deleted, log+*r.LogBytes
		}
		if r.Copied > 0 && r.FileBytes > 0 {
			copied, bytes = copied+r.Copied, bytes+r.FileBytes
		}
	}
	c, x := p.plan.Counts.V, &p.plan.Detail.V.Expect
	if rows > 0 {
		seconds := float64(c.Due) * float64(working) / 1e6 / float64(rows)
		x.Seconds = &seconds
	}
	if logged > 0 {
		n := int64(float64(c.Due) * float64(log) / float64(logged))
		x.LogBytes = &n
	}
	var archived int64
	for i, clause := range p.plan.Detail.V.Clauses {
		if clause.Then.Copies() {
			archived += c.Clauses[i].Due
		}
	}
	if copied > 0 && archived > 0 {
		n := int64(float64(min(archived, c.Due)) * float64(bytes) / float64(copied))
		x.ArchiveBytes = &n
	}
	return nil
}

// show fills in the statements.
func (p *planning) show(ctx context.Context) error {
	d := &p.plan.Detail.V
	d.Statements = []source.Statement{}
	for _, term := range p.sel.Terms {
		if term.Never || term.None {
			continue
		}
		one := p.sel
		one.Terms = []rule.Term{term}
		list, err := p.source.Statements(ctx, one, due.Readable(p.table, p.rule.Effective(term.Clause).Omit))
		if err != nil {
			return err
		}
		q := source.PurgeRequest{Selection: one, Rows: pace.MaxRows}
		gently := p.source.Reads().ReadsGently && p.rule.Pace != pace.Unlimited
		if from, ok := source.As[source.Purger](p.source); ok && !gently &&
			p.rule.Effective(term.Clause).Then == rule.ThenPurge && from.PurgesDirect(ctx, q) {
			shown, err := from.PurgeStatement(ctx, q)
			if err != nil {
				return err
			}
			list[0].Title = "where others have locked rows, some are " +
				strings.TrimPrefix(list[0].Title, "the first slice is ")
			list = append([]source.Statement{shown}, list...)
		}
		for _, s := range list {
			s.Title = fmt.Sprintf("clause %d: %s", term.Clause+1, s.Title)
			d.Statements = append(d.Statements, s)
		}
	}
	return nil
}
