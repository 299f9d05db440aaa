package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"

	"golang.org/x/term"

	"ambercellar/client"
	"ambercellar/internal/core/pace"
)

// runCommands are the commands of runs.
func runCommands() []Command {
	return []Command{
		{Name: "run start", Args: "[PLAN]", Summary: "carry out a plan, or run rules now",
			Flags: func(f *flag.FlagSet) {
				f.Bool("all", false, "without a plan: run all rules that are enabled; each makes its plan, within "+
					"its limit")
				f.String("rule", "", "without a plan: run this rule")
				f.String("source", "", "with -all: the rules of this source only")
				f.String("reason", "", "without a plan: why; it is kept")
				f.Bool("watch", false, "stay and show its progress")
				f.Bool("empty", false, "remove all rows of the table at once, where the plan offers that")
				f.String("at", "", "when it begins, like 2027-01-31T22:00:00Z or 6h; left out: now")
				f.Int("priority", 0, "which of the runs that wait goes first, from -100 to 100")
			}, Run: runStart},
		{Name: "run list", Summary: "list runs, the newest first", Flags: func(f *flag.FlagSet) {
			f.String("rule", "", "of this rule only")
			f.String("state", "", "in this state only: queued, running, paused, resting, copied, done, cancelled "+
				"or failed")
			limitFlag(f)
		}, Run: runList},
		{Name: "run show", Args: "RUN", Summary: "show a run's ledger and batches",
			Flags: func(f *flag.FlagSet) { f.Int("batches", 10, "how many of the newest batches to show") },
			Run:   runShow},
		{Name: "run steps", Args: "RUN", Summary: "show what was done before and after a run worked", Run: runSteps},
		{Name: "run course", Args: "RUN",
			Summary: "show how a run goes or went: its rows a second, what others did and felt, and why it " +
				"changed its speed",
			Run: runCourse},
		{Name: "run watch", Args: "RUN", Summary: "show a run's progress until it stops", Run: runWatch},
		{Name: "run pause", Args: "RUN", Summary: "stop a run after its current batch",
			Run: runVerb((*client.Client).PauseRun)},
		{Name: "run pace", Args: "RUN PACE",
			Summary: "change a run's pace to gentle, careful or unlimited, from its next batch on", Run: runPace},
		{Name: "run ledger", Args: "RUN",
			Summary: "write the accounting of a run that has ended, with the records that it rests on",
			Flags:   func(f *flag.FlagSet) { f.String("out", "", "the file to write; left out: to standard output") },
			Run:     runLedger},
		{Name: "run report", Args: "RUN",
			Summary: "write all that is to be told of a run into a file: rule, decisions, " +
				"ledger, what became of the rows, and what the audit log says", Flags: func(f *flag.FlagSet) {
				f.String("out", "", "the file to write; it must not exist")
				f.String("format", "", "json or pdf; left out: pdf where the file's name ends so, and json otherwise")
			}, Run: runReport},
		{Name: "run resume", Args: "RUN", Summary: "go on with a paused or failed run",
			Run: runVerb((*client.Client).ResumeRun)},
		{Name: "run delete", Args: "RUN",
			Summary: "delete the rows of a run that copied them, those that still are what was copied",
			Run:     runVerb((*client.Client).DeleteCopied)},
		{Name: "run cancel", Args: "RUN", Summary: "end a run after its current batch; rows not reached stay live",
			Run: runVerb((*client.Client).CancelRun)},
	}
}

