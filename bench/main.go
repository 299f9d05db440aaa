// Command bench measures archiving, purging and planning with Amber Cellar beside what a careful person does by hand,
// in turn, on private servers with durable settings. It prints tables of medians and ratios and writes JSON.
//
//	bench [-only postgres-archive,sqlite,plan] [-rounds 5] [-rows N] [-keep-days 600]
//	  [-load-rounds 3] [-arm 2m] [-out bench/out]
package main

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"
)

// The rows lie in 1,000 days before anchor, of which keepDays are kept.
const anchor = "2026-11-23"

var keepDays = 600

// cutoff is the instant before which rows are due, by hand and for the service.
func cutoff() time.Time {
	at, _ := time.Parse(time.DateOnly, anchor)
	return at.AddDate(0, 0, -keepDays)
}

// part is what one of several sessions by hand takes: the rows from one instant until before another.
type part struct{ from, until string }

// parts divides the rows that are due among sessions. The first begins with the oldest row, whatever its time; so a
// single session has no lower bound.
func parts(sessions int) (out []part) {
	begin, _ := time.Parse(time.DateOnly, anchor)
	begin = begin.AddDate(0, 0, -1000)
	each := cutoff().Sub(begin) / time.Duration(sessions)
	for i := range sessions {
		p := part{"", begin.Add(time.Duration(i+1) * each).Format(time.DateTime)}
		if i > 0 {
			p.from = out[i-1].until
		}
		out = append(out, p)
	}
	return out
}

// condition is a part as SQL; literal writes an instant as the engine does.
func (p part) condition(literal string) string {
	sql := "scanned_at < " + fmt.Sprintf(literal, p.until)
	if p.from != "" {
		sql += " and scanned_at >= " + fmt.Sprintf(literal, p.from)
	}
	return sql
}

// ordered is how a part that others delete from as well is taken: along the index, past what the others have deleted.
func ordered(sessions int) string {
	if sessions > 1 {
		return " order by scanned_at"
	}
	return ""
}

// abreast is a shell script that runs one command for each part side by side, and fails where one of them does.
func abreast(sessions int, command func(n int, p part) string) string {
	var script strings.Builder
	for i, p := range parts(sessions) {
		fmt.Fprintf(&script, "( %s\n) & p%d=$!\n", command(i, p), i)
	}
	for i := range sessions {
		fmt.Fprintf(&script, "wait $p%d\n", i)
	}
	return script.String()
}

// nth is the name of the file of one of several sessions.
func nth(file string, n int) string { return fmt.Sprintf("%s.%d", file, n) }

// table is the table scan of one engine: rows of about 110 bytes over 1,000 days, three indexes.
type table interface {
	// settings are the server's; those that make a commit durable are named even where they are the defaults.
	settings() []string
	fill(rows int) error
	// fresh puts the table back as fill left it, and its pages into the server's memory.
	fresh() error
	// address is what the service is told.
	address() (engine, address string)
	// archive and purge are the script of a careful administrator: the rows through zstd into a file, and the loop of
	// deletes; each in so many sessions side by side, with a file and a part of the time each.
	archive(ctx context.Context, file string, sessions int) error
	purge(ctx context.Context, sessions int) error
	count(ctx context.Context) (int64, error)
	close()
}

// work is moving rows on one engine.
type work struct {
	name  string
	rows  int
	start func() (table, error)
	purge bool
}

// works are what can be measured, with the rows of the table.
var works = []work{
	{"postgres-archive", 5_000_000, startPostgres, false},
	{"postgres-purge", 5_000_000, startPostgres, true},
	{"mariadb-archive", 2_500_000, startMariaDB, false},
	{"mariadb-purge", 2_500_000, startMariaDB, true},
	{"sqlite-archive", 2_500_000, startSQLite, false},
	{"sqlite-purge", 2_500_000, startSQLite, true},
	{onlyNamed + "postgres", 100_000_000, startNarrow, false},
}

// onlyNamed begins the names of works that are measured where they are asked for by name: once, with -alone -rounds 1.
const onlyNamed = "long-"

