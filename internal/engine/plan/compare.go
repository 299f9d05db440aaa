package plan

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Compared says what applying a file would change for one rule.
type Compared struct {
	Rule    string       `json:"rule"`
	New     bool         `json:"new"`     // there is no such rule yet
	Changes []string     `json:"changes"` // in words
	Before  []ClauseLine `json:"before"`  // the clauses of the rule as it is, with their cutoffs
	After   []ClauseLine `json:"after"`
	Gained  int64        `json:"gained"` // rows that become due
	Lost    int64        `json:"lost"`   // rows that stop being due
	Both    int64        `json:"both"`   // rows that are due either way
}

// ClauseLine is a clause with its cutoff.
type ClauseLine struct {
	Label  string        `json:"label"`
	Keep   string        `json:"keep"`
	Cutoff *catalog.Time `json:"cutoff"` // null: never due
	Off    bool          `json:"off,omitempty"`
}

// CompareRules says, for each rule of a file and each rule that uses a named keep of the file, which rows would become
// due or stop being due if the file were applied. Nothing is changed.
func (pl *Planner) Compare(ctx context.Context, file string, text []byte) ([]Compared, []rule.Problem, error) {
	c, err := pl.CheckRules(ctx, file, text)
	if err != nil {
		return nil, nil, err
	}
	if rule.Fatal(c.Problems) {
		return nil, nil, &refuse.Problems{Problems: c.Problems}
	}
	known, err := pl.Catalog.Rules(ctx)
	if err != nil {
		return nil, nil, err
	}
	keeps, err := pl.due.Keeps(ctx)
	if err != nil {
		return nil, nil, err
	}
	comparing := &comparing{pl, pl.Now().UTC(), keeps, c.keeps}
	out := []Compared{}
	inFile, changed := map[string]bool{}, map[string]bool{}
	for i, d := range c.Documents {
		if d.Keep != nil {
			changed[d.Keep.Name] = true
			continue
		}
		if d.Schedule != nil {
			continue
		}
		inFile[d.Rule.Name] = true
		var before *rule.Rule
		if old, err := pl.Catalog.Rule(ctx, d.Rule.Name); err == nil {
			before = &old.Body.V
		} else if !errors.Is(err, catalog.ErrNotFound) {
			return nil, nil, err
		}
		x, err := comparing.rule(ctx, before, &d.Rule, c.tables[i])
		if err != nil {
			return nil, nil, err
		}
		out = append(out, *x)
	}
	for _, r := range known {
		uses := ""
		for _, clause := range r.Body.V.Clauses {
			if changed[clause.Keep.Name] {
				uses = clause.Keep.Name
			}
		}
		if uses == "" || inFile[r.Name] {
			continue
		}
		src, err := pl.Source(ctx, r.Source)
		if err != nil {
			return nil, nil, err
		}
		t, err := src.Table(ctx, r.Table)
		if err != nil {
			return nil, nil, err
		}
		x, err := comparing.rule(ctx, &r.Body.V, &r.Body.V, t)
		if err != nil {
			return nil, nil, err
		}
		x.Changes = append(x.Changes, "keep "+uses+" changes")
		out = append(out, *x)
	}
	return out, c.Problems, nil
}

// comparing compares rules as they are with rules as they would be, both at one instant.
type comparing struct {
	*Planner
	now           time.Time
	before, after map[string]rule.Named // the named keeps
}

