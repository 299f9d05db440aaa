package api

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

// A command line comes in as who confirms its code in the console: once, and nobody else.
func TestACommandLineIsSignedInByTheConsole(t *testing.T) {
	w := newWorld(t)
	nora := w.person("nora-quay", "operator", gulls, nil)
	open := func(path string, in m) (int, m) {
		t.Helper()
		b, err := json.Marshal(in)
		if err != nil {
			t.Fatal(err)
		}
		resp, body := w.ask("POST", "/api/v1"+path, string(b))
		out := m{}
		if err := json.Unmarshal([]byte(body), &out); err != nil {
			t.Fatal(body)
		}
		return resp.StatusCode, out
	}
	begin := func() m {
		t.Helper()
		status, p := open("/session/pairing", nil)
		if status != 200 || len(p["code"].(string)) != 9 || len(p["secret"].(string)) < 20 {
			t.Fatalf("%d %v", status, p)
		}
		return p
	}
	take := func(p m) (int, m) {
		return open("/session/pairing/session", m{"code": p["code"], "secret": p["secret"]})
	}
	p, other := begin(), begin()
	if status, s := take(p); status != 200 || s["waits"] != true || s["session"] != nil {
		t.Errorf("before it is confirmed: %d %v", status, s)
	}
	code := strings.ToLower(strings.ReplaceAll(p["code"].(string), "-", "")) // as people write it
	nora.must(204, "POST", "/session/pairing/confirmation", m{"code": " " + code})
	if status, s := nora.do("POST", "/session/pairing/confirmation", m{"code": code}); status != 422 {
		t.Errorf("confirmed twice: %d %v", status, s)
	}
	for name, wrong := range map[string]m{"another secret": {"code": p["code"], "secret": other["secret"]},
		"no secret": {"code": p["code"]}, "another code": {"code": "AAAA-AAAA", "secret": p["secret"]}} {
		if status, s := take(wrong); status != 422 {
			t.Errorf("%s: %d %v", name, status, s)
		}
	}
	if status, s := take(other); status != 200 || s["waits"] != true {
		t.Errorf("the other one: %d %v", status, s)
	}
	status, s := take(p)
	session, _ := s["session"].(m)
	token := fmt.Sprint(session["token"])
	if status != 200 || session["actor"] != "nora-quay" || session["role"] != "operator" ||
		w.status("GET", "/api/v1/status", token) != 200 || w.status("GET", "/api/v1/accounts", token) != 403 {
		t.Fatalf("%d %v", status, s)
	}
	if status, s := take(p); status != 422 {
		t.Errorf("taken twice: %d %v", status, s)
	}
	if list := w.entries("action=session+pair", w.token); len(list) != 1 || list[0].Actor != "nora-quay" {
		t.Errorf("%+v", list)
	}
	// it is a session like others: listed, and ended with the account's password
	nora.must(204, "POST", "/session/password", m{"password": gulls, "new_password": terns})
	if got := w.status("GET", "/api/v1/status", token); got != 401 {
		t.Errorf("after another password: %d", got)
	}
	// who is no person in the console confirms nothing; an account that ends meanwhile comes in no more
	for _, token := range []string{w.token, w.account("a-script", "administrator", "")} {
		in := fmt.Sprintf(`{"code":%q}`, other["code"])
		if resp, body := w.ask("POST", "/api/v1/session/pairing/confirmation", in, "Authorization",
			"Bearer "+token); resp.StatusCode != 422 {
			t.Errorf("%d %s", resp.StatusCode, body)
		}
	}
	mia := w.person("mia-mate", "viewer", gulls, nil)
	mia.must(204, "POST", "/session/pairing/confirmation", m{"code": other["code"]})
	w.must(200, "POST", "/accounts/mia-mate/revoke", m{"reason": "left"})
	if status, s := take(other); status != 422 || s["session"] != nil {
		t.Errorf("an account that has ended: %d %v", status, s)
	}
	// codes are guessed by nobody, and one address does not take them all
	olav := w.person("olav", "viewer", gulls, nil)
	for i := range 8 {
		status, s := olav.do("POST", "/session/pairing/confirmation", m{"code": fmt.Sprintf("ABCD-EFG%d", i+2)})
		if want := map[bool]int{true: 422, false: 429}[i < 5]; status != want {
			t.Errorf("guess %d: %d %v", i, status, s)
		}
	}
	for range 18 {
		begin()
	}
	begin()
	if status, s := open("/session/pairing", nil); status != 429 && status != 200 {
		t.Errorf("%d %v", status, s)
	}
	for i := range 5 {
		if status, _ := open("/session/pairing", nil); i == 4 && status != 429 {
			t.Errorf("one address takes them all: %d", status)
		}
	}
}
