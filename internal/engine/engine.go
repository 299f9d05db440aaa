// Package engine plans, runs, restores and recovers: it joins a source, an archive and the catalog, and is the only
// place where rows move. It starts nothing on its own and speaks to no user; the service tells it what to do and hears
// how far it is.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/source"
)

// Engine works on sources, stores and the catalog. Its fields are set once, before its first use.
type Engine struct {
	Catalog  *catalog.Catalog
	Source   func(ctx context.Context, name string) (source.Source, error)
	Store    func(ctx context.Context, name string) (store.Store, error)
	Instance string           // tells this service from every other in the sources' leases
	Now      func() time.Time // the service's clock
	Log      *slog.Logger
	Progress func(*catalog.Run) // hears of every change of a run's counts; may be nil
}

// A slice is a segment's worth of rows. Of three slices at most, keys and digests are in memory at a time.
const (
	sliceRows      = 125_000
	sliceBytes     = 48 << 20
	shortSliceRows = 5_000 // where reading keeps writers waiting
)

// surveyBudget bounds the counting for a plan; beyond it, the plan holds the source's estimate.
const surveyBudget = 20 * time.Second

// planLife is how long a plan can be run after it was made.
const planLife = 24 * time.Hour

// ProblemsError says why a rule cannot be applied or planned.
type ProblemsError struct{ Problems []rule.Problem }

func (e *ProblemsError) Error() string {
	var err error
	for _, p := range e.Problems {
		if !p.Warning {
			err = errors.Join(err, p)
		}
	}
	return fmt.Sprint(err)
}

// RefusedError says that something well-formed cannot be done now, and what to do about it. Field names the input
// that it is about, where there is one.
type RefusedError struct{ Field, Message, Remedy string }

func (e *RefusedError) Error() string {
	if e.Remedy == "" {
		return e.Message
	}
	return e.Message + "; " + e.Remedy
}

// CheckRules parses a file of rules and checks each against its source, table and store, and against the other rules.
func (e *Engine) CheckRules(ctx context.Context, file string, text []byte) ([]rule.Document, []rule.Problem, error) {
	docs, problems := rule.Parse(file, text)
	known, err := e.Catalog.Rules(ctx)
	if err != nil {
		return nil, nil, err
	}
	stores, err := e.storeNames(ctx)
	if err != nil {
		return nil, nil, err
	}
	taken := map[string]string{}
	for _, r := range known {
		taken[r.Source+"\x00"+r.Table] = r.Name
	}
	for i := range docs {
		d := &docs[i]
		if d.Rule.Source == "" || d.Rule.Table == "" {
			continue
		}
		src, err := e.Source(ctx, d.Rule.Source)
		if errors.Is(err, catalog.ErrNotFound) {
			problems = append(problems, d.At("source", fmt.Sprintf("there is no source %q", d.Rule.Source), "add it with `ambercellar source add`; `ambercellar source list` shows those that there are"))
			continue
		} else if err != nil {
			problems = append(problems, d.At("source", err.Error(), fmt.Sprintf("`ambercellar source check %s` says more", d.Rule.Source)))
			continue
		}
		t, err := src.Table(ctx, d.Rule.Table)
		if errors.Is(err, source.ErrNoTable) {
			problems = append(problems, d.At("table", fmt.Sprintf("there is no table %q in source %s", d.Rule.Table, d.Rule.Source), e.nearestTable(ctx, src, d.Rule)))
			continue
		} else if err != nil {
			problems = append(problems, d.At("source", err.Error(), fmt.Sprintf("`ambercellar source check %s` says more", d.Rule.Source)))
			continue
		}
		d.Rule.Table = t.Name
		if other := taken[d.Rule.Source+"\x00"+t.Name]; other != "" && other != d.Rule.Name {
			problems = append(problems, d.At("table", fmt.Sprintf("table %s.%s has the rule %s already, and a table has one rule", d.Rule.Source, t.Name, other), "change that rule, or apply this one under its name"))
		}
		taken[d.Rule.Source+"\x00"+t.Name] = d.Rule.Name
		problems = append(problems, rule.Check(d, t, stores)...)
	}
	return docs, problems, nil
}