// fire runs rules now, without a plan in hand.
func (e *Env) fire() error {
	all, rule := Get[bool](e, "all"), e.Flag("rule")
	switch {
	case !all && rule == "":
		return Usage("name a plan, a rule (-rule RULE), or all rules (-all)")
	case all && rule != "":
		return Usage("-all and -rule exclude each other")
	case rule != "" && e.Flag("source") != "":
		return Usage("-source goes with -all")
	}
	for _, flag := range []string{"watch", "empty", "at", "priority"} {
		if f := e.Flags.Lookup(flag); f.Value.String() != f.DefValue {
			return Usage("-%s goes with a plan", flag)
		}
	}
	l, err := e.Client.Fire(e.Ctx, client.NewFirings{Rule: rule, Source: e.Flag("source"), Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	if err := e.firings(&l); err != nil || e.Format != "table" {
		return err
	}
	_, err = fmt.Fprintln(e.Out, "`ambercellar firing list` shows what becomes of them")
	return err
}

func runStart(e *Env) error {
	if len(e.Args) == 0 {
		return e.fire()
	}
	if Get[bool](e, "all") || e.Flag("rule") != "" || e.Flag("source") != "" {
		return Usage("a plan says itself which rule it is of")
	}
	at, err := e.until("at")
	if err != nil {
		return err
	}
	r, err := e.Client.StartRun(e.Ctx, client.NewRun{Plan: e.Args[0], Empty: Get[bool](e, "empty"), At: at,
		Priority: Get[int](e, "priority")})
	if err != nil {
		return err
	}
	if Get[bool](e, "watch") {
		return e.watch(r.ID)
	}
	return e.run1(r)
}

func runSteps(e *Env) error {
	l, err := e.Client.Steps(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		rows = append(rows, []string{At(s.BeganAt), string(s.Phase), s.What, string(s.Outcome), Count(s.Tries),
			strings.ReplaceAll(s.Output, "\n", "; ")})
	}
	return e.Show(l, []string{"at", "phase", "step", "outcome", "tries", "output"}, rows)
}

// run1 prints a run.
func (e *Env) run1(r *client.RunView) error {
	l := r.Ledger
	left := ""
	if r.SecondsLeft != nil {
		left = spanOf(r)
	}
	if r.ResumeAt != nil {
		left = "goes on " + At(*r.ResumeAt)
		if r.WindowsLeft != nil {
			left += fmt.Sprintf(", windows to go: about %d", *r.WindowsLeft)
		}
	}
	if r.Pressure != nil && e.Format == "table" {
		defer e.signals(r)
	}
	archived, logged := "", ""
	if r.LogBytes != nil {
		logged = Size(*r.LogBytes) + " of the database's, others' writing included"
	}
	if r.Store != "" {
		archived = fmt.Sprintf("%s in the archive%s", Size(r.FileBytes), Ratio(r.RawBytes, r.FileBytes))
	}
	if parts := partsText(r); parts != "" && e.Format == "table" {
		defer fmt.Fprint(e.Out, parts)
	}
	passes := ""
	for _, p := range r.Passes {
		if len(r.Passes) > 1 || len(p.Related) > 0 {
			passes += fmt.Sprintf("clause %s: %s, %s deleted of %s\n", p.Label, p.Then, Count(p.Ledger.Deleted),
				Count(p.Ledger.Copied))
		}
		for _, x := range p.Related {
			passes += fmt.Sprintf("  with %s: %s, %s: %s\n", x.Table, x.Then, LedgerText(x.Ledger), Balance(x.Ledger))
		}
	}
	if passes != "" && e.Format == "table" {
		defer fmt.Fprint(e.Out, passes)
	}
	begins, priority := "", ""
	if r.StartAt != nil && r.StartedAt == nil {
		begins = At(*r.StartAt)
	}
	if r.Priority != 0 {
		priority = Count(r.Priority)
	}
	if r.Scheduled != nil {
		begins += " by a firing of its rule at " + At(*r.Scheduled)
	}
	return e.Facts(r, []Fact{{"run", r.ID}, {"rule", fmt.Sprintf("%s, revision %d", r.Rule, r.Revision)},
		{"table", r.Source + "." + r.Table}, {"action", r.Action}, {"pace", paced(r)}, {"cutoff", At(r.Cutoff)},
		{"state", string(r.State)}, {"reason", r.Reason}, {"begins", strings.TrimSpace(begins)},
		{"started by", r.StartedBy},
		{"priority", priority}, {"due by plan", Count(r.Due)},
		{"done", fmt.Sprintf("%s, %s a second", Things(r.Done, "row"), Count(int64(r.Rate)))}, {"time left", left},
		{"written", archived}, {"log volume", logged}, {"started", atOrDash(r.StartedAt)},
		{"ended", atOrDash(r.EndedAt)}, {"ledger", LedgerText(l) + ": " + Balance(l)}})
}

// partsText says what became of each partition that was to leave as a whole.
func partsText(r *client.RunView) (out string) {
	for _, p := range r.Parts {
		if out += "partition " + p.Name + ": "; p.Name == "" {
			out = "the whole table: "
		}
		switch p.State {
		case client.PartLeft:
			if p.Name == "" {
				out += fmt.Sprintf("emptied at once, %s in %s", Things(p.Left, "row"), brief(p.Drop))
				break
			}
			out += fmt.Sprintf("left as a whole, %s; ", Things(p.Left, "row"))
			if p.Copy > 0 {
				out += fmt.Sprintf("copied in %s, ", brief(p.Copy))
			}
			out += fmt.Sprintf("compared in %s, taken out and dropped in %s", brief(p.Compare), brief(p.Drop))
		case client.PartRows:
			out += "its rows go one by one: " + p.Reason
		default:
			out += string(p.State)
		}
		out += "\n"
	}
	return out
}

// brief writes microseconds, short times in milliseconds.
func brief(micros int64) string {
	if micros < 10_000_000 {
		return Count(micros/1000) + " ms"
	}
	return span(float64(micros) / 1e6)
}

func LedgerText(l client.Ledger) string {
	return fmt.Sprintf("%s found = %s deleted + %s unlinked + %s changed + %s vanished + %s held + %s skipped",
		Count(l.Copied), Count(l.Deleted), Count(l.Unlinked), Count(l.Changed), Count(l.Vanished), Count(l.Held),
		Count(l.Skipped))
}

func runList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.RunView], error) {
		return e.Client.Runs(e.Ctx, client.RunsQuery{Rule: e.Flag("rule"), State: e.Flag("state"), Limit: n,
			After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		rows = append(rows, []string{r.ID, r.Rule, r.Source + "." + r.Table, r.Action, string(r.State), Count(r.Due),
			Count(r.Ledger.Deleted), Count(r.Ledger.LeftOut()), Balance(r.Ledger), At(r.CreatedAt)})
	}
	return e.Show(l, []string{"run", "rule", "table", "action", "state", "due", "deleted", "not deleted", "books",
		"created"}, rows)
}

func runShow(e *Env) error {
	r, err := e.Client.Run(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if e.Format == "json" {
		return e.run1(r)
	}
	if e.Format == "table" {
		if err := e.run1(r); err != nil {
			return err
		}
		l := r.Ledger
		e.Facts(r, []Fact{{"digest found", l.CopiedDigest}, {"digest deleted", l.DeletedDigest},
			{"digest not deleted", l.LeftDigest}})
		fmt.Fprintln(e.Out)
	}
	newest := Get[int](e, "batches")
	b, err := e.Client.Batches(e.Ctx, r.ID, client.BatchesQuery{Limit: newest})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, x := range b.Items {
		rows = append(rows, []string{fmt.Sprintf("%d/%d", x.Segment, x.Number), At(x.At), Count(x.Rows),
			Count(x.Deleted), Count(x.Changed), Count(x.Vanished), Count(x.Held), Count(x.Skipped),
			fmt.Sprintf("%.1f ms", float64(x.Micros)/1000), fmt.Sprintf("%.1f ms", float64(x.Rest)/1000),
			sizeOrDash(x.LogBytes), Yes(x.Retry)})
	}
	if e.Format == "table" {
		if err := e.slowdowns(r.ID, newest); err != nil {
			return err
		}
	}
	return e.Show(b, []string{"batch", "at", "rows", "deleted", "changed", "vanished", "held", "skipped", "took",
		"rest", "log", "again"}, rows)
}

// slowdowns shows when and why the run went slower than its pace; nothing where it never did.
func (e *Env) slowdowns(run string, newest int) error {
	l, err := e.Client.Slowdowns(e.Ctx, run, client.SlowdownsQuery{Limit: newest})
	if err != nil || len(l.Items) == 0 {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		what, lasted := "slower", "still"
		if s.Rests {
			what = "rested"
		}
		if s.Ended != nil {
			lasted = fmt.Sprintf("%.1f s", s.Ended.Sub(s.Begun).Seconds())
		}
		rows = append(rows, []string{At(s.Begun), what, lasted, s.Reason})
	}
	if err := e.Show(l, []string{"from", "went", "for", "reason"}, rows); err != nil {
		return err
	}
	fmt.Fprintln(e.Out)
	return nil
}

// runVerb does something to a run, and shows it.
func runVerb(do func(*client.Client, context.Context, string) (*client.RunView, error)) func(*Env) error {
	return func(e *Env) error {
		r, err := do(e.Client, e.Ctx, e.Args[0])
		if err != nil {
			return err
		}
		return e.run1(r)
	}
}

func runPace(e *Env) error {
	r, err := e.Client.SetPace(e.Ctx, e.Args[0], client.NewPace{Pace: e.Args[1]})
	if err != nil {
		return err
	}
	return e.run1(r)
}

func runWatch(e *Env) error { return e.watch(e.Args[0]) }

// watch shows a run's progress as a bar on a terminal, and as a line every few seconds elsewhere.
func (e *Env) watch(id string) error {
	var last client.RunView
	show := plainProgress(e.Err)
	if f, ok := e.Err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		show = barProgress(f)
	}
	err := e.patiently("run", id, func() error {
		return e.Client.Watch(e.Ctx, id, func(r client.RunView) error {
			last = r
			show(&r)
			return nil
		})
	})
	if err != nil {
		return err
	}
	fmt.Fprintln(e.Err)
	if err := e.run1(&last); err != nil {
		return err
	}
	if last.State == client.Failed {
		return fmt.Errorf("run %s failed", id) // why stands above
	}
	return nil
}

// paced is a run's pace and, while it works, how much of the database it takes.
func paced(r *client.RunView) string {
	if r.Pressure == nil || r.State != client.Running || r.Pace != string(client.Gentle) {
		return r.Pace
	}
	switch free := r.Pressure.Free; {
	case free == 0:
		return r.Pace + ", with long rests"
	case r.Pressure.Why != "":
		return r.Pace + ", beside others"
	case free < 1:
		return fmt.Sprintf("%s, speeding up (%.0f %%)", r.Pace, 100*free)
	}
	return r.Pace + ", at full speed"
}

// signals shows each signal with its limit.
func (e *Env) signals(r *client.RunView) {
	rows := [][]string{}
	for _, x := range r.Pressure.Readings {
		limit := "none"
		if x.Limit != nil {
			limit = "at most " + pace.Unit(x.Unit).Spoken(*x.Limit)
			if x.Floor {
				limit = "at least " + pace.Unit(x.Unit).Spoken(*x.Limit)
			}
		}
		rows = append(rows, []string{x.Signal, x.Label, pace.Unit(x.Unit).Spoken(x.Value), limit, string(x.Level)})
	}
	fmt.Fprintln(e.Out)
	e.Show(r.Pressure, []string{"signal", "what it is", "value", "limit", "level"}, rows)
}

func runReport(e *Env) error {
	out := e.Flag("out")
	if out == "" {
		return Usage("-out is missing: the file to write")
	}
	v := url.Values{"format": {e.Flag("format")}}
	if e.Flag("format") == "" && strings.HasSuffix(out, ".pdf") {
		v.Set("format", "pdf")
	} else if e.Flag("format") == "" {
		v.Del("format")
	}
	return e.save("/runs/"+url.PathEscape(e.Args[0])+"/report?"+v.Encode(), out)
}

func runLedger(e *Env) error {
	if out := e.Flag("out"); out != "" {
		return e.save("/runs/"+url.PathEscape(e.Args[0])+"/ledger", out)
	}
	l, err := e.Client.Ledger(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	e.Format = "json"
	return e.Show(l, nil, nil)
}
