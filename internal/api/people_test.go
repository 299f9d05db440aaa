package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
)

const gulls, terns = "seven grey gulls on a pier", "four terns above the harbour"

// someone is a person in a browser: with its cookies.
type someone struct {
	*world
	name    string
	cookies map[string]string
}

// browser is a browser that nobody has signed in from.
func (w *world) browser(name string) *someone {
	return &someone{w, name, map[string]string{}}
}

// do sends a request as the browser does, from a page of the service's own, and keeps the cookies of the answer.
func (s *someone) do(method, path string, in any) (int, map[string]any) {
	s.t.Helper()
	body := ""
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			s.t.Fatal(err)
		}
		body = string(b)
	}
	var jar []string
	for name, value := range s.cookies {
		jar = append(jar, name+"="+value)
	}
	resp, text := s.ask(method, "/api/v1"+path, body, "Cookie", strings.Join(jar, "; "), "Origin", s.server.URL,
		"Sec-Fetch-Site", "same-origin", "User-Agent", "a browser")
	for _, c := range resp.Cookies() {
		if s.cookies[c.Name] = c.Value; c.MaxAge < 0 {
			delete(s.cookies, c.Name)
		}
	}
	out := map[string]any{}
	if text != "" {
		if err := json.Unmarshal([]byte(text), &out); err != nil {
			s.t.Fatalf("%s %s answers %d %s", method, path, resp.StatusCode, text)
		}
	}
	return resp.StatusCode, out
}

func (s *someone) must(status int, method, path string, in any) map[string]any {
	s.t.Helper()
	got, out := s.do(method, path, in)
	if got != status {
		s.t.Fatalf("%s as %s answers %d %v and not %d", method+" "+path, s.name, got, out, status)
	}
	return out
}

// person makes an account of a person and returns a browser in which they have signed in with a password of their own.
func (w *world) person(name, role, password string, more m) *someone {
	w.t.Helper()
	in := m{"name": name, "kind": "person", "role": role}
	for k, v := range more {
		in[k] = v
	}
	first := w.must(201, "POST", "/accounts", in)["password"]
	s := w.browser(name)
	s.must(200, "POST", "/session", m{"name": name, "password": first})
	s.must(204, "POST", "/session/password", m{"password": first, "new_password": password})
	return s
}

