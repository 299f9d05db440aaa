package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/catalog"
)

// hooks is a web server that is told of runs, and says when the newest backup was made.
type hooks struct {
	*httptest.Server
	mu     sync.Mutex
	heard  []Hook
	answer func(w http.ResponseWriter, r *http.Request) // nil: all is well
}

func openHooks(t *testing.T, n *nights) *hooks {
	t.Helper()
	h := &hooks{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		var told Hook
		if r.Method == http.MethodPost {
			if err := json.NewDecoder(r.Body).Decode(&told); err != nil {
				t.Error(err)
			}
			h.heard = append(h.heard, told)
		}
		if h.answer != nil {
			h.answer(w, r)
			return
		}
		fmt.Fprintln(w, "thanks")
	}))
	t.Cleanup(h.Close)
	n.Notifier.Change(func(w *Ways) { w.Hosts = []string{strings.TrimPrefix(h.URL, "http://")} })
	return h
}

// told lists what the server heard, as phase and result.
func (h *hooks) told() (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, x := range h.heard {
		out = append(out, strings.TrimSpace(string(x.Phase)+" "+x.Result))
	}
	return out
}

func (h *hooks) answers(do func(w http.ResponseWriter, r *http.Request)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.answer = do
}

// now makes a run of a rule, whatever its schedule says.
func (n *nights) now(t *testing.T, rule string) string {
	t.Helper()
	before, err := n.Catalog.Firings(t.Context(), catalog.FiringFilter{Rule: rule}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Schedules.Ask(t.Context(), "me", rule, "", "a test"); err != nil {
		t.Fatal(err)
	}
	n.tick(t)
	f := n.firings(t, rule, len(before)+1)
	if run := f[len(f)-1].Run; run != "" {
		return run
	}
	t.Fatalf("it fired in vain: %+v", f)
	return ""
}

// later moves the clock, and lets what waited for that go on.
func (n *nights) later(t *testing.T, by time.Duration) {
	t.Helper()
	n.offset.Add(int64(by))
	if _, err := n.Queue.goOnWaiting(t.Context()); err != nil {
		t.Fatal(err)
	}
}

func TestARunWaitsForWhatItsRuleRequires(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth")
	h := openHooks(t, n)
	n.rows(t, "scan", 1000)
	n.rows(t, "berth", 1000)
	dump := filepath.Join(n.dir, "harbour.dump")
	n.apply(t, "requires: {backup: {file: "+dump+", within: P1D}}\nafter:\n  - webhook: "+h.URL+"\n", "scan")
	n.apply(t, `requires: {backup: {query: "SELECT max(at) FROM backups", within: P1D}, log_free: 1 KB, `+
		"replica_delay: 1 s}\n", "berth")
	ask := func(rule string) (out []string) {
		t.Helper()
		r, err := n.Catalog.Rule(t.Context(), rule)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range n.Conditions.Of(t.Context(), &r.Body.V, nil, nil) {
			out = append(out, fmt.Sprintf("%s %t: %s", c.Name, c.Met, c.Found))
		}
		return out
	}
	if got := ask("berth"); len(got) != 3 || !strings.Contains(got[0], "no such table") ||
		!strings.HasPrefix(got[1], "log_free true") || !strings.HasPrefix(got[2], "replica_delay true") {
		t.Fatalf("%q", got)
	}
	run := n.now(t, "scan")
	r := n.until(t, run, "it rests", 90*time.Second, func(r *catalog.Run) bool { return r.State == catalog.Resting })
	if r.UnmetSince == nil || !strings.Contains(r.Reason, "requires backup") ||
		!strings.Contains(r.Reason, "no such file") {
		t.Fatalf("%+v", r)
	}
	// A file that is empty, too old, of a time to come: no backup.
	now := n.Now()
	for _, c := range []struct {
		text string
		at   time.Time
		want string
	}{{"", now, "is empty"}, {"dump", now.Add(-25 * time.Hour), "must be younger than 1 day"},
		{"dump", now.Add(48 * time.Hour), "which is to come"}} {
		if err := os.WriteFile(dump, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(dump, c.at, c.at); err != nil {
			t.Fatal(err)
		}
		n.later(t, unmetAgain+time.Second)
		n.until(t, run, "it says "+c.want, 20*time.Second, func(r *catalog.Run) bool {
			return r.State == catalog.Resting && strings.Contains(r.Reason, c.want)
		})
	}
	if left := n.left(t, "scan"); left != 1000 || len(h.told()) != 0 {
		t.Fatalf("%d rows are left, %q was told", left, h.told())
	}
	n.restart(t)
	n.later(t, time.Minute)
	if err := os.Chtimes(dump, n.Now(), n.Now()); err != nil {
		t.Fatal(err)
	}
	n.later(t, unmetAgain)
	if r := n.ended(t, run); r.State != catalog.Done || r.UnmetSince != nil || n.left(t, "scan") != 0 {
		t.Errorf("%+v", r)
	}
	// A query that finds no time, an old one, nonsense, and one that hangs.
	if _, err := n.db(t).Exec("CREATE TABLE backups (at text)"); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]string{{"DELETE FROM backups", "there is no backup"},
		{"INSERT INTO backups VALUES ('2020-01-01')", "must be younger"},
		{"UPDATE backups SET at = 'monday'", "is no time"},
		{"UPDATE backups SET at = '" + n.Now().UTC().Format(time.DateTime) + "'", "the newest backup is of"}} {
		if _, err := n.db(t).Exec(c[0]); err != nil {
			t.Fatal(err)
		}
		if got := ask("berth"); len(got) == 0 || !strings.Contains(got[0], c[1]) {
			t.Errorf("after %s: %q", c[0], got)
		}
	}
}

// restart closes the service and starts it again, with what its start named.
func (n *nights) restart(t *testing.T) {
	t.Helper()
	hosts := n.Notifier.Ways().Hosts
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	n.start(t)
	n.Notifier.Change(func(w *Ways) { w.Hosts = hosts })
}

func TestARequirementThatHangs(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	h := openHooks(t, n)
	n.apply(t, "requires: {backup: {url: \""+h.URL+"\", within: P1D}}\n", "scan")
	r, err := n.Catalog.Rule(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	ask := func() string {
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		begun := time.Now()
		c := n.Conditions.Of(ctx, &r.Body.V, nil, nil)
		if took := time.Since(begun); len(c) != 1 || took > 10*time.Second {
			t.Fatalf("%+v after %s", c, took)
		}
		return fmt.Sprintf("%t %s", c[0].Met, c[0].Found)
	}
	for want, answer := range map[string]func(w http.ResponseWriter, r *http.Request){
		"false http": func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(500) },
		"false context deadline exceeded": func(w http.ResponseWriter,
			r *http.Request) {
			time.Sleep(3 * time.Second)
		},
		"true the newest backup is of": func(w http.ResponseWriter,
			_ *http.Request) {
			fmt.Fprintln(w, n.Now().Format(time.RFC3339))
		},
		"false http: ": func(w http.ResponseWriter, r *http.Request) { // it leads elsewhere
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		},
	} {
		h.answers(answer)
		if got := ask(); !strings.HasPrefix(got, strings.TrimSuffix(want, ": ")) {
			t.Errorf("%q, want %q", got, want)
		}
	}
	n.Notifier.Change(func(w *Ways) { w.Hosts = nil })
	if got := ask(); !strings.HasPrefix(got, "false") || !strings.Contains(got, "nothing is sent to") {
		t.Errorf("of a host that nobody named: %q", got)
	}
}

func TestStepsAroundARun(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	h := openHooks(t, n)
	if _, err := n.db(t).Exec("CREATE TABLE job (off integer); INSERT INTO job VALUES (0)"); err != nil {
		t.Fatal(err)
	}
	off := func() (v int) {
		if err := n.db(t).QueryRow("SELECT off FROM job").Scan(&v); err != nil {
			t.Fatal(err)
		}
		return v
	}
	steps := fmt.Sprintf("before:\n  - sql: UPDATE job SET off = off + 1\n  - webhook: %s\nafter:\n  - webhook: %s\n"+
		"  - sql: UPDATE job SET off = off - 1\n", h.URL, h.URL)
	n.apply(t, steps, "scan")
	n.rows(t, "scan", 60_000)
	run := n.now(t, "scan")
	n.until(t, run, "it deletes", 90*time.Second, func(r *catalog.Run) bool { return r.Deleted > 0 })
	if off() != 1 {
		t.Error("the step before has not been done")
	}
	if _, err := n.Queue.Pause(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	if want := []string{"before", "after stopped"}; off() != 0 || !slices.Equal(h.told(), want) {
		t.Errorf("after a pause, off is %d, told %q", off(), h.told())
	}
	// Going on is once more with steps; a freeze is not: nothing is sent to the database until it is lifted.
	if _, err := n.Queue.Resume(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	begun := n.until(t, run, "it goes on", 90*time.Second,
		func(r *catalog.Run) bool { return r.State == catalog.Running })
	n.until(t, run, "it deletes more", 90*time.Second, func(r *catalog.Run) bool { return r.Deleted > begun.Deleted })
	f, err := n.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Reason: "an audit"})
	if err != nil {
		t.Fatal(err)
	}
	n.until(t, run, "it rests", 90*time.Second, func(r *catalog.Run) bool { return r.State == catalog.Resting })
	if off() != 1 {
		t.Error("a step was sent to a frozen database")
	}
	n.restart(t)
	if _, err := n.Freezes.Lift(t.Context(), "me", f.ID, ""); err != nil {
		t.Fatal(err)
	}
	n.later(t, 0)
	if r := n.ended(t, run); r.State != catalog.Done || n.left(t, "scan") != 0 || r.Entered {
		t.Errorf("%+v", r)
	}
	// The steps before were done again after the freeze; those after, once.
	if got := h.told(); off() != 1 || !slices.Equal(got[len(got)-2:], []string{"before", "after done"}) {
		t.Errorf("off is %d, told %q", off(), got)
	}
	list, err := n.Catalog.Steps(t.Context(), run)
	if err != nil || len(list) != 10 || list[0].Output != "1 rows changed" || list[1].Output != "thanks" {
		t.Errorf("%d steps: %+v, %v", len(list), list, err)
	}
}

// A run that fails, or cannot begin, is followed by its steps all the same.
func TestStepsThatFail(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth")
	h := openHooks(t, n)
	n.rows(t, "scan", 100)
	n.rows(t, "berth", 100)
	n.apply(t, fmt.Sprintf("before:\n  - sql: UPDATE nothing SET off = 1\nafter:\n  - webhook: %s\n", h.URL), "scan")
	n.apply(t, fmt.Sprintf("after:\n  - {webhook: \"%s\", timeout: PT1S}\n", h.URL), "berth")
	run := n.now(t, "scan")
	r := n.until(t, run, "it is tried again", 90*time.Second,
		func(r *catalog.Run) bool { return r.State == catalog.Resting && r.Retries == 1 })
	if !strings.Contains(r.Reason, "step 1 before the run") || !slices.Equal(h.told(), []string{"after failed"}) ||
		n.left(t, "scan") != 100 {
		t.Errorf("told %q: %+v", h.told(), r)
	}
	if _, err := n.Queue.Cancel(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	if got := h.told(); len(got) != 1 {
		t.Errorf("a run that does not work was cancelled, and it was told %q", got)
	}
	h.answers(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(503) })
	run = n.now(t, "berth")
	if r := n.ended(t, run); r.State != catalog.Done {
		t.Errorf("%+v", r)
	}
	list, err := n.Catalog.Steps(t.Context(), run)
	if err != nil || len(list) != 1 || list[0].Outcome != catalog.StepFailed || list[0].Tries != stepTries ||
		!strings.Contains(list[0].Output, "503") {
		t.Errorf("%+v, %v", list, err)
	}
	n.found(t, "step failed berth")
	h.answers(nil)
	n.rows(t, "berth", 10)
	n.ended(t, n.now(t, "berth"))
	n.found(t)
}

func TestSourcesHaveHours(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.rows(t, "scan", 100)
	n.apply(t, "window: 21:00-23:00\n", "scan")
	guard := func(text string) {
		t.Helper()
		var g catalog.Guard
		if err := json.Unmarshal([]byte(text), &g); err != nil {
			t.Fatal(err)
		}
		if err := n.Places.SetGuard(t.Context(), "me", "harbour", g); err != nil {
			t.Fatal(err)
		}
	}
	guard(`{"window": ["22:30-04:00"]}`) // it is 21:55
	run := n.now(t, "scan")
	r := n.until(t, run, "it rests", 90*time.Second, func(r *catalog.Run) bool { return r.State == catalog.Resting })
	if !strings.Contains(r.Reason,
		"outside the window of source harbour (22:30-04:00); it goes on at 2026-11-30 22:30") {
		t.Errorf("%+v", r)
	}
	guard(`{"window": ["23:00-04:00"]}`)
	n.later(t, 36*time.Minute)
	r = n.until(t, run, "it pauses", 90*time.Second, func(r *catalog.Run) bool { return r.State == catalog.Paused })
	if !strings.Contains(r.Reason, "never open together") || n.left(t, "scan") != 100 {
		t.Errorf("%+v", r)
	}
	guard(`{}`)
	if _, err := n.Queue.Resume(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	if r := n.ended(t, run); r.State != catalog.Done || n.left(t, "scan") != 0 {
		t.Errorf("%+v", r)
	}
	if err := n.Places.SetGuard(t.Context(), "me", "harbour", catalog.Guard{Zone: "Mars/Olympus"}); err == nil {
		t.Error("a zone that is none was taken")
	}
}

func TestRulesRunByWish(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth", "deck", "mast")
	n.rows(t, "scan", 10)
	n.rows(t, "berth", 10)
	n.rows(t, "deck", 10)
	n.apply(t, "", "scan", "mast")
	n.apply(t, "schedule: daily at 22:00\n", "berth")
	n.apply(t, "enabled: false\n", "deck")
	if _, err := n.Schedules.Ask(t.Context(), "me", "", "", " "); err == nil {
		t.Error("no reason was needed")
	}
	if _, err := n.Schedules.Ask(t.Context(), "me", "deck", "", "why not"); err == nil {
		t.Error("a rule ran that is not enabled")
	}
	fired, err := n.Schedules.Ask(t.Context(), "me", "", "harbour", "the disk is full")
	if err != nil || len(fired) != 3 {
		t.Fatalf("%+v, %v", fired, err)
	}
	for rule, state := range map[string]catalog.FiringState{"scan": catalog.FiringStarted,
		"berth": catalog.FiringStarted, "mast": catalog.FiringNothing} {
		for begun := time.Now(); ; time.Sleep(20 * time.Millisecond) {
			n.tick(t)
			f := n.firings(t, rule, 1)[0]
			if f.State == state && f.AskedBy == "me" {
				if f.Run != "" {
					n.ended(t, f.Run)
				}
				break
			}
			if time.Since(begun) > 90*time.Second {
				t.Fatalf("%+v", f)
			}
		}
	}
	if n.left(t, "scan")+n.left(t, "berth") != 0 || n.left(t, "deck") != 10 {
		t.Error("not what was asked for")
	}
	// By its schedule, berth fires all the same; off its schedule it does not, and says why.
	n.set(time.Date(2026, 11, 30, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	n.firings(t, "berth", 2)
	until := catalog.At(time.Date(2026, 12, 2, 12, 0, 0, 0, time.UTC))
	for _, bad := range []catalog.OffSchedule{{Rule: "berth"}, {Rule: "scan", Reason: "x"},
		{Rule: "none", Reason: "x"},
		{Rule: "berth", Reason: "x", UntilDone: true}, {Rule: "berth", Reason: "x", Until: &until, UntilDone: true}} {
		if _, err := n.Schedules.Off(t.Context(), "me", bad); err == nil {
			t.Errorf("taken: %+v", bad)
		}
	}
	if _, err := n.Schedules.Off(t.Context(), "me", catalog.OffSchedule{Rule: "berth", Reason: "the port is closed",
		Until: &until}); err != nil {
		t.Fatal(err)
	}
	for day, want := range map[int]catalog.FiringState{1: catalog.FiringSkipped} {
		n.set(time.Date(2026, 12, day, 22, 0, 1, 0, time.UTC))
		n.tick(t)
		if f := n.firings(t, "berth", 2+day)[1+day]; f.State != want ||
			!strings.Contains(f.Reason, "the port is closed") {
			t.Errorf("%+v", f)
		}
	}
	n.set(time.Date(2026, 12, 2, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	if f := n.firings(t, "berth", 4)[3]; f.State != catalog.FiringNothing {
		t.Errorf("%+v", f)
	}
	// Until the run that works off the backlog is done.
	n.rows(t, "berth", 60_000)
	run := n.now(t, "berth")
	if _, err := n.Queue.Pause(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Schedules.Off(t.Context(), "me", catalog.OffSchedule{Rule: "berth", Reason: "a backlog",
		UntilDone: true}); err != nil {
		t.Fatal(err)
	}
	n.set(time.Date(2026, 12, 3, 22, 0, 1, 0, time.UTC))
	n.tick(t)
	if f := n.firings(t, "berth", 6)[5]; f.State != catalog.FiringSkipped || !strings.Contains(f.Reason, "a backlog") {
		t.Errorf("%+v", f)
	}
	if _, err := n.Queue.Resume(t.Context(), "me", run); err != nil {
		t.Fatal(err)
	}
	n.ended(t, run)
	if off, err := n.Catalog.OffSchedules(t.Context(), ""); err != nil || len(off) != 0 {
		t.Errorf("%+v, %v", off, err)
	}
	// Enabled and not, each with a reason, as a revision.
	if _, err := n.Schedules.SetEnabled(t.Context(), "me", "deck", true, ""); err == nil {
		t.Error("no reason was needed")
	}
	for i, on := range []bool{true, false, true} {
		applied, err := n.Schedules.SetEnabled(t.Context(), "me", "deck", on, "because")
		if err != nil || len(applied) != 1 || applied[0].Revision != i+2 {
			t.Fatalf("%+v, %v", applied, err)
		}
		r, err := n.Catalog.Rule(t.Context(), "deck")
		if err != nil || r.Body.V.Off == on {
			t.Fatalf("%+v, %v", r, err)
		}
	}
	if _, err := n.Schedules.SetEnabled(t.Context(), "me", "deck", true, "again"); err == nil {
		t.Error("it was enabled twice")
	}
}

// TestARunIsPausedThatIsJustBeingMade: it is in the catalog, and comes into the queue a moment later.
func TestARunIsPausedThatIsJustBeingMade(t *testing.T) {
	t.Parallel()
	n := openNights(t, "berth")
	n.rows(t, "berth", 60_000)
	n.apply(t, "", "berth")
	run := n.now(t, "berth")
	q := n.Queue
	var a *activeRun
	for begun := time.Now(); a == nil; time.Sleep(time.Millisecond) {
		q.mu.Lock()
		a = q.active[run]
		delete(q.active, run)
		q.mu.Unlock()
		if time.Since(begun) > 30*time.Second {
			t.Fatal("it does not come into the queue")
		}
	}
	time.AfterFunc(200*time.Millisecond, func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		q.active[run] = a
	})
	r, err := q.Pause(t.Context(), "me", run)
	if err != nil || r.State != catalog.Paused {
		t.Errorf("%+v, %v", r, err)
	}
}
