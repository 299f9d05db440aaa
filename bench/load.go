package main

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// Arms of the measurement: the same workload, with this going on beside it.
const (
	armNone   = "no run"
	armAgain  = "no run again"
	armOurs   = "gentle run"
	armPurge  = "gentle purge"
	armDelete = "one DELETE"
	armLoop   = "by-hand loop"
)

// Each round goes through them in this order; what is done by hand is seen in the first alone.
var arms = []string{armNone, armOurs, armPurge, armLoop, armDelete, armAgain}

// atBound stands between what an arm is and a bound of its own: "gentle run at 5%", "gentle purge at 40%".
const atBound = " at "

// ofOther ends the name of an arm that the build of -beside goes through.
const ofOther = " of the other build"

// loadKeep days leave four fifths of the rows due, so that a run does not come to its end within an arm.
const loadKeep = 200

// workload is one database under load.
type workload struct {
	table
	db            *sql.DB
	rows          int
	read, update  string // by key
	insert        string
	oldest, least string       // what administrators ask an index that still holds what was removed
	garbage       string       // dead rows, or length of the undo history
	logSize       func() int64 // of the transaction log's files
	all           string       // one DELETE of everything that is due
}

// second is what the workload saw in one second.
type second struct {
	Count int     `json:"count"`
	P50   float64 `json:"p50_ms"`
	P99   float64 `json:"p99_ms"`
	Gone  float64 `json:"rows_gone"` // a second, by what goes on beside the workload
	// Share of the processors' time that others on the host had in it.
	Stolen float64 `json:"stolen"`
}

// armResult is one round of one arm.
type armResult struct {
	P50, P99, P999 float64  // of the calm seconds, as all percentiles here
	ReadsP99       float64  `json:"reads_p99_ms"`
	WritesP99      float64  `json:"writes_p99_ms"`
	Seconds        []second `json:"seconds"`
	Statements     int      `json:"statements"`
	Failed         int      `json:"failed"`
	Deadlocks      int      `json:"deadlocks"`
	Timeouts       int      `json:"lock_timeouts"`
	Gone           int64    `json:"rows_gone"`
	PeakLog        int64    `json:"peak_log_bytes"`
	PeakGarbage    int64    `json:"peak_garbage"`
	Oldest         float64  `json:"oldest_row_ms"`      // median while it goes on
	Least          float64  `json:"smallest_key_ms"`    //
	OldestLast     float64  `json:"oldest_row_ms_last"` // right after
	LeastLast      float64  `json:"smallest_key_ms_last"`
	Calm           int      `json:"calm_seconds"`   // in which the host left this machine its processors
	CalmRate       float64  `json:"calm_rows_gone"` // a second, in those
	Stolen         float64  `json:"stolen"`         // share of the processors' time that others on the host had

	Course *client.Course `json:"course,omitempty"` // of our run
}

type loadReport struct {
	Work     string                 `json:"work"`
	When     string                 `json:"when"`
	Settings []string               `json:"server_settings"`
	Rate     float64                `json:"statements_per_second"`
	Share    float64                `json:"share_of_saturation"`
	Length   float64                `json:"arm_seconds"`
	Rounds   map[string][]armResult `json:"rounds"`
}

