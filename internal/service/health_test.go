package service

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/catalog"
)

// bad lists the checks that are not as they should be, by name.
func bad(checks []Check) map[string]Check {
	out := map[string]Check{}
	for _, c := range checks {
		if c.Level != CheckGood {
			out[c.Name] = c
		}
	}
	return out
}

// anew has readiness looked at again.
func (s *Health) anew(ctx context.Context) []Check {
	s.asking.Lock()
	s.at = time.Time{}
	s.asking.Unlock()
	return s.Ready(ctx)
}

// TestReadinessMeansSomething: a catalog that somebody holds, a store that is gone, a loop that stands still.
func TestReadinessMeansSomething(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, _ := open(t, dir)
	if _, ready := Parts(s.Health.anew(t.Context())); !ready {
		t.Fatalf("a new service is not ready: %+v", bad(s.Health.anew(t.Context())))
	}
	if err := os.Rename(filepath.Join(dir, "cellar"), filepath.Join(dir, "gone")); err != nil {
		t.Fatal(err)
	}
	parts, ready := Parts(s.Health.anew(t.Context()))
	if ready || parts["stores"] || !parts["catalog"] || !parts["queue"] {
		t.Errorf("without its store: %v, %v", ready, parts)
	}
	if c := bad(s.Health.anew(t.Context()))["store cellar"]; c.Remedy == "" || c.Message == "" {
		t.Errorf("what is said of it: %+v", c)
	}
	if err := os.Rename(filepath.Join(dir, "gone"), filepath.Join(dir, "cellar")); err != nil {
		t.Fatal(err)
	}
	s.Health.mu.Lock()
	s.Health.beats["notifications"] = time.Now().Add(-2 * beatFor)
	s.Health.mu.Unlock()
	if c := bad(s.Health.anew(t.Context()))["queue"]; !strings.Contains(c.Message, "notifications have not been") {
		s.Health.mu.Lock()
		last := s.Health.beats["notifications"]
		s.Health.mu.Unlock()
		if last.Before(time.Now().Add(-beatFor)) { // otherwise it came round meanwhile
			t.Errorf("a loop that stands still: %+v", c)
		}
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	held, err := db.Conn(t.Context())
	if err == nil {
		_, err = held.ExecContext(t.Context(), "BEGIN IMMEDIATE")
	}
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	parts, ready = Parts(s.Health.anew(t.Context()))
	if took := time.Since(begun); ready || parts["catalog"] || took > 2*lookFor {
		t.Errorf("while somebody holds the catalog: %v, %v, after %s", ready, parts, took)
	}
	if _, err := held.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if err := held.Close(); err != nil {
		t.Fatal(err)
	}
	deadline := time.Now().Add(30 * time.Second)
	for ready := false; !ready; _, ready = Parts(s.Health.anew(t.Context())) {
		if time.Now().After(deadline) {
			t.Fatalf("it does not become ready again: %+v", bad(s.Health.anew(t.Context())))
		}
	}
}

// TestManyAskWhetherItIsReady: they share one look, and whoever goes away breaks it off for nobody.
func TestManyAskWhetherItIsReady(t *testing.T) {
	t.Parallel()
	s, _ := open(t, t.TempDir())
	gone, leave := context.WithCancel(t.Context())
	leave()
	var group sync.WaitGroup
	for range 50 {
		for _, ctx := range []context.Context{t.Context(), gone} {
			group.Go(func() {
				if _, ready := Parts(s.Health.Ready(ctx)); !ready {
					t.Errorf("not ready: %+v", bad(s.Health.Ready(ctx)))
				}
			})
		}
	}
	group.Wait()
}

// TestTheDoctorSaysWhatIsWrong: of a source that is away, a mail server that does not answer, a finding that is open.
func TestTheDoctorSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, _ := open(t, filepath.Join(dir, "data"))
	harbour(t, s, dir, 3)
	checks, err := s.Health.Examine(t.Context())
	if err != nil || len(bad(checks)) != 1 || bad(checks)["schedules"].Level != CheckWarns {
		t.Errorf("of a sound service it says %+v, %v", bad(checks), err)
	}
	s.Notifier.Change(func(w *Ways) { w.Mail = Mail{Server: "127.0.0.1:1", From: "cellar@harbour.example"} })
	if _, _, err := s.Catalog.Find(t.Context(), []string{"x"}, []catalog.Cause{{Kind: "x", Subject: "s",
		Severity: catalog.Urgent}}); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(dir, "harbour.db")); err != nil {
		t.Fatal(err)
	}
	checks, err = s.Health.Examine(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	found := bad(checks)
	for name, level := range map[string]CheckLevel{"mail": CheckFailed, "findings": CheckWarns,
		"source harbour": CheckFailed} {
		if c := found[name]; c.Level != level || c.Message == "" || c.Remedy == "" {
			t.Errorf("%s: %+v", name, c)
		}
	}
}
