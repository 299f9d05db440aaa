package service

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/upkeep"
)

// cellar archives rows of a table, so that they can be restored.
func (n *nights) cellar(t *testing.T, table string, rows int) {
	t.Helper()
	n.rows(t, table, rows)
	text := fmt.Sprintf("rule: %s\nsource: harbour\ntable: %[1]s\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\n"+
		"then: archive\narchive: {store: cellar, keep: P1D}\npace: unlimited\n", table)
	if _, problems, err := n.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(text), ""); err != nil ||
		rule.Fatal(problems) {
		t.Fatal(problems, err)
	}
	p, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: table})
	if err != nil {
		t.Fatal(err)
	}
	r, err := n.Queue.StartRun(t.Context(), "me", p.ID, false)
	if err != nil {
		t.Fatal(err)
	}
	if r = n.ended(t, r.ID); r.State != catalog.Done || n.left(t, table) != 0 {
		t.Fatalf("%+v", r)
	}
}

// jobs writes the line of jobs: kind and position of each.
func (n *nights) jobs() string {
	var out []string
	for _, x := range n.Jobs.Line() {
		out = append(out, fmt.Sprintf("%s %d", x.Kind, x.Position))
	}
	return strings.Join(out, ", ")
}

// restored waits until a restore is in a state.
func (n *nights) restored(t *testing.T, id string, want catalog.RestoreState) *catalog.Restore {
	t.Helper()
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		r, err := n.Catalog.Restore(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if r.State == want {
			return r
		}
		if time.Since(begun) > 3*time.Minute {
			t.Fatalf("restore %s is %s: %s; %s", id, r.State, r.Reason, n.jobs())
		}
	}
}

func TestJobsTakeTheirTurns(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth")
	n.cellar(t, "scan", 40_000)
	n.cellar(t, "berth", 1000)
	ask := func(table, target string) string {
		t.Helper()
		r, err := n.Queue.RequestRestore(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
			Scope: catalog.Scope{All: true},
			Table: table, Target: target, Format: map[string]string{"file": "csv"}[target]})
		if err != nil {
			t.Fatal(err)
		}
		return r.ID
	}
	if _, err := n.Queue.SetLimits(t.Context(), "me", QueueLimits{All: 2, Source: 2, Restores: 1,
		Exports: 1}); err != nil {
		t.Fatal(err)
	}
	pause := func(kind catalog.JobKind, id string) {
		t.Helper()
		if err := n.Jobs.Pause(t.Context(), "me", kind, id); err != nil {
			t.Fatal(err)
		}
	}
	first := ask("scan", "table")
	pause(catalog.JobRestore, first)
	second := ask("berth", "table")
	third := ask("scan", "file")
	n.restored(t, second, catalog.RestoreDone)
	n.restored(t, third, catalog.RestoreDone)
	if got := n.jobs(); got != "restore 1" {
		t.Errorf("the jobs: %s", got)
	}
	if why := n.Jobs.Line()[0].Why; !strings.HasPrefix(why, "paused by me") {
		t.Errorf("it waits as %q", why)
	}
	if n.left(t, "berth") != 1000 {
		t.Error("the second was not restored")
	}
	n.restart(t) // it stays paused
	time.Sleep(50 * time.Millisecond)
	if got := n.jobs(); got != "restore 1" {
		t.Errorf("the jobs after another start: %s", got)
	}
	var errs []error
	errs = append(errs, n.Jobs.Pause(t.Context(), "me", catalog.JobRestore, first)) // it is
	errs = append(errs, n.Jobs.Pause(t.Context(), "me", catalog.JobRestore, "none"))
	errs = append(errs, n.Jobs.Pause(t.Context(), "me", "dream", first))
	errs = append(errs, n.Jobs.SetPriority(t.Context(), "me", catalog.JobRestore, first, 101))
	errs = append(errs, n.Jobs.Cancel(t.Context(), "me", catalog.JobRestore, second)) // it has ended
	for i, err := range errs {
		if err == nil {
			t.Errorf("%d was taken", i)
		}
	}
	if err := n.Jobs.Resume(t.Context(), "me", catalog.JobRestore, first); err != nil {
		t.Fatal(err)
	}
	r := n.restored(t, first, catalog.RestoreDone)
	if r.Restored != 40_000 || n.left(t, "scan") != 40_000 {
		t.Errorf("%+v", r)
	}
	if got := n.jobs(); got != "" {
		t.Errorf("the jobs: %s", got)
	}
}

