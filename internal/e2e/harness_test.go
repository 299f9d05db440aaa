// Package e2e drives the real program: the service as a process on loopback, through its command line, its HTTP
// interface and its console in headless Chromium, on real databases. It holds tests only.
package e2e

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
	_ "modernc.org/sqlite"             // the driver "sqlite"

	"ambercellar/client"
	"ambercellar/internal/cli"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/local"
	"ambercellar/internal/service"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ambercellar-e2e-")
	if err == nil {
		program = filepath.Join(dir, "ambercellar")
		var out []byte
		if out, err = exec.Command("go", append(append([]string{"build"}, buildFlags()...), "-o", program,
			"../../cmd/ambercellar")...).CombinedOutput(); err != nil {
			err = fmt.Errorf("%w\n%s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the program cannot be built:", err)
		os.Exit(1)
	}
	flag.Parse()
	time.Local = time.UTC // as commands print times
	// they wait a lot: for a server that another works with, and for careful runs
	flag.Set("test.parallel", "7")
	os.Setenv("AWS_ACCESS_KEY_ID", "ferry") // what lets services, and commands without one, into the stand-in
	os.Setenv("AWS_SECRET_ACCESS_KEY", "not-needed")
	status := dbtest.Main(m)
	closeBrowsers()
	os.RemoveAll(dir)
	os.Exit(status)
}

// buildFlags has the program watch its own goroutines where the soak asks for it.
func buildFlags() []string {
	if os.Getenv(soakLength) != "" {
		return []string{"-race"}
	}
	return nil
}

// process is a running service.
type process struct {
	cmd    *exec.Cmd
	server string
	said   string // before it listened
	log    *growing
	exited chan error
}

// world is a service's data directory, its process, and a database with a table to work on.
type world struct {
	t      *testing.T
	dir    string
	token  string
	svc    *process
	client *client.Client
	db     *sql.DB
	engine string
	dsn    string
	input  string   // of commands
	env    []string // likewise, besides the usual
}

// turns has the servers of each engine that no test works on, by their numbers. Tests of one server never run side by
// side, for a run gives way to what it sees on its server.
var turns = map[string]chan int{"postgres": servers(2), "mariadb": servers(2)}

func servers(count int) chan int {
	c := make(chan int, count)
	for n := range count {
		c <- n
	}
	return c
}

// places is how many work side by side: careful runs mostly rest.
var places = make(chan struct{}, 5)

// engines runs a test on every engine, side by side: each has a server of its own.
func engines(t *testing.T, fn func(t *testing.T, w *world)) {
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			fn(t, newWorld(t, engine))
		})
	}
}

// newWorld starts a service and makes an empty database.
func newWorld(t *testing.T, engine string) *world {
	t.Helper()
	w := &world{t: t, dir: t.TempDir(), engine: engine}
	server := 0
	if turn := turns[engine]; turn != nil {
		server = <-turn
		t.Cleanup(func() { turn <- server })
	}
	places <- struct{}{}
	t.Cleanup(func() { <-places })
	var err error
	switch engine {
	case "sqlite":
		w.dsn = filepath.Join(w.dir, "harbour.db")
		w.db, err = sql.Open("sqlite", "file:"+(&url.URL{Path: w.dsn}).EscapedPath()+
			"?_pragma=journal_mode(wal)&_pragma=busy_timeout(10000)&_pragma=synchronous(normal)")
	case "postgres":
		w.dsn = dbtest.PostgresOn(t, server)
		w.db, err = sql.Open("pgx", w.dsn)
	case "mariadb":
		w.dsn = dbtest.MariaDBOn(t, server)
		w.db, err = dbtest.OpenMariaDB(w.dsn)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.db.Close() })
	w.exec("CREATE TABLE first_thing (id integer)")
	w.start()
	t.Cleanup(func() {
		w.stop(syscall.SIGKILL)
		if t.Failed() {
			t.Logf("the service's log:\n%s", w.svc.log)
		}
	})
	return w
}

// growing is a text that is written while others read it.
type growing struct {
	mu   sync.Mutex
	text strings.Builder
}

