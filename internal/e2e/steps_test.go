package e2e

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

// A rule's run waits for a backup, and is done with its steps around it: written in the console's form, told by the
// command line, and through a kill while it works.
func TestARunWithRequirementsAndSteps(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(4000)
		w.exec("CREATE TABLE job (off integer NOT NULL); INSERT INTO job VALUES (0)")
		w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn)
		dump := filepath.Join(t.TempDir(), "harbour.dump")
		fields := "requires: {backup: {file: " + dump +
			", within: P1D}}\nbefore:\n  - sql: UPDATE job SET off = off + 1\n" +
			"after:\n  - sql: UPDATE job SET off = 0\n  - sql: SELECT off FROM job\n"
		careful := strings.ReplaceAll(scheduledRule, "pace: unlimited\n", "pace: careful\n")
		w.must("rule", "apply", "-f", w.rules(careful+fields))
		if out := w.must("rule", "requirements", "scans"); !strings.Contains(out, "does not hold") {
			t.Errorf("%s", out)
		}
		w.refuse(2, []string{"name a plan, a rule (-rule RULE), or all rules (-all)"}, "run", "start")
		w.refuse(1, []string{"it is not said why"}, "run", "start", "-rule", "scans")
		w.must("run", "start", "-rule", "scans", "-reason", "the table is large")
		var run client.RunView
		w.eventually("its run rests", func() bool {
			for _, r := range must1[client.Items[client.RunView]](w, "run", "list").Items {
				run = r
			}
			return run.State == "resting" && strings.Contains(run.Reason, "requires backup")
		})
		if out := w.must("queue", "list"); !strings.Contains(out, "resting") ||
			!strings.Contains(out, "requires backup") {
			t.Errorf("%s", out)
		}
		if err := os.WriteFile(dump, []byte("all of it"), 0o600); err != nil {
			t.Fatal(err)
		}
		w.must("run", "resume", run.ID)
		w.until(run.ID, "it deletes", func(r client.RunView) bool { return r.Ledger.Deleted > 0 })
		w.stop(syscall.SIGKILL)
		if off := w.count("SELECT off FROM job"); off != 1 {
			t.Errorf("killed while it worked, off is %d", off)
		}
		w.start()
		w.hurried(run.ID)
		w.ended(run.ID)
		if w.count("SELECT count(*) FROM scan") != 100 || w.count("SELECT off FROM job") != 0 {
			t.Errorf("%d rows are left, off is %d", w.count("SELECT count(*) FROM scan"),
				w.count("SELECT off FROM job"))
		}
		out := w.must("run", "steps", run.ID)
		if strings.Count(out, "before") != 2 || strings.Count(out, "after") != 2 || !strings.Contains(out, "off; 0") {
			t.Errorf("%s", out)
		}
	})
}

// What somebody wishes of a rule, in the console: requirements in its form, off its schedule, disabled.
func TestTheConsoleSaysWhatARuleRequires(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(300)
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn)
	w.must("rule", "apply", "-f", w.rules(scheduledRule+"schedule: {when: daily at 00:00, from: 2100-01-01}\n"))
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview")
	p.do(chromedp.Navigate(w.svc.server + "/#/rules/scans/edit"))
	p.sees("What its runs require")
	p.do(chromedp.Click("//summary[contains(., 'What its runs require')]"))
	p.choose("#backup-kind", "file")
	p.sees("a file of the service's machine")
	p.fill("#backup-told", filepath.Join(t.TempDir(), "none.dump"))
	p.fill("#store-free", "2x")
	p.press("Add a step after")
	p.fill("input[aria-label='Step 1 after']", "SELECT count(*) AS left_over FROM scan")
	time.Sleep(time.Second)
	p.press("Save")
	p.sees("Requirements and steps", "does not hold", "SELECT count(*) AS left_over FROM scan")
	if out := w.must("rule", "show", "scans"); !strings.Contains(out, "within: P1D") ||
		!strings.Contains(out, "store_free: 2x") || !strings.Contains(out, "left_over") {
		t.Errorf("%s", out)
	}
	p.press("Run now …")
	p.fill("input[aria-label='Reason']", "somebody waits")
	p.press("Run now")
	p.sees("It fires", "started", "somebody waits")
	p.press("Take it off its schedule …")
	p.fill("input[aria-label='Reason']", "the port is closed")
	p.press("Take it off its schedule")
	p.sees("Off its schedule since", "the port is closed")
	p.press("Back to its schedule …")
	p.fill("input[aria-label='Reason']", "it is open")
	p.press("Back to its schedule")
	p.sees("It fires again.")
	p.press("Disable …")
	p.fill("input[aria-label='Reason']", "no ferries")
	p.press("Disable")
	p.sees("Not enabled, and so it does not fire", "Enable …")
	p.press("Queue")
	p.sees("resting", "requires backup", "administrator")
	w.eventually("its run rests", func() bool {
		return must1[client.Items[client.RunView]](w, "run", "list").Items[0].State == "resting"
	})
	p.press("Cancel")
	p.sees("Nothing works and nothing waits")
}