func TestAPersonSignsIn(t *testing.T) {
	w := newWorld(t)
	first, _ := w.must(201, "POST", "/accounts", m{"name": "nora-quay", "kind": "person",
		"role": "operator"})["password"].(string)
	if len(first) < 16 {
		t.Fatalf("the first password is %q", first)
	}
	nora := w.browser("nora-quay")
	if s := nora.must(200, "POST", "/session", m{"name": "nora-quay", "password": first}); s["must_change"] != true ||
		s["last_at"] != nil || s["token"] != nil {
		t.Errorf("%v", s)
	}
	for _, path := range []string{"/status", "/sessions", "/audit"} {
		if status, p := nora.do("GET", path, nil); status != 403 || p["field"] != "password" {
			t.Errorf("before the password is changed, %s answers %d %v", path, status, p)
		}
	}
	for password, want := range map[string]string{"short": "fewer than", strings.Repeat("a", 20): "over and over",
		"Nora-Quay is here": "account's name", "password1234": "tried first", strings.Repeat("ab ", 400): "1200 bytes",
		first: "that it was"} {
		if status, p := nora.do("POST", "/session/password", m{"password": first,
			"new_password": password}); status != 422 ||
			p["field"] != "new_password" ||
			!strings.Contains(fmt.Sprint(p["detail"]), want) {
			t.Errorf("%.20s: %d %v", password, status, p)
		}
	}
	if status, p := nora.do("POST", "/session/password", m{"password": "wrong",
		"new_password": gulls}); status != 422 ||
		p["field"] != "password" {
		t.Errorf("with another password: %d %v", status, p)
	}
	nora.must(204, "POST", "/session/password", m{"password": first, "new_password": gulls})
	nora.must(200, "GET", "/status", nil)
	if status, _ := w.browser("").do("POST", "/session", m{"name": "nora-quay", "password": first}); status != 401 {
		t.Errorf("the first password signs in again: %d", status)
	}

	// A second browser; the sign-in before is told. What the person changes ends the other sessions.
	home := w.browser("nora-quay")
	if s := home.must(200, "POST", "/session", m{"name": "nora-quay", "password": gulls}); s["last_at"] == nil ||
		s["last_from"] != "127.0.0.1" || s["must_change"] != false {
		t.Errorf("%v", s)
	}
	stale := w.browser("")
	stale.cookies[cookieName] = home.cookies[cookieName]
	home.must(200, "POST", "/session", m{"name": "nora-quay", "password": gulls}) // rotates
	if home.cookies[cookieName] == stale.cookies[cookieName] {
		t.Error("the session's secret stays the same at sign-in")
	}
	if status, _ := stale.do("GET", "/status", nil); status != 401 {
		t.Errorf("the secret of before still stands: %d", status)
	}
	if list, _ := nora.must(200, "GET", "/sessions", nil)["items"].([]any); len(list) != 2 {
		t.Errorf("%d sessions: %v", len(list), list)
	}
	home.must(204, "POST", "/session/password", m{"password": gulls, "new_password": terns})
	home.must(200, "GET", "/status", nil)
	if status, _ := nora.do("GET", "/status", nil); status != 401 {
		t.Errorf("another session outlives a changed password: %d", status)
	}
	nora.must(200, "POST", "/session", m{"name": "nora-quay", "password": terns})
	if id := nora.must(200, "GET", "/session", nil)["session"]; id == "" {
		t.Error("the session has no name")
	} else {
		home.must(204, "DELETE", fmt.Sprint("/sessions/", id), nil)
	}
	if status, _ := nora.do("GET", "/status", nil); status != 401 {
		t.Errorf("a session that was ended elsewhere: %d", status)
	}

	// What somebody may do is changed: the sessions end. Nobody ends those of others.
	other := w.person("olav-mole", "viewer", gulls, nil)
	id := fmt.Sprint(home.must(200, "GET", "/session", nil)["session"])
	if status, _ := other.do("DELETE", "/sessions/"+id, nil); status != 404 {
		t.Errorf("a session of another is ended: %d", status)
	}
	if status, _ := other.do("GET", "/sessions?all=true", nil); status != 403 {
		t.Errorf("sessions of others are listed: %d", status)
	}
	w.must(200, "PATCH", "/accounts/nora-quay", m{"role": "viewer"})
	if status, _ := home.do("GET", "/status", nil); status != 401 {
		t.Errorf("a session outlives a changed role: %d", status)
	}
	home.must(200, "POST", "/session", m{"name": "nora-quay", "password": terns})
	w.must(200, "PATCH", "/accounts/nora-quay", m{"about": "on the night shift"}) // that ends nothing
	home.must(200, "GET", "/status", nil)
	fresh := w.must(200, "POST", "/accounts/nora-quay/password", nil)["password"]
	if status, _ := home.do("GET", "/status", nil); status != 401 {
		t.Errorf("a session outlives a password that was given: %d", status)
	}
	if s := home.must(200, "POST", "/session", m{"name": "nora-quay", "password": fresh}); s["must_change"] != true {
		t.Errorf("%v", s)
	}
	w.must(200, "POST", "/accounts/nora-quay/revoke", m{"reason": "left"})
	for _, p := range []any{terns, fresh} {
		if status, _ := home.do("POST", "/session", m{"name": "nora-quay", "password": p}); status != 401 {
			t.Errorf("a revoked person signs in: %d", status)
		}
	}
}