func (g *growing) Write(b []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.text.Write(b)
}

func (g *growing) String() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.text.String()
}

// start starts the service's process and waits until it listens.
func (w *world) start(flags ...string) {
	w.t.Helper()
	cmd := exec.Command(program, append([]string{"serve", "-data", filepath.Join(w.dir, "data"), "-listen",
		"127.0.0.1:0", "-tell-hosts", "127.0.0.1"}, flags...)...)
	p := &process{cmd: cmd, log: &growing{}, exited: make(chan error, 1)}
	cmd.Stderr = p.log
	cmd.Env = append(os.Environ(), "HARBOUR_PASSWORD=not-needed")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		w.t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	for p.server == "" && lines.Scan() {
		if strings.HasPrefix(lines.Text(), "the administrator's token is in ") {
			b, err := os.ReadFile(filepath.Join(w.dir, "data", service.TokenFile))
			if err != nil {
				w.t.Fatal(err)
			}
			w.token = strings.TrimSpace(string(b))
		}
		p.said += lines.Text() + "\n"
		if at, ok := strings.CutPrefix(lines.Text(), "listening at "); ok {
			p.server = at
		}
	}
	go func() { p.exited <- cmd.Wait() }()
	if p.server == "" {
		w.t.Fatalf("the service did not start:\n%s", p.log)
	}
	w.svc = p
	w.client = &client.Client{Server: p.server, Token: w.token}
}

// stop ends the service's process with a signal and waits for its end.
func (w *world) stop(signal syscall.Signal) {
	if w.svc.cmd.ProcessState != nil {
		return
	}
	w.svc.cmd.Process.Signal(signal)
	select {
	case <-w.svc.exited:
	case <-time.After(30 * time.Second):
		w.svc.cmd.Process.Kill()
		w.t.Errorf("the service did not end on %s", signal)
	}
	// the first where it was built with -race
	if log := w.svc.log.String(); strings.Contains(log, "DATA RACE") || strings.Contains(log, "panic:") {
		w.t.Errorf("the service's log:\n%s", log)
	}
}

// run runs a command and returns what it printed and its exit status: within this process where it is one of the
// client's; as a process of its own where it belongs to the service, or is given more of an environment.
func (w *world) run(args ...string) (stdout, stderr string, status int) {
	w.t.Helper()
	settings := append([]string{"AMBERCELLAR_SERVER=" + w.svc.server, "AMBERCELLAR_TOKEN=" + w.token}, w.env...)
	var out, errOut strings.Builder
	if len(w.env) == 0 && isClient(args) {
		p := commands
		p.Getenv = func(name string) (value string) {
			for _, set := range settings {
				if v, ok := strings.CutPrefix(set, name+"="); ok {
					value = v
				}
			}
			return value
		}
		status = p.Run(context.Background(), args, strings.NewReader(w.input), &out, &errOut)
	} else {
		cmd := exec.Command(program, args...)
		cmd.Env, cmd.Stdin = append(append(os.Environ(), "TZ=UTC"), settings...), strings.NewReader(w.input)
		cmd.Stdout, cmd.Stderr = &out, &errOut
		if e := cmd.Run(); e != nil {
			if _, ok := e.(*exec.ExitError); !ok {
				w.t.Fatal(e)
			}
		}
		status = cmd.ProcessState.ExitCode()
	}
	if i := slices.Index(args, "-o"); i >= 0 && args[i+1] == "json" && status == 0 {
		keepsToSchema(w.t, args, out.String())
	}
	return out.String(), errOut.String(), status
}

// commands are those of the program.
var commands = local.Program()

// isClient says whether a command is one of the client's.
func isClient(args []string) bool {
	words := strings.Join(args, " ") + " "
	return !strings.HasPrefix(words, "complete ") && !slices.ContainsFunc(commands.Local, func(c cli.Command) bool {
		return strings.HasPrefix(words, c.Name+" ")
	})
}

