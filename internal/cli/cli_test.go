package cli_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/local"

	"ambercellar/client"
)

// answers is a server that gives fixed answers, by method and path.
func answers(t *testing.T, fixed map[string]any) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer amber_x" {
			t.Errorf("%s %s came with the authorization %q", r.Method, r.URL, r.Header.Get("Authorization"))
		}
		answer, ok := fixed[r.Method+" "+strings.TrimPrefix(r.URL.EscapedPath(), "/api/v1")]
		if !ok {
			t.Errorf("nobody should ask for %s %s", r.Method, r.URL)
		}
		if p, ok := answer.(client.Problem); ok {
			w.WriteHeader(p.Status)
		}
		json.NewEncoder(w).Encode(answer)
	}))
	t.Cleanup(s.Close)
	t.Setenv("AMBERCELLAR_SERVER", s.URL)
	t.Setenv("AMBERCELLAR_TOKEN", "amber_x")
	return s.URL
}

func invoke(args ...string) (out, errOut string, status int) {
	var o, e bytes.Buffer
	status = local.Program().Run(context.Background(), args, strings.NewReader("rule: from-stdin\n"), &o, &e)
	return o.String(), e.String(), status
}

var aSegment = client.Segment{ID: "01SEG", Run: "01RUN", Number: 1, Source: "harbour", Table: "scan, \"odd\"",
	Store: "cellar", State: client.SegmentClosed, Rows: 1200, Deleted: 1199, Changed: 1, RawBytes: 4096,
	FileBytes: 1024,
	Oldest:    "2020-01-01", Newest: "2020-02-01", CreatedAt: time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)}