// measure is one round of one side.
type measure struct {
	Seconds     float64 `json:"seconds"`
	CopySeconds float64 `json:"copy_seconds,omitempty"` // by hand: until the file is written
	// of the whole machine: server, service and scripts together
	Processor  float64   `json:"processor_seconds"`
	Service    float64   `json:"service_seconds,omitempty"` // of processors, the service's own
	Bytes      int64     `json:"archive_bytes,omitempty"`
	PeakMemory int64     `json:"peak_memory_bytes,omitempty"` // of the service, resident
	Memory     []int64   `json:"memory_bytes,omitempty"`      // resident, sampled evenly over the run
	Rates      []float64 `json:"rows_per_second,omitempty"`   // in each tenth of the run
}

type report struct {
	Work     string               `json:"work"`
	When     string               `json:"when"`
	Machine  string               `json:"machine"`
	Settings []string             `json:"server_settings"`
	Rows     int                  `json:"rows"`
	Due      int64                `json:"rows_due"`
	Rounds   map[string][]measure `json:"rounds"`
	Ratios   map[string]float64   `json:"ratios_of_medians"`
}

// asked is what the command line asks for.
type asked struct {
	rows, rounds, planRows, loadRounds int
	out, program, beside, only         string
	arm                                time.Duration
	share                              float64
	alone, idle                        bool
}

func main() {
	var a asked
	flag.IntVar(&a.rows, "rows", 0, "rows of the table; 0: 5 million on PostgreSQL, 2.5 million on the others")
	flag.IntVar(&a.rounds, "rounds", 5, "rounds of each side, in turn")
	flag.StringVar(&a.out, "out", "bench/out", "directory for the JSON")
	flag.IntVar(&a.planRows, "plan-rows", 5_000_000, "rows of the table that is planned")
	flag.IntVar(&a.loadRounds, "load-rounds", 3, "rounds of each arm of the loads, in turn")
	flag.DurationVar(&a.arm, "arm", 0, "length of an arm: left out, two minutes of a constant load, and as long as "+
		"one that changes lasts, whose phases become shorter or longer otherwise")
	some := flag.String("arms", "", "of the loads, separated by commas; empty: "+strings.Join(arms, ", ")+"; \""+
		armOurs+atBound+"5%\" is a run with a bound of its own, and what ends in \""+ofOther+
		"\" is done by the binary of -beside")
	flag.Float64Var(&a.share, "share", 0.3, "of saturation, that the workload of the loads is")
	flag.BoolVar(&a.alone, "alone", false,
		"measure ours alone, and how its rate and memory hold over a run: with -rows 11000000 -keep-days 90 each "+
			"tenth of a run is a million")
	flag.BoolVar(&a.idle, "idle", false,
		"measure the gentle pace in turn with the unlimited one, where nobody else is at work, and nothing by hand")
	flush := flag.Duration("flush", 0, "how long a commit waits for the log's disk at the least, by the servers' own "+
		"settings; 0: as long as the disk takes")
	flag.IntVar(&keepDays, "keep-days", keepDays, "newest days, of the 1,000 of the table, that stay")
	flag.StringVar(&a.program, "program", "build/ambercellar", "the service's binary")
	flag.StringVar(&a.beside, "beside", "",
		"measure another build of the service, this binary, in turn with ours, and "+
			"nothing by hand: what a change made of archiving and purging")
	redraw := flag.String("draw", "", "measure nothing: draw the load that this JSON file holds once more, into -out")
	flag.StringVar(&a.only, "only", "",
		"measure only works whose names begin with one of these, separated by commas: "+
			strings.Join(names(), ", ")+", postgres-load, mariadb-load, and -rush, -waves and -day of either where "+
			"named, postgres-partition, mariadb-partition, "+
			"wide-postgres, wide-mariadb, wide-sqlite, small-postgres, small-mariadb, small-sqlite, search, "+
			"restore, plan, size-tables, size-catalog, "+
			"schedules, outbox, year, access")
	flag.Parse()
	if *flush > 0 {
		slowFlush(*flush)
	}
	if *redraw != "" {
		if err := redrawn(*redraw, a.out); err != nil {
			log.Fatal(err)
		}
		return
	}
	if *some != "" {
		arms = strings.Split(*some, ",")
	}
	if err := a.measure(context.Background()); err != nil {
		log.Fatal(err)
	}
}

// wanted says whether a work is asked for.
func (a *asked) wanted(name string) bool {
	return a.only == "" && !strings.HasPrefix(name, onlyNamed) || slices.ContainsFunc(strings.Split(a.only, ","),
		func(p string) bool { return strings.HasPrefix(name, p) })
}

