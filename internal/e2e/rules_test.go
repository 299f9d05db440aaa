package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
	"ambercellar/internal/api"
	"ambercellar/internal/engine/plan"
)

// apply adds the source and applies a rule for the scans whose clauses and what follows are given.
func (w *world) apply(clauses string) {
	w.t.Helper()
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
	w.must("rule", "apply", "-f", w.rules(scansWith(clauses)))
}

func scansWith(clauses string) string {
	return "rule: scans\nabout: for the test\nsource: harbour\ntable: scan\nage: scanned_at\nzone: UTC\npace: " +
		"unlimited\n" + clauses
}

// run1 makes a plan and runs it to its end.
func (w *world) run1(args ...string) (client.Plan, client.RunView) {
	w.t.Helper()
	p := must1[client.Plan](w, append([]string{"plan", "make", "scans", "-exact"}, args...)...)
	r := must1[client.RunView](w, "run", "start", p.ID)
	return p, w.ended(r.ID)
}

func TestEachClauseTakesItsOwnRowsItsOwnWay(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(1000) // fares of 1.25 to 1250; 100 young ones
		w.exec("UPDATE scan SET fare = NULL WHERE id > 900 AND id <= 1000")
		w.apply(`clauses:
  - where: fare < 250
    keep: forever
    locked: Harbour Ordinance, section 3
  - where: fare BETWEEN 200 AND 500
    keep: 1 year
    then: purge
  - keep: P18M
    otherwise: true
    archive: {keep: P3Y}
then: archive
archive: {store: cellar, keep: P7Y}
`)
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		c := p.Counts
		// below 250: 199 rows and 100 young ones of the same fares, 99 of them below 250 … the counts by hand:
		kept := w.count("SELECT count(*) FROM scan WHERE fare < 250")
		purge := w.count("SELECT count(*) FROM scan WHERE fare >= 250 AND fare <= 500 AND id <= 1000")
		archive := w.count("SELECT count(*) FROM scan WHERE (fare > 500 OR fare IS NULL) AND id <= 1000")
		if len(c.Clauses) != 3 || c.Clauses[0].Rows != kept || c.Clauses[0].Due != 0 || c.Clauses[1].Due != purge ||
			c.Clauses[2].Due != archive || c.Uncovered != 0 || c.Due != purge+archive {
			t.Errorf("plan: %+v; by hand %d kept, %d purged, %d archived", c, kept, purge, archive)
		}
		out := w.must("plan", "show", p.ID, "-sql", "-rows")
		for _, part := range []string{"never due", "every other row", "purges: its rows are deleted without a copy",
			"DELETE", "note 200"} {
			if !strings.Contains(out, part) {
				t.Errorf("plan show lacks %q:\n%s", part, out)
			}
		}
		r := w.ended(must1[client.RunView](w, "run", "start", p.ID).ID)
		w.balanced(r, purge+archive, purge+archive)
		if len(r.Passes) != 2 || r.Passes[0].Ledger.Deleted != purge || r.Passes[1].Ledger.Deleted != archive ||
			r.Action != "mixed" {
			t.Errorf("by clause: %+v", r.Passes)
		}
		if n := w.count("SELECT count(*) FROM scan WHERE fare < 250"); n != kept {
			t.Errorf("%d rows that are kept forever are live instead of %d", n, kept)
		}
		segments := must1[client.Items[client.Segment]](w, "segment", "list")
		if len(segments.Items) != 1 || segments.Items[0].Clause != 2 || segments.Items[0].Rows != archive ||
			segments.Items[0].KeepUntil == nil || segments.Items[0].KeepUntil.Year() != time.Now().Year()+3 {
			t.Errorf("segments: %+v", segments.Items)
		}
	})
}

func TestALockedClauseIsLoosenedOnlyForAReason(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(10)
	clauses := "clauses:\n  - where: fare > 5\n    keep: P3Y\n    locked: the law\n  - keep: P1Y\n    otherwise: " +
		"true\nthen: purge\n"
	w.apply(clauses)
	for _, change := range [][2]string{{"P3Y", "P2Y"}, {"    locked: the law\n", ""}, {"fare > 5", "fare > 6"},
		{"    locked: the law", "    locked: the law\n    enabled: false"}} {
		changed := scansWith(strings.Replace(clauses, change[0], change[1], 1))
		w.refuse(1, []string{"reason", "a locked clause would be loosened", "fare > 5"}, "rule", "apply", "-f",
			w.rules(changed))
	}
	w.must("rule", "apply", "-f", w.rules(scansWith(strings.Replace(clauses, "P3Y", "P4Y", 1)))) // longer needs none
	w.must("rule", "apply", "-f", w.rules(scansWith(strings.Replace(clauses, "P3Y", "P2Y", 1))), "-reason",
		"the law was amended in June")
	if out := w.must("rule", "show", "scans", "-o", "json"); !strings.Contains(out, "the law was amended in June") {
		t.Errorf("the reason is not kept:\n%s", out)
	}
}

