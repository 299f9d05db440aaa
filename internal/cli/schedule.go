package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"ambercellar/client"
)

// scheduleCommands are the commands of schedules, firings, the queue, freezes and findings.
func scheduleCommands() []Command {
	return []Command{
		{Name: "schedule list", Summary: "list the named schedules that rules share", Run: scheduleList},
		{Name: "schedule show", Args: "RULE",
			Summary: "show when a rule runs by itself, and the cutoffs of its next firings",
			Run:     scheduleShow},
		{Name: "schedule try", Args: "TEXT", Summary: "say what a schedule means, and when it fires next",
			Flags: func(f *flag.FlagSet) {
				f.String("zone", "", "the zone whose clock it follows; left out: UTC")
				f.String("from", "", "no firing is before this day or time")
			}, Run: scheduleTry},
		{Name: "schedule off", Args: "RULE", Summary: "keep a rule from firing for a while",
			Flags: func(f *flag.FlagSet) {
				f.String("reason", "", "why; it is kept")
				f.String("until", "", "when it ends, like 2027-01-31T06:00:00Z or 8h; left out: by hand")
				f.Bool("until-done", false, "until the run that works off its backlog is done")
			}, Run: scheduleOff},
		{Name: "schedule on", Args: "RULE", Summary: "let a rule fire by its schedule again",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why; it is kept") }, Run: scheduleOn},
		{Name: "firing list", Summary: "list the moments at which rules ran by themselves, the newest first",
			Flags: func(f *flag.FlagSet) {
				f.String("rule", "", "of this rule only")
				f.String("source", "", "of this source only")
				f.String("state", "", "in this state only: due, asking, started, nothing, skipped or failed")
				limitFlag(f)
			}, Run: firingList},
		{Name: "firing next", Summary: "list the firings that are to come, the soonest first",
			Flags: func(f *flag.FlagSet) {
				f.String("rule", "", "of this rule only")
				f.Int("days", 7, "for so many days")
			}, Run: firingNext},
		{Name: "queue list", Summary: "list the runs that work and those that wait, in the order of their turns",
			Run: queueList},
		{Name: "queue jobs", Run: queueJobs,
			Summary: "list the restores, exports, disposals, verifications, moves and copies that work or wait"},
		{Name: "queue limits", Summary: "show or change how many runs and other jobs work at a time",
			Flags: func(f *flag.FlagSet) {
				f.Int("all", 0, "runs in all; 0: as it is, here and below")
				f.Int("source", 0, "runs of one source")
				f.Int("restores", 0, "restores to tables")
				f.Int("exports", 0, "restores to files")
				f.Int("disposals", 0, "disposals and erasures")
				f.Int("verifications", 0, "verifications that somebody asked for")
				f.Int("moves", 0, "moves of segments to other stores")
				f.Int("copies", 0, "second copies of segments")
				f.Int("audits", 0, "exports of the audit log")
			}, Run: queueLimits},
		{Name: "queue pause", Args: "KIND JOB",
			Summary: "stop a job for a while; KIND is restore, export, disposal, verification, move or copy",
			Run:     jobVerb((*client.Client).PauseJob)},
		{Name: "queue resume", Args: "KIND JOB", Summary: "let a paused job go on when its turn comes",
			Run: jobVerb((*client.Client).ResumeJob)},
		{Name: "queue cancel", Args: "KIND JOB", Summary: "end a job; what it has done stays",
			Run: jobVerb((*client.Client).CancelJob)},
		{Name: "queue priority", Args: "KIND JOB PRIORITY",
			Summary: "change which of the jobs that wait goes first (-100 to 100)", Run: jobPriority},
		{Name: "run priority", Args: "RUN PRIORITY",
			Summary: "change which of the runs that wait goes first (-100 to 100)",
			Run:     runPriority},
		{Name: "service freeze", Args: "[SOURCE [TABLE]]",
			Summary: "stop the work on all sources, one, or one table of it, within one batch",
			Flags: func(f *flag.FlagSet) {
				f.String("reason", "", "why; everyone is shown it")
				f.String("until", "", "when it lifts itself, like 2027-01-31T06:00:00Z or 8h; left out: by hand")
			}, Run: serviceFreeze},
		{Name: "service unfreeze", Args: "FREEZE", Summary: "end a freeze; what it stopped goes on",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why; it is kept") }, Run: serviceUnfreeze},
		{Name: "freeze list", Summary: "list the freezes that stand",
			Flags: func(f *flag.FlagSet) { f.Bool("all", false, "those that were lifted too") }, Run: freezeList},
		{Name: "finding list", Summary: "list what somebody should look at", Flags: func(f *flag.FlagSet) {
			f.Bool("all", false, "what is over or acknowledged too")
			limitFlag(f)
		}, Run: findingList},
		{Name: "finding acknowledge", Args: "FINDING", Summary: "say that somebody knows of a finding",
			Flags: func(f *flag.FlagSet) {
				f.String("reason", "", "why it may stay; it is kept")
				f.String("until", "", "from when on it is shown again; left out: never")
			}, Run: findingAcknowledge},
	}
}

func scheduleList(e *Env) error {
	l, err := e.Client.Schedules(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		when := ""
		if s.Body.When != nil {
			when = *s.Body.When
		}
		rows = append(rows, []string{s.Name, when, s.Body.Zone, s.Body.About, At(s.AppliedAt)})
	}
	return e.Show(l, []string{"schedule", "when", "zone", "about", "applied"}, rows)
}

func scheduleShow(e *Env) error {
	s, err := e.Client.RuleSchedule(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, n := range s.Next {
		var cutoffs []string
		for _, c := range n.Cutoffs {
			text := c.Label + ": never"
			if c.Cutoff != nil {
				text = c.Label + ": before " + At(*c.Cutoff)
			}
			cutoffs = append(cutoffs, text)
		}
		rows = append(rows, []string{At(n.At), strings.Join(cutoffs, "; ")})
	}
	if e.Format == "table" {
		if s.Off != nil {
			fmt.Fprintf(e.Out, "rule %s is off its schedule since %s, by %s: %s\n", s.Rule, At(s.Off.PlacedAt),
				s.Off.PlacedBy, s.Off.Reason)
		}
		switch {
		case s.Spoken == "":
			_, err := fmt.Fprintf(e.Out, "rule %s has no schedule: it runs by hand only (`ambercellar plan make "+
				"%s`)\n", s.Rule,
				s.Rule)
			return err
		case !s.Enabled:
			fmt.Fprintf(e.Out, "rule %s is not enabled and does not fire; otherwise: %s\n", s.Rule, s.Spoken)
			return nil
		}
		fmt.Fprintf(e.Out, "rule %s fires %s; firings that are missed: %s\n", s.Rule, s.Spoken,
			map[string]string{"once": "one run makes up for all", "skip": "they are skipped"}[string(s.Missed)])
	}
	return e.Show(s, []string{"next", "cutoffs"}, rows)
}

func scheduleOff(e *Env) error {
	until, err := e.until("until")
	if err != nil {
		return err
	}
	o, err := e.Client.OffSchedule(e.Ctx, e.Args[0], client.NewOffSchedule{Reason: e.Flag("reason"), Until: until,
		UntilDone: Get[bool](e, "until-done")})
	if err != nil {
		return err
	}
	ends := "somebody ends it (`ambercellar schedule on " + o.Rule + "`)"
	switch {
	case o.Until != nil:
		ends = At(*o.Until)
	case o.UntilDone:
		ends = "its run is done"
	}
	return e.Facts(o, []Fact{{"rule", o.Rule}, {"off its schedule since", At(o.PlacedAt) + " by " + o.PlacedBy},
		{"reason", o.Reason}, {"until", ends}})
}

func scheduleOn(e *Env) error {
	if _, err := e.Client.OnSchedule(e.Ctx, e.Args[0], client.NewReason{Reason: e.Flag("reason")}); err != nil {
		return err
	}
	return scheduleShow(e)
}

func scheduleTry(e *Env) error {
	s, err := e.Client.SpeakSchedule(e.Ctx, client.TimesText{When: e.Args[0], Zone: e.Flag("zone"),
		From: e.Flag("from")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, at := range s.Next {
		rows = append(rows, []string{At(at)})
	}
	if e.Format == "table" {
		fmt.Fprintln(e.Out, s.Spoken)
	}
	return e.Show(s, []string{"next"}, rows)
}

func firingList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Firing], error) {
		return e.Client.Firings(e.Ctx, client.FiringsQuery{Rule: e.Flag("rule"), Source: e.Flag("source"),
			State: e.Flag("state"), Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	return e.firings(&l)
}

func (e *Env) firings(l *client.Items[client.Firing]) error {
	rows := [][]string{}
	for _, f := range l.Items {
		due := "-"
		if f.Plan != "" {
			due = Count(f.Due)
		}
		rows = append(rows, []string{At(f.At), f.Rule, f.Source + "." + f.Table, string(f.State), due, orDash(f.Run),
			f.Reason})
	}
	return e.Show(l, []string{"at", "rule", "table", "state", "rows due", "run", "reason"}, rows)
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func firingNext(e *Env) error {
	days := Get[int](e, "days")
	if days < 1 || days > 3660 {
		return Usage("-days: write a number from 1 to 3660")
	}
	l, err := e.Client.Coming(e.Ctx, client.ComingQuery{Rule: e.Flag("rule"),
		Until: time.Now().AddDate(0, 0, days).UTC().Format(time.RFC3339)})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, f := range l.Items {
		expected := "-"
		if f.Expected > 0 {
			expected = "about " + Count(f.Expected)
		}
		rows = append(rows, []string{At(f.At), f.Rule, f.Source + "." + f.Table, expected})
	}
	return e.Show(l, []string{"at", "rule", "table", "rows expected"}, rows)
}

// until reads a time to come: an instant, or how long from now.
func (e *Env) until(flag string) (*time.Time, error) {
	text := e.Flag(flag)
	if text == "" {
		return nil, nil
	}
	if d, err := time.ParseDuration(text); err == nil {
		at := time.Now().Add(d)
		return &at, nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return &at, nil
		}
	}
	return nil, Usage("-%s: %q is no time; write one like 2027-01-31T06:00:00Z, 2027-01-31, or 8h", flag, text)
}

func serviceFreeze(e *Env) error {
	until, err := e.until("until")
	if err != nil {
		return err
	}
	in := client.NewFreeze{Reason: e.Flag("reason"), Until: until}
	if len(e.Args) > 0 {
		in.Source = e.Args[0]
	}
	if len(e.Args) > 1 {
		in.Table = e.Args[1]
	}
	f, err := e.Client.Freeze(e.Ctx, in)
	if err != nil {
		return err
	}
	return e.freeze(f)
}

func (e *Env) freeze(f *client.Freeze) error {
	lifted, until := "", "somebody lifts it (`ambercellar service unfreeze "+f.ID+"`)"
	if f.Until != nil {
		until = At(*f.Until)
	}
	if f.LiftedAt != nil {
		lifted = strings.TrimSuffix(fmt.Sprintf("%s by %s: %s", At(*f.LiftedAt), f.LiftedBy, f.LiftReason), ": ")
	}
	return e.Facts(f, []Fact{{"freeze", f.ID}, {"frozen", f.Where}, {"reason", f.Reason},
		{"placed", At(f.PlacedAt) + " by " + f.PlacedBy}, {"until", until}, {"lifted", lifted}})
}

func serviceUnfreeze(e *Env) error {
	f, err := e.Client.Unfreeze(e.Ctx, e.Args[0], client.NewReason{Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.freeze(f)
}

func freezeList(e *Env) error {
	l, err := e.Client.Freezes(e.Ctx, client.FreezesQuery{All: Get[bool](e, "all")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, f := range l.Items {
		rows = append(rows, []string{f.ID, f.Where, f.Reason, At(f.PlacedAt), f.PlacedBy, atOrDash(f.Until),
			atOrDash(f.LiftedAt)})
	}
	return e.Show(l, []string{"freeze", "frozen", "reason", "placed", "by", "until", "lifted"}, rows)
}

func findingList(e *Env) error {
	all := Get[bool](e, "all")
	l, err := items(e, func(n int, after string) (client.Items[client.Finding], error) {
		return e.Client.Findings(e.Ctx, client.FindingsQuery{All: all, Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, f := range l.Items {
		state := string(f.Severity)
		switch {
		case f.ClosedAt != nil:
			state = "over since " + At(*f.ClosedAt)
		case f.AcknowledgedAt != nil && (f.AcknowledgedUntil == nil || f.AcknowledgedUntil.After(time.Now())):
			if state = "acknowledged: " + f.AcknowledgeReason; !all {
				continue
			}
		}
		rows = append(rows, []string{f.ID, state, f.Message, f.Evidence, f.Remedy, At(f.OpenedAt)})
	}
	return e.Show(l, []string{"finding", "state", "what", "evidence", "what to do", "since"}, rows)
}

func findingAcknowledge(e *Env) error {
	until, err := e.until("until")
	if err != nil {
		return err
	}
	f, err := e.Client.Acknowledge(e.Ctx, e.Args[0], client.NewAcknowledgement{Reason: e.Flag("reason"), Until: until})
	if err != nil {
		return err
	}
	return e.Facts(f, []Fact{{"finding", f.ID}, {"what", f.Message}, {"acknowledged by", f.AcknowledgedBy},
		{"reason", f.AcknowledgeReason}, {"until", atOrDash(f.AcknowledgedUntil)}})
}
