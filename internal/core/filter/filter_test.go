package filter

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

var scan = &shape.Table{TableForm: shape.TableForm{Name: "scan", Columns: []shape.Column{
	{Name: "id", Type: "bigint", Kind: value.Int}, {Name: "outcome", Type: "text", Kind: value.Text, Nullable: true},
	{Name: "fare", Type: "numeric(9,2)", Kind: value.Decimal, Precision: 9, Scale: 2},
	{Name: "weight", Type: "double precision", Kind: value.Float64},
	{Name: "alarm", Type: "boolean", Kind: value.Bool}, {Name: "day", Type: "date", Kind: value.Date},
	{Name: "clock", Type: "timestamp", Kind: value.Timestamp},
	{Name: "at", Type: "timestamptz", Kind: value.Instant}, {Name: "ticket", Type: "uuid", Kind: value.UUID},
	{Name: "photo", Type: "bytea", Kind: value.Bytes},
	{Name: `Gate "A"`, Type: "text", Kind: value.Text}, {Name: "order", Type: "integer", Kind: value.Int},
	{Name: "code", Type: "character(5)", Kind: value.Text},
	{Name: "noted", Type: "DATETIME", Kind: value.Text, Age: shape.AgeISO},
}}}

func bind(t *testing.T, text string) *Filter {
	t.Helper()
	f, errs := Bind(text, TableScope(scan))
	if len(errs) > 0 {
		t.Fatalf("%s: %v", text, errs[0])
	}
	return f
}

func TestFiltersPrintInOneForm(t *testing.T) {
	for text, want := range map[string]string{
		"outcome='refused'":            "outcome = 'refused'",
		"  ( ( outcome != 'it''s' ) )": "outcome <> 'it''s'",
		"'a' < outcome":                "outcome > 'a'",
		"id=1 or id=2 and not alarm":   "id = 1 OR id = 2 AND NOT alarm",
		"(id=1 or id=2) and alarm = true": "(id = 1 OR id = 2) AND alarm " +
			"= TRUE",
		"not (id = 1 and id < -2.5e3)": "NOT (id = 1 AND id < -2.5e3)",
		"outcome not in ('a' , 'b') and fare between 1 and 2": "outcome NOT IN ('a', 'b') AND " +
			"fare BETWEEN 1 AND 2",
		`outcome not like '100|%%' escape '|'`: "outcome NOT LIKE '100|%%' " +
			"ESCAPE '|'",
		`"Gate ""A""" is not null or "order" = 3`: `"Gate ""A""" IS NOT NULL OR ` +
			`order = 3`,
		"day >= date '2024-02-29' and at < timestamp '2024-03-31 02:30:00+02:00'": "day >= DATE '2024-02-29' AND " +
			"at < TIMESTAMP '2024-03-31 02:30:00+02:00'",
		"not not alarm":                         "NOT NOT alarm",
		"true":                                  "TRUE",
		"id = \"order\"":                        "id = order",
		"((id = 1 and id = 2) and id = 3)":      "(id = 1 AND id = 2) AND id = 3",
		"clock = '2024-01-01' or photo is null": "clock = '2024-01-01' OR photo IS NULL",
	} {
		f := bind(t, text)
		if got := f.String(); got != want {
			t.Errorf("%s prints as %s; want %s", text, got, want)
		}
		if again := bind(t, f.String()).String(); again != want {
			t.Errorf("%s: what is printed parses back to %s", text, again)
		}
	}
}

