// Package period computes with lengths of time as retention rules write them: ISO 8601 durations and their spoken
// forms, and the cutoffs that follow from them. It reads no clock: the instant always comes in.
package period

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Period is a length of time in calendar units, as ISO 8601-1:2019 section 5.5.2 writes durations. Years,
// months, weeks and days are those of the calendar of a zone; hours, minutes and seconds pass.
type Period struct {
	Years, Months, Weeks, Days, Hours, Minutes, Seconds int
}

var (
	isoForm = regexp.MustCompile(
		`^P(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?$`)
	spokenForm = regexp.MustCompile(`^(\d+)\s*(year|month|week|day|hour|minute|second)s?$`)
	separators = regexp.MustCompile(`\s*(?:,|\band\b)\s*`)
)

// limit is the greatest count of any one unit; it keeps sums inside what the calendar can hold.
const limit = 1_000_000

// Parse reads an ISO 8601 duration (P18M, P1Y6M, P90D, PT12H) or its spoken form ("18 months", "1 year and 6 months").
func Parse(s string) (Period, error) {
	text := strings.TrimSpace(s)
	if text == "" {
		return Period{}, fmt.Errorf("a length of time is missing; write one like P18M or \"18 months\"")
	}
	if strings.HasPrefix(text, "-") || strings.HasPrefix(text, "P-") {
		return Period{}, fmt.Errorf("%q is negative; a keep is at least one second", s)
	}
	if m := isoForm.FindStringSubmatch(strings.ToUpper(text)); m != nil {
		if m[5] == "T" || strings.ToUpper(text) == "P" {
			return Period{}, fmt.Errorf("%q has no number; write one like P18M or PT12H", s)
		}
		var p Period
		for i, unit := range map[int]*int{1: &p.Years, 2: &p.Months, 3: &p.Weeks, 4: &p.Days, 6: &p.Hours,
			7: &p.Minutes, 8: &p.Seconds} {
			if err := count(m[i], unit); err != nil {
				return Period{}, fmt.Errorf("%q: %w", s, err)
			}
		}
		return p, nil
	}
	return parseSpoken(s, text)
}

func parseSpoken(s, text string) (Period, error) {
	var p Period
	for _, part := range separators.Split(strings.ToLower(text), -1) {
		m := spokenForm.FindStringSubmatch(part)
		if m == nil {
			return Period{}, fmt.Errorf("%q is not a length of time; write an ISO 8601 duration like P18M or P90D, "+
				"or words like \"18 months\"", s)
		}
		unit := map[string]*int{"year": &p.Years, "month": &p.Months, "week": &p.Weeks, "day": &p.Days,
			"hour": &p.Hours, "minute": &p.Minutes, "second": &p.Seconds}[m[2]]
		if *unit != 0 {
			return Period{}, fmt.Errorf("%q names %ss twice", s, m[2])
		}
		if err := count(m[1], unit); err != nil {
			return Period{}, fmt.Errorf("%q: %w", s, err)
		}
	}
	return p, nil
}

func count(digits string, into *int) error {
	if digits == "" {
		return nil
	}
	n, err := strconv.Atoi(digits)
	if err != nil || n > limit {
		return fmt.Errorf("the number %s is too large; the most is %d", digits, limit)
	}
	*into = n
	return nil
}

// Zero says whether the period has no length.
func (p Period) Zero() bool { return p == Period{} }

// String writes the period as ISO 8601.
func (p Period) String() string {
	if p.Zero() {
		return "PT0S"
	}
	var b strings.Builder
	b.WriteByte('P')
	write := func(n int, unit byte) {
		if n != 0 {
			b.WriteString(strconv.Itoa(n))
			b.WriteByte(unit)
		}
	}
	write(p.Years, 'Y')
	write(p.Months, 'M')
	write(p.Weeks, 'W')
	write(p.Days, 'D')
	if p.Hours != 0 || p.Minutes != 0 || p.Seconds != 0 {
		b.WriteByte('T')
		write(p.Hours, 'H')
		write(p.Minutes, 'M')
		write(p.Seconds, 'S')
	}
	return b.String()
}

