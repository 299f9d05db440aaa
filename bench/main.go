// Command bench measures archiving and deleting with Amber Cellar beside what a careful person does by hand, in turn,
// on a private PostgreSQL server with durable settings; and planning beside one hand-written statement. It prints a table of medians and ratios and writes JSON.
//
//	bench [-rows 2500000] [-plan-rows 5000000] [-rounds 5] [-only run|plan] [-out bench/out]
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/dbtest"
)

// settings are the server's; those that make a commit durable are the defaults, and stated all the same.
var settings = []string{"fsync=on", "synchronous_commit=on", "full_page_writes=on", "shared_buffers=512MB", "max_wal_size=4GB", "checkpoint_timeout=30min", "autovacuum=off"}

// dueShare of the rows is archived: 400 of 1,000 days.
const anchor, keepDays, dueShare = "2026-11-23", 600, 0.4

// measure is one round of one side.
type measure struct {
	Seconds     float64   `json:"seconds"`
	Processor   float64   `json:"processor_seconds"`      // of the whole machine, server and service and scripts together
	CopySeconds float64   `json:"copy_seconds,omitempty"` // by hand: until the file is written
	Bytes       int64     `json:"archive_bytes"`
	Service     float64   `json:"service_seconds,omitempty"`   // of processors, the service's own
	PeakMemory  int64     `json:"peak_memory_bytes,omitempty"` // of the service, resident
	Memory      []int64   `json:"memory_bytes,omitempty"`      // resident, sampled evenly over the run
	Rates       []float64 `json:"rows_per_second,omitempty"`   // in each tenth of the run
}

type report struct {
	When     string               `json:"when"`
	Machine  string               `json:"machine"`
	Settings []string             `json:"server_settings"`
	Rows     int                  `json:"rows"`
	Due      int64                `json:"rows_archived"`
	Rounds   map[string][]measure `json:"rounds"`
	Ratios   map[string]float64   `json:"ratios_of_medians"`
}

func main() {
	rows := flag.Int("rows", 2_500_000, "rows of the table; 40 % of them are archived")
	rounds := flag.Int("rounds", 5, "rounds of each side, in turn")
	out := flag.String("out", "bench/out", "directory for the JSON")
	planRows := flag.Int("plan-rows", 5_000_000, "rows of the table that is planned; 0 leaves the plans out")
	program := flag.String("program", "build/ambercellar", "the service's binary")
	only := flag.String("only", "", "run or plan: measure that alone")
	flag.Parse()
	if *only != "run" && *planRows > 0 {
		if err := plans(context.Background(), *planRows, *rounds, *out, *program); err != nil {
			log.Fatal(err)
		}
	}
	if *only == "plan" {
		return
	}
	if err := run(context.Background(), *rows, *rounds, *out, *program); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, rows, rounds int, out, program string) error {
	fmt.Printf("starting a private PostgreSQL server (%s)\n", strings.Join(settings, ", "))
	server, err := dbtest.Start(settings...)
	if err != nil {
		return err
	}
	defer server.Stop()
	fmt.Printf("filling a table of %d rows with three indexes\n", rows)
	if err := fill(server, rows); err != nil {
		return err
	}
	r := &report{When: time.Now().UTC().Format(time.RFC3339), Machine: fmt.Sprintf("%d processors, %s/%s", runtime.NumCPU(), runtime.GOOS, runtime.GOARCH), Settings: settings, Rows: rows, Rounds: map[string][]measure{}}
	sides := []struct {
		name string
		do   func(context.Context, *dbtest.Server, string, string) (measure, int64, error)
	}{
		{"by hand", byHand},
		{"by hand again", byHand}, // the noise band
		{"ours", func(ctx context.Context, s *dbtest.Server, db, dir string) (measure, int64, error) {
			return ours(ctx, s, db, dir, program)
		}},
	}
	for round := range rounds {
		for _, side := range sides {
			dir, err := os.MkdirTemp("", "ambercellar-bench-")
			if err != nil {
				return err
			}
			if err := server.Exec("postgres", "DROP DATABASE IF EXISTS round"); err != nil {
				return err
			}
			if err := server.Exec("postgres", "CREATE DATABASE round TEMPLATE base"); err != nil {
				return err
			}
			if err := server.Exec("round", "CHECKPOINT; SELECT count(*), max(scanned_at) FROM scan"); err != nil {
				return err
			}
			busy := processor()
			m, gone, err := side.do(ctx, server, "round", dir)
			m.Processor = processor() - busy
			os.RemoveAll(dir)
			if err != nil {
				return fmt.Errorf("%s: %w", side.name, err)
			}
			if r.Due == 0 {
				r.Due = gone
			}
			if gone != r.Due {
				return fmt.Errorf("%s deleted %d rows and the first side %d", side.name, gone, r.Due)
			}
			r.Rounds[side.name] = append(r.Rounds[side.name], m)
			fmt.Printf("round %d, %-13s  %6.2f s  %6.2f s of processors  (service %5.2f s)  %6.1f MB  peak memory %4d MiB\n", round+1, side.name, m.Seconds, m.Processor, m.Service, float64(m.Bytes)/1e6, m.PeakMemory>>20)
		}
	}
	return r.finish(out)
}

