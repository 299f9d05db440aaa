package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/client"
)

// neighbour is what goes on beside the workload.
type neighbour struct {
	start  func()
	stop   func() error                // and says what went wrong
	gone   func(context.Context) int64 // how many rows it has taken
	course *client.Course              // how it went, once it has stopped; nil: that is not known
}

// beside makes ready what is to go on beside the workload.
func (w *workload) beside(ctx context.Context, arm, program string) (*neighbour, error) {
	pace := ""
	what, bound, bounded := strings.Cut(arm, atBound)
	if bounded {
		pace = "pace: {bound: " + bound + "}\n"
	}
	switch {
	case what == armOurs:
		return w.besideService(ctx, program, "then: archive\narchive: {store: cellar}\n"+pace)
	case what == armPurge:
		return w.besideService(ctx, program, "then: purge\n"+pace)
	case arm == armDelete, arm == armLoop:
		own, cancel := context.WithCancel(ctx)
		done := make(chan error, 1)
		var gone atomic.Int64
		return &neighbour{start: func() {
			var err error
			if arm == armLoop {
				err = w.loop(own, &gone)
			} else {
				_, err = w.db.ExecContext(own, w.all)
			}
			if own.Err() != nil { // it was ended from here
				err = nil
			}
			done <- err
		}, stop: func() error { cancel(); return <-done },
			gone: func(context.Context) int64 { return gone.Load() }}, nil
	}
	return &neighbour{start: func() {}, stop: func() error { return nil },
		gone: func(context.Context) int64 { return 0 }}, nil
}

// loop is the by-hand loop of deletes, of 5,000 rows each.
func (w *workload) loop(ctx context.Context, gone *atomic.Int64) error {
	engine, _ := w.address()
	text := w.all + " LIMIT 5000"
	if engine == "postgres" {
		text = "DELETE FROM scan WHERE ctid = ANY(ARRAY(SELECT ctid FROM scan WHERE" +
			strings.TrimPrefix(w.all, "DELETE FROM scan WHERE") + " LIMIT 5000))"
	}
	for {
		res, err := w.db.ExecContext(ctx, text)
		if err != nil {
			return err
		}
		n, _ := res.RowsAffected()
		if n == 0 {
			return nil
		}
		gone.Add(n)
	}
}

// besideService archives or purges, as the end of the rule says, with the service at its default pace.
func (w *workload) besideService(ctx context.Context, program, then string) (n *neighbour, err error) {
	n = &neighbour{}
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return n, err
	}
	c, _, stop, err := serve(ctx, program, dir, "nice", "-n", "10", "ionice", "-c", "3")
	if err != nil {
		return n, err
	}
	engine, address := w.address()
	rule := "rule: scan\nsource: bench\ntable: scan\nage: scanned_at\nclauses:\n  - keep: P1D\n" + then
	if engine != "postgres" {
		rule += "zone: UTC\n"
	}
	at, _ := time.Parse(time.DateOnly, anchor)
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: engine, Address: address}); err != nil {
		return n, err
	}
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: rule}); err != nil {
		return n, err
	}
	p, err := c.MakePlan(ctx, client.NewPlan{Rule: "scan", Before: at.AddDate(0, 0, -loadKeep).Format(time.RFC3339)})
	if err != nil {
		return n, err
	}
	began := make(chan struct{})
	var r *client.RunView
	var failed error
	n.start = func() {
		defer close(began)
		r, failed = c.StartRun(ctx, client.NewRun{Plan: p.ID})
	}
	n.gone = func(ctx context.Context) int64 {
		<-began
		if failed == nil {
			if now, err := c.Run(ctx, r.ID); err == nil {
				return now.Ledger.Deleted
			}
		}
		return 0
	}
	n.stop = func() error {
		<-began
		if failed == nil {
			var now *client.RunView
			if now, failed = c.Run(ctx, r.ID); failed == nil && now.State != client.Running &&
				now.State != client.Done {
				failed = fmt.Errorf("the run is %s: %s", now.State, now.Reason)
			}
			n.course, _ = c.Course(ctx, r.ID)
		}
		stop()
		os.RemoveAll(dir)
		return failed
	}
	return n, nil
}
