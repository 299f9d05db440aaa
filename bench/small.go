package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"ambercellar/client"
)

// smallRows are those of a small run.
const smallRows = 1000

// small measures how long runs of a thousand rows take at the default pace, from the call that starts one until it is
// done, on one engine.
func small(ctx context.Context, engine string, start func() (table, error), rounds int, program string) error {
	t, err := start()
	if err != nil {
		return err
	}
	defer t.close()
	if err := t.fill(smallRows * 1000 / (1000 - keepDays)); err != nil {
		return err
	}
	for _, then := range []string{"then: archive\narchive: {store: cellar}\n", "then: purge\n"} {
		var took []float64
		for range rounds {
			one, err := smallRun(ctx, t, then, program)
			if err != nil {
				return err
			}
			took = append(took, one.Seconds())
		}
		action, _, _ := strings.Cut(strings.TrimPrefix(then, "then: "), "\n")
		fmt.Printf("| %s, %s of %d rows | median %.3f s | %.3f |\n", engine, action, smallRows, middle(took), took)
	}
	return nil
}

// smallRun makes the table anew and plans and runs once; it returns how long the run took.
func smallRun(ctx context.Context, t table, then, program string) (took time.Duration, err error) {
	if err := t.fresh(); err != nil {
		return 0, err
	}
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	c, _, stop, err := serve(ctx, program, dir)
	if err != nil {
		return 0, err
	}
	defer stop()
	engine, address := t.address()
	if engine != "postgres" {
		then += "zone: UTC\n"
	}
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: engine, Address: address}); err != nil {
		return 0, err
	}
	rule := "rule: scan\nsource: bench\ntable: scan\nage: scanned_at\nclauses:\n  - keep: P1D\n" + then
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: rule}); err != nil {
		return 0, err
	}
	p, err := c.MakePlan(ctx, client.NewPlan{Rule: "scan", Before: cutoff().Format(time.RFC3339)})
	if err != nil {
		return 0, err
	}
	time.Sleep(11 * time.Second) // what made the table ready was somebody else at work, as the service sees it
	begun := time.Now()
	r, err := c.StartRun(ctx, client.NewRun{Plan: p.ID})
	for err == nil && (r.State == client.Queued || r.State == client.Running) {
		time.Sleep(2 * time.Millisecond)
		r, err = c.Run(ctx, r.ID)
	}
	if err == nil && (r.State != client.Done || r.Ledger.Deleted == 0) {
		err = fmt.Errorf("the run is %s after %d rows: %s", r.State, r.Ledger.Deleted, r.Reason)
	}
	return time.Since(begun), err
}
