package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"ambercellar/client"
	"ambercellar/internal/core/declare"
)

// completing is how long a shell waits for names that only the service knows.
const completing = time.Second

// scripts are what makes shells ask this program for completions. Each hands on the words of the line, the last one
// being completed.
var scripts = map[string]string{
	"bash": `_ambercellar() {
	local IFS=$'\n'
	COMPREPLY=($(ambercellar complete -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _ambercellar ambercellar
`,
	"zsh": `#compdef ambercellar
_ambercellar() {
	local -a found
	found=("${(@f)$(ambercellar complete -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
	(( ${#found[1]} )) && compadd -a found || _files
}
compdef _ambercellar ambercellar
`,
	"fish": `complete -c ambercellar -e
complete -c ambercellar -a '(ambercellar complete -- (commandline -opc)[2..] (commandline -ct) 2>/dev/null)'
`,
}

func completionScript(e *Env) error {
	text, ok := scripts[e.Args[0]]
	if !ok {
		return Usage("%q is none of bash, zsh and fish", e.Args[0])
	}
	_, err := io.WriteString(e.Out, text)
	return err
}

// complete prints what the last of the words can be.
func complete(ctx context.Context, out io.Writer, all []Command, words []string) {
	if len(words) == 0 {
		words = []string{""}
	}
	last, before := words[len(words)-1], words[:len(words)-1]
	for _, s := range candidates(ctx, all, before, last) {
		if strings.HasPrefix(s, last) {
			fmt.Fprintln(out, s)
		}
	}
}

func candidates(ctx context.Context, all []Command, before []string, last string) []string {
	cmd, rest := find(all, before)
	if cmd == nil {
		return nextWords(all, before)
	}
	f := flag.NewFlagSet(cmd.Name, flag.ContinueOnError)
	if cmd.Flags != nil {
		cmd.Flags(f)
	}
	if !cmd.Local {
		f.String("server", "", "")
		f.String("o", "", "")
	}
	if len(rest) > 0 { // the value of a flag
		if name, dashed := strings.CutPrefix(rest[len(rest)-1], "-"); dashed {
			if x := f.Lookup(strings.TrimPrefix(name, "-")); x != nil && !isBool(x) {
				return named(ctx, x.Name)
			}
		}
	}
	if strings.HasPrefix(last, "-") {
		var out []string
		f.VisitAll(func(x *flag.Flag) { out = append(out, "-"+x.Name) })
		return out
	}
	if more := nextWords(all, before); len(more) > 0 && len(rest) == 0 { // rule, and rule list
		return more
	}
	position := 0
	for i := 0; i < len(rest); i++ {
		if name, dashed := strings.CutPrefix(rest[i], "-"); dashed {
			if x := f.Lookup(strings.TrimPrefix(name, "-")); x != nil && !isBool(x) && !strings.Contains(name, "=") {
				i++
			}
			continue
		}
		position++
	}
	args := strings.Fields(cmd.Args)
	if position >= len(args) {
		return nil
	}
	what := strings.ToLower(strings.Trim(args[position], "[]"))
	switch noun := strings.Fields(cmd.Name)[0]; {
	case noun == "declared" && what == "kind":
		return declare.Kinds
	case noun == "declared" && len(rest) > 0:
		what = rest[len(rest)-1]
	case noun == "queue" && what == "kind":
		return names(jobKinds, nil, func(k client.JobKind) string { return string(k) })
	case what == "name": // of a source, of a store
		what = noun
	}
	return named(ctx, what, rest...)
}

func isBool(x *flag.Flag) bool {
	b, ok := x.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// nextWords are the words that can follow those of the beginning of a command.
func nextWords(all []Command, before []string) (out []string) {
	for _, c := range all {
		words := strings.Fields(c.Name)
		if len(words) > len(before) && slices.Equal(words[:len(before)], before) &&
			!slices.Contains(out, words[len(before)]) {
			out = append(out, words[len(before)])
		}
	}
	return out
}

// named lists the names of what an argument or a flag is called after; none where the service does not answer in time.
func named(ctx context.Context, what string, before ...string) (out []string) {
	if fixed, ok := map[string][]string{"o": {"table", "json", "csv"}, "pace": {"gentle", "careful", "unlimited"},
		"severity": {"urgent", "warning", "notice"}, "log": {"text", "json"},
		"level": {"debug", "info", "warn", "error"}, "by": {"day", "week", "month"}}[what]; ok {
		return fixed
	}
	ctx, cancel := context.WithTimeout(ctx, completing)
	defer cancel()
	server := os.Getenv("AMBERCELLAR_SERVER")
	if server == "" {
		server = defaultServer
	}
	c := &client.Client{Server: server, Token: os.Getenv("AMBERCELLAR_TOKEN")}
	switch what {
	case "rule", "rules":
		l, err := c.Rules(ctx, client.RulesQuery{Limit: 500})
		return names(l.Items, err, func(r client.RuleView) string { return r.Name })
	case "source", "sources":
		l, err := c.Sources(ctx)
		return names(l.Items, err, func(s client.Config) string { return s.Name })
	case "store", "second":
		l, err := c.Stores(ctx)
		return names(l.Items, err, func(s client.StoreView) string { return s.Name })
	case "keep":
		l, err := c.Keeps(ctx)
		return names(l.Items, err, func(k client.Keep) string { return k.Name })
	case "schedule":
		l, err := c.Schedules(ctx)
		return names(l.Items, err, func(s client.SharedSchedule) string { return s.Name })
	case "recipient":
		l, err := c.Recipients(ctx)
		return names(l.Items, err, func(r client.Recipient) string { return r.Name })
	case "table":
		return tables(ctx, c, before)
	case "run":
		l, err := c.Runs(ctx, client.RunsQuery{Limit: 50})
		return names(l.Items, err, func(r client.RunView) string { return r.ID })
	case "plan":
		l, err := c.Plans(ctx, client.PlansQuery{Limit: 50})
		return names(l.Items, err, func(p client.Plan) string { return p.ID })
	case "restore":
		l, err := c.Restores(ctx, client.RestoresQuery{Limit: 50})
		return names(l.Items, err, func(r client.Restore) string { return r.ID })
	case "finding":
		l, err := c.Findings(ctx, client.FindingsQuery{Limit: 50})
		return names(l.Items, err, func(f client.Finding) string { return f.ID })
	case "delivery":
		l, err := c.Deliveries(ctx, client.DeliveriesQuery{Limit: 50})
		return names(l.Items, err, func(d client.Delivery) string { return d.ID })
	}
	return nil
}

func names[T any](list []T, err error, name func(T) string) (out []string) {
	if err != nil {
		return nil
	}
	for _, x := range list {
		out = append(out, name(x))
	}
	return out
}

// tables lists the tables of the source that stands before them, or of the first one.
func tables(ctx context.Context, c *client.Client, before []string) []string {
	sources, err := c.Sources(ctx)
	if err != nil || len(sources.Items) == 0 {
		return nil
	}
	source := sources.Items[0].Name
	for _, s := range sources.Items {
		if slices.Contains(before, s.Name) {
			source = s.Name
		}
	}
	l, err := c.Tables(ctx, source)
	return names(l.Items, err, func(t client.Table) string { return t.Name })
}

// jobKinds are the kinds of jobs that a queue has.
var jobKinds = []client.JobKind{client.JobRestore, client.JobExport, client.JobDisposal, client.JobVerification,
	client.JobMove, client.JobCopy, client.JobAudit}
