package service

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
)

// Records of the service's own go when their time is over: of runs that have ended, and nothing that proves where
// archived rows are or that somebody still needs.
func TestRecordsOfItsOwnGoWhenTheirTimeIsOver(t *testing.T) {
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"))
	defer s.Close()
	harbour(t, s, dir, 300)
	now := time.Now()
	shift := time.Duration(0)
	s.Engine.Now = func() time.Time { return now.Add(shift) }
	runs := map[string]*catalog.Run{}
	for _, then := range []string{"archive", "purge", "purge"} {
		text := "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: " +
			then + "\npace: unlimited\n"
		if then == "archive" {
			text += "archive: {store: cellar}\n"
		}
		if _, problems, err := s.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
			len(problems) > 0 {
			t.Fatal(problems, err)
		}
		p, err := s.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans", Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.Queue.StartRun(t.Context(), "me", p.ID, false)
		if err != nil {
			t.Fatal(err)
		}
		runs[fmt.Sprint(then, len(runs))] = s.until(t, r.ID, "done", time.Minute,
			func(r *catalog.Run) bool { return r.State == catalog.Done })
	}
	// nobody starts it
	if _, err := s.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scans"}); err != nil {
		t.Fatal(err)
	}
	before, err := s.Catalog.Totals(t.Context())
	if err != nil || before.Purged != 200 {
		t.Fatalf("%+v, %v", before, err)
	}
	count := func() string {
		t.Helper()
		plans, err1 := s.Catalog.Plans(t.Context(), "", catalog.All)
		list, err2 := s.Catalog.Runs(t.Context(), catalog.RunFilter{}, catalog.All)
		batches := 0
		for _, r := range list {
			b, err := s.Catalog.Batches(t.Context(), r.ID, catalog.All)
			if err != nil {
				t.Fatal(err)
			}
			if len(b) > 0 {
				batches++
			}
		}
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		return fmt.Sprintf("%d plans, %d runs, %d with batches", len(plans), len(list), batches)
	}
	for _, step := range []struct {
		after time.Duration
		want  string
	}{{0, "5 plans, 3 runs, 3 with batches"}, {89 * 24 * time.Hour, "5 plans, 3 runs, 3 with batches"},
		{91 * 24 * time.Hour, "5 plans, 3 runs, 0 with batches"},
		{400 * 24 * time.Hour, "3 plans, 3 runs, 0 with batches"},
		{3700 * 24 * time.Hour, "3 plans, 2 runs, 0 with batches"},
		{3701 * 24 * time.Hour, "2 plans, 2 runs, 0 with batches"}} {
		shift = step.after
		if _, err := s.Chores.Forget(t.Context()); err != nil {
			t.Fatal(err)
		}
		if got := count(); got != step.want {
			t.Errorf("after %s: %s; want %s", step.after, got, step.want)
		}
	}
	for name, r := range runs { // that which archived stays, and the newest
		_, err := s.Catalog.Run(t.Context(), r.ID)
		if gone := err != nil; gone != (name == "purge1") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if after, err := s.Catalog.Totals(t.Context()); err != nil || *after != *before {
		t.Errorf("the totals were %+v and are %+v, %v", before, after, err)
	}
	if _, err := s.Engine.Upkeep.Ledger(t.Context(), runs["archive0"].ID); err != nil {
		t.Errorf("the accounting of what is archived: %v", err)
	}
	for _, bad := range []catalog.RecordKeeps{{"audit": "P1Y"}, {"batches": "PT1H"}, {"batches": "soon"},
		{"batches": ""}, {"segments": "P1D"}} {
		if _, err := s.Chores.SetRecordKeeps(t.Context(), "me", bad); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
	keeps, err := s.Chores.SetRecordKeeps(t.Context(), "me", catalog.RecordKeeps{"batches": "30 days",
		"plans": "forever"})
	if err != nil || keeps["batches"] != "P30D" || keeps["plans"] != "" || keeps["runs"] != "P10Y" {
		t.Errorf("%v, %v", keeps, err)
	}
	log, err := s.Catalog.AuditLog(t.Context(), catalog.AuditFilter{}, catalog.First(1))
	if err != nil || len(log) != 1 || !strings.Contains(log[0].Detail, "batches:P30D") {
		t.Errorf("%+v, %v", log, err)
	}
}
