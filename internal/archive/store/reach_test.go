package store

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ambercellar/internal/dbtest"
	"ambercellar/internal/silence"
	"ambercellar/internal/standin"
)

// hasty makes whoever waits for a store wait for less long than usual.
func hasty(t *testing.T) {
	quiet, patient := silence.Bear(300*time.Millisecond, 300*time.Millisecond)
	p, long, before := patience, longPatience, spare
	patience, longPatience, spare = 300*time.Millisecond, 300*time.Millisecond, time.Second
	t.Cleanup(func() {
		silence.Bear(quiet, patient)
		patience, longPatience, spare = p, long, before
	})
}

// What an object store says of how it is spoken to is told with what to do about it, and is not waited for; what it
// says of itself is waited for.
func TestAnswersOfObjectStoresHaveTheirRemedies(t *testing.T) {
	for name, c := range map[string]struct {
		of    standin.Objects
		store Bucket
		kind  error
		words string
	}{
		"region":       {standin.Objects{Region: "eu-north-1"}, Bucket{}, ErrMisspoken, "-region eu-north-1"},
		"right region": {standin.Objects{Region: "eu-north-1"}, Bucket{Region: "eu-north-1"}, nil, ""},
		"clock":        {standin.Objects{Clock: time.Hour}, Bucket{}, ErrMisspoken, "set the clock right"},
		"quota":        {standin.Objects{Quota: 3}, Bucket{}, ErrFull, "raise its quota"},
		"no putting": {standin.Objects{Deny: []string{"PUT"}}, Bucket{}, ErrForbidden,
			"write, read, list and remove"},
		"no removing": {standin.Objects{Deny: []string{"DELETE"}}, Bucket{}, ErrForbidden,
			"write, read, list and remove"},
		"another key":   {standin.Objects{AccessKey: "other"}, Bucket{}, ErrForbidden, "check the credentials"},
		"another style": {standin.Objects{}, Bucket{Style: "host"}, ErrUnreachable, "-style path"},
	} {
		t.Run(name, func(t *testing.T) {
			c.of.Buckets = []string{"cellar"}
			st := bucketOf(t, c.of, func(h http.Handler) http.Handler { return h }, c.store)
			if c.store.Style == "host" { // by a name that there is no machine of
				st.bucket.Endpoint = strings.Replace(st.bucket.Endpoint, "127.0.0.1", "objects.invalid", 1)
				var err error
				if st, err = OpenBucket(Bucket{Endpoint: st.bucket.Endpoint, Name: "cellar",
					Style: "host"}); err != nil {
					t.Fatal(err)
				}
			}
			err := st.Check(t.Context())
			if c.kind == nil {
				if err != nil {
					t.Error(err)
				}
				return
			}
			if !errors.Is(err, c.kind) || !strings.Contains(err.Error(), c.words) {
				t.Errorf("%v", err)
			}
		})
	}
	for code, want := range map[string]error{"SlowDown": ErrUnreachable, "InternalError": ErrUnreachable,
		"PermanentRedirect": ErrMisspoken, "XMinioStorageFull": ErrFull, "NoSuchBucket": ErrMisspoken,
		"AccessDenied": ErrForbidden} {
		status := map[error]int{ErrUnreachable: 503, ErrMisspoken: 301, ErrFull: 507, ErrForbidden: 403}[want]
		st := bucket(t, func(http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.WriteHeader(status)
				io.WriteString(w, "<Error><Code>"+code+"</Code><Message>No.</Message></Error>")
			})
		}, Bucket{})
		if _, err := st.List(t.Context(), ""); !errors.Is(err, want) {
			t.Errorf("%s: %v", code, err)
		}
	}
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	st, err := OpenBucket(Bucket{Endpoint: secure.URL, Name: "cellar"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.List(t.Context(), ""); !errors.Is(err, ErrMisspoken) ||
		!strings.Contains(err.Error(), "-ca-file") {
		t.Errorf("a certificate of nobody: %v", err)
	}
}

// An object store that hangs fails what is asked of it, whatever that is, within the time that silence is borne, and
// works on when it comes back. Whoever does not want to wait any more is let go at once.
func TestAnObjectStoreThatHangs(t *testing.T) {
	hasty(t)
	st := bucket(t, func(h http.Handler) http.Handler { return h }, Bucket{})
	relay := dbtest.NewRelay(t, strings.TrimPrefix(st.bucket.Endpoint, "http://"))
	st, err := OpenBucket(Bucket{Endpoint: "http://" + relay.Address, Name: "cellar"})
	if err != nil {
		t.Fatal(err)
	}
	if err := put(t, st, "a", "one"); err != nil {
		t.Fatal(err)
	}
	long, err := st.Create(t.Context(), "long")
	if err != nil {
		t.Fatal(err)
	}
	r, err := st.Open(t.Context(), "a")
	if err != nil {
		t.Fatal(err)
	}
	relay.Frozen.Store(true)
	for what, do := range map[string]func(context.Context) error{
		"open":   func(ctx context.Context) error { _, err := st.Open(ctx, "a"); return err },
		"list":   func(ctx context.Context) error { _, err := st.List(ctx, ""); return err },
		"remove": func(ctx context.Context) error { return st.Remove(ctx, "a") },
		"create": func(ctx context.Context) error { _, err := st.Create(ctx, "b"); return err },
		"read":   func(ctx context.Context) error { _, err := r.ReadAt(make([]byte, 3), 0); return err },
		"commit": func(ctx context.Context) error { long.Write([]byte("text")); return long.Commit() },
	} {
		begun := time.Now()
		if err := do(t.Context()); !errors.Is(err, ErrUnreachable) || time.Since(begun) > 10*time.Second {
			t.Errorf("%s: after %s: %v", what, time.Since(begun), err)
		}
	}
	time.Sleep(spare) // it is tried again after that
	if took, err := quickest(func() error {
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer cancel()
		_, err := st.List(ctx, "")
		return err
	}); !errors.Is(err, context.DeadlineExceeded) || took > 250*time.Millisecond {
		t.Errorf("after %s: %v", took, err)
	}
	relay.Frozen.Store(false)
	for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		_, err := st.Open(t.Context(), "a")
		if err == nil {
			break
		}
		if time.Since(begun) > 20*time.Second {
			t.Fatal(err)
		}
	}
}

