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

	"github.com/oklog/ulid/v2"

	"ambercellar/client"
)

// planCommands are the commands of plans.
func planCommands() []Command {
	return []Command{
		{Name: "plan make", Args: "RULE", Summary: "compute what a run would take, and change nothing",
			Flags: planFlags, Run: planMake},
		{Name: "plan compare", Summary: "say which rows become due or stop being due if a file were applied",
			Flags: fileFlag, Run: planCompare},
		{Name: "plan show", Args: "PLAN", Summary: "show a plan", Flags: planShowFlags, Run: planShow},
		{Name: "plan approve", Args: "PLAN", Summary: "approve the run of a plan, before or after somebody asks for it",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why; it is kept") },
			Run:   approvalVerb((*client.Client).ApprovePlan)},
	}
}

func whereFlags(f *flag.FlagSet) {
	f.String("where", "", "a condition, like outcome = 'refused'")
	f.String("where-file", "", "a file that holds the condition, so that no shell changes its quotes; - reads "+
		"standard input")
}

// where reads the condition of -where or -where-file.
func (e *Env) where() (string, error) {
	file := e.Flag("where-file")
	if file == "" {
		return e.Flag("where"), nil
	}
	if e.Flag("where") != "" {
		return "", Usage("-where and -where-file say the same; give one of them")
	}
	text, err := e.read(file)
	return strings.TrimSpace(string(text)), err
}

func planShowFlags(f *flag.FlagSet) {
	f.Bool("sql", false, "show the very statements that a run sends")
	f.Bool("rows", false, "show some of the rows that would go")
}

func planFlags(f *flag.FlagSet) {
	whereFlags(f)
	planShowFlags(f)
	f.String("before", "", "a cutoff earlier than the rule's, as a date or time")
	f.String("keys", "", "only rows whose key lies in FROM..TO")
	f.Int64("limit", 0, "at most so many rows")
	f.String("note", "", "what the plan is for")
	f.Bool("exact", false, "count the rows, in pieces along their age, rather than estimate")
	f.String("budget", "", "the most time for counting, like PT10M")
	f.Bool("confirm", false, "the table's changes since the rule was applied are meant")
	f.String("override", "", "the reason for going beyond a guard rail in this one plan")
}

func planMake(e *Env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	limit := Get[int64](e, "limit")
	in := client.NewPlan{Rule: e.Args[0], Before: e.Flag("before"), Where: where, Keys: e.Flag("keys"), Limit: limit,
		Note:  e.Flag("note"),
		Exact: Get[bool](e, "exact"), Budget: e.Flag("budget"), Confirm: Get[bool](e, "confirm"),
		Override: e.Flag("override")}
	stop := func() {}
	if in.Exact {
		in.Ticket = ulid.Make().String()
		stop = e.tellCounting(in.Ticket)
	}
	p, err := lasting(e, "the plan",
		func(ctx context.Context) (*client.Plan, error) { return e.Client.MakePlan(ctx, in) })
	stop()
	if err != nil {
		return err
	}
	return e.plan(p)
}

const countingShown = time.Second

// tellCounting says now and then how far the counting is, until the returned function is called.
func (e *Env) tellCounting(ticket string) (stop func()) {
	ctx, cancel := context.WithCancel(e.Ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(countingShown):
			}
			if x, err := e.Client.Counting(ctx, ticket); err == nil {
				fmt.Fprintf(e.Err, "counting: %d of %d stretches of age\n", x.Done, x.Pieces)
			}
		}
	}()
	return func() { cancel(); <-done }
}