func fill(s *dbtest.Server, rows int) error {
	if err := s.Exec("postgres", "CREATE DATABASE base"); err != nil {
		return err
	}
	if err := s.Exec("base", fmt.Sprintf(`
SELECT setseed(0.5);
CREATE TABLE scan (id bigserial PRIMARY KEY, booking_id bigint NOT NULL, vessel text NOT NULL, gate smallint NOT NULL,
	scanned_at timestamptz NOT NULL, outcome text NOT NULL, fare numeric(9,2), device uuid, note text);
INSERT INTO scan (booking_id, vessel, gate, scanned_at, outcome, fare, device, note)
SELECT (random() * 1e6)::bigint, (array['Heron', 'Plover', 'Dunlin', 'Curlew', 'Sanderling'])[1 + (random() * 4)::int], (random() * 12)::int,
	timestamptz '%[2]s' - interval '1000 days' + (g::float8 / %[1]d) * interval '1000 days',
	(array['ok', 'ok', 'ok', 'ok', 'late', 'refused'])[1 + (random() * 5)::int], (random() * 200)::numeric(9,2), gen_random_uuid(),
	CASE WHEN random() < 0.2 THEN md5(g::text) END
FROM generate_series(1, %[1]d) g;
CREATE INDEX ON scan (scanned_at);
CREATE INDEX ON scan (booking_id);`, rows, anchor)); err != nil {
		return err
	}
	return s.Exec("base", "VACUUM ANALYZE scan")
}

// byHand is the script of a careful administrator: CSV through zstd, then deletes of 5,000 rows by row address, each
// committed.
func byHand(ctx context.Context, s *dbtest.Server, db, dir string) (m measure, gone int64, err error) {
	file := filepath.Join(dir, "scan.csv.zst")
	script := fmt.Sprintf(`set -euo pipefail
cutoff="timestamptz '%s' - interval '%d days'"
psql -qX -c "copy (select * from scan where scanned_at < $cutoff) to stdout csv" | zstd -3 -q -f -o %s
date +%%s.%%N
psql -qXAt <<SQL
do \$\$ declare n int; begin loop
  delete from scan where ctid = any(array(select ctid from scan where scanned_at < $cutoff limit 5000));
  get diagnostics n = row_count; commit; exit when n = 0;
end loop; end \$\$;
SQL`, anchor, keepDays, file)
	cmd := exec.CommandContext(ctx, "bash", "-c", script)
	cmd.Env = append(os.Environ(), "PGHOST=127.0.0.1", fmt.Sprintf("PGPORT=%d", s.Port), "PGUSER=postgres", "PGDATABASE="+db)
	cmd.Stderr = os.Stderr
	before, err := count(ctx, s.URL(db))
	if err != nil {
		return m, 0, err
	}
	begun := time.Now()
	text, err := cmd.Output()
	m.Seconds = time.Since(begun).Seconds()
	if err != nil {
		return m, 0, err
	}
	var copied float64
	fmt.Sscan(string(text), &copied)
	m.CopySeconds = copied - float64(begun.UnixNano())/1e9
	st, err := os.Stat(file)
	if err != nil {
		return m, 0, err
	}
	m.Bytes = st.Size()
	after, err := count(ctx, s.URL(db))
	return m, before - after, err
}

func median(of []measure, what func(measure) float64) float64 {
	all := make([]float64, len(of))
	for i, m := range of {
		all[i] = what(m)
	}
	slices.Sort(all)
	if n := len(all); n%2 == 0 {
		return (all[n/2-1] + all[n/2]) / 2
	}
	return all[len(all)/2]
}

// finish prints the table and writes the JSON.
func (r *report) finish(out string) error {
	seconds := func(m measure) float64 { return m.Seconds }
	bytes := func(m measure) float64 { return float64(m.Bytes) }
	memory := func(m measure) float64 { return float64(m.PeakMemory) }
	hand, again, mine := r.Rounds["by hand"], r.Rounds["by hand again"], r.Rounds["ours"]
	var firstTenths, lastTenths float64
	for _, m := range mine {
		n := len(m.Memory)
		if n >= 10 {
			firstTenths += float64(slices.Max(m.Memory[:n/2]))
			lastTenths += float64(slices.Max(m.Memory[n/2:]))
		}
	}
	r.Ratios = map[string]float64{
		"time, ours to by hand":                        median(mine, seconds) / median(hand, seconds),
		"time, by hand to by hand":                     median(again, seconds) / median(hand, seconds),
		"archive bytes, ours to by hand":               median(mine, bytes) / median(hand, bytes),
		"peak memory, second half to first half, ours": lastTenths / max(firstTenths, 1),
	}
	fmt.Printf("\n%d of %d rows, medians of %d rounds\n\n", r.Due, r.Rows, len(mine))
	fmt.Printf("%-16s %10s %14s %16s %16s\n", "", "seconds", "archive, MB", "time to by hand", "bytes to by hand")
	for _, name := range []string{"by hand", "by hand again", "ours"} {
		s, b := median(r.Rounds[name], seconds), median(r.Rounds[name], bytes)
		fmt.Printf("%-16s %10.2f %14.1f %16.2f %16.2f\n", name, s, b/1e6, s/median(hand, seconds), b/median(hand, bytes))
	}
	fmt.Printf("\nours: peak memory %.0f MiB; its second half peaks at %.2f times its first half\n", median(mine, memory)/(1<<20), r.Ratios["peak memory, second half to first half, ours"])
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	b, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	path := filepath.Join(out, "postgres.json")
	fmt.Println("written to", path)
	return os.WriteFile(path, append(b, '\n'), 0o644)
}
