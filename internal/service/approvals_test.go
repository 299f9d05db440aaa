package service

import (
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/plan"
)

// approver is somebody who may decide.
var approver = &Who{Name: "nora-quay", Role: rights.Approver}

// waits returns the request that waits.
func (n *nights) waits(t *testing.T) *catalog.Approval {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		list, err := n.Catalog.Approvals(t.Context(), catalog.ApprovalWaiting, catalog.First(2))
		if err != nil {
			t.Fatal(err)
		}
		if len(list) == 1 {
			return &list[0]
		}
	}
	t.Fatal("no request waits, or more than one")
	return nil
}

// A rule that fires waits for what its source demands, and its run begins when it has that. What nobody decides on
// within a week is over, and the next firing asks anew.
func TestAFiringWaitsForApproval(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 30)
	n.apply(t, "schedule: daily at 22:00\n", "scan")
	if err := n.Places.SetGuard(t.Context(), "me", "harbour", catalog.Guard{Approve: []string{"runs"}}); err != nil {
		t.Fatal(err)
	}
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	f := n.firings(t, "scan", 1)[0]
	if f.State != catalog.FiringAsking || !strings.Contains(f.Reason, "to approve it first") ||
		n.left(t, "scan") != 30 {
		t.Fatalf("%+v", f)
	}
	first := n.waits(t)
	if first.AskedBy != "schedule" || first.Rows != 30 || first.Rule != "scan" {
		t.Errorf("%+v", first)
	}
	n.set(time.Date(2026, 12, 8, 22, 0, 1, 0, time.UTC)) // nobody did
	n.tick(t)
	n.firings(t, "scan", 2)
	if _, err := n.Approvals.Decide(t.Context(), approver, first.ID, true, ""); err == nil {
		t.Error("a request is decided on that is over")
	}
	if err := n.Catalog.ExpireApprovals(t.Context()); err != nil {
		t.Fatal(err)
	}
	if a, err := n.Catalog.Approval(t.Context(), first.ID); err != nil || a.State != catalog.ApprovalExpired {
		t.Errorf("%+v, %v", a, err)
	}
	second := n.waits(t)
	a, err := n.Approvals.Decide(t.Context(), approver, second.ID, true, "")
	if err != nil || a.State != catalog.ApprovalUsed {
		t.Fatalf("%+v, %v", a, err)
	}
	r, err := n.Catalog.Runs(t.Context(), catalog.RunFilter{}, catalog.First(1))
	if err != nil || len(r) != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	if r := n.ended(t, r[0].ID); r.Deleted != 30 || r.StartedBy != "schedule" {
		t.Errorf("%+v", r)
	}
}

// The service ends between the last approval and what it was for: it begins at the next start, once.
func TestWhatWasApprovedBeginsAfterACrash(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 30)
	n.apply(t, "", "scan")
	if err := n.Places.SetGuard(t.Context(), "me", "harbour", catalog.Guard{Approve: []string{"runs"}}); err != nil {
		t.Fatal(err)
	}
	p, err := n.Engine.Plans.Make(t.Context(), "me", plan.PlanRequest{Rule: "scan"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Queue.StartRun(t.Context(), "me", p.ID, false); err == nil {
		t.Fatal("it runs at once")
	}
	w := n.waits(t)
	if a, err := n.Catalog.Vote(t.Context(), catalog.Vote{Approval: w.ID, Person: "nora-quay", Account: "nora-quay",
		Approves: true}); err != nil || a.State != catalog.ApprovalGranted {
		t.Fatalf("%+v, %v", a, err)
	}
	for range 2 {
		if err := n.Close(); err != nil {
			t.Fatal(err)
		}
		n.start(t)
	}
	for end := time.Now().Add(30 * time.Second); n.left(t, "scan") > 0; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			a, err := n.Catalog.Approval(t.Context(), w.ID)
			t.Fatalf("it does not begin: %+v, %v", a, err)
		}
	}
	if r, err := n.Catalog.Runs(t.Context(), catalog.RunFilter{}, catalog.First(5)); err != nil || len(r) != 1 ||
		r[0].StartedBy != "me" {
		t.Errorf("%+v, %v", r, err)
	}
}
