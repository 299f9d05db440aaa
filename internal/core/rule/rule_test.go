package rule

import (
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/period"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

var update = flag.Bool("update", false, "write the golden files anew")

const good = `# why
rule: boarding-scans
about: |
  Fare disputes close within eighteen months.
source: harbour
table: boarding_scan
age: scanned_at
clauses:
  - keep: 18 months
    align: month
    otherwise: true
then: archive
archive: {store: cellar, keep: P7Y}
`

func parse(t *testing.T, text string) *Document {
	t.Helper()
	docs, problems := Parse("rules.yaml", []byte(text))
	if len(problems) > 0 || len(docs) != 1 {
		t.Fatalf("%d rules, problems %v", len(docs), problems)
	}
	return &docs[0]
}

func TestARuleIsReadInFull(t *testing.T) {
	d := parse(t, good)
	want := Rule{RuleSubject: RuleSubject{Name: "boarding-scans", About: "Fare disputes close within eighteen months.",
		Source: "harbour", Table: "boarding_scan", Age: Age{Column: "scanned_at"}},
		RuleRows: RuleRows{Clauses: []Clause{{Keep: Keep{Period: period.Period{Months: 18}}, Align: period.Month,
			Otherwise: true}}},
		RuleThen: RuleThen{Then: ThenArchive, Archive: Archive{Store: "cellar", Keep: &period.Period{Years: 7}}},
		RulePace: RulePace{Pace: "gentle"}}
	if !reflect.DeepEqual(d.Rule, want) {
		t.Errorf("got %+v, want %+v", d.Rule, want)
	}
	if d.Text != good {
		t.Errorf("the text was kept as %q", d.Text)
	}
	if got, err := d.Rule.Cutoffs(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Resolver{}); err != nil ||
		got[0].At.Format(time.DateOnly) != "2025-05-01" {
		t.Errorf("cutoff %v, %v", got, err)
	}
}

func TestMistakesAreNamedWithTheirPlace(t *testing.T) {
	in, err := os.ReadFile("testdata/mistakes.yaml")
	if err != nil {
		t.Fatal(err)
	}
	_, problems := Parse("mistakes.yaml", in)
	var b strings.Builder
	for _, p := range problems {
		b.WriteString(p.Error() + "\n")
	}
	golden := filepath.Join("testdata", "mistakes.golden")
	if *update {
		if err := os.WriteFile(golden, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if b.String() != string(want) {
		t.Errorf("got:\n%s\nwant:\n%s", b.String(), want)
	}
}

func TestFilesThatHoldNoRuleAreRefused(t *testing.T) {
	for name, text := range map[string]string{"empty": "", "comment": "# nothing\n", "separators": "---\n---\n",
		"list": "- a\n- b\n", "large": strings.Repeat("#", MaxFile+1)} {
		if _, problems := Parse("f", []byte(text)); !Fatal(problems) {
			t.Errorf("%s: no problem", name)
		}
	}
}

func table() *shape.Table {
	return &shape.Table{TableForm: shape.TableForm{Name: "boarding_scan", Key: []string{"id"},
		Columns: []shape.Column{{Name: "id", Kind: value.Int, Age: shape.AgeNumber},
			{Name: "scanned_at", Kind: value.Instant, Age: shape.AgeTime}, {Name: "gate", Kind: value.Text}},
		Indexes: []shape.Index{{Columns: []string{"scanned_at"}}}}}
}

func TestCheckComparesARuleWithItsTable(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*Document, *shape.Table)
		field  string
		part   string // of the message or remedy; empty where nothing is wrong
		warn   bool
	}{
		{"all is well", func(*Document, *shape.Table) {}, "", "", false},
		{"the age column is misspelt", func(d *Document, _ *shape.Table) { d.Rule.Age.Column = "scaned_at" }, "age",
			"did you mean scanned_at?", false},
		{"the age column cannot tell an age", func(d *Document, _ *shape.Table) { d.Rule.Age.Column = "gate" }, "age",
			"cannot tell an age", false},
		{"a number has no unit", func(d *Document, _ *shape.Table) { d.Rule.Age.Column = "id" }, "age",
			"unit is not said", false},
		{"a timestamp has a unit", func(d *Document, _ *shape.Table) { d.Rule.Age.Unit = Seconds }, "age.unit",
			"needs no unit", false},
		{"no index serves", func(_ *Document, t *shape.Table) { t.Indexes = nil }, "age", "no index", true},
		{"a partial index does not serve", func(_ *Document, t *shape.Table) { t.Indexes[0].Partial = true }, "age",
			"no index", true},
		{"there is no key", func(_ *Document, t *shape.Table) { t.Key = nil }, "table", "primary key", false},
		{"a cascade reaches another table", func(_ *Document, t *shape.Table) {
			t.ReferencedBy = []shape.ForeignKey{{Name: "k", Table: "claim", OnDelete: "cascade"}}
		}, "table", "claim", false},
		{"another table refers to rows", func(_ *Document, t *shape.Table) {
			t.ReferencedBy = []shape.ForeignKey{{Name: "k", Table: "claim", OnDelete: "no action"}}
		}, "table", "stay", true},
		{"a trigger fires", func(_ *Document, t *shape.Table) { t.Triggers = []string{"shout"} }, "table", "shout",
			true},
		{"a type cannot be archived", func(_ *Document, t *shape.Table) {
			t.Columns[2].Problem = "values of type money cannot be archived exactly"
		}, "table", `"gate"`, false},
		{"a table cannot take part", func(_ *Document, t *shape.Table) { t.Obstacles = []string{"it is a view"} },
			"table", "view", false},
		{"the store is misspelt", func(d *Document, _ *shape.Table) { d.Rule.Archive.Store = "celar" },
			"archive.store", "did you mean cellar?", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, tab := parse(t, good), table()
			c.change(d, tab)
			problems := Check(d, Surroundings{Table: tab, Stores: []string{"cellar"},
				Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
			if c.part == "" {
				if len(problems) > 0 {
					t.Errorf("got %v", problems)
				}
				return
			}
			if len(problems) != 1 || problems[0].Field != c.field || !strings.Contains(problems[0].Error(), c.part) ||
				problems[0].Warning != c.warn || problems[0].Line == 0 {
				t.Errorf("got %v, want one at %s about %q (warning: %v)", problems, c.field, c.part, c.warn)
			}
		})
	}
}

func TestCompareSaysWhatChanged(t *testing.T) {
	a, b := parse(t, good).Rule, parse(t, strings.NewReplacer("18 months", "P2Y", "then: archive", "then: purge",
		"archive: {store: cellar, keep: P7Y}\n", "").Replace(good)).Rule
	want := []string{"clauses: keep P18M, align month, otherwise → keep P2Y, align month, otherwise",
		"then: archive → purge", "archive.store: cellar → nothing", "archive.keep: P7Y → nothing"}
	if got := Compare(&a, &b); !reflect.DeepEqual(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
	if got := Compare(&a, &a); len(got) != 0 {
		t.Errorf("a rule differs from itself: %q", got)
	}
}

func TestAgesAreReadAsInstants(t *testing.T) {
	want := time.Date(2024, 2, 29, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		age Age
		v   value.Value
		ok  bool
	}{
		{Age{}, value.OfText("2024-02-29 12:00:00"), true}, {Age{}, value.OfText("2024-02-29T14:00:00.0+02:00"), true},
		{Age{}, value.OfText("2024-02-30"), false}, {Age{}, value.OfText("soon"), false},
		{Age{Unit: Seconds}, value.Of(want.Unix()), true}, {Age{Unit: Milliseconds}, value.Of(want.UnixMilli()), true},
		{Age{Unit: Microseconds}, value.Of(want.UnixMicro()), true}, {Age{}, value.Of(1), false},
		{Age{}, value.Value{Kind: value.Instant, N: want.UnixMicro()}, true},
		{Age{}, value.Value{Kind: value.Timestamp, N: value.Infinity}, false}, {Age{}, value.Value{}, false},
	} {
		if got, ok := c.age.Instant(c.v); ok != c.ok || ok && !got.Equal(want) {
			t.Errorf("%s with unit %q: %s, %v", c.v.Exact(), c.age.Unit, got, ok)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(good)
	if in, err := os.ReadFile("testdata/mistakes.yaml"); err == nil {
		f.Add(string(in))
	}
	f.Fuzz(func(t *testing.T, text string) {
		docs, problems := Parse("f", []byte(text))
		if len(docs) == 0 && len(problems) == 0 {
			t.Error("nothing was read and nothing is wrong")
		}
		for _, p := range problems {
			if p.Message == "" || p.Line < 0 {
				t.Errorf("a problem without message or place: %+v", p)
			}
		}
	})
}
