package api

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	_ "modernc.org/sqlite"
)

// call sends a request of the interface and returns the status and the answer.
func (w *world) call(method, path string, in any) (int, map[string]any) {
	w.t.Helper()
	body := ""
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			w.t.Fatal(err)
		}
		body = string(b)
	}
	resp, text := w.ask(method, "/api/v1"+path, body, "Authorization", "Bearer "+w.token, "Content-Type",
		"application/json")
	out := map[string]any{}
	if text != "" {
		if err := json.Unmarshal([]byte(text), &out); err != nil {
			w.t.Fatalf("%s %s answers %d %s", method, path, resp.StatusCode, text)
		}
	}
	return resp.StatusCode, out
}

// must is call, where the status has to be the one that is given.
func (w *world) must(status int, method, path string, in any) map[string]any {
	w.t.Helper()
	got, out := w.call(method, path, in)
	if got != status {
		w.t.Fatalf("%s %s answers %d %v and not %d", method, path, got, out, status)
	}
	return out
}

type m = map[string]any

const lampRule = "rule: lamps\nsource: harbour\ntable: lamp\nage: lit\nzone: UTC\nclauses:\n  - where: colour = " +
	"'red'\n    keep: P1Y\n  - keep: P2Y\n    otherwise: true\nthen: archive\narchive: {store: cellar}\npace: " +
	"unlimited\n"

