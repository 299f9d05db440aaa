package rule

import (
	"strings"
	"time"

	"ambercellar/internal/core/value"
)

// Instant returns the point in time that a value of the age column stands for; false where it is none. Text is read
// as ISO 8601, in UTC where it names no zone.
func (a Age) Instant(v value.Value) (time.Time, bool) {
	switch v.Kind {
	case value.Int:
		if a.Unit == "" {
			return time.Time{}, false
		}
		return a.Unit.Time(v.N), true
	case value.Text:
		return ParseISO(string(v.B))
	}
	return v.Instant()
}

// ParseISO reads an ISO 8601 date or timestamp, with a blank or a T between date and time.
func ParseISO(s string) (time.Time, bool) {
	s = strings.Replace(strings.TrimSpace(s), " ", "T", 1)
	for _, form := range []string{"2006-01-02", "2006-01-02T15:04", "2006-01-02T15:04:05", "2006-01-02T15:04Z07:00", time.RFC3339} {
		if t, err := time.Parse(form, s); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}
