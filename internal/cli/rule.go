package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"ambercellar/client"
)

// ruleCommands are the commands of rules and named keeps.
func ruleCommands() []Command {
	return []Command{
		{Name: "rule check", Summary: "check a file of rules and change nothing", Flags: fileFlag, Run: ruleCheck},
		{Name: "rule apply", Summary: "apply a file of rules: all of them or none", Flags: func(f *flag.FlagSet) {
			fileFlag(f)
			f.String("reason", "", "why a locked clause is loosened; it is kept")
		}, Run: ruleApply},
		{Name: "rule forecast", Args: "RULE", Summary: "say what runs in the coming months would take",
			Flags: func(f *flag.FlagSet) { f.Int("months", 12, "how many months to look ahead") }, Run: ruleForecast},
		{Name: "rule list", Summary: "list the rules", Flags: func(f *flag.FlagSet) {
			f.String("source", "", "of this source only")
			f.String("text", "", "those alone with this in the name of the rule, its source or its table")
			limitFlag(f)
		}, Run: ruleList},
		{Name: "rule show", Args: "RULE", Summary: "show a rule and its revisions", Run: ruleShow},
		{Name: "rule enable", Args: "RULE", Summary: "let a rule run again", Flags: reasonFlag,
			Run: func(e *Env) error { return e.enable(true) }},
		{Name: "rule disable", Args: "RULE", Summary: "keep a rule from running; it can still be planned",
			Flags: reasonFlag, Run: func(e *Env) error { return e.enable(false) }},
		{Name: "rule requirements", Args: "RULE", Summary: "say how what a rule requires stands now",
			Run: ruleRequirements},
		{Name: "keep list", Summary: "list the named keeps that rules share", Run: keepList},
	}
}

func reasonFlag(f *flag.FlagSet) { f.String("reason", "", "why; it is kept") }

