package e2e

import (
	"archive/zip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"ambercellar/client"
)

// TestWhatHelpsOthersHoldsNoSecretsAndNoRows: secrets and values of rows are planted wherever the service meets them.
func TestWhatHelpsOthersHoldsNoSecretsAndNoRows(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.stop(syscall.SIGTERM)
	token := filepath.Join(w.dir, "scrape")
	if err := os.WriteFile(token, []byte("planted-scrape-token-xyzzy"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.start("-scrape-token-file", token, "-level", "debug", "-smtp", "127.0.0.1:1", "-mail-from",
		"cellar@harbour.example")
	w.scans(50)
	w.exec("CREATE TABLE fare (id integer PRIMARY KEY, at text NOT NULL, note text)")
	w.exec("INSERT INTO fare VALUES (771238941, '2020-01-01 00:00:00', 'planted-row-xyzzy')")
	w.exec("CREATE TRIGGER stays BEFORE DELETE ON fare BEGIN SELECT RAISE(ABORT, 'planted-in-an-error-xyzzy'); END")
	w.must("source", "add", "harbour", "-engine", "sqlite", "-address", w.dsn)
	w.must("rule", "apply", "-f", w.rules("rule: fares\nsource: harbour\ntable: fare\nage: at\nzone: UTC\nclauses:\n"+
		"  - where: note = 'planted-row-xyzzy'\n    keep: P1Y\nthen: archive\narchive: {store: cellar}\n"+
		"pace: unlimited\n"))
	w.must("recipient", "set", "keeper", "planted-xyzzy@harbour.example", "-events", "all")
	r := w.ended(must1[client.RunView](w, "run", "start", must1[client.Plan](w, "plan", "make", "fares").ID).ID)
	if !strings.Contains(r.Reason, "planted") {
		t.Fatalf("the run is %s: %s", r.State, r.Reason)
	}
	w.run("search", "harbour", "fare", "-where", "note = 'planted-row-xyzzy'")
	w.run("service", "freeze", "-reason", "planted-reason-xyzzy")
	w.must("finding", "list")
	out := filepath.Join(w.dir, "support.zip")
	w.must("support", "-out", out)
	w.refuse(1, []string{"exists"}, "support", "-out", out)
	w.refuse(2, []string{"-out is missing"}, "support")
	z, err := zip.OpenReader(out)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	held := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		r.Close()
		held[f.Name] = string(b)
		for _, planted := range []string{"xyzzy", "771238941", w.token, strings.TrimPrefix(w.token, "amber_")} {
			if i := strings.Index(string(b), planted); i >= 0 {
				t.Errorf("%s holds %q: …%s…", f.Name, planted, string(b[max(0, i-80):min(len(b), i+80)]))
			}
		}
		if strings.Contains(string(b), "is not whole") {
			t.Errorf("%s:\n%s", f.Name, b)
		}
	}
	for name, want := range map[string]string{"about.json": `"sources, sqlite": 1`, "runs.json": `"has_reason": true`,
		"configuration.json": "scrape-token-file", "checks.json": "store cellar", "findings.json": "[",
		"queue.json": "runs working", "log.txt": "run begins", "goroutines.txt": "service.(*Chores)",
		"heap.pprof": ""} {
		if text, ok := held[name]; !ok || !strings.Contains(text, want) {
			t.Errorf("%s does not hold %q:\n%.2000s", name, want, text)
		}
	}
}

// TestShellsComplete: in a bash, with names that only the service knows.
func TestShellsComplete(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(3)
	w.must("source", "add", "harbour", "-engine", "sqlite", "-address", w.dsn)
	w.must(
		"rule",
		"apply",
		"-f",
		w.rules("rule: boarding-scans\nsource: harbour\ntable: scan\nage: scanned_at\nzone: UTC\n"+
			"clauses:\n  - keep: P1Y\nthen: purge\n"),
	)
	for line, want := range map[string]string{"ru": "rule run", "rule ": "check apply forecast list show enable " +
		"disable requirements", "rule show ": "boarding-scans", "rule show b": "boarding-scans",
		"table show harbour s": "scan",
		"run list -ru":         "-rule", "run list -rule ": "boarding-scans", "run list -o ": "table json csv",
		"completion ": "", "store s": "set sweep"} {
		script := `source <("$0" completion bash); ambercellar() { "$PROGRAM" "$@"; }
COMP_WORDS=(ambercellar "$@"); COMP_CWORD=$#; _ambercellar; echo "${COMPREPLY[*]}"`
		words := strings.Split(line, " ")
		cmd := exec.Command("bash", append([]string{"-c", script, program}, words...)...)
		cmd.Env = append(
			os.Environ(),
			"PROGRAM="+program,
			"AMBERCELLAR_SERVER="+w.svc.server,
			"AMBERCELLAR_TOKEN="+w.token,
		)
		out, err := cmd.CombinedOutput()
		if got := strings.Join(strings.Fields(string(out)), " "); err != nil || got != want {
			t.Errorf("%q: %q, %v; want %q", line, got, err, want)
		}
	}
	w.refuse(2, []string{"none of bash, zsh and fish"}, "completion", "tcsh")
	w.refuse(1, []string{"did you mean boarding-scans?"}, "rule", "show", "bording-scans")
	w.refuse(1, []string{"did you mean harbour?"}, "source", "check", "habour")
}