// size is the rows that are asked for, or so many.
func (a *asked) size(rows int) int {
	if a.rows > 0 {
		return a.rows
	}
	return rows
}

// measure measures all works that are asked for, one after the other.
func (a *asked) measure(ctx context.Context) error {
	done, err := a.moves(ctx)
	if err != nil {
		return err
	}
	for _, x := range []struct {
		name string
		do   func() error
	}{
		{"postgres-load", func() error { return a.loads(ctx, "postgres", a.size(5_000_000)) }},
		{"mariadb-load", func() error { return a.loads(ctx, "mariadb", a.size(2_500_000)) }},
		{"postgres-partition", func() error { return a.drop(ctx, "postgres") }},
		{"mariadb-partition", func() error { return a.drop(ctx, "mariadb") }},
		{"wide", func() error { return wides(ctx, a.program, a.wanted) }},
		{"search", func() error { return searches(ctx, a.size(10_000_000), a.rounds, a.out, a.program) }},
		{"restore", func() error { return restores(ctx, a.size(2_500_000), a.rounds, a.out, a.program) }},
		{"plan", func() error { return plans(ctx, a.planRows, a.rounds, a.out, a.program) }},
		{"size-tables", func() error { return sizes(ctx, "size-tables", a.out, a.program) }},
		{"size-catalog", func() error { return sizes(ctx, "size-catalog", a.out, a.program) }},
		{"schedules", func() error { return sizes(ctx, "schedules", a.out, a.program) }},
		{"outbox", func() error { return sizes(ctx, "outbox", a.out, a.program) }},
		{"year", func() error { return sizes(ctx, "year", a.out, a.program) }},
		{"access", func() error { return sizes(ctx, "access", a.out, a.program) }},
	} {
		wanted := a.wanted(x.name)
		if x.name == "wide" {
			wanted = a.wanted("wide-postgres") || a.wanted("wide-mariadb") || a.wanted("wide-sqlite")
		}
		if !wanted {
			continue
		}
		if err := x.do(); err != nil {
			return fmt.Errorf("%s: %w", x.name, err)
		}
	}
	for _, w := range works {
		engine, what, _ := strings.Cut(w.name, "-")
		if what == "archive" && a.wanted("small-"+engine) {
			if err := small(ctx, engine, w.start, a.rounds, a.program); err != nil {
				return fmt.Errorf("small runs on %s: %w", engine, err)
			}
		}
	}
	for _, engine := range []string{"postgres", "mariadb"} {
		for name := range loadsThatChange {
			if whole := engine + "-" + name; slices.Contains(strings.Split(a.only, ","), whole) {
				if err := a.changes(ctx, name, engine, a.size(8_000_000)); err != nil {
					return fmt.Errorf("%s: %w", whole, err)
				}
			}
		}
	}
	summary(done)
	return nil
}

// moves measures archiving and purging, against the script by hand.
func (a *asked) moves(ctx context.Context) (done []*report, err error) {
	sides := []string{byHand, byHandAgain, byTwoHands, ours} // the first two against each other show the noise
	switch {
	case a.alone:
		sides = []string{ours}
	case a.beside != "":
		sides = []string{otherBuild, ours}
	case a.idle:
		sides = []string{ours, oursGently}
	}
	for _, w := range works {
		if !a.wanted(w.name) {
			continue
		}
		r, err := a.run(ctx, w, sides)
		if err == nil && a.alone {
			r.hold()
			continue
		}
		if err == nil && (a.beside != "" || a.idle) {
			r.compare(sides)
			continue
		}
		if err == nil {
			err = r.finish(a.out)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", w.name, err)
		}
		done = append(done, r)
	}
	return done, nil
}

func (a *asked) drop(ctx context.Context, engine string) error {
	return drops(ctx, engine, a.size(2_000_000), a.rounds, a.out, a.program)
}

// machine is what everything was measured on.
var machine = fmt.Sprintf("%d processors, %s/%s", runtime.NumCPU(), runtime.GOOS, runtime.GOARCH)

func names() (out []string) {
	for _, w := range works {
		out = append(out, w.name)
	}
	return out
}

// The sides of a work. By two hands is by hand in two sessions.
const byHand, byHandAgain, byTwoHands, ours, otherBuild, oursGently = "by hand", "by hand again", "by two hands",
	"ours", "other build", "ours, gentle"