// loads measures the workload's latency beside each arm.
func (a *asked) loads(ctx context.Context, engine string, rows int) error {
	w, err := startLoad(engine, rows)
	if err != nil {
		return err
	}
	defer w.close()
	fmt.Printf("\n%s-load: %s\nfilling a table of %d rows with three indexes\n", engine,
		strings.Join(w.settings(), ", "), rows)
	if err := w.fill(rows); err != nil {
		return err
	}
	r := &loadReport{Work: engine + "-load", When: time.Now().UTC().Format(time.RFC3339), Settings: w.settings(),
		Share: a.share, Length: a.lasts().Seconds(), Rounds: map[string][]armResult{}}
	if err := w.begin(); err != nil {
		return err
	}
	most, err := w.saturate(ctx)
	if err != nil {
		return err
	}
	r.Rate = most * a.share
	fmt.Printf("saturated at %.0f statements a second; the load is %.0f\n", most, r.Rate)
	for round := range a.loadRounds {
		for _, arm := range arms {
			if (arm == armLoop || arm == armDelete) && round > 0 {
				continue
			}
			if err := w.begin(); err != nil {
				return err
			}
			program, other := a.program, strings.HasSuffix(arm, ofOther)
			if other && a.beside == "" {
				return fmt.Errorf("arm %q: name the binary of the other build with -beside", arm)
			} else if other {
				program = a.beside
			}
			x, err := w.arm(ctx, strings.TrimSuffix(arm, ofOther), most, load{{"", a.lasts(), a.share}}, program)
			if err != nil {
				return fmt.Errorf("%s: %w", arm, err)
			}
			r.Rounds[arm] = append(r.Rounds[arm], *x)
			fmt.Printf("round %d, %-13s p50 %6.2f ms  p99 %7.2f ms (reads %.2f, writes %.2f)  p99.9 %8.2f ms  %d "+
				"statements, %d failed, %d deadlocks, %d lock timeouts; %d rows gone; log %d MB, garbage %d; "+
				"oldest row %.1f ms (after: %.1f), smallest key %.1f ms (after: %.1f); %.1f %% stolen, "+
				"%d calm seconds, %.0f rows a second in them\n",
				round+1, arm, x.P50, x.P99, x.ReadsP99, x.WritesP99, x.P999, x.Statements, x.Failed, x.Deadlocks,
				x.Timeouts, x.Gone, x.PeakLog/1e6, x.PeakGarbage, x.Oldest, x.OldestLast, x.Least, x.LeastLast,
				100*x.Stolen, x.Calm, x.CalmRate)
		}
	}
	return r.finish(a.out)
}

// slowFlush makes each commit wait, as a slow disk would: the servers wait for others to commit along, whether any do
// or not (PostgreSQL documentation, commit_delay; MariaDB documentation, binlog_commit_wait_usec).
func slowFlush(wait time.Duration) {
	postgresSettings = append(postgresSettings, fmt.Sprintf("commit_delay=%d", wait.Microseconds()),
		"commit_siblings=0")
	mariaSettings = append(mariaSettings, fmt.Sprintf("binlog-commit-wait-usec=%d", wait.Microseconds()),
		"binlog-commit-wait-count=1000000")
}

func startLoad(engine string, rows int) (*workload, error) {
	w := &workload{rows: rows}
	due := time.Duration(loadKeep) * 24 * time.Hour
	at, _ := time.Parse(time.DateOnly, anchor)
	before := at.Add(-due).Format(time.DateOnly)
	switch engine {
	case "postgres":
		t, err := startPostgres()
		if err != nil {
			return nil, err
		}
		p := t.(postgres)
		w.table = t
		w.read, w.update = "SELECT booking_id, outcome, note FROM scan WHERE id = $1",
			"UPDATE scan SET note = $2 WHERE id = $1"
		w.insert = "INSERT INTO scan (booking_id, vessel, gate, scanned_at, outcome, fare, device, note) VALUES " +
			"($1, 'Heron', 3, '2026-11-23 12:00:00+00', 'ok', 12.50, gen_random_uuid(), NULL)"
		w.oldest, w.least = "SELECT min(scanned_at)::text FROM scan", "SELECT min(id) FROM scan"
		w.garbage = "SELECT coalesce(sum(n_dead_tup), 0)::bigint FROM pg_stat_user_tables WHERE relname = 'scan'"
		w.logSize = func() int64 { return sizeOf(filepath.Join(p.Data(), "pg_wal")) }
		w.all = "DELETE FROM scan WHERE scanned_at < '" + before + "'"
	case "mariadb":
		t, err := startMariaDB()
		if err != nil {
			return nil, err
		}
		m := t.(*maria)
		w.table = t
		w.read, w.update = "SELECT booking_id, outcome, note FROM scan WHERE id = ?",
			"UPDATE scan SET note = ? WHERE id = ?"
		w.insert = "INSERT INTO scan (booking_id, vessel, gate, scanned_at, outcome, fare, device, note) VALUES " +
			"(?, 'Heron', 3, '2026-11-23 12:00:00', 'ok', 12.50, uuid(), NULL)"
		w.oldest, w.least = "SELECT min(scanned_at) FROM scan", "SELECT min(id) FROM scan"
		w.garbage = "SELECT variable_value + 0 FROM information_schema.global_status WHERE variable_name = " +
			"'Innodb_history_list_length'"
		w.logSize = func() int64 { return sizeOf(m.Data(), "ib_logfile", "-bin.", "undo") }
		w.all = "DELETE FROM scan WHERE scanned_at < '" + before + "'"
	default:
		return nil, fmt.Errorf("%s takes no concurrent writers", engine)
	}
	return w, nil
}