func TestCopiedRowsAreDeletedByASecondDecision(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(3000)
		before := w.content("true")
		w.apply("clauses:\n  - keep: P1Y\nthen: copy\narchive: {store: cellar}\n")
		_, r := w.run1()
		if r.State != client.Copied || r.Ledger.Copied != 3000 || r.Ledger.Deleted != 0 || r.Done != 3000 {
			t.Fatalf("after copying: %s %+v", r.State, r.Ledger)
		}
		if w.content("true") != before {
			t.Fatal("a copy changed the table")
		}
		w.refuse(1, []string{"has a run that has not ended"[4:]}, "run", "start",
			must1[client.Plan](w, "plan", "make", "scans", "-exact").ID)
		w.refuse(1, []string{"no closed segment"}, "restore", "request", "-pace", "unlimited", "-run", r.ID)
		w.stop(syscall.SIGKILL)
		w.start()
		if got := w.ended(r.ID); got.State != client.Copied {
			t.Fatalf("after a restart the run is %s", got.State)
		}
		w.exec("UPDATE scan SET fare = fare + 1 WHERE id = 17; DELETE FROM scan WHERE id = 18")
		w.must("run", "delete", r.ID)
		r = w.ended(r.ID)
		w.balanced(r, 3000, 2998)
		if r.Ledger.Changed != 1 || r.Ledger.Vanished != 1 || r.State != client.Done || r.Done != 3000 {
			t.Errorf("after the deleting: %s, %d done, %+v", r.State, r.Done, r.Ledger)
		}
		if n := w.count("SELECT count(*) FROM scan"); n != 101 {
			t.Errorf("%d rows are live instead of 101", n)
		}
	})
}

func TestCopiedRowsAreDeletedWhenTheirTimeHasCome(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(500)
	w.apply("clauses:\n  - keep: P1Y\nthen: copy\ndelete_after: PT2S\narchive: {store: cellar}\n")
	_, r := w.run1()
	if r.DeleteAt == nil && r.State == client.Copied {
		t.Fatalf("no time is set: %+v", r)
	}
	r = w.until(r.ID, "does not delete when its time has come",
		func(r client.RunView) bool { return r.State == client.Done })
	w.balanced(r, 500, 500)
	w.must("rule", "apply", "-f", w.rules(
		scansWith("clauses:\n  - keep: P1Y\nthen: copy\narchive: {store: cellar}\n")))
	w.exec("INSERT INTO scan VALUES (9001, 1, '2020-01-01 00:00:00', 1, 'late')")
	_, r = w.run1()
	w.must("run", "cancel", r.ID) // nobody wants it: the copies stay, and so do the rows
	r = w.ended(r.ID)
	w.balanced(r, 1, 0)
	if n := w.count("SELECT count(*) FROM scan WHERE id = 9001"); n != 1 || r.Ledger.Skipped != 1 {
		t.Errorf("%d rows are live, ledger %+v", n, r.Ledger)
	}
}

