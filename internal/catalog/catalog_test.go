package catalog

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"

	"github.com/jmoiron/sqlx"
)

func open(t *testing.T) *Catalog {
	t.Helper()
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog 1%.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// filled is a catalog with a source, a rule and a plan.
func filled(t *testing.T) *Catalog {
	t.Helper()
	c := open(t)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(c.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite", Address: "x",
		Connections: 4}))
	must(c.ApplyRules(t.Context(), "me", time.Now(),
		[]Applied{{Document: rule.Document{Rule: rule.Rule{RuleSubject: rule.RuleSubject{Name: "r", Source: "harbour",
			Table: "t"}}, Text: "a"},
			Changes: []string{"new"}}}))
	must(c.AddPlan(t.Context(), &Plan{ID: "p", Rule: "r", Revision: 1, Source: "harbour", Table: "t",
		Shape: JSON[shape.Table]{shape.Table{TableForm: shape.TableForm{Name: "t"}}}}))
	return c
}

func TestRulesKeepEveryRevision(t *testing.T) {
	c := filled(t)
	if err := c.ApplyRules(t.Context(), "me", time.Now(),
		[]Applied{{Document: rule.Document{Rule: rule.Rule{RuleSubject: rule.RuleSubject{Name: "r", Source: "harbour",
			Table: "t2"}}, Text: "b"},
			Changes: []string{"table"}}}); err != nil {
		t.Fatal(err)
	}
	r, err := c.Rule(t.Context(), "r")
	if err != nil || r.Revision != 2 || r.Text != "b" || r.Table != "t2" {
		t.Errorf("the rule is %+v, %v", r, err)
	}
	v, err := c.Revisions(t.Context(), "r")
	if err != nil || len(v) != 2 || v[1].Text != "a" || v[0].Changes.V[0] != "table" {
		t.Errorf("its revisions are %+v, %v", v, err)
	}
	two := []Applied{{Document: rule.Document{Rule: rule.Rule{RuleSubject: rule.RuleSubject{Name: "s",
		Source: "harbour", Table: "t3"}}}},
		{Document: rule.Document{Rule: rule.Rule{RuleSubject: rule.RuleSubject{Name: "u", Source: "harbour",
			Table: "t3"}}}}}
	if err := c.ApplyRules(t.Context(), "me", time.Now(), two); err == nil {
		t.Error("two rules for one table passed")
	}
	if _, err := c.Rule(t.Context(), "s"); !errors.Is(err, ErrNotFound) {
		t.Errorf("half of a refused file stayed: %v", err)
	}
}

