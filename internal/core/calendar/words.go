package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/teambition/rrule-go"
)

var weekdays = []rrule.Weekday{rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU}

var (
	weekdayNames = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}
	monthNames   = []string{"january", "february", "march", "april", "may", "june", "july", "august", "september",
		"october", "november", "december"}
	ordinals = []string{"first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth",
		"eleventh", "twelfth"}
)

// words reads a recurrence that is written in words, one word after the other.
type words struct {
	list []string
	at   []int // columns, from 1
	i    int
	o    rrule.ROption
}

// parseWords reads a recurrence in words.
func parseWords(text string) (*rrule.ROption, error) {
	w := &words{}
	column := 1
	for part := range strings.SplitSeq(strings.ToLower(text), " ") {
		for piece := range strings.SplitSeq(part, ",") {
			if piece != "" {
				w.list, w.at = append(w.list, piece), append(w.at, column)
			}
			column += len(piece) + 1
		}
	}
	if err := w.read(); err != nil {
		return nil, err
	}
	if w.i < len(w.list) {
		return nil, w.wrong("nothing, or `at` and a time")
	}
	return &w.o, nil
}

// next takes a word, if it is one of some.
func (w *words) next(some ...string) bool {
	if w.i < len(w.list) && slices.Contains(some, w.list[w.i]) {
		w.i++
		return true
	}
	return false
}

func (w *words) word() string {
	if w.i < len(w.list) {
		return w.list[w.i]
	}
	return ""
}

// wrong says what should stand at the place where the reading is.
func (w *words) wrong(want string) error {
	if w.i >= len(w.list) {
		return fmt.Errorf("it ends where %s should follow; %s", want, recurrenceForms)
	}
	return fmt.Errorf("column %d: %q is not understood; here should stand %s; %s", w.at[w.i], w.word(), want,
		recurrenceForms)
}

func (w *words) read() error {
	switch {
	case w.next("hourly"):
		return w.pastTheHour()
	case w.next("daily"):
		w.o.Freq = rrule.DAILY
	case w.next("weekly"):
		if !w.next("on") {
			return w.wrong("`on` and a day")
		}
		return w.onDays(0)
	case w.next("monthly"):
		return w.monthly(1)
	case w.next("quarterly"):
		return w.monthly(3)
	case w.next("yearly", "annually"):
		if !w.next("on") {
			return w.wrong("`on` and a day (on 1 January)")
		}
		return w.dayOfYear()
	case w.next("every", "each"):
		return w.every()
	case w.next("the"):
		return w.dayThenMonths()
	case w.word() == "weekdays" || w.word() == "weekends" || w.isDay(w.word()):
		return w.onDays(0)
	case w.isOrdinal(w.word()):
		return w.dayThenMonths()
	default:
		return w.wrong("how often (daily, weekdays, monthly on, every ...)")
	}
	return w.times()
}

// every reads what follows `every`: a number of units, days, or a day of the year.
func (w *words) every() error {
	if slices.Contains(monthNames, w.following()) {
		return w.dayOfYear()
	}
	n := 1
	if w.i+1 < len(w.list) && slices.Contains([]string{"minute", "hour", "day", "week", "month", "year"},
		strings.TrimSuffix(w.following(), "s")) {
		var ok bool
		if n, ok = count(w.word()); !ok || n < 1 || n > mostInterval {
			return w.wrong("a number from 1 to 1000")
		}
		w.i++
	}
	w.o.Interval = n
	switch unit := strings.TrimSuffix(w.word(), "s"); unit {
	case "minute":
		w.i++
		w.o.Freq = rrule.MINUTELY
		return nil
	case "hour":
		w.i++
		return w.pastTheHour()
	case "day":
		w.i++
		w.o.Freq = rrule.DAILY
		return w.times()
	case "week":
		w.i++
		if !w.next("on") {
			return w.wrong("`on` and a day")
		}
		return w.onDays(n)
	case "month":
		w.i++
		return w.monthly(n)
	case "year":
		w.i++
		if !w.next("on") {
			return w.wrong("`on` and a day (on 1 January)")
		}
		return w.dayOfYear()
	}
	if w.isDay(w.word()) || w.word() == "weekday" {
		return w.onDays(0)
	}
	return w.wrong("a day, or a number of minutes, hours, days, weeks, months or years")
}

