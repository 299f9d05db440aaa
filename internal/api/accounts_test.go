package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/core/rights"
)

// account makes an account and returns its token.
func (w *world) account(name, role, more string) string {
	w.t.Helper()
	resp, body := w.ask("POST", "/api/v1/accounts", fmt.Sprintf(`{"name":%q,"role":%q%s}`, name, role, more),
		"Authorization", "Bearer "+w.token)
	var made MadeAccount
	if err := json.Unmarshal([]byte(body), &made); err != nil || resp.StatusCode != 201 || made.Token == "" {
		w.t.Fatalf("%d %s (%v)", resp.StatusCode, body, err)
	}
	return made.Token
}

// status is what a route answers to a token; what it would answer besides is not waited for.
func (w *world) status(method, path, token string) int {
	w.t.Helper()
	ctx, cancel := context.WithCancel(w.t.Context())
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, w.server.URL+path, strings.NewReader("{}"))
	if err != nil {
		w.t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	resp.Body.Close()
	return resp.StatusCode
}

// documented are the rights of roles and those that routes need, as docs/access.md has them.
func documented(t *testing.T) (roles map[string]map[rights.Right]bool, routes map[string]rights.Right) {
	t.Helper()
	page, err := os.ReadFile("../../docs/access.md")
	if err != nil {
		t.Fatal(err)
	}
	roles, routes = map[string]map[rights.Right]bool{}, map[string]rights.Right{}
	lines := func(pattern string) [][]string {
		return regexp.MustCompile("(?m)^"+pattern).FindAllStringSubmatch(string(page), -1)
	}
	for _, m := range lines("\\| `([A-Z]+ /[^`]*)` \\| (\\S+) \\|$") {
		routes[m[1]] = rights.Right(m[2])
	}
	for _, m := range lines("\\| `([a-z]+)` \\| ([^|]+) \\|") {
		roles[m[1]] = map[rights.Right]bool{}
		for _, right := range strings.Split(m[2], ", ") {
			roles[m[1]][rights.Right(right)] = true
		}
	}
	return roles, routes
}

// TestEveryRouteAsEveryRole calls every route as every role, with and without the right to see rows, with tokens that
// do not stand, and as nobody, and compares with the tables in docs/access.md.
func TestEveryRouteAsEveryRole(t *testing.T) {
	w := newWorld(t)
	roles, table := documented(t)
	tokens := map[string]string{"nobody": "", "nonsense": "amber_NONSENSE", "administrator's token": w.token,
		"revoked": w.account("gone", "administrator", ""), "expired": w.account("late", "administrator",
			fmt.Sprintf(`,"expires":%q`, time.Now().Add(time.Second).UTC().Format(time.RFC3339Nano)))}
	tokens["without scope"] = w.account("no-scope", "none", "")
	may := map[string]map[rights.Right]bool{"administrator's token": {}, "without scope": {}}
	for _, right := range rights.Rights {
		may["administrator's token"][right] = true
	}
	for _, role := range rights.Roles[1:] { // who has none sees single sources at the most
		if len(roles[string(role)]) == 0 {
			t.Fatalf("docs/access.md says nothing of %s", role)
		}
		tokens[string(role)], may[string(role)] = w.account(string(role)+"-1", string(role), ""), roles[string(role)]
		with := map[rights.Right]bool{rights.Rows: true}
		for right := range roles[string(role)] {
			with[right] = true
		}
		tokens[string(role)+" with rows"] = w.account(string(role)+"-2", string(role), `,"rows":true`)
		may[string(role)+" with rows"] = with
	}
	if resp, body := w.ask("POST", "/api/v1/accounts/gone/revoke", `{"reason":"left"}`, "Authorization",
		"Bearer "+w.token); resp.StatusCode != 200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	time.Sleep(1100 * time.Millisecond) // until the one account has expired
	var want strings.Builder
	var all sync.WaitGroup
	for _, r := range (&API{service: w.service}).routes() {
		key := r.method + " " + r.path
		if !r.open {
			fmt.Fprintf(&want, "| `%s` | %s |\n", key, r.right())
		}
		for who, token := range tokens {
			all.Go(func() {
				got := w.status(r.method, "/api/v1"+parameter.ReplaceAllString(r.path, "nothing-like-it"), token)
				switch {
				case r.open: // whoever asks
				case who == "without scope" && slices.Contains(anybodys, r.name):
					if got == 401 || got >= 500 {
						t.Errorf("%s as %s: %d", key, who, got)
					}
				case may[who] == nil:
					if got != 401 {
						t.Errorf("%s as %s: %d", key, who, got)
					}
				case may[who][table[key]] == (got == 403):
					t.Errorf("%s as %s: %d, and docs/access.md says that it needs %q", key, who, got, table[key])
				case got == 401 || got >= 500:
					t.Errorf("%s as %s: %d", key, who, got)
				}
			})
		}
	}
	all.Wait()
	if page, err := os.ReadFile("../../docs/access.md"); err != nil || !strings.Contains(string(page), want.String()) {
		t.Errorf("the table of routes in docs/access.md should be (%v):\n%s", err, want.String())
	}
}

