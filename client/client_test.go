package client

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

func serve(t *testing.T, status int, kind, body string) *Client {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}))
	t.Cleanup(s.Close)
	return &Client{Server: s.URL + "/", Token: "x"}
}

func TestAStreamIsFollowedToItsEnd(t *testing.T) {
	c := serve(t, 200, "text/event-stream",
		"event:run\ndata:{\"id\":\"r\",\"done\":1}\n\n: still here\n\nevent: run\ndata: "+
			"{\"id\":\"r\",\"done\":2,\"state\":\"done\"}\n\nevent:other\ndata:what\n\n"+
			"event:end\ndata:\n\nevent:run\ndata:{\"done\":3}\n\n")
	var seen []int64
	if err := c.Watch(t.Context(), "r", func(r RunView) error {
		seen = append(seen, r.Done)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(seen) != "[1 2]" {
		t.Errorf("the events were %v", seen)
	}
}

func TestAStreamThatBreaksIsAnError(t *testing.T) {
	for name, c := range map[string]*Client{
		"cut off":      serve(t, 200, "text/event-stream", "event:run\ndata:{\"done\":1}\n\n"),
		"no JSON":      serve(t, 200, "text/event-stream", "event:run\ndata:{{{\n\nevent:end\ndata:\n\n"),
		"no such run":  serve(t, 404, "application/problem+json", `{"type":"urn:x","detail":"run not found"}`),
		"no event yet": serve(t, 200, "text/event-stream", ""),
	} {
		if err := c.Watch(t.Context(), "r", func(RunView) error { return nil }); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
	stop := errors.New("enough")
	c := serve(t, 200, "text/event-stream", strings.Repeat("event:run\ndata:{\"done\":1}\n\n", 3))
	if err := c.Watch(t.Context(), "r", func(RunView) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("the caller's own error became %v", err)
	}
}

func TestRefusalsComeBackAsProblems(t *testing.T) {
	c := serve(t, 422, "application/problem+json",
		`{"type":"urn:ambercellar:problem:refused","title":"t","status":422,"detail":"d","field":"f","remedy":"r"}`)
	var p *Problem
	if _, err := c.Status(t.Context()); !errors.As(err, &p) || p.Field != "f" || p.Remedy != "r" || p.Error() != "d" {
		t.Errorf("got %v", err)
	}
	for name, other := range map[string]*Client{"a page": serve(t, 502, "text/html", "<h1>Bad gateway</h1>"),
		"other JSON": serve(t, 500, "application/json", `{"message":"no"}`)} {
		if _, err := other.Status(t.Context()); err == nil ||
			!strings.Contains(err.Error(), "not as this service does") {
			t.Errorf("%s: %v", name, err)
		}
	}
	gone := &Client{Server: "http://127.0.0.1:1"}
	if _, err := gone.Status(t.Context()); err == nil || !strings.Contains(err.Error(), "ambercellar serve") {
		t.Errorf("no service: %v", err)
	}
}

func TestAFileIsDownloadedAsItIs(t *testing.T) {
	want := strings.Repeat("a,b\r\n", 10000)
	var got bytes.Buffer
	if err := serve(t, 200, "text/csv", want).Download(t.Context(), "/restores/r/file", &got); err != nil ||
		got.String() != want {
		t.Errorf("%d of %d bytes, %v", got.Len(), len(want), err)
	}
	if err := serve(t, 409, "application/problem+json", `{"type":"urn:x","detail":"no file"}`).Download(t.Context(),
		"/restores/r/file", &got); err == nil {
		t.Error("a file that is not there was downloaded")
	}
}
