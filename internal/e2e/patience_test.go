package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
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
