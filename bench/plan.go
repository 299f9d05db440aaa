package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// planRule has two clauses, so that each row has to be judged.
const planRule = `rule: scan
source: bench
table: scan
age: scanned_at
clauses:
  - where: outcome = 'refused'
    keep: P3Y
  - keep: P600D
    otherwise: true
then: archive
archive: {store: cellar}
`

// handPlan is one statement that gives the same figures as an exact plan of that rule: of each clause its rows, those
// due, the ages at both ends and on both sides of the cutoff; ageless rows; and the spread over age.
const handPlan = `WITH r AS (SELECT scanned_at AS a, outcome = 'refused' AS refused, CASE
	WHEN outcome = 'refused' THEN scanned_at < now() - interval '3 years'
	ELSE scanned_at < now() - interval '600 days' END AS due,
		date_bin('21 days', scanned_at, timestamptz '2020-01-01') AS bucket FROM scan)
SELECT refused, extract(epoch FROM bucket)::bigint, count(*), count(*) FILTER (WHERE due), min(a), max(a),
	max(a) FILTER (WHERE due), min(a) FILTER (WHERE NOT due), count(*) FILTER (WHERE a IS NULL OR NOT isfinite(a))
	FROM r GROUP BY refused, bucket`

type planReport struct {
	When     string               `json:"when"`
	Rows     int                  `json:"rows"`
	Seconds  map[string][]float64 `json:"seconds"`
	Ratios   map[string]float64   `json:"ratios_of_medians"`
	Settings []string             `json:"server_settings"`
}

// plans measures the estimate, and the exact plan beside one hand-written statement that gives the same figures.
func plans(ctx context.Context, rows, rounds int, out, program string) error {
	fmt.Println("starting a private PostgreSQL server")
	server, err := dbtest.Start(postgresSettings...)
	if err != nil {
		return err
	}
	defer server.Stop()
	fmt.Printf("filling a table of %d rows with three indexes\n", rows)
	if err := (postgres{server}).fill(rows); err != nil {
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
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: "postgres",
		Address: server.URL("base")}); err != nil {
		return err
	}
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: planRule}); err != nil {
		return err
	}
	r := planReport{When: time.Now().UTC().Format(time.RFC3339), Rows: rows, Settings: postgresSettings,
		Seconds: map[string][]float64{}, Ratios: map[string]float64{}}
	hand := func() (int64, error) { return plannedByHand(ctx, server.Port) }
	plan := func(exact bool) func() (int64, error) {
		return func() (int64, error) {
			p, err := c.MakePlan(ctx, client.NewPlan{Rule: "scan", Exact: exact})
			if err == nil && exact != p.Counts.Counted {
				err = fmt.Errorf("asked for an exact plan: %v; it is counted: %v", exact, p.Counts.Counted)
			}
			return p.Counts.Due, err
		}
	}
	for round := range rounds {
		counts := map[string]int64{}
		for _, side := range []struct {
			name string
			do   func() (int64, error)
		}{{"by hand", hand}, {"exact plan", plan(true)}, {"by hand again", hand}, {"estimate", plan(false)}} {
			begun := time.Now()
			n, err := side.do()
			if err != nil {
				return fmt.Errorf("%s: %w", side.name, err)
			}
			r.Seconds[side.name], counts[side.name] = append(r.Seconds[side.name], time.Since(begun).Seconds()), n
			fmt.Printf("round %d, %-13s  %6.2f s, %d rows due\n", round+1, side.name, time.Since(begun).Seconds(), n)
		}
		// the cutoff moves by the seconds in between
		if d := counts["by hand"] - counts["exact plan"]; d > 100 || d < -100 {
			return fmt.Errorf("by hand %d rows are due and by the plan %d", counts["by hand"], counts["exact plan"])
		}
	}
	return r.write(rounds, out)
}

// plannedByHand counts the rows that are due, by one statement.
func plannedByHand(ctx context.Context, port int) (due int64, err error) {
	cmd := exec.CommandContext(ctx, "psql", "-qXAt", "-F", " ", "-c", handPlan)
	cmd.Env = append(os.Environ(), "PGHOST=127.0.0.1", fmt.Sprintf("PGPORT=%d", port), "PGUSER=postgres",
		"PGDATABASE=base", "PGTZ=UTC")
	text, err := cmd.Output()
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		var refused string
		var bucket, n, d int64
		fmt.Sscan(line, &refused, &bucket, &n, &d)
		due += d
	}
	return due, err
}

// write sums up, and keeps the figures.
func (r *planReport) write(rounds int, out string) error {
	middle := func(name string) float64 {
		list := slices.Sorted(slices.Values(r.Seconds[name]))
		return list[len(list)/2]
	}
	for _, name := range []string{"exact plan", "by hand again", "estimate"} {
		r.Ratios[name+" to by hand"] = middle(name) / middle("by hand")
	}
	fmt.Printf("\n%d rows, medians of %d rounds: by hand %.2f s; exact plan %.2f s, %.2f times by hand; by hand "+
		"again %.2f times; estimate %.2f s\n",
		r.Rows, rounds, middle("by hand"), middle("exact plan"), r.Ratios["exact plan to by hand"],
		r.Ratios["by hand again to by hand"], middle("estimate"))
	return written(out, "plan", r)
}