func (w *words) following() string {
	if w.i+1 < len(w.list) {
		return w.list[w.i+1]
	}
	return ""
}

// pastTheHour reads `at :15`, which may be left out.
func (w *words) pastTheHour() error {
	w.o.Freq, w.o.Byminute = rrule.HOURLY, []int{0}
	if !w.next("at") {
		return nil
	}
	m, err := strconv.Atoi(strings.TrimPrefix(w.word(), ":"))
	if err != nil || !strings.HasPrefix(w.word(), ":") || m < 0 || m > 59 {
		return w.wrong("the minutes past the hour (:15)")
	}
	w.i++
	w.o.Byminute = []int{m}
	return nil
}

// times reads `at` and the times of a day.
func (w *words) times() error {
	if !w.next("at") {
		return w.wrong("`at` and a time (at 02:30)")
	}
	for {
		hour, minute, ok := timeOfDay(w.word())
		if !ok {
			return w.wrong("a time of day from 00:00 to 23:59")
		}
		if len(w.o.Byminute) > 0 && w.o.Byminute[0] != minute {
			return fmt.Errorf("column %d: the times of one schedule are at the same minute of their hours; write "+
				"cron's "+
				"fields, or two rules", w.at[w.i])
		}
		w.i++
		w.o.Byminute = []int{minute}
		if !slices.Contains(w.o.Byhour, hour) {
			w.o.Byhour = append(w.o.Byhour, hour)
		}
		w.next("and")
		if w.word() == "" {
			slices.Sort(w.o.Byhour)
			return nil
		}
	}
}

func timeOfDay(s string) (hour, minute int, ok bool) {
	h, m, colon := strings.Cut(s, ":")
	hour, err := strconv.Atoi(h)
	minute, err2 := strconv.Atoi(m)
	return hour, minute, colon && err == nil && err2 == nil && len(m) == 2 && len(h) <= 2 && hour >= 0 && hour < 24 &&
		minute >= 0 && minute < 60
}

// onDays reads days of the week and the times; every is the interval in weeks.
func (w *words) onDays(every int) error {
	w.o.Freq, w.o.Interval = rrule.WEEKLY, every
	for w.word() != "" && w.word() != "at" {
		switch word := w.word(); {
		case w.next("weekdays", "weekday"):
			w.o.Byweekday = append(w.o.Byweekday, weekdays[:5]...)
		case w.next("weekends", "weekend"):
			w.o.Byweekday = append(w.o.Byweekday, weekdays[5:]...)
		case w.next("and"):
		default:
			first, last, span := strings.Cut(word, "-")
			a, b := dayOf(first), dayOf(last)
			if !span {
				b = a
			}
			if a < 0 || b < 0 {
				return w.wrong("a day of the week")
			}
			w.i++
			for d := a; ; d = (d + 1) % 7 {
				w.o.Byweekday = append(w.o.Byweekday, weekdays[d])
				if d == b {
					break
				}
			}
		}
	}
	if len(w.o.Byweekday) == 0 {
		return w.wrong("a day of the week")
	}
	return w.times()
}

// monthly reads `on` and the day of the month, and the times.
func (w *words) monthly(every int) error {
	w.o.Freq, w.o.Interval = rrule.MONTHLY, every
	if !w.next("on") {
		return w.wrong("`on` and a day (on the 15th, on the first monday, on the last day)")
	}
	if err := w.dayOfMonth(); err != nil {
		return err
	}
	return w.times()
}

// dayThenMonths reads a day, and of which months it is: first monday of every third month.
func (w *words) dayThenMonths() error {
	w.o.Freq = rrule.MONTHLY
	if err := w.dayOfMonth(); err != nil {
		return err
	}
	if !w.next("of") {
		return w.wrong("`of` and the months (of every third month)")
	}
	if m := monthOf(w.word()); m > 0 {
		w.i++
		w.o.Freq, w.o.Bymonth = rrule.YEARLY, []int{m}
		return w.times()
	}
	if w.next("the") {
		if !w.next("month") {
			return w.wrong("`month`")
		}
		return w.times()
	}
	if !w.next("every", "each") {
		return w.wrong("`every month`, `every third month`, or a month")
	}
	if n, ok := count(w.word()); ok {
		if n < 1 || n > mostInterval {
			return w.wrong("a number from 1 to 1000")
		}
		w.i++
		w.o.Interval = n
	}
	if !w.next("month", "months") {
		return w.wrong("`month`")
	}
	return w.times()
}

