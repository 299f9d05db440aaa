package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// StartRun makes a run of a plan and keeps it as queued. The plan must be of the rule's newest revision and not old;
// empty asks for all rows to be removed at once, which the plan must offer. turn says when the run's turn comes;
// without one, at once.
func (pl *Planner) Start(ctx context.Context, actor, planID string, empty bool, turn ...catalog.RunTurn) (*catalog.Run,
	error) {
	p, err := pl.Catalog.Plan(ctx, planID)
	if err != nil {
		return nil, err
	}
	if empty {
		if err := pl.mayEmpty(ctx, p); err != nil {
			return nil, err
		}
	}
	r, err := pl.Catalog.Rule(ctx, p.Rule)
	if err != nil {
		return nil, err
	}
	if err := pl.stillGood(ctx, p, r); err != nil {
		return nil, err
	}
	if err := pl.inTime(p, turn); err != nil {
		return nil, err
	}
	if err := pl.tableReady(ctx, p); err != nil {
		return nil, err
	}
	if ctx, err = pl.Allow(ctx, startNeed(actor, p, empty, turn)); err != nil {
		return nil, err
	}
	body := r.Body.V
	passes, err := pl.plannedPasses(ctx, p, &body)
	if err != nil {
		return nil, err
	}
	parts := []catalog.Part{}
	for _, x := range p.Detail.V.Partitions {
		if x.Way == rule.WayWhole {
			parts = append(parts, catalog.Part{Name: x.Name, From: x.From, To: x.To, Rows: x.Rows,
				State: catalog.PartWaiting})
		}
	}
	run := &catalog.Run{RunOrder: catalog.RunOrder{ID: ulid.Make().String(), Plan: p.ID, Rule: r.Name,
		Revision: r.Revision, Source: r.Source, Table: p.Table, Action: action(passes), Pace: string(body.Pace),
		Cutoff: p.Cutoff, Due: p.Counts.V.Due, CreatedAt: catalog.At(pl.Now()), Limit: p.Detail.V.Narrow.Limit},
		RunStanding: catalog.RunStanding{State: catalog.Queued, Emptying: empty},
		RunSums: catalog.RunSums{Passes: catalog.JSON[[]catalog.Pass]{V: passes},
			Parts: catalog.JSON[[]catalog.Part]{V: parts}}}
	if i := slices.IndexFunc(passes, func(x catalog.Pass) bool { return x.Store != "" }); i >= 0 {
		run.Store = passes[i].Store
	}
	for _, t := range turn {
		run.RunTurn = t
	}
	return run, pl.Catalog.AddRun(ctx, actor, run)
}

// Begin is a run that begins by itself once it is approved.
type Begin struct {
	Plan  string           `json:"plan"`
	Empty bool             `json:"empty,omitempty"`
	Turn  *catalog.RunTurn `json:"turn,omitempty"`
}

// startNeed says what others may have to approve before a plan is run.
func startNeed(actor string, p *catalog.Plan, empty bool, turn []catalog.RunTurn) deps.Need {
	n := NeedOf(p, empty)
	n.Asker = actor
	begin := Begin{Plan: p.ID, Empty: empty}
	for i := range turn {
		begin.Turn = &turn[i]
	}
	n.Begins = begin
	return n
}

// NeedOf says what others may have to approve before a plan is run: exactly this plan, and whether the table is emptied
// at once. Who made it asks for it.
func NeedOf(p *catalog.Plan, empty bool) deps.Need {
	n := deps.Need{Whats: []approval.What{approval.Runs}, Source: p.Source, Table: p.Table, Rule: p.Rule, Subject: p.ID,
		Rows: p.Counts.V.Due, Asker: p.MadeBy, Until: p.MadeAt.Add(planLife), Of: struct {
			Plan  *catalog.Plan
			Empty bool
		}{p, empty},
		Summary: fmt.Sprintf("rule %s revision %d, rows of %s.%s before %s", p.Rule, p.Revision, p.Source, p.Table,
			p.Cutoff.UTC().Format(time.RFC3339))}
	if empty {
		n.Whats = append(n.Whats, approval.Emptyings)
		n.Summary += ", all rows of the table at once"
	}
	if p.Detail.V.Override != "" || len(p.Detail.V.Guards) > 0 {
		n.Whats = append(n.Whats, approval.Overrides)
		n.Summary += ", beyond a guard rail: " + p.Detail.V.Override
	}
	return n
}

// mostPriority is the highest priority of a run, and the lowest but for its sign.
const mostPriority = 100

// CheckPriority refuses what is no priority of a run.
func CheckPriority(n int) error {
	if n >= -mostPriority && n <= mostPriority {
		return nil
	}
	return &refuse.Error{Field: "priority", Message: fmt.Sprintf("%d is no priority", n),
		Remedy: fmt.Sprintf("write a number from -%d to %d; 0 is usual", mostPriority, mostPriority)}
}

// inTime refuses a run that is to begin when its plan is too old, or at no time.
func (pl *Planner) inTime(p *catalog.Plan, turn []catalog.RunTurn) error {
	for _, t := range turn {
		if err := CheckPriority(t.Priority); err != nil {
			return err
		}
		if t.StartAt == nil {
			continue
		}
		switch at := t.StartAt.Time; {
		case at.Before(pl.Now().Add(-time.Minute)):
			return &refuse.Error{Field: "at", Message: fmt.Sprintf("%s has passed", at.Format(time.RFC3339)),
				Remedy: "give a time to come, or leave it out to start now"}
		case at.Sub(p.MadeAt.Time) > planLife:
			return &refuse.Error{Field: "at",
				Message: fmt.Sprintf("plan %s was made at %s and can be run for %s; %s is later", p.ID,
					p.MadeAt.Format(time.RFC3339), planLife, at.Format(time.RFC3339)),
				Remedy: "give an earlier time, or give the rule a schedule, which makes a plan of its own each time"}
		}
	}
	return nil
}

