package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

// TestPartitionsFromPlanToDropAndAhead goes the way of an administrator with a table that is divided by months, by
// commands and in the console.
func TestPartitionsFromPlanToDropAndAhead(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "postgres")
	w.exec("CREATE TABLE reading (id bigint NOT NULL, at timestamptz NOT NULL, celsius numeric(5,2), PRIMARY KEY " +
		"(id, at)) PARTITION BY RANGE (at)")
	month := func(m int) string {
		return time.Date(2026, time.Month(m), 1, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
	}
	for m := 1; m <= 4; m++ {
		w.exec(fmt.Sprintf("CREATE TABLE reading_2026_%02d PARTITION OF reading FOR VALUES FROM ('%s+00') TO "+
			"('%s+00')", m, month(m), month(m+1)))
		w.exec(fmt.Sprintf("INSERT INTO reading SELECT g, timestamptz '%s+00' + g %% 28 * interval '1 day', g %% "+
			"50 FROM generate_series(%d, %d) g", month(m), m*1000, m*1000+499))
	}
	w.exec("ANALYZE reading")
	w.must("source", "add", "harbour", "-engine", "postgres", "-address", w.dsn, "-tls", "off")
	w.must("rule", "apply", "-f", w.rules(
		"rule: scans\nsource: harbour\ntable: reading\nage: at\nclauses:\n  - before: 2026-03-15\nthen: "+
			"archive\narchive: {store: cellar}\npace: unlimited\n"))
	p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
	shown := strings.Join(strings.Fields(w.must("plan", "show", p.ID)), " ")
	for _, want := range []string{"reading_2026_01 2026-01-01 2026-02-01 500", "as a whole -",
		"row by row only part of its range is due", "stays -", "takes its part of every index along"} {
		if !strings.Contains(shown, want) {
			t.Errorf("the plan does not say %q:\n%s", want, shown)
		}
	}
	w.refuse(1, []string{"does not offer to empty table reading at once: its rule does not empty the table"}, "run",
		"start", p.ID, "-empty")

	b := browse(t)
	b.do(chromedp.Navigate(w.svc.server))
	b.press("With a token")
	b.fill("#token", w.token)
	b.press("Sign in")
	b.sees("Overview")
	b.do(chromedp.Navigate(w.svc.server + "/#/rules/scans"))
	b.sees("2 partitions as a whole", "1 partition row by row", "1 partition stays")
	b.press("Start the run")
	b.sees("Partitions", "left as a whole", "Taken out and dropped in")
	runs := must1[client.Items[client.Run]](w, "run", "list")
	r := w.ended(runs.Items[0].ID)
	due := w.count("SELECT 1000 + count(*) FROM generate_series(3000, 3499) g WHERE timestamptz '2026-03-01+00' + " +
		"g % 28 * interval '1 day' < '2026-03-15+00'")
	w.balanced(r, due, due)
	if text := w.must("run", "show", r.ID); strings.Count(text, "left as a whole, 500 rows; copied in") != 2 ||
		w.count("SELECT count(*) FROM pg_inherits WHERE inhparent = 'reading'::regclass") != 2 ||
		w.count("SELECT count(*) FROM reading") != 2000-due {
		t.Errorf("after the run:\n%s", text)
	}

	if text := w.must("table", "ahead", "harbour", "reading", "-count", "2", "-try"); !strings.Contains(text,
		"reading_2026_06") || !strings.Contains(text, "ATTACH PARTITION") ||
		!strings.Contains(text, "nothing was changed") {
		t.Errorf("trying:\n%s", text)
	}
	b.do(chromedp.Navigate(w.svc.server + "/#/tables/harbour/reading"))
	b.sees("reading_2026_03", "reading_2026_04", "Source, stores and catalog", "they agree")
	b.press("Show what would be sent")
	b.sees("CREATE TABLE", "reading_2026_07")
	b.press("Make 3 partitions")
	b.sees("Made: reading_2026_05, reading_2026_06, reading_2026_07")
	w.exec("INSERT INTO reading VALUES (1, '2026-07-31 23:59:59+00', 1)")
	w.refuse(1, []string{"0 is no number of partitions", "from 1 to 120"}, "table", "ahead", "harbour", "reading",
		"-count", "0")
	w.refuse(1, []string{"is not divided by ranges"}, "table", "ahead", "harbour", "first_thing")

	// A database that was turned back is found out, shown and settled.
	if text := w.must("table", "reconcile", "harbour", "reading"); !strings.Contains(text, "agree") {
		t.Errorf("before:\n%s", text)
	}
	w.exec("UPDATE ambercellar.lease SET epoch = epoch - 1 WHERE table_name = 'reading'")
	b.do(chromedp.Navigate(w.svc.server + "/#/tables"))
	b.sees("first_thing")
	b.do(chromedp.Navigate(w.svc.server + "/#/tables/harbour/reading"))
	b.sees("they disagree: runs of this table are stopped", "the database was turned back, or a replica took over",
		"Settling would do this")
	w.refuse(1, []string{"the database was turned back", "nothing is deleted and no segment is changed"}, "table",
		"reconcile", "harbour", "reading")
	p = must1[client.Plan](w, "plan", "make", "scans")
	w.refuse(1, []string{"disagree about harbour.reading", "ambercellar table reconcile harbour reading"}, "run",
		"start", p.ID)
	b.fill("#reason", "for the test")
	b.press("Settle it")
	b.sees("they agree")
	w.must("run", "start", p.ID)
}