func TestOnlyAllowedStatesFollow(t *testing.T) {
	c := filled(t)
	run := &Run{RunOrder: RunOrder{ID: "1", Plan: "p", Rule: "r", Source: "harbour", Table: "t"},
		RunStanding: RunStanding{State: Queued}}
	if err := c.AddRun(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	if err := c.AddRun(t.Context(), "me",
		&Run{RunOrder: RunOrder{ID: "2", Plan: "p", Rule: "r", Source: "harbour", Table: "t"},
			RunStanding: RunStanding{State: Queued}}); !errors.Is(err, ErrActive) {
		t.Errorf("a second run of the table: %v", err)
	}
	for _, step := range []struct {
		to RunState
		ok bool
	}{{Done, false}, {Running, true}, {Queued, false}, {Paused, true}, {Done, false}, {Queued, true}, {Running, true},
		{Failed, true}, {Queued, true}, {Running, true}, {Done, true}, {Running, false}, {Cancelled, false}} {
		_, err := c.SetRunState(t.Context(), "me", "1", step.to, "")
		if (err == nil) != step.ok || err != nil && !errors.Is(err, ErrState) {
			t.Fatalf("to %s: %v, want ok %v", step.to, err, step.ok)
		}
	}
	r, err := c.Run(t.Context(), "1")
	if err != nil || r.EndedAt == nil || r.StartedAt == nil || !r.State.Ended() {
		t.Errorf("the ended run is %+v, %v", r, err)
	}
	if err := c.AddRun(t.Context(), "me",
		&Run{RunOrder: RunOrder{ID: "2", Plan: "p", Rule: "r", Source: "harbour", Table: "t"},
			RunStanding: RunStanding{State: Queued}}); err != nil {
		t.Errorf("after the end of the first run: %v", err)
	}
}

func TestSegmentsAndTheirChain(t *testing.T) {
	c := filled(t)
	s := &Segment{SegmentOrigin: SegmentOrigin{ID: "a", Run: "1", Number: 1, Source: "harbour", Table: "t",
		Store: "cellar", Stem: "x", State: SegmentWriting}}
	if err := c.AddSegment(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	s.State = SegmentClosed
	if err := c.SaveSegment(t.Context(), s); !errors.Is(err, ErrState) {
		t.Errorf("from writing to closed: %v", err)
	}
	s.State, s.Sequence, s.ManifestHash = SegmentOpen, 7, "m"
	if err := c.SaveSegment(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	s.State, s.ClosingSeq, s.ClosingHash = SegmentClosed, 9, "c"
	if err := c.SaveSegment(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	if n, hash, err := c.LastLink(t.Context(), "harbour", "t"); n != 9 || hash != "c" || err != nil {
		t.Errorf("the newest link is %d %q, %v", n, hash, err)
	}
	if n, _, err := c.LastLink(t.Context(), "harbour", "other"); n != 0 || err != nil {
		t.Errorf("a table without segments has link %d, %v", n, err)
	}
	found, err := c.LinkSegment(t.Context(), "harbour", "t", 7)
	if err != nil || found.ID != "a" {
		t.Errorf("link 7 is of %+v, %v", found, err)
	}
}

// TestACatalogOfTheFirstVersionIsTakenOver makes a catalog as the first version left it, with a plan and a run that
// waits, and opens it.
func TestACatalogOfTheFirstVersionIsTakenOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "catalog.db")
	db, err := sqlx.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	provider, err := upgrades(db)
	if err == nil {
		_, err = provider.UpTo(t.Context(), 1)
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(`INSERT INTO source VALUES ('harbour', 'sqlite', 'x', '', '', '', '', 4);
		INSERT INTO plan VALUES ('p', 'scans', 1, 'harbour', 'scan', '2025-01-01T00:00:00Z', '2026-01-01T00:00:00Z',
			'{"counted":true,"due":7,"total":9}', 1, 1, '[]', '{}');
		INSERT INTO run (id, plan, rule, revision, source, table_name, action, store, pace, cutoff, due, state,
			created_at) VALUES ('r', 'p', 'scans', 1, 'harbour', 'scan', 'archive', 'cellar', 'gentle',
			'2025-01-01T00:00:00Z', 7, 'paused', '2026-01-01T00:00:00Z')`); err != nil {
		t.Fatal(err)
	}
	db.Close()
	c, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	p, err := c.Plan(t.Context(), "p")
	if err != nil || p.Counts.V.Due != 7 || !p.Counts.V.Counted || len(p.Detail.V.Clauses) != 0 {
		t.Errorf("the plan is %+v, %v", p, err)
	}
	r, err := c.Run(t.Context(), "r")
	if err != nil || len(r.Passes.V) != 0 || r.State != Paused || r.Deleting {
		t.Errorf("the run is %+v, %v", r, err)
	}
	if _, err := c.SetRunState(t.Context(), "me", "r", Copied, ""); !errors.Is(err, ErrState) {
		t.Errorf("a paused run became copied: %v", err)
	}
	h := &Hold{ID: "h", Source: "harbour", Table: "scan", Filter: "id = 1", Segments: JSON[[]string]{V: []string{}},
		Reference: "c", Reason: "r", PlacedAt: At(time.Now()), PlacedBy: "me"}
	if err := c.AddHold(t.Context(), h); err != nil {
		t.Fatal(err)
	}
	if list, err := c.TableHolds(t.Context(), "harbour", "scan"); err != nil || len(list) != 1 {
		t.Errorf("holds: %+v, %v", list, err)
	}
	if _, err := c.LiftHold(t.Context(), "me", "h", "over", time.Now()); err != nil {
		t.Fatal(err)
	}
	if list, err := c.Holds(t.Context(), false); err != nil || len(list) != 0 {
		t.Errorf("after lifting: %+v, %v", list, err)
	}
}

// Many who write at a time take turns, and none is turned away; those who read meanwhile see what is there.
func TestWritersTakeTurns(t *testing.T) {
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	var group sync.WaitGroup
	for i := range 60 {
		group.Go(func() {
			for j := range 10 {
				if i%3 == 0 {
					if _, err := c.AuditLog(t.Context(), AuditFilter{}, First(5)); err != nil {
						t.Error(err)
					}
				} else if err := c.Note(t.Context(), "me", "test", fmt.Sprint(i), fmt.Sprint(j)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	group.Wait()
	if log, err := c.AuditLog(t.Context(), AuditFilter{}, All); err != nil || len(log) != 400 {
		t.Errorf("%d lines, %v", len(log), err)
	}
}

func TestACatalogThatCannotBeOpenedSaysWhatToDo(t *testing.T) {
	whole := filepath.Join(t.TempDir(), "catalog.db")
	c, err := Open(t.Context(), whole)
	if err == nil {
		err = c.Close()
	}
	good, reading := os.ReadFile(whole)
	if err = errors.Join(err, reading); err != nil {
		t.Fatal(err)
	}
	for name, x := range map[string]struct {
		content []byte
		says    string
	}{
		"no catalog": {bytes.Repeat([]byte("ferry"), 9999), "the file is no catalog: stop the service"},
		"damaged": {append(bytes.Clone(good[:4096]), bytes.Repeat([]byte{7}, len(good)-4096)...),
			"the file is damaged: stop"},
	} {
		path := filepath.Join(t.TempDir(), "catalog.db")
		if err := os.WriteFile(path, x.content, 0o600); err != nil {
			t.Fatal(err)
		}
		if c, err := Open(t.Context(), path); err == nil || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v", name, err)
			if c != nil {
				c.Close()
			}
		}
	}
}
