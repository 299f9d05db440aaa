package api

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/entryfile"
	"ambercellar/internal/service"
)

// entries asks for the audit log.
func (w *world) entries(query, token string) []entryfile.Entry {
	w.t.Helper()
	_, body := w.ask("GET", "/api/v1/audit?"+query, "", "Authorization", "Bearer "+token)
	var list Items[entryfile.Entry]
	if err := json.Unmarshal([]byte(body), &list); err != nil {
		w.t.Fatalf("%v: %s", err, body)
	}
	return list.Items
}

// Who looked at rows is recorded, with what they looked for; who may not see rows does not see that either.
func TestWhoLooksAtRowsIsRecorded(t *testing.T) {
	w := harbour(t)
	w.must(200, "POST", "/rules", m{"text": lampRule})
	plan := fmt.Sprint(w.must(201, "POST", "/plans", m{"rule": "lamps"})["id"])
	desk, viewer := w.account("desk", "operator", `,"rows":true`), w.account("view", "viewer", "")
	for _, x := range []struct{ method, path, body string }{
		{"POST", "/search", `{"source":"harbour","table":"lamp","where":"colour = 'mauve'"}`},
		{"POST", "/search/rows", `{"source":"harbour","table":"lamp","where":"colour = 'mauve'"}`},
		{"GET", "/plans/" + plan + "/sample", ""}} {
		if resp, body := w.ask(x.method, "/api/v1"+x.path, x.body, "Authorization",
			"Bearer "+desk); resp.StatusCode != 200 &&
			resp.StatusCode != 422 { // nothing is archived yet
			t.Errorf("%s: %d %s", x.path, resp.StatusCode, body)
		}
	}
	if list := w.entries("kind=rows", w.token); len(list) != 3 || list[0].Subject != plan ||
		list[0].Action != "rows sample" ||
		list[1].Subject != "harbour.lamp" ||
		!strings.Contains(list[1].Detail, "mauve") ||
		list[1].Actor != "desk" ||
		list[1].Address != "127.0.0.1" {
		t.Errorf("%+v", list)
	}
	for _, e := range w.entries("kind=rows", viewer) {
		if e.Detail != "" || !e.Withheld && e.Action != "rows sample" {
			t.Errorf("a viewer sees %+v", e)
		}
	}
	for _, format := range []string{"csv", "ndjson", "xml"} {
		if _, body := w.ask("GET", "/api/v1/audit/export?format="+format, "", "Authorization",
			"Bearer "+viewer); strings.Contains(body, "mauve") || !strings.Contains(body, "rows search") {
			t.Errorf("a viewer exports %s", body)
		}
	}
	// What was refused to them stands there too, and nothing more than once.
	w.ask("POST", "/api/v1/search", `{"source":"harbour","table":"lamp"}`, "Authorization", "Bearer "+viewer)
	if list := w.entries("actor=view&outcome=refused", w.token); len(list) != 1 || list[0].Action != "request search" ||
		!strings.Contains(list[0].Detail, "may not see values of rows") {
		t.Errorf("%+v", list)
	}
}

