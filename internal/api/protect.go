package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
)

// protection are the routes of what keeps rows from being removed: holds, guard rails, named keeps; and of filters.
func (a *API) protection() []route {
	s := a.service
	return []route{
		{method: "GET", path: "/holds", summary: "Holds, the newest first; with all=true those that were lifted too", query: []string{"all"}, out: Items[catalog.Hold]{}, do: func(c *gin.Context) (any, error) {
			return all(s.Catalog.Holds(c.Request.Context(), c.Query("all") == "true"))
		}},
		{method: "POST", path: "/holds", summary: "Place a hold; the answer comes when nothing is being removed any more that it protects", in: plan.HoldRequest{}, out: plan.Placed{}, status: http.StatusCreated, do: func(c *gin.Context) (any, error) {
			var q plan.HoldRequest
			if err := read(c, &q); err != nil {
				return nil, err
			}
			return s.Plans.PlaceHold(c.Request.Context(), actor, q)
		}},
		{method: "GET", path: "/holds/{hold}", summary: "One hold", out: catalog.Hold{}, do: func(c *gin.Context) (any, error) { return s.Catalog.Hold(c.Request.Context(), c.Param("hold")) }},
		{method: "POST", path: "/holds/{hold}/lift", summary: "End a hold", in: Lift{}, out: catalog.Hold{}, do: func(c *gin.Context) (any, error) {
			var in Lift
			if err := read(c, &in); err != nil {
				return nil, err
			}
			return s.Plans.LiftHold(c.Request.Context(), actor, c.Param("hold"), in.Reason)
		}},
		{method: "GET", path: "/sources/{source}/guard", summary: "The guard rails of a source", out: catalog.Guard{}, do: func(c *gin.Context) (any, error) {
			if _, err := s.Catalog.Source(c.Request.Context(), c.Param("source")); err != nil {
				return nil, err
			}
			return s.Catalog.Guard(c.Request.Context(), c.Param("source"))
		}},
		{method: "PUT", path: "/sources/{source}/guard", summary: "Set the guard rails of a source", in: catalog.Guard{}, out: catalog.Guard{}, do: a.setGuard},
		{method: "POST", path: "/rules/compare", summary: "Say which rows become due or stop being due if a file of rules were applied", in: RuleFile{}, out: Comparison{}, do: func(c *gin.Context) (any, error) {
			var in RuleFile
			if err := read(c, &in); err != nil {
				return nil, err
			}
			compared, problems, err := s.Plans.Compare(c.Request.Context(), in.File, []byte(in.Text))
			fill(&compared)
			fill(&problems)
			return Comparison{compared, problems}, err
		}},
		{method: "POST", path: "/rules/preview", summary: "Say what a rule would do while it is being written; nothing is kept", in: Draft{}, out: plan.Preview{}, do: func(c *gin.Context) (any, error) {
			var in Draft
			if err := read(c, &in); err != nil {
				return nil, err
			}
			if in.Rule != nil {
				in.Text = rule.Write(in.Rule)
			}
			return s.Plans.PreviewRule(c.Request.Context(), in.Text, in.Exact)
		}},
		{method: "GET", path: "/rules/{rule}/forecast", summary: "What runs of a rule would take in the coming months", query: []string{"months"}, out: Items[plan.Forecast]{}, do: func(c *gin.Context) (any, error) {
			months := 12
			if text := c.Query("months"); text != "" {
				var err error
				if months, err = strconv.Atoi(text); err != nil {
					return nil, &refuse.Error{Field: "months", Message: fmt.Sprintf("%q is no number of months", text), Remedy: "give 1 to 120"}
				}
			}
			return all(s.Plans.ForecastRule(c.Request.Context(), c.Param("rule"), months))
		}},
		{method: "GET", path: "/keeps", summary: "The named keeps", out: Items[catalog.Keep]{}, do: func(c *gin.Context) (any, error) { return all(s.Catalog.Keeps(c.Request.Context())) }},
		{method: "POST", path: "/filters/check", summary: "Check a filter against the columns of a table", in: FilterCheck{}, out: FilterResult{}, do: a.checkFilter},
	}
}

func (a *API) setGuard(c *gin.Context) (any, error) {
	var g catalog.Guard
	if err := read(c, &g); err != nil {
		return nil, err
	}
	for _, what := range g.Approve {
		if what != catalog.ApproveRestores && what != catalog.ApproveDisposals {
			return nil, &refuse.Error{Field: "approve", Message: fmt.Sprintf("%q is nothing that can be made to need an approval", what), Remedy: "write restores, disposals, or both"}
		}
	}
	ctx, name := c.Request.Context(), c.Param("source")
	if _, err := a.service.Catalog.Source(ctx, name); err != nil {
		return nil, err
	}
	return g, a.service.Catalog.SetGuard(ctx, actor, name, g)
}

func (a *API) checkFilter(c *gin.Context) (any, error) {
	var in FilterCheck
	if err := read(c, &in); err != nil {
		return nil, err
	}
	return a.bindFilter(c.Request.Context(), in)
}

func (a *API) bindFilter(ctx context.Context, in FilterCheck) (*FilterResult, error) {
	src, err := a.service.Source(ctx, in.Source)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, in.Table)
	if err != nil {
		return nil, err
	}
	out := &FilterResult{Problems: []rule.Problem{}}
	f, bad := filter.Bind(in.Where, filter.TableScope(t))
	for _, e := range bad {
		out.Problems = append(out.Problems, rule.Problem{Field: "where", Message: strings.TrimSuffix(e.Plain(), "; "+e.Remedy), Remedy: e.Remedy, Excerpt: e.Excerpt()})
	}
	if len(bad) == 0 {
		if out.Printed = f.String(); f.Never() {
			out.Problems = append(out.Problems, rule.Problem{Field: "where", Message: "no row can satisfy this condition: its parts exclude each other", Remedy: "mend the condition"})
		}
	}
	return out, nil
}
