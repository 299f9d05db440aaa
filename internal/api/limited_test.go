package api

import (
	"database/sql"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// twoPorts is a service with two sources, each with a rule, a plan, a run, a segment, a hold and a request for a
// restore; of is how the records of each source are called, by the names that routes give them.
func twoPorts(t *testing.T) (w *world, of map[string]map[string]string) {
	t.Helper()
	w, of = newWorld(t), map[string]map[string]string{}
	for _, source := range []string{"harbour", "lagoon"} {
		path := filepath.Join(t.TempDir(), source+".db")
		db, err := sql.Open("sqlite", path)
		if err != nil {
			t.Fatal(err)
		}
		_, err = db.Exec(
			"CREATE TABLE " + source + "_lamp (id integer PRIMARY KEY, lit datetime); WITH RECURSIVE s (g) AS " +
				"(SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 20) INSERT INTO " + source +
				"_lamp SELECT g, '2020-01-01' " +
				"FROM s",
		)
		if one := db.Close(); err != nil || one != nil {
			t.Fatal(err, one)
		}
		table := source + "_lamp"
		w.must(201, "POST", "/sources", m{"name": source, "engine": "sqlite", "address": path})
		w.must(
			200,
			"POST",
			"/rules",
			m{"text": "rule: " + source + "-lamps\nsource: " + source + "\ntable: " + table +
				"\nage: lit\nzone: UTC\nclauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n" +
				"pace: unlimited\n"},
		)
		plan := fmt.Sprint(w.must(201, "POST", "/plans", m{"rule": source + "-lamps", "exact": true})["id"])
		run := fmt.Sprint(w.must(202, "POST", "/runs", m{"plan": plan})["id"])
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			if r := w.must(200, "GET", "/runs/"+run, nil); r["state"] == "done" {
				break
			} else if time.Now().After(end) {
				t.Fatalf("%v", r)
			}
		}
		segment := w.must(200, "GET", "/segments?source="+source, nil)["items"].([]any)[0].(m)["id"]
		restore := w.must(202, "POST", "/restores", m{"source": source, "table": table, "scope": m{"where": "id < 5"},
			"target": "file", "format": "csv", "note": "asked for"})["id"]
		hold := w.must(201, "POST", "/holds", m{"source": source, "table": table, "segments": []any{segment},
			"reference": "case 1", "reason": "of " + source})["id"]
		verification := w.must(202, "POST", "/verifications", m{"source": source, "table": table})["id"]
		of[source] = map[string]string{
			"source":       source,
			"table":        table,
			"rule":         source + "-lamps",
			"plan":         plan,
			"run":          run,
			"segment":      fmt.Sprint(segment),
			"restore":      fmt.Sprint(restore),
			"hold":         fmt.Sprint(hold),
			"verification": fmt.Sprint(verification),
		}
	}
	return w, of
}

// Who may see one source alone is shown nothing of another one, by no route.
func TestWhoSeesOneSourceSeesNothingOfAnother(t *testing.T) {
	w, of := twoPorts(t)
	w.must(422, "POST", "/accounts", m{"name": "all-rows", "role": "none", "rows": true})
	w.must(
		422,
		"POST",
		"/accounts",
		m{"name": "nothing", "role": "viewer", "grants": m{"harbour": m{"role": "none"}}},
	)
	quay := w.account("quay", "none", `,"grants":{"harbour":{"role":"operator","rows":true}}`)
	idle := w.account("idle", "none", "")
	lists := map[string]bool{}
	for _, r := range (&API{service: w.service}).routes() {
		if r.method != http.MethodGet || r.open || r.name == "Live" || r.name == "RunEvents" {
			continue
		}
		in := func(source string) string {
			return parameter.ReplaceAllStringFunc(r.path, func(p string) string {
				if id := of[source][strings.Trim(p, "{}")]; id != "" {
					return id
				}
				return "nothing-like-it"
			})
		}
		concerned := in("harbour") != in("lagoon")
		resp, body := w.ask("GET", "/api/v1"+in("harbour"), "", "Authorization", "Bearer "+quay)
		if strings.Contains(body, "lagoon") || resp.StatusCode >= 500 {
			t.Errorf("%s: %d %s", r.path, resp.StatusCode, body)
		}
		if concerned && resp.StatusCode == 403 && r.name != "ReplacedRows" {
			t.Errorf("%s of what they may see: %s", r.path, body)
		}
		if !concerned && resp.StatusCode == 200 && strings.Contains(body, "harbour") {
			lists[r.path] = true
		}
		if concerned {
			resp, body := w.ask("GET", "/api/v1"+in("lagoon"), "", "Authorization", "Bearer "+quay)
			if resp.StatusCode != 403 {
				t.Errorf("%s of what they may not see: %d %s", r.path, resp.StatusCode, body)
			}
		}
		if resp, body := w.ask("GET", "/api/v1"+in("harbour"), "", "Authorization",
			"Bearer "+idle); resp.StatusCode != 403 && strings.Contains(body, "harbour") {
			t.Errorf("%s to who may see nothing: %d %s", r.path, resp.StatusCode, body)
		}
	}
	for _, path := range []string{"/sources", "/rules", "/plans", "/runs", "/segments", "/archived", "/restores",
		"/holds",
		"/verifications", "/session"} {
		if !lists[path] {
			t.Errorf("%s shows nothing to who may see one source", path)
		}
	}
	for _, x := range []struct {
		path string
		want int
	}{{"/runs?source=harbour", 200}, {"/runs?source=lagoon", 403}, {"/rules?source=lagoon", 403}, {"/history", 403},
		{"/audit", 403}, {"/stores", 403}, {"/status", 403}, {"/findings", 403}, {"/stores?source=harbour", 403}} {
		if got := w.status("GET", "/api/v1"+x.path, quay); got != x.want {
			t.Errorf("%s: %d", x.path, got)
		}
	}
	// what they do in their source, they see
	as := []string{"Authorization", "Bearer " + quay}
	for path, want := range map[string]int{
		`/plans {"rule":"harbour-lamps"}`:                                     201,
		`/plans {"rule":"lagoon-lamps"}`:                                      403,
		`/verifications {"source":"lagoon"}`:                                  403,
		`/rules/check {"text":"rule: x\nsource: lagoon\ntable: lagoon_lamp"}`: 403,
		`/search {"source":"lagoon","table":"lagoon_lamp","where":"id = 1"}`:  403,
	} {
		at, in, _ := strings.Cut(path, " ")
		if resp, body := w.ask("POST", "/api/v1"+at, in, as...); resp.StatusCode != want ||
			want == 403 && strings.Contains(body, "lit") {
			t.Errorf("%s: %d %s", path, resp.StatusCode, body)
		}
	}
}
