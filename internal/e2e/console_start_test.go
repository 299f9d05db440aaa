package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

// TestTheBrowserAloneLeadsToTheFirstArchivedRow: an empty service, a database, and nobody who types a command.
func TestTheBrowserAloneLeadsToTheFirstArchivedRow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(300)
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + w.token))
	p.sees("Overview", "Nothing is archived yet")
	p.press("Begin")
	p.sees("Connect your database", "Where archived rows go", "Write the first rule", "See what it would take")

	// A source that does not answer is not kept, and what was typed stays.
	p.fill("#source-name", "harbour")
	p.choose("#engine", "postgres")
	p.fill("#address", "postgres://a@127.0.0.1:1/b")
	p.press("Connect and add")
	p.sees("address: ", "the database does not answer", "Connect your database")
	p.choose("#engine", "sqlite")
	if l, err := w.client.Sources(t.Context()); err != nil || len(l.Items) > 0 {
		t.Errorf("it was kept: %+v, %v", l, err)
	}
	p.fill("#address", w.dsn)
	p.press("Connect and add")
	p.sees("Write a rule for scan", "Good for a beginning")

	p.press("Write a rule for scan")
	p.sees("New rule", "rows would be due today")
	p.sees("1: every row")
	p.fill("#name", "scans")
	p.press("Save") // at once, before the page has looked at the name
	p.sees("Begin", "Make a plan")
	p.press("Make a plan")
	p.sees("scans: 18 months", "300 of 400 rows are due")
	p.press("Start the run")
	p.sees("300 rows left harbour.scan", "of the archive")
	l, err := w.client.Runs(t.Context(), client.RunsQuery{})
	if err != nil || len(l.Items) != 1 {
		t.Fatalf("%+v, %v", l, err)
	}
	w.balanced(l.Items[0], 300, 300)
}

// TestSettingsAreChangedInTheBrowser: a source is checked, changed and given guard rails, a store is added and changed,
// a keep is written with a mistake first, and what somebody changed is taken up from its file again.
func TestSettingsAreChangedInTheBrowser(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(300)
	files := t.TempDir()
	w.stop(syscall.SIGTERM)
	w.start("-declare", files)
	w.must("source", "add", "harbour", "-engine", "sqlite", "-address", w.dsn)
	w.must("source", "add", "quay", "-engine", "sqlite", "-address", w.dsn)
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + w.token))
	p.sees("Overview")
	row := func(name, button string) {
		t.Helper()
		path := fmt.Sprintf(`//tr[td[1][normalize-space()=%q]]//button[normalize-space()=%q]`, name, button)
		p.do(chromedp.Click(path, chromedp.NodeVisible))
	}
	p.press("Settings")
	p.sees("harbour", w.dsn)
	row("harbour", "Check")
	p.sees("Check of harbour", "SQLite 3.")
	row("harbour", "Change")
	p.fill("#connections", "6")
	p.fill("#address", "/nowhere/harbour.db")
	p.press("Connect and change")
	p.sees("address: ", "/nowhere/harbour.db")
	p.fill("#address", w.dsn)
	p.press("Connect and change")
	p.sees("Source harbour changed.")
	row("harbour", "Guard rails")
	p.fill("#guard-live", "ninety")
	p.press("Set the guard rails")
	p.sees("live")
	p.fill("#guard-live", "P90D")
	p.fill("#guard-never", "vessel, port")
	p.press("Set the guard rails")
	p.sees("Guard rails of harbour set.")
	if out := w.must("guard", "show", "harbour"); !strings.Contains(out, "P90D") ||
		!strings.Contains(out, "vessel, port") {
		t.Errorf("the guard rails:\n%s", out)
	}
	row("quay", "Remove …")
	p.press("Remove quay")
	p.sees("Source quay removed.")

	p.press("Stores")
	p.press("Add a store")
	p.fill("#store-name", "vault")
	p.fill("#path", "/proc/nowhere")
	p.press("Try out and add")
	p.sees("path:")
	p.fill("#path", filepath.Join(w.dir, "vault"))
	p.press("Try out and add")
	p.sees("Store vault added.")
	row("vault", "Check")
	p.sees("Store vault: a file was written, read back, listed and removed.")
	row("cellar", "Change")
	p.choose("#change-second", "vault")
	p.fill("#every", "P10D")
	p.press("Change")
	p.sees("Store cellar changed.", "in vault", "every 10 days")

	p.press("Keeps and schedules")
	p.press("Write a keep")
	p.fill("#named", "keep: disputes\nperiod: P3\nabout: x\n")
	p.sees("It cannot be applied yet", "period")
	p.fill("#named", "keep: disputes\nperiod: P3Y\nabout: Fares are disputed.\n")
	p.press("Apply")
	p.sees("disputes: new")
	p.press("Write a schedule")
	p.press("Apply")
	p.sees("nights: new", "when: daily at 02:30")

	p.press("Files")
	p.sees("All that is declared is in force")
	if err := os.WriteFile(filepath.Join(files, "k.yaml"),
		[]byte("keep: disputes\nperiod: P4Y\nabout: Fares are disputed.\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	p.press("Take up what is new")
	p.sees("conflict", "1 difference to decide")
	p.press("Difference")
	p.sees("-period: P3Y", "+period: P4Y")
	p.press("Take up over it")
	p.sees("All that is declared is in force", "0 differences to decide")
	p.do(chromedp.Click(`//button[contains(., "Show all")]`))
	p.sees("as declared", "in no file")
}

// TestTheBellTellsWhatIsNew: what happens while somebody is away is new once, and is listed afterwards.
func TestTheBellTellsWhatIsNew(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(300)
	w.define("purge", "unlimited")
	p := browse(t)
	bell := func(said string) {
		t.Helper()
		p.comesTo(
			`String(document.querySelector('button[aria-label^="What is new"]')?.ariaLabel)`,
			"What is new: "+said,
		)
	}
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + w.token))
	bell("nothing new")
	id := w.ended(w.planned().ID).ID
	w.must("service", "freeze", "-reason", "a storm is coming")
	bell("2 new")
	p.do(chromedp.Click(`//button[contains(@aria-label, "What is new")]`))
	p.sees("What is new", "Every source is frozen", "since your last visit")
	bell("nothing new")
	p.do(chromedp.Click(fmt.Sprintf(`//a[@href="#/runs/%s"]`, id)))
	p.sees("scans", "Batches")
	p.do(chromedp.Reload())
	bell("nothing new")
	p.do(chromedp.Click(`//button[contains(@aria-label, "What is new")]`))
	p.sees("Every source is frozen")
	if strings.Contains(p.text(), "since your last visit") {
		t.Error("it is new again")
	}
	out := w.must("news")
	l := must1[client.Items[client.News]](w, "news", "-since", "1")
	if !strings.Contains(out, "Every source is frozen") || len(l.Items) != 1 {
		t.Errorf("%s\n%+v", out, l)
	}
	w.refuse(2, []string{"-since"}, "news", "-since", "yesterday")
}
