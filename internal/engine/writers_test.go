package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// writers change aged rows at random: each writes rows of its own, and remembers of each the last text that was
// committed.
type writers struct {
	mu    sync.Mutex
	last  map[int64]string
	group sync.WaitGroup
	stop  context.CancelFunc
}

// eventually waits until something holds, for half a minute at the most.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); !holds(); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("not within 30 s: " + what)
		}
	}
}

// committed says how many rows writers have changed.
func (w *writers) committed() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.last)
}

// write lets n writers loose on table scan, and beside them somebody who rewrites the table again and again.
func write(t *testing.T, h *harbour, n int, rewrites ...string) *writers {
	ctx, stop := context.WithCancel(t.Context())
	w := &writers{last: map[int64]string{}, stop: stop}
	for number := range n {
		other := newHarbourAt(t, h.engine, h.address)
		w.group.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				id, note := int64(rand.IntN(writtenRows/n)*n+number)+1, fmt.Sprintf("writer %d, %d", number, i)
				// to its end: of one that is broken off, nobody knows whether it was committed
				if other.change(context.WithoutCancel(ctx), rand.IntN(3) == 0, id, note) == nil {
					w.mu.Lock()
					w.last[id] = note
					w.mu.Unlock()
				}
				time.Sleep(time.Millisecond)
			}
		})
	}
	w.group.Go(func() {
		other := newHarbourAt(t, h.engine, h.address)
		for i := 0; ctx.Err() == nil; i++ {
			other.db.ExecContext(ctx, rewrites[i%len(rewrites)]) // what it fails with does not matter
			time.Sleep(100 * time.Millisecond)
		}
	})
	return w
}

const writtenRows = 4000

// change updates a row, or deletes it and inserts it anew. No error: it is committed, and there was such a row.
func (h *harbour) change(ctx context.Context, anew bool, id int64, note string) error {
	tx, err := h.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	statements := []string{fmt.Sprintf("UPDATE scan SET note = '%s' WHERE id = %d", note, id)}
	if anew {
		at := map[string]string{"sqlite": "'2020-01-01 00:00:00'", "postgres": "'2020-01-01 00:00:00+00'",
			"mariadb": "'2020-01-01 00:00:00'"}[h.engine]
		statements = []string{fmt.Sprintf("DELETE FROM scan WHERE id = %d", id),
			fmt.Sprintf("INSERT INTO scan VALUES (%d, %s, '%s')", id, at, note)}
	}
	for i, s := range statements {
		res, err := tx.ExecContext(ctx, s)
		if err != nil {
			return err
		}
		if n, _ := res.RowsAffected(); i == 0 && n == 0 {
			return sql.ErrNoRows
		}
	}
	return tx.Commit()
}

func TestNoUpdateIsLostWhileTheTableIsRewrittenAgainAndAgain(t *testing.T) {
	t.Parallel()
	for engine, rewrites := range map[string][]string{"sqlite": {"VACUUM"},
		"postgres": {"VACUUM FULL scan", "CLUSTER scan USING scan_at"}, "mariadb": {"OPTIMIZE TABLE scan"}} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			for from := 250; from < writtenRows; from *= 2 {
				h.exec(t, fmt.Sprintf("INSERT INTO scan SELECT id + %d, at, note FROM scan WHERE id + %d <= %d", from,
					from, writtenRows))
			}
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2021-01-01", "archive") + cellar}
			run := s.start(t, h, b)
			w := write(t, h, 4, rewrites...)
			eventually(t, "writers are at work", func() bool { return w.committed() >= 4 })
			err := s.work(t, b, run)
			w.stop()
			w.group.Wait()
			if err != nil {
				t.Fatal(err)
			}
			r, err := b.Catalog.Run(t.Context(), run)
			if err != nil || r.Balanced == nil || !*r.Balanced || r.Deleted == 0 {
				t.Fatalf("%+v, %v", r, err)
			}
			live, archived := h.notes(t), archivedNotes(t, b, run)
			lost := 0
			for id := int64(1); id <= writtenRows; id++ {
				want, written := w.last[id]
				now, there := live[id]
				if !there {
					now, there = archived[id]
				}
				if !written {
					want = "note"
				}
				if !there || now != want {
					if lost++; lost < 5 {
						t.Errorf("row %d is %q, live or archived (%v), and was written last as %q", id, now, there,
							want)
					}
				}
			}
			if len(w.last) == 0 || r.Changed+r.Vanished+r.Skipped == 0 {
				t.Errorf("%d writes, ledger %+v: the test shows nothing", len(w.last), r.Ledger)
			}
			t.Logf("%d rows written, ledger %+v, %d lost", len(w.last), r.Ledger, lost)
		})
	}
}

// notes are the live rows' texts by key.
func (h *harbour) notes(t *testing.T) map[int64]string {
	t.Helper()
	out := map[int64]string{}
	rows, err := h.db.Query("SELECT id, note FROM scan")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var note string
		if err := rows.Scan(&id, &note); err != nil {
			t.Fatal(err)
		}
		out[id] = note
	}
	return out
}