func (e *Engine) storeNames(ctx context.Context) ([]string, error) {
	stores, err := e.Catalog.Stores(ctx)
	names := make([]string, len(stores))
	for i, s := range stores {
		names[i] = s.Name
	}
	return names, err
}

func (e *Engine) nearestTable(ctx context.Context, src source.Source, r rule.Rule) string {
	tables, err := src.Tables(ctx)
	if err != nil {
		return ""
	}
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = t.Name
	}
	return nearest(r.Table, names, fmt.Sprintf("`ambercellar table list %s` shows its tables", r.Source))
}

// Applied says what became of one rule of a file.
type Applied struct {
	Rule     string   `json:"rule"`
	Revision int      `json:"revision"`
	New      bool     `json:"new"`
	Changes  []string `json:"changes"` // empty where the rule is as it was
}

// ApplyRules checks a file of rules and, if nothing is wrong with any of them, keeps them all. Warnings are returned
// with what was done.
func (e *Engine) ApplyRules(ctx context.Context, actor, file string, text []byte) ([]Applied, []rule.Problem, error) {
	docs, problems, err := e.CheckRules(ctx, file, text)
	if err != nil {
		return nil, nil, err
	}
	if rule.Fatal(problems) {
		return nil, nil, &ProblemsError{problems}
	}
	var out []Applied
	var keep []catalog.Applied
	for _, d := range docs {
		a := Applied{Rule: d.Rule.Name, Revision: 1, New: true, Changes: []string{"new"}}
		before, err := e.Catalog.Rule(ctx, d.Rule.Name)
		switch {
		case err == nil:
			a.New, a.Revision, a.Changes = false, before.Revision, rule.Compare(&before.Body.V, &d.Rule)
			if len(a.Changes) == 0 && before.Text != d.Text {
				a.Changes = []string{"comments or layout"}
			}
			if len(a.Changes) > 0 {
				a.Revision++
			}
		case !errors.Is(err, catalog.ErrNotFound):
			return nil, nil, err
		}
		if len(a.Changes) > 0 {
			keep = append(keep, catalog.Applied{Document: d, Changes: a.Changes})
		} else {
			a.Changes = []string{}
		}
		out = append(out, a)
	}
	return out, problems, e.Catalog.ApplyRules(ctx, actor, e.Now(), keep)
}

// MakePlan computes what a run of a rule would do and keeps it. Nothing in the source changes. before narrows the
// plan to an earlier cutoff than the rule's; it may be the zero time.
func (e *Engine) MakePlan(ctx context.Context, ruleName string, before time.Time) (*catalog.Plan, error) {
	r, err := e.Catalog.Rule(ctx, ruleName)
	if err != nil {
		return nil, err
	}
	now := e.Now().UTC()
	earlier, err := e.Catalog.Plans(ctx, ruleName, 1)
	if err != nil {
		return nil, err
	}
	if len(earlier) > 0 && now.Before(earlier[0].MadeAt.Time) {
		return nil, &RefusedError{Message: fmt.Sprintf("the service's clock shows %s, which lies before the last plan of this rule (%s)", now.Format(time.RFC3339), earlier[0].MadeAt.Format(time.RFC3339)), Remedy: "set the clock right; a wrong clock would make the wrong rows due"}
	}
	cutoff := r.Body.V.Cutoff(now)
	if !before.IsZero() {
		before = before.UTC().Truncate(time.Second)
		switch {
		case before.After(now):
			return nil, &RefusedError{Field: "before", Message: fmt.Sprintf("the cutoff %s lies in the future, so rows that are not written yet would be due", before.Format(time.RFC3339)), Remedy: "give a time before now, or leave it out and the rule decides"}
		case before.After(cutoff):
			return nil, &RefusedError{Field: "before", Message: fmt.Sprintf("the rule keeps rows from %s on, so %s would take more than it allows", cutoff.Format(time.RFC3339), before.Format(time.RFC3339)), Remedy: "give an earlier time, or change the rule"}
		}
		cutoff = before
	}
	docs, problems, err := e.CheckRules(ctx, "", []byte(r.Text))
	if err != nil {
		return nil, err
	}
	if len(docs) != 1 || rule.Fatal(problems) {
		return nil, &ProblemsError{problems}
	}
	src, err := e.Source(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, r.Table)
	if err != nil {
		return nil, err
	}
	sel := source.Selection{Table: t, Age: r.Body.V.Age, Cutoff: cutoff}
	survey, err := src.Survey(ctx, sel, now, surveyBudget)
	if err != nil {
		return nil, fmt.Errorf("plan of rule %s: %w", ruleName, err)
	}
	p := &catalog.Plan{ID: ulid.Make().String(), Rule: r.Name, Revision: r.Revision, Source: r.Source, Table: r.Table, Cutoff: catalog.At(cutoff), MadeAt: catalog.At(now),
		Survey: catalog.JSON[source.Survey]{V: *survey}, Shape: catalog.JSON[shapeTable]{V: *t}, Warnings: catalog.JSON[[]string]{V: planWarnings(problems, survey)}}
	p.Batches = divideUp(survey.Due, int64(pace.New(r.Body.V.Pace).Rows()))
	if r.Body.V.Then == rule.ThenArchive {
		p.Segments = max(divideUp(survey.Due, sliceRows), divideUp(survey.Bytes, sliceBytes))
	}
	return p, e.Catalog.AddPlan(ctx, p)
}

