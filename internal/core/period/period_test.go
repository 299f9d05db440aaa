package period

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // zones must not depend on the machine
)

func TestParseReadsISOAndSpokenForms(t *testing.T) {
	for text, want := range map[string]string{
		"P18M": "P18M", "p18m": "P18M", "P1Y6M": "P1Y6M", "P90D": "P90D", "PT12H": "PT12H", "P11DT20H": "P11DT20H",
		"P2W": "P2W", "PT1S": "PT1S", "P1Y2M3W4DT5H6M7S": "P1Y2M3W4DT5H6M7S",
		"18 months": "P18M", "1 year": "P1Y", " 1 Year and 6 Months ": "P1Y6M", "2 weeks, 3 days": "P2W3D",
		"90days": "P90D", "P0D": "PT0S",
	} {
		p, err := Parse(text)
		if err != nil || p.String() != want {
			t.Errorf("%q: got %s, %v; want %s", text, p, err, want)
		}
	}
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	for text, part := range map[string]string{
		"": "missing", "P": "no number", "PT": "no number", "P1DT": "no number", "-P1D": "negative",
		"P-1D": "negative", "18": "not a length of time", "eighteen months": "not a length of time",
		"1 month and 2 months": "twice", "P1.5M": "not a length of time", "P9999999Y": "too large",
		"1 fortnight": "not a length of time", "P1M ago": "not a length of time",
	} {
		if _, err := Parse(text); err == nil || !strings.Contains(err.Error(), part) {
			t.Errorf("%q: got %v, want something about %q", text, err, part)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"P18M", "1 year and 6 months", "P1Y2M3W4DT5H6M7S", "PT", "-P1D"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p, err := Parse(s)
		if err != nil {
			return
		}
		for _, again := range []string{p.String(), p.Spoken()} {
			if p.Zero() {
				break
			}
			if q, err := Parse(again); err != nil || q != p {
				t.Errorf("%q is %v, and its form %q is %v, %v", s, p, again, q, err)
			}
		}
	})
}

func at(s string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		panic(err)
	}
	return t
}

func TestCutoffsFallWhereTheCalendarSays(t *testing.T) {
	for _, c := range []struct {
		now, keep string
		align     Align
		want      string
	}{
		{"2026-11-23T14:05:06.789Z", "P18M", None, "2025-05-23T14:05:06Z"},
		{"2026-11-23T14:05:06Z", "P18M", Month, "2025-05-01T00:00:00Z"},
		{"2026-03-31T10:00:00Z", "P1M", None, "2026-02-28T10:00:00Z"},
		{"2024-03-31T10:00:00Z", "P1M", None, "2024-02-29T10:00:00Z"},
		{"2024-02-29T00:00:00Z", "P1Y", None, "2023-02-28T00:00:00Z"},
		{"2026-01-15T00:00:00Z", "P13M", None, "2024-12-15T00:00:00Z"},
		{"2026-11-23T14:05:06Z", "P11DT20H", None, "2026-11-11T18:05:06Z"},
		{"2026-11-23T14:05:06Z", "P1D", Week, "2026-11-16T00:00:00Z"},
		{"2026-11-23T14:05:06Z", "PT1S", Week, "2026-11-23T00:00:00Z"},
		{"2026-11-22T14:05:06Z", "PT1S", Week, "2026-11-16T00:00:00Z"},
		{"2026-11-23T14:05:06Z", "P1D", Quarter, "2026-10-01T00:00:00Z"},
		{"2026-11-23T14:05:06Z", "P1D", Year, "2026-01-01T00:00:00Z"},
		{"2026-11-23T00:00:00Z", "P1D", Day, "2026-11-22T00:00:00Z"},
		{"2026-11-23T01:30:00+02:00", "P1D", Day, "2026-11-21T00:00:00Z"},
	} {
		keep, err := Parse(c.keep)
		if err != nil {
			t.Fatal(err)
		}
		if got := Cutoff(at(c.now), keep, c.align, time.UTC); !got.Equal(at(c.want)) {
			t.Errorf("%s less %s aligned to %q: got %s, want %s", c.now, c.keep, c.align, got.Format(time.RFC3339Nano),
				c.want)
		}
	}
}

func TestACutoffNeverLiesAfterTheUnalignedOne(t *testing.T) {
	keep := Period{Months: 7, Days: 3}
	for now := at("2020-01-01T11:22:33Z"); now.Year() < 2029; now = now.Add(31 * time.Hour) {
		plain := keep.Before(now, time.UTC)
		for _, a := range []Align{None, Day, Week, Month, Quarter, Year} {
			if c := Cutoff(now, keep, a, time.UTC); c.After(plain) {
				t.Fatalf("at %s aligned to %q the cutoff %s lies after %s", now, a, c, plain)
			}
		}
	}
}

func TestParseAlignKnowsItsBoundaries(t *testing.T) {
	if _, err := ParseAlign("fortnight"); err == nil {
		t.Error("a fortnight passed for a boundary")
	}
	if a, err := ParseAlign("quarter"); err != nil || a != Quarter {
		t.Errorf("quarter: %q, %v", a, err)
	}
}

