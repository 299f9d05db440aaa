package e2e

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
)

// page is a tab of headless Chromium.
type page struct {
	t   *testing.T
	ctx context.Context
}

// browsers are those that may be at work at a time: each is busy as many tests without one are not. Each is started for
// the first test that wants it, and stays for others.
var browsers = make(chan *browser, 2)

func init() {
	for range cap(browsers) {
		browsers <- &browser{}
	}
}

type browser struct {
	ctx  context.Context
	stop []context.CancelFunc
}

// open returns the browser's context; its process is started where none goes on.
func (b *browser) open() (context.Context, error) {
	if b.ctx != nil && b.ctx.Err() == nil {
		return b.ctx, nil
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("no-first-run", true))
	ctx, end := chromedp.NewExecAllocator(context.Background(), options...)
	b.stop = append(b.stop, end)
	b.ctx, end = chromedp.NewContext(ctx)
	b.stop = append(b.stop, end)
	return b.ctx, chromedp.Do(b.ctx)
}

// closeBrowsers ends all that were started.
func closeBrowsers() {
	for range cap(browsers) {
		b := <-browsers
		for i := range b.stop {
			b.stop[len(b.stop)-1-i]()
		}
	}
}

// browse opens a tab of a browser that knows nothing of any other: no session, no settings, no kept files.
func browse(t *testing.T) *page {
	t.Helper()
	b := <-browsers
	t.Cleanup(func() { browsers <- b }) // after the tab has gone
	ctx, err := b.open()
	if err != nil {
		t.Fatalf("headless Chromium is needed: %v", err)
	}
	ctx, cancel := chromedp.NewContext(ctx, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 5*time.Minute)
	t.Cleanup(cancel)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatalf("a tab of headless Chromium is needed: %v", err)
	}
	return &page{t: t, ctx: ctx}
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		png, _ := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		path := filepath.Join(os.TempDir(), "ambercellar-console-test.png")
		os.WriteFile(path, png, 0o644)
		p.t.Fatalf("%v\nthe page (a picture is at %s) says:\n%s", err, path, text)
	}
}

func (p *page) text() string {
	p.t.Helper()
	s, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body?.innerText ?? ''"))
	if err != nil {
		p.t.Fatal(err)
	}
	return s
}

// sees waits until the page shows all of the parts.
func (p *page) sees(parts ...string) {
	p.t.Helper()
	shown := ""
	for deadline := time.Now().Add(90 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		shown = p.text()
		missing := false
		for _, part := range parts {
			missing = missing || !strings.Contains(shown, part)
		}
		if !missing {
			return
		}
	}
	p.t.Fatalf("the page does not show %q:\n%s", parts, shown)
}

// press clicks the button or link of that text, as a person finds it.
func (p *page) press(text string) {
	p.t.Helper()
	p.do(chromedp.Click(fmt.Sprintf(`//*[self::button or self::a][normalize-space()=%q and not(@disabled)]`, text),
		chromedp.NodeVisible))
}

func css(s string) chromedp.CSS { return chromedp.CSS(s) }

