package api

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

// The service answers under its addresses and names alone, so that no page of somebody else can be made to speak with
// it.
func TestTheServiceAnswersUnderItsOwnNames(t *testing.T) {
	w := newWorld(t)
	address := strings.TrimPrefix(w.server.URL, "http://")
	for host, want := range map[string]int{address: 200, "localhost:7420": 200, "cellar.example": 200,
		"CELLAR.example.:80": 200, "[::1]:7420": 200, "192.0.2.7": 200,
		"evil.example": 421, "evil.example:7420": 421, "cellar.example.evil": 421, "127.0.0.1.evil.example": 421} {
		req, err := http.NewRequest("GET", w.server.URL+"/", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Host = host
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != want || want == 421 && !strings.Contains(string(body), "-hosts") {
			t.Errorf("host %q: %d instead of %d: %s", host, resp.StatusCode, want, body)
		}
	}
	for _, path := range []string{"/healthz", "/readyz"} {
		req, err := http.NewRequest("GET", w.server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Host = "watcher.example"
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != 200 {
			t.Errorf("%s for whoever watches: %v, %v", path, resp, err)
		}
		resp.Body.Close()
	}
}

// Whoever tries tokens has to wait after a few; the right one is taken all the same. A new token ends the sessions of
// the old one. Over TLS, here or at a proxy, the cookie is for TLS alone.
func TestSigningIn(t *testing.T) {
	w := newWorld(t)
	in := func(token string, header ...string) (*http.Response, string) {
		t.Helper()
		return w.ask("POST", "/api/v1/session", fmt.Sprintf(`{"token":%q}`, token), header...)
	}
	const heard = 5
	for i := range heard + 3 {
		resp, body := in("guess")
		want := 401
		if i >= heard {
			want = 429
		}
		if resp.StatusCode != want || want == 429 && (resp.Header.Get("Retry-After") == "" ||
			!strings.Contains(body, "is heard in")) {
			t.Errorf("wrong token %d: %d %s", i+1, resp.StatusCode, body)
		}
	}
	resp, body := in(w.token)
	if resp.StatusCode != 200 || resp.Cookies()[0].Secure {
		t.Fatalf("the right one: %d %s", resp.StatusCode, body)
	}
	cookie := resp.Cookies()[0].String()
	resp, body = in(w.token, "X-Forwarded-Proto", "https")
	if resp.StatusCode != 200 || !resp.Cookies()[0].Secure {
		t.Errorf("behind a proxy with TLS: %d %s, %v", resp.StatusCode, body, resp.Cookies())
	}
	if resp, _ := w.ask("GET", "/api/v1/status", "", "Cookie", cookie); resp.StatusCode != 200 {
		t.Errorf("the session: %d", resp.StatusCode)
	}
	if _, err := w.service.Access.NewToken(t.Context()); err != nil {
		t.Fatal(err)
	}
	if resp, _ := w.ask("GET", "/api/v1/status", "", "Cookie", cookie); resp.StatusCode != 401 {
		t.Errorf("its session after the token was changed: %d", resp.StatusCode)
	}
}

// A request whose body stops coming is given up, without any token, and so is a reader of an answer who does not read
// on.
func TestWhatStandsStillIsGivenUp(t *testing.T) {
	was := [...]time.Duration{bodyStall, writeStall}
	t.Cleanup(func() { bodyStall, writeStall = was[0], was[1] })
	bodyStall, writeStall = 200*time.Millisecond, time.Second
	w := newWorld(t)
	address := strings.TrimPrefix(w.server.URL, "http://")
	gone := func(what, request string, patience time.Duration) {
		t.Helper()
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		fmt.Fprint(c, request)
		begun := time.Now()
		c.SetReadDeadline(begun.Add(patience))
		if _, err := io.Copy(io.Discard, c); err != nil {
			t.Errorf("%s is still there after %s: %v", what, time.Since(begun), err)
		}
	}
	for _, path := range []string{"/api/v1/session", "/api/v1/rules"} {
		gone("a slow body to "+path, "POST "+path+
			" HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
			10*time.Second)
	}

	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	srv := &http.Server{Handler: http.HandlerFunc(func(out http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := out.Write(make([]byte, 1<<20)); err != nil {
				ended <- err
				return
			}
		}
	})}
	go srv.Serve(Listener{l})
	defer srv.Close()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: localhost\r\n\r\n")
	r := bufio.NewReader(c)
	for range 20 { // a slow reader is no reader who stands still
		if _, err := io.CopyN(io.Discard, r, 2<<20); err != nil {
			t.Fatal(err)
		}
		time.Sleep(writeStall / 5)
	}
	select {
	case err := <-ended:
		t.Fatal("given up while it was read: ", err)
	default:
	}
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Error("a reader who stands still holds the answer up")
	}
}
