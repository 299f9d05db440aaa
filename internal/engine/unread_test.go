package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/source"
)

// Rows that somebody brings out of reach while a run goes on stay, one that somebody keeps locked is left and counted, and
// everything else goes. Whoever changes the age of a row or deletes it, by its key, is never sacrificed in a deadlock.
func TestARunTakesNothingThatIsNotDueAnyMore(t *testing.T) {
	for _, c := range []struct{ engine, then string }{{"sqlite", "purge"}, {"sqlite", "archive"}, {"postgres", "purge"}, {"postgres", "archive"}, {"mariadb", "purge"}, {"mariadb", "archive"}} {
		t.Run(c.then+" "+c.engine, func(t *testing.T) {
			engine := c.engine
			h := newHarbour(t, engine)
			scans(t, h)
			for from := 250; from < writtenRows; from *= 2 {
				h.exec(t, fmt.Sprintf("INSERT INTO scan SELECT id + %d, at, note FROM scan WHERE id + %d <= %d", from, from, writtenRows))
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
			later := map[string]string{"sqlite": "'2030-01-01 00:00:00'", "postgres": "'2030-01-01 00:00:00+00'", "mariadb": "'2030-01-01 00:00:00'"}[engine]
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
						n, err := other.changed(ctx, fmt.Sprintf("UPDATE scan SET note = 'seen' WHERE id = %d", id), statement)
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
			time.Sleep(50 * time.Millisecond)
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
				t.Errorf("%d rows are live, %d were brought out of reach, %d were deleted, ledger %+v", len(live), len(saved), removed, r.Ledger)
			}
			if _, ok := mustSource(t, b).(source.Purger); ok != (engine == "mariadb") {
				t.Errorf("it was not purged in the way that this is a test of")
			}
		})
	}
}

// changed carries out two statements in one transaction, with time to think in between, and says how many rows the second found.
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