// A file system that hangs, as one of a server that is gone does, holds up nobody for longer than that is borne, and
// no second thread. What it comes back with when nobody waits for it any more has not happened.
func TestAFileSystemThatHangs(t *testing.T) {
	hasty(t)
	root := t.TempDir()
	st, err := MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	pipe := filepath.Join(root, "pipe") // opening it waits until somebody writes to it
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := st.Open(ctx, "pipe"); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("who does not want to wait any more: %v", err)
	}
	if _, err := st.Open(t.Context(), "pipe"); !errors.Is(err, ErrUnreachable) {
		t.Fatal(err)
	}
	if took, err := quickest(func() error { return put(t, st, "a", "one") }); !errors.Is(err, ErrUnreachable) ||
		took > 100*time.Millisecond {
		t.Errorf("while it hangs, after %s: %v", took, err)
	}
	w, err := os.OpenFile(pipe, os.O_WRONLY, 0) // it comes back
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	for begun := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		if err := put(t, st, "a", "one"); err == nil {
			break
		} else if time.Since(begun) > 5*time.Second {
			t.Fatal(err)
		}
	}

	undone := make(chan string, 1)
	go func() {
		_, err := within(t.Context(), &st.hung, patience, root, func() (string, error) {
			time.Sleep(3 * patience)
			return "linked", nil
		}, func(s string) { undone <- s })
		if !errors.Is(err, ErrUnreachable) {
			t.Errorf("%v", err)
		}
	}()
	if got := <-undone; got != "linked" {
		t.Errorf("%q was undone", got)
	}
	for begun := time.Now(); st.hung.steps.Load() != 0; time.Sleep(time.Millisecond) {
		if time.Since(begun) > time.Second {
			t.Fatalf("%d steps are counted as hung", st.hung.steps.Load())
		}
	}
}

// quickest does something three times, since a machine stalls now and then, and returns how long the quickest took and
// how that ended.
func quickest(do func() error) (took time.Duration, err error) {
	for i := range 3 {
		begun := time.Now()
		one := do()
		if passed := time.Since(begun); i == 0 || passed < took {
			took, err = passed, one
		}
	}
	return took, err
}
