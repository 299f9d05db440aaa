// Package calendar tells when something may go on: windows of time by the clock of a zone. It reads no clock of its
// own; instants come in.
package calendar

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Window is a span of the clock that comes again on some days of the week, and may go past midnight. A day is the one
// on which the window opens.
type Window struct {
	Days     []time.Weekday // none: every day
	From, To int            // minutes after midnight; To not after From: on the next day
}

var windowForm = regexp.MustCompile(
	`^(?:([a-z]{3}(?:-[a-z]{3})?(?:,[a-z]{3}(?:-[a-z]{3})?)*) )?(\d\d):(\d\d)-(\d\d):(\d\d)$`)

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseWindow reads a window: `22:00-05:00`, or with the days on which it opens, `mon-fri,sun 22:00-05:00`.
func ParseWindow(s string) (w Window, err error) {
	m := windowForm.FindStringSubmatch(strings.ToLower(strings.TrimSpace(s)))
	if m == nil {
		return w, fmt.Errorf("%q is no window; write one like 22:00-05:00 or mon-fri 22:00-05:00", s)
	}
	for i, at := range []*int{&w.From, &w.To} {
		hour, _ := strconv.Atoi(m[2+2*i]) // two digits, by the form
		minute, _ := strconv.Atoi(m[3+2*i])
		if hour > 24 || minute > 59 || hour == 24 && (minute > 0 || i == 0) {
			return w, fmt.Errorf("%q: %s:%s is no time of day", s, m[2+2*i], m[3+2*i])
		}
		*at = hour*60 + minute
	}
	if w.From == w.To {
		return w, fmt.Errorf("%q opens and closes at the same time; leave the window out to let a run go on at "+
			"any time", s)
	}
	if m[1] == "" {
		return w, nil
	}
	for _, part := range strings.Split(m[1], ",") {
		first, last, span := strings.Cut(part, "-")
		a, b := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if !span {
			b = a
		}
		if a < 0 || b < 0 {
			return w, fmt.Errorf("%q: %q names no days; write mon, tue, wed, thu, fri, sat or sun", s, part)
		}
		for d := a; ; d = (d + 1) % 7 {
			if !slices.Contains(w.Days, time.Weekday(d)) {
				w.Days = append(w.Days, time.Weekday(d))
			}
			if d == b {
				break
			}
		}
	}
	return w, nil
}

// String writes the window as ParseWindow reads it.
func (w Window) String() string {
	s := ""
	for i, d := range w.Days {
		if i > 0 {
			s += ","
		}
		s += dayNames[d]
	}
	if s != "" {
		s += " "
	}
	return s + fmt.Sprintf("%02d:%02d-%02d:%02d", w.From/60, w.From%60, w.To/60, w.To%60)
}

// on returns when the window opens and closes that belongs to a day, and whether there is one.
func (w Window) on(year int, month time.Month, day int, zone *time.Location) (from, to time.Time, ok bool) {
	noon := time.Date(year, month, day, 12, 0, 0, 0, zone)
	if len(w.Days) > 0 && !slices.Contains(w.Days, noon.Weekday()) {
		return from, to, false
	}
	last := day
	if w.To <= w.From {
		last++
	}
	return time.Date(year, month, day, 0, w.From, 0, 0, zone), time.Date(year, month, last, 0, w.To, 0, 0, zone), true
}

// Span is a window as it stands on one day.
type Span struct{ From, To time.Time }

// At returns the span that is open at an instant, or false and the next one that opens after it.
func At(windows []Window, at time.Time, zone *time.Location) (span Span, open bool) {
	local := at.In(zone)
	var next Span
	for day := -1; day <= 8; day++ { // what opened yesterday may still be open; every weekday comes within a week
		for _, w := range windows {
			from, to, ok := w.on(local.Year(), local.Month(), local.Day()+day, zone)
			switch {
			case !ok || !to.After(from):
			case !at.Before(from) && at.Before(to):
				return Span{from, to}, true
			case from.After(at) && (next.From.IsZero() || from.Before(next.From)):
				next = Span{from, to}
			}
		}
	}
	return next, false
}

// After returns the next span that opens at or after the end of another.
func After(windows []Window, span Span, zone *time.Location) Span {
	next, open := At(windows, span.To, zone)
	if open && next.From.Before(span.To) { // it overlaps the one that ends
		return After(windows, next, zone)
	}
	return next
}

// Hours are windows by the clock of a zone; without windows, any time.
type Hours struct {
	Windows []Window
	Zone    *time.Location
}

// longestWait is how far ahead it is looked for hours that several have in common: windows come again within a week,
// by clocks that are set twice a year.
const longestWait = 400 * 24 * time.Hour

// Shared returns the span in which all of some hours are open at an instant, or false and the next such span. The zero
// Span says that they are never open together; without any hours, everything is open.
func Shared(at time.Time, hours ...Hours) (span Span, open bool) {
	for t := at; t.Sub(at) < longestWait; {
		span = Span{}
		later := t
		for _, h := range hours {
			if len(h.Windows) == 0 {
				continue
			}
			one, within := At(h.Windows, t, h.Zone)
			switch {
			case !within && one.From.IsZero():
				return Span{}, false
			case !within && one.From.After(later):
				later = one.From
			case !within:
			case span.To.IsZero():
				span = one
			default:
				span = Span{latest(span.From, one.From), earliest(span.To, one.To)}
			}
		}
		if later.Equal(t) {
			return span, t.Equal(at)
		}
		t = later
	}
	return Span{}, false
}

// SharedAfter returns the next span of hours that opens at or after the end of another.
func SharedAfter(span Span, hours ...Hours) Span {
	next, open := Shared(span.To, hours...)
	if open && !next.From.IsZero() && next.From.Before(span.To) && next.To.After(span.To) {
		return SharedAfter(next, hours...) // it overlaps the one that ends
	}
	return next
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earliest(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
