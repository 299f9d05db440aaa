package main

import (
	"context"
	"fmt"
	"os"
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
	due := 1000 - keepDays
	if err := t.fill(smallRows * 1000 / due); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	c, _, stop, err := serve(ctx, program, dir)
	if err != nil {
		return err
	}
	defer stop()
	name, address := t.address()
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: name, Address: address}); err != nil {
		return err
	}
	for _, action := range []string{"archive", "purge"} {
		text := "rule: scan\nsource: bench\ntable: scan\nage: scanned_at\nclauses:\n  - keep: P1D\nthen: " +
			action + "\n"
		if action == "archive" {
			text += "archive: {store: cellar}\n"
		}
		if name != "postgres" {
			text += "zone: UTC\n"
		}
		var took []float64
		for range rounds {
			if err := t.fresh(); err != nil {
				return err
			}
			if _, err := c.ApplyRules(ctx, client.RuleFile{Text: text}); err != nil {
				return err
			}
			one, err := smallRun(ctx, c)
			if err != nil {
				return err
			}
			took = append(took, one.Seconds())
		}
		fmt.Printf("| %s, %s of %d rows | median %.3f s | %.3f |\n", engine, action, smallRows, middle(took), took)
	}
	return nil
}

// smallRun plans and runs once, and returns how long the run took.
func smallRun(ctx context.Context, c *client.Client) (took time.Duration, err error) {
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
