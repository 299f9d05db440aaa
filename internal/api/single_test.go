package api

import (
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/service"
	"ambercellar/internal/standin"
)

// issued is a service with a stand-in identity provider.
type issued struct {
	*world
	provider *standin.Identity
}

func newIssued(t *testing.T, roles ...string) *issued {
	t.Helper()
	w := harbour(t)
	p := &standin.Identity{Client: "ambercellar", Secret: "the client's secret", People: map[string]standin.Identified{
		"Nora Quay":     {Subject: "s-1", Name: "Nora Quay", Email: "nora@harbour.example", Groups: []string{"dba"}},
		"olav":          {Subject: "s-2", Name: "Olav", Groups: []string{"desk", "harbour-desk"}},
		"stranger":      {Subject: "s-3", Groups: []string{"cooks"}},
		"administrator": {Subject: "s-4", Groups: []string{"desk"}}}}
	server := httptest.NewServer(p)
	t.Cleanup(server.Close)
	p.Address = server.URL
	file := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(file, []byte(p.Secret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	mapped, err := service.ParseGroupRoles(roles)
	if err != nil {
		t.Fatal(err)
	}
	w.service.Access.SetSingle(
		service.Single{Issuer: p.Address, Client: p.Client, SecretFile: file, Console: w.server.URL,
			Groups: "groups", Roles: mapped},
	)
	return &issued{w, p}
}

// comer is a browser that follows where it is sent; as chooses who it is at the provider.
func (w *issued) comer(as string) *http.Client {
	jar, err := cookiejar.New(nil)
	if err != nil {
		w.t.Fatal(err)
	}
	return &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if r.URL.Path == "/authorize" && as != "" {
			q := r.URL.Query()
			q.Set("person", as)
			r.URL.RawQuery = q.Encode()
		}
		return nil
	}}
}

func (w *issued) get(c *http.Client, address string) (*http.Response, string) {
	w.t.Helper()
	resp, err := c.Get(address)
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return resp, string(b)
}

func (w *issued) begin() string { return w.server.URL + "/api/v1/session/single" }

