package period

import (
	"strings"
	"testing"
	"time"
)

func TestParseReadsISOAndSpokenForms(t *testing.T) {
	for text, want := range map[string]string{
		"P18M": "P18M", "p18m": "P18M", "P1Y6M": "P1Y6M", "P90D": "P90D", "PT12H": "PT12H", "P11DT20H": "P11DT20H", "P2W": "P2W", "PT1S": "PT1S", "P1Y2M3W4DT5H6M7S": "P1Y2M3W4DT5H6M7S",
		"18 months": "P18M", "1 year": "P1Y", " 1 Year and 6 Months ": "P1Y6M", "2 weeks, 3 days": "P2W3D", "90days": "P90D", "P0D": "PT0S",
	} {
		p, err := Parse(text)
		if err != nil || p.String() != want {
			t.Errorf("%q: got %s, %v; want %s", text, p, err, want)
		}
	}
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	for text, part := range map[string]string{
		"": "missing", "P": "no number", "PT": "no number", "P1DT": "no number", "-P1D": "negative", "P-1D": "negative", "18": "not a length of time", "eighteen months": "not a length of time",
		"1 month and 2 months": "twice", "P1.5M": "not a length of time", "P9999999Y": "too large", "1 fortnight": "not a length of time", "P1M ago": "not a length of time",
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
		if got := Cutoff(at(c.now), keep, c.align); !got.Equal(at(c.want)) {
			t.Errorf("%s less %s aligned to %q: got %s, want %s", c.now, c.keep, c.align, got.Format(time.RFC3339Nano), c.want)
		}
	}
}

func TestACutoffNeverLiesAfterTheUnalignedOne(t *testing.T) {
	keep := Period{Months: 7, Days: 3}
	for now := at("2020-01-01T11:22:33Z"); now.Year() < 2029; now = now.Add(31 * time.Hour) {
		plain := keep.Before(now)
		for _, a := range []Align{None, Day, Week, Month, Quarter, Year} {
			if c := Cutoff(now, keep, a); c.After(plain) {
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
	for iso, want := range map[string]string{"P1Y6M": "1 year and 6 months", "P1D": "1 day", "P1Y2M3D": "1 year, 2 months and 3 days"} {
		p, _ := Parse(iso)
		if got := p.Spoken(); got != want {
			t.Errorf("%s: got %q, want %q", iso, got, want)
		}
	}
}
