package engine

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/source"
)

// halting is a database behind whose n-th batch of restored rows the service ends: before the batch was committed, or
// right after.
type halting struct {
	source.Source
	left  int
	after bool
	end   context.CancelCauseFunc
}

func (x *halting) Unwrap() source.Source { return x.Source }

func (h *halting) Restore(ctx context.Context, q source.RestoreRequest) (*source.RestoreOutcome, error) {
	if h.left--; h.left > 0 {
		return h.Source.Restore(ctx, q)
	}
	if h.after {
		if out, err := h.Source.Restore(ctx, q); err != nil {
			return out, err
		}
	} else if q.Replace != nil { // what is about to be replaced was kept, and is not replaced
		replace := q.Replace
		defer func() { q.Replace = replace }()
	}
	h.end(refuse.ErrShutdown)
	return nil, refuse.ErrShutdown
}

// TestARestoreThatReplacesGoesOnWhereItStopped: wherever the service ends, each replaced row stands once in the file,
// no live row is in neither table nor file, and the counts are right.
func TestARestoreThatReplacesGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	for _, conflicts := range []string{restore.ConflictsReplace, restore.ConflictsSkip} {
		for _, after := range []bool{false, true} {
			stopped := 0
			for n := 1; n < 6; n++ {
				b := newBench(t, "wal")
				b.finish(t, plan.PlanRequest{})
				b.exec(t, "INSERT INTO scan SELECT value, '2026-11-01', 'live ' || value FROM json_each('["+
					numbersTo(750)+"]')")
				inner := mustSource(t, b)
				r, err := b.Restores.Request(t.Context(), "me", restore.RestoreRequest{Source: "harbour",
					Table: "scan", Scope: catalog.Scope{Where: "id <= 1000"}, Target: catalog.TargetTable,
					Conflicts: conflicts, Pace: "careful"})
				if err != nil {
					t.Fatal(err)
				}
				dir := t.TempDir()
				ctx, end := context.WithCancelCause(t.Context())
				h := &halting{Source: inner, left: n, after: after, end: end}
				b.Source = func(context.Context, string) (source.Source, error) { return h, nil }
				err = b.Restores.Restore(ctx, r, dir)
				end(nil)
				b.Source = func(context.Context, string) (source.Source, error) { return inner, nil }
				what := fmt.Sprintf("%s, batch %d, committed %v", conflicts, n, after)
				through := err == nil
				if !through {
					stopped++
					// the kill cuts a line
					if file := filepath.Join(dir, restore.ReplacedFile(r.ID)); conflicts == restore.ConflictsReplace &&
						n%2 == 0 {
						f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o640)
						if err != nil {
							t.Fatal(err)
						}
						f.WriteString(`{"id":9`)
						f.Close()
					}
					if r, err = b.Catalog.Restore(t.Context(), r.ID); err == nil {
						err = b.Restores.Restore(t.Context(), r, dir)
					}
					if err != nil {
						t.Fatalf("%s: %v", what, err)
					}
				}
				restored, replaced := int64(1000), int64(750)
				if conflicts == restore.ConflictsSkip {
					restored, replaced = 250, 0
				}
				if r.Found != 1000 || r.Restored != restored || r.Skipped != 1000-restored || r.Replaced != replaced {
					t.Fatalf("%s: %+v", what, r)
				}
				text, _ := os.ReadFile(filepath.Join(dir, restore.ReplacedFile(r.ID)))
				lines := slices.Sorted(slices.Values(strings.Split(strings.TrimSpace(string(text)), "\n")))
				if conflicts == restore.ConflictsReplace && (len(lines) != 750 || len(slices.Compact(lines)) != 750 ||
					bytes.Count(text, []byte("live ")) != 750) {
					t.Fatalf("%s: %d rows were kept, %d different ones", what, len(lines), len(slices.Compact(lines)))
				}
				var live int64
				if err := b.db.QueryRow("SELECT count(*) FROM scan WHERE note LIKE 'live %'").Scan(
					&live); err != nil || live != 750-replaced {
					t.Fatalf("%s: %d live rows, %v", what, live, err)
				}
				if left, _ := filepath.Glob(filepath.Join(dir, "seen-*")); len(left) != 0 {
					t.Errorf("%s: left %v", what, left)
				}
				if through {
					break
				}
			}
			if stopped < 2 {
				t.Errorf("%s, committed %v: only %d batches", conflicts, after, stopped)
			}
		}
	}
}

