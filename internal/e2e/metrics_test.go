package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
)

// TestFiguresAreReadByWhoMay: on a listener of their own, with the token for that where there is one; what cannot be
// is refused at the start.
func TestFiguresAreReadByWhoMay(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(10)
	w.stop(syscall.SIGTERM)
	token := filepath.Join(w.dir, "scrape")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(token, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	serve := []string{"serve", "-data", filepath.Join(w.dir, "data"), "-listen", "127.0.0.1:0"}
	w.refuse(2, []string{"-metrics", "-scrape-token-file"}, append(serve, "-metrics", "0.0.0.0:0")...)
	w.refuse(1, []string{"-metrics nowhere"}, append(serve, "-metrics", "nowhere")...)
	w.refuse(2, []string{"-scrape-token-file", "no such file"}, append(serve, "-scrape-token-file", token)...)
	write("short\n")
	w.refuse(2, []string{"-scrape-token-file", "at least 16 characters"}, append(serve, "-scrape-token-file", token)...)
	write("gulls-above-the-quay\n")
	w.start("-metrics", "127.0.0.1:0", "-scrape-token-file", token)
	address := regexp.MustCompile(`http://\S+/metrics`).FindString(w.svc.said)
	get := func(url, token string) (int, string) {
		t.Helper()
		r, err := http.NewRequest("GET", url, nil)
		if err != nil {
			t.Fatal(err)
		}
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return response.StatusCode, string(text)
	}
	for _, x := range []struct {
		url, token string
		status     int
	}{
		{address, "gulls-above-the-quay", 200}, {address, "", 401}, {address, w.token, 401},
		{w.svc.server + "/metrics", "gulls-above-the-quay", 200}, {w.svc.server + "/metrics", w.token, 200},
		{w.svc.server + "/metrics", "", 401}, {w.svc.server + "/api/v1/rules", "gulls-above-the-quay", 401},
	} {
		status, text := get(x.url, x.token)
		if status != x.status || status == 200 && !strings.Contains(text, "\nambercellar_up 1\n") {
			t.Errorf("%s with %q: %d, %.200s", x.url, x.token, status, text)
		}
	}
}