// Who tries passwords is not heard after a few; nobody is kept out by that: neither other names, nor the person in a
// browser from which they have signed in before.
func TestWrongPasswordsLockNobodyOut(t *testing.T) {
	w := newWorld(t)
	nora := w.person("nora-quay", "operator", gulls, nil)
	nora.must(204, "DELETE", "/session", nil) // the browser stays known
	thief := w.browser("thief")
	last := 0
	for range 9 {
		last, _ = thief.do("POST", "/session", m{"name": "nora-quay", "password": "a wrong one"})
	}
	if last != 429 {
		t.Errorf("the ninth wrong password is answered with %d", last)
	}
	if status, p := thief.do("POST", "/session", m{"name": "nora-quay", "password": gulls}); status != 429 {
		t.Errorf("the right one after them, from the same place: %d %v", status, p)
	}
	nora.must(200, "POST", "/session", m{"name": "nora-quay", "password": gulls})
	w.person("olav-mole", "viewer", gulls, nil)
	for _, name := range []string{"nobody-here", "NORA-QUAY", "", strings.Repeat("x", 10_000), "\u202enora-quay",
		"nora-quay\x00"} {
		if status, p := w.browser("").do("POST", "/session", m{"name": name, "password": "x"}); status != 401 {
			t.Errorf("%.30q: %d %v", name, status, p)
		}
	}
	entries := fmt.Sprint(w.must(200, "GET", "/audit?outcome=refused&kind=session&limit=500", nil)["items"])
	if n := strings.Count(entries, "actor:nora-quay"); n != 5 || strings.Contains(entries, "\u202e") ||
		len(entries) > 20_000 {
		t.Errorf("the record has %d wrong sign-ins of nora-quay's, and 5 were heard:\n%s", n, entries)
	}
}