func TestAListingComesAsTableJSONAndCSV(t *testing.T) {
	answers(t, map[string]any{"GET /segments": client.Items[client.Segment]{Items: []client.Segment{aSegment}}})
	out, _, status := invoke("segment", "list")
	lines := strings.Split(out, "\n")
	if status != 0 || !strings.HasPrefix(lines[0], "SEGMENT  TABLE") || !strings.Contains(lines[1], "1,199") ||
		!strings.Contains(lines[1], "1.0 KiB") {
		t.Errorf("table, status %d:\n%s", status, out)
	}
	out, _, status = invoke("segment", "list", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	if status != 0 || err != nil || len(rows) != 2 || rows[1][1] != `harbour.scan, "odd"` {
		t.Errorf("csv, status %d, %v:\n%s", status, err, out)
	}
	out, _, status = invoke("segment", "-o", "json", "list")
	if status != 2 {
		t.Errorf("a flag within a command's name passed with status %d:\n%s", status, out)
	}
	out, _, status = invoke("segment", "list", "-o=json")
	var back client.Items[client.Segment]
	if err := json.Unmarshal([]byte(out), &back); status != 0 || err != nil || back.Items[0].ID != "01SEG" ||
		back.Items[0].Deleted != 1199 {
		t.Errorf("json, status %d, %v:\n%s", status, err, out)
	}
}

func TestAnEmptyListingSaysSo(t *testing.T) {
	answers(t, map[string]any{"GET /restores": client.Items[client.Restore]{Items: []client.Restore{}}})
	if out, _, status := invoke("restore", "list"); status != 0 || !strings.Contains(out, "(none)") {
		t.Errorf("status %d:\n%s", status, out)
	}
	if out, _, _ := invoke("restore", "list", "-o", "csv"); strings.Contains(out, "none") ||
		!strings.HasPrefix(out, "restore,table") {
		t.Errorf("csv of nothing:\n%s", out)
	}
}

func TestFlagsMayStandBeforeAndBehindArguments(t *testing.T) {
	answers(t, map[string]any{"GET /segments/01%2FSEG": aSegment})
	for _, args := range [][]string{{"segment", "show", "01/SEG", "-o", "json"},
		{"segment", "show", "-o", "json", "01/SEG"}} {
		if out, errOut, status := invoke(args...); status != 0 || !strings.Contains(out, `"id": "01SEG"`) {
			t.Errorf("%v: status %d\n%s%s", args, status, out, errOut)
		}
	}
}

func TestWrongUsageIsToldApartFromFailure(t *testing.T) {
	answers(t, map[string]any{
		"GET /rules/x": client.Problem{Type: "urn:ambercellar:problem:not-found", Title: "no", Status: 404,
			Detail: `rule "x": not found`},
		"POST /plans": client.Problem{Type: "urn:ambercellar:problem:refused", Title: "no", Status: 422,
			Detail: "the cutoff lies in the future", Field: "before", Remedy: "give a time before now"},
		"POST /rules": client.Problem{Type: "urn:ambercellar:problem:rule", Title: "no", Status: 422, Detail: "x",
			Problems: []client.RuleProblem{{File: "-", Line: 3, Column: 4, Rule: "from-stdin", Field: "table",
				Message: "missing", Remedy: "name it"}}},
	})
	for _, c := range []struct {
		args   []string
		status int
		say    string
	}{
		{nil, 0, "usage: ambercellar COMMAND"},
		{[]string{"help"}, 0, "restore request"},
		{[]string{"run", "start", "-h"}, 0, "stay and show its progress"},
		{[]string{"paint"}, 2, `"paint" is no command`},
		{[]string{"rule"}, 2, `"rule" is no command`},
		{[]string{"rule", "show"}, 2, "takes 1 argument and was given 0"},
		{[]string{"rule", "show", "x", "y"}, 2, "usage: ambercellar rule show RULE"},
		{[]string{"rule", "show", "x", "-colour"}, 2, "rule show -h"},
		{[]string{"rule", "show", "x"}, 1, `rule "x": not found`},
		{[]string{"plan", "make", "x", "-before", "2999"}, 1,
			"before: the cutoff lies in the future\n  give a time before now"},
		{[]string{"rule", "apply", "-f", "-"}, 1, "-:3:4: rule from-stdin: field table: missing; name it"},
		{[]string{"rule", "show", "x", "-server", "http://127.0.0.1:1"}, 1,
			"no service answers at http://127.0.0.1:1"},
		{[]string{"restore", "request", "-run", "x", "-out", "f"}, 2, "-out goes with -into file"},
		{[]string{"demo", "-engine", "papyrus"}, 2, "none of sqlite, postgres and mariadb"},
		{[]string{"demo", "-engine", "postgres"}, 2, "needs -dsn"},
		{[]string{"serve", "-log", "runes"}, 2, "neither text nor json"},
		{[]string{"serve", "-level", "loud"}, 2, "none of debug"},
		{[]string{"version"}, 0, "ambercellar "},
		{[]string{"rul", "list"}, 2, "did you mean `ambercellar rule list`?"},
		{[]string{"rule", "lst"}, 2, "did you mean `ambercellar rule list`?"},
		{[]string{"runn"}, 2, "did you mean `ambercellar run`?"},
		{[]string{"rule"}, 2, "it goes on with check, apply"},
		{[]string{"tides"}, 2, "`ambercellar help` lists them"},
		{[]string{"rule", "list", "-soruce", "x"}, 2, "did you mean -source?"},
		{[]string{"complete", "--", "rule", "li"}, 0, "list"},
	} {
		out, errOut, status := invoke(c.args...)
		if status != c.status || !strings.Contains(out+errOut, c.say) {
			t.Errorf("ambercellar %s: status %d\n%s%s\nwant %d and %q", strings.Join(c.args, " "), status, out, errOut,
				c.status, c.say)
		}
	}
}

func TestAnAddressThatIsNotTheServiceIsSaidSo(t *testing.T) {
	s := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(s.Close)
	if _, errOut, status := invoke("rule", "list", "-server", s.URL); status != 1 ||
		!strings.Contains(errOut, "not as this service does") {
		t.Errorf("status %d: %s", status, errOut)
	}
}

func TestEveryCommandOfTheTableIsInTheReference(t *testing.T) {
	reference := read(t, "../../docs/commands.md")
	for _, c := range local.Program().Commands() {
		if !strings.Contains(reference, "`"+c.Name) {
			t.Errorf("docs/commands.md does not have `%s`", c.Name)
		}
		if c.Summary == "" {
			t.Errorf("%s says nothing of itself", c.Name)
		}
		if out, errOut, status := invoke(append(strings.Fields(c.Name), "-h")...); status != 0 ||
			!strings.Contains(out, c.Summary) {
			t.Errorf("%s -h: status %d\n%s%s", c.Name, status, out, errOut)
		}
	}
}

func read(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}