func TestHoldsBeatEverything(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(10000)
		w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")
		file := filepath.Join(w.dir, "case.txt")
		if err := os.WriteFile(file, []byte("note LIKE 'note 1_'\n  OR note = 'it''s \"odd\"'\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		w.refuse(1, []string{"reference"}, "hold", "place", "harbour", "scan", "-where-file", file, "-reason", "r")
		w.refuse(1, []string{"where", "there is no column nota", "did you mean note?", "^"}, "hold", "place",
			"harbour", "scan", "-where", "nota = 'x'", "-reason", "r", "-reference", "c")
		w.refuse(1, []string{"holds nothing"}, "hold", "place", "harbour", "scan", "-where", "note = 'nobody'",
			"-reason", "r", "-reference", "c")
		w.refuse(1, []string{"no row can satisfy this condition"}, "hold", "place", "harbour", "scan", "-where",
			"id > 5 AND id < 3", "-reason", "r", "-reference", "c")
		w.refuse(1, []string{"exactly one of"}, "hold", "place", "harbour", "scan", "-reason", "r", "-reference", "c")
		h := must1[client.Placed](w, "hold", "place", "harbour", "scan", "-where-file", file, "-reason", "inquiry",
			"-reference", "case 12")
		keys := must1[client.Placed](w, "hold", "place", "harbour", "scan", "-keys", "100,200,300", "-reason",
			"inquiry",
			"-reference", "case 13")
		if h.Rows != 10 || keys.Rows != 3 {
			t.Errorf("held: %d and %d rows", h.Rows, keys.Rows)
		}
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if p.Counts.Due != 9987 || p.Counts.Held != 13 {
			t.Errorf("plan: %d due, %d held", p.Counts.Due, p.Counts.Held)
		}
		// A hold placed while a run is going on: from the answer on, nothing that it protects goes.
		w.must("rule", "apply", "-f", w.rules(
			strings.Replace(scansWith("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n"),
				"pace: unlimited", "pace: careful", 1)))
		r := must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "scans", "-exact").ID)
		for w.count("SELECT count(*) FROM scan") > 9900 {
			time.Sleep(5 * time.Millisecond)
		}
		must1[client.Placed](w, "hold", "place", "harbour", "scan", "-where", "id BETWEEN 7500 AND 9999", "-reason",
			"raid", "-reference", "case 14")
		live := w.count("SELECT count(*) FROM scan WHERE id BETWEEN 7500 AND 9999")
		r = w.hurried(r.ID)
		if n := w.count("SELECT count(*) FROM scan WHERE id BETWEEN 7500 AND 9999"); n != live || n == 0 {
			t.Errorf("%d of %d rows are left that were live when the hold was placed", n, live)
		}
		if n := w.count("SELECT count(*) FROM scan WHERE id IN (100, 200, 300, 10, 11, 12, 13, 14, 15, 16, 17, " +
			"18, 19)"); n != 13 {
			t.Errorf("%d of 13 held rows are live", n)
		}
		if r.State != client.Done || r.Ledger.Balanced == nil || !*r.Ledger.Balanced || r.Ledger.Held > live ||
			r.Ledger.Copied != r.Ledger.Deleted+r.Ledger.Held {
			t.Errorf("run: %s, %+v, %d live under the hold", r.State, r.Ledger, live)
		}
		// Lifted with a reason, the rows are due again.
		w.refuse(1, []string{"reason"}, "hold", "lift", h.ID)
		w.must("hold", "lift", h.ID, "-reason", "inquiry closed")
		w.refuse(1, []string{"was lifted at"}, "hold", "lift", h.ID, "-reason", "again")
		if l := must1[client.Items[client.Hold]](w, "hold", "list"); len(l.Items) != 2 {
			t.Errorf("%d holds stand", len(l.Items))
		}
		_, r = w.run1()
		w.balanced(r, 10, 10)
	})
}

func TestGuardRailsBindRulesAndPlans(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(100)
	w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar, keep: P2Y}\n")
	w.must("guard", "set", "harbour", "-live", "P2Y", "-archive", "P5Y", "-never", "vessel")
	if out := w.must("guard", "show", "harbour"); !strings.Contains(out, "P2Y") || !strings.Contains(out, "vessel") {
		t.Errorf("guard show: %s", out)
	}
	changed := scansWith("clauses:\n  - keep: P20M\nthen: archive\narchive: {store: cellar, keep: P4Y}\n")
	w.refuse(1, []string{"live for at least 2 years", "archive for at least 5 years", "clauses[0].keep"}, "rule",
		"apply", "-f", w.rules(changed))
	w.refuse(1, []string{"allow no rule for table vessel"}, "rule", "check", "-f",
		w.rules(strings.NewReplacer("table: scan", "table: vessel", "rule: scans", "rule: v", "scanned_at",
			"name").Replace(changed)))
	w.refuse(1, []string{"override", "at least 2 years"}, "plan", "make", "scans")
	p := must1[client.Plan](w, "plan", "make", "scans", "-exact", "-override", "order of the harbour board")
	if p.Detail.Override == "" || len(p.Detail.Guards) == 0 {
		t.Errorf("the plan keeps neither what it overrides nor why: %+v", p.Detail)
	}
	w.must("guard", "set", "harbour")
	p = must1[client.Plan](w, "plan", "make", "scans", "-exact")
	w.must("guard", "set", "harbour", "-live", "P2Y")
	w.refuse(1, []string{"at least 2 years"}, "run", "start", p.ID) // set after the plan was made
	w.must("guard", "set", "harbour")
	must1[client.Plan](w, "plan", "make", "scans", "-exact")
}

