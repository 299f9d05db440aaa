package api

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
)

// ruleRoutes are the routes of rules, named keeps and filters.
func (a *API) ruleRoutes() []route {
	s := a.service
	return []route{
		paged("/rules", "Rules", "Rules, in the order of their names", a.rules, viewRule).asks("source", "table",
			"text"),
		take("POST", "/rules", "ApplyRules", "Apply a file of rules: all of them or none",
			func(ctx context.Context, r request, in RuleFile) (RuleResult, error) {
				applied, problems, err := s.Engine.Plans.ApplyRules(ctx, r.actor(), in.File, []byte(in.Text),
					in.Reason)
				fill(&applied)
				fill(&problems)
				return RuleResult{Applied: applied, Problems: problems}, err
			}),
		take("POST", "/rules/check", "CheckRules", "Check a file of rules and change nothing",
			func(ctx context.Context, _ request, in RuleFile) (*RuleResult, error) {
				checked, err := s.Engine.Plans.CheckRules(ctx, in.File, []byte(in.Text))
				if err != nil {
					return nil, err
				}
				fill(&checked.Problems)
				return &RuleResult{Applied: []plan.Applied{}, Problems: checked.Problems}, nil
			}),
		take("POST", "/rules/compare", "CompareRules",
			"Say which rows become due or stop being due if a file of rules were applied",
			func(ctx context.Context, _ request, in RuleFile) (Comparison, error) {
				compared, problems, err := s.Engine.Plans.Compare(ctx, in.File, []byte(in.Text))
				fill(&compared)
				fill(&problems)
				return Comparison{compared, problems}, err
			}),
		take("POST", "/rules/preview", "PreviewRule",
			"Say what a rule would do while it is being written; nothing is kept",
			func(ctx context.Context, _ request, in Draft) (*view.Preview, error) {
				if in.Rule != nil {
					in.Text = rule.Write(in.Rule)
				}
				return one(view.PreviewOf)(s.Engine.Plans.PreviewRule(ctx, in.Text, in.Exact))
			}),
		get("/rules/{rule}", "Rule", "One rule", func(ctx context.Context, r request) (out RuleView, err error) {
			found, err := s.Catalog.Rule(ctx, r.Param("rule"))
			if err != nil {
				return out, err
			}
			ran, err := a.ran(ctx, *found)
			return viewRule(&ran[0]), err
		}),
		whole("/rules/{rule}/revisions", "Revisions", "All revisions of a rule, the newest first",
			func(ctx context.Context, r request) ([]view.Revision, error) {
				if _, err := s.Catalog.Rule(ctx, r.Param("rule")); err != nil {
					return nil, err
				}
				return each(view.RevisionOf)(s.Catalog.Revisions(ctx, r.Param("rule")))
			}),
		get("/rules/{rule}/keeping", "Keeping",
			"Whether the runs of a rule take the rows that become due: it keeps up, is behind or falls behind",
			func(ctx context.Context, r request) (*service.KeepingUp, error) {
				return s.Findings.Keeping(ctx, r.Param("rule"))
			}),
		whole("/rules/{rule}/forecast", "Forecast", "What runs of a rule would take in the coming months",
			func(ctx context.Context, r request) ([]plan.Forecast, error) {
				months := 12
				if text := r.Query("months"); text != "" {
					var err error
					if months, err = strconv.Atoi(text); err != nil {
						return nil, &refuse.Error{Field: "months", Message: fmt.Sprintf("%q is no number of months",
							text), Remedy: "give 1 to 120"}
					}
				}
				return s.Engine.Plans.ForecastRule(ctx, r.Param("rule"), months)
			}).asks("months"),
		whole("/keeps", "Keeps", "The named keeps", func(ctx context.Context, _ request) ([]view.Keep,
			error) {
			return each(view.KeepOf)(s.Catalog.Keeps(ctx))
		}),
		take("POST", "/filters/check", "CheckFilter", "Check a filter against the columns of a table", a.checkFilter),
	}
}

func (a *API) rules(ctx context.Context, r request, p catalog.Page) ([]ranRule, error) {
	list, err := a.service.Catalog.RulesOf(ctx, catalog.RuleFilter{Source: r.Query("source"), Table: r.Query("table"),
		Text: r.Query("text")}, p)
	if err != nil {
		return nil, err
	}
	return a.ran(ctx, list...)
}

// ranRule is a rule, and its newest run, if it has one.
type ranRule struct {
	catalog.Rule
	last *catalog.Run
}

// ran finds the newest runs of rules.
func (a *API) ran(ctx context.Context, rules ...catalog.Rule) ([]ranRule, error) {
	names, last := make([]string, len(rules)), map[string]*catalog.Run{}
	for i := range rules {
		names[i] = rules[i].Name
	}
	runs, err := a.service.Catalog.LastRuns(ctx, names)
	for i := range runs {
		last[runs[i].Rule] = &runs[i]
	}
	out := make([]ranRule, len(rules))
	for i, r := range rules {
		out[i] = ranRule{r, last[r.Name]}
	}
	return out, err
}

func viewRule(r *ranRule) RuleView {
	v := RuleView{Rule: view.RuleOf(&r.Rule)}
	for i, clause := range r.Body.V.Clauses {
		if i > 0 {
			v.Spoken += "; "
		}
		switch {
		case clause.Otherwise:
			v.Spoken += "otherwise "
		case clause.Where != "":
			v.Spoken += clause.Where + ": "
		}
		v.Spoken += clause.Keep.Spoken()
		if clause.Align != "" {
			v.Spoken += ", cut at the " + string(clause.Align)
		}
		if clause.Off {
			v.Spoken += " (not enabled)"
		}
	}
	if r.last != nil {
		run := viewRun(r.last)
		v.LastRun = &run
	}
	return v
}

func (a *API) checkFilter(ctx context.Context, _ request, in FilterCheck) (*FilterResult, error) {
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
		out.Problems = append(out.Problems,
			rule.Problem{Field: "where", Message: strings.TrimSuffix(e.Plain(), "; "+e.Remedy), Remedy: e.Remedy,
				Excerpt: e.Excerpt()})
	}
	if len(bad) == 0 {
		if out.Printed = f.String(); f.Never() {
			out.Problems = append(out.Problems,
				rule.Problem{Field: "where", Message: "no row can satisfy this condition: its parts exclude each " +
					"other", Remedy: "mend the condition"})
		}
	}
	return out, nil
}
