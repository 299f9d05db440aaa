package rule

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/shape"
)

func TestAPartitionLeavesAsAWholeOnlyIfAllOfItIsDue(t *testing.T) {
	at := func(text string) Term {
		x, err := time.Parse(time.DateOnly, text)
		if err != nil {
			t.Fatal(err)
		}
		return Term{Cutoff: Cutoff{At: x}}
	}
	table := func() *shape.Table {
		return &shape.Table{TableForm: shape.TableForm{Columns: []shape.Column{{Name: "at", Age: shape.AgeTime}}},
			TableParts: shape.TableParts{Partitions: []shape.Partition{
				{Name: "first", Column: "at", To: "2026-01-01"}, {Name: "second", Column: "at", From: "2026-01-01",
					To: "2026-02-01"},
				{Name: "third", Column: "at", From: "2026-02-01", To: "2026-03-01"},
				{Name: "last", Column: "at", From: "2026-03-01"}}}}
	}
	for _, c := range []struct {
		name  string
		terms []Term
		with  func(*Rule, *shape.Table)
		want  string
	}{
		{"up to the cutoff", []Term{at("2026-02-01")}, nil, "whole whole stays stays"},
		{"partly", []Term{at("2026-02-15")}, nil, "whole whole rows(only part of its range is due) stays"},
		{"the least of several", []Term{at("2026-01-01"), at("2026-03-01")}, nil,
			"whole rows(only part of its range is due) rows(only part of its range is due) stays"},
		{"one that governs nothing", []Term{{None: true, Cutoff: Cutoff{Never: true}}, at("2026-02-01")}, nil,
			"whole whole stays stays"},
		{"one that keeps for ever", []Term{{Cutoff: Cutoff{Never: true}}, at("2026-02-01")}, nil,
			"rows(a clause keeps its rows for ever) rows(a clause keeps its rows for ever) stays stays"},
		{"the rule says rows", []Term{at("2026-01-01")}, func(r *Rule, _ *shape.Table) { r.Partitions = WayRows },
			"rows(the rule says `partitions: rows`) stays stays stays"},
		{"copied first", []Term{at("2026-01-01")}, func(r *Rule, _ *shape.Table) { r.Then = ThenCopy },
			"rows(its rows are copied first, and deleted by a decision of its own) stays stays stays"},
		{"a trigger", []Term{at("2026-01-01")}, func(_ *Rule, t *shape.Table) { t.Triggers = []string{"log_it"} },
			"rows(the trigger log_it fires on delete, and not when a partition is dropped) stays stays stays"},
		{"referred to", []Term{at("2026-01-01")},
			func(_ *Rule, t *shape.Table) { t.ReferencedBy = []shape.ForeignKey{{Table: "claim"}} },
			"rows(rows of claim refer to the table) stays stays stays"},
		{"published", []Term{at("2026-01-01")}, func(_ *Rule, t *shape.Table) { t.Followed = true },
			"rows(a publication sends deletes on to subscribers, and no dropping of partitions) stays stays stays"},
		{"hindered", []Term{at("2026-01-01")},
			func(_ *Rule, t *shape.Table) { t.Partitions[0].Hinders = "it is divided further" },
			"rows(it is divided further) stays stays stays"},
		{"bounds that are no times", []Term{at("2026-01-01")},
			func(_ *Rule, t *shape.Table) { t.Partitions[0].To = "soon" },
			"rows(its bounds are no instants) stays stays stays"},
		{"everything", []Term{{Cutoff: Cutoff{At: at("2026-02-10").At, All: true}}}, nil,
			"whole whole rows(only part of its range is due) rows(only part of its range is due)"},
		{"by numbers", []Term{at("2026-01-01")}, func(r *Rule, t *shape.Table) {
			r.Age.Unit, t.Columns[0].Age = "seconds", shape.AgeNumber
			t.Partitions = []shape.Partition{{Column: "at", To: "1767225600"},
				{Column: "at", From: "1767225600", To: "1767225700"}}
		}, "whole stays"},
	} {
		r, x := &Rule{RuleSubject: RuleSubject{Age: Age{Column: "at"}},
			RuleRows: RuleRows{Clauses: []Clause{{}}},
			RuleThen: RuleThen{Then: ThenPurge}}, table()
		if c.with != nil {
			c.with(r, x)
		}
		var got []string
		for _, way := range r.Ways(x, c.terms) {
			text := string(way.Way)
			if way.Why != "" {
				text += "(" + way.Why + ")"
			}
			got = append(got, text)
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: got %s", c.name, text)
		}
	}
	r, x := &Rule{RuleSubject: RuleSubject{Age: Age{Column: "sent_at"}},
		RuleRows: RuleRows{Clauses: []Clause{{}}},
		RuleThen: RuleThen{Then: ThenPurge}}, table()
	if got := r.Ways(x, []Term{at("2026-02-01")}); got[0].Way != WayRows {
		t.Errorf("divided by another column: %v", got)
	}
}

func TestFurtherPartitionsAreAsLongAsTheNewest(t *testing.T) {
	for _, c := range [][3]string{
		{"2026-01-01", "2026-02-01", "2026-02-01T00:00:00Z 2026-03-01T00:00:00Z 2026-04-01T00:00:00Z"},
		{"2025-10-01 00:00:00+00", "2026-01-01 00:00:00+00",
			"2026-01-01T00:00:00Z 2026-04-01T00:00:00Z 2026-07-01T00:00:00Z"},
		{"2024-01-01", "2025-01-01", "2025-01-01T00:00:00Z 2026-01-01T00:00:00Z 2027-01-01T00:00:00Z"},
		{"2026-01-05", "2026-01-12", "2026-01-12T00:00:00Z 2026-01-19T00:00:00Z 2026-01-26T00:00:00Z"},
		{"2026-01-01 06:00:00", "2026-01-01 12:00:00",
			"2026-01-01T12:00:00Z 2026-01-01T18:00:00Z 2026-01-02T00:00:00Z"},
		{"", "2026-01-01", "has no lower bound"}, {"2026-01-01", "", "no partition with an upper bound"},
		{"a", "b", "are no times"},
	} {
		bounds, err := Further([]shape.Partition{{Name: "p", From: c[0], To: c[1]}}, 2)
		got := fmt.Sprint(err)
		if err == nil {
			got = fmt.Sprintf("%s %s %s", bounds[0][0].Format(time.RFC3339), bounds[0][1].Format(time.RFC3339),
				bounds[1][1].Format(time.RFC3339))
		}
		if !strings.Contains(got, c[2]) {
			t.Errorf("%s to %s: got %s", c[0], c[1], got)
		}
	}
}
