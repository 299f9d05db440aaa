package e2e

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
)

// TestTheConsoleProvesPicksAndDisposes: verify everything, see what is damaged, pick rows of a search and bring them back, and
// destroy what is over by a decision that has to be typed.
func TestTheConsoleProvesPicksAndDisposes(t *testing.T) {
	w := newWorld(t, "sqlite")
	w.scans(2000)
	w.define("archive", "unlimited")
	w.must("rule", "apply", "-f", w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar, keep: PT1S}", "unlimited")))
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
	p.do(chromedp.Click(css("tbody tr:nth-child(1) input[type=checkbox]"), chromedp.NodeVisible), chromedp.Click(css("tbody tr:nth-child(3) input[type=checkbox]"), chromedp.NodeVisible))
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
		return must1[api.Items[catalog.Restore]](w, "restore", "list").Items[0].State == catalog.RestoreDone
	})

	// Everything is what was written; then it is not.
	p.press("Archive")
	p.sees("Verified", "Verify everything", "Nothing has been verified yet")
	p.press("Verify everything")
	p.sees("all stores", "2,000", "done")
	s := must1[api.Items[catalog.Segment]](w, "segment", "list").Items[0]
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
	time.Sleep(time.Second)
	p.press("Disposals")
	p.sees("Nothing was disposed of yet", "Find out; nothing is destroyed")
	p.fill("#disposal-note", "spring cleaning")
	p.press("Find out; nothing is destroyed")
	p.sees("planned", "goes, from cellar", "spring cleaning")
	p.press("Destroy …")
	p.sees("This cannot be taken back")
	p.fill("td input[autocomplete=off]", "skan")
	if n, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll("button")].find((b) => b.textContent.trim() === "Destroy them").disabled`)); err != nil || !n {
		t.Errorf("the wrong name lets it go on: %v, %v", n, err)
	}
	p.fill("td input[autocomplete=off]", "scan")
	p.press("Destroy them")
	p.sees("destroyed", "Certificate as PDF")
	p.press("Search")
	p.sees("The archive is empty")
	if left, err := filepath.Glob(filepath.Join(w.dir, "data", "cellar", "harbour", "scan", "*", "*.parquet")); err != nil || len(left) != 0 {
		t.Errorf("there is %v, %v", left, err)
	}
}
