package engine

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
)

// TestRelatedRulesAreThoseOfThePlan: a related table's rule, and the named keep that it uses, are what they were when
// the plan was made, however often the run is taken up.
func TestRelatedRulesAreThoseOfThePlan(t *testing.T) {
	t.Parallel()
	b, _ := withTrips(t, "archive", everyWay)
	b.exec(t, "ALTER TABLE leg ADD COLUMN at datetime; UPDATE leg SET at = '2024-06-01'")
	b.rule(t, "keep: legs\nperiod: P30Y\nabout: for the test\n---\nrule: legs\nsource: harbour\ntable: leg\nage: "+
		"at\nzone: UTC\nclauses:\n  - keep: legs\nthen: archive\narchive: {store: cellar}\n")
	b.rule(t, "rule: trips\nsource: harbour\ntable: trip\nage: at\nzone: UTC\nrelated:"+everyWay+
		"\nclauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")
	p := b.plan(t, plan.PlanRequest{Rule: "trips", Exact: true})
	if p.Counts.V.Due != 0 || len(p.Detail.V.Pinned) != 1 || p.Detail.V.Pinned[0].Rule != "legs" {
		t.Fatalf("%+v, %+v", p.Counts.V, p.Detail.V.Pinned)
	}
	r := b.begin(t, p)
	b.rule(t, "keep: legs\nperiod: P1D\nabout: for the test\n")
	b.rule(t, "rule: legs\nsource: harbour\ntable: leg\nage: at\nzone: UTC\nclauses:\n  - keep: P1D\nthen: "+
		"archive\narchive: {store: cellar}\n")
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if got := b.counted(t); got != "[60 120 360 60 60]" {
		t.Errorf("rows went that the plan kept: %s", got)
	}
}

// TestNoTableIsEmptiedBesideAHold: one that was placed after the plan keeps the table from being emptied at once,
// whatever rows it names.
func TestNoTableIsEmptiedBesideAHold(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			h.queue(t, 50)
			if engine == "mariadb" {
				h.exec(t, "DO SLEEP(3.1)")
			}
			b := h.serve(t, nil)
			b.rule(t, emptyRule)
			p := b.plan(t, plan.PlanRequest{Rule: "queue"})
			if p.Detail.V.Emptying == nil || !p.Detail.V.Emptying.Offered {
				t.Fatalf("%+v", p.Detail.V.Emptying)
			}
			r, err := b.Plans.Start(t.Context(), "me", p.ID, true)
			if err == nil {
				r, err = b.Catalog.SetRunState(t.Context(), "me", r.ID, catalog.Running, "")
			}
			if err != nil {
				t.Fatal(err)
			}
			if _, err := b.Plans.PlaceHold(t.Context(), "me", plan.HoldRequest{Source: "harbour", Table: "waiting",
				Where: "id = 7", Reference: "case 3", Reason: "inquiry"}); err != nil {
				t.Fatal(err)
			}
			if err := b.Runs.Run(t.Context(), r); err != nil {
				t.Fatal(err)
			}
			if n := h.count(t, "SELECT count(*) FROM waiting WHERE id = 7"); n != 1 ||
				h.count(t, "SELECT count(*) FROM waiting") != 1 || !strings.Contains(partStates(r), "rows") {
				t.Errorf("held rows: %d, parts%s", n, partStates(r))
			}
			if _, err := b.Plans.Start(t.Context(), "me", p.ID, true); err == nil ||
				!strings.Contains(err.Error(), "case 3") {
				t.Errorf("emptying beside a hold: %v", err)
			}
		})
	}
}

// TestRowsThatSomebodyKeepsAreNotTakenBack, though their time was over when the list was made.
func TestRowsThatSomebodyKeepsAreNotTakenBack(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.finish(t, plan.PlanRequest{})
	r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{Where: "id <= 20"}, Target: catalog.TargetTable, For: "PT1H"})
	if err == nil {
		err = b.Restores.Restore(t.Context(), r, t.TempDir())
	}
	if err != nil {
		t.Fatal(err)
	}
	b.now = b.now.Add(2 * time.Hour)
	listed, err := b.Catalog.Restore(t.Context(), r.ID)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Restores.KeepRestored(t.Context(), "me", r.ID, "P5D"); err != nil {
		t.Fatal(err)
	}
	if err := b.Restores.TakeBack(t.Context(), listed); err != nil || b.live(t) != 20 {
		t.Errorf("%d rows are live, %v", b.live(t), err)
	}
	b.now = b.now.AddDate(0, 0, 6)
	b.exec(t, "UPDATE scan SET note = 'seen' WHERE id = 5; DELETE FROM scan WHERE id = 6")
	// An earlier try has taken some back, and was killed before it noted that.
	b.exec(t, "DELETE FROM scan WHERE id IN (1, 2, 3)")
	listed.TakenBack = 1
	if err := b.Catalog.SaveRestore(t.Context(), listed); err != nil {
		t.Fatal(err)
	}
	if err := b.Restores.TakeBack(t.Context(), listed); err != nil {
		t.Fatal(err)
	}
	if got, err := b.Catalog.Restore(t.Context(), r.ID); err != nil || got.State != catalog.RestoreExpired ||
		got.Stayed != 1 || got.TakenBack != 19 {
		t.Errorf("%+v, %v", got, err)
	}
}

// TestFamiliesThatCameBackCountOnce, in sums that take the live rows in, and in what is told of a table; and how far
// their restore is never passes the whole.
func TestFamiliesThatCameBackCountOnce(t *testing.T) {
	t.Parallel()
	b, _ := withTrips(t, "archive", everyWay)
	r := b.startTrips(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Catalog.SetRunState(t.Context(), "service", r.ID, catalog.Done, ""); err != nil {
		t.Fatal(err)
	}
	x := b.restore(t, r)
	if x.Of < x.Found || x.Found != 60+120+360 {
		t.Errorf("%d found of %d", x.Found, x.Of)
	}
	b.exec(t, "DELETE FROM boarding WHERE id = 1") // one that came back is gone again
	for table, want := range map[string]int64{"trip": 60, "leg": 120, "boarding": 360} {
		s, err := b.Search.Summarise(t.Context(), search.SummaryRequest{Source: "harbour", Table: table,
			Of: []search.Measure{{Of: "count"}}, Live: true})
		if err != nil || *s.Groups[0][0] != strconv.FormatInt(want, 10) {
			t.Errorf("%s: %+v, %v", table, s, err)
		}
		y, err := b.Reconcile.Reconcile(t.Context(), "harbour", table)
		if err != nil || !y.Agree || y.Totals.Records != want || !y.Totals.AddsUp {
			t.Errorf("%s: %+v, %+v, %v", table, y, y.Totals, err)
		}
	}
}
