package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestAServiceManagerIsToldHowItStands: that the service is ready, again and again that it is alive, and that it stops.
func TestAServiceManagerIsToldHowItStands(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	socket := filepath.Join(dir, "notify")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	cmd := exec.Command(program, "serve", "-data", filepath.Join(dir, "data"), "-listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "NOTIFY_SOCKET="+socket, "WATCHDOG_USEC=600000")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	told := func(want string) {
		t.Helper()
		l.SetReadDeadline(time.Now().Add(30 * time.Second))
		for b := make([]byte, 256); ; {
			n, err := l.Read(b)
			if err != nil {
				t.Fatalf("it is not told %s: %v", want, err)
			}
			if string(b[:n]) == want {
				return
			}
		}
	}
	told("READY=1")
	begun := time.Now()
	for range 3 {
		told("WATCHDOG=1")
	}
	if took := time.Since(begun); took < 200*time.Millisecond {
		t.Errorf("three signs of life within %s", took)
	}
	cmd.Process.Signal(syscall.SIGTERM)
	told("STOPPING=1")
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
}

// TestAPrometheusScrapesTheService: a real one, with the alerts that ship. It sees the service, and no alert fires.
func TestAPrometheusScrapesTheService(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.stop(syscall.SIGTERM)
	token := filepath.Join(w.dir, "token")
	if err := os.WriteFile(token, []byte("gulls-above-the-quay"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.start("-scrape-token-file", token)
	alerts, err := filepath.Abs("../../deploy/prometheus/alerts.yml")
	if err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(w.dir, "prometheus.yml")
	if err := os.WriteFile(config, fmt.Appendf(nil, `global: {scrape_interval: 500ms, evaluation_interval: 500ms}
rule_files: [%q]
scrape_configs:
  - job_name: ambercellar
    authorization: {credentials_file: %q}
    static_configs: [{targets: [%q]}]
`, alerts, token, strings.TrimPrefix(w.svc.server, "http://")), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	cmd := exec.Command("prometheus", "--config.file="+config, "--storage.tsdb.path="+filepath.Join(w.dir, "tsdb"),
		"--web.listen-address="+address, "--log.level=warn")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var log strings.Builder
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatalf("a Prometheus is needed: %v", err)
	}
	defer func() {
		cmd.Process.Kill()
		cmd.Wait()
		if t.Failed() {
			t.Logf("Prometheus says:\n%s", log.String())
		}
	}()
	ask := func(path string, into any) error {
		r, err := http.Get("http://" + address + "/api/v1/" + path)
		if err != nil {
			return err
		}
		defer r.Body.Close()
		return json.NewDecoder(r.Body).Decode(into)
	}
	w.eventually("the service is seen", func() bool {
		var answer struct {
			Data struct{ Result []struct{ Value [2]any } }
		}
		return ask("query?query=min(ambercellar_up)%2Bmin(up)%2Bmin(ambercellar_store_up)", &answer) == nil &&
			len(answer.Data.Result) == 1 && answer.Data.Result[0].Value[1] == "3"
	})
	w.eventually("all alerts were looked at", func() bool {
		var answer struct {
			Data struct {
				Groups []struct {
					Rules []struct{ Name, Health, State, LastError string }
				}
			}
		}
		if err := ask("rules", &answer); err != nil || len(answer.Data.Groups) != 1 {
			return false
		}
		for _, r := range answer.Data.Groups[0].Rules {
			if r.Health == "err" || r.State == "firing" {
				t.Fatalf("alert %s is %s: %s %s", r.Name, r.State, r.Health, r.LastError)
			}
			if r.Health != "ok" {
				return false
			}
		}
		return len(answer.Data.Groups[0].Rules) > 10
	})
}
