package e2e

import (
	"sync/atomic"
	"testing"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
)

// firstPage is how many bytes may come over the line until somebody sees the first page after signing in.
const firstPage = 200_000

func TestTheConsoleComesOverAThinLine(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	b := browse(t)
	var bytes, requests atomic.Int64
	if err := chromedp.Listen(b.ctx, func(event any) {
		if e, ok := event.(*network.EventLoadingFinished); ok {
			bytes.Add(int64(e.EncodedDataLength))
			requests.Add(1)
		}
	}); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.Navigate(w.svc.server))
	b.press("With a token")
	b.fill("#token", w.token)
	b.press("Sign in")
	b.sees("Overview", "Last 24 hours")
	t.Logf("the first page took %d bytes in %d requests", bytes.Load(), requests.Load())
	if n := bytes.Load(); n > firstPage || n < 50_000 {
		t.Errorf("the first page took %d bytes, and %d is what it may take", n, firstPage)
	}
}