func TestSpokenSaysItInWords(t *testing.T) {
	for iso, want := range map[string]string{"P1Y6M": "1 year and 6 months", "P1D": "1 day",
		"P1Y2M3D": "1 year, 2 months and 3 days"} {
		p, _ := Parse(iso)
		if got := p.Spoken(); got != want {
			t.Errorf("%s: got %q, want %q", iso, got, want)
		}
	}
}

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func TestCutoffsKeepToTheClocksOfAZone(t *testing.T) {
	for _, c := range []struct {
		now, zone, keep string
		align           Align
		want            string
	}{
		// midnight of 1 May in summer time
		{"2026-11-23T14:05:06Z", "Europe/Athens", "P18M", Month, "2025-04-30T21:00:00Z"},
		{"2026-04-01T21:30:00Z", "Europe/Athens", "P1D", Day, "2026-03-31T21:00:00Z"},    // already 2 April there
		{"2026-03-30T09:00:00Z", "Europe/Berlin", "P1D", None, "2026-03-29T09:00:00Z"},   // 11:00 to 11:00
		{"2026-03-29T12:00:00Z", "Europe/Berlin", "P1D", None, "2026-03-28T13:00:00Z"},   // 14:00 to 14:00, 23 hours
		{"2026-03-29T12:00:00Z", "Europe/Berlin", "PT24H", None, "2026-03-28T12:00:00Z"}, // hours pass
		{"2026-10-25T12:00:00Z", "Europe/Berlin", "P1D", None, "2026-10-24T11:00:00Z"},   // 25 hours
		{"2026-04-29T00:30:00Z", "Europe/Berlin", "P1M", None, "2026-03-29T01:00:00Z"},   // 02:30 was jumped over
		{"2026-11-25T01:30:00Z", "Europe/Berlin", "P1M", None, "2026-10-25T00:30:00Z"},   // 02:30 was shown twice
		{"2026-11-23T10:00:00Z", "America/New_York", "P1D", Week, "2026-11-16T05:00:00Z"},
		{"2026-11-23T03:00:00Z", "Pacific/Auckland", "P1D", Year, "2025-12-31T11:00:00Z"},
		// the day began at one o'clock
		{"2018-11-05T12:00:00Z", "America/Sao_Paulo", "P1D", Day, "2018-11-04T03:00:00Z"},
		{"2026-11-23T14:05:06Z", "Asia/Kathmandu", "PT1S", Day, "2026-11-22T18:15:00Z"},
	} {
		keep, err := Parse(c.keep)
		if err != nil {
			t.Fatal(err)
		}
		if got := Cutoff(at(c.now), keep, c.align, zone(t, c.zone)); !got.Equal(at(c.want)) {
			t.Errorf("%s less %s aligned to %q in %s: got %s, want %s", c.now, c.keep, c.align, c.zone,
				got.Format(time.RFC3339), c.want)
		}
	}
}

func TestClockTimesThatComeTwiceOrNeverStay(t *testing.T) {
	berlin := zone(t, "Europe/Berlin")
	for now, want := range map[string]string{
		"2026-10-24T23:59:59Z": "2026-10-25T01:59:59Z", "2026-10-25T00:00:00Z": "2026-10-25T02:00:00Z",
		"2026-10-25T00:30:00Z": "2026-10-25T02:00:00Z",
		"2026-10-25T01:30:00Z": "2026-10-25T02:30:00Z", "2026-10-25T02:00:00Z": "2026-10-25T03:00:00Z",
		"2026-03-29T01:00:00Z": "2026-03-29T02:00:00Z",
		"2026-03-29T00:59:59Z": "2026-03-29T01:59:59Z", "2026-03-29T01:00:01Z": "2026-03-29T03:00:01Z",
	} {
		if got := Wall(at(now), berlin); !got.Equal(at(want)) {
			t.Errorf("at %s: got %s, want %s", now, got.Format(time.RFC3339), want)
		}
	}
}

func TestLocalAndWallAreInverse(t *testing.T) {
	for _, name := range []string{"UTC", "Europe/Berlin", "America/Sao_Paulo", "Australia/Lord_Howe", "Asia/Kolkata"} {
		z := zone(t, name)
		for at := at("2017-01-01T00:17:00Z"); at.Year() < 2019; at = at.Add(37 * time.Minute) {
			_, offset := at.In(z).Zone()
			back := Local(at.UTC().Add(time.Duration(offset)*time.Second), z)
			if !back.Equal(at) && at.Sub(back) != time.Hour && at.Sub(back) != 30*time.Minute {
				t.Fatalf("%s in %s comes back as %s", at, name, back.UTC())
			}
			if w := Wall(at, z); w.After(at.Add(time.Duration(offset) * time.Second)) {
				t.Fatalf("%s in %s: the wall clock %s lies ahead", at, name, w)
			}
		}
	}
}
