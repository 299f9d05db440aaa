// Package deploy tests what ships beside the program for those who run it.
package deploy

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// run runs a tool that is on the machine, in a directory, and returns what it said.
func run(t *testing.T, dir, tool string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(tool); err != nil {
		t.Fatalf("%s is needed: %v", tool, err)
	}
	cmd := exec.Command(tool, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("%s %s: %v\n%s", tool, strings.Join(args, " "), err, out)
	}
	return string(out)
}

func read(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestAlertsFireWhenTheyShould(t *testing.T) {
	run(t, "prometheus", "promtool", "check", "rules", "alerts.yml")
	run(t, "prometheus", "promtool", "test", "rules", "alerts_test.yml")
	run(t, "prometheus", "promtool", "check", "config", "--syntax-only", "prometheus.yml")
	tests := read(t, "prometheus/alerts_test.yml")
	for _, m := range regexp.MustCompile(`- alert: (\w+)`).FindAllStringSubmatch(read(t, "prometheus/alerts.yml"), -1) {
		if !strings.Contains(tests, "alertname: "+m[1]+"\n") {
			t.Errorf("no test has %s fire", m[1])
		}
	}
}

var figure = regexp.MustCompile(`\bambercellar_[a-z_]+`)

// TestEveryFigureThatIsWatchedIsThere: alerts and dashboard ask for what docs/metrics.md lists, which a test compares
// with what the service answers.
func TestEveryFigureThatIsWatchedIsThere(t *testing.T) {
	known := map[string]bool{}
	for _, name := range figure.FindAllString(read(t, "../docs/metrics.md"), -1) {
		known[name] = true
	}
	var board struct {
		Panels []struct {
			Title   string
			GridPos struct{ X, Y, W, H int }
			Targets []struct{ Expr string }
		}
	}
	text := read(t, "grafana/ambercellar.json")
	if err := json.Unmarshal([]byte(text), &board); err != nil {
		t.Fatal(err)
	}
	taken := map[[2]int]string{}
	var rules []string
	for _, p := range board.Panels {
		if len(p.Targets) == 0 || p.Title == "" {
			t.Errorf("panel %q shows nothing", p.Title)
		}
		for x := range p.GridPos.W {
			for y := range p.GridPos.H {
				at := [2]int{p.GridPos.X + x, p.GridPos.Y + y}
				if other := taken[at]; other != "" || at[0] >= 24 {
					t.Fatalf("panel %q lies upon %q, or beside the board", p.Title, other)
				}
				taken[at] = p.Title
			}
		}
		for _, target := range p.Targets {
			expr := strings.ReplaceAll(target.Expr, "$rule", ".*")
			rules = append(rules, fmt.Sprintf("{record: x%d, expr: %q}", len(rules), expr))
		}
	}
	path := filepath.Join(t.TempDir(), "rules.yml") // promtool reads questions as rules
	if err := os.WriteFile(path, []byte("groups: [{name: x, rules: ["+strings.Join(rules, ", ")+"]}]"),
		0o600); err != nil {
		t.Fatal(err)
	}
	run(t, ".", "promtool", "check", "rules", path)
	for _, text := range []string{text, read(t, "prometheus/alerts.yml")} {
		for _, name := range figure.FindAllString(text, -1) {
			if !known[name] {
				t.Errorf("%s is watched, and the service does not tell it", name)
			}
		}
	}
}

// TestTheUnitIsSoundAndHardened: systemd reads it, and rates its exposure (0 to 10) as README.md says.
func TestTheUnitIsSoundAndHardened(t *testing.T) {
	root := t.TempDir() // with a program where the unit has it
	unit := filepath.Join(root, "etc/systemd/system/ambercellar.service")
	program := filepath.Join(root, "usr/bin/ambercellar")
	for path, mode := range map[string]os.FileMode{unit: 0o644, program: 0o755} {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(read(t, "systemd/ambercellar.service")), mode); err != nil {
			t.Fatal(err)
		}
	}
	here := strings.Replace(read(t, "systemd/ambercellar.service"), "/usr/bin/ambercellar", program, 1)
	if err := os.WriteFile(unit, []byte(here), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, ".", "systemd-analyze", "verify", "--man=no", unit)
	said := run(t, ".", "systemd-analyze", "security", "--offline=true", "--threshold=20", unit)
	m := regexp.MustCompile(`Overall exposure level[^:]*: ([\d.]+)`).FindStringSubmatch(said)
	if m == nil || !strings.Contains(read(t, "README.md"), "exposure of "+m[1]) {
		t.Errorf("README.md does not state the unit's exposure, %v", m)
	}
}