func TestSingleSignOn(t *testing.T) {
	w := newIssued(t, "dba=administrator", "desk=viewer", "harbour-desk@harbour=operator+rows")
	if _, body := w.ask("GET", "/api/v1/session/ways", ""); !strings.Contains(body, `"single":true`) {
		t.Errorf("%s", body)
	}
	nora := w.comer("Nora Quay")
	if resp, body := w.get(nora, w.begin()); resp.StatusCode != 200 || !strings.Contains(body, "You are signed in") ||
		resp.Header.Get("Refresh") != "0; url=/" {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if _, body := w.get(nora, w.server.URL+"/api/v1/session"); !strings.Contains(body, `"actor":"nora-quay"`) ||
		!strings.Contains(body, `"role":"administrator"`) {
		t.Errorf("%s", body)
	}
	olav := w.comer("olav")
	w.get(olav, w.begin())
	if _, body := w.get(olav, w.server.URL+"/api/v1/session"); !strings.Contains(body,
		`"grants":{"harbour":{"role":"operator","rows":true}}`) || !strings.Contains(body, `"role":"viewer"`) {
		t.Errorf("%s", body)
	}
	// What the groups may do holds from the next sign-in on, and sessions of before end.
	x := w.provider.People["olav"]
	x.Groups = []string{"desk"}
	w.provider.People["olav"] = x
	w.get(w.comer("olav"), w.begin())
	if resp, _ := w.get(olav, w.server.URL+"/api/v1/status"); resp.StatusCode != 401 {
		t.Errorf("a session outlives a group: %d", resp.StatusCode)
	}
	if list := fmt.Sprint(w.must(200, "GET", "/accounts", nil)); strings.Count(list, "name:olav") != 1 {
		t.Errorf("%s", list)
	}
	w.get(w.comer("administrator"), w.begin())
	if list := fmt.Sprint(w.must(200, "GET", "/accounts", nil)); !strings.Contains(list, "name:administrator-person") {
		t.Errorf("%s", list)
	}
	w.must(200, "POST", "/accounts/olav/revoke", m{"reason": "left"})
	if resp, body := w.get(w.comer("olav"), w.begin()); resp.StatusCode != 422 || !strings.Contains(body, "has ended") {
		t.Errorf("a revoked account comes in: %d %s", resp.StatusCode, body)
	}
	if resp, body := w.get(w.comer("stranger"), w.begin()); resp.StatusCode != 422 ||
		!strings.Contains(body, "none of the groups") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	log := fmt.Sprint(w.entries("kind=session", w.token))
	for _, want := range []string{"by single sign-on", "none of the groups", "has ended"} {
		if !strings.Contains(log, want) {
			t.Errorf("the record does not say %q: %s", want, log)
		}
	}
}

// Without a mapping, only who has an account with the identity comes in.
func TestSingleSignOnOfAccounts(t *testing.T) {
	w := newIssued(t)
	if resp, body := w.get(w.comer("olav"), w.begin()); resp.StatusCode != 422 ||
		!strings.Contains(body, "nobody here is known") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	made := w.must(201, "POST", "/accounts", m{"name": "olav-mole", "kind": "person", "role": "operator",
		"issuer": w.provider.Address, "identity": "s-2"})
	if made["password"] != "" {
		t.Errorf("%v", made)
	}
	c := w.comer("olav")
	w.get(c, w.begin())
	if _, body := w.get(c, w.server.URL+"/api/v1/session"); !strings.Contains(body, `"actor":"olav-mole"`) {
		t.Errorf("%s", body)
	}
	if status, _ := w.browser("").do("POST", "/session", m{"name": "olav-mole", "password": ""}); status != 401 {
		t.Errorf("who has no password signs in with none: %d", status)
	}
}

// Answers that are forged, replayed, expired, of another client, another sign-in or another browser let nobody in.
func TestWrongAnswersOfTheIssuer(t *testing.T) {
	w := newIssued(t, "dba=administrator")
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	for name, alter := range map[string]func(map[string]any){
		"expired":             func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"of another client":   func(c map[string]any) { c["aud"] = "another" },
		"of another issuer":   func(c map[string]any) { c["iss"] = "https://elsewhere.example" },
		"of another sign-in":  func(c map[string]any) { c["nonce"] = "another" },
		"without a nonce":     func(c map[string]any) { delete(c, "nonce") },
		"with a strange type": func(c map[string]any) { c["groups"] = map[string]any{"dba": true} },
		"with no group":       func(c map[string]any) { delete(c, "groups") },
	} {
		w.provider.Alter = alter
		c := w.comer("Nora Quay")
		if resp, body := w.get(c, w.begin()); resp.StatusCode == 200 {
			t.Errorf("an answer %s: %s", name, body)
		}
		if resp, _ := w.get(c, w.server.URL+"/api/v1/status"); resp.StatusCode != 401 {
			t.Errorf("an answer %s lets somebody in", name)
		}
	}
	w.provider.Alter, w.provider.Forge = nil, other
	if resp, body := w.get(w.comer("Nora Quay"), w.begin()); resp.StatusCode == 200 {
		t.Errorf("a forged answer: %s", body)
	}
	w.provider.Forge = nil

	// Where the provider sends one browser back to, another one does not come in, and nobody twice.
	caught := ""
	c := w.comer("Nora Quay")
	inner := c.CheckRedirect
	c.CheckRedirect = func(r *http.Request, via []*http.Request) error {
		if strings.HasSuffix(r.URL.Path, "/back") {
			caught = r.URL.String()
			return http.ErrUseLastResponse
		}
		return inner(r, via)
	}
	w.get(c, w.begin())
	if resp, body := w.get(http.DefaultClient, caught); resp.StatusCode != 422 ||
		!strings.Contains(body, "another browser") {
		t.Errorf("from another browser: %d %s", resp.StatusCode, body)
	}
	if resp, body := w.get(c, caught); resp.StatusCode != 422 || !strings.Contains(body, "is not known") {
		t.Errorf("once it was tried from another one: %d %s", resp.StatusCode, body)
	}
	d := w.comer("Nora Quay")
	w.get(d, w.begin())
	for _, query := range []url.Values{{}, {"state": {"x"}, "code": {"y"}}, {"error": {"<script>alert(1)</script>"}}} {
		if resp, body := w.get(d, w.begin()+"/back?"+query.Encode()); resp.StatusCode != 422 ||
			strings.Contains(body, "<script>") {
			t.Errorf("%v: %d %s", query, resp.StatusCode, body)
		}
	}
	w.service.Access.SetSingle(service.Single{Issuer: "http://127.0.0.1:1", Client: "x", Console: w.server.URL})
	if resp, body := w.get(w.comer(""), w.begin()); resp.StatusCode != 422 ||
		!strings.Contains(body, "does not answer") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	w.service.Access.SetSingle(service.Single{})
	if resp, body := w.get(w.comer(""), w.begin()); resp.StatusCode != 422 ||
		!strings.Contains(body, "no single sign-on") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	for _, text := range []string{"", "dba", "=viewer", "dba=captain", "dba=viewer+columns"} {
		if x, err := service.ParseGroupRoles([]string{text}); err == nil {
			t.Errorf("%q is %+v", text, x)
		}
	}
}