// sizeOf adds up the files of a directory, of those whose name contains one of the parts where any are given.
func sizeOf(dir string, parts ...string) (n int64) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if st, err := e.Info(); err == nil &&
			(len(parts) == 0 || slices.ContainsFunc(parts,
				func(p string) bool { return strings.Contains(e.Name(), p) })) {
			n += st.Size()
		}
	}
	return n
}

// begin puts the table back and opens the workload's sessions.
func (w *workload) begin() (err error) {
	if w.db != nil {
		w.db.Close()
	}
	if err := w.fresh(); err != nil {
		return err
	}
	syscall.Sync()
	engine, address := w.address()
	if engine == "mariadb" {
		w.db, err = dbtest.OpenMariaDB(address)
	} else {
		w.db, err = sql.Open("pgx", address)
	}
	if err == nil {
		w.db.SetMaxOpenConns(48)
		w.db.SetMaxIdleConns(48)
	}
	return err
}

// statements are prepared once for all sessions.
type statements struct{ read, update, insert *sql.Stmt }

func (w *workload) prepare() (s statements, err error) {
	for text, at := range map[string]**sql.Stmt{w.read: &s.read, w.update: &s.update, w.insert: &s.insert} {
		if *at, err = w.db.Prepare(text); err != nil {
			return s, err
		}
	}
	return s, nil
}

// do runs one statement of the mix and tells whether it was a read: a quarter inserts; of the others two thirds reads
// and one third updates, by key, and of those one third on aged rows, which makes a quarter of all.
func (w *workload) do(ctx context.Context, s statements, r *rand.Rand) (read bool, err error) {
	x := r.Float64()
	if x < 0.25 {
		_, err := s.insert.ExecContext(ctx, r.IntN(1_000_000))
		return false, err
	}
	due := w.rows * (1000 - loadKeep) / 1000
	id := due + 1 + r.IntN(w.rows-due)
	if r.IntN(3) == 0 {
		id = 1 + r.IntN(due)
	}
	if x < 0.75 {
		var booking int64
		var outcome string
		var note sql.NullString
		err := s.read.QueryRowContext(ctx, id).Scan(&booking, &outcome, &note)
		if errors.Is(err, sql.ErrNoRows) { // it has been archived
			err = nil
		}
		return true, err
	}
	args := []any{id, "seen"}
	if strings.Contains(w.update, "?") {
		args = []any{"seen", id}
	}
	_, err = s.update.ExecContext(ctx, args...)
	return false, err
}

