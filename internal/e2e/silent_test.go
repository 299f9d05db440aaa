package e2e

import (
	"fmt"
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// Databases that accept connections and say nothing keep nobody waiting but those who want something of them, and they
// do not keep the service from ending.
func TestADatabaseThatNeverAnswersFreezesNothingElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(3000)
	w.define("archive", "unlimited")
	far := map[string]*dbtest.Relay{}
	rules := ""
	for _, engine := range []string{"postgres", "mariadb"} {
		dsn, run := dbtest.Postgres, dbtest.Exec
		if engine == "mariadb" {
			dsn, run = dbtest.MariaDB, dbtest.ExecMariaDB
		}
		address := dsn(t)
		at := map[string]string{"postgres": "timestamptz", "mariadb": "datetime"}[engine]
		if err := run(address, fmt.Sprintf(
			"CREATE TABLE scan (id integer PRIMARY KEY, at %s NOT NULL, note varchar(40)); CREATE INDEX scan_at ON "+
				"scan (at); INSERT INTO scan WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE "+
				"g < 6000) SELECT g, '2020-01-01 00:00:00', 'note' FROM s", at)); err != nil {
			t.Fatal(err)
		}
		u, err := url.Parse(address)
		if err != nil {
			t.Fatal(err)
		}
		f := dbtest.NewRelay(t, u.Host)
		u.Host, far[engine] = f.Address, f
		w.must("source", "add", engine, "-engine", engine, "-address", u.String(), "-tls", "off")
		rules += fmt.Sprintf("---\nrule: far-%[1]s\nsource: %[1]s\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - "+
			"keep: P1Y\nthen: archive\narchive: {store: cellar}\npace: careful\n", engine)
	}
	w.must("rule", "apply", "-f", w.rules(strings.TrimPrefix(rules, "---\n")))
	within := func(most time.Duration, what string, fn func()) {
		t.Helper()
		begun := time.Now()
		fn()
		took := time.Since(begun)
		if t.Logf("%s: %s", what, took.Round(time.Millisecond)); took > most {
			t.Errorf("%s took %s", what, took)
		}
	}
	runs := map[string]string{}
	for engine, f := range far {
		runs[engine] = must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "far-"+
			engine).ID).ID
		w.until(runs[engine], "does not get to 50 rows", func(r client.RunView) bool { return r.Ledger.Deleted >= 50 })
		f.Frozen.Store(true)
		if len(runs) == 1 {
			within(30*time.Second, "a run of another source", func() {
				r := w.ended(w.planned().ID)
				w.balanced(r, 3000, 3000)
			})
		}
	}
	near := func() {
		t.Helper()
		within(5*time.Second, "what names none of them", func() {
			if _, err := w.client.Status(t.Context()); err != nil {
				t.Error(err)
			}
			for _, command := range [][]string{{"run", "list"}, {"source", "list"}, {"segment", "list"},
				{"table", "list", "harbour"}, {"search", "harbour", "scan", "-limit", "1"}} {
				w.run(append(command, "-o", "json")...)
			}
		})
	}
	near()
	within(28*time.Second, "the end of the service", func() { w.stop(syscall.SIGTERM) })
	within(10*time.Second, "its start", func() { w.start() })
	near()
	w.stop(syscall.SIGKILL)
	for _, f := range far {
		f.Frozen.Store(false)
	}
	w.start()
	for engine, id := range runs {
		r := w.hurried(id)
		for begun := time.Now(); r.State != client.Done && time.Since(begun) < 2*time.Minute; {
			if r.State == client.Resting { // until the database is found to answer again
				time.Sleep(200 * time.Millisecond)
			} else {
				w.must("run", "resume", id)
			}
			r = w.hurried(id)
		}
		t.Logf("%s: %s", engine, r.State)
		w.balanced(r, 6000, 6000)
	}
}
