package catalog

import (
	"fmt"
	"testing"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// Of many records the newest stay, whole; what the others came to stays as the sum of their days.
func TestTheNewestRecordsStay(t *testing.T) {
	kept := mostKept
	defer func() { mostKept = kept }()
	mostKept = map[string]int{KeepDetails: 2, KeepPlans: 8, KeepRuns: 4}
	c := filled(t)
	now := time.Date(2027, 1, 1, 12, 0, 0, 0, time.UTC)
	c.Now = func() time.Time { return now }
	for i := range 10 {
		now = now.Add(24 * time.Hour)
		p := &Plan{ID: fmt.Sprint("p", i), Rule: "r", Source: "harbour", Table: "t", MadeAt: At(now),
			Counts: JSON[Counts]{Counts{CountsHead: CountsHead{Due: 100, Bytes: 5000},
				CountsAll: CountsAll{Spread: []Bucket{{Rows: 1}}}}},
			Detail: JSON[PlanDetail]{PlanDetail{Note: "a note", Statements: []source.Statement{{SQL: "SELECT 1"}}}},
			Shape:  JSON[shape.Table]{shape.Table{TableForm: shape.TableForm{Name: "t"}}}}
		if err := c.AddPlan(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		r := &Run{RunOrder: RunOrder{ID: fmt.Sprint("r", i), Plan: p.ID, Rule: "r", Revision: 1, Source: "harbour",
			Table: "t", CreatedAt: At(now)}, RunStanding: RunStanding{State: Queued}}
		if err := c.AddRun(t.Context(), "me", r); err != nil {
			t.Fatal(err)
		}
		if _, err := c.SetRunState(t.Context(), "service", r.ID, Running, ""); err != nil {
			t.Fatal(err)
		}
		if i == 9 { // the newest goes on
			break
		}
		r.Action, r.Deleted, r.RawBytes = "mixed", 30, 700
		r.Passes.V = []Pass{{Then: "archive", Ledger: Ledger{Deleted: 10}},
			{Then: "purge", Ledger: Ledger{Deleted: 20}}}
		if err := c.SaveProgress(t.Context(), r, Progress{}); err != nil {
			t.Fatal(err)
		}
		if _, err := c.SetRunState(t.Context(), "service", r.ID, Done, ""); err != nil {
			t.Fatal(err)
		}
	}
	for kind, want := range map[string]int64{KeepDetails: 8, KeepRuns: 4} { // there is one plan more
		before, err := c.Beyond(t.Context(), kind)
		if err != nil || before.IsZero() {
			t.Fatalf("%s: %s, %v", kind, before, err)
		}
		if n, err := c.Forget(t.Context(), kind, before, 100); err != nil || n != want {
			t.Errorf("%d %s went, %v; want %d", n, kind, err, want)
		}
	}
	before, err := c.Beyond(t.Context(), KeepPlans)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := c.Forget(t.Context(), KeepPlans, before, 100); err != nil || n != 2 {
		t.Errorf("%d plans went before %s, %v", n, before, err)
	}
	plans, err := c.Plans(t.Context(), "", All)
	if err != nil || len(plans) != 9 {
		t.Fatalf("%d plans, %v", len(plans), err)
	}
	for i, p := range plans { // the newest first
		whole := i < 3
		if p.Thin == whole || len(p.Detail.V.Statements) == 1 != whole || len(p.Counts.V.Spread) == 1 != whole ||
			(p.Shape.V.Name == "t") != whole || p.Counts.V.Due != 100 || p.Detail.V.Note != "a note" {
			t.Errorf("plan %d: %+v", i, p)
		}
	}
	days, err := c.PastDays(t.Context(), Past{To: time.Now().AddDate(10, 0, 0)})
	if err != nil || len(days) != 9 || days[0] != (Day{Day: "2027-01-02", Runs: 1, Archived: 10, Purged: 20,
		Freed: 1700}) {
		t.Errorf("%+v, %v", days, err)
	}
	if at, err := c.Beyond(t.Context(), KeepSizes); err != nil || !at.IsZero() {
		t.Errorf("sizes have no bound but time: %s, %v", at, err)
	}
}
