// Command screenshots takes the console's pictures for docs/screenshots from a running demo:
//
//	screenshots -address 'http://127.0.0.1:7420/#token=…' -out docs/screenshots
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	address := flag.String("address", "", "the address that the demo printed")
	out := flag.String("out", "docs/screenshots", "directory for the pictures")
	only := flag.String("only", "", "take only the pictures whose name contains this")
	height := flag.Int64("height", 800, "height of the pictures in pixels")
	dark := flag.Bool("dark", false, "in dark colours")
	page := flag.String("page", "", "one page of the console alone, from #, as the picture that -only names")
	flag.Parse()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	colours := "light"
	if *dark {
		colours = "dark"
	}
	// The first visit signs in; the second is in the colours that are wanted.
	must(chromedp.Do(ctx, chromedp.EmulateViewport(1280, *height), chromedp.Navigate(*address),
		chromedp.WaitVisible(chromedp.CSS("nav"))))
	_, err := chromedp.Run(ctx, chromedp.Evaluate[string](
		fmt.Sprintf("localStorage.setItem('ambercellar-theme', '%s'), ''", colours)))
	must(err)
	must(chromedp.Do(ctx, chromedp.Reload(), chromedp.WaitVisible(chromedp.CSS("nav"))))
	base, _, _ := strings.Cut(*address, "#")
	first := func(from, selector string) string {
		if *page != "" {
			return "" // what it would show is not asked for
		}
		must(chromedp.Do(ctx, chromedp.Navigate(base+from), chromedp.WaitVisible(chromedp.CSS(selector))))
		href, err := chromedp.Run(ctx, chromedp.AttributeValue(chromedp.CSS(selector), "href"))
		must(err)
		return href.Value
	}
	shots := []struct{ name, page, wait string }{
		{"overview", "#/", "main table"},
		{"tables", "#/tables", "main table"},
		{"rule", "#/rules/boarding-scans", "main pre"},
		{"write-rule", "#/rules/boarding-scans/edit", "main canvas"},
		{"related", "#/rules/bookings/edit", "main canvas"},
		{"run", first("#/runs", "main tbody a[href^='#/runs/']"), "canvas"},
		{"history", "#/history", "main canvas"},
		{"archive", "#/archive", "main table"},
		{"approvals", "#/approvals", "main section"},
		{"disposals", "#/disposals", "main table"},
		{"search", "#/search?table=harbour.notice", "main table"},
		{"schedule", "#/schedule", "main table"},
		{"audit", "#/audit", "main table"},
		{"findings", "#/findings", "main ul"},
		{"service", "#/service", "main table"},
		{"notifications", "#/notifications", "main table"},
	}
	if *page != "" {
		shots = []struct{ name, page, wait string }{{*only, *page, "main"}}
	}
	for _, s := range shots {
		if !strings.Contains(s.name, *only) {
			continue
		}
		must(chromedp.Do(ctx, chromedp.Navigate(base+s.page), chromedp.WaitVisible(chromedp.CSS(s.wait)),
			chromedp.Sleep(1200*time.Millisecond)))
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		must(err)
		must(os.WriteFile(filepath.Join(*out, s.name+".png"), png, 0o644))
	}
}

func must(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
