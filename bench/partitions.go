package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// dropReport is how long a partition's rows take to leave as a whole, and one by one.
type dropReport struct {
	Work     string               `json:"work"`
	When     string               `json:"when"`
	Settings []string             `json:"server_settings"`
	Rows     int                  `json:"rows"`
	Rounds   map[string][]float64 `json:"seconds"`
	Log      map[string][]int64   `json:"log_bytes"`
}

// drops measures, for a table whose one due partition has so many rows and two indexes, purging and archiving it as a
// whole and row by row.
func drops(ctx context.Context, engine string, rows, rounds int, out, program string) error {
	start := map[string]func() (table, error){"postgres": startPostgres, "mariadb": startMariaDB}[engine]
	t, err := start()
	if err != nil {
		return err
	}
	defer t.close()
	r := &dropReport{Work: engine + "-partition", When: time.Now().UTC().Format(time.RFC3339), Settings: t.settings(),
		Rows: rows, Rounds: map[string][]float64{}, Log: map[string][]int64{}}
	fmt.Printf("\n%s: a partition of %d rows with two indexes, purged and archived\n", r.Work, rows)
	for range rounds {
		for _, way := range []string{"purge as a whole", "purge row by row", "archive as a whole",
			"archive row by row"} {
			if err := divided(t, rows); err != nil {
				return err
			}
			seconds, log, err := dropped(ctx, t, way, program)
			if err != nil {
				return fmt.Errorf("%s: %w", way, err)
			}
			r.Rounds[way], r.Log[way] = append(r.Rounds[way], seconds), append(r.Log[way], log)
			fmt.Printf("  %-20s %8.2f s   log %6d MB\n", way, seconds, log/1e6)
		}
	}
	return written(out, r.Work, r)
}

// divided makes table reading anew, with one partition that is due and one that is not.
func divided(t table, rows int) error {
	switch x := t.(type) {
	case postgres:
		for _, s := range []string{"DROP DATABASE IF EXISTS round", "CREATE DATABASE round"} {
			if err := x.Exec("postgres", s); err != nil {
				return err
			}
		}
		return x.Exec("round", fmt.Sprintf(
			`CREATE TABLE reading (id bigint NOT NULL, scanned_at timestamptz NOT NULL, vessel text,
				celsius numeric(5,2), note text, PRIMARY KEY (id, scanned_at)) PARTITION BY RANGE (scanned_at);
			CREATE TABLE reading_old PARTITION OF reading FOR VALUES FROM ('2025-01-01+00') TO ('2025-02-01+00');
				CREATE TABLE reading_new PARTITION OF reading FOR VALUES FROM ('2025-02-01+00') TO ('2027-01-01+00');
				CREATE INDEX ON reading (scanned_at);
			INSERT INTO reading SELECT g, timestamptz '2025-01-01+00' + (g::float8 / %[1]d) * interval '30 days',
				'Heron', 20.5, md5(g::text) FROM generate_series(1, %[1]d) g; INSERT INTO reading VALUES (0,
				'2026-01-01', 'Heron', 1, ''); ANALYZE reading`, rows))
	case *maria:
		if err := dbtest.ExecMariaDB(x.URL("mysql"),
			"DROP DATABASE IF EXISTS bench; CREATE DATABASE bench CHARACTER SET utf8mb4"); err != nil {
			return err
		}
		return dbtest.ExecMariaDB(x.URL("bench"),
			fmt.Sprintf(
				`CREATE TABLE reading (id bigint NOT NULL, scanned_at datetime(6) NOT NULL, vessel varchar(40),
					celsius decimal(5,2), note varchar(100), PRIMARY KEY (id, scanned_at), KEY (scanned_at))
			PARTITION BY RANGE COLUMNS (scanned_at) (PARTITION reading_old VALUES LESS THAN ('2025-02-01'),
				PARTITION reading_new VALUES LESS THAN ('2027-01-01'));
			INSERT INTO reading SELECT seq,
				timestamp('2025-01-01') + interval (seq * 2592000000000.0 / %[1]d) microsecond, 'Heron', 20.5, md5(seq)
				FROM seq_1_to_%[1]d; INSERT INTO reading VALUES (0, '2026-01-01', 'Heron', 1,
				''); ANALYZE TABLE reading`, rows))
	}
	return fmt.Errorf("there are no partitions")
}

func dropped(ctx context.Context, t table, way, program string) (seconds float64, log int64, err error) {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	c, _, stop, err := serve(ctx, program, dir)
	if err != nil {
		return 0, 0, err
	}
	defer stop()
	engine, address := t.address()
	if _, err := c.AddSource(ctx, client.NewSource{Name: "bench", Engine: engine, Address: address}); err != nil {
		return 0, 0, err
	}
	rule := "rule: reading\nsource: bench\ntable: reading\nage: scanned_at\nzone: UTC\nclauses:\n  - before: " +
		"2025-02-01\npace: unlimited\n"
	if strings.HasPrefix(way, "purge") {
		rule += "then: purge\n"
	} else {
		rule += "then: archive\narchive: {store: cellar}\n"
	}
	if strings.HasSuffix(way, "row by row") {
		rule += "partitions: rows\n"
	}
	if _, err := c.ApplyRules(ctx, client.RuleFile{Text: rule}); err != nil {
		return 0, 0, err
	}
	p, err := c.MakePlan(ctx, client.NewPlan{Rule: "reading"})
	if err != nil {
		return 0, 0, err
	}
	r, err := c.StartRun(ctx, client.NewRun{Plan: p.ID})
	if err != nil {
		return 0, 0, err
	}
	if err := c.Watch(ctx, r.ID, func(v client.RunView) error { r = &v; return nil }); err != nil {
		return 0, 0, err
	}
	if r.State != client.Done || (len(r.Parts) == 1 && r.Parts[0].State == client.PartLeft) != strings.HasSuffix(way,
		"as a whole") {
		return 0, 0, fmt.Errorf("the run is %s: %s; %+v", r.State, r.Reason, r.Parts)
	}
	if r.LogBytes != nil {
		log = *r.LogBytes
	}
	return float64(r.Working) / 1e6, log, nil
}