func TestAPlanCanOnlyTakeLessThanItsRule(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(1000)
		w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")
		for _, c := range []struct {
			args []string
			due  int64
		}{
			{[]string{"-where", "fare > 1000"}, 200},
			{[]string{"-keys", "11..20"}, 10},
			{[]string{"-keys", "..5"}, 5},
			{[]string{"-limit", "7"}, 7},
			{[]string{"-before", "2020-01-03", "-where", "id <> 5", "-note", "asked for by the office"}, 46},
		} {
			p := must1[client.Plan](w, append([]string{"plan", "make", "scans", "-exact"}, c.args...)...)
			if p.Counts.Due != c.due {
				t.Errorf("%v: %d rows are due instead of %d", c.args, p.Counts.Due, c.due)
			}
		}
		w.refuse(1, []string{"where", "is compared with 'x'", "^"}, "plan", "make", "scans", "-where", "id = 'x'")
		w.refuse(1, []string{"keys", "is no range"}, "plan", "make", "scans", "-keys", "5")
		w.refuse(1, []string{"keys", "is no key"}, "plan", "make", "scans", "-keys", "a..b")
		w.refuse(2, []string{"-where and -where-file"}, "plan", "make", "scans", "-where", "id = 1", "-where-file",
			"x")
		_, r := w.run1("-where", "fare > 1000", "-limit", "150")
		w.balanced(r, 150, 150)
		_, r = w.run1("-where", "fare > 1000")
		w.balanced(r, 50, 50)
		if n := w.count("SELECT count(*) FROM scan WHERE fare > 1000"); n != 0 {
			t.Errorf("%d rows above 1000 are live", n)
		}
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if len(p.Counts.Spread) == 0 || p.Counts.From == nil || p.Counts.Due != 800 || p.Detail.Expect.Seconds == nil {
			t.Errorf("an exact plan: %+v", p.Counts)
		}
		var sum int64
		for _, b := range p.Counts.Spread {
			sum += b.Rows
		}
		if sum != 900 {
			t.Errorf("the spread holds %d rows instead of 900", sum)
		}
	})
}

func TestChangesOfARuleAreSeenBeforeTheyAreMade(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(1000)
		w.apply("clauses:\n  - where: fare <= 500\n    keep: forever\n  - keep: disputes\n    otherwise: " +
			"true\nthen: purge\n---\nkeep: disputes\nperiod: P1Y\nabout: Disputes close within a year.\n")
		compare := func(text string) plan.Compared {
			return must1[api.Comparison](w, "plan", "compare", "-f", w.rules(text)).Rules[0]
		}
		x := compare(scansWith("clauses:\n  - where: fare <= 250\n    keep: forever\n  - where: fare > 1000\n    " +
			"keep: forever\n  - keep: disputes\n    otherwise: true\nthen: purge\n"))
		if x.Gained != 200 || x.Lost != 200 || x.Both != 400 {
			t.Errorf("compared: %+v", x)
		}
		x = compare("keep: disputes\nperiod: P30Y\nabout: Disputes may be opened again.\n")
		if x.Rule != "scans" || x.Gained != 0 || x.Lost != 600 {
			t.Errorf("a longer named keep: %+v", x)
		}
		forecast := must1[client.Items[plan.Forecast]](w, "rule", "forecast", "scans", "-months", "13")
		var total int64
		for _, f := range forecast.Items {
			total += f.Rows
		}
		// the young rows' fares are small: kept forever
		if len(forecast.Items) != 14 || forecast.Items[0].Rows != 600 || total != 600 {
			t.Errorf("forecast: %+v", forecast.Items)
		}
		w.refuse(1, []string{"months"}, "rule", "forecast", "scans", "-months", "0")
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		w.must("rule", "apply", "-f", w.rules(
			"keep: disputes\nperiod: P2Y\nabout: Disputes close within two years.\n"))
		w.refuse(1, []string{"the keep disputes was changed after"}, "run", "start", p.ID)
	})
}

func TestATableThatChangedUnderItsRuleStopsThePlan(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(200)
		w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")
		w.exec("ALTER TABLE scan ADD COLUMN berth integer")
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if !strings.Contains(strings.Join(p.Warnings, "\n"), `column "berth" is new`) {
			t.Errorf("a harmless change is not noted: %v", p.Warnings)
		}
		w.exec("CREATE TABLE claim (id integer PRIMARY KEY, scan_id integer, FOREIGN KEY (scan_id) REFERENCES scan " +
			"(id))")
		w.refuse(1, []string{"is not what it was", "claim (scan_id) now refers to it", "-confirm"}, "plan", "make",
			"scans")
		must1[client.Plan](w, "plan", "make", "scans", "-exact", "-confirm")
		w.exec("INSERT INTO claim VALUES (1, 7)")
		w.must("rule", "apply", "-f", filepath.Join(w.dir, "rules.yaml")) // as it is: the table as it is now is meant
		p = must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if p.Counts.Referenced != 1 || p.Counts.Due != 199 {
			t.Errorf("plan: %+v", p.Counts)
		}
	})
}