// What somebody does stands in the record under the account's name; a session is the account's, and ends with it.
func TestAnAccountIsWhoDidIt(t *testing.T) {
	w := newWorld(t)
	bearer := func(token string) []string { return []string{"Authorization", "Bearer " + token} }
	ruler := w.account("harbour-desk", "administrator", "")
	if resp, body := w.ask("PATCH", "/api/v1/catalog/keeps", `{"batches":"P30D"}`, bearer(ruler)...); resp.StatusCode !=
		200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if _, body := w.ask("GET", "/api/v1/audit", "", bearer(w.token)...); !strings.Contains(body, "harbour-desk") {
		t.Errorf("the record does not name the account:\n%s", body)
	}
	viewer := w.account("harbour-view", "viewer", `,"expires":"P30D"`)
	resp, body := w.ask("POST", "/api/v1/session", fmt.Sprintf(`{"token":%q}`, viewer))
	if resp.StatusCode != 200 || len(resp.Cookies()) != 1 || !strings.Contains(body, `"rights":["see"]`) {
		t.Fatalf("sign-in: %d %s", resp.StatusCode, body)
	}
	cookie := "ambercellar_session=" + resp.Cookies()[0].Value
	if resp, body := w.ask("GET", "/api/v1/session", "", "Cookie", cookie); resp.StatusCode != 200 ||
		!strings.Contains(body, "harbour-view") {
		t.Errorf("who is signed in: %d %s", resp.StatusCode, body)
	}
	if resp, body := w.ask("POST", "/api/v1/plans", `{"rule":"scans"}`, "Cookie", cookie, "Origin",
		w.server.URL); resp.StatusCode != 403 || !strings.Contains(body, "harbour-view is viewer and may not plan") {
		t.Errorf("a viewer plans: %d %s", resp.StatusCode, body)
	}
	if resp, body := w.ask("GET", "/api/v1/accounts", "", bearer(w.token)...); strings.Contains(body, viewer) ||
		!strings.Contains(body, `"used_from":"127.0.0.1"`) {
		t.Errorf("the accounts: %d %s", resp.StatusCode, body)
	}
	if resp, body := w.ask("POST", "/api/v1/accounts/harbour-view/revoke", `{"reason":" "}`,
		bearer(w.token)...); resp.StatusCode != 422 {
		t.Errorf("revoked without a reason: %d %s", resp.StatusCode, body)
	}
	w.ask("POST", "/api/v1/accounts/harbour-view/revoke", `{"reason":"left the harbour"}`, bearer(w.token)...)
	for _, header := range [][]string{{"Cookie", cookie}, bearer(viewer)} {
		if resp, _ := w.ask("GET", "/api/v1/status", "", header...); resp.StatusCode != 401 {
			t.Errorf("after it was revoked, %s is answered with %d", header[0], resp.StatusCode)
		}
	}
	streams := w.account("harbour-screen", "viewer", "")
	ended := make(chan error, 1)
	go func() {
		req, err := http.NewRequestWithContext(t.Context(), "GET", w.server.URL+"/api/v1/events", nil)
		if err == nil {
			req.Header.Set("Authorization", "Bearer "+streams)
			var resp *http.Response
			if resp, err = http.DefaultClient.Do(req); err == nil {
				_, err = io.Copy(io.Discard, resp.Body)
			}
		}
		ended <- err
	}()
	time.Sleep(300 * time.Millisecond)
	w.ask("POST", "/api/v1/accounts/harbour-screen/revoke", `{"reason":"sold"}`, bearer(w.token)...)
	select {
	case <-ended:
	case <-time.After(3 * standsEvery):
		t.Error("what happens goes on flowing to an account that was revoked")
	}
	for body, field := range map[string]string{
		`{"name":"harbour-view","role":"viewer"}`: "name", `{"name":"Harbour View","role":"viewer"}`: "name",
		`{"name":"administrator","role":"viewer"}`: "name", `{"name":"x","role":"captain"}`: "role",
		`{"name":"x","role":"viewer","expires":"2001-01-01"}`: "expires",
		`{"name":"x","role":"viewer","expires":"soon"}`:       "expires",
	} {
		if resp, text := w.ask("POST", "/api/v1/accounts", body, bearer(w.token)...); resp.StatusCode != 422 ||
			!strings.Contains(text, fmt.Sprintf(`"field":%q`, field)) {
			t.Errorf("%s: %d %s", body, resp.StatusCode, text)
		}
	}
	w.ask("PATCH", "/api/v1/catalog/keeps", `{"batches":"P31D"}`, bearer(ruler)...)
	if _, err := w.service.Access.NewToken(t.Context()); err != nil {
		t.Fatal(err)
	}
	if resp, _ := w.ask("GET", "/api/v1/status", "", bearer(ruler)...); resp.StatusCode != 200 {
		t.Error("a new administrator's token ends accounts")
	}
}
