package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"ambercellar/client"
	"ambercellar/internal/dbtest"
)

// A command that waits for what goes on in the service waits for the service, too, when that ends and starts again,
// and says what it waits for.
func TestACommandWaitsForAServiceThatStartsAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(8000)
	w.define("archive", "careful")
	p := must1[client.Plan](w, "plan", "make", "scans", "-exact")
	front := w.svc.server
	relay := dbtest.NewRelay(t, strings.TrimPrefix(front, "http://"))
	w.svc.server = "http://" + relay.Address
	cmd := exec.Command(program, "run", "start", p.ID, "-watch")
	cmd.Env = append(os.Environ(), "AMBERCELLAR_SERVER="+w.svc.server, "AMBERCELLAR_TOKEN="+w.token)
	var out, stderr strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	w.svc.server = front
	var id string
	w.eventually("the run has begun", func() bool {
		for _, r := range must1[client.Items[client.RunView]](w, "run", "list").Items {
			id = r.ID
		}
		return id != ""
	})
	w.someDeleted(id, 200)
	w.stop(syscall.SIGTERM)
	relay.To("")
	w.start()
	relay.To(strings.TrimPrefix(w.svc.server, "http://"))
	w.must("run", "pace", id, "unlimited")
	if err := cmd.Wait(); err != nil || !strings.Contains(stderr.String(), "run "+id+" goes on there") ||
		!strings.Contains(out.String(), "8,000 deleted") {
		t.Errorf("%v\n%s\n%s", err, out.String(), stderr.String())
	}
	w.balanced(w.ended(id), 8000, 8000)

	// What cannot be is said before anything is done.
	file := filepath.Join(w.dir, "rows.csv")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	w.refuse(1, []string{"exists already"}, "restore", "request", "-source", "harbour", "-table", "scan", "-all-rows",
		"-into", "file", "-out", file)
	w.refuse(1, []string{"no such file or directory"}, "restore", "request", "-source", "harbour", "-table", "scan",
		"-all-rows", "-into", "file", "-out", filepath.Join(w.dir, "nowhere", "rows.csv"))
	if l := must1[client.Items[client.Restore]](w, "restore", "list"); len(l.Items) != 0 {
		t.Errorf("a restore was made all the same: %+v", l.Items)
	}
	w.refuse(1, []string{"say which rows", "or all"}, "restore", "request", "-source", "harbour", "-table", "scan",
		"-into", "file")
	if out := w.must("restore", "request", "-source", "harbour", "-table", "scan", "-all-rows", "-into",
		"file"); !strings.Contains(out, "every row") || !strings.Contains(out, "8,000 restored") {
		t.Errorf("all rows:\n%s", out)
	}
}

// deaf passes requests on to a service, and breaks the connection off before the answer of the first request to each
// path that changes or computes something.
func deaf(t *testing.T, server string) string {
	t.Helper()
	to, err := url.Parse(server)
	if err != nil {
		t.Fatal(err)
	}
	var broken sync.Map
	onward := httputil.NewSingleHostReverseProxy(to)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, again := broken.LoadOrStore(r.URL.Path, true); r.Method != "POST" || again {
			onward.ServeHTTP(w, r)
			return
		}
		onward.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	}))
	t.Cleanup(front.Close)
	return front.URL
}

// A command whose answer gets lost asks for it again, says so, and nothing is done twice.
func TestACommandAsksAgainForAnAnswerThatGotLost(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2000)
	w.define("archive", "unlimited")
	w.ended(w.planned().ID)
	plans := func() int {
		list, err := w.client.Plans(t.Context(), client.PlansQuery{})
		if err != nil {
			t.Fatal(err)
		}
		return len(list.Items)
	}
	before := plans()
	straight := w.svc.server
	w.svc.server = deaf(t, straight)
	rules := w.rules(fmt.Sprintf(scanRule, "archive", "archive: {store: cellar}", "gentle"))
	for _, c := range [][]string{{"plan", "make", "scans", "-exact"}, {"plan", "compare", "-f", rules},
		{"store", "sweep", "cellar"}, {"store", "adopt", "cellar"}} {
		out, stderr, status := w.run(c...)
		if status != 0 || !strings.Contains(stderr, "the connection is lost") ||
			!strings.Contains(stderr, "goes on in the service, as request ") {
			t.Errorf("%s: status %d\n%s\n%s", c, status, out, stderr)
		}
	}
	if n := plans(); n != before+1 {
		t.Errorf("%d plans were made", n-before)
	}
	w.svc.server = straight

	// The rows of a search go on where they were cut off, and are the same.
	whole := w.must("search", "harbour", "scan", "-rows", "csv")
	w.svc.server = cutTimes(t, straight, int64(len(whole)/2), 1)
	out, stderr, status := w.run("search", "harbour", "scan", "-rows", "csv")
	if status != 0 || out != whole || !strings.Contains(stderr, "asked for again, from byte ") {
		t.Errorf("cut once: status %d, %d of %d bytes\n%s", status, len(out), len(whole), stderr)
	}
}