// saturate finds how many statements a second the server takes with as many sessions as it likes.
func (w *workload) saturate(ctx context.Context) (float64, error) {
	s, err := w.prepare()
	if err != nil {
		return 0, err
	}
	const warm, length = 2 * time.Second, 6 * time.Second
	var done atomic.Int64
	var wait sync.WaitGroup
	begun := time.Now()
	var failed atomic.Value
	for i := range 16 {
		wait.Add(1)
		go func() {
			defer wait.Done()
			r := rand.New(rand.NewPCG(uint64(i), 1))
			for time.Since(begun) < warm+length {
				if _, err := w.do(ctx, s, r); err != nil {
					failed.Store(err)
					return
				}
				if time.Since(begun) > warm {
					done.Add(1)
				}
			}
		}()
	}
	wait.Wait()
	if err, ok := failed.Load().(error); ok {
		return 0, err
	}
	return float64(done.Load()) / length.Seconds(), nil
}

// sampleOf is one statement: when it should have begun, counted from the arm's start, how long it took from then, and
// whether it only read.
type sampleOf struct {
	at, took time.Duration
	read     bool
}

// phase is a stretch of time in which the workload is a share of what saturates the server.
type phase struct {
	Name   string        `json:"name"`
	Length time.Duration `json:"length"`
	Share  float64       `json:"share"`
}

// load is how much the workload does, phase by phase.
type load []phase

// lasts is the length of an arm of a constant load.
func (a *asked) lasts() time.Duration { return cmp.Or(a.arm, 2*time.Minute) }

func (l load) length() (sum time.Duration) {
	for _, p := range l {
		sum += p.Length
	}
	return sum
}

// lasting is the load with phases so long, in whole seconds, that all of them last about as long as is said.
func (l load) lasting(all time.Duration) (out load) {
	whole := l.length()
	for _, p := range l {
		p.Length = max(time.Duration(float64(p.Length)*float64(all)/float64(whole)).Round(time.Second), time.Second)
		out = append(out, p)
	}
	return out
}

// busy says whether the workload does anything at an instant.
func (l load) busy(at time.Duration) bool {
	for _, p := range l {
		if at -= p.Length; at < 0 {
			return p.Share > 0
		}
	}
	return false
}

// each calls do with the instant of each statement, counted from the beginning, where most saturates the server.
func (l load) each(most float64, do func(due time.Duration)) {
	began := time.Duration(0)
	for _, p := range l {
		if rate := most * p.Share; rate > 0 {
			for n := 0; float64(n) < p.Length.Seconds()*rate; n++ {
				do(began + time.Duration(float64(n)/rate*float64(time.Second)))
			}
		}
		began += p.Length
	}
}

// warm is how long the workload goes on, as in its first phase, before anything is measured.
const warm = 4 * time.Second

// arm runs the workload as its load says, each statement at its time whether the ones before have ended or not, with
// what the arm names beside it.
func (w *workload) arm(ctx context.Context, arm string, most float64, l load, program string) (*armResult, error) {
	s, err := w.prepare()
	if err != nil {
		return nil, err
	}
	length := l.length()
	before, err := w.count(ctx)
	if err != nil {
		return nil, err
	}
	out := &armResult{}
	var lock sync.Mutex
	var samples []sampleOf
	var wait sync.WaitGroup
	slots := make(chan *rand.Rand, 400)
	for i := range cap(slots) {
		slots <- rand.New(rand.NewPCG(uint64(i), 7))
	}
	x, err := w.beside(ctx, arm, program)
	if err != nil {
		return nil, err
	}
	becalmed()
	kept := stolen()
	begun := time.Now()
	var watching sync.WaitGroup
	var oldest, least []float64
	watching.Go(func() {
		time.Sleep(time.Until(begun.Add(warm)))
		go x.start()
		for time.Since(begun) < warm+length {
			if l.busy(time.Since(begun) - warm) { // whoever asks is at work
				w.watch(ctx, out)
				oldest, least = append(oldest, w.ask(ctx, w.oldest)), append(least, w.ask(ctx, w.least))
			}
			time.Sleep(time.Second)
		}
	})
	watching.Go(func() { out.Seconds = bySecond(ctx, x.gone, begun.Add(warm), length) })
	slices.Concat(load{{"", warm, l[0].Share}}, l).each(most, func(due time.Duration) {
		time.Sleep(time.Until(begun.Add(due)))
		r := <-slots
		wait.Go(func() {
			read, err := w.do(ctx, s, r)
			took := time.Since(begun) - due
			slots <- r
			lock.Lock()
			defer lock.Unlock()
			if due >= warm {
				samples = append(samples, sampleOf{due - warm, took, read})
			}
			out.failed(err)
		})
	})
	wait.Wait()
	watching.Wait()
	out.Stolen = (stolen() - kept) / time.Since(begun).Seconds() / float64(runtime.NumCPU())
	if err := x.stop(); err != nil {
		return nil, err
	}
	out.Course = x.course
	out.OldestLast, out.LeastLast = w.ask(ctx, w.oldest), w.ask(ctx, w.least)
	out.Oldest, out.Least = middle(oldest), middle(least)
	after := int64(0)
	if err := w.db.QueryRowContext(ctx, "SELECT count(*) FROM scan WHERE scanned_at < '2026-11-23'").Scan(
		&after); err != nil {
		return nil, err
	}
	out.Gone = before - after
	out.take(samples)
	return out, nil
}

