package service

import (
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/keeping"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/plan"
)

// A rule that has never run falls behind; when it has run it keeps up; and where its runs take less than comes, it
// falls behind again.
func TestARuleKeepsUpWithItsTable(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	// two rows an hour, from 100 days before what is a year old now to 100 days after
	if _, err := n.db(t).Exec(`INSERT INTO scan (at) WITH RECURSIVE s (g) AS (SELECT -4800 UNION ALL SELECT g + 1 FROM s
		WHERE g < 4800) SELECT datetime('2025-11-30 21:55:00', (g * 30) || ' minutes') FROM s`); err != nil {
		t.Fatal(err)
	}
	n.apply(t, "", "scan")
	is := func(state keeping.State, words string) *KeepingUp {
		t.Helper()
		if _, err := n.Chores.countInflows(t.Context()); err != nil {
			t.Fatal(err)
		}
		k, err := n.Findings.Keeping(t.Context(), "scan")
		if err != nil || k.State != state || !strings.Contains(k.Spoken, words) {
			t.Fatalf("%+v, %v", k, err)
		}
		return k
	}
	var felt pace.Spread
	felt.Add(time.Millisecond)
	if err := n.Watch.Usual.LearnUsual(t.Context(), "harbour", n.Now(), map[pace.FeelKind]pace.Spread{
		pace.FeelLookup: felt}); err != nil {
		t.Fatal(err)
	}
	if usual, err := n.Catalog.Usually(t.Context(), "harbour", n.Now()); err != nil ||
		usual[pace.FeelLookup].Total != 1 {
		t.Errorf("what is usual is not kept: %v, %v", usual, err)
	}
	day := func(d int) { n.set(time.Date(2026, 11, 30+d, 21, 55, 0, 0, time.UTC)) }
	if k := is(keeping.Unknown, "not a day old"); k.Inflow < 46 || k.Inflow > 50 || k.CountedAt == nil {
		t.Errorf("%.1f rows become due a day", k.Inflow)
	}
	day(2)
	k := is(keeping.Falls, "falls behind by 48 rows a day")
	if k.Due < 4500 || k.Due > 5200 || len(k.Help) != 2 {
		t.Errorf("%+v", k)
	}
	n.found(t, "falls behind scan")

	run := func(limit int64) {
		t.Helper()
		p, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scan", Exact: true, Limit: limit})
		if err != nil {
			t.Fatal(err)
		}
		r, err := n.Queue.StartRun(t.Context(), "me", p.ID, false)
		if err != nil {
			t.Fatal(err)
		}
		if r = n.ended(t, r.ID); r.State != catalog.Done {
			t.Fatalf("%+v", r)
		}
	}
	run(0)
	if k := is(keeping.Keeps, "keeps up: 48 rows become due a day"); k.Due != 0 {
		t.Errorf("%d rows are due after a run", k.Due)
	}
	n.found(t)
	for d := 12; d < 50; d += 10 {
		day(d)
		run(100) // of 480 that have become due
	}
	k = is(keeping.Falls, "its runs took ")
	if live := int64(n.left(t, "scan")); k.Due < 1500 || k.Due > live {
		t.Errorf("%d rows are due of %d: %s", k.Due, live, k.Spoken)
	}
	n.found(t, "falls behind scan")

	if _, err := n.db(t).Exec("ALTER TABLE scan RENAME TO gone"); err != nil {
		t.Fatal(err)
	}
	day(51)
	if k := is(keeping.Unknown, "has not been counted"); k.Problem == "" || k.Inflow != -1 {
		t.Errorf("without its table: %+v", k)
	}
}