func TestASecondFactorIsAskedFor(t *testing.T) {
	w := newWorld(t)
	nora := w.person("nora-quay", "operator", gulls, nil)
	if status, p := nora.do("POST", "/session/second-factor", m{"password": "wrong"}); status != 422 ||
		p["field"] != "password" {
		t.Errorf("%d %v", status, p)
	}
	secret := fmt.Sprint(nora.must(200, "POST", "/session/second-factor", m{"password": gulls})["secret"])
	if status, p := nora.do("PUT", "/session/second-factor", m{"password": gulls, "secret": secret,
		"code": "000000"}); status !=
		422 ||
		p["field"] != "code" {
		t.Errorf("a wrong code: %d %v", status, p)
	}
	code := func(shift time.Duration) string {
		c, err := totp.GenerateCode(secret, time.Now().Add(shift))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	used := code(-30 * time.Second)
	nora.must(204, "PUT", "/session/second-factor", m{"password": gulls, "secret": secret, "code": used})
	phone := w.browser("nora-quay")
	if status, p := phone.do("POST", "/session", m{"name": "nora-quay", "password": gulls}); status != 401 ||
		!strings.HasSuffix(fmt.Sprint(p["type"]), ":second-factor") {
		t.Errorf("without a code: %d %v", status, p)
	}
	for _, wrong := range []string{used, "123456", "abc", code(time.Hour)} { // the first was taken once
		if status, p := phone.do("POST", "/session", m{"name": "nora-quay", "password": gulls,
			"code": wrong}); status != 401 ||
			strings.HasSuffix(fmt.Sprint(p["type"]), ":second-factor") {
			t.Errorf("code %s: %d %v", wrong, status, p)
		}
	}
	fresh := code(0)
	phone.must(200, "POST", "/session", m{"name": "nora-quay", "password": gulls, "code": fresh})
	if status, _ := w.browser("").do("POST", "/session", m{"name": "nora-quay", "password": gulls,
		"code": fresh}); status == 200 {
		t.Error("a code is taken twice")
	}
	if _, body := w.ask("GET", "/api/v1/accounts", "", "Authorization", "Bearer "+w.token); strings.Contains(
		body,
		secret,
	) {
		t.Error("the secret is shown")
	}
	// Whoever has lost it gets a new password from an administrator, and signs in with that alone.
	given := w.must(200, "POST", "/accounts/nora-quay/password", nil)["password"]
	nora.must(200, "POST", "/session", m{"name": "nora-quay", "password": given})
}

func TestTheLastAdministratorStays(t *testing.T) {
	w := newWorld(t)
	nora := w.person("nora-quay", "administrator", gulls, nil)
	for _, x := range []struct {
		method, path string
		in           m
	}{{"PATCH", "/accounts/nora-quay", m{"role": "viewer"}}, {"POST", "/accounts/nora-quay/revoke",
		m{"reason": "left"}}} {
		if status, p := nora.do(x.method, x.path, x.in); status != 422 ||
			!strings.Contains(fmt.Sprint(p["detail"]), "nobody would be left") {
			t.Errorf("%s: %d %v", x.path, status, p)
		}
	}
	nora.must(200, "GET", "/accounts", nil)
	w.person("olav-mole", "administrator", terns, nil)
	w.must(200, "PATCH", "/accounts/nora-quay", m{"role": "viewer"})
}

// Other sites change nothing with a session of ours, and sign nobody in; what is forged or cut is not let in.
func TestForgedSessionsAndOtherSites(t *testing.T) {
	w := newWorld(t)
	nora := w.person("nora-quay", "administrator", gulls, nil)
	cookie := cookieName + "=" + nora.cookies[cookieName]
	for _, header := range [][]string{{}, {"Origin", "https://elsewhere.example"}, {"Origin", "null"},
		{"Origin", w.server.URL + ".elsewhere.example"}, {"Origin", w.server.URL, "Sec-Fetch-Site", "cross-site"},
		{"Origin", w.server.URL, "Sec-Fetch-Site", "same-site"}} {
		if resp, body := w.ask("PATCH", "/api/v1/catalog/keeps", `{"batches":"P30D"}`,
			append([]string{"Cookie", cookie}, header...)...); resp.StatusCode != 401 {
			t.Errorf("%v: %d %s", header, resp.StatusCode, body)
		}
	}
	if resp, _ := w.ask("POST", "/api/v1/session", fmt.Sprintf(`{"name":"nora-quay","password":%q}`, gulls), "Origin",
		"https://elsewhere.example", "Sec-Fetch-Site", "cross-site"); resp.StatusCode != 403 ||
		len(resp.Cookies()) > 0 {
		t.Errorf("another site signs somebody in: %d", resp.StatusCode)
	}
	secret := nora.cookies[cookieName]
	for _, forged := range []string{"", secret[:len(secret)-1], secret + "A", strings.ToLower(secret),
		"'; DROP TABLE session; --",
		strings.Repeat("A", 100_000)} {
		if resp, _ := w.ask("GET", "/api/v1/status", "", "Cookie", cookieName+"="+forged); resp.StatusCode < 400 {
			t.Errorf("%.40q is let in", forged)
		}
		if resp, _ := w.ask("GET", "/api/v1/status", "", "Authorization", "Bearer "+forged); resp.StatusCode < 400 {
			t.Errorf("%.40q is let in as a token", forged)
		}
	}
	for _, path := range []string{"/api/v1/../v1/accounts", "/api/v1//accounts", "/api/v1/accounts/",
		"/api/v1/%61ccounts",
		"/API/V1/accounts", "/api/v1/accounts?token=" + w.token, "/api/v1/session/../accounts"} {
		if resp, body := w.ask("GET", path, "", "X-Original-URL", "/api/v1/session", "X-Forwarded-For",
			"127.0.0.1"); resp.StatusCode == 200 && strings.Contains(body, "nora-quay") {
			t.Errorf("%s is answered to nobody: %s", path, body)
		}
	}
}

// Passwords, tokens, session secrets and second factors are found nowhere: in no answer, log entry, or file.
func TestSecretsAreFoundNowhere(t *testing.T) {
	w := newWorld(t)
	nora := w.person("nora-quay", "administrator", gulls, nil)
	nora.do("POST", "/session/password", m{"password": terns, "new_password": gulls + " again"})
	second := fmt.Sprint(nora.must(200, "POST", "/session/second-factor", m{"password": gulls})["secret"])
	token := w.account("a-script", "viewer", "")
	w.browser("").do("POST", "/session", m{"name": "nora-quay", "password": gulls + "!"})
	w.ask("GET", "/api/v1/status", "", "Authorization", "Bearer "+token+"x")
	secrets := []string{gulls, terns, second, token, w.token, nora.cookies[cookieName], nora.cookies[browserCookie]}
	for _, path := range []string{"/accounts", "/sessions?all=true", "/audit?limit=500", "/audit/export?format=xml",
		"/session",
		"/configuration", "/support", "/status", "/catalog/backup"} {
		resp, body := w.ask("GET", "/api/v1"+path, "", "Authorization", "Bearer "+w.token)
		for _, secret := range secrets {
			if strings.Contains(body, secret) || resp.StatusCode != 200 {
				t.Errorf("%s (%d) holds %q", path, resp.StatusCode, secret)
			}
		}
	}
	err := filepath.WalkDir(w.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		for _, secret := range secrets {
			if strings.Contains(string(b), secret) {
				t.Errorf("%s holds %q", path, secret)
			}
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}

// What somebody may do in one source they may not do in others, whatever a request is about.
func TestRolesHoldInTheirSources(t *testing.T) {
	w := harbour(t)
	w.must(200, "POST", "/rules", m{"text": lampRule})
	plan := fmt.Sprint(w.must(201, "POST", "/plans", m{"rule": "lamps"})["id"])
	here := w.account("desk-here", "viewer", `,"grants":{"harbour":{"role":"operator","rows":true}}`)
	path := filepath.Join(t.TempDir(), "ferry.db")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(201, "POST", "/sources", m{"name": "ferry", "engine": "sqlite", "address": path})
	there := w.account("desk-there", "viewer", `,"grants":{"ferry":{"role":"administrator"}}`)
	as := func(token, method, path string, in any) int {
		t.Helper()
		b, err := json.Marshal(in)
		if err != nil {
			t.Fatal(err)
		}
		resp, _ := w.ask(method, "/api/v1"+path, string(b), "Authorization", "Bearer "+token)
		return resp.StatusCode
	}
	for _, x := range []struct {
		method, path string
		in           any
	}{{"POST", "/plans", m{"rule": "lamps"}}, {"GET", "/plans/" + plan + "/sample", nil},
		{"POST", "/search", m{"source": "harbour", "table": "lamp"}},
		{"POST", "/search/rows", m{"source": "harbour", "table": "lamp"}},
		{"POST", "/search/summary", m{"source": "harbour", "table": "lamp", "of": []m{{"of": "count"}}}},
		{"POST", "/restores/preview", m{"source": "harbour", "table": "lamp", "scope": m{"all": true},
			"target": "file"}},
		{"POST", "/verifications", m{"source": "harbour", "table": "lamp"}}, {"POST", "/disposals", m{"rule": "lamps"}},
		{"POST", "/erasures", m{"source": "harbour", "table": "lamp", "where": "id = 1"}},
		{"POST", "/firings", m{"rule": "lamps", "reason": "x"}}, {"POST", "/firings", m{"source": "harbour",
			"reason": "x"}},
		{"POST", "/freezes", m{"source": "harbour", "reason": "x"}},
		{"POST", "/rules/lamps/schedule/off", m{"reason": "x"}},
		{"POST", "/sources/harbour/tables/lamp/partitions", m{}}, {"POST", "/runs", m{"plan": plan}}} {
		if got := as(there, x.method, x.path, x.in); got != 403 {
			t.Errorf("%s %s from another source: %d", x.method, x.path, got)
		}
		if got := as(here, x.method, x.path, x.in); got == 403 || got == 401 || got >= 500 {
			t.Errorf("%s %s from its own source: %d", x.method, x.path, got)
		}
	}
	for _, x := range []struct {
		method, path string
		in           any
	}{{"POST", "/freezes", m{"reason": "all"}}, {"POST", "/firings", m{"reason": "all"}}, {"POST", "/verifications",
		m{}},
		{"POST", "/restores/preview", m{"source": "harbour", "table": "lamp", "scope": m{"all": true}, "target": "side",
			"target_source": "ferry"}},
		{"POST", "/restores/preview", m{"scope": m{"segment": "nothing"}, "target": "file"}},
		{"POST", "/retrievals", m{"segments": []string{"nothing"}}}, {"POST", "/stores/cellar/check", nil},
		{"POST", "/queue/jobs/verification/x/pause", nil}, {"POST", "/queue/jobs/restore/x/pause", nil},
		{"PUT", "/sources/harbour/guard", m{}}, {"POST", "/holds", m{"source": "harbour", "table": "lamp"}},
		{"POST", "/rules", m{"text": lampRule}}, {"GET", "/accounts", nil}, {"GET", "/catalog/backup", nil}} {
		if got := as(here, x.method, x.path, x.in); got != 403 {
			t.Errorf("%s %s with rights in one source: %d", x.method, x.path, got)
		}
	}
	if got := as(there, "PUT", "/sources/ferry/guard", m{}); got != 200 {
		t.Errorf("the guard rails of its own source: %d", got)
	}
	for body, field := range map[string]string{
		`{"name":"x","role":"viewer","grants":{"nowhere":{"role":"operator"}}}`:      "grants",
		`{"name":"x","role":"viewer","grants":{"harbour":{"role":"captain"}}}`:       "grants",
		`{"name":"x","role":"viewer","owner":"desk-here"}`:                           "owner",
		`{"name":"x","role":"viewer","kind":"ghost"}`:                                "kind",
		`{"name":"x","role":"viewer","email":"no address"}`:                          "email",
		`{"name":"x","role":"viewer","about":"` + strings.Repeat("y", 10_000) + `"}`: "about",
	} {
		if resp, text := w.ask("POST", "/api/v1/accounts", body, "Authorization",
			"Bearer "+w.token); resp.StatusCode != 422 ||
			!strings.Contains(text, fmt.Sprintf(`"field":%q`, field)) {
			t.Errorf("%.80s: %d %s", body, resp.StatusCode, text)
		}
	}
	w.must(
		201,
		"POST",
		"/accounts",
		m{"name": "bidi", "role": "viewer", "about": "\u202edesk\u200b of \x07the harbour"},
	)
	if text := fmt.Sprint(w.must(200, "GET", "/accounts", nil)); !strings.Contains(text, "about:desk of the harbour") {
		t.Errorf("%s", text)
	}
}

// An answer that was kept for a lost connection goes to nobody whose account has ended.
func TestAKeptAnswerEndsWithTheAccount(t *testing.T) {
	w := harbour(t)
	w.must(200, "POST", "/rules", m{"text": lampRule})
	token := w.account("a-script", "operator", "")
	plan := func() (*http.Response, string) {
		return w.ask("POST", "/api/v1/plans", `{"rule":"lamps"}`, "Authorization", "Bearer "+token, RequestHeader,
			"01M8RFWEXYBT3D5WVQY20GK97S")
	}
	first, one := plan()
	if again, same := plan(); first.StatusCode != 201 || again.StatusCode != 201 || one != same {
		t.Fatalf("%d %s, then %d %s", first.StatusCode, one, again.StatusCode, same)
	}
	w.must(200, "POST", "/accounts/a-script/revoke", m{"reason": "left"})
	if resp, body := plan(); resp.StatusCode != 401 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
}