// bySecond asks once a second how many rows have gone and how much of the processors' time was stolen.
func bySecond(ctx context.Context, gone func(context.Context) int64, from time.Time, length time.Duration) []second {
	out := make([]second, int(length.Seconds()))
	time.Sleep(time.Until(from))
	at, before, kept := from, int64(0), stolen()
	for i := range out {
		time.Sleep(time.Until(from.Add(time.Duration(i+1) * time.Second)))
		n, k, now := gone(ctx), stolen(), time.Now()
		took := now.Sub(at).Seconds()
		out[i].Gone = float64(max(n-before, 0)) / took
		out[i].Stolen = (k - kept) / took / float64(runtime.NumCPU())
		at, before, kept = now, max(n, before), k
	}
	return out
}

// calmAt says whether the host left this machine its processors in a second and in the one before it, so that what
// queued up then is not counted either.
func (r *armResult) calmAt(i int) bool {
	return i < len(r.Seconds) && r.Seconds[i].Stolen <= calm && (i == 0 || r.Seconds[i-1].Stolen <= calm)
}

// failed counts a statement that ended in an error, by its kind.
func (r *armResult) failed(err error) {
	var pg *pgconn.PgError
	var my *mysql.MySQLError
	switch {
	case err == nil:
	case errors.As(err, &pg) && pg.Code == "40P01", errors.As(err, &my) && my.Number == 1213:
		r.Deadlocks++
	case errors.As(err, &pg) && pg.Code == "55P03", errors.As(err, &my) && my.Number == 1205:
		r.Timeouts++
	default:
		r.Failed++
	}
}

func middle(list []float64) float64 {
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return (list[(len(list)-1)/2] + list[len(list)/2]) / 2
}

// ask times one query, in milliseconds.
func (w *workload) ask(ctx context.Context, query string) float64 {
	begun := time.Now()
	var v sql.NullString
	w.db.QueryRowContext(ctx, query).Scan(&v)
	return time.Since(begun).Seconds() * 1000
}

func (w *workload) watch(ctx context.Context, out *armResult) {
	var n int64
	if w.db.QueryRowContext(ctx, w.garbage).Scan(&n) == nil {
		out.PeakGarbage = max(out.PeakGarbage, n)
	}
	out.PeakLog = max(out.PeakLog, w.logSize())
}

