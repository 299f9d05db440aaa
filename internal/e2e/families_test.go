package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
)

// trips makes n trips of 2020 and later with two legs each, which go by cascade, two boardings a leg, and a remark.
func (w *world) trips(n int) {
	w.t.Helper()
	at := map[string]string{"sqlite": "datetime('2020-01-01', '+' || g || ' minutes')",
		"postgres": "timestamptz '2020-01-01 00:00:00+00' + g * interval '1 minute'",
		"mariadb":  "TIMESTAMP '2020-01-01 00:00:00' + INTERVAL g MINUTE"}[w.engine]
	series := fmt.Sprintf("WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < %d) ", n)
	if w.engine == "mariadb" {
		w.exec("SET GLOBAL max_recursive_iterations = 1000000")
	}
	w.exec(fmt.Sprintf("CREATE TABLE trip (id integer PRIMARY KEY, left_at %s NOT NULL, name varchar(40)); CREATE "+
		"INDEX trip_age ON trip (left_at);"+
		"CREATE TABLE leg (id integer PRIMARY KEY, trip_id integer NOT NULL, pier varchar(40), FOREIGN KEY "+
		"(trip_id) REFERENCES trip (id) ON DELETE CASCADE); CREATE INDEX leg_trip ON leg (trip_id);"+
		"CREATE TABLE boarding (id integer PRIMARY KEY, leg_id integer NOT NULL, seat varchar(10), FOREIGN KEY "+
		"(leg_id) REFERENCES leg (id)); CREATE INDEX boarding_leg ON boarding (leg_id);"+
		"CREATE TABLE remark (id integer PRIMARY KEY, trip_id integer, body varchar(40), FOREIGN KEY (trip_id) "+
		"REFERENCES trip (id)); CREATE INDEX remark_trip ON remark (trip_id);", w.ageType()))
	w.exec("INSERT INTO trip " + series + "SELECT g, " + at + ", 'trip' FROM s")
	w.exec("INSERT INTO leg SELECT 2 * id - 1, id, 'north' FROM trip UNION ALL SELECT 2 * id, id, 'south' FROM trip")
	w.exec("INSERT INTO boarding SELECT 2 * id - 1, id, 'a' FROM leg UNION ALL SELECT 2 * id, id, 'b' FROM leg")
	w.exec("INSERT INTO remark SELECT id, id, 'calm' FROM trip")
}

func tripsWith(related string) string {
	return "rule: trips\nabout: for the test\nsource: harbour\ntable: trip\nage: left_at\nzone: UTC\n" + related +
		"clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar, keep: P7Y}\n"
}

const wholeFamily = `related:
  - table: leg
    then: archive
    related:
      - {table: boarding, then: archive}
  - {table: remark, then: unlink}
`

// family counts trips, legs, boardings, and remarks that refer to a trip.
func (w *world) family() string {
	return fmt.Sprint(w.count("SELECT count(*) FROM trip"), w.count("SELECT count(*) FROM leg"),
		w.count("SELECT count(*) FROM boarding"), w.count("SELECT count(trip_id) FROM remark"))
}

func (w *world) related(r client.RunView, table string) client.Ledger {
	w.t.Helper()
	for _, p := range r.Passes {
		for _, x := range p.Related {
			if x.Table == table {
				if x.Ledger.Balanced == nil || !*x.Ledger.Balanced {
					w.t.Errorf("the ledger of %s does not balance: %+v", table, x.Ledger)
				}
				return x.Ledger
			}
		}
	}
	w.t.Fatalf("the run tells nothing of %s: %+v", table, r.Passes)
	return client.Ledger{}
}

