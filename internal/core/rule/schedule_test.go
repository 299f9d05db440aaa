package rule

import (
	"reflect"
	"strings"
	"testing"
	"time"
)

const nights = `schedule: quiet-nights
when: weekdays at 22:00
zone: Europe/Athens
missed: skip
about: The harbour office is closed.
`

// scheduled is the good rule with further fields.
func scheduled(t *testing.T, fields string) (*Document, []Problem) {
	t.Helper()
	docs, problems := Parse("rules.yaml", []byte(good+fields))
	if len(docs) != 1 {
		t.Fatalf("%d documents, %v", len(docs), problems)
	}
	return &docs[0], problems
}

func TestSchedulesAreReadAndWritten(t *testing.T) {
	for fields, spoken := range map[string]string{
		"schedule: daily at 02:30\n":                  "every day, at 02:30 (UTC)",
		"schedule: \"30 2 * * *\"\n":                  "every day, at 02:30 (UTC)",
		"schedule: FREQ=MONTHLY;BYDAY=1MO;BYHOUR=1\n": "every month on the first Monday, at 01:00 (UTC)",
		"schedule: {when: every 1 January at 03:00, from: 2027-01-01, zone: Europe/Athens, missed: skip}\n": "every " +
			"year on 1 January, at 03:00 (Europe/Athens, from 2027-01-01)",
		"schedule: quiet-nights\n":                                             "as schedule quiet-nights",
		"schedule: {name: quiet-nights, missed: once}\n":                       "as schedule quiet-nights",
		"schedule: hourly\nlimit: {share: 50%, rows: 10M, against_last: 3x}\n": "every hour, at minute 0 (UTC)",
	} {
		d, problems := scheduled(t, fields)
		if len(problems) > 0 {
			t.Errorf("%s: %v", fields, problems)
			continue
		}
		if got := d.Rule.Schedule.Spoken(d.Rule.Location()); got != spoken {
			t.Errorf("%s: spoken %q, want %q", fields, got, spoken)
		}
		again, problems := Parse("again.yaml", []byte(Write(&d.Rule)))
		if len(again) != 1 || len(problems) > 0 || !reflect.DeepEqual(again[0].Rule, d.Rule) {
			t.Errorf("%s is read again as %+v (%v)", Write(&d.Rule), again, problems)
		}
		plain, _ := scheduled(t, "")
		if changes := Compare(&plain.Rule, &d.Rule); len(changes) == 0 ||
			!strings.HasPrefix(changes[0], "schedule: nothing → ") {
			t.Errorf("%s: changes %q", fields, changes)
		}
	}
}

func TestSchedulesThatCannotBeRead(t *testing.T) {
	for fields, want := range map[string]string{
		"schedule: daily at 25:00\n": `14:11: rule boarding-scans: field schedule: ` +
			`column 10: "25:00" is not understood`,
		"schedule: {from: 2027-01-01}\n": "field schedule.when: it is not said when the " +
			"rule runs",
		"schedule: {when: hourly, zone: Mars/Olympus}\n":       `field schedule.zone: "Mars/Olympus" is no zone`,
		"schedule: {when: hourly, missed: twice}\n":            `field schedule.missed: "twice" is no way`,
		"schedule: {when: hourly, from: tomorrow}\n":           `field schedule.from: "tomorrow" is no day`,
		"schedule: {name: quiet-nights, when: hourly}\n":       "field schedule.name: a named schedule says itself",
		"schedule: hourly\nlimit: {share: 150%}\n":             `field limit.share: "150%" is no share`,
		"schedule: hourly\nlimit: {against_last: 3}\n":         `field limit.against_last: "3" is no multiple`,
		"schedule: hourly\nlimit: {}\n":                        "field limit: it is not said how much",
		"schedule: hourly\nlimit: {rows: many}\n":              `field limit.rows: "many" is not a number`,
		"schedule: \"30 2 * * *\"\nschedule: daily at 03:00\n": "",
	} {
		_, problems := Parse("rules.yaml", []byte(good+fields))
		said := ""
		for _, p := range problems {
			said += p.Error() + "\n"
		}
		if len(problems) == 0 || !strings.Contains(said, want) {
			t.Errorf("%s: %q, want %q", fields, said, want)
		}
	}
}