func (pl *comparing) rule(ctx context.Context, before, after *rule.Rule, t *shape.Table) (*Compared, error) {
	x := &Compared{Rule: after.Name, New: before == nil, Changes: []string{}, Before: []ClauseLine{},
		After: []ClauseLine{}}
	src, err := pl.Source(ctx, after.Source)
	if err != nil {
		return nil, err
	}
	selectionOf := func(r *rule.Rule, keeps map[string]rule.Named, lines *[]ClauseLine) (source.Selection, error) {
		cutoffs, err := r.Cutoffs(pl.now, due.Resolver(keeps, t))
		if err != nil {
			return source.Selection{}, err
		}
		for i, c := range r.Clauses {
			l := ClauseLine{Label: r.Label(i), Keep: c.Keep.String(), Off: c.Off}
			if !cutoffs[i].Never {
				at := catalog.At(cutoffs[i].At)
				l.Cutoff = &at
			}
			*lines = append(*lines, l)
		}
		joined, err := due.JoinedBy(ctx, src, r)
		if err != nil {
			return source.Selection{}, err
		}
		terms, err := r.Terms(cutoffs, r.Scope(t, joined))
		if r.Off {
			terms = nil
		}
		return source.Selection{Table: t, Age: r.Age, Terms: terms, Joins: due.JoinsOf(r, joined)}, err
	}
	b, err := selectionOf(after, pl.after, &x.After)
	if err != nil {
		return nil, err
	}
	a := source.Selection{Table: t, Age: after.Age}
	if before != nil {
		x.Changes = append(x.Changes, rule.Compare(before, after)...)
		if before.Source == after.Source && before.Table == t.Name {
			// the table has changed under the old rule
			if a, err = selectionOf(before, pl.before, &x.Before); err != nil {
				a = source.Selection{Table: t, Age: after.Age}
				x.Changes = append(x.Changes, "the rule as it is can make no row due: "+err.Error())
			}
		}
	}
	x.Lost, x.Gained, x.Both, err = src.Difference(ctx, a, b)
	return x, err
}

// Preview is what a rule would do, without being applied or planned.
type Preview struct {
	Rule     *rule.Rule     `json:"rule"` // as it was read; null where it could not be
	Text     string         `json:"text"` // the rule as the form writes it, where it came from the form
	Problems []rule.Problem `json:"problems"`
	Plan     *catalog.Plan  `json:"-"` // nil where a mistake is in the way
}

// previewBudget bounds the counting for a preview; what takes longer stays an estimate.
const previewBudget = 30 * time.Second

// PreviewRule computes what a rule would do, from its text, in the time of an estimate, or counted. Nothing is kept.
func (pl *Planner) PreviewRule(ctx context.Context, text string, exact bool) (*Preview, error) {
	out := &Preview{Text: text, Problems: []rule.Problem{}}
	c, err := pl.CheckRules(ctx, "", []byte(text))
	if err != nil {
		return nil, err
	}
	out.Problems = append(out.Problems, c.Problems...)
	if len(c.Documents) != 1 || c.Documents[0].Keep != nil || c.Documents[0].Schedule != nil {
		return out, nil
	}
	out.Rule = &c.Documents[0].Rule
	if c.tables[0] == nil || rule.Fatal(c.Problems) {
		return out, nil
	}
	p := &planning{Planner: pl, now: pl.Now().UTC(), rule: out.Rule, table: c.tables[0], joined: c.joined[0],
		related: c.related[0], checked: c, draft: true}
	p.q.Exact, p.q.Budget = exact, previewBudget
	p.plan = &catalog.Plan{Rule: out.Rule.Name, Source: out.Rule.Source, Table: p.table.Name,
		MadeAt: catalog.At(p.now)}
	d := &p.plan.Detail.V
	d.Drift, d.Guards, d.Statements = []string{}, []string{}, []source.Statement{}
	if p.source, err = pl.Source(ctx, out.Rule.Source); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{p.cut, p.selects, p.count} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	p.warn(ctx)
	out.Plan = p.plan
	return out, nil
}

// Forecast is what a rule would take at one future time.
type Forecast struct {
	At      catalog.Time    `json:"at"`
	Cutoffs []*catalog.Time `json:"cutoffs"` // of each clause, in the order of the rule; null: never due
	Rows    int64           `json:"rows"`    // that become due since the time before, of those that are there today
	Clauses []int64         `json:"clauses"` // the same, by clause
	// expected besides: rows that are not written yet, at the rate of the last thirty days
	Growth int64 `json:"growth"`
}

