package catalog

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/source"
)

// The entries of an earlier version become a chain, in their order.
func TestAnOlderAuditLogBecomesAChain(t *testing.T) {
	path := old(t, t.TempDir(), 27)
	db, err := sqlx.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 2500 {
		if i == 40 {
			continue
		}
		if _, err := db.Exec("INSERT INTO audit VALUES (?, ?, 'administrator', 'run start', ?, ?)", i+1,
			At(time.Unix(1e9+int64(i), 0)), fmt.Sprint("r", i), "a plan"); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	c, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if err := c.Note(WithOrigin(t.Context(), Origin{Session: "s1", Address: "10.1.1.1"}), "desk", "run start", "x",
		"its plan"); err != nil {
		t.Fatal(err)
	}
	x, err := c.CheckAudit(t.Context(), nil, nil)
	// one was missing before it became a chain: entries are counted anew
	if err != nil {
		t.Fatal(err)
	}
	if x.Entries != 2500 || len(x.Faults) > 0 {
		t.Errorf("%d entries, %v (%v)", x.Entries, x.Faults, err)
	}
	list, err := c.AuditLog(t.Context(), AuditFilter{}, First(2))
	if err != nil || list[0].Session != "s1" || list[0].Address != "10.1.1.1" || list[0].Detail != "its plan" ||
		list[1].Subject != "r2499" || list[1].Detail != "a plan" {
		t.Errorf("%+v, %v", list, err)
	}
}

// Whoever changes the file behind the service's back is found, with the service and without.
func TestAChangedAuditLogIsFound(t *testing.T) {
	was := auditStretch
	t.Cleanup(func() { auditStretch = was })
	for _, auditStretch = range []int64{was, 5, 1} {
		t.Run(fmt.Sprint("in stretches of ", auditStretch), changedLog)
	}
}

func changedLog(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "catalog.db")
	c, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	var many sync.WaitGroup
	for i := range 40 {
		many.Go(func() {
			if err := c.Note(t.Context(), "desk", "test", fmt.Sprint(i), "détail"); err != nil {
				t.Error(err)
			}
		})
	}
	many.Wait()
	head, err := c.AuditHead(t.Context())
	if err != nil || head.Entry != 40 {
		t.Fatalf("%+v, %v", head, err)
	}
	if err := c.EraseDetail(t.Context(), "desk", 3, "somebody asked"); err != nil {
		t.Fatal(err)
	}
	if e, err := c.AuditEntry(t.Context(), 3); err != nil || !e.Erased || e.Detail != "" {
		t.Errorf("%+v, %v", e, err)
	}
	check := func() *audit.Checker {
		t.Helper()
		with, err := c.CheckAudit(t.Context(), []audit.Head{*head}, nil)
		if err != nil {
			t.Fatal(err)
		}
		without, err := CheckAuditFile(t.Context(), path, func(log string) ([]audit.Head, error) {
			if log != head.Log {
				t.Errorf("the log is called %s and %s", log, head.Log)
			}
			return []audit.Head{*head}, nil
		}, nil)
		if err != nil || len(with.Faults) != len(without.Faults) {
			t.Errorf("with the service %v, without %v (%v)", with.Faults, without.Faults, err)
		}
		return with
	}
	if x := check(); len(x.Faults) > 0 || x.Entries != 41 || x.Erased != 1 {
		t.Fatalf("%+v", x)
	}
	for _, x := range []struct{ do, want string }{
		{"UPDATE audit SET actor = 'nobody' WHERE id = 7", "entry 7 is not what"},
		{"UPDATE audit_detail SET text = 'other' WHERE entry = 9", "the detail of entry 9 is not"},
		{"UPDATE audit_detail SET text = '', erased = 8 WHERE entry = 9", "entry 8 does not record that"},
		{"DELETE FROM audit_detail WHERE entry = 9", "the detail of entry 9 is missing"},
		{"DELETE FROM audit WHERE id = 12", "entry 12 is missing"},
		{"DELETE FROM audit WHERE id >= 35", "a store knows entry 40"},
	} {
		tx, err := c.writes.Beginx()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := tx.Exec(x.do); err != nil {
			t.Fatal(err)
		}
		got, err := checkAudit(t.Context(), tx, 1, []audit.Head{*head}, nil)
		if err != nil || !strings.Contains(fmt.Sprint(got.Faults), x.want) {
			t.Errorf("%s: %v (%v)", x.do, got.Faults, err)
		}
		if err := tx.Rollback(); err != nil {
			t.Fatal(err)
		}
	}
	if x := check(); len(x.Faults) > 0 {
		t.Errorf("%v", x.Faults)
	}
	// What is done while it is checked is no fault.
	ctx, cancel := context.WithCancel(t.Context())
	many.Go(func() {
		for ctx.Err() == nil {
			c.Note(ctx, "desk", "test", "more", "") // until it is enough
		}
	})
	for range 5 {
		if x, err := c.CheckAudit(t.Context(), []audit.Head{*head}, nil); err != nil || len(x.Faults) > 0 {
			t.Errorf("%v, %v", x, err)
		}
	}
	cancel()
	many.Wait()
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
}