// harbour adds a source of 200 lamps, one lit each day from 2020-01-01 on, every fourth of them red.
func harbour(t *testing.T) *world {
	t.Helper()
	path := filepath.Join(t.TempDir(), "harbour.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("PRAGMA journal_mode = wal; CREATE TABLE lamp (id integer PRIMARY KEY, lit datetime, " +
		"colour text); CREATE INDEX lamp_lit ON lamp (lit);" +
		"WITH RECURSIVE s (g) AS (SELECT 1 UNION ALL SELECT g + 1 FROM s WHERE g < 200) INSERT INTO lamp SELECT g, " +
		"datetime('2020-01-01', '+' || g || ' days'), CASE WHEN g % 4 = 0 THEN 'red' ELSE 'white' END " +
		"FROM s"); err != nil {
		t.Fatal(err)
	}
	w := newWorld(t)
	w.must(201, "POST", "/sources", m{"name": "harbour", "engine": "sqlite", "address": path})
	w.must(200, "POST", "/rules", m{"text": lampRule})
	return w
}

func TestHoldsOverHTTP(t *testing.T) {
	w := harbour(t)
	hold := m{"source": "harbour", "table": "lamp", "where": "id <= 10", "reference": "case 1", "reason": "asked"}
	placed := w.must(201, "POST", "/holds", hold)
	if placed["rows"] != 10.0 || placed["filter"] != "id <= 10" {
		t.Errorf("placed: %v", placed)
	}
	if list := w.must(200, "GET", "/holds", nil)["items"].([]any); len(list) != 1 {
		t.Errorf("holds: %v", list)
	}
	plan := w.must(201, "POST", "/plans", m{"rule": "lamps", "exact": true})["counts"].(m)
	if plan["due"] != 190.0 || plan["held"] != 10.0 {
		t.Errorf("the plan counts %v", plan)
	}
	for name, x := range map[string]struct {
		change m
		status int
		part   string
	}{
		"no reason":             {m{"reason": " "}, 422, "the reason is missing"},
		"no reference":          {m{"reference": ""}, 422, "the reference is missing"},
		"nothing":               {m{"where": ""}, 422, "exactly one of"},
		"a filter and keys":     {m{"keys": []string{"1"}}, 422, "exactly one of"},
		"a filter for nobody":   {m{"where": "id = 99999"}, 422, "holds nothing"},
		"a filter that is none": {m{"where": "id < 3 AND id > 5"}, 422, "no row can satisfy"},
		"a column that is none": {m{"where": "colr = 'red'"}, 422, "did you mean colour?"},
		"a table that is none":  {m{"table": "lantern"}, 404, "lantern"},
		"a source that is none": {m{"source": "port"}, 404, "port"},
		"a segment that is not": {m{"where": "", "segments": []string{"x"}}, 404, "x"},
		"a key that is none":    {m{"where": "", "keys": []string{"red"}}, 422, "red"},
		"a field that is none":  {m{"becaus": "x"}, 400, "becaus"},
	} {
		in := m{}
		for k, v := range hold {
			in[k] = v
		}
		for k, v := range x.change {
			in[k] = v
		}
		status, out := w.call("POST", "/holds", in)
		if status != x.status || !strings.Contains(fmt.Sprint(out), x.part) {
			t.Errorf("%s: %d %v, and not %d with %q", name, status, out, x.status, x.part)
		}
	}
	id := placed["id"].(string)
	if status, out := w.call("POST", "/holds/"+id+"/lift", m{"reason": ""}); status != 422 {
		t.Errorf("lifted without a reason: %d %v", status, out)
	}
	if lifted := w.must(200, "POST", "/holds/"+id+"/lift",
		m{"reason": "settled"}); lifted["lift_reason"] != "settled" {
		t.Errorf("lifted: %v", lifted)
	}
	if status, out := w.call("POST", "/holds/"+id+"/lift", m{"reason": "again"}); status < 400 {
		t.Errorf("lifted twice: %d %v", status, out)
	}
	w.must(404, "GET", "/holds/nothing", nil)
	if list := w.must(200, "GET", "/holds", nil)["items"].([]any); len(list) != 0 {
		t.Errorf("holds that stand: %v", list)
	}
	if list := w.must(200, "GET", "/holds?all=true", nil)["items"].([]any); len(list) != 1 {
		t.Errorf("all holds: %v", list)
	}
}

func TestPreviewsComparisonsAndForecastsOverHTTP(t *testing.T) {
	w := harbour(t)
	for _, exact := range []bool{false, true} {
		plan := w.must(200, "POST", "/rules/preview", m{"text": lampRule, "exact": exact})["plan"].(m)
		counts := plan["counts"].(m)
		if counts["due"] != 200.0 || counts["counted"] != true || len(counts["clauses"].([]any)) != 2 {
			t.Errorf("the preview counts %v", counts)
		}
	}
	form := w.must(200, "POST", "/rules/preview", m{"text": lampRule})["rule"]
	if text := w.must(200, "POST", "/rules/preview", m{"rule": form})["text"].(string); !strings.Contains(text,
		"where: colour = 'red'") || !strings.Contains(text, "keep: P1Y") {
		t.Errorf("the form is written as\n%s", text)
	}
	mistake := w.must(200, "POST", "/rules/preview",
		m{"text": strings.Replace(lampRule, "colour = 'red'", "colour = 5", 1)})
	if mistake["plan"] != nil || !strings.Contains(fmt.Sprint(mistake["problems"]), "is compared with 5") {
		t.Errorf("a mistake is previewed as %v", mistake)
	}
	compared := w.must(200, "POST", "/rules/compare",
		m{"file": "f", "text": strings.Replace(lampRule, "keep: P1Y", "keep: forever", 1)})["rules"].([]any)[0].(m)
	if compared["lost"] != 50.0 || compared["gained"] != 0.0 || compared["both"] != 150.0 {
		t.Errorf("compared: %v", compared)
	}
	if status, out := w.call("POST", "/rules/compare", m{"text": "rule: x\n"}); status != 422 {
		t.Errorf("half a rule is compared: %d %v", status, out)
	}
	if lines := w.must(200, "GET", "/rules/lamps/forecast?months=3", nil)["items"].([]any); len(lines) != 4 ||
		lines[0].(m)["rows"] != 200.0 {
		t.Errorf("forecast: %v", lines)
	}
	for _, months := range []string{"0", "121", "x"} {
		w.must(422, "GET", "/rules/lamps/forecast?months="+months, nil)
	}
	w.must(404, "GET", "/rules/nothing/forecast", nil)
	if status, _ := w.call("GET", "/plans/counting/nothing", nil); status != 404 {
		t.Errorf("a plan that nobody makes is being counted: %d", status)
	}
}

func TestGuardRailsAndFiltersOverHTTP(t *testing.T) {
	w := harbour(t)
	w.must(200, "PUT", "/sources/harbour/guard", m{"live": "P3Y"})
	if g := w.must(200, "GET", "/sources/harbour/guard", nil); g["live"] != "P3Y" {
		t.Errorf("guard rails: %v", g)
	}
	if status, out := w.call("POST", "/plans", m{"rule": "lamps"}); status != 422 ||
		!strings.Contains(fmt.Sprint(out), "guard rails") {
		t.Errorf("a plan beyond the guard rails: %d %v", status, out)
	}
	if plan := w.must(201, "POST", "/plans",
		m{"rule": "lamps", "override": "an order of the court"})["detail"].(m); plan["override"] !=
		"an order of the court" {
		t.Errorf("an override: %v", plan)
	}
	w.must(404, "PUT", "/sources/port/guard", m{})
	w.must(404, "GET", "/sources/port/guard", nil)
	if status, out := w.call("PUT", "/sources/harbour/guard", m{"live": "three years or so"}); status < 400 ||
		status > 499 {
		t.Errorf("a guard rail that is no duration: %d %v", status, out)
	}
	check := func(where string) m {
		return w.must(200, "POST", "/filters/check", m{"source": "harbour", "table": "lamp", "where": where})
	}
	if out := check("  colour='red'and id in(1 , 2)"); out["printed"] != "colour = 'red' AND id IN (1, 2)" {
		t.Errorf("printed: %v", out)
	}
	for where, part := range map[string]string{
		"colour = 'red": "quote", "colour LIKE 5": "LIKE", "id LIKE 'x'": "LIKE", strings.Repeat("(", 10_000) +
			"id = 1": "levels", "id = 1 OR " + strings.Repeat("id = 1 OR ", 10_000) + "id = 2": "65536",
		"": "", "id = 1 AND id = 2": "no row can satisfy", "id = 1; DROP TABLE lamp": ";",
	} {
		out := check(where)
		if problems := out["problems"].([]any); len(problems) == 0 || !strings.Contains(fmt.Sprint(problems), part) {
			t.Errorf("%.40q: %.200v, and nothing of %q", where, out, part)
		}
	}
	if plan := w.must(201, "POST", "/plans",
		m{"rule": "lamps", "override": "x", "exact": true})["counts"].(m); plan["total"] != 200.0 {
		t.Errorf("after all that the table holds %v", plan["total"])
	}
}