func TestWhatIsArchivedIsCleanedFirst(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(300)
		w.exec("UPDATE scan SET note = 'card 1234 5678 ' || (1000 + id)")
		w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\nomit: [vessel_id]\nmask: {note: " +
			"last4, fare: hash}\n")
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if !strings.Contains(strings.Join(p.Warnings, "\n"), "cannot be restored") {
			t.Errorf("the plan does not say what cannot be restored: %v", p.Warnings)
		}
		r := must1[client.RunView](w, "run", "start", p.ID)
		w.balanced(w.ended(r.ID), 300, 300)
		file := filepath.Join(w.dir, "rows.csv")
		w.must("restore", "request", "-pace", "unlimited", "-run", r.ID, "-into", "file", "-format", "csv", "-out",
			file)
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		head, rest, _ := strings.Cut(string(text), "\n")
		if strings.TrimSpace(head) != "id,scanned_at,fare,note" || !strings.Contains(rest, "****1001") ||
			strings.Contains(rest, "card") || strings.Contains(rest, ",1.25,") {
			t.Errorf("the archive holds\n%s\n%.300s", head, rest)
		}
		w.refuse(1, []string{"fare"}, "restore", "request", "-pace", "unlimited", "-run", r.ID) // a hash is no fare
		for _, bad := range [][2]string{{"omit: [id]\n", "always archived"},
			{"omit: [scanned_at]\n", "always archived"}, {"mask: {fare: year}\n", "has no year"},
			{"mask: {fare: last4}\n", "has no characters"}, {"mask: {nothing: blank}\n", "not in harbour.scan"},
			{"mask: {note: soot}\n", "is not a mask"}} {
			w.refuse(1, []string{bad[1]}, "rule", "check", "-f",
				w.rules(scansWith("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n"+bad[0])))
		}
		w.refuse(1, []string{"needs all their columns"}, "rule", "check", "-f",
			w.rules(scansWith("clauses:\n  - keep: P1Y\nthen: copy\narchive: {store: cellar}\nomit: [fare]\n")))
	})
}

func TestACrashWithCleanedSegmentsLosesNothing(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(8000)
		w.apply("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\nmask: {note: blank}\n")
		w.must("rule", "apply", "-f", w.rules(
			strings.Replace(scansWith("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\nmask: "+
				"{note: blank}\n"), "unlimited", "careful", 1)))
		r := must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "scans", "-exact").ID)
		for w.count("SELECT count(*) FROM scan") > 7500 {
			time.Sleep(5 * time.Millisecond)
		}
		w.stop(syscall.SIGKILL)
		gone := 8100 - w.count("SELECT count(*) FROM scan")
		w.start()
		w.must("run", "pause", r.ID)
		w.must("run", "resume", r.ID)
		r = w.hurried(r.ID)
		if r.State != client.Done || r.Ledger.Balanced == nil || !*r.Ledger.Balanced || r.Ledger.Deleted != 8000 {
			t.Errorf("run: %s %s %+v", r.State, r.Reason, r.Ledger)
		}
		if n := w.count("SELECT count(*) FROM scan"); n != 100 || gone == 0 {
			t.Errorf("%d rows are live, %d had gone before the crash", n, gone)
		}
		if r.Ledger.Copied-r.Ledger.Skipped != 8000 {
			t.Errorf("archived more than once without saying so: %+v", r.Ledger)
		}
	})
}

func TestRulesForTablesWithAnyName(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		q := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
		w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
		for i, name := range []string{`Scan "of" day`, `größe; DROP TABLE x --`, `Select`, `100%s {}`, `a'b`} {
			key, age, body := name+" key", name+" At", name+" bödy"
			w.exec(fmt.Sprintf("CREATE TABLE %s (%s integer PRIMARY KEY, %s %s, %s varchar(40))", q(name), q(key),
				q(age), w.ageType(), q(body)))
			w.exec(fmt.Sprintf("INSERT INTO %s VALUES (1, '2020-01-01 00:00:00', 'it''s \"1\"'), (2, '2020-01-02 "+
				"00:00:00', 'b'), (3, '2020-01-03 00:00:00', 'held'), (4, NULL, 'c')", q(name)))
			leg, note, above := name+" Leg", name+" nöte", `re"f `+name
			for _, child := range []string{leg, note} {
				w.exec(fmt.Sprintf("CREATE TABLE %s (%s integer PRIMARY KEY, %s integer, FOREIGN KEY (%s) "+
					"REFERENCES %s (%s)); INSERT INTO %s VALUES (1, 1), (2, 1), (3, 3)", q(child), q(key), q(above),
					q(above), q(name), q(key), q(child)))
			}
			yaml := func(s string) string { b, _ := json.Marshal(s); return string(b) }
			text := fmt.Sprintf("rule: odd-%d\nsource: harbour\ntable: %s\nage: %s\nzone: UTC\nclauses:\n  - "+
				"where: %s\n    keep: P1Y\nthen: archive\narchive: {store: cellar}\nmask: {%s: last4}\npace: "+
				"unlimited\nrelated:\n  - {table: %s, then: archive}\n  - {table: %s, on: {%s: %s}, then: unlink}\n",
				i, yaml(name), yaml(age), yaml(q(body)+" LIKE 'it''s \"_\"' OR "+q(body)+
					" IN ('held', 'x''); DROP TABLE scan --')"), yaml(body), yaml(leg), yaml(note), yaml(above),
				yaml(key))
			w.must("rule", "apply", "-f", w.rules(text))
			w.must("hold", "place", "harbour", name, "-where", q(body)+" = 'held' AND "+q(key)+" > 0", "-reason", "r",
				"-reference", "c")
			p := must1[client.Plan](w, "plan", "make", fmt.Sprintf("odd-%d", i), "-exact")
			if p.Counts.Due != 1 || p.Counts.Held != 1 || p.Counts.Ageless != 1 {
				t.Errorf("table %s: %+v", name, p.Counts)
			}
			r := w.ended(must1[client.RunView](w, "run", "start", p.ID).ID)
			w.balanced(r, 1, 1)
			if n := w.count("SELECT count(*) FROM " + q(name)); n != 3 {
				t.Errorf("table %s has %d rows instead of 3", name, n)
			}
			if gone, unlinked := 3-w.count("SELECT count(*) FROM "+q(leg)), w.count("SELECT count(*) FROM "+q(note)+
				" WHERE "+q(above)+" IS NULL"); gone != 2 || unlinked != 2 {
				t.Errorf("of table %s, %d related rows are gone and %d unlinked", name, gone, unlinked)
			}
		}
	})
}

