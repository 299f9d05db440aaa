package e2e

import (
	"net"
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ambercellar/client"
	"ambercellar/internal/standin"
)

// TestWhatHappensIsToldThroughKills: the service is killed again and again while it tells what happens. Everything is
// told, and what is told twice can be known by its name.
func TestWhatHappensIsToldThroughKills(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.stop(syscall.SIGTERM)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	post := &standin.Mail{Delay: 20 * time.Millisecond}
	go post.Serve(l)
	flags := []string{"-smtp", l.Addr().String(), "-mail-from", "cellar@harbour.example", "-console-url",
		"https://cellar.example/"}
	w.start(flags...)
	w.refuse(1, []string{"address", "control character", "events", `"sunset" is no kind`, "zone", "Mars", "digest"},
		"recipient", "set", "keeper", "a@b.example\nBcc: c@d.example", "-events", "sunset", "-zone", "Mars",
		"-digest", "7")
	w.refuse(1, []string{"nothing is sent to desk.example", "-tell-hosts"}, "recipient", "set", "desk",
		"https://desk.example/", "-events", "all")
	w.must("recipient", "set", "keeper", "keeper@harbour.example", "-events", "frozen,unfrozen")
	w.must("recipient", "set", "office", "office@harbour.example", "-events", "unfrozen", "-digest", "07:30")
	const rounds = 12
	for range rounds {
		f := must1[client.Freeze](w, "service", "freeze", "-reason", "the secret of the quay")
		w.must("service", "unfreeze", f.ID)
		w.stop(syscall.SIGKILL)
		w.start(flags...)
	}
	told := func() map[string]map[string]bool {
		out := map[string]map[string]bool{}
		for _, letter := range post.Letters() {
			if out[letter.To[0]] == nil {
				out[letter.To[0]] = map[string]bool{}
			}
			out[letter.To[0]][letter.MessageID] = true
			if strings.Contains(letter.Raw, "secret") {
				t.Errorf("a reason is told:\n%s", letter.Raw)
			}
		}
		return out
	}
	w.eventually("everything is told", func() bool {
		got := told()
		return len(got["keeper@harbour.example"]) == 2*rounds && len(got["office@harbour.example"]) == rounds
	})
	w.eventually("everything is known to be told", func() bool {
		return !strings.Contains(w.must("delivery", "list", "-limit", "0"), "waiting")
	})
	if n := post.Count(); n > 4*rounds {
		t.Errorf("%d letters of %d notices", n, 3*rounds)
	}
	if got := told(); len(got["keeper@harbour.example"]) != 2*rounds || len(got) != 2 {
		t.Errorf("something was told that did not happen: %v", got)
	}
	d := must1[client.Items[client.Delivery]](w, "delivery", "list", "-recipient", "office", "-limit", "1").Items[0]
	if shown := w.must("delivery", "show", d.ID); !strings.Contains(shown, "Every source is not frozen any more") ||
		!strings.Contains(shown, "https://cellar.example/#/queue") {
		t.Errorf("it shows:\n%s", shown)
	}
	w.must("recipient", "delete", "office")
	w.refuse(1, []string{"office", "not found"}, "recipient", "show", "office")
}

func TestTheConsoleSaysWhoIsTold(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.stop(syscall.SIGTERM)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	post := &standin.Mail{Refuse: "nobody@"}
	go post.Serve(l)
	w.start("-smtp", l.Addr().String(), "-mail-from", "cellar@harbour.example")
	b := browse(t)
	b.do(chromedp.Navigate(w.svc.server + "/#token=" + url.QueryEscape(w.token)))
	b.sees("Overview")
	b.do(chromedp.Navigate(w.svc.server + "/#/notifications"))
	b.sees("Nobody is told anything", "Nothing was sent", "from cellar@harbour.example", "127.0.0.1")
	b.press("New recipient")
	b.fill("#name", "keeper")
	b.fill("#address", "keeper")
	b.press("Save")
	b.sees("The recipient cannot be kept", "is no mail address")
	b.fill("#address", "nobody@harbour.example")
	b.fill("#digest", "07:30")
	b.press("Save")
	b.sees("nobody@harbour.example", "07:30", "run-failed")
	b.press("Send a test")
	b.sees("A test from", "failed", "there is nobody of that name")
	b.press("Change")
	b.fill("#address", "keeper@harbour.example")
	b.press("Save")
	b.sees("keeper@harbour.example")
	b.press("Send again")
	w.eventually("the test came", func() bool { return post.Count() == 1 })
	b.sees("sent")
	b.do(chromedp.Navigate(w.svc.server + "/#/service"))
	b.sees("it can be written", "mail", "answers; TLS: offered", "-mail-from", "secret-prefix", "at a new start")
	b.do(chromedp.Navigate(w.svc.server + "/#/notifications"))
	b.press("Remove …")
	b.press("Remove keeper")
	b.sees("Nobody is told anything")
}