func TestTheConsoleFromSignInToRestore(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("../../console/dist/index.html"); err != nil {
		t.Fatal("the console is not built; run `make console` first")
	}
	engines(t, func(t *testing.T, w *world) {
		w.scans(3000)
		before := w.content("true")
		w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn, "-tls", "off")
		p := browse(t)

		// Sign in, with a wrong token first.
		p.do(chromedp.Navigate(w.svc.server))
		p.press("With a token")
		p.fill("#token", "amber_wrong")
		p.press("Sign in")
		p.sees("The token is wrong")
		p.fill("#token", w.token)
		p.press("Sign in")
		p.sees("Overview", "No run right now", "No run has ended yet")

		// From a table to a rule; a mistake first.
		p.press("Tables")
		p.sees("harbour", "scan", "scanned_at", "2020-01-01")
		p.press("scan")
		p.sees("harbour.scan", map[string]string{"sqlite": "numeric", "postgres": "numeric(9,2)",
			"mariadb": "decimal(9,2)"}[w.engine], "vessel (id)", "scan_age")
		p.press("Write a rule")
		// table, age column and store are there already
		p.sees("New rule", "What it would do", "rows would be due today")
		p.fill("#name", "scans")
		p.fill("input[aria-label='Which rows, clause 1']", "fare < 'ten'")
		p.sees("The rule cannot be saved yet", "is compared with 'ten'", "^")
		p.fill("input[aria-label='Which rows, clause 1']", "fare < 10")
		p.sees("1: fare < 10")
		p.press("Add a clause")
		p.sees("every row that no other clause matches", "2: every other row")
		p.do(chromedp.Click(`//*[@role="tab"][.="YAML"]`))
		p.sees("New rule")
		if text, err := chromedp.Run(p.ctx,
			chromedp.Evaluate[string]("document.querySelector('#yaml').value")); err != nil ||
			!strings.Contains(text, "where: fare < 10") || !strings.Contains(text, "otherwise: true") {
			t.Errorf("the YAML does not show what the form says: %s (%v)", text, err)
		}
		bad := strings.Replace(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar}", "careful"), "scanned_at",
			"scaned_at", 1)
		p.fill("#yaml", bad)
		p.sees("The rule cannot be saved yet", "line 5", "did you mean scanned_at?")
		p.fill("#yaml", strings.Replace(bad, "scaned_at", "scanned_at", 1))
		p.sees("What it would do", "1: every row")
		p.press("Compare")
		p.sees("This rule is new", "3,000 rows become due")
		p.press("Save")

		// A plan changes nothing; the run is watched live to its end.
		p.sees("No plan yet", "Forecast")
		p.press("Make a plan")
		p.sees("rows are due", "last that goes")
		if strings.Contains(p.text(), "Count them") { // on a slow machine the plan is an estimate at first
			p.press("Count them")
		}
		p.sees("3,000", "(counted)")
		if w.content("true") != before {
			t.Fatal("a plan changed something")
		}
		p.press("Start the run")
		p.sees("Run of scans", "running", "Pause")
		p.press("Pause")
		p.sees("paused by administrator", "Resume")
		p.press("Resume")
		p.sees("running", "Pause")
		w.hurried(must1[client.Items[client.Run]](w, "run", "list").Items[0].ID)
		p.sees("done", "the books balance", "3,000 of 3,000 rows")
		if n := w.count("SELECT count(*) FROM scan"); n != 100 {
			t.Errorf("%d rows are live instead of 100", n)
		}

		// The archive, verified; the restore, which takes the pace of the rule; the rows are back.
		w.must("rule", "apply", "-f",
			w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar}", "gentle")))
		p.press("Archive")
		p.sees("cellar", "closed", "3,000", "2020-01-01")
		segment := must1[client.Items[client.Segment]](w, "segment", "list").Items[0]
		p.press("Search rows")
		p.sees("Search the archive", "Which rows")
		p.fill("#search-where", "nota = 'note 17'")
		p.do(chromedp.Click(css("main button[type=submit]"), chromedp.NodeVisible))
		p.sees("did you mean note?")
		p.fill("#search-where", "note = 'note 17'")
		p.do(chromedp.Click(css("main button[type=submit]"), chromedp.NodeVisible))
		p.sees("1 row", "note 17", "passed over by their bounds", "Save all as CSV")
		p.press("Archive")
		p.do(chromedp.Click(css("a[href='#/archive/" + segment.ID + "']")))
		p.sees("Proof", segment.Digest)
		p.press("Verify")
		p.sees("The segment is what was written")
		p.press("Restore")
		p.sees("Request a restore")
		p.do(chromedp.SendKeys(css("#note"), "asked for by the harbour office"))
		p.press("See what comes back")
		p.sees("3,000 rows of harbour.scan, in 1 segment", "The keys of 0 of them are in the table already")
		p.press("Restore 3,000 rows")
		p.sees("3,000", "✓ counts, digest", "asked for by the harbour office")
		if w.content("true") != before {
			t.Error("the rows that came back are not the rows that went")
		}

		// A hold, placed and lifted; a mistake in its condition is shown as it is typed.
		p.press("Holds")
		p.sees("No hold stands")
		p.press("Place a hold")
		p.choose("#hold-table", "scan")
		p.fill("#hold-where", "note = 5")
		p.sees("is compared with 5", "^")
		p.fill("#hold-where", "note = 'note 17'")
		p.fill("#hold-reference", "case 17")
		p.fill("#hold-reason", "inquiry of the harbour board")
		p.press("Place the hold")
		p.sees("The hold stands, on 1 live row")
		p.press("Good")
		p.sees("case 17", "note = 'note 17'")
		p.press("Lift …")
		p.fill("input[aria-label='Why the hold ends']", "closed")
		p.press("Lift")
		p.sees("No hold stands")

		p.press("Overview")
		p.sees("Rows in the archive", "3,000", "scans")
		p.press("Sign out")
		p.sees("An administrator makes an account for you")
	})
}

