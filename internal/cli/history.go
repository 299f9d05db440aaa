package cli

import (
	"cmp"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/client"
)

// historyCommands are the commands of what happened over days.
func historyCommands() []Command {
	return []Command{{Name: "history",
		Summary: "show what runs came to by day, week or month, where their time went, and how stores grew",
		Flags:   historyFlags, Run: history}}
}

func historyFlags(f *flag.FlagSet) {
	f.String("by", "day", "what is summed up: day, week or month, in UTC")
	f.String("from", "", "the first day, like 2027-01-31; left out: 30 days, 12 weeks or 12 months before the last one")
	f.String("to", "", "the last day; left out: today")
	f.String("source", "", "of this source alone")
	f.String("rule", "", "of this rule alone; where the time went and how stores grew is not told apart by rule")
}

// periods are how days are summed up: to which period a day belongs, and where the first of those shown begins.
var periods = map[string]struct {
	of    func(time.Time) time.Time
	first func(time.Time) time.Time
}{
	"day": {func(t time.Time) time.Time { return t }, func(t time.Time) time.Time { return t.AddDate(0, 0, -29) }},
	"week": {func(t time.Time) time.Time { return t.AddDate(0, 0, -(int(t.Weekday())+6)%7) },
		func(t time.Time) time.Time { return t.AddDate(0, 0, -7*11) }},
	"month": {func(t time.Time) time.Time { return t.AddDate(0, 0, 1-t.Day()) },
		func(t time.Time) time.Time { return t.AddDate(0, -11, 0) }},
}

// pastPeriod is what a period came to.
type pastPeriod struct {
	client.DayTotals
	stages, rests float64
	store         map[string]int64
}

func history(e *Env) error {
	by, ok := periods[e.Flag("by")]
	if !ok {
		return Usage("-by %q is none of day, week and month", e.Flag("by"))
	}
	q := client.HistoryQuery{From: e.Flag("from"), To: e.Flag("to"), Source: e.Flag("source"), Rule: e.Flag("rule")}
	if q.From == "" {
		last := time.Now().UTC()
		if t, err := time.Parse(time.DateOnly, q.To); err == nil {
			last = t
		}
		q.From = by.of(by.first(last).Truncate(24 * time.Hour)).Format(time.DateOnly)
	}
	h, err := e.Client.History(e.Ctx, q)
	if err != nil || e.Format == "json" {
		return cmp.Or(err, e.Show(h, nil, nil))
	}
	sums := map[string]*pastPeriod{}
	at := func(day string) *pastPeriod {
		t, err := time.Parse(time.DateOnly, day)
		if err == nil {
			day = by.of(t).Format(time.DateOnly)
		}
		if sums[day] == nil {
			sums[day] = &pastPeriod{store: map[string]int64{}}
		}
		return sums[day]
	}
	for _, d := range h.Days {
		s := at(d.Day)
		s.Runs, s.Archived, s.Purged = s.Runs+d.Runs, s.Archived+d.Archived, s.Purged+d.Purged
		s.Freed, s.FileBytes, s.Working = s.Freed+d.Freed, s.FileBytes+d.FileBytes, s.Working+d.Working
	}
	for _, x := range h.Efforts {
		if x.Kind == "rest" {
			at(x.Day).rests += x.Spent
		} else {
			at(x.Day).stages += x.Spent
		}
	}
	for _, s := range h.Stores {
		at(s.Day).store[s.Store] = s.Bytes // of a period, what its last day says
	}
	var days []string
	for day := range sums {
		days = append(days, day)
	}
	slices.Sort(days)
	rows := [][]string{}
	for _, day := range days {
		s := sums[day]
		stores := int64(0)
		for _, n := range s.store {
			stores += n
		}
		size := "-"
		if len(s.store) > 0 {
			size = Size(stores)
		}
		rows = append(rows, []string{day, Count(s.Runs), Count(s.Archived), Count(s.Purged), Size(s.Freed),
			Size(s.FileBytes), spell(s.Working), spell(s.stages), spell(s.rests), size})
	}
	err = e.Show(
		h,
		[]string{e.Flag("by"), "runs", "archived", "purged", "freed", "archive grew", "runs worked", "at work",
			"at rest", "stores"},
		rows,
	)
	if err != nil || e.Format != "table" {
		return err
	}
	return e.efforts(h)
}

// efforts says in a line each where the time went, the longest first.
func (e *Env) efforts(h *client.History) error {
	sums := map[[2]string]float64{}
	for _, x := range h.Efforts {
		sums[[2]string{x.Kind, x.Name}] += x.Spent
	}
	var keys [][2]string
	for key := range sums {
		keys = append(keys, key)
	}
	slices.SortFunc(keys, func(a, b [2]string) int {
		return cmp.Or(-strings.Compare(a[0], b[0]), cmp.Compare(sums[b], sums[a]), strings.Compare(a[1], b[1]))
	})
	said := map[string]string{"stage": "at work", "rest": "at rest for"}
	for _, key := range keys {
		if _, err := fmt.Fprintf(e.Out, "%s %s: %s\n", said[key[0]], key[1], spell(sums[key])); err != nil {
			return err
		}
	}
	return nil
}

// spell writes a number of seconds.
func spell(seconds float64) string {
	if seconds == 0 {
		return "-"
	}
	switch d := time.Duration(seconds * float64(time.Second)); {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", seconds)
	default:
		return d.Round(time.Second).String()
	}
}
