package calendar

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/teambition/rrule-go"
)

func instant(t testing.TB, s string) time.Time {
	t.Helper()
	at, err := time.Parse(time.RFC3339, s)
	if err != nil {
		t.Fatal(err)
	}
	return at
}

func TestRecurrences(t *testing.T) {
	for _, c := range []struct{ text, spoken, times string }{
		{"daily at 02:30", "every day, at 02:30", "2026-11-30T02:30 2026-12-01T02:30 2026-12-02T02:30"},
		{"Weekdays  at 22:00", "every week on Monday to Friday, at 22:00",
			"2026-11-30T22:00 2026-12-01T22:00 2026-12-02T22:00 2026-12-03T22:00 2026-12-04T22:00 2026-12-07T22:00"},
		{"weekends at 06:00", "every week on Saturday and Sunday, at 06:00", "2026-12-05T06:00 2026-12-06T06:00"},
		{"mon, thu at 01:00 and 13:00", "every week on Monday and Thursday, at 01:00 and 13:00",
			"2026-11-30T01:00 2026-11-30T13:00 2026-12-03T01:00"},
		{"fri-mon at 05:05", "every week on Friday, Saturday, Sunday and Monday, at 05:05",
			"2026-11-30T05:05 2026-12-04T05:05 2026-12-05T05:05"},
		{"monthly on the first Monday at 01:00", "every month on the first Monday, at 01:00",
			"2026-12-07T01:00 2027-01-04T01:00 2027-02-01T01:00"},
		{"first Monday of every third month at 01:00", "every 3 months on the first Monday, at 01:00",
			"2027-01-04T01:00 2027-04-05T01:00 2027-07-05T01:00"},
		{"quarterly on the last day at 23:00", "every 3 months on the last day of the month, at 23:00",
			"2027-01-31T23:00 2027-04-30T23:00"},
		{"monthly on the 31st at 00:00", "every month on the 31st of the month, at 00:00",
			"2026-12-31T00:00 2027-01-31T00:00 2027-03-31T00:00"},
		{"monthly on the last weekday at 18:00",
			"every month on Monday to Friday, only the last of these, at 18:00",
			"2026-11-30T18:00 2026-12-31T18:00 2027-01-29T18:00"},
		{"every 1 January at 03:00", "every year on 1 January, at 03:00", "2027-01-01T03:00 2028-01-01T03:00"},
		{"yearly on the first sunday of march at 04:00", "every year on the first Sunday in March, at 04:00",
			"2027-03-07T04:00 2028-03-05T04:00"},
		{"every 29 february at 00:00", "every year on 29 February, at 00:00", "2028-02-29T00:00 2032-02-29T00:00"},
		{"hourly", "every hour, at minute 0", "2026-11-30T00:00 2026-11-30T01:00"},
		{"every 6 hours at :15", "every 6 hours, at minute 15", "2026-11-30T00:15 2026-11-30T06:15"},
		{"every 20 minutes", "every 20 minutes", "2026-11-30T00:00 2026-11-30T00:20"},
		{"every other week on saturday at 12:00", "every 2 weeks on Saturday, at 12:00",
			"2026-12-05T12:00 2026-12-19T12:00"},
		{"30 2 * * *", "every day, at 02:30", "2026-11-30T02:30 2026-12-01T02:30"},
		{"0 22 * * 1-5", "every Monday to Friday, at 22:00", "2026-11-30T22:00 2026-12-01T22:00"},
		{"0 1 * * 7", "every Sunday, at 01:00", "2026-12-06T01:00 2026-12-13T01:00"},
		{"*/20 * * * *", "every day, every 20 minutes", "2026-11-30T00:00 2026-11-30T00:20"},
		{"5 3 1,15 jan *", "on day 1 and 15 of every month in January, at 03:05", "2027-01-01T03:05 2027-01-15T03:05"},
		{"FREQ=MONTHLY;INTERVAL=3;BYDAY=1MO;BYHOUR=1", "every 3 months on the first Monday, at 01:00",
			"2027-01-04T01:00 2027-04-05T01:00"},
		{"rrule:freq=daily;byhour=2;byminute=30", "every day, at 02:30", "2026-11-30T02:30 2026-12-01T02:30"},
		{"FREQ=WEEKLY", "every week, at 00:00", "2026-12-07T00:00 2026-12-14T00:00"},
	} {
		r, err := ParseRecurrence(c.text)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		if got := r.Spoken(); got != c.spoken {
			t.Errorf("%s: spoken %q, want %q", c.text, got, c.spoken)
		}
		want := strings.Fields(c.times)
		var got []string
		for _, at := range r.Times(len(want), instant(t, "2026-11-29T23:59:59Z"), time.Time{}, time.UTC) {
			got = append(got, at.Format("2006-01-02T15:04"))
		}
		if c.text == "FREQ=WEEKLY" { // at midnight of a Monday, which is not after itself
			got = got[1:]
			want = want[:1]
		}
		if strings.Join(got, " ") != strings.Join(want, " ") {
			t.Errorf("%s: comes at %v, want %v", c.text, got, want)
		}
	}
}

func TestRecurrencesThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                               "there is no time in it",
		"daily":                          "it ends where `at` and a time",
		"daily at 25:00":                 `column 10: "25:00" is not understood; here should stand a time of day`,
		"daily at 02:30 and 13:45":       "column 20: the times of one schedule are at the same minute",
		"dayly at 02:30":                 `column 1: "dayly" is not understood`,
		"monthly on the first mondey at": `column 22: "mondey" is not understood`,
		"monthly on day 32 at 01:00":     `column 16: "32"`,
		"every 0 days at 01:00":          `column 7: "0"`,
		"every 99999 days at 01:00":      "a number from 1 to 1000",
		"first monday of every blue at":  `column 23: "blue"`,
		"30 25 * * *":                    `field 2, "25", is no hour (0-23)`,
		"30 2 * *":                       "cron has five fields",
		"0 30 2 * * *":                   "cron has five fields",
		"30 2 * * mon-foo":               `field 5, "mon-foo", is no day of the week`,
		"@daily":                         "short form of cron",
		"FREQ=DAILY;BYHOUR=25":           `column 12: "BYHOUR=25"`,
		"RRULE:FREQ=DAILY;BYHUOR=2":      `column 18: "BYHUOR=2"`,
		"BYHOUR=2":                       "RFC 5545",
		"FREQ=SECONDLY":                  "nothing happens by the second",
		"FREQ=MINUTELY;BYSETPOS=300":     "BYSETPOS takes some of the days",
		"FREQ=DAILY;COUNT=20000":         "is more than 10000",
		"FREQ=DAILY;FREQ=DAILY":          "column 12: FREQ stands twice",
		"FREQ=YEARLY;BYEASTER=-2":        "column 13: BYEASTER is no part of RFC 5545",
		"FREQ=DAILY;DTSTART=20270101":    "column 12: the start stands beside the rule",
		strings.Repeat("daily ", 100):    "longer than 500",
	} {
		if _, err := ParseRecurrence(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

func TestClocksThatAreSet(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ text, after, want string }{
		// 02:00 to 03:00 does not exist on 28 March 2027: the moment of the jump
		{"daily at 02:30", "2027-03-27T12:00:00Z", "2027-03-28T01:00:00Z 2027-03-29T00:30:00Z"},
		{"30 2 * * *", "2027-03-27T12:00:00Z", "2027-03-28T01:00:00Z 2027-03-29T00:30:00Z"},
		// 02:30 comes twice on 31 October 2027: the first
		{"daily at 02:30", "2027-10-30T12:00:00Z", "2027-10-31T00:30:00Z 2027-11-01T01:30:00Z"},
		{"30 2 * * *", "2027-10-31T00:30:00Z", "2027-11-01T01:30:00Z"},
		{"30 2 * * *", "2027-10-31T01:10:00Z", "2027-11-01T01:30:00Z"},
		// every hour that the clocks show, once each
		{"hourly", "2027-10-30T23:30:00Z", "2027-10-31T00:00:00Z 2027-10-31T02:00:00Z"},
		{"hourly", "2027-03-28T00:30:00Z", "2027-03-28T01:00:00Z 2027-03-28T02:00:00Z"},
	} {
		r, err := ParseRecurrence(c.text)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, at := range r.Times(len(strings.Fields(c.want)), instant(t, c.after), time.Time{}, zone) {
			got = append(got, at.Format(time.RFC3339))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s after %s: %v, want %s", c.text, c.after, got, c.want)
		}
	}
}

func TestRecurrencesFromAStart(t *testing.T) {
	from := instant(t, "2027-01-05T00:00:00Z")
	for text, want := range map[string]string{
		"every 1 January at 00:00":       "2028-01-01",
		"FREQ=MONTHLY":                   "2027-01-05",
		"every 10 days at 00:00":         "2027-01-05",
		"FREQ=DAILY;INTERVAL=10;COUNT=3": "2027-01-05",
		"daily at 00:00":                 "2027-01-05",
		"0 0 * * 1":                      "2027-01-11",
	} {
		r, err := ParseRecurrence(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := r.Next(instant(t, "2026-11-30T00:00:00Z"), from, time.UTC).Format(time.DateOnly); got != want {
			t.Errorf("%s: first on %s, want %s", text, got, want)
		}
	}
	counted, err := ParseRecurrence("FREQ=DAILY;INTERVAL=10;COUNT=3")
	if err != nil {
		t.Fatal(err)
	}
	if got := counted.Times(10, from.Add(-time.Second), from, time.UTC); len(got) != 3 ||
		got[2].Format(time.DateOnly) != "2027-01-25" {
		t.Errorf("three times in all: %v", got)
	}
}

func TestWhatNeverComes(t *testing.T) {
	for _, text := range []string{"0 0 31 2 *", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "every 31 april at 01:00",
		"FREQ=DAILY;UNTIL=20200101T000000Z", "FREQ=MINUTELY;BYMONTH=2;BYMONTHDAY=30",
		"FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30", "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30", "FREQ=DAILY;COUNT=3",
		"FREQ=MONTHLY;BYMONTHDAY=1;BYSETPOS=3"} {
		r, err := ParseRecurrence(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if at := r.Next(instant(t, "2026-11-30T00:00:00Z"), time.Time{}, time.UTC); !at.IsZero() {
			t.Errorf("%s: comes at %s", text, at)
		}
	}
}

// A rule that is looked at from nearby gives the same times as one that is counted through from its start.
func TestStartsThatAreMovedChangeNothing(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	for _, text := range []string{"FREQ=DAILY;INTERVAL=7;BYHOUR=3", "FREQ=WEEKLY;INTERVAL=3;BYDAY=TU,SU;WKST=SU",
		"FREQ=WEEKLY;INTERVAL=2", "FREQ=MONTHLY;INTERVAL=5;BYDAY=-1FR", "FREQ=MONTHLY;INTERVAL=2;BYMONTHDAY=31",
		"FREQ=YEARLY;INTERVAL=3;BYMONTH=6;BYDAY=2WE", "FREQ=HOURLY;INTERVAL=7;BYMINUTE=20", "FREQ=YEARLY;BYWEEKNO=20",
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "FREQ=DAILY;BYMONTH=3,9;INTERVAL=2"} {
		r, err := ParseRecurrence(text)
		if err != nil {
			t.Fatal(err)
		}
		for range 20 {
			base := time.Date(2019, 1, 1+random.IntN(700), 0, 0, 0, 0, time.UTC)
			after := base.Add(time.Duration(random.IntN(5*365*24*60)) * time.Minute)
			through := *r.rule
			through.Dtstart = base
			fixed(&through, base)
			whole, err := rrule.NewRRule(through)
			if err != nil {
				t.Fatal(err)
			}
			if got, want := nextByRule(*r.rule, after, base), whole.After(after, false); !got.Equal(want) {
				t.Errorf("%s from %s: after %s comes %s, want %s", text, base, after, got, want)
			}
		}
	}
}

func FuzzParseRecurrence(f *testing.F) {
	for _, s := range []string{"daily at 02:30", "0 22 * * 1-5", "FREQ=MONTHLY;BYDAY=1MO", "every 1 January at 03:00",
		"first monday of every third month at 01:00", "*/5 1-3,7 * jan 7"} {
		f.Add(s)
	}
	after := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, s string) {
		r, err := ParseRecurrence(s)
		if err != nil {
			return
		}
		if r.Spoken() == "" {
			t.Errorf("%q has no words", s)
		}
		again, err := ParseRecurrence(r.Text)
		if err != nil {
			t.Fatalf("%q: %v", r.Text, err)
		}
		found := make(chan time.Time, 1)
		go func() { found <- r.Next(after, time.Time{}, time.UTC) }()
		var at time.Time
		select {
		case at = <-found:
		case <-time.After(5 * time.Second):
			t.Fatalf("%q takes more than 5 s", s)
		}
		if !at.IsZero() && !at.After(after) {
			t.Errorf("%q: %s is not after %s", s, at, after)
		}
		if other := again.Next(after, time.Time{}, time.UTC); !other.Equal(at) {
			t.Errorf("%q: %s, read again %s", s, at, other)
		}
	})
}
