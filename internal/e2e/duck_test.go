package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ambercellar/client"
	"ambercellar/internal/dbtest/duck"
)

// The queries that docs/archive.md shows are right, as an engine of others reads the files: where the table was
// altered, where rows stayed in it, and where a value has no Parquet type.
func TestOthersReadTheArchiveAsThePageSays(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/archive.md")
	if err != nil {
		t.Fatal(err)
	}
	var queries []string
	for _, block := range regexp.MustCompile("(?s)```sql\n(.*?)```").FindAllStringSubmatch(string(page), -1) {
		if text, ok := strings.CutPrefix(block[1], "-- DuckDB\n"); ok {
			text, _, _ = strings.Cut(text, "-- ClickHouse")
			queries = append(queries, strings.TrimSpace(text))
		}
	}
	if len(queries) != 4 {
		t.Fatalf("the page shows %d queries", len(queries))
	}
	w := newWorld(t, "postgres")
	w.exec(`CREATE TABLE boarding_scan (id integer PRIMARY KEY, at timestamptz NOT NULL, note text, fare numeric(9,2),
		outcome text);
		INSERT INTO boarding_scan SELECT g, timestamptz '2020-01-01 00:00+00' + g * interval '1 hour',
			'note ' || g % 2, CASE g % 100 WHEN 7 THEN 'NaN' ELSE g::numeric END, CASE WHEN g % 3 = 0 THEN 'late'
			ELSE 'boarded' END FROM generate_series(1, 500) g`)
	w.must("source", "add", "harbour", "-engine", "postgres", "-address", w.dsn, "-tls", "off")
	w.must("rule", "apply", "-f", w.rules(
		"rule: scans\nsource: harbour\ntable: boarding_scan\nage: at\nzone: UTC\nclauses:\n  - before: "+
			"2020-02-01\nthen: archive\narchive: {store: cellar}\npace: unlimited\n"))
	w.in("2020-01-11")
	w.exec("ALTER TABLE boarding_scan RENAME COLUMN note TO remark; ALTER TABLE boarding_scan DROP COLUMN outcome; " +
		"ALTER TABLE boarding_scan ADD outcome text; ALTER TABLE boarding_scan ADD gate text; UPDATE boarding_scan " +
		"SET outcome = 'turned away'")
	// Rows that others have locked to the end are copied, and stay.
	lock := w.pgConn()
	if _, err := lock.Exec(t.Context(),
		"BEGIN; SELECT 1 FROM boarding_scan WHERE id IN (300, 301) FOR UPDATE"); err != nil {
		t.Fatal(err)
	}
	p := must1[client.Plan](w, "plan", "make", "scans", "-confirm")
	r := w.ended(must1[client.RunView](w, "run", "start", p.ID).ID)
	if r.State != client.Done || r.Ledger.Skipped != 2 {
		t.Fatalf("the run beside a lock: %s, %+v", r.State, r.Ledger)
	}
	got := duck.Install(t).Ask(t, filepath.Join(w.dir, "data"), queries...)
	say := func(rows []map[string]any, columns ...string) (out []string) {
		for _, row := range rows {
			var parts []string
			for _, c := range columns {
				parts = append(parts, fmt.Sprint(row[c]))
			}
			out = append(out, strings.Join(parts, " "))
		}
		return out
	}
	for i, c := range []struct {
		columns []string
		want    string
	}{
		{[]string{"outcome", "n"}, "[boarded 160 late 79 turned away 261]"},
		{[]string{"remark", "n"}, "[note 0 250 note 1 250]"},
		{[]string{"archived"}, "[498]"},
		{[]string{"id", "fare"}, "[7 NaN 107 NaN 207 NaN 307 NaN 407 NaN]"},
	} {
		if have := fmt.Sprint(say(got[i], c.columns...)); have != c.want {
			t.Errorf("%s\n gives %s, want %s", queries[i], have, c.want)
		}
	}

	// The database knows its columns by number: what was renamed there is found, and nobody has to tell.
	for _, format := range [][]string{{"-columns", "id"}, {"-of", "count"}, {"-rows", "csv"}} {
		if out, note, status := w.run(append([]string{"search", "harbour", "boarding_scan", "-where",
			"remark = 'note 1'"}, format...)...); status != 0 || strings.Contains(out+note, "has no column") {
			t.Errorf("a search by the new name, %v: status %d, %s %s", format, status, out, note)
		}
	}
	if l := must1[client.Items[client.FormerName]](w, "column", "list", "harbour",
		"boarding_scan"); len(l.Items) != 1 || l.Items[0].Was != "note" || l.Items[0].ToldBy != "the database" {
		t.Errorf("column list: %+v", l.Items)
	}
	w.must("column", "tell", "harbour", "boarding_scan", "gate", "-added")
	if out := w.must("search", "harbour", "boarding_scan", "-where", "gate IS NULL", "-columns", "id", "-limit",
		"3"); strings.Contains(out, "has no column gate") {
		t.Errorf("a column that was added:\n%s", out)
	}
}