// must runs a command that has to succeed and returns what it printed.
func (w *world) must(args ...string) string {
	w.t.Helper()
	out, err, status := w.run(args...)
	if status != 0 {
		w.t.Fatalf("ambercellar %s: status %d\n%s%s", strings.Join(args, " "), status, out, err)
	}
	return out
}

// must1 runs a command with -o json and decodes its answer.
func must1[T any](w *world, args ...string) (out T) {
	w.t.Helper()
	text := w.must(append(args, "-o", "json")...)
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		w.t.Fatalf("ambercellar %s: %v\n%s", strings.Join(args, " "), err, text)
	}
	return out
}

// refuse runs a command that has to fail with the status and say all of the parts.
func (w *world) refuse(status int, parts []string, args ...string) {
	w.t.Helper()
	out, err, got := w.run(args...)
	if got != status {
		w.t.Errorf("ambercellar %s: status %d instead of %d\n%s%s", strings.Join(args, " "), got, status, out, err)
	}
	for _, p := range parts {
		if !strings.Contains(out+err, p) {
			w.t.Errorf("ambercellar %s does not say %q:\n%s%s", strings.Join(args, " "), p, out, err)
		}
	}
}

func (w *world) exec(statements string) {
	w.t.Helper()
	if w.engine == "postgres" {
		if err := dbtest.Exec(w.dsn, statements); err != nil {
			w.t.Fatalf("%v\n%.300s", err, statements)
		}
		return
	}
	if _, err := w.db.Exec(statements); err != nil {
		w.t.Fatalf("%v\n%.300s", err, statements)
	}
}

func (w *world) count(query string) (n int64) {
	w.t.Helper()
	if err := w.db.QueryRow(query).Scan(&n); err != nil {
		w.t.Fatalf("%s: %v", query, err)
	}
	return n
}

// start of the scans' ages; one an hour from there on.
var firstScan = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)

// scans makes table scan with n rows of 2020 and later, all due under a keep of a year, and 100 of this year.
func (w *world) scans(n int) {
	w.t.Helper()
	fare := "numeric(9,2)"
	if w.engine == "sqlite" {
		fare = "numeric"
	}
	w.exec(fmt.Sprintf("CREATE TABLE vessel (id integer PRIMARY KEY, name text); INSERT INTO vessel VALUES (1, "+
		"'Heron'); CREATE TABLE scan (id integer PRIMARY KEY, vessel_id integer REFERENCES vessel (id), scanned_at "+
		"%s NOT NULL, fare %s, note text UNIQUE); CREATE INDEX scan_age ON scan (scanned_at)", w.ageType(), fare))
	series := "INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) " +
		"SELECT g + %d, 1, %s, g * 1.25, 'note ' || (g + %d) FROM s"
	at := map[string]string{"sqlite": "datetime('%s', '+' || (g %% 20000) || ' hours')",
		"postgres": "timestamptz '%s+00' + (g %% 20000) * interval '1 hour'",
		"mariadb":  "TIMESTAMP '%s' + INTERVAL (g %% 20000) HOUR"}[w.engine]
	stamp := func(t time.Time) string { return fmt.Sprintf(at, t.Format("2006-01-02 15:04:05")) }
	w.exec(fmt.Sprintf(series, n, 0, stamp(firstScan), 0))
	w.exec(fmt.Sprintf(series, 100, n, stamp(time.Now().UTC().AddDate(0, 0, -10)), n))
	if w.engine == "postgres" {
		w.exec("ANALYZE scan")
	}
}

// content is a fingerprint of rows, made by the database itself.
func (w *world) content(where string) (sum string) {
	w.t.Helper()
	query := "SELECT coalesce(md5(string_agg(scan::text, '|' ORDER BY id)), '') FROM scan WHERE " + where
	if w.engine == "mariadb" {
		query = "SELECT coalesce(md5(group_concat(id, '/', fare, '/', scanned_at, '/', note ORDER BY id SEPARATOR " +
			"'|')), '') FROM scan WHERE " + where
	}
	if w.engine == "sqlite" {
		query = "SELECT coalesce(group_concat(id || typeof(fare) || quote(fare) || quote(scanned_at) || " +
			"quote(note), '|' ORDER BY id), '') FROM scan WHERE " + where
	}
	if err := w.db.QueryRow(query).Scan(&sum); err != nil {
		w.t.Fatal(err)
	}
	return sum
}

