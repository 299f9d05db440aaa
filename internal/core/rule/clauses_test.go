package rule

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/period"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

const full = `rule: boarding-scans
about: "Why: # \"quoted\" and\nbroken"
enabled: false
source: harbour
table: 'audit.Scan "x"'
age: {column: made, unit: milliseconds, never: [0, "-1"]}
zone: Europe/Athens
modified: touched
joins:
  booking: {table: booking, on: {booking_id: id}}
related:
  - table: scan_note
    on: {scan_id: id, "Gate No": gate}
    then: archive
    related:
      - {table: note_page, then: purge}
      - {table: 'audit."Odd" note', then: unlink}
  - {table: survey, then: unlink}
include: [booking.state, 'booking."Made At"']
copy: [booking]
clauses:
  - where: outcome = 'refused' AND note LIKE '100!%' ESCAPE '!'
    keep: P3Y
    locked: section 12
    about: evidence
  - keep: forever
    where: booking.state = 'open'
    enabled: false
  - before: 2024-01-01T00:00:00+02:00
    where: id < 5
    then: purge
  - newest: 6 partitions
    where: id > 100
    archive: {store: other, keep: P1Y}
    omit: [photo]
  - keep: disputes
    align: quarter
    otherwise: true
    mask: {name: last4}
then: copy
delete_after: P7D
archive: {store: cellar, keep: P7Y, from: age}
pace: unlimited
window: ["22:00-05:00", "sat,sun 00:00-24:00"]
budget: {rows: 2000000, time: PT4H}
log: {minute: 200 MB, run: 1.5 GiB}
limits: {waiting: 2, replica_delay: 500 ms, active: off}
partitions: rows
`

func TestWhatIsWrittenIsReadBackTheSame(t *testing.T) {
	docs, _ := Parse("f", []byte(full))
	if len(docs) != 1 {
		t.Fatal("the rule is not read")
	}
	want := docs[0].Rule
	text := Write(&want)
	again, problems := Parse("f", []byte(text))
	if len(again) != 1 || !reflect.DeepEqual(again[0].Rule, want) {
		t.Errorf("%v\n%s\nis read as\n%+v\ninstead of\n%+v", problems, text, again, want)
	}
	var carried Rule // as the console's form has it
	b, err := json.Marshal(&want)
	if err == nil {
		err = json.Unmarshal(b, &carried)
	}
	if got := Write(&carried); err != nil || got != text {
		t.Errorf("through JSON it is written as\n%s\ninstead of\n%s\n(%v)", got, text, err)
	}
}

func FuzzWrite(f *testing.F) {
	f.Add("scan", "why: not", "outcome = 'x'", "1")
	f.Add("a\"b\\c", "\n\t- [", "\"q\" = 'it''s #'", "é\u2028")
	f.Fuzz(func(t *testing.T, table, about, where, never string) {
		r := Rule{RuleSubject: RuleSubject{Name: "r", Source: "s", Table: strings.TrimSpace(table),
			About: strings.TrimSpace(about), Age: Age{Column: "a", Never: []string{strings.TrimSpace(never)}}},
			RuleRows: RuleRows{Clauses: []Clause{{Where: strings.TrimSpace(where),
				Keep: Keep{Period: period.Period{Months: 18}}}}},
			RuleThen: RuleThen{Then: ThenPurge},
			RulePace: RulePace{Pace: "gentle"}}
		for _, s := range []string{r.Table, r.About, r.Clauses[0].Where, r.Age.Never[0]} {
			for _, c := range s {
				if c == 0xFFFD || c == 0 || c == 0x85 || c == '\r' || c == 0xFEFF {
					return // not text that a form sends
				}
			}
		}
		if r.Table == "" || r.Clauses[0].Where == "" || r.Age.Never[0] == "" {
			return
		}
		docs, problems := Parse("f", []byte(Write(&r)))
		if len(docs) != 1 || !reflect.DeepEqual(docs[0].Rule, r) {
			t.Errorf("%s\nis read as %+v (%v)", Write(&r), docs, problems)
		}
	})
}

