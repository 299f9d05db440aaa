package api

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/entryfile"
)

// export has an export made, and returns it when it has ended.
func (w *world) export(token string, in m) m {
	w.t.Helper()
	b, err := json.Marshal(in)
	if err != nil {
		w.t.Fatal(err)
	}
	resp, body := w.ask("POST", "/api/v1/audit/exports", string(b), "Authorization", "Bearer "+token)
	x := m{}
	if err := json.Unmarshal([]byte(body), &x); err != nil || resp.StatusCode != 202 {
		w.t.Fatalf("%d %s", resp.StatusCode, body)
	}
	for end := time.Now().Add(20 * time.Second); x["state"] == "waiting" || x["state"] == "working"; {
		if time.Now().After(end) {
			w.t.Fatalf("%v", x)
		}
		time.Sleep(20 * time.Millisecond)
		_, body := w.ask(
			"GET",
			fmt.Sprintf("/api/v1/audit/exports/%v", x["id"]),
			"",
			"Authorization",
			"Bearer "+token,
		)
		if err := json.Unmarshal([]byte(body), &x); err != nil {
			w.t.Fatal(body)
		}
	}
	return x
}

// unzipped are the files of an export, checked against what it says of itself.
func unzipped(t *testing.T, body string) (map[string]string, entryfile.About) {
	t.Helper()
	z, err := zip.NewReader(strings.NewReader(body), int64(len(body)))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		files[f.Name] = string(b)
	}
	var about entryfile.About
	if err := json.Unmarshal([]byte(files["about.json"]), &about); err != nil ||
		about.Format != entryfile.ZipFormat ||
		len(about.Files) != len(files)-1 {
		t.Fatalf("%s (%v)", files["about.json"], err)
	}
	for _, f := range about.Files {
		sum := sha256.Sum256([]byte(files[f.Name]))
		if hex.EncodeToString(sum[:]) != f.SHA256 || int64(len(files[f.Name])) != f.Bytes {
			t.Errorf("%s is not what about.json says", f.Name)
		}
	}
	return files, about
}

func TestTheAuditLogIsExportedInTheBackground(t *testing.T) {
	w := newWorld(t)
	desk := w.account("desk", "viewer", "")
	w.account("mate", "viewer", "")
	as := func(token string) []string { return []string{"Authorization", "Bearer " + token} }
	w.must(200, "POST", "/accounts/mate/revoke", m{"reason": "=1+1 ends, \"quoted\"\n<b>"})
	mate := w.account("mate-2", "viewer", "")
	n := len(w.entries("limit=500", w.token))

	x := w.export(desk, m{"format": "csv"})
	if x["state"] != "done" || x["rows"] != false || int(x["entries"].(float64)) != n {
		t.Fatalf("%v, and %d entries", x, n)
	}
	path := fmt.Sprintf("/api/v1/audit/exports/%v", x["id"])
	resp, body := w.ask("GET", path+"/file", "", as(desk)...)
	if resp.StatusCode != 200 || resp.Header.Get("Content-Type") != "application/zip" {
		t.Fatalf("%d %v", resp.StatusCode, resp.Header)
	}
	sum := sha256.Sum256([]byte(body))
	files, about := unzipped(t, body)
	entries, err1 := csv.NewReader(strings.NewReader(files["entries.csv"])).ReadAll()
	details, err2 := csv.NewReader(strings.NewReader(files["details.csv"])).ReadAll()
	if err1 != nil || err2 != nil || len(entries) != n+1 || len(details) != n+1 || about.Entries != int64(n) ||
		about.By != "desk" || about.Head.Entry < int64(n) || hex.EncodeToString(sum[:]) != x["sha256"] ||
		strings.Contains(files["entries.csv"], "quoted") || !strings.Contains(files["details.csv"], "'=1+1 ends") {
		t.Errorf("%d entries, %d details (%v, %v)\n%+v", len(entries), len(details), err1, err2, about)
	}
	part := append(as(desk), "Range", "bytes=0-9")
	if resp, body := w.ask("GET", path+"/file", "", part...); resp.StatusCode != 206 ||
		len(body) != 10 {
		t.Errorf("a part of it: %d, %d bytes", resp.StatusCode, len(body))
	}
	for _, what := range []string{path, path + "/file"} {
		if resp, _ := w.ask("GET", what, "", as(mate)...); resp.StatusCode != 404 {
			t.Errorf("somebody else's %s: %d", what, resp.StatusCode)
		}
		if resp, _ := w.ask("GET", what, "", as(w.token)...); resp.StatusCode != 200 {
			t.Errorf("an administrator is not given %s: %d", what, resp.StatusCode)
		}
	}
	if list := w.entries("action=audit+fetch", w.token); len(list) != 3 || list[0].Actor != "administrator" {
		t.Errorf("%+v", list)
	}
	if resp, _ := w.ask("DELETE", path, "", as(mate)...); resp.StatusCode != 404 {
		t.Errorf("somebody else discards it: %d", resp.StatusCode)
	}
	if resp, _ := w.ask("DELETE", path, "", as(desk)...); resp.StatusCode != 204 {
		t.Errorf("discarding it: %d", resp.StatusCode)
	}
	if resp, _ := w.ask("GET", path+"/file", "", as(desk)...); resp.StatusCode != 409 {
		t.Errorf("one without a file: %d", resp.StatusCode)
	}
	if left, err := os.ReadDir(filepath.Join(w.dir, "exports")); err != nil || len(left) != 0 {
		t.Errorf("%v is left (%v)", left, err)
	}

	// the other formats, of a filter
	for format, check := range map[string]func(map[string]string) error{
		"ndjson": func(f map[string]string) error {
			e, d := m{}, m{}
			err := json.Unmarshal([]byte(f["entries.ndjson"]), &e)
			if _, has := e["detail"]; has || err != nil || e["subject"] != "mate" {
				return fmt.Errorf("%v, %v", e, err)
			}
			if err := json.Unmarshal([]byte(f["details.ndjson"]), &d); err != nil || d["id"] != e["id"] ||
				!strings.HasPrefix(d["detail"].(string), "=1+1") {
				return fmt.Errorf("%v, %v", d, err)
			}
			return nil
		},
		"xml": func(f map[string]string) error {
			var doc struct {
				Details []string `xml:"detail"`
			}
			err := xml.Unmarshal([]byte(f["details.xml"]), &doc)
			if err != nil || len(doc.Details) != 1 || !strings.Contains(doc.Details[0], "<b>") {
				return fmt.Errorf("%v, %v", doc, err)
			}
			return nil
		},
		"pdf": func(f map[string]string) error {
			if !bytes.HasPrefix([]byte(f["entries-0001.pdf"]), []byte("%PDF-")) || len(f) != 2 {
				return fmt.Errorf("%d files", len(f))
			}
			return nil
		},
	} {
		x := w.export(
			w.token,
			m{"format": format, "action": "account revoke", "outcome": "done", "from": "2020-01-01"},
		)
		if x["state"] != "done" || x["entries"] != 1.0 || x["rows"] != true {
			t.Fatalf("%v", x)
		}
		_, body := w.ask("GET", fmt.Sprintf("/api/v1/audit/exports/%v/file", x["id"]), "", as(w.token)...)
		files, about := unzipped(t, body)
		if err := check(files); err != nil || about.Filter["from"] != "2020-01-01T00:00:00Z" {
			t.Errorf("%s: %v; %v", format, err, about.Filter)
		}
	}
	// what is erased is in none of them
	revoked := w.entries("action=account+revoke", w.token)[0]
	w.must(200, "POST", fmt.Sprintf("/audit/entries/%d/erase", revoked.ID), m{"reason": "somebody asked"})
	for _, x := range w.must(200, "GET", "/audit/exports", nil)["items"].([]any) {
		if x.(map[string]any)["state"] != "gone" {
			t.Errorf("%v", x)
		}
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		left, err := os.ReadDir(filepath.Join(w.dir, "exports"))
		if err == nil && len(left) == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%v is left (%v)", left, err)
		}
	}
}

