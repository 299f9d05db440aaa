package service

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/standin"
)

// outbox is a service with a mail server and people that it tells, on a clock that the test moves.
type outbox struct {
	*Service
	post    *standin.Mail
	address string
	mu      sync.Mutex
	now     time.Time
}

func (o *outbox) forward(d time.Duration) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.now = o.now.Add(d)
}

// take serves a stand-in mail server at an address, until the test ends or stop is called.
func take(t *testing.T, m *standin.Mail, address string) (at string, stop func()) {
	t.Helper()
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	go m.Serve(l)
	t.Cleanup(func() { l.Close() })
	return l.Addr().String(), func() { l.Close() }
}

func openOutbox(t *testing.T, post *standin.Mail) *outbox {
	t.Helper()
	o := &outbox{post: post, now: time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)}
	if post != nil {
		o.address, _ = take(t, post, "127.0.0.1:0")
	}
	o.Service, _ = open(t, t.TempDir(), func(s *Service) {
		s.Now = func() time.Time {
			o.mu.Lock()
			defer o.mu.Unlock()
			return o.now
		}
		s.Notifier.Change(func(w *Ways) {
			*w = Ways{Mail{Server: o.address, From: "cellar@harbour.example"}, []string{"127.0.0.1"},
				"https://cellar.example"}
		})
	})
	return o
}

func (o *outbox) set(t *testing.T, r notify.Recipient) {
	t.Helper()
	if r.Events == nil && r.Digest == "" {
		r.Events = notify.Kinds
	}
	if _, err := o.Notifier.SetRecipient(t.Context(), "me", r); err != nil {
		t.Fatal(err)
	}
}

// freeze makes n events.
func (o *outbox) freeze(t *testing.T, n int) {
	t.Helper()
	for i := range n {
		if _, err := o.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Reason: strconv.Itoa(i)}); err != nil {
			t.Fatal(err)
		}
	}
}

// until has notices sent until done says so.
func (o *outbox) until(t *testing.T, what string, done func() bool) {
	t.Helper()
	for begun := time.Now(); !done(); time.Sleep(10 * time.Millisecond) {
		if _, err := o.Notifier.notify(t.Context()); err != nil {
			t.Fatal(err)
		}
		if time.Since(begun) > time.Minute {
			list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{}, catalog.First(20))
			t.Fatalf("not so: %s; deliveries: %+v, %v", what, list, err)
		}
	}
}

// idle says whether nothing is being sent.
func (o *outbox) idle() bool {
	o.Notifier.mu.Lock()
	defer o.Notifier.mu.Unlock()
	return len(o.Notifier.sending) == 0
}

func (o *outbox) states(t *testing.T, recipient string) (out []string) {
	t.Helper()
	list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{Recipient: recipient}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range list {
		out = append(out, string(d.State))
	}
	slices.Reverse(out)
	return out
}

func TestALetterSaysWhatHappened(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{})
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	o.freeze(t, 1)
	o.until(t, "a letter came", func() bool { return o.post.Count() == 1 })
	l := o.post.Letters()[0]
	if l.Subject != "Every source is frozen" || l.From != "cellar@harbour.example" ||
		l.To[0] != "keeper@harbour.example" ||
		!strings.Contains(l.Text, "https://cellar.example/#/queue") || !strings.Contains(l.HTML, "<h1") ||
		!strings.Contains(l.Raw, "Auto-Submitted: auto-generated") ||
		!strings.HasSuffix(l.MessageID, "@ambercellar") {
		t.Errorf("the letter: %+v", l)
	}
}