var scanTable = &shape.Table{TableForm: shape.TableForm{Name: "scan", Key: []string{"id"},
	Columns: []shape.Column{{Name: "id", Kind: value.Int},
		{Name: "outcome", Kind: value.Text}, {Name: "at", Kind: value.Instant, Age: shape.AgeTime}}}}

func at(s string) time.Time {
	t, err := time.Parse(time.DateOnly, s)
	if err != nil {
		panic(err)
	}
	return t
}

// governor evaluates terms on a row as the databases do.
func governor(terms []Term, row []value.Value) int {
	for _, t := range terms {
		governs := !t.None && (t.Where == nil || t.Where.Eval(row).Only())
		for _, x := range t.Except {
			governs = governs && !x.Eval(row).Only()
		}
		if governs {
			return t.Clause
		}
	}
	return -1
}

func TestTheLongestKeepGoverns(t *testing.T) {
	row := func(id int64, outcome string) []value.Value {
		v := value.OfText(outcome)
		if outcome == "" {
			v = value.Value{}
		}
		return []value.Value{value.Of(id), v, {}}
	}
	refused, small, none := Clause{Where: "outcome = 'refused'"}, Clause{Where: "id < 10"}, Clause{Otherwise: true}
	keep := func(c Clause, text string) Clause {
		switch text {
		case "forever":
			c.Keep.Forever = true
		case "off":
			c.Off = true
			c.Keep.Period = period.Period{Years: 1}
		default:
			c.Keep.Period, _ = period.Parse(text)
		}
		return c
	}
	for _, c := range []struct {
		name    string
		clauses []Clause
		// who governs: a small refused row, a large refused one, a small other one, a large other one, one of unknown
		// outcome
		want []int
	}{
		{"the longer first", []Clause{keep(refused, "P3Y"), keep(small, "P1Y")}, []int{0, 0, 1, -1, -1}},
		{"the longer second", []Clause{keep(refused, "P1Y"), keep(small, "P3Y")}, []int{1, 0, 1, -1, -1}},
		{"forever beats all", []Clause{keep(refused, "P99Y"), keep(small, "forever")}, []int{1, 0, 1, -1, -1}},
		{"equally long, the first", []Clause{keep(refused, "P1Y"), keep(small, "P12M")}, []int{0, 0, 1, -1, -1}},
		{"one is off", []Clause{keep(refused, "off"), keep(small, "P1Y")}, []int{1, -1, 1, -1, -1}},
		{"otherwise, NULLs among them", []Clause{keep(refused, "P3Y"), keep(none, "P9Y")}, []int{0, 0, 1, 1, 1}},
		{"otherwise of two", []Clause{keep(refused, "P3Y"), keep(none, "P1Y"), keep(small, "P2Y")},
			[]int{0, 0, 2, 1, 1}},
		{"every row and some", []Clause{keep(Clause{}, "P2Y"), keep(refused, "P3Y")}, []int{1, 1, 0, 0, 0}},
		{"every row keeps longer", []Clause{keep(Clause{}, "P4Y"), keep(refused, "P3Y")}, []int{0, 0, 0, 0, 0}},
		{"nothing is left for otherwise", []Clause{keep(Clause{}, "P1Y"), keep(none, "P3Y")}, []int{0, 0, 0, 0, 0}},
	} {
		r := Rule{RuleRows: RuleRows{Clauses: c.clauses}}
		cutoffs, err := r.Cutoffs(at("2026-11-23"), Resolver{})
		if err != nil {
			t.Fatal(err)
		}
		terms, err := r.Terms(cutoffs, r.Scope(scanTable, nil))
		if err != nil {
			t.Fatal(err)
		}
		var got []int
		for _, x := range [][]value.Value{row(5, "refused"), row(50, "refused"), row(5, "ok"), row(50, "ok"),
			row(50, "")} {
			got = append(got, governor(terms, x))
		}
		if fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("%s: got %v, want %v", c.name, got, c.want)
		}
	}
}

