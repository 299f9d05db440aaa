package api

import (
	"context"
	"fmt"
	"time"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
)

// planRoutes are the routes of plans.
func (a *API) planRoutes() []route {
	s := a.service
	return []route{
		paged("/plans", "Plans", "The newest plans",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Plan, error) {
				return s.Catalog.Plans(ctx, r.Query("rule"), p)
			}, view.PlanOf).asks("rule"),
		take("POST", "/plans", "MakePlan", "Make a plan of a rule; nothing in the source changes",
			a.makePlan).created(),
		get("/plans/counting/{ticket}", "Counting",
			"How far the counting for a plan is that is being made; closing the request for the plan ends it",
			func(_ context.Context, r request) (out Counting, err error) {
				x, ok := a.counting.Load(r.Param("ticket"))
				if !ok {
					return out, fmt.Errorf("no plan of ticket %s is being counted: %w", r.Param("ticket"),
						catalog.ErrNotFound)
				}
				return x.(Counting), nil
			}),
		get("/plans/{plan}", "Plan", "One plan", func(ctx context.Context, r request) (*view.Plan, error) {
			return one(view.PlanOf)(s.Catalog.Plan(ctx, r.Param("plan")))
		}),
		get("/plans/{plan}/sample", "Sample", "Some of the rows that a plan would take, read anew",
			func(ctx context.Context, r request) (*catalog.Sample, error) {
				return s.Engine.Plans.Sample(ctx, r.Param("plan"))
			}),
	}
}

func (a *API) makePlan(ctx context.Context, r request, in NewPlan) (*view.Plan, error) {
	q := plan.PlanRequest{Rule: in.Rule, Where: in.Where, Keys: in.Keys, Limit: in.Limit, Note: in.Note,
		Exact: in.Exact, Confirm: in.Confirm, Override: in.Override}
	if in.Before != "" {
		var ok bool
		if q.Before, ok = rule.ParseISO(in.Before); !ok {
			return nil, &refuse.Error{Field: "before", Message: fmt.Sprintf("%q is not a date or time", in.Before),
				Remedy: "write one like 2024-03-31 or 2024-03-31T12:00:00Z"}
		}
	}
	if in.Budget != "" {
		p, err := period.Parse(in.Budget)
		if err != nil {
			return nil, &refuse.Error{Field: "budget", Message: err.Error()}
		}
		now := a.service.Now()
		q.Budget = now.Sub(p.Before(now, time.UTC))
	}
	if in.Ticket != "" {
		q.Counted = func(done, pieces int) { a.counting.Store(in.Ticket, Counting{done, pieces}) }
		defer a.counting.Delete(in.Ticket)
	}
	return one(view.PlanOf)(a.service.Engine.Plans.Make(ctx, r.actor(), q))
}
