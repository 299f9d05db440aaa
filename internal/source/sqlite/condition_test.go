package sqlite

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// TestTheShortWaysThroughADateGiveWhatTheLongOneGives: text of the usual forms is judged by fewer of SQLite's date
// functions than other text, and as they would all judge it.
func TestTheShortWaysThroughADateGiveWhatTheLongOneGives(t *testing.T) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("CREATE TABLE ages (age)"); err != nil {
		t.Fatal(err)
	}
	forms := []string{"2026-11-23", "2026-11-23 12:00:00", "2026-11-23T12:00:00", "2026-11-23 12:00:00.000",
		"2026-11-23 12:00:00.999", "2026-11-23T11:59:59.999", "2026-11-23 12:00:00.5", "2026-11-23 12:00:00.12Z",
		"2026-11-23 12:00:00.1 Z", "2026-11-23 12:00 +01:00", "2026-11-23T12:00:00+01:00", "2026-11-23\t12:00:00.123",
		"2026-11-23  12:00:00.12", "2026-02-29 12:00:00.000", "2026-11-23 24:00:00.000", "2026-11-23 12:00:60.000",
		"2026-11-23 12:00:00,000", "2026-11-23 12:00:00.00\x00", "2026-11-23t12:00:00.000", "now", "12:00:00.000", "",
		"2026-11-23 12:00:00.00٣", "-026-11-23 12:00:00.000", "2461368.000000000000000"}
	random := rand.New(rand.NewPCG(3, 4))
	texts := append([]string{}, forms...)
	for range 4000 { // a character or two of a form replaced
		b := []rune(forms[random.IntN(len(forms))])
		for range random.IntN(2) + 1 {
			if len(b) > 0 {
				b[random.IntN(len(b))] = []rune("0123456789 :-.TZ+")[random.IntN(17)]
			}
		}
		texts = append(texts, string(b))
	}
	for _, text := range texts {
		if _, err := db.Exec("INSERT INTO ages VALUES (?)", text); err != nil {
			t.Fatal(err)
		}
	}
	table := &shape.Table{TableForm: shape.TableForm{Name: "ages",
		Columns: []shape.Column{{Name: "age", Kind: value.Text}}}}
	d := newDialect(source.Selection{Table: table, Age: rule.Age{Column: "age"}}, "")
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	const long = "(typeof(age) = 'text' AND CASE length(age) WHEN 10 THEN date(age) = age ELSE " +
		"date(substr(age, 1, 10)) = substr(age, 1, 10) AND datetime(age) IS NOT NULL END)"
	const instant = "CASE WHEN length(age) = 10 THEN 'D' || age ELSE CASE WHEN age GLOB '*[Zz]' OR " +
		"age GLOB '*[+-][0-9][0-9]:[0-9][0-9]' THEN 'U' ELSE 'W' END || datetime(age) END"
	const before = "CASE length(age) WHEN 10 THEN age < '2026-11-23' ELSE datetime(age) < '2026-11-23 12:00:00' END"
	query, args := d.Finish(fmt.Sprintf("SELECT age, coalesce(%s, 0), coalesce(%s, 0), coalesce(%s, ''), "+
		"CASE WHEN %s THEN %s ELSE '' END, coalesce(%s, 0), coalesce(age < '2026-11-25' AND %s AND %s, 0) FROM ages",
		d.Instant(), long, d.judge(), long, instant, d.Before(at), long, before), nil)
	rows, err := db.Query(query, args...)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	instants := 0
	for rows.Next() {
		var text, judged, wantJudged string
		var is, want, due, wantDue bool
		if err := rows.Scan(&text, &is, &want, &judged, &wantJudged, &due, &wantDue); err != nil {
			t.Fatal(err)
		}
		if is != want || judged != wantJudged || due != wantDue {
			t.Errorf("%q: an instant %t (%t), judged as %q (%q), due %t (%t)", text, is, want, judged, wantJudged, due,
				wantDue)
		}
		if is {
			instants++
		}
	}
	if err := rows.Err(); err != nil || instants < 500 || instants > len(texts)*9/10 {
		t.Errorf("%d of %d are instants (%v)", instants, len(texts), err)
	}
}