func TestTheAuditLogIsExportedErasedAndVerified(t *testing.T) {
	w := newWorld(t)
	bearer := []string{"Authorization", "Bearer " + w.token}
	w.account("desk", "viewer", "")
	w.must(200, "POST", "/accounts/desk/revoke", m{"reason": "=2+3 \"quoted\", <b>and</b>\nmore"})
	whole := w.entries("limit=500", w.token)
	n := len(whole)
	resp, body := w.ask("GET", "/api/v1/audit/export?format=csv", "", bearer...)
	table, err := csv.NewReader(strings.NewReader(body)).ReadAll()
	if err != nil || len(table) != n+2 ||
		table[n][2] != "administrator" || // with its own entry, and the head of the table
		table[n][8] != "'"+"=2+3 \"quoted\", <b>and</b>more" ||
		resp.Trailer.Get(TrailerRows) != fmt.Sprint(n+1) {
		t.Errorf("%v %v\n%s", err, resp.Trailer, body)
	}
	_, body = w.ask("GET", "/api/v1/audit/export?format=ndjson&action=account+revoke", "", bearer...)
	var one entryfile.Entry
	if err := json.Unmarshal([]byte(body), &one); err != nil || one.Subject != "desk" {
		t.Errorf("%v: %s", err, body)
	}
	_, body = w.ask("GET", "/api/v1/audit/export?format=xml", "", bearer...)
	var doc struct {
		Entries []struct {
			ID     int64  `xml:"id,attr"`
			Detail string `xml:",chardata"`
		} `xml:"entry"`
	}
	if err := xml.Unmarshal([]byte(body), &doc); err != nil || len(doc.Entries) != n+3 ||
		doc.Entries[n-1].Detail != one.Detail {
		t.Errorf("%v: %s", err, body)
	}
	if resp, body := w.ask("GET", "/api/v1/audit/export?format=pdf", "", bearer...); resp.StatusCode != 200 ||
		!strings.HasPrefix(body, "%PDF-") {
		t.Errorf("as PDF: %d %.80s", resp.StatusCode, body)
	}
	for _, query := range []string{"outcome=maybe", "from=yesterday", "since=-1", "after=x", "format=docx"} {
		path := "/api/v1/audit?"
		if strings.HasPrefix(query, "format") {
			path = "/api/v1/audit/export?"
		}
		if resp, body := w.ask("GET", path+query, "", bearer...); resp.StatusCode/100 != 4 {
			t.Errorf("%s: %d %s", query, resp.StatusCode, body)
		}
	}
	if list := w.entries("to="+time.Now().Add(-time.Hour).UTC().Format(time.RFC3339), w.token); len(list) > 0 {
		t.Errorf("an hour ago: %+v", list)
	}

	// A detail is erased, and the chain holds. What is told of the log lies in the store.
	path := fmt.Sprintf("/audit/entries/%d", one.ID)
	w.must(422, "POST", path+"/erase", m{"reason": " "})
	if e := w.must(200, "POST", path+"/erase", m{"reason": "somebody asked"}); e["erased"] != true ||
		e["detail"] != "" {
		t.Errorf("%v", e)
	}
	w.must(404, "GET", "/audit/entries/9999", nil)
	w.must(404, "GET", "/audit/entries/x", nil)
	report := func() service.AuditReport {
		t.Helper()
		_, body := w.ask("GET", "/api/v1/audit/verification", "", bearer...)
		var r service.AuditReport
		if err := json.Unmarshal([]byte(body), &r); err != nil {
			t.Fatalf("%v: %s", err, body)
		}
		return r
	}
	heads := func() []string {
		list, err := filepath.Glob(filepath.Join(w.dir, "cellar", "audit", "*", "*.json"))
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	for end := time.Now().Add(20 * time.Second); len(heads()) == 0 && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}
	if r := report(); !r.Holds || r.Heads != 1 || r.Erased != 1 || r.Entries != int64(n+6) {
		t.Fatalf("%+v", r)
	}
	// An older catalog was put back: the store knows more than the log.
	b, err := os.ReadFile(heads()[0])
	if err != nil {
		t.Fatal(err)
	}
	var head map[string]any
	if err := json.Unmarshal(b, &head); err != nil {
		t.Fatal(err)
	}
	head["entry"] = n + 500
	b, err = json.Marshal(head)
	if err == nil {
		err = os.WriteFile(filepath.Join(filepath.Dir(heads()[0]), "2027-01-01-000000000500.json"), b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if r := report(); r.Holds || !strings.Contains(r.Faults[0].Message, "an older catalog was put back") {
		t.Errorf("%+v", r)
	}
	// What is no head is told of, and keeps nobody from checking the rest.
	if err := os.WriteFile(heads()[1], []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := report(); !r.Holds || len(r.Away) != 1 {
		t.Errorf("%+v", r)
	}
}
