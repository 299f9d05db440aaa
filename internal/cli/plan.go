package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/plan"
)

func whereFlags(f *flag.FlagSet) {
	f.String("where", "", "a condition, like outcome = 'refused'")
	f.String("where-file", "", "a file that holds the condition, so that no shell changes its quotes; - reads standard input")
}

// where reads the condition of -where or -where-file.
func (e *env) where() (string, error) {
	file := e.flag("where-file")
	if file == "" {
		return e.flag("where"), nil
	}
	if e.flag("where") != "" {
		return "", usage("-where and -where-file say the same; give one of them")
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

func planMake(e *env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	limit, _ := strconv.ParseInt(e.flag("limit"), 10, 64) // the flag is a number already
	in := api.NewPlan{Rule: e.args[0], Before: e.flag("before"), Where: where, Keys: e.flag("keys"), Limit: limit, Note: e.flag("note"),
		Exact: e.flag("exact") == "true", Budget: e.flag("budget"), Confirm: e.flag("confirm") == "true", Override: e.flag("override")}
	stop := func() {}
	if in.Exact {
		in.Ticket = ulid.Make().String()
		stop = e.tellCounting(in.Ticket)
	}
	p, err := client.Post[catalog.Plan](e.ctx, e.client, "/plans", in)
	stop()
	if err != nil {
		return err
	}
	return e.plan(&p)
}

const countingShown = time.Second

// tellCounting says now and then how far the counting is, until the returned function is called.
func (e *env) tellCounting(ticket string) (stop func()) {
	ctx, cancel := context.WithCancel(e.ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(countingShown):
			}
			if x, err := client.Get[api.Counting](ctx, e.client, "/plans/counting/"+ticket); err == nil {
				fmt.Fprintf(e.err, "counting: %d of %d stretches of age\n", x.Done, x.Pieces)
			}
		}
	}()
	return func() { cancel(); <-done }
}

func planShow(e *env) error {
	p, err := client.Get[catalog.Plan](e.ctx, e.client, "/plans/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	return e.plan(&p)
}

// number writes a count of a plan, of which an estimate does not know all.
func number(n int64) string {
	if n == catalog.NotCounted {
		return "not counted"
	}
	return count(n)
}

func (e *env) plan(p *catalog.Plan) error {
	c, d := p.Counts.V, p.Detail.V
	how := "estimated from the database's statistics"
	if c.Counted {
		how = "counted"
		if c.From != nil && c.To != nil {
			how = fmt.Sprintf("counted between %s and %s", c.From.Format("15:04:05"), c.To.Format("15:04:05 UTC"))
		}
	}
	some := func(n int64, text string) string {
		if n == 0 || n == catalog.NotCounted {
			return ""
		}
		return count(n) + " " + text
	}
	uncounted := ""
	if !c.Counted {
		uncounted = "uncovered, ageless, future, held, restored and referenced rows; an exact plan counts them"
	}
	segments, narrow := "", []string{}
	if p.Segments > 0 {
		segments = "about " + count(p.Segments)
	}
	if n := d.Narrow; n.Before != nil {
		narrow = append(narrow, "before "+n.Before.Format(time.RFC3339))
	}
	if d.Narrow.Where != "" {
		narrow = append(narrow, "where "+d.Narrow.Where)
	}
	if d.Narrow.Keys != "" {
		narrow = append(narrow, "keys "+d.Narrow.Keys)
	}
	if d.Narrow.Limit > 0 {
		narrow = append(narrow, "at most "+count(d.Narrow.Limit)+" rows")
	}
	seconds, archive := "unknown before the first run", "unknown before the first run"
	if d.Expect.Seconds != nil {
		seconds = "about " + span(*d.Expect.Seconds)
	}
	if d.Expect.ArchiveBytes != nil {
		archive = "about " + size(*d.Expect.ArchiveBytes)
	}
	log := "unknown before the first run"
	if d.Expect.LogBytes != nil {
		log = "about " + size(*d.Expect.LogBytes)
	}
	if p.Segments == 0 {
		archive = ""
	}
	ageless := "never due"
	if slices.ContainsFunc(d.Clauses, func(x catalog.PlanClause) bool { return x.Keep == "none" }) { // which takes them
		ageless = "without an age"
	}
	firstStays := c.FirstStays
	if len(d.Clauses) > 1 { // each clause has its own
		firstStays = ""
	}
	err := e.facts(p, "plan", p.ID, "rule", fmt.Sprintf("%s, revision %d", p.Rule, p.Revision), "table", p.Source+"."+p.Table, "note", d.Note, "narrowed to", strings.Join(narrow, "; "), "made", at(p.MadeAt),
		"latest cutoff", at(p.Cutoff)+"  ("+p.Cutoff.Format(time.RFC3339)+")", "rows due", fmt.Sprintf("%s of %s (%s)", count(c.Due), count(c.Total), how),
		"data", "about "+size(c.Bytes), "oldest", c.Oldest, "last that goes", c.LastGoing, "first that stays", firstStays,
		"batches", "about "+count(p.Batches)+" at the first size", "segments", segments, "takes", seconds, "archive size", archive, "log volume", log,
		"uncovered", some(c.Uncovered, "rows that no clause covers"), ageless, some(c.Ageless, "rows whose age is no instant"), "in the future", some(c.Future, "rows dated more than a day ahead"),
		"held", some(c.Held, "aged rows that a hold protects"), "restored", some(c.Restored, "aged rows left alone, as they were restored"),
		"not counted", uncounted, "referenced", some(c.Referenced, "aged rows that another table refers to"), "by collation", some(c.Collation, "rows that the column's own collation would judge otherwise"))
	if err != nil || e.format != "table" {
		return err
	}
	fmt.Fprintln(e.out)
	rows := [][]string{}
	for i, x := range d.Clauses {
		cut, n := "never due", catalog.ClauseCount{}
		if x.Cutoff != nil {
			cut = x.Cutoff.Format(time.RFC3339)
		}
		if i < len(c.Clauses) {
			n = c.Clauses[i]
		}
		rows = append(rows, []string{x.Label, x.Keep, string(x.Then), dash(x.Store), cut, number(n.Rows), number(n.Due), dash(n.LastGoing), dash(n.FirstStays)})
	}
	if err := e.show(p, []string{"clause", "keep", "then", "store", "cutoff", "rows", "due", "last that goes", "first that stays"}, rows); err != nil {
		return err
	}
	if len(d.Related) > 0 {
		fmt.Fprintln(e.out)
		rows := [][]string{}
		for _, x := range d.Related {
			own := "-"
			if x.Keeps {
				own = "its own rule keeps families"
			}
			rows = append(rows, []string{x.Table, string(x.Then), x.Above, x.On, number(x.Rows), own})
		}
		if err := e.show(p, []string{"related table", "then", "goes with", "by", "rows", "kept by"}, rows); err != nil {
			return err
		}
	}
	if err := e.partitions(p); err != nil {
		return err
	}
	if e.flag("rows") == "true" {
		sample, err := client.Get[catalog.Sample](e.ctx, e.client, "/plans/"+url.PathEscape(p.ID)+"/sample")
		if err != nil {
			return err
		}
		fmt.Fprintln(e.out)
		if err := e.show(sample, sample.Columns, sample.Rows); err != nil {
			return err
		}
	}
	if e.flag("sql") == "true" {
		for _, s := range d.Statements {
			fmt.Fprintf(e.out, "\n-- %s\n%s\n", s.Title, s.SQL)
			for i, v := range s.Values {
				fmt.Fprintf(e.out, "--   %d: %s\n", i+1, v)
			}
		}
	}
	for _, w := range p.Warnings.V {
		fmt.Fprintln(e.out, "warning:", w)
	}
	fmt.Fprintf(e.out, "nothing was changed; `ambercellar run start %s` carries it out\n", p.ID)
	return nil
}

func planCompare(e *env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	r, err := client.Post[api.Comparison](e.ctx, e.client, "/rules/compare", in)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, x := range r.Rules {
		changes := strings.Join(x.Changes, "; ")
		if x.New {
			changes = "new"
		}
		rows = append(rows, []string{x.Rule, count(x.Gained), count(x.Lost), count(x.Both), dash(changes)})
	}
	if err := e.show(r, []string{"rule", "rows that become due", "stop being due", "due either way", "changes"}, rows); err != nil || e.format != "table" {
		return err
	}
	for _, p := range r.Problems {
		fmt.Fprintln(e.out, p.Error())
	}
	_, err = fmt.Fprintf(e.out, "nothing was changed; `ambercellar rule apply -f %s` applies it\n", in.File)
	return err
}

func ruleForecast(e *env) error {
	l, err := client.Get[api.Items[plan.Forecast]](e.ctx, e.client, "/rules/"+url.PathEscape(e.args[0])+"/forecast?months="+e.flag("months"))
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
			growth = "about " + count(f.Growth)
		}
		rows = append(rows, []string{f.At.Format(time.DateOnly), strings.Join(cutoffs, ", "), count(f.Rows), growth})
	}
	return e.show(l, []string{"run on", "cutoff of each clause", "rows there today", "rows still to be written"}, rows)
}

