package e2e

import (
	"database/sql"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/client"
)

// soakLength is how long TestSoak goes on; without it the test does not run. `make soak` sets it, and builds program
// and test with the race detector.
const soakLength = "AMBERCELLAR_SOAK"

// TestSoak runs many rules on many tables, over and over, while writers update, delete, insert and insert again the
// very rows that are being moved, and then accounts for every row that ever was: it is live as it was last written, or
// archived so, exactly once, or was deleted by its writer.
func TestSoak(t *testing.T) {
	length, err := time.ParseDuration(os.Getenv(soakLength))
	if err != nil {
		t.Skipf("set %s to a length of time, or use `make soak`", soakLength)
	}
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, engine)
			w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off", "-connections",
				"12")
			var tables []*soaked
			rules := ""
			for i, then := range []string{"archive", "archive", "archive", "purge"} {
				s := &soaked{w: w, name: fmt.Sprintf("scan%d", i+1), purge: then == "purge"}
				w.exec(fmt.Sprintf("CREATE TABLE %[1]s (id integer PRIMARY KEY, scanned_at %[2]s NOT NULL, rev "+
					"integer NOT NULL, note text); CREATE INDEX %[1]s_age ON %[1]s (scanned_at)", s.name, w.ageType()))
				if i > 0 {
					rules += "---\n"
				}
				pace := []string{"gentle", "unlimited"}[i%2]
				store := "archive: {store: cellar}"
				if s.purge {
					store = ""
				}
				rules += fmt.Sprintf("rule: %s\nsource: harbour\ntable: %s\nage: scanned_at\nzone: UTC\nclauses:\n "+
					" - keep: P1Y\nthen: %s\n%s\npace: %s\nlimits: {waiting: off, blocked: off, deadlocks: off}\n",
					s.name, s.name, then, store, pace)
				tables = append(tables, s)
			}
			w.must("rule", "apply", "-f", w.rules(rules))
			deadline := time.Now().Add(length)
			var writing, running sync.WaitGroup
			for _, s := range tables {
				for part := range soakWriters {
					s.parts[part] = map[int]int{}
					writing.Add(1)
					go func() {
						defer writing.Done()
						s.write(part, deadline)
					}()
				}
				running.Add(1)
				go func() {
					defer running.Done()
					for time.Now().Before(deadline) {
						s.run(t)
					}
				}()
			}
			writing.Wait()
			running.Wait()
			for _, s := range tables {
				s.run(t) // what the last run left
				s.account(t)
			}
		})
	}
}

const (
	soakWriters = 2
	soakSpan    = 4000 // the ids that a writer picks from are those of its last so many inserts
	deleted     = -1   // by its writer; every other number is the revision that was written last
)

// soaked is one table of the soak.
type soaked struct {
	w     *world
	name  string
	purge bool
	runs  int
	taken int64
	parts [soakWriters]map[int]int // by writer: id → revision
}

// write changes rows of its own ids until the deadline. A statement that fails changed nothing.
func (s *soaked) write(part int, deadline time.Time) {
	r := rand.New(rand.NewPCG(uint64(part), uint64(len(s.name))))
	last := 0
	marks := func(n int) []any {
		out := make([]any, n)
		for i := range out {
			if out[i] = "?"; s.w.engine == "postgres" {
				out[i] = fmt.Sprintf("$%d", i+1)
			}
		}
		return out
	}
	insert := fmt.Sprintf("INSERT INTO "+s.name+
		" (id, rev, scanned_at, note) VALUES (%s, %s, '2021-02-03 04:05:06', 'written')", marks(2)...)
	update := fmt.Sprintf("UPDATE "+s.name+" SET rev = rev + 1 WHERE id = %s", marks(1)...)
	remove := fmt.Sprintf("DELETE FROM "+s.name+" WHERE id = %s", marks(1)...)
	affected := func(res sql.Result, err error) int64 {
		if err != nil {
			return -1
		}
		n, _ := res.RowsAffected()
		return n
	}
	known := s.parts[part]
	for time.Now().Before(deadline) {
		time.Sleep(time.Millisecond)
		x := r.IntN(10)
		if x < 4 || last == 0 {
			last++
			if id := last*soakWriters + part; affected(s.w.db.Exec(insert, id, 0)) == 1 {
				known[id] = 0
			}
			continue
		}
		id := (last-r.IntN(min(last, soakSpan)))*soakWriters + part
		rev, ever := known[id]
		switch {
		case !ever:
		case rev == deleted:
			if affected(s.w.db.Exec(insert, id, 1000)) == 1 {
				known[id] = 1000
			}
		case x < 8:
			if affected(s.w.db.Exec(update, id)) == 1 {
				known[id] = rev + 1
			}
		case affected(s.w.db.Exec(remove, id)) == 1:
			known[id] = deleted
		}
	}
}