// TestFamiliesLeaveWholeWhileOthersAddToThem runs while others add legs to trips that are due, kills the service in
// between, and then counts: no leg that came late is lost, and what left comes back.
func TestFamiliesLeaveWholeWhileOthersAddToThem(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		const n = 500
		w.trips(n)
		w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
		w.refuse(1, []string{"leg", "on delete cascade", "related: [{table: leg, on: {trip_id: id}, then: archive}]"},
			"rule", "apply", "-f", w.rules(tripsWith("")))
		w.must("rule", "apply", "-f", w.rules(tripsWith(wholeFamily)))
		p := must1[client.Plan](w, "plan", "make", "trips", "-exact")
		out := w.must("plan", "show", p.ID, "-sql")
		for _, part := range []string{"boarding", "1,000", "2,000", "keeps its family", "are unlinked",
			"unless others refer to them"} {
			if !strings.Contains(out, part) {
				t.Errorf("plan show lacks %q:\n%s", part, out)
			}
		}
		run := must1[client.RunView](w, "run", "start", p.ID)
		added := int64(0)
		var writing sync.WaitGroup
		stop := make(chan struct{})
		other, err := w.db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer other.Close()
		if w.engine == "sqlite" {
			other.ExecContext(t.Context(), "PRAGMA foreign_keys = on")
		}
		writing.Go(func() { // from the youngest on, since the run begins with the oldest
			for id := 100_000; ; id++ {
				select {
				case <-stop:
					return
				case <-time.After(5 * time.Millisecond):
				}
				trip := n - (id-100_000)*7%n
				if _, err := other.ExecContext(t.Context(), fmt.Sprintf("INSERT INTO leg VALUES (%d, %d, 'late')", id,
					trip)); err == nil {
					added++ // where the trip is gone already, the database refuses
				}
			}
		})
		w.someDeleted(run.ID, 1)
		w.stop(syscall.SIGKILL)
		w.start()
		w.until(run.ID, "goes on beside the writer", func(r client.RunView) bool {
			return r.State.Ended() || w.count("SELECT count(*) FROM leg WHERE pier = 'late'") >= 20
		})
		done := w.hurried(run.ID)
		close(stop)
		writing.Wait()
		if done.State != client.Done {
			t.Fatalf("the run is %s: %s", done.State, done.Reason)
		}
		left := w.count("SELECT count(*) FROM trip")
		// others were read with their family, and went with it
		late := w.count("SELECT count(*) FROM leg WHERE pier = 'late'")
		if late == 0 || left == 0 || left > late || late > added {
			t.Errorf("%d late legs were added and %d are there, on %d trips", added, late, left)
		}
		if whole := fmt.Sprint(left, 2*left+late, 4*left, left); w.family() != whole {
			t.Errorf("left are %s, want whole families: %s", w.family(), whole)
		}
		legs, remarks := w.related(done, "leg"), w.related(done, "remark")
		if legs.Deleted != 2*(n-left)+added-late || w.related(done, "boarding").Deleted != 4*(n-left) ||
			remarks.Unlinked != n-left || done.Ledger.Deleted != n-left {
			t.Errorf("ledgers: %+v, %+v, %+v", done.Ledger, legs, remarks)
		}
		for _, s := range must1[client.Items[client.Segment]](w, "segment", "list").Items {
			if s.State == client.SegmentClosed {
				w.must("segment", "verify", s.ID)
			}
		}
		w.must("restore", "request", "-pace", "unlimited", "-run", run.ID)
		if whole := fmt.Sprint(n, 2*n+added, 4*n, left); w.family() != whole {
			t.Errorf("after the restore there are %s, want %s", w.family(), whole)
		}
		if n := w.count("SELECT count(*) FROM leg l JOIN trip t ON t.id = l.trip_id JOIN boarding b ON b.leg_id " +
			"= l.id"); n != 4*500 {
			t.Errorf("%d boardings are whole again", n)
		}
	})
}