// archivedNotes are the texts of the rows that a run deleted after it had archived them; a row that went twice has its
// newest.
func archivedNotes(t *testing.T, b *bench, run string) map[int64]string {
	t.Helper()
	segments, err := b.Catalog.RunSegments(t.Context(), run)
	if err != nil {
		t.Fatal(err)
	}
	out := map[int64]string{}
	for _, s := range segments {
		if s.State != catalog.SegmentClosed {
			continue
		}
		m, _, err := archive.LoadManifest(t.Context(), b.store, s.Stem)
		if err != nil {
			t.Fatal(err)
		}
		books, _, err := archive.LoadClosing(t.Context(), b.store, m)
		if err != nil {
			t.Fatal(err)
		}
		left := map[int]bool{}
		for _, o := range books.LeftOut() {
			left[o] = true
		}
		ordinal := 0
		if err := archive.Verify(t.Context(), b.store, m, func(c *value.Chunk, _ []value.Digest) error {
			for i := range c.Rows() {
				if row := c.Row(i); !left[ordinal] {
					out[row[0].N] = strings.Clone(string(row[2].B))
				}
				ordinal++
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// Rows that somebody brings out of reach while a run goes on stay, one that somebody keeps locked is left and counted,
// and everything else goes. Whoever changes the age of a row or deletes it, by its key, is never sacrificed in a
// deadlock.
func TestARunTakesNothingThatIsNotDueAnyMore(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ engine, then string }{{"sqlite", "purge"}, {"sqlite", "archive"},
		{"postgres", "purge"}, {"postgres", "archive"}, {"mariadb", "purge"}, {"mariadb", "archive"}} {
		t.Run(c.then+" "+c.engine, func(t *testing.T) {
			engine := c.engine
			h := newHarbour(t, engine)
			scans(t, h)
			for from := 250; from < writtenRows; from *= 2 {
				h.exec(t, fmt.Sprintf("INSERT INTO scan SELECT id + %d, at, note FROM scan WHERE id + %d <= %d", from,
					from, writtenRows))
			}
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2021-01-01", c.then)}
			if c.then == "archive" {
				s.rule += cellar
			}
			run := s.start(t, h, b)
			const locked = writtenRows / 2
			if engine != "sqlite" { // where there are no locks of rows
				tx, err := newHarbourAt(t, engine, h.address).db.Begin()
				if err == nil {
					_, err = tx.Exec(fmt.Sprintf("UPDATE scan SET note = 'not yet' WHERE id = %d", locked))
				}
				if err != nil {
					t.Fatal(err)
				}
				defer tx.Rollback()
			}
			ctx, stop := context.WithCancel(t.Context())
			saved, removed := map[int64]bool{}, int64(0)
			var mu sync.Mutex
			var group sync.WaitGroup
			later := map[string]string{"sqlite": "'2030-01-01 00:00:00'", "postgres": "'2030-01-01 00:00:00+00'",
				"mariadb": "'2030-01-01 00:00:00'"}[engine]
			for number := range 4 {
				other := newHarbourAt(t, engine, h.address)
				group.Go(func() {
					for ctx.Err() == nil {
						id := int64(rand.IntN(writtenRows/4)*4+number) + 1
						if id == locked {
							continue
						}
						statement, stays := fmt.Sprintf("UPDATE scan SET at = %s WHERE id = %d", later, id), true
						if rand.IntN(4) == 0 {
							statement, stays = fmt.Sprintf("DELETE FROM scan WHERE id = %d", id), false
						}
						// to its end: of one that is broken off, nobody knows whether it was committed
						n, err := other.changed(
							context.WithoutCancel(ctx),
							fmt.Sprintf("UPDATE scan SET note = 'seen' WHERE id = %d", id),
							statement,
						)
						switch {
						case err != nil:
							if text := err.Error(); strings.Contains(text, "1213") || strings.Contains(text, "40P01") {
								t.Errorf("%s: %v", statement, err)
							}
						case n > 0:
							mu.Lock()
							if saved[id] = true; !stays {
								delete(saved, id)
								removed++
							}
							mu.Unlock()
						}
						time.Sleep(time.Millisecond)
					}
				})
			}
			eventually(t, "writers are at work", func() bool {
				mu.Lock()
				defer mu.Unlock()
				return len(saved)+int(removed) >= 4
			})
			err := s.work(t, b, run)
			stop()
			group.Wait()
			if err != nil {
				t.Fatal(err)
			}
			r, err := b.Catalog.Run(t.Context(), run)
			if err != nil || r.Balanced == nil || !*r.Balanced {
				t.Fatalf("%+v, %v", r, err)
			}
			live := h.notes(t)
			for id := range saved {
				if _, there := live[id]; !there {
					t.Errorf("row %d was not due any more, and is gone", id)
				}
			}
			want := int64(len(saved))
			if engine != "sqlite" {
				if _, there := live[locked]; !there || r.Skipped != 1 {
					t.Errorf("the locked row is there: %v, and %d were skipped", there, r.Skipped)
				}
				want++
			}
			if int64(len(live)) != want || r.Deleted != writtenRows-want-removed || len(saved) == 0 {
				t.Errorf("%d rows are live, %d were brought out of reach, %d were deleted, ledger %+v", len(live),
					len(saved), removed, r.Ledger)
			}
			if _, ok := source.As[source.Purger](mustSource(t, b)); ok != (engine != "sqlite") {
				t.Errorf("it was not purged in the way that this is a test of")
			}
		})
	}
}

// changed carries out two statements in one transaction, with time to think in between, and says how many rows the
// second found.
func (h *harbour) changed(ctx context.Context, first, second string) (int64, error) {
	tx, err := h.db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, first); err != nil {
		return 0, err
	}
	time.Sleep(time.Millisecond)
	res, err := tx.ExecContext(ctx, second)
	if err != nil {
		return 0, err
	}
	n, err := res.RowsAffected()
	return n, errors.Join(err, tx.Commit())
}