// mayEmpty refuses to empty a table at once where its plan does not offer that, or a hold stands on it.
func (pl *Planner) mayEmpty(ctx context.Context, p *catalog.Plan) error {
	if x := p.Detail.V.Emptying; x == nil || !x.Offered {
		why := "its rule does not empty the table"
		if x != nil {
			why = x.Why
		}
		return &refuse.Error{Field: "empty",
			Message: fmt.Sprintf("plan %s does not offer to empty table %s at once: %s", p.ID, p.Table, why),
			Remedy:  "start it without, and the rows go in batches"}
	}
	holds, err := pl.Catalog.TableHolds(ctx, p.Source, p.Table)
	if err != nil || len(holds) == 0 {
		return err
	}
	return &refuse.Error{Field: "empty",
		Message: fmt.Sprintf("hold %s (%s) stands on table %s, which cannot be emptied at once beside it",
			holds[0].ID, holds[0].Reference, p.Table),
		Remedy: "start it without -empty, and the rows that are not held go in batches"}
}

// stillGood refuses a plan that is old, or was made before its rule, a keep or a guard rail changed.
func (pl *Planner) stillGood(ctx context.Context, p *catalog.Plan, r *catalog.Rule) error {
	again := fmt.Sprintf("make a new one: `ambercellar plan make %s`", p.Rule)
	if r.Revision != p.Revision {
		return &refuse.Error{Field: "plan",
			Message: fmt.Sprintf("plan %s is of revision %d of rule %s, which is now at revision %d", p.ID, p.Revision,
				p.Rule, r.Revision), Remedy: again}
	}
	if age := pl.Now().Sub(p.MadeAt.Time); age > planLife || age < 0 {
		return &refuse.Error{Field: "plan",
			Message: fmt.Sprintf("plan %s was made at %s; a plan can be run for %s", p.ID,
				p.MadeAt.Format(time.RFC3339), planLife), Remedy: again}
	}
	body := r.Body.V
	if body.Off {
		return &refuse.Error{Field: "plan", Message: fmt.Sprintf("rule %s is not enabled", r.Name),
			Remedy: "take `enabled: false` out of it and make a new plan"}
	}
	keeps, err := pl.Catalog.Keeps(ctx)
	if err != nil {
		return err
	}
	named := map[string]rule.Named{}
	for _, k := range keeps {
		named[k.Name] = k.Body.V
		if k.AppliedAt.After(p.MadeAt.Time) &&
			slices.ContainsFunc(body.Clauses, func(c rule.Clause) bool { return c.Keep.Name == k.Name }) {
			return &refuse.Error{Field: "plan",
				Message: fmt.Sprintf("the keep %s was changed after plan %s was made", k.Name, p.ID), Remedy: again}
		}
	}
	guard, err := pl.Catalog.Guard(ctx, r.Source)
	if err != nil {
		return err
	}
	for _, b := range guarded(guard, &body, p.MadeAt.Time, due.Resolver(named, &p.Shape.V)) {
		if !slices.Contains(p.Detail.V.Guards, b.message) { // set after the plan was made
			return &refuse.Error{Field: "plan", Message: b.message, Remedy: again}
		}
	}
	return nil
}

// tableReady makes sure that the table has the history that the catalog knows, and its journal.
func (pl *Planner) tableReady(ctx context.Context, p *catalog.Plan) error {
	src, err := pl.Source(ctx, p.Source)
	if err != nil {
		return err
	}
	if known, err := pl.Catalog.TableLineage(ctx, p.Source, p.Table); err != nil {
		return err
	} else if known != nil { // otherwise the run finds out, after it has seen who holds the table
		if err := pl.tables.Agree(ctx, p.Source, p.Table); err != nil {
			return err
		}
	}
	// the run waits for who is at it, and does this itself
	if err := src.PrepareJournal(ctx); err != nil && !errors.Is(err, source.ErrBusy) {
		return err
	}
	return nil
}

// plannedPasses makes a pass of each clause that can take rows, the clauses in the order of the rule.
func (pl *Planner) plannedPasses(ctx context.Context, p *catalog.Plan, r *rule.Rule) ([]catalog.Pass, error) {
	out := []catalog.Pass{}
	for i, c := range p.Detail.V.Clauses {
		if c.Cutoff == nil {
			continue
		}
		x := catalog.Pass{Clause: c.Clause, Label: c.Label, Then: string(c.Then), Store: c.Store, Cutoff: *c.Cutoff}
		if i < len(p.Counts.V.Clauses) {
			x.Due = p.Counts.V.Clauses[i].Due
		}
		if c.Store != "" {
			st, err := pl.Store(ctx, c.Store)
			if err != nil {
				return nil, err
			}
			if err := st.Check(ctx); err != nil {
				return nil, &refuse.Error{Message: fmt.Sprintf("store %s: %v", c.Store, err),
					Remedy: "give the service's user write access to it, or name another store in the rule"}
			}
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, &refuse.Error{Field: "plan",
			Message: fmt.Sprintf("no clause of rule %s ever makes a row due, so there is nothing to run", r.Name),
			Remedy:  "give a clause another keep than forever"}
	}
	return out, nil
}

// action names what a run does: the same for all its passes, or mixed.
func action(passes []catalog.Pass) string {
	for _, p := range passes {
		if p.Then != passes[0].Then {
			return "mixed"
		}
	}
	return passes[0].Then
}
