package postgres

import (
	"context"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

// workload opens a session of the workload, which ends with the test.
func workload(t *testing.T, url string) *pgx.Conn {
	t.Helper()
	c, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close(t.Context()) })
	return c
}

// until asks for the signals until they are as wanted.
func until(t *testing.T, s *Source, table string, what string, ok func(map[string]float64) bool) {
	t.Helper()
	described, err := s.Table(t.Context(), table)
	if err != nil {
		t.Fatal(err)
	}
	var got map[string]float64
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if got, err = s.Signals(t.Context(), described); err != nil {
			t.Fatal(err)
		}
		if ok(got) {
			return
		}
	}
	t.Fatalf("%s: the signals are %v", what, got)
}

func TestSignalsTellWhoWaitsAndForWhom(t *testing.T) {
	url := dbtest.Postgres(t)
	s, err := Open(t.Context(), source.Config{Name: "harbour", Address: url, Connections: 4, TLS: "off",
		Disk: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := dbtest.Exec(url, "CREATE TABLE scan (id integer PRIMARY KEY, at timestamptz); INSERT INTO scan "+
		"SELECT g, '2020-01-01' FROM generate_series(1, 100) g"); err != nil {
		t.Fatal(err)
	}
	until(t, s, "scan", "nobody waits", func(v map[string]float64) bool {
		return v[pace.Waiting] == 0 && v[pace.Blocked] == 0 && v[pace.Probe] > 0 && v[pace.Disk] > 0
	})
	others, waiter := workload(t, url), workload(t, url)
	if _, err := others.Exec(t.Context(), "BEGIN; UPDATE scan SET at = at WHERE id = 1",
		pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	wait := func(id int) {
		_, err := waiter.Exec(t.Context(), "UPDATE scan SET at = at WHERE id = $1", pgx.QueryExecModeExec, id)
		done <- err
	}
	go wait(1)
	until(t, s, "scan", "one waits for another's lock", func(v map[string]float64) bool {
		return v[pace.Waiting] == 1 && v[pace.Blocked] == 0 && v[pace.Active] >= 1
	})
	if _, err := others.Exec(t.Context(), "COMMIT"); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	ours, err := s.pool.Acquire(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer ours.Release()
	if _, err := ours.Exec(t.Context(), "BEGIN; UPDATE public.scan SET at = at WHERE id = 2",
		pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	go wait(2)
	until(t, s, "scan", "one waits for ours", func(v map[string]float64) bool {
		return v[pace.Waiting] == 1 &&
			v[pace.Blocked] == 1
	})
	if _, err := ours.Exec(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
}

// probed is a database with a table that is probed, opened with three connections.
func probed(t *testing.T) (url string, s *Source, table *shape.Table) {
	t.Helper()
	url = dbtest.Postgres(t)
	err := dbtest.Exec(url, "CREATE TABLE scan (id integer PRIMARY KEY, at timestamptz); INSERT INTO scan VALUES (1)")
	if err != nil {
		t.Fatal(err)
	}
	s, err = Open(t.Context(), source.Config{Name: "harbour", Address: url, Connections: 3, TLS: "off"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if table, err = s.Table(t.Context(), "scan"); err != nil {
		t.Fatal(err)
	}
	return url, s, table
}

// What others feel is how long the server takes: not how long one of our own connections is waited for, nor what a
// connection's first time takes.
func TestAProbeDoesNotCountItsWaitForAConnection(t *testing.T) {
	_, s, table := probed(t)
	var held []*pgxpool.Conn
	for range 3 {
		c, err := s.pool.Acquire(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		held = append(held, c)
	}
	const busy = time.Second
	time.AfterFunc(busy, func() {
		for _, c := range held {
			c.Release()
		}
	})
	called := time.Now()
	begun, took, err := s.Probe(t.Context(), pace.FeelLookup, table)
	if err != nil || begun.Sub(called) < busy*9/10 || took <= 0 || took > busy/2 {
		t.Errorf("it began after %s and took %s (%v)", begun.Sub(called), took, err)
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if begun, took, err := s.Probe(gone, pace.FeelCommit, table); err == nil || !begun.IsZero() || took != 0 {
		t.Errorf("without a connection it began at %s and took %s (%v)", begun, took, err)
	}
}

func TestSignalsThatOnlyMonitorsAreTold(t *testing.T) {
	url := dbtest.Postgres(t)
	if err := dbtest.Exec(url, `CREATE TABLE scan (id integer PRIMARY KEY, at timestamptz);
		DO $$ BEGIN CREATE ROLE mover LOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$; GRANT SELECT, DELETE
			ON scan TO mover`); err != nil {
		t.Fatal(err)
	}
	c, err := pgx.ParseConfig(url)
	if err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), source.Config{Name: "harbour", Address: "postgres://mover@127.0.0.1:" +
		strconv.Itoa(int(c.Port)) + "/" + c.Database, Connections: 4, TLS: "off"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	until(t, s, "scan", "without the right", func(v map[string]float64) bool {
		_, waiting := v[pace.Waiting]
		_, dead := v[pace.Dead]
		return !waiting && dead && v[pace.Probe] > 0
	})
	r, err := s.Check(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range r.Items {
		if f.Remedy == `GRANT pg_monitor TO "mover";` {
			return
		}
	}
	t.Errorf("the check does not name the right that lacks: %+v", r.Items)
}

// A role that may not see what others do says so, whatever they do; one that may sees who is at work, and not our own.
func TestOthersAreSeenOrSaidToBeHidden(t *testing.T) {
	t.Parallel()
	server, err := dbtest.Start()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Stop)
	url := server.URL("postgres")
	if err := dbtest.Exec(url, "CREATE ROLE keeper LOGIN"); err != nil {
		t.Fatal(err)
	}
	open := func(url string) *Source {
		s, err := Open(t.Context(), source.Config{Name: "harbour", Address: url, Connections: 4, TLS: "off"})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		return s
	}
	as := regexp.MustCompile("//[^@]*@")
	keeper, ruler := open(as.ReplaceAllString(url, "//keeper@")), open(url)
	look := func(s *Source) pace.Look {
		seen, err := s.Others(t.Context(), 300*time.Millisecond)
		if err != nil {
			t.Fatal(err)
		}
		return seen
	}
	for _, s := range []*Source{keeper, ruler} {
		look(s)
		time.Sleep(time.Second) // the arrivals of our own are counted
		if seen := look(s); seen.Hidden != "" || seen.Busy != 0 {
			t.Errorf("beside our own alone: %+v", seen)
		}
	}
	other := workload(t, url)
	if _, err := other.Exec(t.Context(), "SELECT 1"); err != nil {
		t.Fatal(err)
	}
	if seen := look(ruler); seen.Busy != 1 {
		t.Errorf("who sees all sees %+v", seen)
	}
	if seen := look(keeper); !strings.Contains(seen.Hidden, "GRANT pg_read_all_stats") {
		t.Errorf("who may not see others sees %+v", seen)
	}
	time.Sleep(time.Second)
	if seen := look(ruler); seen.Busy != 0 || seen.Hidden != "" {
		t.Errorf("beside somebody who is idle: %+v", seen)
	}
	if _, err := ruler.pool.Exec(t.Context(), "GRANT pg_read_all_stats TO keeper"); err != nil {
		t.Fatal(err)
	}
	if seen := look(keeper); seen.Hidden != "" {
		t.Errorf("with the grant it sees %+v", seen)
	}
}

// TestSignalsOfATableThatWasMadeAnew: the statements that connections keep are not of the table as it was.
func TestSignalsOfATableThatWasMadeAnew(t *testing.T) {
	url := dbtest.Postgres(t)
	s, err := Open(t.Context(), source.Config{Name: "harbour", Address: url, Connections: 3, TLS: "off"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	filled := func(rows, gone string) {
		t.Helper()
		if err := dbtest.Exec(url, "DROP TABLE IF EXISTS scan; CREATE TABLE scan (id integer PRIMARY KEY, at "+
			"timestamptz) WITH (autovacuum_enabled = off); INSERT INTO scan SELECT g, '2020-01-01' FROM "+
			"generate_series(1, "+rows+") g"); err != nil {
			t.Fatal(err)
		}
		if err := dbtest.Exec(url, "DELETE FROM scan WHERE id <= "+gone); err != nil {
			t.Fatal(err)
		}
	}
	for _, dead := range []string{"30", "70"} {
		filled("100", dead)
		seen := 0
		until(t, s, "scan", dead+" rows are dead", func(got map[string]float64) bool {
			if strconv.FormatFloat(got[pace.Dead], 'f', -1, 64) == dead {
				seen++
			}
			return seen > 10 // the plan is kept by then
		})
	}
}
