package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"ambercellar/client"
)

// TestSettingsComeFromAFileAndAreReadAnew: all faults at once and their places; where each setting is from; what
// changes while the service runs, what does not, and a file that is broken meanwhile.
func TestSettingsComeFromAFileAndAreReadAnew(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.stop(syscall.SIGTERM)
	file := filepath.Join(w.dir, "ambercellar.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("lisen: 1\nlevel: loud\nhosts: {a: b}\nconsole-url: ftp://x\nscrape-token-file: /nowhere\nsmtp: post\n" +
		"tls-cert: /nowhere\nsecret-prefix: \"\"\nlog: [text]\nlevel: info\n")
	faults := []string{file + `:1:1: "lisen" is no setting; did you mean listen?`, file + ":2:1: field level",
		file + ":3:1: field hosts", file + ":4:1: field console-url", file + ":5:1: field scrape-token-file",
		"field smtp, mail-*", "field tls-cert, tls-key", file + ":8:1: field secret-prefix", file + ":9:1: field log",
		file + ":10:1: field level: it is set in line 2 already", "10 faults in the configuration"}
	w.refuse(2, faults, "serve", "-config", file, "-data", filepath.Join(w.dir, "other"))
	w.refuse(2, faults, "config", "check", "-config", file)
	if _, err := os.Stat(filepath.Join(w.dir, "other")); !os.IsNotExist(err) {
		t.Errorf("with faults in its configuration it made its directory: %v", err)
	}
	w.refuse(1, []string{"-config", "no such file"}, "config", "check", "-config", file+".none")
	write("level: warn\ntell-hosts: [desk.example]\nhosts: quay\n")
	if said := w.must("config", "check", "-config", file); !strings.Contains(said, file+":2") {
		t.Errorf("it says:\n%s", said)
	}

	w.start("-config", file, "-level", "info")
	inForce := func() map[string]client.InForce {
		t.Helper()
		out := map[string]client.InForce{}
		for _, v := range must1[client.Items[client.InForce]](w, "config", "show").Items {
			out[v.Name] = v
		}
		return out
	}
	for name, want := range map[string][2]string{"level": {"info", "-level"}, "hosts": {"quay", file + ":3"},
		"tell-hosts": {"127.0.0.1", "-tell-hosts"}, "log": {"text", "usual"}} {
		if v := inForce()[name]; v.Text != want[0] || v.From != want[1] {
			t.Errorf("%s is %q from %q, not %v", name, v.Text, v.From, want)
		}
	}
	hangup := func(text, logged string) {
		t.Helper()
		write(text)
		before := strings.Count(w.svc.log.String(), logged)
		w.svc.cmd.Process.Signal(syscall.SIGHUP)
		w.eventually("it says "+logged, func() bool { return strings.Count(w.svc.log.String(), logged) > before })
	}
	hangup("console-url: https://cellar.example\nhosts: pier\n", "the settings were read anew")
	if got := inForce(); got["console-url"].Text != "https://cellar.example" || got["hosts"].Text != "quay" {
		t.Errorf("after that: %+v", got)
	}
	if !strings.Contains(w.svc.log.String(), "these settings are changed by a new start alone") {
		t.Errorf("it does not say what waits:\n%s", w.svc.log)
	}
	hangup("console-url: [\n", "the settings were not read anew")
	if got := inForce()["console-url"].Text; got != "https://cellar.example" {
		t.Errorf("after a broken file the console is at %q", got)
	}
	if text := w.must("recipient", "events"); !strings.Contains(text, "https://cellar.example") {
		t.Errorf("notices lead elsewhere:\n%s", text)
	}
	for range 20 { // many at once
		w.svc.cmd.Process.Signal(syscall.SIGHUP)
	}
	w.must("config", "show")
	w.refuse(2, []string{"2 faults"}, "config", "check", "-config", file, "-level", "loud")
}
