package e2e

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ambercellar/client"

	"github.com/chromedp/chromedp"
)

// TestTheConsoleProvesPicksAndDisposes: verify everything, see what is damaged, pick rows of a search and bring them
// back, and destroy what is over by a decision that has to be typed.
func TestTheConsoleProvesPicksAndDisposes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2000)
	w.define("archive", "unlimited")
	w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar, keep: PT1S}",
		"unlimited")))
	w.in("2020-02-01", "")
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview", "2,000")

	// Picked rows of a search come back.
	p.press("Search")
	p.sees("Search the archive")
	p.fill("#search-where", "id IN (10, 20, 30)")
	p.do(chromedp.Click(css("main button[type=submit]"), chromedp.NodeVisible))
	p.sees("3 rows", "note 10", "note 30")
	p.do(chromedp.Click(css("tbody tr:nth-child(1) input[type=checkbox]"), chromedp.NodeVisible),
		chromedp.Click(css("tbody tr:nth-child(3) input[type=checkbox]"), chromedp.NodeVisible))
	p.press("Restore 2 picked rows")
	p.sees("Request a restore", "2 picked rows")
	p.press("See what comes back")
	p.sees("2 rows of harbour.scan, in 1 segment", "The keys of 0 of them are in the table already")
	p.press("Restore 2 rows")
	p.sees("Restores", "2 picked rows", "✓ counts, digest")
	if n := w.count("SELECT count(*) FROM scan WHERE id IN (10, 30)"); n != 2 {
		t.Errorf("%d of the picked rows are back", n)
	}
	// By a condition, into a side table.
	p.press("Request a restore")
	p.sees("Which rows")
	p.choose("#table", "harbour.scan")
	p.fill("#where", "id < 8")
	p.do(chromedp.Click(css("input[name=target][value=side]"), chromedp.NodeVisible))
	p.fill("#side", "aside")
	p.press("See what comes back")
	p.sees("7 rows of harbour.scan", "a new table aside of source harbour, made to fit")
	p.press("Restore 7 rows")
	p.sees("side table harbour.aside", "where id < 8")
	w.eventually("the side table", func() bool {
		return must1[client.Items[client.Restore]](w, "restore", "list").Items[0].State == client.RestoreDone
	})

	// Everything is what was written; then it is not.
	p.press("Archive")
	p.sees("Verified", "Verify everything", "Nothing has been verified yet")
	p.press("Verify everything")
	p.sees("all stores", "2,000", "done")
	s := must1[client.Items[client.Segment]](w, "segment", "list").Items[0]
	path := filepath.Join(w.dir, "data", "cellar", s.Stem+".parquet")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	b[300] ^= 1
	if err := os.WriteFile(path, b, 0o640); err != nil {
		t.Fatal(err)
	}
	p.press("Verify everything")
	p.sees("damaged", "SHA-256", s.Stem+".parquet")
	p.press("Overview")
	p.sees("1 segment of the archive is not what was written", "there is no second copy")
	p.do(chromedp.Click(css("div[role=alert] a"), chromedp.NodeVisible))
	p.sees("This segment is damaged", "Bring the file back from a backup")
	b[300] ^= 1
	if err := os.WriteFile(path, b, 0o640); err != nil {
		t.Fatal(err)
	}
	p.press("Verify")
	p.sees("The segment is what was written")

	// Found out, decided, done, certified.
	w.outlived()
	p.press("Disposals")
	p.sees("Nothing was disposed of yet", "Find out; nothing is destroyed")
	p.fill("#erasure-where", "id = 5")
	p.fill("#erasure-note", "request 12")
	p.press("Find such rows; nothing is destroyed")
	p.sees("erasure", "rows stay: they are not meant", "request 12")
	p.press("Destroy …")
	p.fill("td input[autocomplete=off]", "scan")
	p.press("Destroy them")
	p.sees("destroyed", "Certificate as PDF")
	p.fill("#disposal-note", "spring cleaning")
	p.press("Find out; nothing is destroyed")
	p.sees("planned", "goes, from cellar", "spring cleaning")
	p.press("Destroy …")
	p.sees("This cannot be taken back")
	p.fill("td input[autocomplete=off]", "skan")
	if n, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[bool](`[...document.querySelectorAll("button")].find((b) => b.textContent.trim() === `+
			`"Destroy them").disabled`)); err != nil || !n {
		t.Errorf("the wrong name lets it go on: %v, %v", n, err)
	}
	p.fill("td input[autocomplete=off]", "scan")
	p.press("Destroy them")
	p.sees("destroyed", "Certificate as PDF")
	p.press("Search")
	p.sees("The archive is empty")
	if left, err := filepath.Glob(filepath.Join(w.dir, "data", "cellar", "harbour", "scan", "*",
		"*.parquet")); err != nil || len(left) != 0 {
		t.Errorf("there is %v, %v", left, err)
	}
}

// TestTheConsoleApprovesAndRetrieves: rows move to cold storage and are retrieved from pages, a restore waits for its
// approval, a refusal needs its reason, and what became of a table's rows adds up.
func TestTheConsoleApprovesAndRetrieves(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2000)
	w.vault(time.Hour)
	w.define("archive", "unlimited")
	w.in("2020-02-01", "")
	w.must("guard", "set", "harbour", "-approve", "restores")
	p := browse(t)
	p.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	p.sees("Overview", "2,000")
	first := must1[client.Items[client.Segment]](w, "segment", "list").Items[1]
	p.do(chromedp.Navigate(w.svc.server + "/#/archive/" + first.ID))
	p.sees("Where its rows lie", "They lie in cellar")
	p.choose("select[aria-label='store to move the rows to']", "vault")
	p.press("Move")
	p.sees("vault, cold", "1 segment in cold storage", "They have to be retrieved first")

	// A search names it, and has it fetched.
	p.press("Search")
	p.sees("Search the archive")
	p.fill("#search-where", "id IN (10, 1900)")
	p.do(chromedp.Click(css("main button[type=submit]"), chromedp.NodeVisible))
	p.sees("1 row", "note 1900", "1 segment in cold storage", "low priority: 3 seconds, less than 0.01 EUR")
	p.do(chromedp.Click(css("button[aria-label='Retrieve at high priority']"), chromedp.NodeVisible))
	p.sees("1 retrieval asked for")
	p.press("Archive")
	p.sees("Retrieved from cold storage", "high", "ready", "sealed")

	// A restore waits for somebody.
	for _, note := range []string{"wanted", "not wanted"} {
		p.press("Restore rows")
		p.sees("Which rows")
		p.choose("#table", "harbour.scan")
		p.fill("#where", "id = 10")
		p.fill("#note", note)
		p.press("See what comes back")
		p.sees("1 row of harbour.scan", "Somebody has to approve it")
		p.press("Restore 1 row")
		p.sees("asked", note, "Approve")
		if note == "wanted" {
			p.press("Approve")
			p.sees("✓ counts, digest")
			p.press("Archive")
			p.sees("Retrieved from cold storage")
			continue
		}
		p.press("Refuse …")
		p.fill("input[aria-label='why it is refused']", "nobody may see it")
		p.press("Refuse")
		p.sees("refused", "nobody may see it")
	}
	p.do(chromedp.Navigate(w.svc.server + "/#/tables/harbour/scan"))
	p.sees("2,100 records", "101 live + 2,000 archived − 0 archived again later − 1 put back", "adds up")
}