func TestCutoffsOfEveryKind(t *testing.T) {
	parse := func(clause string) *Rule {
		docs, problems := Parse("f", []byte(
			"rule: r\nsource: s\ntable: t\nage: at\nzone: Europe/Athens\nconfirm: empty t\nclauses:\n  - "+clause+
				"\nthen: purge\n"))
		if len(docs) != 1 || Fatal(problems) {
			t.Fatalf("%s: %v", clause, problems)
		}
		return &docs[0].Rule
	}
	resolve := Resolver{Named: func(name string) (Named, bool) {
		return Named{Name: name, Period: period.Period{Months: 18}}, name == "disputes"
	}, Newest: func(n int, _ time.Time, _ *time.Location) (time.Time, error) {
		return at("2026-11-01").AddDate(0, 1-n, 0), nil
	}}
	now := time.Date(2026, 11, 23, 14, 0, 0, 500, time.UTC)
	for clause, want := range map[string]string{
		"keep: P11DT20H": "2026-11-11T18:00:00Z", "keep: 18 months": "2025-05-23T13:00:00Z",
		"keep: disputes\n    align: month": "2025-04-30T21:00:00Z", "keep: none": "2026-11-23T14:00:00Z",
		"before: 2024-01-01": "2023-12-31T22:00:00Z", "before: 2024-01-01T12:00:00Z": "2024-01-01T12:00:00Z",
		"before: 2999-01-01":   "2026-11-23T14:00:00Z",
		"newest: 6 partitions": "2026-06-01T00:00:00Z", "keep: forever": "never", "keep: nobody": "error",
	} {
		cutoffs, err := parse(clause).Cutoffs(now, resolve)
		got := "error"
		if err == nil && cutoffs[0].Never {
			got = "never"
		} else if err == nil {
			got = cutoffs[0].At.Format(time.RFC3339)
		}
		if got != want {
			t.Errorf("%s: got %s, want %s", clause, got, want)
		}
	}
}

func TestLockedClausesThatAreLoosened(t *testing.T) {
	text := "rule: r\nsource: s\ntable: t\nage: at\nclauses:\n  - keep: P3Y\n    where: id = 1\n    locked: law\n  " +
		"- keep: P1Y\n    otherwise: true\nthen: archive\narchive: {store: c, keep: P7Y}\n"
	before := parse(t, text).Rule
	for change, want := range map[string]string{
		"": "", "P3Y|P4Y": "", "P1Y\n|PT1S\n": "", "P3Y|1096 days": "",
		"P3Y|1090 days": "is shortened from P3Y to P1090D", "id = 1|id = 2": "is removed",
		"    locked: law\n|":  "is no longer locked",
		"keep: P7Y|keep: P6Y": "is archived for a shorter time", "keep: P3Y|before: 2024-01-01": "is shortened",
		"keep: P3Y|keep: forever":                              "",
		"    locked: law\n|    locked: law\n    then: purge\n": "purges instead of archiving",
		"age: at|age: made":                                    "counts from another age",
	} {
		old, new, _ := strings.Cut(change, "|")
		after := parse(t, strings.Replace(text, old, new, 1)).Rule
		got := strings.Join(Loosened(&before, &after, at("2026-11-23"), Resolver{}), "; ")
		if want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%q: got %q, want %q", change, got, want)
		}
	}
}

