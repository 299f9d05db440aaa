package catalog

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/notify"
)

// all lists the states of a flow.
func (f flow[S]) all() []S { return append(f.alive(), f.over()...) }

func TestEveryStateHasItsPlace(t *testing.T) {
	flows := map[string][]string{}
	add := func(name string, states ...string) { flows[name] = states }
	texts := func(n int, at func(int) string) (out []string) {
		for i := range n {
			out = append(out, at(i))
		}
		return out
	}
	for _, x := range []struct {
		name string
		all  []string
		over []string
	}{
		{"run", texts(len(afterRun.all()), func(i int) string { return string(afterRun.all()[i]) }),
			[]string{"cancelled", "done"}},
		{"part", texts(len(afterPart.all()), func(i int) string { return string(afterPart.all()[i]) }),
			[]string{"left", "rows"}},
		{"segment", texts(len(afterSegment.all()), func(i int) string { return string(afterSegment.all()[i]) }),
			[]string{"abandoned", "disposed"}},
		{"restore", texts(len(afterRestore.all()), func(i int) string { return string(afterRestore.all()[i]) }),
			[]string{"expired", "failed", "refused"}},
		{"retrieval", texts(len(afterRetrieval.all()), func(i int) string { return string(afterRetrieval.all()[i]) }),
			[]string{"failed", "over"}},
		{"verification", texts(len(afterVerification.all()),
			func(i int) string { return string(afterVerification.all()[i]) }), []string{"done", "failed"}},
		{"disposal", texts(len(afterDisposal.all()), func(i int) string { return string(afterDisposal.all()[i]) }),
			[]string{"cancelled", "done"}},
	} {
		add(x.name, x.all...)
		if ends := x.all[len(x.all)-len(x.over):]; !slices.Equal(ends, x.over) {
			t.Errorf("a %s ends as %v, not as %v", x.name, ends, x.over)
		}
	}
	for name, states := range flows {
		if len(slices.Compact(slices.Sorted(slices.Values(states)))) != len(states) {
			t.Errorf("%s: a state stands twice in %v", name, states)
		}
	}
}

// What the index of active runs leaves out is what has ended, and nothing else.
func TestATableHasOneRunThatHasNotEnded(t *testing.T) {
	ctx := context.Background()
	c, err := Open(ctx, filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	now := At(time.Now())
	if _, err := c.writes.Exec("PRAGMA foreign_keys = off"); err != nil {
		t.Fatal(err)
	}
	insert := func(id, table string, s RunState) error {
		_, err := c.writes.Exec(`INSERT INTO run (id, plan, rule, revision, source, table_name, action, store, `+
			`pace, cutoff, due, state, created_at) VALUES (?, 'p', 'r', 1, 's', ?, 'archive', 'v', 'steady', ?, 0, `+
			`?, ?)`, id, table, now, s, now)
		return err
	}
	for _, s := range afterRun.all() {
		table := "table_" + string(s)
		if err := insert("first-"+string(s), table, s); err != nil {
			t.Fatal(err)
		}
		err := c.AddRun(ctx, "somebody",
			&Run{RunOrder: RunOrder{ID: "added-" + string(s), Plan: "p", Rule: "r", Source: "s", Table: table,
				Cutoff: now, CreatedAt: now},
				RunStanding: RunStanding{State: Queued}})
		if s.Ended() && err != nil || !s.Ended() && !errors.Is(err, ErrActive) {
			t.Errorf("beside a run that is %s, another one: %v", s, err)
		}
		for _, other := range ActiveRuns() { // the index itself, whoever asks
			err := insert(fmt.Sprintf("%s-%s", s, other), table, other)
			if err == nil || !strings.Contains(err.Error(), "UNIQUE") {
				t.Errorf("the index lets a run that is %s stand beside one that is %s: %v", other, s, err)
			}
		}
	}
}

// A record that was read before it changed does not take that back.
func TestAStaleRecordDoesNotTurnAStateBack(t *testing.T) {
	ctx := context.Background()
	c, err := Open(ctx, filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	now := At(time.Now())
	r := &Restore{RestoreOrder: RestoreOrder{ID: "one", Source: "s", Table: "t", Target: "table", CreatedAt: now,
		CreatedBy: "somebody", Tell: "mail"},
		RestoreStanding: RestoreStanding{State: Restoring}}
	if err := c.AddRestore(ctx, r); err != nil {
		t.Fatal(err)
	}
	r.State = RestoreDone
	if err := c.SaveRestore(ctx, r); err != nil {
		t.Fatal(err)
	}
	before := *r
	r.Reason = "kept once more" // which is not another end
	if err := c.SaveRestore(ctx, r); err != nil {
		t.Fatal(err)
	}
	var ends []string
	if err := c.db.Select(&ends, "SELECT actor || ': ' || action || ', ' || outcome FROM audit WHERE action IN "+
		"('restore done', 'restore failed')"); err != nil ||
		!slices.Equal(ends, []string{"service: restore done, done"}) {
		t.Errorf("the audit log has of its end %q (%v)", ends, err)
	}
	r.State, r.Reason = RestoreExpired, ""
	if err := c.SaveRestore(ctx, r); err != nil {
		t.Fatal(err)
	}
	before.Reason = "late"
	if err := c.SaveRestore(ctx, &before); !errors.Is(err, ErrState) {
		t.Errorf("a restore that has expired is done again: %v", err)
	}
	told := NewDelivery(
		&notify.Recipient{Address: "keeper@harbour.example"},
		notify.Notice{Record: "one"},
		false,
		now.Time,
	)
	told.State, told.EndedAt = DeliverySent, &now
	if err := errors.Join(c.Deliver(ctx, told), c.SaveDelivery(ctx, &told)); err != nil {
		t.Fatal(err)
	}
	if got, err := c.Restore(ctx, "one"); err != nil || got.State != RestoreExpired || got.ToldAt == nil ||
		got.Reason != "" {
		t.Errorf("after that it is %+v, %v", got, err)
	}
	v := &Verification{VerificationOrder: VerificationOrder{ID: "two", CreatedAt: now},
		VerificationStanding: VerificationStanding{State: Verifying}}
	if err := c.AddVerification(ctx, v); err != nil {
		t.Fatal(err)
	}
	v.State = VerificationDone
	if err := c.SaveVerification(ctx, v); err != nil {
		t.Fatal(err)
	}
	v.State = Verifying
	if err := c.SaveVerification(ctx, v); !errors.Is(err, ErrState) {
		t.Errorf("a verification that is done goes on: %v", err)
	}
}