// take computes the percentiles, of the calm seconds together and of each second.
func (r *armResult) take(samples []sampleOf) {
	quantile := func(list []time.Duration, q float64) float64 {
		if len(list) == 0 {
			return 0
		}
		return list[min(int(q*float64(len(list))), len(list)-1)].Seconds() * 1000
	}
	var all, reads, writes []time.Duration
	bySecond := make([][]time.Duration, len(r.Seconds))
	for _, s := range samples {
		at := min(int(s.at.Seconds()), len(bySecond)-1)
		bySecond[at] = append(bySecond[at], s.took)
		switch {
		case !r.calmAt(at):
			continue
		case s.read:
			reads = append(reads, s.took)
		default:
			writes = append(writes, s.took)
		}
		all = append(all, s.took)
	}
	slices.Sort(all)
	r.Statements, r.P50, r.P99, r.P999 = len(samples), quantile(all, 0.5), quantile(all, 0.99), quantile(all, 0.999)
	slices.Sort(reads)
	slices.Sort(writes)
	r.ReadsP99, r.WritesP99 = quantile(reads, 0.99), quantile(writes, 0.99)
	for i, list := range bySecond {
		slices.Sort(list)
		x := &r.Seconds[i]
		x.Count, x.P50, x.P99 = len(list), quantile(list, 0.5), quantile(list, 0.99)
		if r.calmAt(i) {
			r.Calm++
			r.CalmRate += x.Gone
		}
	}
	r.CalmRate /= float64(max(r.Calm, 1))
}

// calmOf returns the rounds of which at least a quarter of the seconds, and five, were calm.
func calmOf(rounds []armResult) []armResult {
	return slices.DeleteFunc(slices.Clone(rounds), func(r armResult) bool {
		return r.Calm < max(len(r.Seconds)/4, 5)
	})
}

// finish prints the table, of the calm seconds, and writes the JSON and the picture.
func (r *loadReport) finish(out string) error {
	p99 := func(arms ...string) (list []float64) { // sorted
		for _, arm := range arms {
			for _, x := range calmOf(r.Rounds[arm]) {
				list = append(list, x.P99)
			}
		}
		slices.Sort(list)
		return list
	}
	quiet := middle(p99(armNone, armAgain))
	fmt.Printf("\n| %s, %.0f statements a second (%.0f %% of saturation) | rounds, calm seconds | p99, median "+
		"| of single rounds | to no run | failed | deadlocks | lock timeouts | rows gone a second, median, and of "+
		"single rounds "+
		"| peak log | peak garbage | oldest row, during and after | smallest key |\n"+
		"|---|---|---|---|---|---|---|---|---|---|---|---|\n",
		r.Work, r.Rate, 100*r.Share)
	for _, arm := range arms {
		seen := p99(arm)
		if len(seen) == 0 {
			continue
		}
		var sum armResult
		var rates []float64
		seconds := 0
		for _, x := range calmOf(r.Rounds[arm]) {
			sum.Failed, sum.Deadlocks, sum.Timeouts = sum.Failed+x.Failed, sum.Deadlocks+x.Deadlocks, sum.Timeouts+
				x.Timeouts
			sum.PeakLog, sum.PeakGarbage = max(sum.PeakLog, x.PeakLog), max(sum.PeakGarbage, x.PeakGarbage)
			rates = append(rates, x.CalmRate)
			seconds += x.Calm
			sum.Oldest, sum.OldestLast, sum.Least, sum.LeastLast = max(sum.Oldest, x.Oldest),
				max(sum.OldestLast, x.OldestLast), max(sum.Least, x.Least), max(sum.LeastLast, x.LeastLast)
		}
		times := "–"
		if quiet > 0 { // without a calm second there is nothing to compare with
			times = fmt.Sprintf("%.2f ×", middle(seen)/quiet)
		}
		fmt.Printf("| %s | %d, %d | %.2f ms | %.2f to %.2f | %s | %d | %d | %d | %.0f, %.0f | %d MB | %d | "+
			"%.1f, %.1f ms | %.1f, %.1f ms |\n", arm, len(seen), seconds, middle(seen), seen[0], seen[len(seen)-1],
			times, sum.Failed, sum.Deadlocks, sum.Timeouts, middle(rates), rates,
			sum.PeakLog/1e6, sum.PeakGarbage, sum.Oldest, sum.OldestLast, sum.Least, sum.LeastLast)
	}
	if err := written(out, r.Work, r); err != nil {
		return err
	}
	return r.draw(filepath.Join(out, r.Work+".png"))
}