func numbersTo(n int) string {
	var out []string
	for i := range n {
		out = append(out, fmt.Sprint(i+1))
	}
	return strings.Join(out, ",")
}

// TestAnOldVersionNeverComesBack: keys were archived twice. Whatever a restore does about rows that are there, by
// condition, by run and with the service ending in the midst of it, the newer version is what comes back.
func TestAnOldVersionNeverComesBack(t *testing.T) {
	t.Parallel()
	for _, conflicts := range []string{restore.ConflictsSkip, restore.ConflictsReplace, restore.ConflictsFail} {
		for name, scope := range map[string]func(first, second string) catalog.Scope{
			"few rows by a condition": func(string, string) catalog.Scope { return catalog.Scope{Where: "id <= 500"} },
			"all by age":              func(string, string) catalog.Scope { return catalog.Scope{From: "2019-01-01"} },
			"the first run":           func(first, _ string) catalog.Scope { return catalog.Scope{Run: first} },
			"the second run":          func(_, second string) catalog.Scope { return catalog.Scope{Run: second} },
		} {
			b := newBench(t, "wal")
			first := b.finish(t, plan.PlanRequest{})
			b.exec(t, "INSERT INTO scan SELECT value, '2020-06-01', 'newer ' || value FROM json_each('["+
				numbersTo(500)+"]')")
			second := b.finish(t, plan.PlanRequest{})
			q := restore.RestoreRequest{Scope: scope(first.ID, second.ID), Target: catalog.TargetTable,
				Conflicts: conflicts}
			if q.Scope.Run == "" {
				q.Source, q.Table = "harbour", "scan"
			}
			shown, err := b.Restores.PreviewRestore(t.Context(), q)
			if err != nil {
				t.Fatalf("%s, %s: %v", conflicts, name, err)
			}
			r, err := b.Restores.Request(t.Context(), "me", q)
			if err == nil {
				ctx, end := context.WithCancelCause(t.Context())
				inner := mustSource(t, b)
				h := &halting{Source: inner, left: 2, after: true, end: end}
				b.Source = func(context.Context, string) (source.Source, error) { return h, nil }
				if err = b.Restores.Restore(ctx, r, t.TempDir()); err != nil {
					if r, err = b.Catalog.Restore(t.Context(), r.ID); err == nil {
						h.left = 1 << 30
						err = b.Restores.Restore(t.Context(), r, t.TempDir())
					}
				}
				end(nil)
			}
			if err != nil {
				t.Fatalf("%s, %s: %v", conflicts, name, err)
			}
			var old, newer int64
			if err := b.db.QueryRow("SELECT count(*) FILTER (WHERE id <= 500 AND note LIKE 'note %'), count(*) "+
				"FILTER (WHERE note LIKE 'newer %') FROM scan").Scan(&old, &newer); err != nil {
				t.Fatal(err)
			}
			want := int64(500)
			if name == "the first run" {
				want = 0
			}
			if now, err := b.Catalog.Restore(t.Context(), r.ID); err != nil || shown.Rows != now.Restored ||
				shown.Rows+shown.Stale != now.Found {
				t.Errorf("%s, %s: %d rows and %d stale ones were shown beforehand, and it is %+v, %v", conflicts, name,
					shown.Rows, shown.Stale, now, err)
			}
			if old != 0 || newer != want {
				t.Errorf("%s, %s: %d old versions and %d newer ones came back: %+v", conflicts, name, old, newer, r)
			}
		}
	}
	// A row that was put back and archived again is the same in both: either run gives it.
	b := newBench(t, "wal")
	first := b.finish(t, plan.PlanRequest{})
	r := b.restore(t, first)
	table, err := mustSource(t, b).Table(t.Context(), "scan")
	if err == nil {
		err = mustSource(t, b).ForgetRestored(t.Context(), table, r.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	b.finish(t, plan.PlanRequest{})
	if again := b.restore(t, first); again.Restored != rows {
		t.Errorf("%+v", again)
	}
}
