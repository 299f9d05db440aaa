package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/source"
)

// Rows that somebody brings out of reach while a purge goes on stay, one that somebody keeps locked is left and counted, and
// everything else goes.
func TestAPurgeTakesNothingThatIsNotDueAnyMore(t *testing.T) {
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			for from := 250; from < writtenRows; from *= 2 {
				h.exec(t, fmt.Sprintf("INSERT INTO scan SELECT id + %d, at, note FROM scan WHERE id + %d <= %d", from, from, writtenRows))
			}
			b := h.serve(t, nil)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2021-01-01", "purge")}
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
			saved := map[int64]bool{}
			var mu sync.Mutex
			var group sync.WaitGroup
			for number := range 4 {
				other := newHarbourAt(t, engine, h.address)
				group.Go(func() {
					for ctx.Err() == nil {
						id := int64(rand.IntN(writtenRows/4)*4+number) + 1
						if id == locked {
							continue
						}
						at := map[string]string{"sqlite": "'2030-01-01 00:00:00'", "postgres": "'2030-01-01 00:00:00+00'", "mariadb": "'2030-01-01 00:00:00'"}[engine]
						res, err := other.db.ExecContext(ctx, fmt.Sprintf("UPDATE scan SET at = %s WHERE id = %d", at, id))
						if err == nil {
							if n, _ := res.RowsAffected(); n > 0 {
								mu.Lock()
								saved[id] = true
								mu.Unlock()
							}
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
			if int64(len(live)) != want || r.Deleted != writtenRows-want || len(saved) == 0 {
				t.Errorf("%d rows are live, %d were brought out of reach, ledger %+v", len(live), len(saved), r.Ledger)
			}
			if _, ok := mustSource(t, b).(source.Purger); ok != (engine == "mariadb") {
				t.Errorf("it was not purged in the way that this is a test of")
			}
		})
	}
}
