package e2e

import (
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

const scheduledRule = "rule: scans\nsource: harbour\ntable: scan\nage: scanned_at\nzone: UTC\nclauses:\n  - keep: " +
	"P1Y\n" +
	"then: purge\npace: unlimited\n"

// A rule fires each minute: the service is killed as the minute ends, and makes up for it once; what asks is answered
// in the console; a freeze stops everything and is seen everywhere.
func TestARuleFiresThroughKillsAndFreezes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(500)
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn)
	for text, says := range map[string]string{
		"schedule: daily at 25:00\n":                "field schedule: column 10: \"25:00\" is not understood",
		"schedule: \"61 2 * * *\"\n":                "field 1, \"61\", is no minute (0-59)",
		"schedule: FREQ=DAILY;BYHUOR=2\n":           "column 12: \"BYHUOR=2\"",
		"schedule: every 30 february at 01:00\n":    "the schedule never fires",
		"schedule: busy-days\n":                     "there is no schedule \"busy-days\"",
		"schedule: {when: hourly, zone: Nowhere}\n": "\"Nowhere\" is no zone",
	} {
		w.refuse(1, []string{"scans", says}, "rule", "apply", "-f", w.rules(scheduledRule+text))
	}
	w.must("rule", "apply", "-f", w.rules(scheduledRule))
	if out := w.must("schedule", "show", "scans"); !strings.Contains(out, "it runs by hand only") {
		t.Errorf("without a schedule: %s", out)
	}
	w.must("rule", "apply", "-f", w.rules(scheduledRule+"schedule: every 1 minutes\nlimit: {rows: 400}\n"))
	if out := w.must("schedule", "show", "scans"); !strings.Contains(out, "fires every minute (UTC)") ||
		strings.Count(out, "before ") != 10 {
		t.Errorf("%s", out)
	}
	time.Sleep(time.Until(time.Now().Truncate(time.Minute).Add(time.Minute)) - 100*time.Millisecond)
	w.stop(syscall.SIGKILL)
	time.Sleep(300 * time.Millisecond)
	w.start()
	var asks client.Firing
	w.eventually("it asks", func() bool {
		for _, f := range must1[client.Items[client.Firing]](w, "firing", "list").Items {
			if f.State == "asking" {
				asks = f
			}
		}
		return asks.Plan != ""
	})
	if asks.Due != 500 || !strings.Contains(asks.Reason, "it would take 500 rows, and the rule's limit is 400") {
		t.Errorf("%+v", asks)
	}
	w.must("rule", "apply", "-f", w.rules(scheduledRule+"schedule: {when: daily at 00:00, from: 2100-01-01}\n"))
	w.eventually("what asked is over", func() bool {
		return len(must1[client.Items[client.Firing]](w, "firing", "list", "-state", "asking").Items) == 0
	})

	// frozen in the console, seen by the command line, lifted in the console
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview", "Last 24 hours", "Next")
	p.press("Freeze …")
	p.sees("Freeze everything?")
	p.fill("#freeze-reason", "an audit")
	p.press("Freeze")
	p.sees("Frozen: every source.", "an audit")
	w.refuse(1, []string{"every source is frozen", "an audit", "service unfreeze"}, "plan", "make", "scans")
	if out := w.must("freeze", "list"); !strings.Contains(out, "an audit") {
		t.Errorf("%s", out)
	}
	w.stop(syscall.SIGKILL)
	server := w.svc.server
	w.start("-listen", strings.TrimPrefix(server, "http://"))
	w.refuse(1, []string{"is frozen"}, "plan", "make", "scans")
	p.do(chromedp.Reload())
	p.sees("Frozen: every source.")
	p.press("Lift …")
	p.fill("input[aria-label='Why it is lifted']", "it is over")
	p.press("Lift")
	w.eventually("it is lifted", func() bool {
		return len(must1[client.Items[client.Freeze]](w, "freeze", "list").Items) == 0
	})

	// the pages
	plan := must1[client.Plan](w, "plan", "make", "scans")
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	run := must1[client.RunView](w, "run", "start", plan.ID, "-at", later, "-priority", "3")
	if run.StartAt == nil || run.Priority != 3 || run.State != "queued" {
		t.Errorf("%+v", run)
	}
	w.refuse(1, []string{"has passed"}, "run", "start", plan.ID, "-at", "2020-01-01")
	w.refuse(2, []string{"is no time"}, "run", "start", plan.ID, "-at", "soon")
	w.refuse(1, []string{"101 is no priority"}, "run", "priority", run.ID, "101")
	p.press("Queue")
	p.sees("it is to begin at", "scans", "How many work at a time")
	p.do(chromedp.Click(css("button[aria-label='Run scans sooner']")))
	w.eventually("it has another priority", func() bool { return w.shown(run.ID).Priority == 13 })
	p.press("Cancel")
	w.eventually("it is cancelled", func() bool { return w.shown(run.ID).State == "cancelled" })
	p.sees("Nothing works and nothing waits")
	p.press("Schedule")
	p.sees("Week of", "scans", "Newest firings", "the rule was changed")
	p.press("Month")
	p.sees(time.Now().Format("January 2006"))
	p.press("Findings")
	p.sees("What somebody should look at")
	p.do(chromedp.Navigate(server + "/#/rules/scans"))
	p.sees("Fires every day, at 00:00 (UTC, from 2100-01-01)", "made up for by one run", "2100-01-01")
	if w.count("SELECT count(*) FROM scan") != 600 {
		t.Error("rows are gone that nobody let go")
	}
}
