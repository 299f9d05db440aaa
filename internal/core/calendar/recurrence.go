package calendar

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
	"github.com/teambition/rrule-go"

	"ambercellar/internal/core/period"
)

// Recurrence says when something happens again and again, by the clock of a zone that comes in from outside. It is
// written in words (`weekdays at 22:00`), as cron does with five fields (`30 2 * * 1-5`), or as a recurrence rule of
// RFC 5545 (`FREQ=MONTHLY;BYDAY=1MO;BYHOUR=1`).
//
// A time of day that the clocks skip means the moment of the jump, one that they show twice means the first.
type Recurrence struct {
	Text string // as it was written

	cron   cron.Schedule
	fields []string // of cron
	rule   *rrule.ROption
}

// MarshalText and UnmarshalText carry a recurrence in JSON as it was written.
func (r Recurrence) MarshalText() ([]byte, error) { return []byte(r.Text), nil }
func (r *Recurrence) UnmarshalText(b []byte) (err error) {
	*r, err = ParseRecurrence(string(b))
	return err
}

const recurrenceForms = "write it in words (daily at 02:30, weekdays at 22:00, monthly on the first monday at " +
	"01:00), " +
	"in cron's five fields (30 2 * * *), or as a recurrence rule (FREQ=DAILY;BYHOUR=2;BYMINUTE=30)"

var (
	looksLikeRule = regexp.MustCompile(`(?i)^(rrule:|freq=)|=`)
	looksLikeCron = regexp.MustCompile(`^[\d*@]`)
)

// ParseRecurrence reads a recurrence. The error says which part is wrong, at which place, and what would be right.
func ParseRecurrence(text string) (Recurrence, error) {
	r := Recurrence{Text: strings.Join(strings.Fields(text), " ")}
	var err error
	switch {
	case r.Text == "":
		return r, fmt.Errorf("there is no time in it; %s", recurrenceForms)
	case len(r.Text) > 500:
		return r, fmt.Errorf("it is longer than 500 characters; %s", recurrenceForms)
	case looksLikeRule.MatchString(r.Text):
		r.rule, err = parseRule(r.Text)
	case looksLikeCron.MatchString(r.Text) && !strings.Contains(r.Text, " of "):
		r.fields = strings.Fields(r.Text)
		r.cron, err = parseCron(r.fields)
	default:
		r.rule, err = parseWords(r.Text)
	}
	return r, err
}

// cronNames are the fields of cron, and what each may hold.
var cronNames = [5]string{"minute (0-59)", "hour (0-23)", "day of the month (1-31)", "month (1-12 or jan-dec)",
	"day of the week (0-6 or sun-sat)"}

func parseCron(fields []string) (cron.Schedule, error) {
	if strings.HasPrefix(fields[0], "@") {
		return nil, fmt.Errorf("%s is a short form of cron that is not read here; %s", fields[0], recurrenceForms)
	}
	if len(fields) != len(cronNames) {
		return nil, fmt.Errorf("cron has five fields (minute, hour, day of the month, month, day of the week), and "+
			"here "+
			"are %d; %s", len(fields), recurrenceForms)
	}
	parser := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)
	for i, field := range fields { // each on its own, to tell which is wrong
		alone := []string{"*", "*", "*", "*", "*"}
		if i == 4 {
			field = sevenToZero(field)
		}
		alone[i] = field
		if _, err := parser.Parse(strings.Join(alone, " ")); err != nil {
			return nil, fmt.Errorf("field %d, %q, is no %s", i+1, fields[i], cronNames[i])
		}
	}
	whole := strings.Join(fields[:4], " ") + " " + sevenToZero(fields[4])
	return parser.Parse(whole)
}

// sevenToZero writes Sunday, which many write as 7, as the parser reads it.
func sevenToZero(field string) string {
	parts := strings.Split(field, ",")
	for i, p := range parts {
		switch {
		case p == "7":
			parts[i] = "0"
		case strings.HasSuffix(p, "-7"):
			parts[i] = "0," + strings.TrimSuffix(p, "-7") + "-6"
		}
	}
	return strings.Join(parts, ",")
}

