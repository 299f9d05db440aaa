package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ambercellar/client"
)

// TestWhatFilesDeclareIsTakenUp: at the start and at SIGHUP, from a directory; drift is an exit status.
func TestWhatFilesDeclareIsTakenUp(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, w *world) {
		w.scans(300)
		dir := t.TempDir()
		write := func(name, text string) {
			t.Helper()
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		settled := func(kind, name string, want client.Standing) {
			t.Helper()
			var is client.Standing
			for begun := time.Now(); time.Since(begun) < 30*time.Second; time.Sleep(50 * time.Millisecond) {
				d := must1[client.Declared](w, "declared", "list")
				for _, x := range d.Items {
					if x.Kind == kind && x.Name == name {
						is = x.State
					}
				}
				if is == want {
					return
				}
			}
			t.Fatalf("%s %s is %s and not %s: %s", kind, name, is, want, w.must("declared", "list"))
		}
		write("places.yaml", "source: harbour\nengine: "+w.engine+"\naddress: "+w.dsn+"\ntls: off\n")
		write("rules.yaml", "# how long scans stay\nrule: scans\nsource: harbour\ntable: scan\nage: scanned_at\n"+
			"zone: UTC\nclauses:\n  - keep: P1Y\nthen: purge\n")
		w.must("declared", "list") // without a directory
		w.stop(syscall.SIGTERM)
		w.start("-declare", dir)
		settled("source", "harbour", client.DeclaredSame)
		settled("rule", "scans", client.DeclaredSame)
		if out := w.must("doctor"); !strings.Contains(out, "declares is in force") {
			t.Errorf("the doctor says\n%s", out)
		}
		if p := must1[client.Plan](w, "plan", "make", "scans", "-exact"); p.Counts.Due != 300 {
			t.Errorf("%+v", p.Counts)
		}
		write("rules.yaml", strings.Replace(w.must("declared", "print"), "keep: P1Y", "keep: P2Y", 1))
		os.Remove(filepath.Join(dir, "places.yaml"))
		settled("rule", "scans", client.DeclaredNewer)
		w.svc.cmd.Process.Signal(syscall.SIGHUP)
		settled("rule", "scans", client.DeclaredSame)
		if text := w.must("rule", "show", "scans"); !strings.Contains(text, "P2Y") {
			t.Errorf("after SIGHUP:\n%s", text)
		}
		w.must("rule", "disable", "scans", "-reason", "the quay is closed")
		w.refuse(1, []string{"1 thing was changed in the service", "declared show"}, "declared", "list")
		if out := w.must("declared", "show", "rule", "scans"); !strings.Contains(out, "-enabled: false") {
			t.Errorf("the difference:\n%s", out)
		}
		for words, want := range map[string]string{"source check": "harbour", "declared show rule": "scans",
			"declared show": "schedule", "history -by": "month", "queue pause": "verification"} {
			asked := append([]string{"complete", "--"}, append(strings.Fields(words), "")...)
			if out := w.must(asked...); !strings.Contains("\n"+out, "\n"+want+"\n") {
				t.Errorf("after %q it offers\n%s", words, out)
			}
		}
		w.refuse(1, []string{"did you mean scans?"}, "declared", "show", "rule", "scan")
		w.refuse(1, []string{`"rule nets" is not declared`}, "declared", "apply", "-over", "rule nets")
		w.must("declared", "apply", "-over", "all")
		if r, err := w.client.Rule(t.Context(), "scans"); err != nil || strings.Contains(r.Text, "enabled: false") {
			t.Errorf("it was not taken up over the change:\n%+v, %v", r, err)
		}
		write("rules.yaml", "rule: [\n")
		w.refuse(1, []string{"rules.yaml:1:", "1 fault in what"}, "declared", "apply")
	})
}