func keepList(e *env) error {
	l, err := client.Get[api.Items[catalog.Keep]](e.ctx, e.client, "/keeps")
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, k := range l.Items {
		rows = append(rows, []string{k.Name, k.Body.V.Keep().String(), k.Body.V.About, at(k.AppliedAt)})
	}
	return e.show(l, []string{"keep", "period", "about", "applied"}, rows)
}

// read reads a file, or standard input for a hyphen.
func (e *env) read(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(e.in)
	}
	return os.ReadFile(file)
}

// leaves says in words how a partition's rows leave.
var leaves = map[rule.Way]string{rule.WayWhole: "as a whole", rule.WayRows: "row by row", rule.WayStays: "stays"}

// day leaves the time of day out of a bound where it is midnight.
func day(bound string) string {
	return strings.TrimSuffix(strings.TrimSuffix(bound, "+00"), " 00:00:00")
}

// partitions shows how each partition's rows leave, and whether the table can be emptied at once.
func (e *env) partitions(p *catalog.Plan) error {
	d := p.Detail.V
	if x := d.Emptying; x != nil && x.Offered {
		fmt.Fprintf(e.out, "\nall rows can be removed at once (`ambercellar run start %s -empty`):\n  - %s\n", p.ID, strings.Join(x.Effects, "\n  - "))
	} else if x != nil {
		fmt.Fprintf(e.out, "\nthe rows go in batches, not at once: %s\n", x.Why)
	}
	if len(d.Partitions) == 0 {
		return nil
	}
	fmt.Fprintln(e.out)
	rows := [][]string{}
	for _, x := range d.Partitions {
		rows = append(rows, []string{x.Name, dash(day(x.From)), dash(day(x.To)), number(x.Rows), size(x.Bytes), size(x.IndexBytes), leaves[x.Way], dash(x.Why)})
	}
	if err := e.show(p, []string{"partition", "from", "to", "rows", "data", "indexes", "leaves", "because"}, rows); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "What leaves as a whole takes its part of every index along; rows that go one by one leave room in the indexes, which the database cleans later.")
	if x := d.CatchAll; x != nil {
		fmt.Fprintf(e.out, "partition %s takes what no other does: %s rows, %s of them due\n", x.Name, number(x.Rows), number(x.Due))
	}
	return nil
}