// run measures the sides of a work, in turn.
func (a *asked) run(ctx context.Context, w work, sides []string) (*report, error) {
	t, err := w.start()
	if err != nil {
		return nil, err
	}
	defer t.close()
	rows := a.size(w.rows)
	fmt.Printf("\n%s: %s\nfilling a table of %d rows\n", w.name, strings.Join(t.settings(), ", "),
		rows)
	if err := t.fill(rows); err != nil {
		return nil, err
	}
	r := &report{Work: w.name, When: time.Now().UTC().Format(time.RFC3339), Machine: machine,
		Settings: t.settings(), Rows: rows, Rounds: map[string][]measure{}}
	for round := range a.rounds {
		for _, side := range sides {
			m, gone, err := a.once(ctx, t, side, w.purge)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", side, err)
			}
			if r.Due == 0 {
				r.Due = gone
			}
			if gone != r.Due {
				return nil, fmt.Errorf("%s deleted %d rows and the first side %d", side, gone, r.Due)
			}
			r.Rounds[side] = append(r.Rounds[side], m)
			fmt.Printf("round %d, %-13s  %6.2f s  %6.2f s of processors (service %5.2f s)  %6.1f MB  peak memory "+
				"%4d MiB\n", round+1, side, m.Seconds, m.Processor, m.Service, float64(m.Bytes)/1e6, m.PeakMemory>>20)
		}
	}
	return r, nil
}

// hold prints how rate and memory hold over each run.
func (r *report) hold() {
	for i, m := range r.Rounds[ours] {
		fmt.Printf("round %d, rows a second in each tenth of %d:", i+1, r.Due)
		for _, x := range m.Rates {
			fmt.Printf(" %.0f", x)
		}
		if n := len(m.Rates); n > 2 {
			fmt.Printf("; last to first %.2f, last to second %.2f", m.Rates[n-1]/m.Rates[0], m.Rates[n-1]/m.Rates[1])
		}
		fmt.Printf("\nresident memory at the most: %d MiB in the first half, %d in the second\n",
			slices.Max(m.Memory[:len(m.Memory)/2])>>20, slices.Max(m.Memory[len(m.Memory)/2:])>>20)
	}
}

// compare prints a line of a table: two sides, medians with the least and the most, and their ratio. The rounds of
// either are in turn, so that what the machine does meanwhile falls on both.
func (r *report) compare(sides []string) {
	other, mine := r.Rounds[sides[0]], r.Rounds[sides[1]]
	span := func(of []measure) string {
		least := slices.MinFunc(of, func(a, b measure) int { return cmp.Compare(a.Seconds, b.Seconds) })
		most := slices.MaxFunc(of, func(a, b measure) int { return cmp.Compare(a.Seconds, b.Seconds) })
		return fmt.Sprintf("%.2f s (%.2f to %.2f)", median(of, seconds), least.Seconds, most.Seconds)
	}
	fmt.Printf("| %s | %d of %d | %s | %s | %.2f × | %.0f, %.0f MiB |\n", r.Work, r.Due, r.Rows, span(other),
		span(mine),
		median(mine, seconds)/median(other, seconds), median(other, memory)/(1<<20), median(mine, memory)/(1<<20))
}

// once is one round of one side, on a fresh table; what the disk still has to write of that is written first.
func (a *asked) once(ctx context.Context, t table, side string, purge bool) (m measure, gone int64, err error) {
	dir, err := os.MkdirTemp("", "ambercellar-bench-")
	if err != nil {
		return m, 0, err
	}
	defer os.RemoveAll(dir)
	if err := t.fresh(); err != nil {
		return m, 0, err
	}
	syscall.Sync()
	before, err := t.count(ctx)
	if err != nil {
		return m, 0, err
	}
	busy := processor()
	switch side {
	case ours:
		m, err = byService(ctx, t, dir, purge, a.program, "unlimited")
	case oursGently:
		m, err = byService(ctx, t, dir, purge, a.program, "gentle")
	case otherBuild:
		m, err = byService(ctx, t, dir, purge, a.beside, "unlimited")
	case byTwoHands:
		m, err = handwork(ctx, t, dir, purge, 2)
	default:
		m, err = handwork(ctx, t, dir, purge, 1)
	}
	if err != nil {
		return m, 0, err
	}
	m.Processor = processor() - busy
	after, err := t.count(ctx)
	return m, before - after, err
}