// forecastBudget bounds the counting for a forecast.
const forecastBudget = 30 * time.Second

// ForecastRule says what runs of a rule at the first moment of each coming month would take, cutoff by cutoff, by the
// ages of the rows that are there today. The first line is what is due now.
func (pl *Planner) ForecastRule(ctx context.Context, name string, months int) ([]Forecast, error) {
	if months < 1 || months > 120 {
		return nil, &refuse.Error{Field: "months", Message: fmt.Sprintf("%d is no number of months to look ahead",
			months), Remedy: "give 1 to 120"}
	}
	r, err := pl.Catalog.Rule(ctx, name)
	if err != nil {
		return nil, err
	}
	c, err := pl.CheckRules(ctx, "", []byte(r.Text))
	if err != nil {
		return nil, err
	}
	if len(c.Documents) != 1 || c.tables[0] == nil || rule.Fatal(c.Problems) {
		return nil, &refuse.Problems{Problems: c.Problems}
	}
	ctx, cancel := context.WithTimeout(ctx, forecastBudget)
	defer cancel()
	return pl.forecast(ctx, &c.Documents[0].Rule, c, months)
}

func (pl *Planner) forecast(ctx context.Context, r *rule.Rule, c *Checked, months int) ([]Forecast, error) {
	now, zone, t := pl.Now().UTC(), r.Location(), c.tables[0]
	src, err := pl.Source(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	times := []time.Time{now}
	for m := 1; m <= months; m++ {
		y, month, _ := now.In(zone).Date()
		times = append(times, time.Date(y, month+time.Month(m), 1, 0, 0, 0, 0, zone).UTC())
	}
	sel := source.Selection{Table: t, Age: r.Age, Joins: due.JoinsOf(r, c.joined[0])}
	last := make([]time.Time, len(r.Clauses))
	daily := int64(0)
	out := []Forecast{}
	for n, at := range times {
		cutoffs, err := r.Cutoffs(at, c.resolver(t))
		if err != nil {
			return nil, &refuse.Error{Message: err.Error(), Remedy: "change the rule"}
		}
		if sel.Terms, err = r.Terms(cutoffs, r.Scope(t, c.joined[0])); err != nil {
			return nil, err
		}
		if sel.Holds, err = pl.tables.HoldsOn(ctx, r.Source, t); err != nil {
			return nil, err
		}
		if n == 0 {
			if daily, err = written(ctx, src, sel, now); err != nil {
				return nil, err
			}
		}
		f := Forecast{At: catalog.At(at), Cutoffs: make([]*catalog.Time, len(r.Clauses)),
			Clauses: make([]int64, len(r.Clauses))}
		for _, term := range sel.Terms {
			i := term.Clause
			if term.Never {
				continue
			}
			cut := catalog.At(term.At)
			f.Cutoffs[i] = &cut
			if term.None || !term.At.After(last[i]) {
				continue
			}
			list, err := src.Tally(ctx, sel, source.Span{From: last[i], To: term.At})
			if err != nil {
				return nil, err
			}
			for _, x := range list {
				if x.Clause == i {
					f.Clauses[i] = x.Due
				}
			}
			f.Rows += f.Clauses[i]
			if from := later(last[i], now); term.At.After(from) {
				f.Growth = max(f.Growth, int64(term.At.Sub(from).Hours()/24*float64(daily)))
			}
			last[i] = term.At
		}
		out = append(out, f)
	}
	return out, nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// written is how many rows a day bear an age of the last thirty days.
func written(ctx context.Context, src source.Source, sel source.Selection, now time.Time) (int64, error) {
	list, err := src.Tally(ctx, sel, source.Span{From: now.AddDate(0, 0, -30).Truncate(time.Second),
		To: now.Truncate(time.Second)})
	total := int64(0)
	for _, t := range list {
		total += t.Rows
	}
	return total / 30, err
}