func TestEntriesAreFiltered(t *testing.T) {
	c := open(t)
	now := time.Unix(1e9, 0)
	c.Now = func() time.Time { return now }
	for i := range 60 {
		now = now.Add(time.Second)
		outcome := audit.OutcomeDone
		if i%7 == 0 {
			outcome = audit.OutcomeRefused
		}
		if err := c.NoteOutcome(t.Context(), fmt.Sprint("actor-", i%3), []string{"run start", "run cancel",
			"hold place"}[i%3],
			fmt.Sprint("s", i%5), outcome, ""); err != nil {
			t.Fatal(err)
		}
	}
	at := func(s int) *Time { x := At(time.Unix(1e9+int64(s), 0)); return &x }
	for _, x := range []struct {
		f    AuditFilter
		want int
	}{{AuditFilter{}, 60}, {AuditFilter{Actor: "actor-1"}, 20}, {AuditFilter{Kind: "run"}, 40},
		{AuditFilter{Kind: "ru"}, 0},
		{AuditFilter{Action: "hold place"}, 20}, {AuditFilter{Subject: "s3"}, 12},
		{AuditFilter{Outcome: audit.OutcomeRefused}, 9},
		{AuditFilter{Outcome: audit.OutcomeDone}, 51}, {AuditFilter{From: at(11), To: at(21)}, 10},
		{AuditFilter{Since: 55}, 5},
		{AuditFilter{Kind: "run", Actor: "actor-0", Outcome: audit.OutcomeFailed}, 0}} {
		list, err := c.AuditLog(t.Context(), x.f, All)
		n := 0
		if err == nil {
			err = c.EachEntry(t.Context(), x.f, func(some []Entry) error { n += len(some); return nil })
		}
		if err != nil || len(list) != x.want || n != x.want {
			t.Errorf("%+v: %d and %d entries, want %d (%v)", x.f, len(list), n, x.want, err)
		}
	}
}

// What somebody changed is recorded as it was before and as it is after, in the transaction that changes it.
func TestWhatWasBeforeAndAfterAChangeIsRecorded(t *testing.T) {
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	ctx := t.Context()
	rules := func(texts ...string) error {
		for _, text := range texts {
			docs, problems := rule.Parse("", []byte(text))
			if len(problems) > 0 {
				return fmt.Errorf("%v", problems)
			}
			if err := c.ApplyRules(ctx, "me", time.Now(), []Applied{{Document: docs[0]}}); err != nil {
				return err
			}
		}
		return nil
	}
	harbour := source.Config{Name: "harbour", Engine: "sqlite", Address: "/srv/harbour.db"}
	moved := harbour
	moved.Address = "/srv/other.db"
	cellar := Store{Name: "cellar", Kind: "directory", Path: "/srv/cellar"}
	deep := cellar
	deep.Second = "deep"
	_, keepsErr := c.SetRecordKeeps(ctx, "me", RecordKeeps{KeepBatches: "P30D"})
	_, err1 := c.SetRecipient(ctx, "me", notify.Recipient{Name: "desk", Address: "desk@harbour.example"})
	_, err2 := c.SetRecipient(ctx, "me", notify.Recipient{Name: "desk", Address: "quay@harbour.example"})
	one := "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: purge\n"
	if err := errors.Join(c.AddSource(ctx, "me", harbour), c.SetSource(ctx, "me", harbour, moved),
		c.AddStore(ctx, "me", cellar), c.SetStore(ctx, "me", deep), keepsErr, err1, err2,
		c.DeleteRecipient(ctx, "me", "desk"), rules(one, strings.Replace(one, "P1Y", "P2Y", 1)),
		c.ChangeSetting(ctx, "me", "queue limits", "limits", "two", "three"),
		c.ChangeSetting(ctx, "me", "queue limits", "limits", "two", "four")); err != nil {
		t.Fatal(err)
	}
	for action, want := range map[string][2]string{
		"source set":       {"/srv/harbour.db", "/srv/other.db"},
		"source add":       {nothing, "/srv/harbour.db"},
		"store set":        {"/srv/cellar", `"Second":"deep"`},
		"store add":        {nothing, "/srv/cellar"},
		"recipient delete": {"quay@harbour.example", nothing},
		"recipient set":    {"desk@harbour.example", "quay@harbour.example"},
		"catalog keep":     {`"batches":"P90D"`, `"batches":"P30D"`},
		"rule apply":       {"keep: P1Y", "keep: P2Y"},
		"queue limits":     {"three", "four"},
	} {
		list, err := c.AuditLog(ctx, AuditFilter{Action: action}, First(1))
		if err != nil || len(list) == 0 {
			t.Errorf("%s: %+v, %v", action, list, err)
			continue
		}
		_, both, _ := strings.Cut(list[0].Detail, "before: ")
		before, after, _ := strings.Cut(both, "; after: ")
		if !strings.Contains(before, want[0]) || !strings.Contains(after, want[1]) {
			t.Errorf("%s: %q", action, list[0].Detail)
		}
	}
	first, err := c.AuditLog(ctx, AuditFilter{Action: "queue limits"}, All)
	if err != nil || !strings.Contains(first[1].Detail, "before: two; after: three") {
		t.Errorf("%+v, %v", first, err)
	}
}