func parseRule(text string) (*rrule.ROption, error) {
	text = strings.ToUpper(strings.TrimSuffix(text, ";"))
	at := 1
	text, cut := strings.CutPrefix(text, "RRULE:")
	if cut {
		at += len("RRULE:")
	}
	seen := map[string]bool{}
	for part := range strings.SplitSeq(text, ";") { // each on its own, to tell which is wrong
		key, _, _ := strings.Cut(part, "=")
		if seen[key] {
			return nil, fmt.Errorf("column %d: %s stands twice", at, key)
		}
		seen[key] = true
		alone := part
		if key != "FREQ" {
			alone = "FREQ=DAILY;" + part
		}
		switch key {
		case "DTSTART":
			return nil, fmt.Errorf("column %d: the start stands beside the rule; write `from`", at)
		case "BYEASTER":
			return nil, fmt.Errorf("column %d: BYEASTER is no part of RFC 5545", at)
		}
		o, err := rrule.StrToROption(alone)
		if err == nil {
			_, err = rrule.NewRRule(*o)
		}
		if err != nil {
			return nil, fmt.Errorf("column %d: %q: %w; RFC 5545 (3.3.10) tells what a recurrence rule may hold", at,
				part, err)
		}
		at += len(part) + 1
	}
	o, err := rrule.StrToROption(text)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w; RFC 5545 (3.3.10) tells what a recurrence rule may hold", err)
	case o.Freq == rrule.SECONDLY || len(o.Bysecond) > 0:
		return nil, fmt.Errorf("nothing happens by the second; write FREQ=MINUTELY or less often, and no BYSECOND")
	case len(o.Bysetpos) > 0 && o.Freq > rrule.WEEKLY:
		return nil, fmt.Errorf("BYSETPOS takes some of the days of a week, month or year; write FREQ=WEEKLY, " +
			"MONTHLY or " +
			"YEARLY, or leave it out")
	case o.Count > mostCount:
		return nil, fmt.Errorf("COUNT=%d is more than %d; write UNTIL", o.Count, mostCount)
	case o.Interval < 0 || o.Interval > mostInterval:
		return nil, fmt.Errorf("INTERVAL=%d is not between 1 and %d", o.Interval, mostInterval)
	}
	return o, nil
}

const (
	mostCount    = 10_000
	mostInterval = 1000
	farAhead     = 30 // years in which something that never happens is looked for
)

// origin is where recurrences without a start count from: a Monday, and the first day of a month and of a year.
var origin = time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)

// Next returns the first time after an instant, and not before from where that is set, by the clock of a zone. Zero
// says that there is none, or none within thirty years.
func (r Recurrence) Next(after, from time.Time, zone *time.Location) time.Time {
	if !from.IsZero() && after.Before(from) {
		after = from.Add(-time.Nanosecond)
	}
	base := origin
	if !from.IsZero() {
		base = clock(from, zone)
	} else if r.rule != nil && r.rule.Count > 0 {
		return time.Time{} // so many times since the origin are over
	}
	last := after.AddDate(farAhead, 0, 0)
	for wall := clock(after, zone); ; {
		if r.cron != nil {
			wall = r.cron.Next(wall)
		} else {
			wall = nextByRule(*r.rule, wall, base)
		}
		if wall.IsZero() {
			return wall
		}
		at := period.Local(wall, zone)
		switch {
		case at.After(last):
			return time.Time{}
		case at.After(after): // what the clocks show a second time has been
			return at.UTC()
		}
	}
}

// Times returns the next times, n at the most.
func (r Recurrence) Times(n int, after, from time.Time, zone *time.Location) (out []time.Time) {
	for len(out) < n {
		if after = r.Next(after, from, zone); after.IsZero() {
			break
		}
		out = append(out, after)
	}
	return out
}

// clock is what the clocks of a zone show, as a time in UTC.
func clock(t time.Time, zone *time.Location) time.Time {
	local := t.In(zone)
	_, offset := local.Zone()
	return t.UTC().Add(time.Duration(offset) * time.Second)
}