// Spoken writes the period in words: "1 year and 6 months".
func (p Period) Spoken() string {
	var parts []string
	for _, u := range []struct {
		n    int
		name string
	}{{p.Years, "year"}, {p.Months, "month"}, {p.Weeks, "week"}, {p.Days, "day"}, {p.Hours, "hour"},
		{p.Minutes, "minute"}, {p.Seconds, "second"}} {
		switch {
		case u.n == 1:
			parts = append(parts, "1 "+u.name)
		case u.n > 1:
			parts = append(parts, strconv.Itoa(u.n)+" "+u.name+"s")
		}
	}
	switch len(parts) {
	case 0:
		return "no time"
	case 1:
		return parts[0]
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// Before returns the instant that lies the period before t by the calendar and clock of a zone. Years and months go
// first, on the calendar: where the earlier month is too short, its last day is taken (31 March less one month is 28
// or 29 February). Weeks and days follow on the calendar too, so that the clock shows the same time of day; then
// hours, minutes and seconds as they pass.
func (p Period) Before(t time.Time, zone *time.Location) time.Time {
	t = t.In(zone)
	y, m, d := t.Date()
	first := time.Date(y, m-time.Month(p.Years*12+p.Months), 1, 0, 0, 0, 0, time.UTC)
	last := first.AddDate(0, 1, -1).Day()
	day := first.AddDate(0, 0, min(d, last)-1-7*p.Weeks-p.Days)
	clock := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute +
		time.Duration(t.Second())*time.Second + time.Duration(t.Nanosecond())
	out := t
	if y2, m2, d2 := day.Date(); y2 != y || m2 != m || d2 != d {
		out = Local(day.Add(clock), zone)
	}
	return out.Add(-time.Duration(p.Hours)*time.Hour - time.Duration(p.Minutes)*time.Minute - time.Duration(
		p.Seconds)*time.Second)
}

// Local returns the instant at which a zone's clocks show what wall shows (whose own zone does not matter). A time
// that they show twice, when they are set back, means the first; one that they jump over means the moment of the jump.
func Local(wall time.Time, zone *time.Location) time.Time {
	y, m, d := wall.Date()
	u := time.Date(y, m, d, wall.Hour(), wall.Minute(), wall.Second(), wall.Nanosecond(), time.UTC)
	shows := func(t time.Time) bool {
		_, offset := t.In(zone).Zone()
		return t.Add(time.Duration(offset) * time.Second).Equal(u)
	}
	_, before := u.Add(-26 * time.Hour).In(zone).Zone()
	_, after := u.Add(26 * time.Hour).In(zone).Zone()
	early, late := u.Add(-time.Duration(max(before, after))*time.Second),
		u.Add(-time.Duration(min(before, after))*time.Second)
	switch {
	case shows(early):
		return early.In(zone)
	case shows(late):
		return late.In(zone)
	}
	_, jump := early.In(zone).ZoneBounds()
	if jump.IsZero() || jump.After(late) {
		return late.In(zone)
	}
	return jump
}

// Wall returns what the clocks of a zone show at t, as a time in UTC, for columns that hold clock times without zone.
// Where they are about to be set back and will show it a second time, it returns the time to which they will be set:
// a row that bears a time in between may have been written at either, and is not older than t for certain. Where they
// were set forward at t, it returns the time from which they were: times that they jumped over mean t, and are not
// older.
func Wall(t time.Time, zone *time.Location) time.Time {
	wall := func(t time.Time) time.Time {
		_, offset := t.In(zone).Zone()
		return t.UTC().Add(time.Duration(offset) * time.Second)
	}
	since, back := t.In(zone).ZoneBounds()
	if !back.IsZero() && wall(back).Before(wall(t)) {
		return wall(back)
	}
	if since.Equal(t) {
		_, before := t.Add(-1).In(zone).Zone()
		if forward := t.UTC().Add(time.Duration(before) * time.Second); forward.Before(wall(t)) {
			return forward
		}
	}
	return wall(t)
}

// Align is the calendar boundary at which a cutoff is cut; None leaves it where it falls.
type Align string

const (
	None    Align = ""
	Day     Align = "day"
	Week    Align = "week" // weeks begin on Monday (ISO 8601)
	Month   Align = "month"
	Quarter Align = "quarter"
	Year    Align = "year"
)

// ParseAlign reads the name of a calendar boundary.
func ParseAlign(s string) (Align, error) {
	switch a := Align(s); a {
	case None, Day, Week, Month, Quarter, Year:
		return a, nil
	}
	return None, fmt.Errorf("%q is not a calendar boundary; write day, week, month, quarter or year, or leave "+
		"align out", s)
}

// Floor returns the last boundary at or before t in a zone: the first moment of a day there.
func (a Align) Floor(t time.Time, zone *time.Location) time.Time {
	t = t.In(zone)
	y, m, d := t.Date()
	switch a {
	case Day:
	case Week:
		d -= (int(t.Weekday()) + 6) % 7
	case Month:
		d = 1
	case Quarter:
		m, d = m-(m-1)%3, 1
	case Year:
		m, d = 1, 1
	default:
		return t
	}
	return Local(time.Date(y, m, d, 0, 0, 0, 0, time.UTC), zone)
}

// Cutoff returns the instant before which a row is due when a plan is made at now: now less the keep, moved back to
// the boundary where one is set, and cut to the whole second (downward, so that nothing becomes due early).
func Cutoff(now time.Time, keep Period, align Align, zone *time.Location) time.Time {
	return align.Floor(keep.Before(now, zone), zone).UTC().Truncate(time.Second)
}

// MarshalText and UnmarshalText carry a period in JSON as ISO 8601.
func (p Period) MarshalText() ([]byte, error) { return []byte(p.String()), nil }
func (p *Period) UnmarshalText(b []byte) (err error) {
	*p, err = Parse(string(b))
	return err
}