// dayOfMonth reads a day of a month: the 15th, day 15, the first monday, the last day.
func (w *words) dayOfMonth() error {
	w.next("the")
	if w.next("day") {
		n, err := strconv.Atoi(w.word())
		if err != nil || n < 1 || n > 31 {
			return w.wrong("a day from 1 to 31")
		}
		w.i++
		w.o.Bymonthday = []int{n}
		return nil
	}
	n, ok := ordinal(w.word())
	if !ok {
		return w.wrong("a day (the 15th, the first monday, the last day)")
	}
	following := w.following()
	switch d := dayOf(following); {
	case d >= 0 && n <= 5:
		w.i += 2
		day := weekdays[d]
		w.o.Byweekday = []rrule.Weekday{day.Nth(n)}
	case following == "day" && n >= -1 && n <= 31:
		w.i += 2
		w.o.Bymonthday = []int{n}
	case following == "weekday" && n <= 5:
		w.i += 2
		w.o.Byweekday, w.o.Bysetpos = slices.Clone(weekdays[:5]), []int{n}
	case n > 0 && n <= 31:
		w.i++
		w.o.Bymonthday = []int{n}
	default:
		return w.wrong("a day (the 15th, the first monday, the last day)")
	}
	return nil
}

// dayOfYear reads a day of the year and the times: 1 January, January 1, the first monday of march.
func (w *words) dayOfYear() error {
	if m := monthOf(w.following()); m > 0 {
		n, err := strconv.Atoi(w.word())
		if err != nil {
			n, _ = ordinal(w.word())
		}
		if n < 1 || n > 31 {
			return w.wrong("a day from 1 to 31")
		}
		w.i += 2
		w.o.Freq, w.o.Bymonth, w.o.Bymonthday = rrule.YEARLY, []int{m}, []int{n}
		return w.times()
	}
	if m := monthOf(w.word()); m > 0 {
		n, err := strconv.Atoi(w.following())
		w.i++
		if err != nil || n < 1 || n > 31 {
			return w.wrong("a day from 1 to 31")
		}
		w.i++
		w.o.Freq, w.o.Bymonth, w.o.Bymonthday = rrule.YEARLY, []int{m}, []int{n}
		return w.times()
	}
	if w.word() != "the" && !w.isOrdinal(w.word()) {
		return w.wrong("a day of the year (1 January, the first monday of march)")
	}
	return w.dayThenMonths()
}

func (w *words) isDay(s string) bool { return dayOf(strings.Split(s, "-")[0]) >= 0 }

func (w *words) isOrdinal(s string) bool { _, ok := ordinal(s); return ok }

// dayOf is the place of a day in the week, from its name in full, with an s, or its first three letters; -1: none.
func dayOf(s string) int {
	return slices.IndexFunc(weekdayNames, func(name string) bool {
		return s == name || s == name+"s" || s == name[:3]
	})
}

// monthOf is the number of a month from its name or its first three letters; 0: none.
func monthOf(s string) int {
	return 1 + slices.IndexFunc(monthNames, func(name string) bool { return s == name || s == name[:3] })
}

// ordinal reads first, second, 15th, 31st, last; last is -1.
func ordinal(s string) (int, bool) {
	if s == "last" {
		return -1, true
	}
	if i := slices.Index(ordinals, s); i >= 0 {
		return i + 1, true
	}
	if len(s) < 3 {
		return 0, false
	}
	n, err := strconv.Atoi(s[:len(s)-2])
	return n, err == nil && n >= 0 && nth(n) == s
}

// count reads a number, an ordinal, or `other`.
func count(s string) (int, bool) {
	if s == "other" {
		return 2, true
	}
	if n, err := strconv.Atoi(s); err == nil {
		return n, true
	}
	n, ok := ordinal(s)
	return n, ok
}

// nth writes an ordinal: 1st, 2nd, 3rd, 11th.
func nth(n int) string {
	switch {
	case n%100 >= 11 && n%100 <= 13:
	case n%10 == 1:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}
