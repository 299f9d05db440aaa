package service

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
)

// postOffice is a mail server that takes one letter.
func postOffice(t *testing.T) (address string, letter <-chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	out := make(chan string, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		fmt.Fprint(c, "220 post.harbour.example\r\n")
		var text strings.Builder
		inside := false
		for lines := bufio.NewScanner(c); lines.Scan(); {
			line := lines.Text()
			switch word, _, _ := strings.Cut(strings.ToUpper(line), " "); {
			case inside && line == ".":
				inside = false
				fmt.Fprint(c, "250 taken\r\n")
				out <- text.String()
			case inside:
				fmt.Fprintln(&text, line)
			case word == "DATA":
				inside = true
				fmt.Fprint(c, "354 go on\r\n")
			case word == "QUIT":
				fmt.Fprint(c, "221 goodbye\r\n")
				return
			default:
				fmt.Fprintln(&text, line)
				fmt.Fprint(c, "250 well\r\n")
			}
		}
	}()
	return l.Addr().String(), out
}

// TestAskersAreTold: by mail and by a URL, what became of the restore; and who cannot be told is an error that names
// why.
func TestAskersAreTold(t *testing.T) {
	address, letters := postOffice(t)
	s := newService(t.TempDir(), slog.New(slog.DiscardHandler))
	s.Teller.Mail = Mail{Server: address, From: "cellar@harbour.example"}
	until := catalog.At(time.Date(2026, 12, 1, 8, 30, 0, 0, time.UTC))
	r := &catalog.Restore{RestoreOrder: catalog.RestoreOrder{ID: "R1", Source: "harbour", Table: "boarding_scan",
		Note: "fare dispute", Tell: "keeper@harbour.example"},
		RestoreStanding: catalog.RestoreStanding{State: catalog.RestoreDone, ExpiresAt: &until},
		RestoreSums:     catalog.RestoreSums{Restored: 1844, Skipped: 3}}
	if err := s.Teller.tell(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	select {
	case text := <-letters:
		for _, want := range []string{"MAIL FROM:<cellar@harbour.example>", "RCPT TO:<keeper@harbour.example>",
			"Subject: Restore of harbour.boarding_scan is done", "1844 rows are there, 3 were skipped",
			"They go again on 2026-12-01 08:30 UTC", "Note: fare dispute"} {
			if !strings.Contains(text, want) {
				t.Errorf("the letter does not say %q:\n%s", want, text)
			}
		}
	case <-time.After(10 * time.Second):
		t.Fatal("no letter came")
	}
	var told Told
	desk := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, err := io.ReadAll(q.Body)
		if strings.Contains(string(body), "somebody") {
			t.Errorf("it is sent %s", body)
		}
		switch {
		case q.URL.Path == "/elsewhere":
			t.Error("it went on to where it was sent")
		case q.URL.Path == "/moved":
			http.Redirect(w, q, "/elsewhere", http.StatusTemporaryRedirect)
		case err != nil || json.Unmarshal(body, &told) != nil || told.State == catalog.RestoreFailed:
			w.WriteHeader(http.StatusTeapot)
		}
	}))
	defer desk.Close()
	r.Tell, r.Scope.V.Where, r.Reason = desk.URL, "passenger = 'somebody'", "somebody's row"
	if err := s.Teller.tell(t.Context(), r); err == nil ||
		!strings.Contains(err.Error(), "nothing is sent to 127.0.0.1") {
		t.Errorf("a host that nobody allowed: %v", err)
	}
	s.Teller.Hosts = []string{"127.0.0.1"}
	if err := s.Teller.tell(t.Context(), r); err != nil || told.ID != "R1" {
		t.Errorf("%+v, %v", told, err)
	}
	r.State = catalog.RestoreFailed
	if err := s.Teller.tell(t.Context(), r); err == nil || !strings.Contains(err.Error(), "418") {
		t.Errorf("a desk that does not take it: %v", err)
	}
	r.Tell = desk.URL + "/moved"
	if err := s.Teller.tell(t.Context(), r); err == nil || !strings.Contains(err.Error(), "307") {
		t.Errorf("a desk that sends it elsewhere: %v", err)
	}
	if text := letter(r); strings.Contains(text, "somebody") || !strings.Contains(text, "restore show R1") {
		t.Errorf("the letter of one that failed:\n%s", text)
	}
	r.Tell = "keeper@harbour.example"
	if err := newService(t.TempDir(), slog.New(slog.DiscardHandler)).Teller.tell(t.Context(), r); err == nil ||
		!strings.Contains(err.Error(), "-smtp") {
		t.Errorf("without a mail server: %v", err)
	}
	for m, want := range map[Mail]string{{}: "", {Server: "post"}: "no HOST:PORT",
		{Server: "post:x", From: "a@b"}: "no port", {Server: "post:25"}: "sender's address"} {
		if got := m.Problem(); want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%+v: %q", m, got)
		}
	}
}