// nextByRule returns the first time after another by a recurrence rule that counts from base.
func nextByRule(o rrule.ROption, after, base time.Time) (next time.Time) {
	defer func() {
		if recover() != nil { // the library's, on parts that go together in no calendar
			next = time.Time{}
		}
	}()
	fixed(&o, base)
	o.Dtstart = base
	if o.Count == 0 {
		o.Dtstart = nearer(&o, base, after)
	}
	last := after.AddDate(reach(o.Freq), 0, 0)
	if end := base.AddDate(reach(o.Freq), 0, 0); o.Count > 0 && end.Before(last) {
		last = end // it is counted through from its start
	}
	if o.Until.IsZero() || o.Until.After(last) {
		o.Until = last
	}
	rule, err := rrule.NewRRule(o)
	if err != nil {
		return time.Time{} // it was read before
	}
	return rule.After(after, false)
}

// reach is in how many years a rule is looked through for its next time: the shorter its steps, the less far.
func reach(f rrule.Frequency) int {
	switch f {
	case rrule.MINUTELY:
		return 1
	case rrule.HOURLY:
		return 9 // from one 29 February to the next
	}
	return farAhead + 1
}

// fixed says in the rule itself what otherwise follows from where it starts.
func fixed(o *rrule.ROption, base time.Time) {
	days := len(o.Byweekno) + len(o.Byyearday) + len(o.Bymonthday) + len(o.Byweekday)
	switch {
	case days > 0:
	case o.Freq == rrule.YEARLY:
		if len(o.Bymonth) == 0 {
			o.Bymonth = []int{int(base.Month())}
		}
		o.Bymonthday = []int{base.Day()}
	case o.Freq == rrule.MONTHLY:
		o.Bymonthday = []int{base.Day()}
	case o.Freq == rrule.WEEKLY:
		o.Byweekday = []rrule.Weekday{weekdays[(base.Weekday()+6)%7]}
	}
	if len(o.Byhour) == 0 && o.Freq < rrule.HOURLY {
		o.Byhour = []int{base.Hour()}
	}
	if len(o.Byminute) == 0 && o.Freq < rrule.MINUTELY {
		o.Byminute = []int{base.Minute()}
	}
	o.Bysecond = []int{0}
}

// nearer moves the start of a rule, whole intervals at a time, to shortly before an instant: what lies between need
// not be counted through.
func nearer(o *rrule.ROption, base, after time.Time) time.Time {
	interval := max(o.Interval, 1)
	whole := func(n int) int { return n / interval * interval }
	y, m, d := base.Date()
	switch o.Freq {
	case rrule.YEARLY:
		if n := whole(after.Year() - y - 1); n > 0 {
			return time.Date(y+n, 1, 1, 0, 0, 0, 0, time.UTC)
		}
	case rrule.MONTHLY:
		if n := whole(12*(after.Year()-y) + int(after.Month()-m) - 1); n > 0 {
			return time.Date(y, m+time.Month(n), 1, 0, 0, 0, 0, time.UTC)
		}
	case rrule.WEEKLY:
		if n := whole(int(after.Sub(base)/(7*24*time.Hour)) - 1); n > 0 {
			return time.Date(y, m, d+7*n, 0, 0, 0, 0, time.UTC)
		}
	case rrule.DAILY:
		if n := whole(int(after.Sub(base)/(24*time.Hour)) - 1); n > 0 {
			return time.Date(y, m, d+n, 0, 0, 0, 0, time.UTC)
		}
	case rrule.HOURLY:
		if n := whole(int(after.Sub(base)/time.Hour) - 1); n > 0 {
			return base.Truncate(time.Hour).Add(time.Duration(n) * time.Hour)
		}
	case rrule.MINUTELY:
		if n := whole(int(after.Sub(base)/time.Minute) - 1); n > 0 {
			return base.Truncate(time.Minute).Add(time.Duration(n) * time.Minute)
		}
	}
	return base
}
