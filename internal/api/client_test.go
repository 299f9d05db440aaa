package api

import (
	"testing"

	"ambercellar/client"
	"ambercellar/internal/catalog"
)

// What the client says by hand is what the service means by it.
func TestTheClientMeansTheSame(t *testing.T) {
	if client.NotCounted != catalog.NotCounted || client.UsualDays != catalog.UsualDays {
		t.Error("numbers differ")
	}
	for theirs, ours := range map[string]string{
		client.TargetTable: catalog.TargetTable, client.TargetSide: catalog.TargetSide,
		client.TargetFile: catalog.TargetFile, client.KindErasure: catalog.KindErasure,
		client.KeepBatches: catalog.KeepBatches, client.KeepSlowdowns: catalog.KeepSlowdowns,
		client.KeepPlans: catalog.KeepPlans, client.KeepRuns: catalog.KeepRuns,
		client.KeepVerifications: catalog.KeepVerifications, client.KeepRetrievals: catalog.KeepRetrievals,
	} {
		if theirs != ours {
			t.Errorf("%s is %s to the service", theirs, ours)
		}
	}
	for _, s := range []catalog.RunState{catalog.Queued, catalog.Running, catalog.Paused, catalog.Resting,
		catalog.Failed, catalog.Copied, catalog.Done, catalog.Cancelled} {
		if client.RunState(s).Ended() != s.Ended() {
			t.Errorf("whether a run that is %s has ended is told otherwise", s)
		}
	}
	l := catalog.Ledger{Unlinked: 1, Changed: 2, Vanished: 4, Held: 8, Skipped: 16}
	if x := (client.Ledger{Unlinked: 1, Changed: 2, Vanished: 4, Held: 8, Skipped: 16}); x.LeftOut() != l.LeftOut() {
		t.Errorf("%d rows are left out, %d to the service", x.LeftOut(), l.LeftOut())
	}
}