// TestWhatHasNoServerYetWaitsForOne: a service that was given no mail server, or no sender, gives nothing up.
func TestWhatHasNoServerYetWaitsForOne(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{})
	var ways Ways
	o.Notifier.Change(func(w *Ways) { ways, w.Mail = *w, Mail{} })
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	o.freeze(t, 1)
	for tries, mail := range []Mail{{}, {Server: ways.Mail.Server}} {
		o.Notifier.Change(func(w *Ways) { w.Mail = mail })
		o.until(t, "it was tried", func() bool {
			list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{}, catalog.All)
			return err == nil && len(list) == 1 && list[0].Attempts > tries && o.idle()
		})
		if got := o.states(t, "keeper"); !slices.Equal(got, []string{"waiting"}) {
			t.Errorf("with %+v it is %v", mail, got)
		}
		o.forward(time.Hour)
	}
	o.Notifier.Change(func(w *Ways) { *w = ways })
	o.until(t, "it came", func() bool { return o.post.Count() == 1 })
}

// TestAnOutageLosesNothingAndKeepsTheOrder: the mail server is away for a day; what waited comes in order, once.
func TestAnOutageLosesNothingAndKeepsTheOrder(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, nil)
	post := &standin.Mail{}
	address, stop := take(t, post, "127.0.0.1:0")
	stop()
	o.Notifier.Change(func(w *Ways) { w.Mail.Server = address })
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	o.freeze(t, 5)
	tried := 0
	for hours := 0; hours < 24; hours += 2 {
		o.until(t, "an attempt failed", func() bool {
			list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{}, catalog.All)
			n := 0
			for _, d := range list {
				n += d.Attempts
			}
			return err == nil && n > tried && o.idle() // the clock stands still until its outcome is known
		})
		tried++
		o.forward(2 * time.Hour)
	}
	if got := o.states(t, ""); len(got) != 0 && slices.Contains(got, "failed") {
		t.Errorf("something was given up: %v", got)
	}
	take(t, post, address)
	o.until(t, "all came", func() bool { return post.Count() >= 5 })
	o.until(t, "all are known to have come", func() bool {
		return !slices.Contains(o.states(t, "keeper"), "waiting")
	})
	var ids []string
	for _, l := range post.Letters() { // the newest first
		ids = append([]string{l.MessageID}, ids...)
	}
	if !slices.IsSorted(ids) || len(slices.Compact(ids)) != 5 || post.Count() != 5 {
		t.Errorf("they came as %v", ids)
	}
	if err := o.Findings.Look(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// TestWhoCannotBeToldIsKnown: refused for good, refused for now, and for too long; a finding opens, and the others are
// told all the same.
func TestWhoCannotBeToldIsKnown(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{Refuse: "nobody@", Busy: "busy@"})
	for _, name := range []string{"nobody", "busy", "keeper"} {
		o.set(t, notify.Recipient{Name: name, Address: name + "@harbour.example", Events: []notify.EventKind{"frozen"}})
	}
	o.freeze(t, 2)
	o.until(t, "each has been tried", func() bool {
		list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{Recipient: "busy"}, catalog.All)
		return err == nil && len(list) == 2 && list[1].Attempts == 1 && o.post.Count() == 2 && o.idle() &&
			slices.Equal(o.states(t, "nobody"), []string{"failed", "failed"})
	})
	if got := o.states(t, "busy"); !slices.Equal(got, []string{"waiting", "waiting"}) {
		t.Errorf("who is busy for now: %v", got)
	}
	o.forward(2 * time.Hour)
	if err := o.Findings.Look(t.Context()); err != nil {
		t.Fatal(err)
	}
	found, err := o.Catalog.Findings(t.Context(), false, catalog.All)
	subjects := ""
	for _, f := range found {
		if f.Kind == "undelivered" {
			subjects += f.Subject + ";"
		}
	}
	if err != nil || subjects != "recipient nobody;recipient busy;" && subjects != "recipient busy;recipient nobody;" {
		t.Errorf("findings: %q, %v", subjects, err)
	}
	o.forward(notify.TriesFor)
	o.until(t, "it is given up", func() bool { return slices.Contains(o.states(t, "busy"), "failed") })
	list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{Recipient: "nobody"}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	o.set(t, notify.Recipient{Name: "nobody", Address: "somebody@harbour.example"})
	if _, err := o.Catalog.Resend(t.Context(), "me", list[0].ID); err != nil {
		t.Fatal(err)
	}
	o.until(t, "it came to the new address, and is known to have come", func() bool {
		return slices.Contains(o.states(t, "nobody"), "sent") &&
			slices.ContainsFunc(o.post.Letters(), func(l standin.Letter) bool {
				return l.To[0] == "somebody@harbour.example"
			})
	})
	if _, err := o.Catalog.CancelDelivery(t.Context(), "me", list[0].ID); err == nil {
		t.Error("what was sent is cancelled")
	}
}

