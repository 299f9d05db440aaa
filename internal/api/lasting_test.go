package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// slow answers each request when it is told to, and counts.
type slow struct {
	begun, ended atomic.Int64 // ended: by their contexts
	going        chan struct{}
}

func (s *slow) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.begun.Add(1)
	b, _ := io.ReadAll(r.Body)
	select {
	case <-s.going:
	case <-r.Context().Done():
		s.ended.Add(1)
	}
	w.Header().Set("X-Answer", "yes")
	w.WriteHeader(http.StatusCreated)
	w.Write(append([]byte("answer to "), b...))
}

func post(t *testing.T, ctx context.Context, server, id, token, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(ctx, "POST", server+"/api/v1/plans", strings.NewReader(body))
	if err != nil {
		t.Error(err)
		return 0, ""
	}
	req.Header.Set(RequestHeader, id)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Error(err)
	}
	if resp.StatusCode == http.StatusCreated && resp.Header.Get("X-Answer") != "yes" {
		t.Errorf("the answer has the headers %v", resp.Header)
	}
	return resp.StatusCode, string(b)
}

// until waits for a condition.
func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for deadline := time.Now().Add(5 * time.Second); !ok(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("not so: %s", what)
		}
	}
}

// A request with an id is carried out once, whoever of its sender asks and however often, and goes on when the one
// who asked has gone.
func TestARequestWithAnIDIsCarriedOutOnce(t *testing.T) {
	s := &slow{going: make(chan struct{})}
	l := &lasting{next: s}
	server := httptest.NewServer(l)
	defer server.Close()
	first, leave := context.WithCancel(t.Context())
	go post(t, first, server.URL, "request-1", "a", "one")
	until(t, "it has begun", func() bool { return s.begun.Load() == 1 })
	leave()
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if status, text := post(t, t.Context(), server.URL, "request-1", "a", "one"); status != 201 ||
				text != "answer to one" {
				t.Errorf("%d: %s", status, text)
			}
		})
	}
	time.Sleep(50 * time.Millisecond)
	if status, text := post(t, t.Context(), server.URL, "request-1", "a", "two"); status != 409 ||
		!strings.Contains(text, "an id of its own") {
		t.Errorf("another request of the same id: %d, %s", status, text)
	}
	if status, _ := post(t, t.Context(), server.URL, "no id!", "a", "one"); status != 400 {
		t.Errorf("what is no id: %d", status)
	}
	if n := s.begun.Load(); n != 1 {
		t.Errorf("%d are carried out", n)
	}
	go post(t, t.Context(), server.URL, "request-1", "b", "one") // somebody else's, which gets nothing of a's
	until(t, "b's request is carried out too", func() bool { return s.begun.Load() == 2 })
	close(s.going)
	all.Wait()
	if status, text := post(t, t.Context(), server.URL, "request-1", "a", "one"); status != 201 ||
		text != "answer to one" || s.begun.Load() != 2 || s.ended.Load() != 0 {
		t.Errorf("asked for again: %d, %s; %d begun, %d ended", status, text, s.begun.Load(), s.ended.Load())
	}
}

func TestARequestThatNobodyWaitsForEnds(t *testing.T) {
	before := AbandonedAfter
	defer func() { AbandonedAfter = before }()
	AbandonedAfter = 50 * time.Millisecond
	s := &slow{going: make(chan struct{})}
	base, stop := context.WithCancel(t.Context())
	l := &lasting{next: s}
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.ServeHTTP(w, r.WithContext(WithBase(r.Context(), base)))
	}))
	server.Start()
	defer server.Close()
	ctx, leave := context.WithCancel(t.Context())
	go post(t, ctx, server.URL, "request-1", "a", "one")
	until(t, "it has begun", func() bool { return s.begun.Load() == 1 })
	time.Sleep(3 * AbandonedAfter)
	if s.ended.Load() != 0 {
		t.Fatal("it ends while somebody waits")
	}
	leave()
	until(t, "it ends when nobody waits", func() bool { return s.ended.Load() == 1 })
	go post(t, t.Context(), server.URL, "request-2", "a", "one")
	until(t, "another has begun", func() bool { return s.begun.Load() == 2 })
	stop()
	until(t, "it ends with the service", func() bool { return s.ended.Load() == 2 })
}

// Answers are kept for those who ask again, and so many at the most.
func TestAnswersAreKeptInBounds(t *testing.T) {
	s := &slow{going: make(chan struct{})}
	close(s.going)
	l := &lasting{next: s}
	server := httptest.NewServer(l)
	defer server.Close()
	for n := range mostLasting + 50 {
		if status, text := post(t, t.Context(), server.URL, fmt.Sprintf("request-%d", n), "a", "one"); status != 201 {
			t.Fatalf("%d: %d %s", n, status, text)
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.all) != mostLasting {
		t.Errorf("%d answers are kept", len(l.all))
	}
}