func planShow(e *Env) error {
	p, err := e.Client.Plan(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.plan(p)
}

// number writes a count of a plan, of which an estimate does not know all.
func number(n int64) string {
	if n == client.NotCounted {
		return "not counted"
	}
	return Count(n)
}

func (e *Env) plan(p *client.Plan) error {
	if err := e.Facts(p, planFacts(p)); err != nil || e.Format != "table" {
		return err
	}
	for _, show := range []func(*client.Plan) error{e.clauses, e.related, e.partitions, e.sample} {
		if err := show(p); err != nil {
			return err
		}
	}
	if Get[bool](e, "sql") {
		for _, s := range p.Detail.Statements {
			fmt.Fprintf(e.Out, "\n-- %s\n%s\n", s.Title, s.SQL)
			for i, v := range s.Values {
				fmt.Fprintf(e.Out, "--   %d: %s\n", i+1, v)
			}
		}
	}
	for _, w := range p.Warnings {
		fmt.Fprintln(e.Out, "warning:", w)
	}
	fmt.Fprintf(e.Out, "nothing was changed; `ambercellar run start %s` carries it out\n", p.ID)
	return nil
}

// planFacts are the figures of a plan.
func planFacts(p *client.Plan) []Fact {
	c, d := p.Counts, p.Detail
	how := "estimated from the database's statistics"
	if c.Counted {
		how = "counted"
		if c.From != nil && c.To != nil {
			how = fmt.Sprintf("counted between %s and %s", c.From.Format("15:04:05"), c.To.Format("15:04:05 UTC"))
		}
	}
	some := func(n int64, text string) string {
		if n == 0 || n == client.NotCounted {
			return ""
		}
		return Count(n) + " " + text
	}
	uncounted := ""
	if !c.Counted {
		uncounted = "uncovered, ageless, future, held, restored and referenced rows; an exact plan counts them"
	}
	segments := ""
	if p.Segments > 0 {
		segments = "about " + Count(p.Segments)
	}
	seconds, archive, log := expected(p)
	ageless := "never due"
	if slices.ContainsFunc(d.Clauses, func(x client.PlanClause) bool { return x.Keep == "none" }) { // which takes them
		ageless = "without an age"
	}
	firstStays := c.FirstStays
	if len(d.Clauses) > 1 { // each clause has its own
		firstStays = ""
	}
	return []Fact{{"plan", p.ID}, {"rule", fmt.Sprintf("%s, revision %d", p.Rule, p.Revision)},
		{"table", p.Source + "." + p.Table}, {"note", d.Note}, {"narrowed to", narrowed(&d.Narrow)},
		{"made", At(p.MadeAt)}, {"latest cutoff", At(p.Cutoff) + "  (" + p.Cutoff.Format(time.RFC3339) + ")"},
		{"rows due", fmt.Sprintf("%s of %s (%s)", Count(c.Due), Count(c.Total), how)},
		{"data", "about " + Size(c.Bytes)}, {"oldest", c.Oldest}, {"last that goes", c.LastGoing},
		{"first that stays", firstStays}, {"batches", "about " + Count(p.Batches) + " at the first size"},
		{"segments", segments}, {"takes", seconds}, {"archive size", archive}, {"log volume", log},
		{"uncovered", some(c.Uncovered, "rows that no clause covers")},
		{ageless, some(c.Ageless, "rows whose age is no instant")},
		{"in the future", some(c.Future, "rows dated more than a day ahead")},
		{"held", some(c.Held, "aged rows that a hold protects")},
		{"restored", some(c.Restored, "aged rows left alone, as they were restored")}, {"not counted", uncounted},
		{"referenced", some(c.Referenced, "aged rows that another table refers to")},
		{"by collation", some(c.Collation, "rows that the column's own collation would judge otherwise")}}
}

// narrowed says what a plan asks for beyond its rule.
func narrowed(n *client.Narrow) string {
	var out []string
	if n.Before != nil {
		out = append(out, "before "+n.Before.Format(time.RFC3339))
	}
	if n.Where != "" {
		out = append(out, "where "+n.Where)
	}
	if n.Keys != "" {
		out = append(out, "keys "+n.Keys)
	}
	if n.Limit > 0 {
		out = append(out, "at most "+Count(n.Limit)+" rows")
	}
	return strings.Join(out, "; ")
}

// expected says how long a run is expected to take, and how much it archives and has the database log.
func expected(p *client.Plan) (seconds, archive, log string) {
	const unknown = "unknown before the first run"
	seconds, archive, log = unknown, unknown, unknown
	x := &p.Detail.Expect
	if x.Seconds != nil {
		seconds = "about " + span(*x.Seconds)
	}
	if x.ArchiveBytes != nil {
		archive = "about " + Size(*x.ArchiveBytes)
	}
	if x.LogBytes != nil {
		log = "about " + Size(*x.LogBytes)
	}
	if p.Segments == 0 {
		archive = ""
	}
	return seconds, archive, log
}

// clauses shows what each clause takes.
func (e *Env) clauses(p *client.Plan) error {
	c, d := p.Counts, p.Detail
	fmt.Fprintln(e.Out)
	rows := [][]string{}
	for i, x := range d.Clauses {
		cut, n := "never due", client.ClauseCount{}
		if x.Cutoff != nil {
			cut = x.Cutoff.Format(time.RFC3339)
		}
		if i < len(c.Clauses) {
			n = c.Clauses[i]
		}
		rows = append(rows, []string{x.Label, x.Keep, string(x.Then), Dash(x.Store), cut, number(n.Rows),
			number(n.Due), Dash(n.LastGoing), Dash(n.FirstStays)})
	}
	return e.Show(p, []string{"clause", "keep", "then", "store", "cutoff", "rows", "due", "last that goes",
		"first that stays"}, rows)
}

// related shows which related rows go along.
func (e *Env) related(p *client.Plan) error {
	if len(p.Detail.Related) == 0 {
		return nil
	}
	fmt.Fprintln(e.Out)
	rows := [][]string{}
	for _, x := range p.Detail.Related {
		own := "-"
		if x.Keeps {
			own = "its own rule keeps families"
		}
		rows = append(rows, []string{x.Table, string(x.Then), x.Above, x.On, number(x.Rows), own})
	}
	return e.Show(p, []string{"related table", "then", "goes with", "by", "rows", "kept by"},
		rows)
}

// sample shows some of the rows that a plan would take, where that is asked for.
func (e *Env) sample(p *client.Plan) error {
	if !Get[bool](e, "rows") {
		return nil
	}
	sample, err := e.Client.Sample(e.Ctx, p.ID)
	if err != nil {
		return err
	}
	fmt.Fprintln(e.Out)
	return e.Show(sample, sample.Columns, sample.Rows)
}

func planCompare(e *Env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	r, err := lasting(e, "comparing",
		func(ctx context.Context) (*client.Comparison, error) { return e.Client.CompareRules(ctx, in) })
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, x := range r.Rules {
		changes := strings.Join(x.Changes, "; ")
		if x.New {
			changes = "new"
		}
		rows = append(rows, []string{x.Rule, Count(x.Gained), Count(x.Lost), Count(x.Both), Dash(changes)})
	}
	if err := e.Show(r, []string{"rule", "rows that become due", "stop being due", "due either way", "changes"},
		rows); err != nil || e.Format != "table" {
		return err
	}
	for _, p := range r.Problems {
		fmt.Fprintln(e.Out, p.Error())
	}
	_, err = fmt.Fprintf(e.Out, "nothing was changed; `ambercellar rule apply -f %s` applies it\n", in.File)
	return err
}

// read reads a file, or standard input for a hyphen.
func (e *Env) read(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(e.In)
	}
	return os.ReadFile(file)
}

// leaves says in words how a partition's rows leave.
var leaves = map[client.Way]string{client.WayWhole: "as a whole", client.WayRows: "row by row",
	client.WayStays: "stays"}

// day leaves the time of day out of a bound where it is midnight.
func day(bound string) string {
	return strings.TrimSuffix(strings.TrimSuffix(bound, "+00"), " 00:00:00")
}