func TestMistakesAreNamedWithTheirPlace(t *testing.T) {
	deep := strings.Repeat("(", 10_000) + "alarm" + strings.Repeat(")", 10_000)
	for _, c := range []struct{ text, at, says string }{
		{"", "", "the filter is empty"},
		{"outcom = 'a'", "outcom", "did you mean outcome?"},
		{"id = 'a'", "'a'", "is of type bigint and is compared with 'a'"},
		{"outcome = 5", "5", "write a text in single quotes"},
		{"outcome = 'abc", "'abc", "no closing quote"},
		{`outcome = "refused"`, `"refused"`, `there is no column refused`},
		{"id LIKE '1%'", "id", "LIKE looks at text"},
		{"id = NULL", "NULL", "write IS NULL"},
		{"id == 1", "==", "is no comparison"},
		{"id = 1 AND", "", "instead of a column or a literal"},
		{"(id = 1", "", "instead of a closing parenthesis"},
		{"id = 1)", ")", "behind the end"},
		{"id = 1 id = 2", "id = 2", "behind the end"},
		{"lower(outcome) = 'a'", "lower", "a filter has none"},
		{"id + 1 = 2", "+", "does not compute"},
		{"id = 1; DROP TABLE scan", ";", "not statements"},
		{"1 = 1", "1 = 1", "two literals"},
		{"5", "5", "is no condition"},
		{"id", "id", "no condition on its own"},
		{"photo = 'x'", "'x'", "IS NULL"},
		{"at < '2024-01-01'", "'2024-01-01'", "names none"},
		{"clock < TIMESTAMP '2024-01-01 00:00Z'", "TIMESTAMP", "without zone"},
		{"day < '2024-02-30'", "'2024-02-30'", "no day or time of the calendar"},
		{"day < '2024-02-28 12:00'", "'2024-02-28 12:00'", "has a time of day"},
		{"ticket < '00112233-4455-6677-8899-aabbccddeeff'", "ticket", "no order"},
		{"ticket = 'x'", "'x'", "is no UUID"},
		{"outcome LIKE 'a|b' ESCAPE '|'", "'a|b'", "escape character before"},
		{"outcome LIKE 'a' ESCAPE 'xy'", "'xy'", "one character"},
		{"id IN ()", ")", "instead of a column or a literal"},
		{"id IN (1, )", ")", "instead of a column or a literal"},
		{"id NOT 5", "5", "instead of IN, BETWEEN or LIKE"},
		{"id IS 5", "5", "instead of NULL"},
		{"id = outcome", "outcome", "cannot be compared with column"},
		{"booking.closed = 1", "booking", "declares no join booking"},
		{"id = 1e999", "1e999", "more than 400 digits"},
		{"weight < 1e400", "1e400", "beyond what a floating number can hold"},
		{"id = 1 \x00", "\x00", "U+0000"},
		{"id = '\xff'", "\xff", "not UTF-8"},
		{deep, "", "nested deeper than 100 levels"},
		{strings.Repeat("id = 1 OR ", 10_000) + "id = 2", "", "the most is 65536"},
		{"id IN (1" + strings.Repeat(",1", 5_000) + ")", "", "more than 5000 literals"},
	} {
		_, errs := Bind(c.text, TableScope(scan))
		if len(errs) == 0 {
			t.Errorf("%.60q is accepted", c.text)
			continue
		}
		if !strings.Contains(errs[0].Error(), c.says) {
			t.Errorf("%.60q: %v; want it to say %q", c.text, errs[0], c.says)
		}
		if want := strings.LastIndex(c.text, c.at); c.at != "" && errs[0].Pos != want &&
			errs[0].Pos != strings.Index(c.text, c.at) {
			t.Errorf("%.60q: the place is %d instead of %d", c.text, errs[0].Pos, want)
		}
	}
	_, errs := Bind("outcome = 'ø' AND\n  fair > 3", TableScope(scan))
	if got, want := errs[0].Error(),
		"at character 21: there is no column fair; did you mean fare?\n    fair > 3\n    ^"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestThreeValuedLogic(t *testing.T) {
	row := make([]value.Value, len(scan.Columns))
	row[0], row[2], row[3], row[4] = value.Of(7), value.Value{Kind: value.Decimal, N: 1250, Scale: 2},
		value.OfFloat(0.1), value.OfBool(true)
	row[10], row[12], row[13] = value.OfText("Süd_1%"), value.OfText("ab   "),
		value.OfText("2024-03-31T12:00:00+02:00")
	for text, want := range map[string]Truth{
		"id = 7": True, "id <> 7": False, "outcome = 'a'": Unknown, "NOT outcome = 'a'": Unknown,
		"outcome IS NULL": True, "outcome IS NOT NULL": False,
		"outcome = 'a' OR id = 7": True, "outcome = 'a' AND id = 7": Unknown, "outcome = 'a' AND id = 8": False,
		"outcome = 'a' OR id = 8": Unknown,
		"outcome IN ('a')":        Unknown, "id IN (1, 7)": True, "id NOT IN (1, 7)": False,
		"outcome NOT IN ('a')": Unknown,
		"id BETWEEN 7 AND 7":   True, "id NOT BETWEEN 8 AND 9": True, "id BETWEEN 9 AND 8": False,
		"fare = 12.5": True, "fare > 12.499": True, "fare < 12.50": False, "weight = 0.1": True, "id < 7.5": True,
		"id = 7.0": True, "alarm": True, "NOT alarm": False, "alarm = FALSE": False,
		`"Gate ""A""" LIKE 'S_d%'`: True, `"Gate ""A""" LIKE 's%'`: False,
		`"Gate ""A""" LIKE '%!_1!%' ESCAPE '!'`: True, `"Gate ""A""" LIKE ''`: False, `"Gate ""A""" LIKE '%%_%'`: True,
		"outcome LIKE '%'": Unknown, "code = 'ab'": True, "code = 'ab '": True, "code LIKE 'ab'": True,
		"noted < TIMESTAMP '2024-03-31 10:00:01'": True, "noted = TIMESTAMP '2024-03-31 10:00:00'": True,
		"noted < DATE '2024-03-31'": False, "noted > '2024-03-31T11'": True,
		`id = "order"`: Unknown, "id > id": False, "TRUE": True, "FALSE OR outcome = 'x'": Unknown,
	} {
		if got := bind(t, text).Eval(row); got != want {
			t.Errorf("%s is %v; want %v", text, got, want)
		}
	}
}

func TestAValueThatIsNotThereMayBeAnything(t *testing.T) {
	scope := func(join, name string) (*shape.Column, int, string) {
		c, i, remedy := TableScope(scan)(join, name)
		if name == "outcome" {
			i = -1
		}
		return c, i, remedy
	}
	row := make([]value.Value, len(scan.Columns))
	row[0] = value.Of(7)
	for text, want := range map[string]bool{"outcome = 'a'": true, "outcome IS NULL": true,
		"outcome = 'a' AND id = 8": false, "NOT outcome LIKE 'x%'": true, "outcome = 'a' AND fare = 1": false} {
		f, errs := Bind(text, scope)
		if len(errs) > 0 {
			t.Fatal(errs[0])
		}
		if got := f.Eval(row).Possibly(); got != want {
			t.Errorf("%s may be true: %v; want %v", text, got, want)
		}
	}
}

func TestFiltersThatNoRowSatisfies(t *testing.T) {
	for text, want := range map[string]bool{
		"fare > 5 AND fare < 3": true, "fare > 5 AND fare < 5.01": false, "fare >= 5 AND fare <= 5": false,
		"fare > 5 AND fare <= 5":          true,
		"outcome = 'a' AND outcome = 'b'": true, "outcome = 'a' AND outcome IN ('b', 'a')": false,
		"outcome IN ('a') AND outcome IN ('b')": true,
		"outcome IS NULL AND outcome = 'a'":     true, "outcome IS NULL OR outcome = 'a'": false,
		"(id < 1 AND id > 2) OR (id = 1 AND id = 2)": true,
		"day BETWEEN '2024-02-01' AND '2024-01-01'":  true, "FALSE": true, "id = 1 AND FALSE": true, "id = 1": false,
		"alarm AND (id > 4 AND (id < 3))": true,
		"id IN (1, 2) AND id > 5":         true,
	} {
		if got := bind(t, text).Never(); got != want {
			t.Errorf("%s is never true: %v; want %v", text, got, want)
		}
	}
}

func TestPatternsMatchAsTheirDefinitionSays(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	letters := []string{"a", "b", "é", "%", "_"}
	word := func(n int) (s string) {
		for range r.IntN(n) {
			s += letters[r.IntN(len(letters))]
		}
		return s
	}
	var slow func(p []likePart, s []rune) bool
	slow = func(p []likePart, s []rune) bool {
		switch {
		case len(p) == 0:
			return len(s) == 0
		case p[0].any:
			return slow(p[1:], s) || len(s) > 0 && slow(p, s[1:])
		}
		return len(s) > 0 && (p[0].one || p[0].char == s[0]) && slow(p[1:], s[1:])
	}
	for range 20_000 {
		pattern, s := word(8), word(9)
		parts, _ := likeParts(pattern, "")
		if got, want := match(parts, []byte(s)), slow(parts, []rune(s)); got != want {
			t.Fatalf("%q LIKE %q is %v; want %v", s, pattern, got, want)
		}
		if again, _ := likeParts((&Like{parts: parts}).Escaped('!'), "!"); fmt.Sprint(again) != fmt.Sprint(parts) {
			t.Fatalf("%q with another escape means something else", pattern)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"outcome = 'refused'",
		"id IN (1, 2.5) AND NOT (fare BETWEEN -1 AND 2e3 OR \"Gate \"\"A\"\"\" LIKE 'a!%' ESCAPE '!')",
		"at < TIMESTAMP '2024-01-01T00:00Z' AND alarm", "((", "'", "\x00", "a.b IS NOT NULL"} {
		f.Add(s)
	}
	row := make([]value.Value, len(scan.Columns))
	f.Fuzz(func(t *testing.T, s string) {
		parsed, err := Parse(s)
		if err != nil {
			if e := err.(*Error); e.Pos > len(s) || e.Error() == "" {
				t.Fatalf("%q: place %d", s, e.Pos)
			}
			return
		}
		printed := parsed.String()
		again, err := Parse(printed)
		if err != nil && len(printed) <= MaxText {
			t.Fatalf("%q prints as %q, which does not parse: %v", s, printed, err)
		}
		if err == nil && again.String() != printed {
			t.Fatalf("%q prints as %q, and that as %q", s, printed, again)
		}
		if bound, errs := Bind(s, TableScope(scan)); len(errs) == 0 {
			bound.Eval(row)
			bound.Never()
		}
	})
}