func (e *Env) enable(enabled bool) error {
	l, err := e.Client.SetEnabled(e.Ctx, e.Args[0], client.NewEnabled{Enabled: enabled, Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, a := range l.Items {
		rows = append(rows, []string{a.Rule, Count(a.Revision), strings.Join(a.Changes, "; ")})
	}
	return e.Show(l, []string{"rule", "revision", "changes"}, rows)
}

func ruleRequirements(e *Env) error {
	l, err := e.Client.Conditions(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, c := range l.Items {
		state := "holds"
		if !c.Met {
			state = "does not hold"
		}
		rows = append(rows, []string{c.Name, c.Needs, state, c.Found})
	}
	return e.Show(l, []string{"requires", "needs", "state", "found"}, rows)
}

func fileFlag(f *flag.FlagSet) { f.String("f", "", "the file of rules; - reads standard input") }

func (e *Env) ruleFile() (in client.RuleFile, err error) {
	in.File = e.Flag("f")
	var text []byte
	switch in.File {
	case "":
		return in, Usage("-f FILE is missing")
	case "-":
		text, err = io.ReadAll(e.In)
	default:
		text, err = os.ReadFile(in.File)
	}
	in.Text = string(text)
	return in, err
}

func ruleCheck(e *Env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	r, err := e.Client.CheckRules(e.Ctx, in)
	if err != nil {
		return err
	}
	mistakes := 0
	rows := [][]string{}
	for _, p := range r.Problems {
		level := "warning"
		if !p.Warning {
			level, mistakes = "mistake", mistakes+1
		}
		rows = append(rows, []string{level, p.File, fmt.Sprint(p.Line), fmt.Sprint(p.Column), p.Rule, p.Field,
			p.Message, p.Remedy})
	}
	if e.Format == "table" {
		for _, p := range r.Problems {
			fmt.Fprintln(e.Out, p.Error())
		}
		if mistakes == 0 {
			fmt.Fprintf(e.Out, "%s: no mistakes, %d warnings\n", in.File, len(r.Problems))
		}
	} else if err := e.Show(r, []string{"level", "file", "line", "column", "rule", "field", "message", "remedy"},
		rows); err != nil {
		return err
	}
	if mistakes > 0 {
		return fmt.Errorf("%s: %s", in.File, Things(mistakes, "mistake"))
	}
	return nil
}

func ruleApply(e *Env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	in.Reason = e.Flag("reason")
	r, err := e.Client.ApplyRules(e.Ctx, in)
	if err != nil {
		return err
	}
	for _, p := range r.Problems {
		fmt.Fprintln(e.Err, p.Error())
	}
	rows := [][]string{}
	for _, a := range r.Applied {
		changes := strings.Join(a.Changes, "; ")
		if changes == "" {
			changes = "as it was"
		}
		name, revision := a.Rule, Count(a.Revision)
		if a.Keep {
			name, revision = "keep "+name, "-"
		} else if a.Schedule {
			name, revision = "schedule "+name, "-"
		}
		rows = append(rows, []string{name, revision, changes})
	}
	return e.Show(r, []string{"rule", "revision", "changes"}, rows)
}

func ruleList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.RuleView], error) {
		return e.Client.Rules(e.Ctx, client.RulesQuery{Source: e.Flag("source"), Text: e.Flag("text"), Limit: n,
			After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		last := "never"
		if r.LastRun != nil {
			last = fmt.Sprintf("%s (%s, %s)", At(r.LastRun.CreatedAt), r.LastRun.State,
				Things(r.LastRun.Ledger.Deleted, "row"))
		}
		rows = append(rows, []string{r.Name, r.Source + "." + r.Table, string(r.Body.Then), r.Spoken,
			Count(r.Revision), last})
	}
	return e.Show(l, []string{"rule", "table", "then", "keep", "revision", "last run"}, rows)
}

func ruleShow(e *Env) error {
	r, err := e.Client.Rule(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	v, err := e.Client.Revisions(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	k, err := e.Client.Keeping(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "%s\n", r.Text)
		e.keeping(k)
	}
	rows := [][]string{}
	for _, x := range v.Items {
		rows = append(rows, []string{Count(x.Revision), At(x.AppliedAt), x.AppliedBy, strings.Join(x.Changes, "; ")})
	}
	return e.Show(RuleShown{*r, *k, v.Items}, []string{"revision", "applied", "by", "changes"}, rows)
}

// keeping says whether a rule keeps up, and what would help.
func (e *Env) keeping(k *client.KeepingUp) {
	fmt.Fprintln(e.Out, k.Spoken)
	for _, h := range k.Help {
		fmt.Fprintln(e.Out, "  would help: "+h)
	}
	if k.Problem != "" {
		fmt.Fprintln(e.Out, "  it could not be counted what becomes due: "+k.Problem)
	}
	fmt.Fprintln(e.Out)
}

func ruleForecast(e *Env) error {
	months := Get[int](e, "months")
	if months < 1 {
		return fmt.Errorf("-months %d is no number of months; give 1 to 120", months)
	}
	l, err := e.Client.Forecast(e.Ctx, e.Args[0], client.ForecastQuery{Months: months})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, f := range l.Items {
		var cutoffs []string
		for _, c := range f.Cutoffs {
			if c == nil {
				cutoffs = append(cutoffs, "never")
			} else {
				cutoffs = append(cutoffs, c.Format(time.DateOnly))
			}
		}
		growth := "-"
		if f.Growth > 0 {
			growth = "about " + Count(f.Growth)
		}
		rows = append(rows, []string{f.At.Format(time.DateOnly), strings.Join(cutoffs, ", "), Count(f.Rows), growth})
	}
	return e.Show(l, []string{"run on", "cutoff of each clause", "rows there today", "rows still to be written"}, rows)
}

func keepText(k client.Named) string {
	if k.Forever {
		return "forever"
	}
	return k.Period
}

func keepList(e *Env) error {
	l, err := e.Client.Keeps(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, k := range l.Items {
		rows = append(rows, []string{k.Name, keepText(k.Body), k.Body.About, At(k.AppliedAt)})
	}
	return e.Show(l, []string{"keep", "period", "about", "applied"}, rows)
}