func TestBadFiltersAreRefusedWithPositionAndRemedy(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(10)
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn)
	quote := func(s string) string { b, _ := json.Marshal(s); return string(b) }
	for where, parts := range map[string][]string{
		"outcom = 'x'":                           {"there is no column outcom", "^"},
		"fare = 'ten'":                           {"is compared with 'ten'", "without quotes", "       ^"},
		"note = 'open":                           {"no closing quote"},
		"fare LIKE '1%'":                         {"LIKE looks at text"},
		"fare > 5 AND fare < 3":                  {"exclude each other"},
		"booking.closed = 1":                     {"there is no column booking.closed", "declare it"},
		strings.Repeat("x", 100_000):             {"the most is 65536"},
		strings.Repeat("(", 10_000) + "fare = 1": {"nested deeper than 100 levels"},
	} {
		text := scansWith("clauses:\n  - keep: P1Y\n    where: " + quote(where) + "\nthen: purge\n")
		w.refuse(1, append(parts, "rules.yaml:", "clauses[0].where"), "rule", "check", "-f", w.rules(text))
	}
	for clauses, part := range map[string]string{
		"clauses:\n  - keep: P1Y\n    where: id = 1\n  - keep: P2Y\n    where: id = 1\nthen: " +
			"purge\n": "for the same rows as clause 1",
		"clauses:\n  - keep: P1Y\n    otherwise: true\n  - keep: P2Y\n    otherwise: true\nthen: " +
			"purge\n": "2 clauses have `otherwise: true`",
		"clauses:\n  - keep: none\nthen: purge\n":                             "confirm: empty scan",
		"clauses:\n  - keep: none\nthen: archive\narchive: {store: cellar}\n": "only with `then: purge`",
		"clauses:\n  - keep: nowhere-defined\nthen: purge\n":                  `no keep named "nowhere-defined"`,
		"clauses:\n  - newest: 6 partitions\nthen: purge\n":                   "not partitioned by ranges",
		"clauses:\n  - before: yesterday\nthen: purge\n":                      "no day or time",
		"clauses:\n  - keep: P1Y\n    before: 2024-01-01\nthen: purge\n":      "says twice",
		"clauses:\n  - keep: P1Y\n    enabled: false\nthen: purge\n":          "no clause is enabled",
		"clauses:\n  - keep: P1Y\nthen: purge\ndelete_after: P1D\n":           "copied first",
		"clauses:\n  - keep: P1Y\n    then: archive\nthen: purge\n":           "it is not said where to",
	} {
		w.refuse(1, []string{part}, "rule", "check", "-f", w.rules(scansWith(clauses)))
	}
	// An empty table, confirmed in words: rows dated in the future go too.
	w.exec("UPDATE scan SET scanned_at = '2999-01-01 00:00:00' WHERE id <= 5")
	w.must("rule", "apply", "-f", w.rules(scansWith("clauses:\n  - keep: none\nthen: purge\nconfirm: empty scan\n")))
	_, r := w.run1()
	w.balanced(r, 110, 110)
	if n := w.count("SELECT count(*) FROM scan"); n != 0 {
		t.Errorf("%d rows are live", n)
	}
}