// Priorities, and one that is cancelled before and while it works.
func TestJobsGoByPriority(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.cellar(t, "scan", 60_000)
	if _, err := n.Queue.SetLimits(t.Context(), "me", QueueLimits{All: 2, Source: 2, Restores: 1,
		Exports: 1}); err != nil {
		t.Fatal(err)
	}
	var ids []string
	for i := range 5 {
		r, err := n.Queue.RequestRestore(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
			Scope: catalog.Scope{All: true},
			Table: "scan", Target: "file", Format: "csv"})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, r.ID)
		if i == 0 {
			if err := n.Jobs.Pause(t.Context(), "me", catalog.JobExport, r.ID); err != nil {
				// it may have been quicker
				if !errors.Is(err, catalog.ErrState) {
					t.Fatal(err)
				}
			}
		}
	}
	if err := n.Jobs.SetPriority(t.Context(), "me", catalog.JobExport, ids[4], 50); err != nil &&
		!errors.Is(err, catalog.ErrState) {
		t.Fatal(err)
	}
	if err := n.Jobs.Cancel(t.Context(), "me", catalog.JobExport, ids[3]); err != nil {
		t.Fatal(err)
	}
	r := n.restored(t, ids[3], catalog.RestoreFailed)
	if !strings.HasPrefix(r.Reason, "cancelled by me") {
		t.Errorf("%+v", r)
	}
	for _, i := range []int{1, 2, 4} {
		n.restored(t, ids[i], catalog.RestoreDone)
	}
	last, two := n.restored(t, ids[4], catalog.RestoreDone), n.restored(t, ids[2], catalog.RestoreDone)
	if last.EndedAt.After(two.EndedAt.Time) {
		t.Error("the one with the higher priority came later")
	}
	if err := n.Jobs.Cancel(t.Context(), "me", catalog.JobExport, ids[0]); err != nil {
		t.Fatal(err)
	}
	n.restored(t, ids[0], catalog.RestoreFailed)
	if files, err := filepath.Glob(filepath.Join(n.dir, "data", "restores", "*")); err != nil || len(files) != 3 {
		t.Errorf("files %q, %v", files, err)
	}
}

// A verification that is paused waits where it is and lets another work; one whose turn had not come is taken up after
// a restart.
func TestVerificationsWait(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.cellar(t, "scan", 5000)
	ask := func() string {
		t.Helper()
		v, err := n.Queue.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{Store: "cellar"})
		if err != nil {
			t.Fatal(err)
		}
		return v.ID
	}
	wait := func(id string, want catalog.VerificationState) *catalog.Verification {
		t.Helper()
		for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
			v, err := n.Catalog.Verification(t.Context(), id)
			if err != nil {
				t.Fatal(err)
			}
			if v.State == want {
				return v
			}
			if time.Since(begun) > 2*time.Minute {
				t.Fatalf("%+v; %s", v, n.jobs())
			}
		}
	}
	// One job fills the only place, so that what is asked for waits.
	gate := make(chan struct{})
	n.Jobs.mu.Lock()
	n.Jobs.jobs[jobName{catalog.JobVerification, "plug"}] = &job{
		JobTurn: catalog.JobTurn{Kind: catalog.JobVerification,
			ID: "plug"}, cancel: func(error) {}, done: gate}
	n.Jobs.mu.Unlock()
	waits := ask()
	if got := n.jobs(); got != "verification 0, verification 1" {
		t.Fatalf("the jobs: %s", got)
	}
	if err := n.Jobs.Pause(t.Context(), "me", catalog.JobVerification, waits); err != nil {
		t.Fatal(err)
	}
	n.restart(t)
	if got := n.jobs(); got != "verification 1" {
		t.Fatalf("the jobs after another start: %s", got)
	}
	other := ask()
	if v := wait(other, catalog.VerificationDone); v.Segments == 0 {
		t.Errorf("%+v", v)
	}
	if err := n.Jobs.Resume(t.Context(), "me", catalog.JobVerification, waits); err != nil {
		t.Fatal(err)
	}
	if v := wait(waits, catalog.VerificationDone); v.Segments == 0 || v.Wrong != 0 {
		t.Errorf("%+v", v)
	}
	// In the middle: it stops before its next step, and another takes its place.
	middle := ask()
	err := n.Jobs.Pause(t.Context(), "me", catalog.JobVerification, middle)
	if err == nil {
		last := ask()
		wait(last, catalog.VerificationDone)
		if err := n.Jobs.Cancel(t.Context(), "me", catalog.JobVerification, middle); err != nil &&
			!errors.Is(err, catalog.ErrState) {
			t.Fatal(err)
		}
		if v, err := n.Catalog.Verification(t.Context(), middle); err != nil || v.State == catalog.Verifying {
			t.Errorf("%+v, %v", v, err)
		}
	} else if !errors.Is(err, catalog.ErrState) { // it was quicker
		t.Fatal(err)
	}
	if got := n.jobs(); got != "" {
		t.Errorf("the jobs: %s", got)
	}
}