// hook is a webhook that answers as it is told to.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	answer func(http.ResponseWriter, *http.Request)
	got    []http.Header
	bodies [][]byte
}

func openHook(t *testing.T) *hook {
	h := &hook{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		h.mu.Lock()
		h.got, h.bodies = append(h.got, q.Header), append(h.bodies, body)
		answer := h.answer
		h.mu.Unlock()
		if answer != nil {
			answer(w, q)
		}
	}))
	t.Cleanup(func() { h.CloseClientConnections(); h.Close() })
	return h
}

func (h *hook) answers(fn func(http.ResponseWriter, *http.Request)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.answer = fn
}

func (h *hook) count() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.got)
}

func TestAWebhookIsSignedAndNotBelieved(t *testing.T) {
	t.Setenv("AMBERCELLAR_SECRET_HOOK", "harbour-key")
	o := openOutbox(t, nil)
	h := openHook(t)
	if _, err := o.Notifier.SetRecipient(t.Context(), "me", notify.Recipient{Name: "desk", Events: notify.Kinds,
		Address: "http://elsewhere.example/", SecretEnv: "PATH"}); err == nil ||
		!strings.Contains(
			err.Error(),
			"nothing is sent to elsewhere.example",
		) || !strings.Contains(err.Error(), "PATH") {
		t.Errorf("a host and a variable that nobody allowed: %v", err)
	}
	o.set(t, notify.Recipient{Name: "desk", Address: h.URL + "/told", SecretEnv: "AMBERCELLAR_SECRET_HOOK"})
	o.freeze(t, 1)
	o.until(t, "it came", func() bool { return slices.Contains(o.states(t, "desk"), "sent") })
	seconds, err := strconv.ParseInt(h.got[0].Get("Ambercellar-Timestamp"), 10, 64)
	var n notify.Notice
	if err != nil || json.Unmarshal(h.bodies[0], &n) != nil || n.Kind != notify.EventFrozen ||
		n.ID != h.got[0].Get("Ambercellar-Delivery") || h.got[0].Get("Ambercellar-Signature") !=
		"sha256="+notify.Sign([]byte("harbour-key"), time.Unix(seconds, 0), h.bodies[0]) {
		t.Errorf("it was sent %v\n%s", h.got[0], h.bodies[0])
	}
	for name, c := range map[string]struct {
		answer func(http.ResponseWriter, *http.Request)
		state  string
	}{
		"moved": {func(w http.ResponseWriter, q *http.Request) {
			if q.URL.Path == "/elsewhere" {
				t.Error("it went where it was sent")
			}
			http.Redirect(w, q, "/elsewhere", http.StatusTemporaryRedirect)
		}, "waiting"},
		"broken": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) }, "waiting"},
		"gone":   {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) }, "failed"},
		"cut": {func(w http.ResponseWriter, _ *http.Request) {
			c, _, _ := w.(http.Hijacker).Hijack()
			c.Close()
		}, "waiting"},
		"endless": {func(w http.ResponseWriter, q *http.Request) { // its answer is not read
			for w.WriteHeader(200); q.Context().Err() == nil; {
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		}, "sent"},
	} {
		h.answers(c.answer)
		o.set(t, notify.Recipient{Name: name, Address: h.URL + "/" + name})
		d, err := o.Notifier.Test(t.Context(), "me", name)
		if err != nil {
			t.Fatal(err)
		}
		o.until(t, name, func() bool {
			d, err = o.Catalog.Delivery(t.Context(), d.ID)
			return err == nil && d.Attempts == 1 && (d.State != catalog.DeliveryWaiting || d.Error != "")
		})
		if string(d.State) != c.state || c.state != "sent" && d.Error == "" {
			t.Errorf("%s: %s, %q", name, d.State, d.Error)
		}
	}
}