func TestConditionsLookAtJoinedRowsWhenTheyReadAndWhenTheyDelete(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(300)
		w.exec("INSERT INTO vessel VALUES (2, 'Tern'); UPDATE scan SET vessel_id = 2 WHERE id <= 100; UPDATE scan " +
			"SET vessel_id = NULL WHERE id > 100 AND id <= 150")
		text := "joins: {boat: {table: vessel, on: {vessel_id: id}}}\nclauses:\n  - where: boat.name = 'Tern' AND " +
			"id > 0\n    keep: P1Y\n  - where: boat.name IS NULL\n    keep: P1Y\n    then: purge\nthen: " +
			"copy\narchive: {store: cellar}\n"
		w.apply(text)
		p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
		if c := p.Counts; c.Clauses[0].Due != 100 || c.Clauses[1].Due != 50 || c.Uncovered != 250 {
			t.Errorf("plan: %+v", c)
		}
		r := w.ended(must1[client.RunView](w, "run", "start", p.ID).ID)
		if r.State != client.Copied || r.Ledger.Deleted != 50 {
			t.Fatalf("after copying: %s %s %+v", r.State, r.Reason, r.Ledger)
		}
		w.exec("UPDATE vessel SET name = 'Arctic Tern' WHERE id = 2") // the rows themselves stay as they are
		w.must("run", "delete", r.ID)
		r = w.ended(r.ID)
		w.balanced(r, 150, 50)
		if r.Ledger.Skipped != 100 {
			t.Errorf("the joined rows are not what was planned, and the ledger is %+v", r.Ledger)
		}
		w.exec("UPDATE vessel SET name = 'Tern' WHERE id = 2")
		_, r = w.run1("-where", "boat.name LIKE 'T%'")
		w.must("run", "delete", r.ID)
		w.balanced(w.ended(r.ID), 100, 100)
		for change, parts := range map[string][]string{
			"boat.name =|bota.name =":       {"there is no column bota.name", "did you mean boat?"},
			"boat.name =|boat.nmae =":       {"did you mean boat.name?", "^"},
			"table: vessel|table: ship":     {"joins.boat.table", `no table "ship"`},
			"vessel_id: id|vessel_id: name": {"cannot be joined", "no unique key"},
			"vessel_id: id|gangway: id":     {`column "gangway" is not in harbour.scan`},
		} {
			old, new, _ := strings.Cut(change, "|")
			w.refuse(1, parts, "rule", "check", "-f", w.rules(scansWith(strings.Replace(text, old, new, 1))))
		}
	})
}

func TestRowsAreDueBecauseTheirDocumentClosed(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.exec(fmt.Sprintf("CREATE TABLE claim (id integer PRIMARY KEY, closed_at %s, title varchar(20)); CREATE "+
			"TABLE item (id integer PRIMARY KEY, claim_id integer, note varchar(40), closed_at varchar(5))",
			w.ageType()))
		for i := range 20 {
			closed := fmt.Sprintf("'2020-03-%02d 12:00:00'", i+1)
			switch {
			case i >= 15:
				closed = "NULL"
			case i >= 10:
				closed = "'" + time.Now().UTC().AddDate(0, 0, -3).Format(time.DateTime) + "'"
			}
			w.exec(fmt.Sprintf("INSERT INTO claim VALUES (%d, %s, 'claim %d')", i, closed, i))
			for j := range 30 {
				w.exec(fmt.Sprintf("INSERT INTO item VALUES (%d, %d, 'item %d', 'no')", i*100+j, i, j))
			}
		}
		w.exec("INSERT INTO item VALUES (9000, NULL, 'of no claim', 'no'), (9001, 777, 'of a claim that is gone', " +
			"'no')")
		w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
		text := "rule: items\nsource: harbour\ntable: item\nage: claim.closed_at\nzone: UTC\njoins:\n  claim: " +
			"{table: claim, on: {claim_id: id}}\nclauses:\n  - where: claim.title <> 'claim 9'\n    keep: " +
			"P1Y\npace: unlimited\nthen: %s\narchive: {store: cellar}\n"
		w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(text, "archive")))
		p := must1[client.Plan](w, "plan", "make", "items", "-exact")
		c := p.Counts
		if c.Due != 270 || c.Ageless != 152 || !strings.HasPrefix(c.Oldest, "2020-03-01") ||
			!strings.HasPrefix(c.LastGoing, "2020-03-09") || !strings.Contains(strings.Join(p.Warnings, "\n"),
			"stands in another table") {
			t.Errorf("plan: %+v %v", c, p.Warnings)
		}
		_, r := p, w.ended(must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "items",
			"-exact", "-where", "claim.title IN ('claim 0', 'claim 1')").ID).ID)
		w.balanced(r, 60, 60)
		segments := must1[client.Items[client.Segment]](w, "segment", "list")
		if len(segments.Items) != 1 || !strings.HasPrefix(segments.Items[0].Oldest, "2020-03-01") ||
			!strings.HasPrefix(segments.Items[0].Newest, "2020-03-02") {
			t.Errorf("segments: %+v", segments.Items)
		}
		w.refuse(1, []string{"stood in another table"}, "restore", "request", "-source", "harbour", "-table", "item",
			"-from", "2020-03-01", "-to", "2020-03-02", "-into", "file", "-format", "csv")
		if back := must1[client.Restore](w, "restore", "request", "-pace", "unlimited", "-run",
			r.ID); back.Restored != 60 {
			t.Errorf("restore: %+v", back)
		}
		// A claim that is opened again between copy and delete keeps its items.
		w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(text, "copy")))
		r = w.ended(must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "items",
			"-exact").ID).ID)
		if r.State != client.Copied || r.Ledger.Copied != 210 {
			t.Fatalf("after copying: %s %s %+v", r.State, r.Reason, r.Ledger)
		}
		w.exec("UPDATE claim SET closed_at = NULL WHERE id = 5")
		w.stop(syscall.SIGKILL)
		w.start()
		w.must("run", "delete", r.ID)
		r = w.ended(r.ID)
		w.balanced(r, 210, 180)
		if r.Ledger.Skipped != 30 || w.count("SELECT count(*) FROM item WHERE claim_id = 5") != 30 {
			t.Errorf("ledger %+v", r.Ledger)
		}
	})
}