// run plans and runs the table's rule once.
func (s *soaked) run(t *testing.T) {
	p := must1[client.Plan](s.w, "plan", "make", s.name)
	r := must1[client.RunView](s.w, "run", "start", p.ID)
	r = s.w.endedWithin(r.ID, 8*time.Minute) // gentle runs give way to eight writers, and to the race detector
	if r.State != client.Done || r.Ledger.Balanced == nil || !*r.Ledger.Balanced {
		t.Errorf("%s: run %s is %s: %s; its ledger %+v", s.name, r.ID, r.State, r.Reason, r.Ledger)
	}
	s.runs++
	s.taken += r.Ledger.Deleted
}

// account compares what the writers know with what is live and what is archived.
func (s *soaked) account(t *testing.T) {
	live := map[int]int{}
	rows, err := s.w.db.Query("SELECT id, rev FROM " + s.name)
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		var id, rev int
		if err := rows.Scan(&id, &rev); err != nil {
			t.Fatal(err)
		}
		live[id] = rev
	}
	rows.Close()
	archived := map[int][]int{}
	if !s.purge {
		archived = s.archived(t)
	}
	wrong, purged := 0, int64(0)
	for _, known := range s.parts {
		for id, rev := range known {
			now, there := live[id]
			copies := archived[id]
			ok := false
			switch {
			case rev == deleted:
				ok = !there && len(copies) == 0
			case s.purge:
				if ok = !there || now == rev; !there {
					purged++
				}
			case there:
				ok = now == rev && len(copies) == 0
			default:
				ok = len(copies) == 1 && copies[0] == rev
			}
			if !ok {
				if wrong++; wrong < 10 {
					t.Errorf("%s: row %d was last written as revision %d; live %v as %d, archived as %v", s.name, id,
						rev, there, now, copies)
				}
			}
			delete(live, id)
			delete(archived, id)
		}
	}
	if len(live)+len(archived) > 0 || wrong > 0 {
		t.Errorf("%s: %d rows are wrong, %d live and %d archived ones were never written", s.name, wrong, len(live),
			len(archived))
	}
	if s.purge && purged != s.taken {
		t.Errorf("%s: the ledgers have purged %d rows, and %d are missing", s.name, s.taken, purged)
	}
	t.Logf("%s: %d runs took %d rows", s.name, s.runs, s.taken)
}

// archived reads the table's whole archive: the revisions of each id.
func (s *soaked) archived(t *testing.T) map[int][]int {
	file := filepath.Join(s.w.dir, s.name+".csv")
	s.w.must("restore", "request", "-source", "harbour", "-table", s.name, "-from", "2000-01-01", "-to", "2030-01-01",
		"-into", "file", "-format", "csv", "-out", file)
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	lines, err := csv.NewReader(strings.NewReader(string(b))).ReadAll()
	if err != nil || len(lines) == 0 {
		t.Fatalf("the archive of %s: %v", s.name, err)
	}
	out := map[int][]int{}
	for _, line := range lines[1:] {
		id, _ := strconv.Atoi(line[0])
		rev, _ := strconv.Atoi(line[2])
		out[id] = append(out[id], rev)
	}
	return out
}
