package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/teambition/rrule-go"
)

// Spoken says in words when a recurrence comes.
func (r Recurrence) Spoken() string {
	if r.rule == nil {
		return cronSpoken(r.fields)
	}
	o := *r.rule
	parts := []string{often(o)}
	if len(o.Bysetpos) > 0 {
		parts = append(parts, "only the "+join(ordinalsOf(o.Bysetpos))+" of these")
	}
	if at := ruleTimes(o); at != "" {
		parts = append(parts, at)
	}
	if o.Count > 0 {
		parts = append(parts, plural(o.Count, "time")+" in all")
	}
	if !o.Until.IsZero() {
		parts = append(parts, "until "+o.Until.Format("2 January 2006 15:04"))
	}
	return strings.Join(parts, ", ")
}

// often says on which days a rule comes.
func often(o rrule.ROption) string {
	unit := map[rrule.Frequency]string{rrule.YEARLY: "year", rrule.MONTHLY: "month", rrule.WEEKLY: "week",
		rrule.DAILY: "day", rrule.HOURLY: "hour", rrule.MINUTELY: "minute"}[o.Freq]
	every := "every " + unit
	if o.Interval > 1 {
		every = fmt.Sprintf("every %d %ss", o.Interval, unit)
	}
	var on []string
	if len(o.Byweekday) > 0 {
		on = append(on, daysSpoken(o.Byweekday))
	}
	if len(o.Bymonthday) > 0 {
		if o.Freq == rrule.YEARLY && len(o.Bymonth) == 1 && len(o.Bymonthday) == 1 && o.Bymonthday[0] > 0 &&
			len(on) == 0 {
			return every + fmt.Sprintf(" on %d %s", o.Bymonthday[0], title(monthNames[o.Bymonth[0]-1]))
		}
		on = append(on, "the "+join(monthDays(o.Bymonthday))+" of the month")
	}
	if len(o.Byyearday) > 0 {
		on = append(on, "the "+join(ordinalsOf(o.Byyearday))+" day of the year")
	}
	if len(o.Byweekno) > 0 {
		on = append(on, "week "+join(numbers(o.Byweekno))+" of the year")
	}
	if len(on) > 0 {
		every += " on " + strings.Join(on, " that is ")
	}
	if len(o.Bymonth) > 0 {
		every += " in " + join(monthsSpoken(o.Bymonth))
	}
	return every
}

// ruleTimes says at which times of the day a rule comes.
func ruleTimes(o rrule.ROption) string {
	minutes := o.Byminute
	if len(minutes) == 0 {
		minutes = []int{0}
	}
	switch {
	case o.Freq >= rrule.HOURLY && len(o.Byhour) == 0 && len(o.Byminute) == 0:
		return ""
	case o.Freq >= rrule.HOURLY && len(o.Byhour) == 0:
		return "at minute " + join(numbers(minutes))
	case len(o.Byhour) == 0:
		return "at " + clockTimes([]int{0}, minutes)
	}
	return "at " + clockTimes(o.Byhour, minutes)
}

func clockTimes(hours, minutes []int) string {
	var out []string
	for _, h := range hours {
		for _, m := range minutes {
			out = append(out, fmt.Sprintf("%02d:%02d", h, m))
		}
	}
	slices.Sort(out)
	if len(out) > 6 {
		out = append(out[:6], "more")
	}
	return join(out)
}

func daysSpoken(days []rrule.Weekday) string {
	var out []string
	plain := 0
	for _, d := range days {
		name := title(weekdayNames[d.Day()])
		switch n := d.N(); {
		case n == 0:
			plain++
		case n == -1:
			name = "the last " + name
		case n < 0:
			name = "the " + nth(-n) + " " + name + " from the end"
		case n <= len(ordinals):
			name = "the " + ordinals[n-1] + " " + name
		default:
			name = "the " + nth(n) + " " + name
		}
		out = append(out, name)
	}
	if plain == 5 && slices.Equal(days, weekdays[:5]) {
		return "Monday to Friday"
	}
	return join(out)
}

func ordinalsOf(list []int) (out []string) {
	for _, n := range list {
		if n < 0 {
			out = append(out, strings.TrimPrefix(nth(-n)+" last", "1st "))
		} else {
			out = append(out, nth(n))
		}
	}
	return out
}

func monthDays(list []int) (out []string) {
	for _, n := range list {
		switch {
		case n == -1:
			out = append(out, "last day")
		case n < 0:
			out = append(out, nth(-n)+" last day")
		default:
			out = append(out, nth(n))
		}
	}
	return out
}

func monthsSpoken(list []int) (out []string) {
	for _, m := range list {
		out = append(out, title(monthNames[m-1]))
	}
	return out
}

func numbers(list []int) (out []string) {
	for _, n := range list {
		out = append(out, strconv.Itoa(n))
	}
	return out
}

func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func join(list []string) string {
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	return strings.Join(list, "")
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// cronSpoken says in words what cron's five fields mean.
func cronSpoken(f []string) string {
	minute, hour, day, month, weekday := f[0], f[1], f[2], f[3], f[4]
	var on string
	switch {
	case day == "*" && weekday == "*":
		on = "every day"
	case day == "*":
		on = "every " + cronList(weekday, cronDay)
	case weekday == "*":
		on = "on day " + cronList(day, nil) + " of every month"
	default: // cron takes both
		on = "on day " + cronList(day, nil) + " of the month and every " + cronList(weekday, cronDay)
	}
	if month != "*" {
		on += " in " + cronList(month, cronMonth)
	}
	m, errM := strconv.Atoi(minute)
	h, errH := strconv.Atoi(hour)
	step, stepped := strings.CutPrefix(minute, "*/")
	switch {
	case errM == nil && errH == nil:
		return on + fmt.Sprintf(", at %02d:%02d", h, m)
	case hour == "*" && stepped:
		return on + ", every " + step + " minutes"
	case hour == "*" && minute == "*":
		return on + ", every minute"
	case hour == "*":
		return on + ", at minute " + cronList(minute, nil) + " of every hour"
	}
	return on + ", at minute " + cronList(minute, nil) + " of hour " + cronList(hour, nil)
}

// cronList says in words what one field of cron lists.
func cronList(field string, name func(string) string) string {
	var out []string
	for part := range strings.SplitSeq(field, ",") {
		span, step, stepped := strings.Cut(part, "/")
		first, last, ranged := strings.Cut(span, "-")
		text := first
		if name != nil {
			text = name(first)
		}
		if ranged && name != nil {
			text += " to " + name(last)
		} else if ranged {
			text += " to " + last
		}
		if stepped && span == "*" {
			text = "every " + step
		} else if stepped {
			text += " in steps of " + step
		}
		out = append(out, text)
	}
	return join(out)
}

func cronDay(s string) string {
	if n, err := strconv.Atoi(s); err == nil {
		return title(weekdayNames[(n+6)%7])
	}
	if d := dayOf(strings.ToLower(s)); d >= 0 {
		return title(weekdayNames[d])
	}
	return s
}

func cronMonth(s string) string {
	if n, err := strconv.Atoi(s); err == nil && n >= 1 && n <= 12 {
		return title(monthNames[n-1])
	}
	if m := monthOf(strings.ToLower(s)); m > 0 {
		return title(monthNames[m-1])
	}
	return s
}