func TestOverruledClausesAndColumnsAreSeen(t *testing.T) {
	surroundings := Surroundings{Table: table(), Stores: []string{"cellar"}, Now: at("2026-11-23"),
		Keeps: map[string]Named{"disputes": {Name: "disputes", Period: period.Period{Years: 1}}}}
	head := "rule: r\nsource: harbour\ntable: boarding_scan\nage: scanned_at\nthen: archive\narchive: {store: " +
		"cellar}\n"
	for text, part := range map[string]string{
		"clauses:\n  - keep: P3Y\n  - keep: P1Y\n    where: gate = 'a'\n":   "wholly overruled",
		"clauses:\n  - keep: P3Y\n  - keep: P1Y\n    otherwise: true\n":     "no other rows are left",
		"clauses:\n  - keep: dispute\n":                                     "did you mean disputes?",
		"clauses:\n  - keep: P3Y\nomit: [gate]\n":                           "what stands in gate cannot be restored",
		"clauses:\n  - keep: P3Y\nomit: [gate]\nmask: {gate: blank}\n":      "left out already",
		"clauses:\n  - keep: P3Y\nmodified: gaet\n":                         "did you mean gate?",
		"clauses:\n  - keep: P3Y\njoins: {b: {table: b, on: {gate: id}}}\n": `no table "b"`,
		"clauses:\n  - keep: P3Y\n    archive: {store: celar}\n":            "clauses[0].archive.store",
		"clauses:\n  - keep: P3Y\n    archive: {from: sometime}\n":          "clauses[0].archive.from",
		"clauses:\n  - keep: P3Y\n    where: gate = 'a' AND gate = 'b'\n":   "exclude each other",
		"clauses:\n  - keep: P3Y\n    where: gate LIKE 'a' OR\n":            "instead of a column or a literal",
	} {
		docs, problems := Parse("f", []byte(head+text))
		problems = append(problems, Check(&docs[0], surroundings)...)
		var all []string
		for _, p := range problems {
			all = append(all, p.Error())
		}
		if !strings.Contains(strings.Join(all, "\n"), part) {
			t.Errorf("%s\ndoes not say %q but\n%s", text, part, strings.Join(all, "\n"))
		}
	}
}

func TestPartitionsThatHaveNotBegunAreNotTheNewest(t *testing.T) {
	athens, err := time.LoadLocation("Europe/Athens")
	if err != nil {
		t.Fatal(err)
	}
	parts := []shape.Partition{{Name: "first", To: "2026-01-01"}, {Name: "a", From: "2026-01-01", To: "2026-02-01"},
		{Name: "b", From: "2026-02-01 00:00:00", To: "2026-03-01 00:00:00"},
		{Name: "c", From: "2026-03-01 00:00:00+02", To: "x"}, {Name: "d", From: "2026-04-01 00:00:00"},
		{Name: "e", From: "2999-01-01"}}
	now := time.Date(2026, 3, 31, 21, 30, 0, 0, time.UTC) // in Athens, the first of April has begun
	for n, want := range map[int]string{1: "2026-03-31T21:00:00Z", 2: "2026-02-28T22:00:00Z",
		3: "2026-01-31T22:00:00Z", 4: "2025-12-31T22:00:00Z"} {
		got, err := Newest(parts, n, now, athens)
		if err != nil || got.UTC().Format(time.RFC3339) != want {
			t.Errorf("the newest %d begin at %s (%v) instead of %s", n, got, err, want)
		}
	}
	if got, err := Newest(parts, 1, now.Add(-time.Hour), athens); err != nil ||
		got.UTC().Format(time.RFC3339) != "2026-02-28T22:00:00Z" {
		t.Errorf("an hour before, the newest begins at %s (%v)", got, err)
	}
	for _, n := range []int{5, 6, 100} {
		if _, err := Newest(parts, n, now, athens); err == nil || !strings.Contains(err.Error(), "not more than") {
			t.Errorf("the newest %d: %v", n, err)
		}
	}
	if _, err := Newest([]shape.Partition{{Name: "odd", From: "blue"}}, 1, now, athens); err == nil ||
		!strings.Contains(err.Error(), "blue") {
		t.Errorf("a bound that is no time: %v", err)
	}
	if got := fmt.Sprint(Ahead(parts, now, athens), Ahead(parts, now.Add(-time.Hour), athens)); got != "[e] [d e]" {
		t.Errorf("ahead are %s", got)
	}
}