const scanRule = `rule: scans
about: for the test
source: harbour
table: scan
age: scanned_at
clauses:
  - keep: 1 year
then: %s
%s
pace: %s
zone: UTC
`

// ageType is the type of a column that tells an age.
func (w *world) ageType() string {
	return map[string]string{"sqlite": "datetime", "postgres": "timestamptz", "mariadb": "datetime"}[w.engine]
}

// rules writes a file of rules and returns its path.
func (w *world) rules(text string) string {
	w.t.Helper()
	path := filepath.Join(w.dir, "rules.yaml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		w.t.Fatal(err)
	}
	return path
}

// define adds the source and applies the scan rule.
func (w *world) define(then, pace string) {
	w.t.Helper()
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
	archive := ""
	if then == "archive" {
		archive = "archive: {store: cellar, keep: P7Y}"
	}
	w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, then, archive, pace)))
}

// planned makes a plan of the scan rule and starts a run of it.
func (w *world) planned() client.RunView {
	w.t.Helper()
	p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
	return must1[client.RunView](w, "run", "start", p.ID)
}

// ended waits until a run has stopped, and returns it.
func (w *world) ended(id string) client.RunView {
	w.t.Helper()
	return w.endedWithin(id, 2*time.Minute)
}

func (w *world) endedWithin(id string, most time.Duration) client.RunView {
	w.t.Helper()
	return w.untilWithin(id, "does not end", most, func(r client.RunView) bool {
		return r.State != client.Running &&
			r.State != client.Queued
	})
}

// shown is a run as it stands. It asks through the client and starts no process, so that what waits for a run leaves
// the machine to it.
func (w *world) shown(id string) client.RunView {
	w.t.Helper()
	r, err := w.client.Run(context.Background(), id)
	if err != nil {
		w.t.Fatal(err)
	}
	return *r
}

// until waits until a run is as wanted.
func (w *world) until(id, what string, ok func(client.RunView) bool) client.RunView {
	w.t.Helper()
	return w.untilWithin(id, what, 2*time.Minute, ok)
}

func (w *world) untilWithin(id, what string, most time.Duration, ok func(client.RunView) bool) (r client.RunView) {
	w.t.Helper()
	for deadline := time.Now().Add(most); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if r = w.shown(id); ok(r) {
			return r
		}
	}
	reason := ""
	if r.Pressure != nil {
		reason = r.Pressure.Reason
	}
	w.t.Fatalf("run %s %s: it is %s (%s), has deleted %d rows; pressure: %q", id, what, r.State, r.Reason,
		r.Ledger.Deleted, reason)
	return r
}

// hurried lets a run go on without rests, once what a test needs the careful pace for has happened, and returns it
// ended.
func (w *world) hurried(id string) client.RunView {
	w.t.Helper()
	if _, err, status := w.run("run", "pace", id, "unlimited"); status != 0 && !strings.Contains(err, "is done") {
		w.t.Fatalf("run pace: %s", err)
	}
	return w.ended(id)
}

// balanced checks that a run's books balance and what they say.
func (w *world) balanced(r client.RunView, copied, deleted int64) {
	w.t.Helper()
	l := r.Ledger
	if l.Balanced == nil || !*l.Balanced || l.Copied != copied || l.Deleted != deleted || l.Copied != l.Deleted+
		r.Ledger.LeftOut() {
		w.t.Errorf("run %s (%s %s): ledger %+v; want %d copied, %d deleted, balanced", r.ID, r.State, r.Reason, l,
			copied, deleted)
	}
}

// pgConn is a session of its own, for tests that hold locks.
func (w *world) pgConn() *pgx.Conn {
	w.t.Helper()
	c, err := pgx.Connect(context.Background(), w.dsn)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { c.Close(context.Background()) })
	return c
}
