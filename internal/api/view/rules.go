package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
)

// Revision is one revision of a rule; all are kept.
type Revision struct {
	Rule      string                 `json:"rule"`
	Revision  int                    `json:"revision"`
	Text      string                 `json:"text"`
	Changes   catalog.JSON[[]string] `json:"changes"`
	Reason    string                 `json:"reason,omitempty"` // why a locked clause was loosened
	AppliedAt catalog.Time           `json:"applied_at"`
	AppliedBy string                 `json:"applied_by"`
}

// RevisionOf shows a record of the catalog.
func RevisionOf(r *catalog.Revision) Revision { return Revision(*r) }

// Keep is a named keep.
type Keep struct {
	Name      string                   `json:"name"`
	Body      catalog.JSON[rule.Named] `json:"body"`
	Text      string                   `json:"text"`
	AppliedAt catalog.Time             `json:"applied_at"`
	AppliedBy string                   `json:"applied_by"`
}

// KeepOf shows a record of the catalog.
func KeepOf(k *catalog.Keep) Keep { return Keep(*k) }

// Plan is what a run would do. It is never changed.
type Plan struct {
	ID       string                           `json:"id"`
	Rule     string                           `json:"rule"`
	Revision int                              `json:"revision"`
	Source   string                           `json:"source"`
	Table    string                           `json:"table"`
	Cutoff   catalog.Time                     `json:"cutoff"` // the latest of its clauses'
	MadeAt   catalog.Time                     `json:"made_at"`
	Counts   catalog.JSON[catalog.Counts]     `json:"counts"`
	Batches  int64                            `json:"batches"`
	Segments int64                            `json:"segments"`
	Warnings catalog.JSON[[]string]           `json:"warnings"`
	Detail   catalog.JSON[catalog.PlanDetail] `json:"detail"`
}

// PlanOf shows a record of the catalog.
func PlanOf(p *catalog.Plan) Plan {
	return Plan{ID: p.ID, Rule: p.Rule, Revision: p.Revision, Source: p.Source, Table: p.Table, Cutoff: p.Cutoff,
		MadeAt: p.MadeAt, Counts: p.Counts, Batches: p.Batches, Segments: p.Segments, Warnings: p.Warnings,
		Detail: p.Detail}
}

// Rule is the newest revision of a rule.
type Rule struct {
	Name      string                  `json:"name"`
	Revision  int                     `json:"revision"`
	Source    string                  `json:"source"`
	Table     string                  `json:"table"`
	Text      string                  `json:"text"`
	Body      catalog.JSON[rule.Rule] `json:"body"`
	AppliedAt catalog.Time            `json:"applied_at"`
}

// RuleOf shows a record of the catalog.
func RuleOf(r *catalog.Rule) Rule {
	return Rule{Name: r.Name, Revision: r.Revision, Source: r.Source, Table: r.Table, Text: r.Text, Body: r.Body,
		AppliedAt: r.AppliedAt}
}

// Preview is what a rule would do that is being written.
type Preview struct {
	plan.Preview
	Plan *Plan `json:"plan"` // null where a mistake is in the way
}

// PreviewOf shows what a rule would do.
func PreviewOf(p *plan.Preview) Preview {
	out := Preview{Preview: *p}
	if p.Plan != nil {
		shown := PlanOf(p.Plan)
		out.Plan = &shown
	}
	return out
}
