package declare

import (
	"strings"
	"testing"
)

const fleet = `# the fleet
source: harbour
engine: postgres
address: postgres://keeper@db.example/harbour
password_file: /etc/ambercellar/secrets/harbour
guard:
  live: P90D
  never: [ledger]
  window: ["22:00-05:00"]
---
store: vault
path: /srv/vault
scrub: {every: P30D, rate: 1048576}
---
keep: disputes
period: P3Y
about: Fares are disputed for three years.
---
rule: fares
source: harbour
table: fare
age: made_at
zone: UTC
clauses:
  - keep: disputes
then: purge
`

func TestAFileDeclaresThingsOfAllKinds(t *testing.T) {
	things, problems := Parse("fleet.yaml", []byte(fleet))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	var got []string
	for _, x := range things {
		got = append(got, x.Kind+" "+x.Name)
		if begins := strings.Split(fleet, "\n")[x.Line-1]; !strings.HasPrefix(begins, x.Kind+": "+x.Name) {
			t.Errorf("%s %s begins on line %d: %q", x.Kind, x.Name, x.Line, begins)
		}
	}
	if s := strings.Join(got, ", "); s != "source harbour, store vault, keep disputes, rule fares" {
		t.Errorf("it declares %s", s)
	}
	s, v := things[0].Source, things[1].Store
	if s.Engine != "postgres" || s.Guard.Live != "P90D" || s.Guard.Never[0] != "ledger" || v.Scrub.Rate != 1<<20 ||
		!strings.HasPrefix(things[3].Text, "rule: fares\n") {
		t.Errorf("%+v, %+v, %+v", s, s.Guard, v)
	}
	again, problems := Parse("again.yaml", []byte(s.Form()+"---\n"+v.Form()))
	if len(problems) > 0 || again[0].Source.Form() != s.Form() || again[1].Store.Form() != v.Form() {
		t.Errorf("what is written is read as something else: %v\n%s", problems, s.Form())
	}
}

func TestEveryFaultHasItsPlace(t *testing.T) {
	for text, want := range map[string]string{
		"source: a\nadress: x\n": "x.yaml:2:1: field source: unknown field \"adress\"; did you mean " +
			"address?",
		"---\n\nstore: a\npath: [x, y]\n": "x.yaml:4:",
		"store:\npath: x\n":               "x.yaml:1:1: field store: the name is missing; write `store: NAME`",
		"source: a\n  b: c\n":             "x.yaml:",
		"rule: r\n---\nsource: a\nfoo: 1\n": "x.yaml:4:1: field source: unknown field \"foo\"; the " +
			"fields of a source are",
		"source: a\nconnections: many\n": "x.yaml:2:14: field source: a whole number is wanted here",
		"source: a\naddress: {b: c}\n":   "x.yaml:2:10: field source: a text is wanted here",
		"source: a\nguard: 7\n":          "x.yaml:2:8: field source: int was used where mapping is expected",
		"source: a\nguard: {only: 7}\n":  "x.yaml:2:15: field source: int was used where sequence is expected",
		"nothing: here\n":                "x.yaml:1:1:",
		"":                               "x.yaml: the file holds no rule",
	} {
		_, problems := Parse("x.yaml", []byte(text))
		var all []string
		for _, p := range problems {
			all = append(all, p.Error())
		}
		if got := strings.Join(all, "\n"); !strings.Contains(got, want) {
			t.Errorf("of %q it says\n%s\nand not %s", text, got, want)
		}
	}
	two, _ := Parse("a.yaml", []byte("source: s\nengine: sqlite\naddress: /x\n"))
	more, _ := Parse("b.yaml", []byte("\nsource: s\n"))
	if p := Repeated(append(two, more...)); len(p) != 1 || p[0].File != "b.yaml" || p[0].Line != 2 ||
		!strings.Contains(p[0].Message, "in a.yaml, line 1") {
		t.Errorf("twice: %v", p)
	}
}

// TestNothingIsUndoneUnasked: whatever happens in which order, what somebody changed in the service drifts, and only
// what was changed in the file alone is taken up by itself.
func TestNothingIsUndoneUnasked(t *testing.T) {
	for _, c := range []struct {
		file, force, taken string
		want               Standing
		drifts             bool
	}{
		{"a", "a", "", DeclaredSame, false},
		{"a", "a", "b", DeclaredSame, false},
		{"a", "", "", DeclaredNew, false},
		{"a", "", "a", DeclaredNew, false},
		{"b", "a", "a", DeclaredNewer, false},
		{"a", "b", "a", DeclaredChanged, true},
		{"b", "c", "a", DeclaredConflict, true},
		{"a", "b", "", DeclaredConflict, true},
		{"", "a", "a", DeclaredGone, false},
		{"", "b", "a", DeclaredGone, false},
		{"", "a", "", Undeclared, false},
	} {
		if got := Compare(c.file, c.force, c.taken); got != c.want || got.Drifts() != c.drifts {
			t.Errorf("file %q, in force %q, taken up %q: %s, drifts %t", c.file, c.force, c.taken, got, got.Drifts())
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(fleet)
	f.Add("source: a\nguard: {live: [}\n")
	f.Add("store: a\nbucket: {endpoint: http://x, name: &a b}\nsecond: *a\n---\r\nkeep: x\n")
	f.Fuzz(func(t *testing.T, text string) {
		things, problems := Parse("f.yaml", []byte(text))
		for _, x := range things {
			if x.Name == "" && x.Source == nil && x.Store == nil && len(problems) == 0 {
				t.Errorf("no name: %+v", x)
			}
			if n := strings.Count(text, "\n") + strings.Count(text, "\r") + 1; x.Line < 1 || x.Line > n {
				t.Errorf("line %d of %d", x.Line, n)
			}
		}
	})
}