func divideUp(a, b int64) int64 { return (a + b - 1) / b }

func planWarnings(problems []rule.Problem, s *source.Survey) []string {
	out := []string{}
	for _, p := range problems {
		if p.Warning {
			p.Rule, p.File, p.Line, p.Warning, p.Field = "", "", 0, false, ""
			out = append(out, p.Error())
		}
	}
	if !s.Counted {
		out = append(out, "counting took longer than 20 seconds, so the number of rows is the database's estimate")
	}
	if s.Due == 0 {
		out = append(out, "no row is due: a run would do nothing")
	}
	if s.Total > 0 && s.Due > s.Total/2 {
		out = append(out, fmt.Sprintf("%d of about %d rows are due, which is more than half of the table", s.Due, s.Total))
	}
	return out
}

// StartRun makes a run of a plan and keeps it as queued. The plan must be of the rule's newest revision and not old.
func (e *Engine) StartRun(ctx context.Context, actor, planID string) (*catalog.Run, error) {
	p, err := e.Catalog.Plan(ctx, planID)
	if err != nil {
		return nil, err
	}
	r, err := e.Catalog.Rule(ctx, p.Rule)
	if err != nil {
		return nil, err
	}
	again := fmt.Sprintf("make a new one: `ambercellar plan make %s`", p.Rule)
	if r.Revision != p.Revision {
		return nil, &RefusedError{Field: "plan", Message: fmt.Sprintf("plan %s is of revision %d of rule %s, which is now at revision %d", p.ID, p.Revision, p.Rule, r.Revision), Remedy: again}
	}
	if age := e.Now().Sub(p.MadeAt.Time); age > planLife || age < 0 {
		return nil, &RefusedError{Field: "plan", Message: fmt.Sprintf("plan %s was made at %s; a plan can be run for %s", p.ID, p.MadeAt.Format(time.RFC3339), planLife), Remedy: again}
	}
	src, err := e.Source(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	if err := src.PrepareJournal(ctx); err != nil {
		return nil, err
	}
	body := r.Body.V
	if body.Then == rule.ThenArchive {
		st, err := e.Store(ctx, body.Archive.Store)
		if err != nil {
			return nil, err
		}
		if err := st.Check(ctx); err != nil {
			return nil, &RefusedError{Message: fmt.Sprintf("store %s: %v", body.Archive.Store, err), Remedy: "give the service's user write access to it, or name another store in the rule"}
		}
	}
	run := &catalog.Run{ID: ulid.Make().String(), Plan: p.ID, Rule: r.Name, Revision: r.Revision, Source: r.Source, Table: r.Table, Action: string(body.Then),
		Store: body.Archive.Store, Pace: string(body.Pace), Cutoff: p.Cutoff, Due: p.Survey.V.Due, State: catalog.Queued, CreatedAt: catalog.At(e.Now())}
	return run, e.Catalog.AddRun(ctx, actor, run)
}