// TestOneThatHangsKeepsNobodyWaiting: webhooks that never answer, more of them than are told at a time, and a keeper.
func TestOneThatHangsKeepsNobodyWaiting(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{})
	h := openHook(t)
	held := make(chan struct{})
	t.Cleanup(func() { close(held) })
	h.answers(func(_ http.ResponseWriter, q *http.Request) {
		select {
		case <-held:
		case <-q.Context().Done():
		}
	})
	for i := range hooksAtOnce + 4 {
		o.set(t, notify.Recipient{Name: fmt.Sprint("desk-", i), Address: fmt.Sprint(h.URL, "/", i)})
	}
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	o.freeze(t, 1)
	begun := time.Now()
	o.until(t, "the keeper was told", func() bool { return o.post.Count() == 1 && h.count() == hooksAtOnce })
	if took := time.Since(begun); took > sendFor/2 {
		t.Errorf("that took %s", took)
	}
	begun = time.Now()
	if err := o.Close(); err != nil || time.Since(begun) > sendFor/2 {
		t.Errorf("it closed after %s: %v", time.Since(begun), err)
	}
}

// TestAPasswordTravelsUnderTLSOrNotAtAll: a server that asks for a password and offers no TLS gets none; one that does
// offer it, with a certificate that somebody vouches for, gets both.
func TestAPasswordTravelsUnderTLSOrNotAtAll(t *testing.T) {
	t.Setenv("AMBERCELLAR_SECRET_MAIL", "ebb-and-flow")
	o := openOutbox(t, &standin.Mail{User: "cellar", Password: "ebb-and-flow"})
	o.Notifier.Change(func(w *Ways) { w.Mail.PasswordEnv, w.Mail.User = "AMBERCELLAR_SECRET_MAIL", "cellar" })
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	d, err := o.Notifier.Test(t.Context(), "me", "keeper")
	if err != nil {
		t.Fatal(err)
	}
	o.until(t, "it was refused", func() bool {
		d, err = o.Catalog.Delivery(t.Context(), d.ID)
		return err == nil && d.Attempts > 0 && o.idle()
	})
	if o.post.Count() > 0 || !strings.Contains(d.Error, "TLS") {
		t.Errorf("in clear: %d letters, %q", o.post.Count(), d.Error)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	made := x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	cert, err := x509.CreateCertificate(rand.Reader, &made, &made, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	secure := &standin.Mail{User: "cellar", Password: "ebb-and-flow", TLS: &tls.Config{
		Certificates: []tls.Certificate{{Certificate: [][]byte{cert}, PrivateKey: key}}}}
	address, _ := take(t, secure, "127.0.0.1:0")
	o.Notifier.Change(func(w *Ways) { w.Mail.Server = address })
	if d, err = o.Catalog.Resend(t.Context(), "me", d.ID); err != nil {
		t.Fatal(err)
	}
	o.until(t, "a stranger's certificate was refused", func() bool {
		d, err = o.Catalog.Delivery(t.Context(), d.ID)
		return err == nil && strings.Contains(d.Error, "certificate")
	})
	parsed, err := x509.ParseCertificate(cert)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(parsed)
	o.Notifier.Change(func(w *Ways) { w.Mail.Roots = roots })
	if _, err = o.Catalog.Resend(t.Context(), "me", d.ID); err != nil {
		t.Fatal(err)
	}
	o.until(t, "it came", func() bool { return secure.Count() == 1 })
	if !secure.Letters()[0].Secure {
		t.Error("it came in clear")
	}
}

// TestQuietHoursHoldWhatCanWait: an urgent finding comes, the rest when the hours are over, and a digest once a day.
func TestQuietHoursHoldWhatCanWait(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{})
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example", Quiet: []string{"11:00-14:00"}})
	o.set(t, notify.Recipient{Name: "office", Address: "office@harbour.example", Digest: "16:00"})
	o.freeze(t, 1)
	if _, _, err := o.Catalog.Find(t.Context(), []string{"x"}, []catalog.Cause{{Kind: "x", Subject: "s",
		Severity: catalog.Urgent}}); err != nil {
		t.Fatal(err)
	}
	o.until(t, "the urgent one came", func() bool { return o.post.Count() == 1 && o.idle() })
	if l := o.post.Letters()[0]; l.Subject != "Finding: x (s)" {
		t.Errorf("it was %q", l.Subject)
	}
	o.forward(2*time.Hour + time.Minute)
	o.until(t, "the other one came", func() bool { return o.post.Count() == 2 && o.idle() })
	o.forward(2 * time.Hour)
	o.until(t, "the digest came", func() bool { return o.post.Count() == 3 && o.idle() })
	if l := o.post.Letters()[0]; l.To[0] != "office@harbour.example" || !strings.Contains(l.Text, "urgent: 1") {
		t.Errorf("the digest: %+v", l)
	}
	for range 5 {
		if _, err := o.Notifier.notify(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	o.forward(24 * time.Hour)
	o.until(t, "the next one came", func() bool {
		return len(o.states(t, "office")) == 2 && o.post.Count() == 4 && o.idle()
	})
}

// TestManyGatherAtOnce: what happens is told once, however many look for it at a time.
func TestManyGatherAtOnce(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, nil)
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	o.freeze(t, 40)
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			if _, err := o.Notifier.gather(t.Context()); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	if got := o.states(t, "keeper"); len(got) != 40 {
		t.Errorf("%d deliveries of 40 events", len(got))
	}
	if err := o.Catalog.DeleteRecipient(t.Context(), "me", "keeper"); err != nil {
		t.Fatal(err)
	}
	if got := slices.Compact(o.states(t, "keeper")); !slices.Equal(got, []string{"cancelled"}) {
		t.Errorf("after the recipient was removed: %v", got)
	}
	o.freeze(t, 1)
	if n, err := o.Notifier.gather(t.Context()); n != 1 || err != nil {
		t.Errorf("of an event that nobody is told of, %d are gathered: %v", n, err)
	}
	if got := o.states(t, ""); len(got) != 40 {
		t.Errorf("%d deliveries where there is nobody to tell", len(got)-40)
	}
	news, err := o.Catalog.NewsAfter(t.Context(), 0, catalog.All)
	if err != nil || len(news) != 41 || news[0].Address != "#/queue" {
		t.Errorf("news: %+v, %v", news, err)
	}
}

func TestAMailServerThatCannotBe(t *testing.T) {
	t.Setenv("AMBERCELLAR_SECRET_MAIL", "x")
	const secret = "AMBERCELLAR_SECRET_MAIL"
	for m, want := range map[Mail]string{{}: "", {Server: "post"}: "no HOST:PORT",
		{Server: "post:x", From: "a@b"}: "no port",
		{Server: "post:25"}:             "sender's address", {Server: "post:25", From: "a@b\nc"}: "no mail address",
		{Server: "post:25", From: "a@b.example", Security: "some"}:                      "none of offered",
		{Server: "post:25", From: "a@b.example", Security: "none", PasswordEnv: secret}: "in clear"} {
		if got := m.Problem(); want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%+v: %q", m, got)
		}
	}
	var p post
	m := Mail{}
	if err := p.mail(context.Background(), &m, &catalog.Delivery{Address: "a@b.example"}); err == nil {
		t.Error("mail goes out without a server")
	}
}

// TestATableOfAnyNameIsOneLineOfALetter: databases allow names that would end a line of a letter's head.
func TestATableOfAnyNameIsOneLineOfALetter(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{})
	e := &notify.Event{Kind: notify.EventRunDone, Record: "R\r\nBcc: d@x.example", At: o.Now(), Detail: notify.Detail{
		Rule: "scans", Source: "harbour", Table: "scan\r\nBcc: c@x.example\r\n\r\n.\r\nQUIT\x00\xff"}}
	r := &notify.Recipient{Address: "keeper@harbour.example"}
	d := catalog.NewDelivery(r, notify.NoticeOf(e, ""), false, o.Now())
	if err := o.Catalog.Deliver(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	o.until(t, "it came", func() bool { return o.post.Count() == 1 })
	l := o.post.Letters()[0]
	head, body, _ := strings.Cut(l.Raw, "\r\n\r\n")
	for _, line := range strings.Split(head, "\r\n") {
		if strings.HasPrefix(strings.ToLower(line), "bcc") {
			t.Errorf("the head of the letter has a line %q", line)
		}
	}
	if len(l.To) != 1 || !strings.Contains(body, "harbour") || !strings.Contains(l.HTML, "</html>") {
		t.Errorf("the letter: %+v", l)
	}
}

// TestAClockThatIsSetBackHoldsNothingUp: what was to be tried at a later time is tried now, and days are summed up
// again.
func TestAClockThatIsSetBackHoldsNothingUp(t *testing.T) {
	t.Parallel()
	o := openOutbox(t, &standin.Mail{Busy: "keeper@"})
	o.set(t, notify.Recipient{Name: "office", Address: "office@harbour.example", Digest: "07:30"})
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example"})
	o.forward(365 * 24 * time.Hour)
	o.freeze(t, 1)
	o.until(t, "a digest came, and an attempt failed", func() bool {
		list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{Recipient: "keeper"}, catalog.All)
		return err == nil && len(list) > 0 && list[0].Attempts == 1 && o.post.Count() == 1 && o.idle()
	})
	o.forward(-364 * 24 * time.Hour)
	o.until(t, "both go on", func() bool {
		list, err := o.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{Recipient: "keeper"}, catalog.All)
		return err == nil && list[0].Attempts == 2 && o.post.Count() == 2 && o.idle()
	})
	for range 3 {
		if _, err := o.Notifier.notify(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if got := o.states(t, "office"); len(got) != 2 {
		t.Errorf("the office is told %d times of two days", len(got))
	}
}

// TestAFullDiskTellsNobodyTwice: the catalog takes nothing more, before an attempt or in the middle of it. Nobody is
// told the same thing again and again meanwhile, and everything is told once there is room.
func TestAFullDiskTellsNobodyTwice(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=24m"); err != nil {
		t.Skipf("no file system can be mounted: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
	filler := filepath.Join(dir, "filler")
	post := &standin.Mail{}
	address, _ := take(t, post, "127.0.0.1:0")
	s, _ := open(t, filepath.Join(dir, "data"))
	s.Notifier.Change(func(w *Ways) { w.Mail = Mail{Server: address, From: "cellar@harbour.example"} })
	o := &outbox{Service: s, post: post}
	o.set(t, notify.Recipient{Name: "keeper", Address: "keeper@harbour.example", Events: []notify.EventKind{"frozen"}})
	o.freeze(t, 1)
	o.until(t, "it works", func() bool { return post.Count() == 1 })
	const notices = 30
	post.Delay = 20 * time.Millisecond
	o.freeze(t, notices)
	if _, err := o.Notifier.notify(t.Context()); err != nil {
		t.Fatal(err)
	}
	f, err := os.Create(filler) // in the middle of sending
	if err != nil {
		t.Fatal(err)
	}
	for b := make([]byte, 4096); err == nil; _, err = f.Write(b) {
	}
	for range 50 {
		o.Notifier.notify(t.Context())
		time.Sleep(20 * time.Millisecond)
	}
	if n := post.Count(); n > 1+notices+1 {
		t.Errorf("while the disk is full, %d letters go of %d notices", n, notices+1)
	}
	if err := errors.Join(f.Close(), os.Remove(filler)); err != nil {
		t.Fatal(err)
	}
	o.until(t, "everything is told", func() bool {
		return !slices.Contains(o.states(t, "keeper"), "waiting")
	})
	ids := map[string]bool{}
	for _, l := range post.Letters() {
		ids[l.MessageID] = true
	}
	if len(ids) != notices+1 || post.Count() > notices+3 {
		t.Errorf("%d letters, %d of them different, of %d notices", post.Count(), len(ids), notices+1)
	}
}