// Whatever is done to jobs, in whatever order, each ends, and rows come back once.
func TestJobsUnderAttack(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	const rows = 20_000
	n.cellar(t, "scan", rows)
	seed := time.Now().UnixNano()
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(uint64(seed), 1))
	kinds := map[string]catalog.JobKind{}
	var ids []string
	ask := func(target string) {
		t.Helper()
		kind, format := catalog.JobRestore, ""
		if target == "file" {
			kind, format = catalog.JobExport, "csv"
		}
		r, err := n.Queue.RequestRestore(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
			Scope: catalog.Scope{All: true}, Table: "scan", Target: target, Format: format})
		if err != nil {
			t.Fatal(err)
		}
		kinds[r.ID], ids = kind, append(ids, r.ID)
	}
	for _, target := range []string{"table", "file", "file", "table", "file"} {
		ask(target)
	}
	var frozen string
	cancelled := map[string]bool{}
	for range 150 {
		id := ids[random.IntN(len(ids))]
		kind := kinds[id]
		var err error
		switch random.IntN(9) {
		case 0, 1:
			err = n.Jobs.Pause(t.Context(), "me", kind, id)
		case 2, 3:
			err = n.Jobs.Resume(t.Context(), "me", kind, id)
		case 4:
			err = n.Jobs.SetPriority(t.Context(), "me", kind, id, random.IntN(200)-100)
		case 5:
			_, err = n.Queue.SetLimits(t.Context(), "me", QueueLimits{All: 2, Source: 2, Restores: 1 + random.IntN(2),
				Exports: 1 + random.IntN(3)})
		case 6:
			if frozen == "" {
				var f *catalog.Freeze
				if f, err = n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Reason: "an attack"}); err == nil {
					frozen = f.ID
				}
			} else {
				_, err = n.Freezes.Lift(t.Context(), "me", frozen, "")
				frozen = ""
			}
		case 7:
			if random.IntN(4) == 0 {
				if err = n.Jobs.Cancel(t.Context(), "me", kind, id); err == nil {
					cancelled[id] = true
				}
			}
		case 8:
			if random.IntN(5) == 0 {
				n.restart(t)
			}
		}
		if err != nil && !errors.Is(err, catalog.ErrState) {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(random.IntN(10)) * time.Millisecond)
	}
	if frozen != "" {
		if _, err := n.Freezes.Lift(t.Context(), "me", frozen, ""); err != nil {
			t.Fatal(err)
		}
	}
	for _, x := range n.Jobs.Line() {
		if x.PausedAt != nil {
			if err := n.Jobs.Resume(t.Context(), "me", x.Kind, x.ID); err != nil && !errors.Is(err, catalog.ErrState) {
				t.Fatal(err)
			}
		}
	}
	whole := false
	for _, id := range ids {
		for begun := time.Now(); ; time.Sleep(10 * time.Millisecond) {
			r, err := n.Catalog.Restore(t.Context(), id)
			if err != nil {
				t.Fatal(err)
			}
			if r.State == catalog.RestoreDone || r.State == catalog.RestoreFailed {
				if (r.State == catalog.RestoreFailed) != cancelled[id] {
					t.Errorf("%s %s is %s: %s; cancelled %t", kinds[id], id, r.State, r.Reason, cancelled[id])
				}
				whole = whole || r.State == catalog.RestoreDone && kinds[id] == catalog.JobRestore
				break
			}
			if time.Since(begun) > 3*time.Minute {
				t.Fatalf("%s %s is %s: %s; %s", kinds[id], id, r.State, r.Reason, n.jobs())
			}
		}
	}
	if left := n.left(t, "scan"); left > rows || whole && left != rows {
		t.Errorf("%d rows are back of %d, by a whole restore: %t", left, rows, whole)
	}
	for begun := time.Now(); n.jobs() != ""; time.Sleep(10 * time.Millisecond) {
		if time.Since(begun) > 90*time.Second {
			t.Fatalf("the jobs: %s", n.jobs())
		}
	}
}

// TestACancelledJobLeavesNothingToTheNext: jobs of one name are asked for and cancelled side by side, again and again.
// The next one is not paused by what was said of one before.
func TestACancelledJobLeavesNothingToTheNext(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	ask := func() <-chan struct{} {
		_, tried := n.Jobs.enter(t.Context(), catalog.JobMove, "S", JobOrder{Asked: n.Now(), By: "me"}, jobWork{
			do: func(ctx context.Context) error {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(time.Millisecond):
					return nil
				}
			},
			end: func(string) error { return nil },
		})
		return tried
	}
	for round := range 300 {
		ask()
		cancelled := make(chan struct{})
		go func() {
			defer close(cancelled)
			n.Jobs.Cancel(t.Context(), "me", catalog.JobMove, "S") // it may have ended
		}()
		for over := false; !over; {
			select {
			case <-cancelled:
				over = true
			default:
				ask()
			}
		}
		for begun := time.Now(); n.jobs() != ""; time.Sleep(100 * time.Microsecond) {
			if time.Since(begun) > 10*time.Second {
				t.Fatalf("round %d: there stays %q: %+v", round, n.jobs(), n.Jobs.Line())
			}
		}
	}
}