func TestExportsThatCannotBeAreRefused(t *testing.T) {
	w := newWorld(t)
	for _, x := range []struct {
		path, field string
		in          m
	}{
		{"/audit/exports", "format", m{"format": "docx"}},
		{"/audit/exports", "format", m{}},
		{"/audit/exports", "outcome", m{"format": "csv", "outcome": "maybe"}},
		{"/audit/exports", "from", m{"format": "csv", "from": "yesterday"}},
		{"/audit/exports", "tell", m{"format": "csv", "tell": "nobody at all"}},
		{"/audit/exports", "tell", m{"format": "csv", "tell": "http://elsewhere.example/x"}},
		{"/audit/schedules", "when", m{"name": "a", "format": "csv", "when": "now and then"}},
		{"/audit/schedules", "when", m{"name": "a", "format": "csv"}},
		{"/audit/schedules", "zone", m{"name": "a", "format": "csv", "when": "daily at 06:00", "zone": "Sea/Deep"}},
		{"/audit/schedules", "name", m{"name": "A b", "format": "csv", "when": "daily at 06:00"}},
		{"/audit/schedules", "from", m{"name": "a", "format": "csv", "when": "daily at 06:00", "from": "2027-01-01"}},
	} {
		if p := w.must(422, "POST", x.path, x.in); p["field"] != x.field {
			t.Errorf("%v: %v", x.in, p)
		}
	}
	s := m{
		"name":   "month",
		"format": "pdf",
		"when":   "monthly on the 1st at 06:00",
		"zone":   "Europe/Athens",
		"kind":   "run",
	}
	w.must(201, "POST", "/audit/schedules", s)
	w.must(409, "POST", "/audit/schedules", s)
	if list := w.must(200, "GET", "/audit/schedules", nil)["items"].([]any); len(list) != 1 {
		t.Errorf("%v", list)
	}
	desk := w.account("desk", "viewer", "")
	if w.status("GET", "/api/v1/audit/schedules", desk) != 200 ||
		w.status("DELETE", "/api/v1/audit/schedules/month", desk) != 404 {
		t.Error("a viewer ends somebody else's schedule")
	}
	w.must(204, "DELETE", "/audit/schedules/month", nil)
	w.must(404, "DELETE", "/audit/schedules/month", nil)
	w.must(404, "GET", "/audit/exports/nothing", nil)
	w.must(404, "DELETE", "/audit/exports/nothing", nil)
	for range 20 {
		w.must(202, "POST", "/audit/exports", m{"format": "csv"})
	}
	if p := w.must(422, "POST", "/audit/exports", m{"format": "csv"}); p["field"] != "export" {
		t.Errorf("%v", p)
	}
}