func TestBadRelationsAreRefusedWithRemedy(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.trips(3)
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
	for related, parts := range map[string][]string{
		"related: [{table: legs, then: archive}]\n": {
			"there is no table \"legs\"", "table list"},
		"related: [{table: leg, then: burn}]\n": {"\"burn\"",
			"archive, purge or unlink"},
		"related: [{table: leg, then: unlink}, {table: remark, then: unlink}]\n": {
			"takes no NULL"},
		"related: [{table: boarding, then: purge}, {table: leg, then: archive}]\n": {
			"no foreign key of boarding refers to trip", "on: {COLUMN"},
		"related: [{table: boarding, on: {seat: id}, then: purge}]\n": {
			"cannot refer to"},
		"related: [{table: leg, on: {pier: name}, then: archive}]\n": {
			"no unique key of trip is (name)"},
		"related: [{table: leg, on: {trip: id}, then: archive}]\n": {
			"column \"trip\" is not in", "its columns are id, trip_id, pier"},
		"related: [{table: leg, then: archive, related: [{table: trip, on: {id: id}, then: purge}]}]\n": {
			"form a cycle"},
		"related: [{table: leg, then: archive}, {table: leg, then: purge}]\n": {
			"stands at related[0] already"},
		"related: [{table: remark, then: unlink, related: [{table: leg, then: purge}]}]\n": {
			"rows that are unlinked stay"},
		"related: {table: leg}\n":    {"a list of tables"},
		wholeFamily + "omit: [id]\n": {"id"},
		"joins: {x: {table: leg, on: {id: trip_id}}}\n" +
			wholeFamily: {"could reach several rows"},
		wholeFamily + "include: [name]\n":                                                 {"JOIN.COLUMN"},
		wholeFamily + "copy: [vessel]\n":                                                  {"there is no join"},
		"joins: {same: {table: trip, on: {id: id}}}\ninclude: [same.nam]\n" + wholeFamily: {"did you mean same.name"},
	} {
		w.refuse(1, parts, "rule", "apply", "-f", w.rules(tripsWith(related)))
	}
	out := w.must("rule", "check", "-f",
		w.rules(tripsWith("related: [{table: leg, then: purge, related: [{table: boarding, then: purge}]}]\n")))
	for _, part := range []string{"are deleted without a copy", "rows of trip that remark still refers to"} {
		if !strings.Contains(out, part) {
			t.Errorf("rule check lacks %q:\n%s", part, out)
		}
	}
	w.must("guard", "set", "harbour", "-never", "leg")
	w.refuse(1, []string{"guard rails", "leg"}, "rule", "apply", "-f", w.rules(tripsWith(wholeFamily)))
}

// TestWhatMakesARowUnderstandableIsArchivedWithIt: joined columns with the row, joined rows beside the segment.
func TestWhatMakesARowUnderstandableIsArchivedWithIt(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(2000)
		before := w.content("true")
		w.exec("INSERT INTO vessel VALUES (2, 'Tern'), (3, NULL), (4, 'Never there')")
		w.exec("UPDATE scan SET vessel_id = 2 WHERE id <= 500")
		w.exec("UPDATE scan SET vessel_id = 3 WHERE id > 500 AND id <= 600")
		w.exec("UPDATE scan SET vessel_id = NULL WHERE id = 1")
		w.apply("joins: {vessel: {table: vessel, on: {vessel_id: id}}}\ninclude: [vessel.name]\ncopy: " +
			"[vessel]\nclauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")
		_, r := w.run1()
		w.balanced(r, 2000, 2000)
		s := must1[client.Items[client.Segment]](w, "segment", "list").Items[0]
		if out := w.must("segment", "show", s.ID); !strings.Contains(out, "vessel.name") ||
			!strings.Contains(out, "3 rows of vessel") {
			t.Errorf("segment show:\n%s", out)
		}
		file := filepath.Join(w.dir, "rows.csv")
		w.must("restore", "request", "-pace", "unlimited", "-run", r.ID, "-into", "file", "-format", "csv", "-out",
			file)
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSpace(string(text)), "\n")
		if len(lines) != 2001 || !strings.Contains(lines[0], "vessel.name") ||
			strings.Count(string(text), "Tern") != 499 || strings.Count(string(text), "Heron") != 1400 {
			t.Errorf("%d lines, the first of them: %.300s", len(lines), text)
		}
		w.must("restore", "request", "-pace", "unlimited", "-run", r.ID)
		w.exec("UPDATE scan SET vessel_id = 1")
		if w.content("true") != before {
			t.Error("the rows are not what they were")
		}
		besides, _ := filepath.Glob(filepath.Join(w.dir, "data", "cellar", "harbour", "scan", "*",
			"*.with-vessel.parquet"))
		if len(besides) == 0 {
			t.Fatal("no joined rows lie beside the segment")
		}
		damaged, err := os.ReadFile(besides[0])
		if err != nil {
			t.Fatal(err)
		}
		damaged[len(damaged)/2] ^= 1
		os.Chmod(besides[0], 0o644)
		if err := os.WriteFile(besides[0], damaged, 0o644); err != nil {
			t.Fatal(err)
		}
		w.refuse(1, []string{"with-vessel.parquet", "SHA-256"}, "segment", "verify", s.ID)
	})
}