func handwork(ctx context.Context, t table, dir string, purge bool, sessions int) (m measure, err error) {
	begun := time.Now()
	if !purge {
		file := filepath.Join(dir, "scan.zst")
		if err := t.archive(ctx, file, sessions); err != nil {
			return m, err
		}
		m.CopySeconds = time.Since(begun).Seconds()
		for n := range sessions {
			st, err := os.Stat(nth(file, n))
			if err != nil {
				return m, err
			}
			m.Bytes += st.Size()
		}
	}
	err = t.purge(ctx, sessions)
	m.Seconds = time.Since(begun).Seconds()
	return m, err
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

func seconds(m measure) float64 { return m.Seconds }
func bytes(m measure) float64   { return float64(m.Bytes) }
func memory(m measure) float64  { return float64(m.PeakMemory) }

// finish works the ratios out and writes the JSON.
func (r *report) finish(out string) error {
	hand, again, mine := r.Rounds[byHand], r.Rounds[byHandAgain], r.Rounds[ours]
	var firstHalf, secondHalf, firstRate, lastRate float64
	for _, m := range mine {
		if n := len(m.Memory); n >= 10 {
			firstHalf += float64(slices.Max(m.Memory[:n/2]))
			secondHalf += float64(slices.Max(m.Memory[n/2:]))
		}
		if n := len(m.Rates); n >= 4 { // the first and the last tenth are those of beginning and ending
			firstRate += m.Rates[1]
			lastRate += m.Rates[n-2]
		}
	}
	both := append(slices.Clone(hand), again...)
	r.Ratios = map[string]float64{
		"time, ours to by hand":       median(mine, seconds) / median(both, seconds),
		"time, by hand to by hand":    median(again, seconds) / median(hand, seconds),
		"rate, ninth tenth to second": lastRate / max(firstRate, 1),
		"processors, ours to by hand": median(mine,
			func(m measure) float64 { return m.Processor }) / median(both,
			func(m measure) float64 { return m.Processor }),
		"peak memory, second half to first half, ours": secondHalf / max(firstHalf, 1),
	}
	if two := r.Rounds[byTwoHands]; len(two) > 0 {
		r.Ratios["time, ours to by two hands"] = median(mine, seconds) / median(two, seconds)
	}
	if median(hand, bytes) > 0 {
		r.Ratios["archive bytes, ours to by hand"] = median(mine, bytes) / median(hand, bytes)
	}
	fmt.Println()
	for _, name := range []string{byHand, byHandAgain, byTwoHands, ours} {
		if len(r.Rounds[name]) == 0 {
			continue
		}
		fmt.Printf("%-16s %8.2f s %8.1f MB\n", name, median(r.Rounds[name], seconds),
			median(r.Rounds[name], bytes)/1e6)
	}
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range r.Ratios {
			if !yield(name) {
				return
			}
		}
	}) {
		fmt.Printf("%-46s %6.2f\n", name, r.Ratios[name])
	}
	return written(out, r.Work, r)
}

// written writes a report as JSON into a directory, under the name of the work.
func written(out, work string, report any) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	b, err := json.MarshalIndent(report, "", "  ")
	if err != nil {
		return err
	}
	path := filepath.Join(out, work+".json")
	fmt.Println("written to", path)
	return os.WriteFile(path, append(b, '\n'), 0o644)
}

// summary is the table for the README.
func summary(done []*report) {
	if len(done) == 0 {
		return
	}
	fmt.Printf("\n| work | rows | by hand | by two hands | ours | time | to two hands | noise | bytes | memory " +
		"|\n|---|---|---|---|---|---|---|---|---|---|\n")
	for _, r := range done {
		size := "–"
		if x, ok := r.Ratios["archive bytes, ours to by hand"]; ok {
			size = fmt.Sprintf("%.2f ×", x)
		}
		fmt.Printf("| %s | %d of %d | %.2f s | %.2f s | %.2f s | %.2f × | %.2f × | %.2f × | %s | %.0f MiB |\n",
			r.Work, r.Due, r.Rows, median(r.Rounds[byHand], seconds), median(r.Rounds[byTwoHands], seconds),
			median(r.Rounds[ours], seconds), r.Ratios["time, ours to by hand"],
			r.Ratios["time, ours to by two hands"], r.Ratios["time, by hand to by hand"], size,
			median(r.Rounds[ours], memory)/(1<<20))
	}
}