func TestTheNewestPartitionsStayAndThoseMadeAheadDoNotCount(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			w := newWorld(t, engine)
			athens, err := time.LoadLocation("Europe/Athens")
			if err != nil {
				t.Fatal(err)
			}
			now := time.Now().In(athens)
			month := func(n int) string {
				return time.Date(now.Year(), now.Month()+time.Month(n), 1, 0, 0, 0, 0,
					time.UTC).Format("2006-01-02 15:04:05")
			}
			if engine == "postgres" {
				w.exec("CREATE TABLE reading (id integer NOT NULL, at timestamp NOT NULL, PRIMARY KEY (id, at)) " +
					"PARTITION BY RANGE (at); CREATE TABLE reading_rest PARTITION OF reading DEFAULT")
				for n := -5; n <= 3; n++ {
					w.exec(fmt.Sprintf("CREATE TABLE reading_%d PARTITION OF reading FOR VALUES FROM ('%s') TO ('%s')",
						n+5, month(n), month(n+1)))
				}
			} else {
				var parts []string
				for n := -5; n <= 3; n++ {
					parts = append(parts, fmt.Sprintf("PARTITION reading_%d VALUES LESS THAN ('%s')", n+5, month(n+1)))
				}
				w.exec("CREATE TABLE reading (id integer NOT NULL, at datetime NOT NULL, PRIMARY KEY (id, at)) " +
					"PARTITION BY RANGE COLUMNS (at) (" + strings.Join(parts, ", ") +
					", PARTITION reading_rest VALUES LESS THAN (MAXVALUE))")
			}
			id := 0
			for n := -5; n <= 2; n++ { // in each month one row at its very beginning, and one a second before its end
				at := func(n, seconds int) string {
					return time.Date(now.Year(), now.Month()+time.Month(n), 1, 0, 0, seconds, 0,
						time.UTC).Format("2006-01-02 15:04:05")
				}
				w.exec(fmt.Sprintf("INSERT INTO reading VALUES (%d, '%s'), (%d, '%s')", id, at(n, 0), id+1,
					at(n+1, -1)))
				id += 2
			}
			text := "rule: scans\nsource: harbour\ntable: reading\nage: at\nzone: Europe/Athens\nclauses:\n  - " +
				"newest: 3 partitions\nthen: archive\narchive: {store: cellar}\npace: unlimited\n"
			w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
			w.must("rule", "apply", "-f", w.rules(text))
			p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
			if p.Counts.Due != 6 || p.Counts.Total != 16 {
				t.Errorf("plan: %+v", p.Counts)
			}
			if said := strings.Join(p.Warnings, "\n"); !strings.Contains(said, "reading_6, reading_7, reading_8") {
				t.Errorf("the partitions made ahead are not named:\n%s", said)
			}
			_, r := w.run1()
			w.balanced(r, 6, 6)
			if n := w.count("SELECT count(*) FROM reading WHERE at < '" + month(-2) + "'"); n != 0 {
				t.Errorf("%d old rows are live", n)
			}
			if n := w.count("SELECT count(*) FROM reading"); n != 10 {
				t.Errorf("%d rows are live", n)
			}
			w.must("rule", "apply", "-f", w.rules(strings.Replace(text, "3 part", "7 part", 1)))
			w.refuse(1, []string{"not more than the 7"}, "plan", "make", "scans")
		})
	}
}
