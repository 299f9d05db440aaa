package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"ambercellar/client"
)

// restores measures bringing 40 % of a table back into PostgreSQL, from which they were archived, beside what a person
// does: the CSV through zstd into COPY. Both go into the same table, with its three indexes, from which the rows were
// deleted and vacuumed away.
func restores(ctx context.Context, rows, rounds int, out, program string) error {
	t, err := startPostgres()
	if err != nil {
		return err
	}
	defer t.close()
	p := t.(postgres)
	fmt.Printf("\nrestore: %v\nfilling a table of %d rows with three indexes\n", t.settings(), rows)
	if err := t.fill(rows); err != nil {
		return err
	}
	whole, err := func() (int64, error) {
		if err := t.fresh(); err != nil {
			return 0, err
		}
		return t.count(ctx)
	}()
	if err != nil {
		return err
	}
	r := &report{Work: "postgres-restore", When: time.Now().UTC().Format(time.RFC3339), Machine: machine,
		Settings: t.settings(), Rows: rows, Rounds: map[string][]measure{}}
	for round := range rounds {
		for _, side := range []string{byHand, byHandAgain, byTwoHands, ours} {
			m, n, err := restoredOnce(ctx, p, side, program)
			if err == nil {
				var now int64
				if now, err = t.count(ctx); err == nil && now != whole {
					err = fmt.Errorf("the table has %d rows instead of %d", now, whole)
				}
			}
			if err != nil {
				return fmt.Errorf("%s: %w", side, err)
			}
			r.Due = n
			r.Rounds[side] = append(r.Rounds[side], m)
			fmt.Printf("round %d, %-13s  %6.2f s  %6.2f s of processors  peak memory %4d MiB\n", round+1, side,
				m.Seconds, m.Processor, m.PeakMemory>>20)
		}
	}
	if err := r.finish(out); err != nil {
		return err
	}
	summary([]*report{r})
	return nil
}

// restoredOnce takes the rows out of a fresh table, and measures their way back.
func restoredOnce(ctx context.Context, p postgres, side, program string) (m measure, n int64, err error) {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return m, 0, err
	}
	defer os.RemoveAll(dir)
	if err := p.fresh(); err != nil {
		return m, 0, err
	}
	before, err := p.count(ctx)
	if err != nil {
		return m, 0, err
	}
	settle := func() error {
		for _, statement := range []string{"VACUUM (ANALYZE) scan", "CHECKPOINT"} {
			if err := p.Exec("round", statement); err != nil {
				return err
			}
		}
		left, err := p.count(ctx)
		n = before - left
		syscall.Sync()
		return err
	}
	if side == ours {
		m, err = restoredByService(ctx, p, dir, program, settle)
		return m, n, err
	}
	file := filepath.Join(dir, "scan.zst")
	sessions := 1
	if side == byTwoHands {
		sessions = 2
	}
	if err := p.archive(ctx, file, sessions); err != nil {
		return m, 0, err
	}
	if err := p.purge(ctx, 1); err != nil {
		return m, 0, err
	}
	if err := settle(); err != nil {
		return m, 0, err
	}
	busy, begun := processor(), time.Now()
	err = p.restored(ctx, file, sessions)
	m.Seconds, m.Processor = time.Since(begun).Seconds(), processor()-busy
	return m, n, err
}

func restoredByService(ctx context.Context, p postgres, dir, program string, settle func() error) (m measure,
	err error) {
	c, process, stop, err := serve(ctx, program, dir)
	if err != nil {
		return m, err
	}
	defer stop()
	_, address := p.address()
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: "postgres", Address: address}); err != nil {
		return m, err
	}
	rule := "rule: scan\nsource: bench\ntable: scan\nage: scanned_at\nclauses:\n  - keep: P1D\npace: " +
		"unlimited\nthen: archive\narchive: {store: cellar}\n"
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: rule}); err != nil {
		return m, err
	}
	plan, err := c.MakePlan(ctx, client.NewPlan{Rule: "scan", Before: cutoff().Format(time.RFC3339)})
	if err != nil {
		return m, err
	}
	run, err := c.StartRun(ctx, client.NewRun{Plan: plan.ID})
	if err != nil {
		return m, err
	}
	if err := c.Watch(ctx, run.ID, func(v client.RunView) error { run = &v; return nil }); err != nil ||
		run.State != client.Done {
		return m, fmt.Errorf("the run is %s: %s, %v", run.State, run.Reason, err)
	}
	if err := settle(); err != nil {
		return m, err
	}
	busy, begun := processor(), time.Now()
	r, err := c.RequestRestore(ctx, client.RestoreRequest{Scope: client.Scope{Run: run.ID}, Target: client.TargetTable,
		Pace: "unlimited"})
	for err == nil && r.State == client.Restoring {
		time.Sleep(50 * time.Millisecond)
		r, err = c.Restore(ctx, r.ID)
	}
	m.Seconds, m.Processor = time.Since(begun).Seconds(), processor()-busy
	if err == nil && (r.State != client.RestoreDone || r.Verified == nil || !*r.Verified || r.Skipped > 0) {
		b, _ := json.Marshal(r) // for the message alone
		err = fmt.Errorf("the restore: %s", b)
	}
	if err == nil {
		m.PeakMemory, err = resident(process, "VmHWM:")
	}
	return m, err
}
