package rule

import (
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/period"
	"ambercellar/internal/core/value"
)

// Age says which column tells how old a row is.
type Age struct {
	Column string   `json:"column"`
	Join   string   `json:"join,omitempty"`  // of the rule, where the column is one of a joined table
	Unit   Unit     `json:"unit,omitempty"`  // of an integer column
	Never  []string `json:"never,omitempty"` // values that are no age, as the column's text: sentinels like 9999-12-31
	Zone   string   `json:"zone,omitempty"`  // of clock times without zone; copied from the rule
}

// Location is the zone of clock times without one.
func (a Age) Location() *time.Location {
	zone, err := time.LoadLocation(a.Zone)
	if err != nil {
		return time.UTC
	}
	return zone
}

// String writes the age as a person would.
func (a Age) String() string {
	out := a.Column
	if a.Join != "" {
		out = a.Join + "." + a.Column
	}
	if a.Unit != "" {
		out += " (" + string(a.Unit) + ")"
	}
	if len(a.Never) > 0 {
		out += ", never " + strings.Join(a.Never, ", ")
	}
	return out
}

// Unit is what an integer age column counts since 1970-01-01 00:00:00 UTC.
type Unit string

const (
	Seconds      Unit = "seconds"
	Milliseconds Unit = "milliseconds"
	Microseconds Unit = "microseconds"
)

// Count returns the number that stands for t.
func (u Unit) Count(t time.Time) int64 {
	switch u {
	case Milliseconds:
		return t.UnixMilli()
	case Microseconds:
		return t.UnixMicro()
	}
	return t.Unix()
}

// Time is the inverse of Count.
func (u Unit) Time(n int64) time.Time {
	switch u {
	case Milliseconds:
		return time.UnixMilli(n).UTC()
	case Microseconds:
		return time.UnixMicro(n).UTC()
	}
	return time.Unix(n, 0).UTC()
}

// Instant returns the point in time that a value of the age column stands for; false where it is none. Text is read
// as ISO 8601; clock times and days without zone are those of the age's zone.
func (a Age) Instant(v value.Value) (time.Time, bool) {
	if len(a.Never) > 0 && slices.Contains(a.Never, v.String()) {
		return time.Time{}, false
	}
	switch v.Kind {
	case value.Int:
		if a.Unit == "" {
			return time.Time{}, false
		}
		return a.Unit.Time(v.N), true
	case value.Text:
		return parseISO(string(v.B), a.Location())
	}
	t, ok := v.Instant()
	if ok && v.Kind != value.Instant {
		t = period.Local(t, a.Location()).UTC()
	}
	return t, ok
}

// ParseISO reads an ISO 8601 date or timestamp, with a blank or a T between date and time, in UTC where it names no
// zone.
func ParseISO(s string) (time.Time, bool) { return parseISO(s, time.UTC) }

func parseISO(s string, zone *time.Location) (time.Time, bool) {
	s = strings.Replace(strings.TrimSpace(s), " ", "T", 1)
	for _, form := range []string{"2006-01-02T15:04Z07:00", time.RFC3339} {
		if t, err := time.Parse(form, s); err == nil {
			return t.UTC(), true
		}
	}
	for _, form := range []string{"2006-01-02", "2006-01-02T15:04", "2006-01-02T15:04:05"} {
		if t, err := time.Parse(form, s); err == nil {
			return period.Local(t, zone).UTC(), true
		}
	}
	return time.Time{}, false
}