// A column that was renamed, where the database knows none by number: what the page says of that, by the command.
func TestARenamedColumnByTheCommand(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "sqlite")
	w.scans(2000)
	w.define("archive", "unlimited")
	w.in("2020-02-10")
	w.exec("ALTER TABLE scan RENAME COLUMN note TO remark")
	w.must("rule", "apply", "-f", w.rules(
		scansWith("clauses:\n  - keep: P1Y\nthen: archive\narchive: {store: cellar}\n")), "-reason",
		"a column was renamed")
	w.in("")
	where := []string{"search", "harbour", "scan", "-where", "remark <> 'x'"}
	if out := w.must(append(where, "-columns", "id")...); !strings.Contains(out,
		"has no column remark, which counts as NULL there; `ambercellar column tell harbour scan remark`") ||
		strings.Contains(out, "has no column id") {
		t.Errorf("a search by the new name:\n%s", out)
	}
	if out := w.must(append(where, "-of", "count")...); !strings.Contains(out, "has no column remark") ||
		strings.Contains(out, "2000") {
		t.Errorf("counted with a gap that nobody is told of:\n%s", out)
	}
	if out, note, status := w.run(append(where, "-rows", "csv")...); status != 0 ||
		!strings.Contains(note, "has no column remark") || strings.Contains(out, "has no column") {
		t.Errorf("a stream of rows with a gap: status %d, %q", status, note)
	}
	w.refuse(1, []string{"was", "did you mean note?"}, "column", "tell", "harbour", "scan", "remark", "-was", "nota")
	w.refuse(1, []string{"one of -was and -added"}, "column", "tell", "harbour", "scan", "remark")
	w.refuse(1, []string{"not found"}, "column", "forget", "harbour", "scan", "remark", "-was", "note")
	if out := w.must("column", "tell", "harbour", "scan", "remark", "-was", "note"); !strings.Contains(out, "note") ||
		!strings.Contains(out, "WAS CALLED") {
		t.Errorf("column tell:\n%s", out)
	}
	if out := w.must(append(where, "-of", "count")...); !strings.Contains(out, "2000") &&
		!strings.Contains(out, "2,000") {
		t.Errorf("counted by the new name:\n%s", out)
	}
	if l := must1[client.Items[client.FormerName]](w, "column", "list", "harbour", "scan"); len(l.Items) != 1 ||
		l.Items[0].Was != "note" || l.Items[0].ToldBy == "" {
		t.Errorf("column list: %+v", l.Items)
	}
	w.must("column", "forget", "harbour", "scan", "remark", "-was", "note")
	if out := w.must(append(where, "-of", "count")...); !strings.Contains(out, "has no column remark") {
		t.Errorf("counted after that was taken back:\n%s", out)
	}
}