// fill puts a text into a field, in place of what stands there, and leaves it.
func (p *page) fill(selector, text string) {
	p.t.Helper()
	p.do(chromedp.WaitVisible(css(selector)))
	script := fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.value = %q; e.dispatchEvent(new `+
		`Event("input", `+
		`{bubbles: true})); return e.dispatchEvent(new Event("change", {bubbles: true})) })()`, selector, text)
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](script)); err != nil {
		p.t.Fatal(err)
	}
}

// choose picks an option of a list, which may still be loading.
func (p *page) choose(selector, option string) {
	p.t.Helper()
	script := fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (![...e?.options ?? []].some((o) => `+
		`o.value === %[2]q)) return false; e.value = %[2]q; return e.dispatchEvent(new Event("change", {bubbles: `+
		`true})) })()`, selector, option)
	for range 200 {
		done, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](script))
		if err != nil {
			p.t.Fatal(err)
		}
		if done {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.t.Fatalf("%s does not offer %q", selector, option)
}

// comesTo waits until an expression of the page has a value.
func (p *page) comesTo(expression, want string) {
	p.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		got, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](expression))
		if err != nil || time.Now().After(deadline) {
			p.t.Fatalf("%s is %q and not %q (%v)", expression, got, want, err)
		}
		if got == want {
			return
		}
	}
}

func TestTheConsoleIsReachableByKeyboardAndKnowsDark(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(10)
	w.define("archive", "careful")
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview")
	at, err := chromedp.Run(p.ctx, chromedp.Location())
	if err != nil || strings.Contains(at, w.token) {
		t.Errorf("the token stays in the address %s (%v)", at, err)
	}
	// From the top of the page, Tab reaches every place of the navigation in turn, and Enter opens it.
	var reached []string
	for range 9 {
		p.do(chromedp.KeyEvent("\t"))
		text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](
			"document.activeElement.innerText.trim() || document.activeElement.ariaLabel"))
		if err != nil {
			t.Fatal(err)
		}
		if reached = append(reached, text); text == "Rules" {
			p.do(chromedp.KeyEvent("\r"))
			break
		}
	}
	if got := strings.Join(reached, ","); got != "Skip to content,Amber Cellar,"+
		"What is new: nothing new,Overview,Findings,Approvals,Tables,Rules" {
		t.Errorf("Tab reaches %s", got)
	}
	p.sees("What must be kept, how long, and why.", "scans")
	unnamed, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[float64](`[...document.querySelectorAll("button,a,input,textarea,select")].filter(e => `+
			`!(e.innerText || e.ariaLabel || e.labels?.length || e.title)).length`))
	if err != nil || unnamed != 0 {
		t.Errorf("%v controls have no name for a screen reader (%v)", unnamed, err)
	}
	brightness := `(() => { const c = ` +
		`getComputedStyle(document.documentElement).backgroundColor.match(/[\d.]+/g).map(Number); return c[0] })()`
	light, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](brightness))
	if err != nil {
		t.Fatal(err)
	}
	p.press("Light or dark")
	dark, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](brightness))
	if err != nil || dark >= light {
		t.Errorf("dark is not darker: %v, %v (%v)", light, dark, err)
	}
	p.do(chromedp.Navigate(w.svc.server + "/#/runs/nothing-like-it"))
	p.sees("There is nothing of that name")
}