func TestNamedSchedules(t *testing.T) {
	docs, problems := Parse("rules.yaml", []byte(nights))
	if len(docs) != 1 || len(problems) > 0 || docs[0].Schedule == nil || docs[0].Schedule.Missed != MissedSkip {
		t.Fatalf("%+v, %v", docs, problems)
	}
	if kind, name := docs[0].Named(); kind != "schedule" || name != "quiet-nights" {
		t.Errorf("it is the %s %s", kind, name)
	}
	for text, want := range map[string]string{
		"schedule: hourly\nwhen: hourly\n":       "says when something happens and cannot be a name",
		"schedule: Quiet Nights\nwhen: hourly\n": "is not a name for a schedule",
		"schedule: quiet-nights\n":               "it is not said when the schedule fires",
	} {
		if _, problems := Parse("rules.yaml", []byte(text)); len(problems) == 0 ||
			!strings.Contains(problems[0].Message, want) {
			t.Errorf("%s: %v, want %q", text, problems, want)
		}
	}
	named := map[string]NamedSchedule{"quiet-nights": *docs[0].Schedule}
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC) // a Sunday
	d, _ := scheduled(t, "schedule: {name: quiet-nights, missed: once}\n")
	whole, ok := d.Rule.Schedule.Resolved(named)
	if next := whole.Next(now, time.UTC); !ok || whole.Missed != MissedOnce ||
		next.Format(time.RFC3339) != "2026-11-30T20:00:00Z" {
		t.Errorf("%+v fires next at %s", whole, next)
	}
	for fields, want := range map[string]string{
		"schedule: busy-days\n":                                `there is no schedule "busy-days"`,
		"schedule: {when: daily at 01:00, from: 2026-01-01}\n": "its start 2026-01-01 has passed",
		"schedule: every 30 february at 01:00\n":               "the schedule never fires",
		"limit: {rows: 5}\n":                                   "the limit is for scheduled runs",
	} {
		d, _ := scheduled(t, fields)
		c := &checking{Surroundings: Surroundings{Schedules: named, Now: now}, doc: d, rule: &d.Rule}
		c.scheduled()
		if len(c.out) != 1 || !strings.Contains(c.out[0].Message, want) {
			t.Errorf("%s: %v, want %q", fields, c.out, want)
		}
	}
}

func TestLimitsOfScheduledRuns(t *testing.T) {
	l := &Limit{Share: 0.5, Rows: 1000, AgainstLast: 3}
	for _, c := range []struct {
		due, table, last int64
		want             string
	}{
		{1000, 2000, 0, ""}, {1001, 5000, 0, "it would take 1,001 rows, and the rule's limit is 1,000"},
		{600, 1000, 0, "60.0 % of the table's rows"}, {600, 0, 0, ""}, {600, 2000, 200, ""},
		{601, 2000, 200, "3.0 times as many as the run before it took (200)"},
	} {
		if got := l.Over(c.due, c.table, c.last); !strings.Contains(got, c.want) || (c.want == "") != (got == "") {
			t.Errorf("%+v: %q, want %q", c, got, c.want)
		}
	}
	var none *Limit
	if got := none.Over(1e9, 1, 1); got != "" {
		t.Errorf("no limit: %q", got)
	}
}

func TestABoundIsAShareThatCanBeKept(t *testing.T) {
	for text, want := range map[string]float64{"{bound: 10%}": 0.1, "{bound: 2.5 %}": 0.025, "{bound: 100%}": 1,
		"{bound: 1%}": 0.01, "gentle": 0, "{bound: 0%}": -1, "{bound: 1000%}": -1, "{bound: 0.1}": -1,
		"{bound: -5%}":  -1,
		"{bound: NaN%}": -1, "{bound: many}": -1, "{bound: [1%]}": -1, "{}": -1, "[10%]": -1, "{limit: 3%}": -1} {
		docs, problems := Parse(
			"f",
			[]byte("rule: scans\nsource: harbour\ntable: scan\nage: scanned_at\nthen: purge\n"+
				"clauses:\n  - keep: P1Y\npace: "+text+"\n"),
		)
		if want < 0 {
			if len(problems) == 0 || !strings.HasPrefix(problems[0].Field, "pace") || problems[0].Remedy == "" {
				t.Errorf("%s: %v", text, problems)
			}
			continue
		}
		if len(problems) > 0 || len(docs) != 1 || docs[0].Rule.Bound != want {
			t.Errorf("%s: %v", text, problems)
			continue
		}
		again, problems := Parse("f", []byte(Write(&docs[0].Rule)))
		if len(problems) > 0 || again[0].Rule.Bound != want || again[0].Rule.Pace != docs[0].Rule.Pace {
			t.Errorf("%s: written as\n%s", text, Write(&docs[0].Rule))
		}
	}
}