func TestTheConsoleBuildsARuleWhoseRelatedTablesGoAlong(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.exec(`CREATE TABLE trip (id integer PRIMARY KEY, at datetime NOT NULL, name text); CREATE INDEX trip_at
		ON trip (at);
		CREATE TABLE leg (id integer PRIMARY KEY, trip_id integer NOT NULL REFERENCES trip (id) ON DELETE CASCADE,
			harbour text); CREATE INDEX leg_trip ON leg (trip_id);
		CREATE TABLE remark (id integer PRIMARY KEY, leg_id integer REFERENCES leg (id), text text);
			CREATE INDEX remark_leg ON remark (leg_id); CREATE TABLE lamp (id integer PRIMARY KEY, lit datetime);
		WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 300) INSERT INTO trip SELECT g,
			datetime('2020-01-01', '+' || g || ' hours'), 'trip ' || g FROM s;
		INSERT INTO leg SELECT id, (id + 1) / 2, 'pier' FROM trip; INSERT INTO remark SELECT id, id, 'calm' FROM leg
			WHERE id <= 60`)
	w.must("source", "add", "harbour", "-engine", w.engine, "-address", w.dsn)
	w.must("rule", "apply", "-f", w.rules(
		"rule: lamps\nsource: harbour\ntable: lamp\nage: lit\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: purge\n"))
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview")
	p.do(chromedp.Navigate(w.svc.server + "/#/rules/new?source=harbour&table=trip&age=at"))

	// The cascade is refused with what to add; the form offers it, level by level.
	p.fill("#name", "trips")
	p.sees("would reach rows of leg", "on delete cascade", "add it")
	p.choose("select[aria-label='Rows of leg']", "archive")
	// remarks keep their legs, and those their trips
	p.sees("270 of 300 rows would be due today", "240", "30 rows that are old enough stay")
	p.choose("select[aria-label='Rows of remark']", "unlink")
	p.sees("300 of 300 rows would be due today", "leg (leg_id = id)", "unlink")
	yaml := func() string {
		t.Helper()
		p.do(chromedp.Click(`//*[@role="tab"][.="YAML"]`), chromedp.WaitVisible(css("#yaml")))
		text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.querySelector('#yaml').value"))
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	text := yaml()
	if !strings.Contains(text, "- table: leg") || !strings.Contains(text, "then: unlink") {
		t.Errorf("the YAML does not show what the form says:\n%s", text)
	}
	p.fill("#yaml", strings.Replace(text, "then: unlink", "then: archive", 1))
	p.do(chromedp.Click(`//*[@role="tab"][.="Form"]`))
	p.comesTo("document.querySelector(\"select[aria-label='Rows of remark']\")?.value ?? ''", "archive")

	// What is not saved is not left unasked, by the browser's own button either.
	if _, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[bool]("window.asked = 0, window.confirm = () => { window.asked++; return false "+
			"}, true")); err != nil {
		t.Fatal(err)
	}
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("history.back(), true")); err != nil {
		t.Fatal(err)
	}
	p.comesTo("String(window.asked)", "1")
	p.sees("New rule")
	if at, err := chromedp.Run(p.ctx, chromedp.Location()); err != nil || !strings.Contains(at, "/rules/new") {
		t.Errorf("the address is %s (%v)", at, err)
	}
	p.press("Save")
	p.sees("No plan yet", "then: archive")

	// The plan and the run name every table of the family.
	p.press("Make a plan")
	p.sees("leg (leg_id = id)", "300", "60")
	p.press("Start the run")
	p.sees("Run of trips", "done", "the books balance", "with\u00a0leg", "with\u00a0remark")
	if n := w.count("SELECT (SELECT count(*) FROM trip) + (SELECT count(*) FROM leg) + (SELECT count(*) FROM " +
		"remark)"); n != 0 {
		t.Errorf("%d rows are live", n)
	}
	p.press("Archive")
	p.sees("harbour.trip", "harbour.leg", "harbour.remark")

	// One rule after another: the page shows the one that its address names, and its form is of that rule.
	p.do(chromedp.Navigate(w.svc.server + "/#/rules/trips/edit"))
	p.sees("Change rule trips")
	p.do(chromedp.Navigate(w.svc.server + "/#/rules/lamps/edit"))
	p.sees("Change rule lamps")
	p.comesTo("document.querySelector('#name')?.value ?? ''", "lamps")
	if text := yaml(); !strings.Contains(text, "rule: lamps") {
		t.Errorf("the text is of another rule:\n%s", text)
	}
}
