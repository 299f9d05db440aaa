package cli

import (
	"errors"
	"flag"
	"fmt"
	"strings"

	"ambercellar/client"
)

// tableCommands are the commands of tables and their columns.
func tableCommands() []Command {
	return []Command{
		{Name: "table list", Args: "SOURCE", Summary: "list tables with their sizes and the span of their age",
			Run: tableList},
		{Name: "table show", Args: "SOURCE TABLE", Summary: "show columns, key, indexes, foreign keys and partitions",
			Run: tableShow},
		{Name: "table reconcile", Args: "SOURCE TABLE",
			Summary: "compare what source, stores and catalog tell of a table, and settle it",
			Flags: func(f *flag.FlagSet) {
				f.Bool("settle", false, "make them agree again, in the way that is shown without")
				f.String("reason", "", "with -settle: what happened; it is kept")
			}, Run: tableReconcile},
		{Name: "table ahead", Args: "SOURCE TABLE",
			Summary: "make the next partitions of a table, each as long as its newest", Flags: func(f *flag.FlagSet) {
				f.Int("count", 3, "how many")
				f.Bool("try", false, "only show what would be sent to the database")
			}, Run: tableAhead},
		{Name: "column tell", Args: "SOURCE TABLE COLUMN",
			Summary: "say what a column was called before it was renamed, so that it is found in older segments",
			Flags: func(f *flag.FlagSet) {
				f.String("was", "", "the name that it had before")
				f.Bool("added", false, "it had none: it was added, and is NULL in older rows")
			}, Run: columnTell},
		{Name: "column list", Args: "SOURCE TABLE",
			Summary: "list the names that a table's columns have had, as told or as the database knows them",
			Run:     columnList},
		{Name: "column forget", Args: "SOURCE TABLE COLUMN", Summary: "take back what was told of a column",
			Flags: func(f *flag.FlagSet) {
				f.String("was", "", "the name that it was told to have had; left out: that it was added")
			}, Run: columnForget},
	}
}

func tableList(e *Env) error {
	l, err := e.Client.Tables(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, t := range l.Items {
		rows = append(rows, []string{t.Name, Count(t.Rows), Size(t.Bytes), Size(t.IndexBytes), Dash(t.AgeColumn),
			Dash(t.Oldest), Dash(t.Newest)})
	}
	return e.Show(l, []string{"table", "rows", "data", "indexes", "age", "oldest", "newest"}, rows)
}

func tableShow(e *Env) error {
	t, err := e.Client.Table(e.Ctx, e.Args[0], e.Args[1])
	if err != nil {
		return err
	}
	if e.Format != "table" {
		rows := [][]string{}
		for _, c := range t.Columns {
			rows = append(rows, []string{c.Name, c.Type, fmt.Sprint(c.Nullable), c.Problem})
		}
		return e.Show(t, []string{"column", "type", "nullable", "problem"}, rows)
	}
	e.Facts(t, []Fact{{"table", t.Name}, {"rows", Count(t.Rows)}, {"data", Size(t.Bytes)},
		{"indexes", Size(t.IndexBytes)}, {"key", List(ownKey(t))}, {"likely age", Dash(t.AgeColumn)},
		{"from", t.Oldest}, {"to", t.Newest}, {"notes", strings.Join(t.Notes, "; ")},
		{"refused", strings.Join(t.Obstacles, "; ")}, {"delete triggers", strings.Join(t.Triggers, ", ")}})
	rows := [][]string{}
	for _, c := range t.Columns {
		state := "archived as " + c.Kind
		if c.AsText {
			state = "archived as the database's text"
		}
		if c.Problem != "" {
			state = c.Problem
		}
		null := "not null"
		if c.Nullable {
			null = ""
		}
		rows = append(rows, []string{c.Name, c.Type, null, state, Yes(c.Generated)})
	}
	fmt.Fprintln(e.Out)
	if err := e.Show(t, []string{"column", "type", "null", "archive", "generated"}, rows); err != nil {
		return err
	}
	rows = [][]string{}
	for _, x := range t.Indexes {
		rows = append(rows, []string{x.Name, strings.Join(x.Columns, ", "), Yes(x.Unique), Yes(x.Partial)})
	}
	fmt.Fprintln(e.Out)
	if err := e.Show(t, []string{"index", "columns", "unique", "partial"}, rows); err != nil {
		return err
	}
	rows = [][]string{}
	for _, k := range append(append([]client.ForeignKey{}, t.References...), t.ReferencedBy...) {
		rows = append(rows, []string{fmt.Sprintf("%s(%s)", k.Table, strings.Join(k.Columns, ", ")),
			fmt.Sprintf("%s(%s)", k.RefTable, strings.Join(k.RefColumns, ", ")), k.OnDelete})
	}
	fmt.Fprintln(e.Out)
	if err := e.Show(t, []string{"foreign key from", "to", "on delete"}, rows); err != nil || len(t.Partitions) == 0 {
		return err
	}
	rows = [][]string{}
	for _, p := range t.Partitions {
		rows = append(rows, []string{p.Name, Dash(day(p.From)), Dash(day(p.To)), Count(p.Rows), Size(p.Bytes),
			Size(p.IndexBytes), Dash(p.Hinders)})
	}
	fmt.Fprintln(e.Out)
	return e.Show(t, []string{"partition by " + t.Partitions[0].Column, "from", "to", "rows", "data", "indexes",
		"cannot leave as a whole"}, rows)
}

// ownKey is the key of a table, where that is not the place of its rows.
func ownKey(t *client.Table) []string {
	if len(t.Address) > 0 {
		return nil
	}
	return t.Key
}

// errDisagree makes the command's exit status say what its output does.
var errDisagree = errors.New("source, stores and catalog disagree; runs of the table are stopped")

func tableReconcile(e *Env) error {
	var x *client.Reconciliation
	var err error
	if Get[bool](e, "settle") {
		x, err = e.Client.Settle(e.Ctx, e.Args[0], e.Args[1], client.NewSettling{Reason: e.Flag("reason")})
	} else {
		x, err = e.Client.Reconcile(e.Ctx, e.Args[0], e.Args[1])
	}
	if err != nil {
		return err
	}
	known, lease := "no run has worked on it", fmt.Sprint(x.Epoch)
	if x.Known != nil {
		known, lease = x.Known.Identity, fmt.Sprintf("%d, and %d by the catalog", x.Epoch, x.Known.Epoch)
	}
	verdict := "source, stores and catalog agree"
	if !x.Agree {
		verdict = strings.Join(x.Differences, "; ")
	}
	if err := e.Facts(x, []Fact{{"table", x.Source + "." + x.Table}, {"verdict", verdict},
		{"database", Dash(x.Identity)}, {"by the catalog", known}, {"server", x.Server}, {"lease", lease},
		{"newest link", fmt.Sprintf("%d in the source, %d in the catalog, %d in the stores", x.SourceLink,
			x.CatalogLink, x.StoreLink)}, {"unknown segments", strings.Join(x.Unknown, ", ")},
		{"settling", strings.Join(x.Settling, "; ")}}); err != nil {
		return err
	}
	e.totals(x.Totals)
	if len(x.Reappeared) > 0 && e.Format == "table" {
		rows := [][]string{}
		for _, r := range x.Reappeared {
			rows = append(rows, []string{r.Segment, Count(r.Deleted), Count(r.Live)})
		}
		fmt.Fprintln(e.Out)
		if err := e.Show(x, []string{"segment", "deleted by its record", "live again"}, rows); err != nil {
			return err
		}
	}
	if !x.Agree {
		return errDisagree
	}
	return nil
}

func tableAhead(e *Env) error {
	n := Get[int](e, "count")
	x, err := e.Client.MakePartitions(e.Ctx, e.Args[0], e.Args[1],
		client.NewPartitions{Ahead: n, Try: Get[bool](e, "try")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, p := range x.Partitions {
		rows = append(rows, []string{p.Name, p.From, p.To})
	}
	if err := e.Show(x, []string{"partition", "from", "to"}, rows); err != nil || e.Format != "table" {
		return err
	}
	if x.Made {
		fmt.Fprintf(e.Out, "\n%d partitions were made\n", len(x.Partitions))
		return nil
	}
	fmt.Fprintf(e.Out, "\nnothing was changed; this would be sent:\n%s\n", strings.Join(x.Statements, ";\n"))
	return nil
}

// partitions shows how each partition's rows leave, and whether the table can be emptied at once.
func (e *Env) partitions(p *client.Plan) error {
	d := p.Detail
	if x := d.Emptying; x != nil && x.Offered {
		fmt.Fprintf(e.Out, "\nall rows can be removed at once (`ambercellar run start %s -empty`):\n  - %s\n", p.ID,
			strings.Join(x.Effects, "\n  - "))
	} else if x != nil {
		fmt.Fprintf(e.Out, "\nthe rows go in batches, not at once: %s\n", x.Why)
	}
	if len(d.Partitions) == 0 {
		return nil
	}
	fmt.Fprintln(e.Out)
	rows := [][]string{}
	for _, x := range d.Partitions {
		rows = append(rows, []string{x.Name, Dash(day(x.From)), Dash(day(x.To)), number(x.Rows), Size(x.Bytes),
			Size(x.IndexBytes), leaves[x.Way], Dash(x.Why)})
	}
	if err := e.Show(p, []string{"partition", "from", "to", "rows", "data", "indexes", "leaves", "because"},
		rows); err != nil {
		return err
	}
	fmt.Fprintln(e.Out, "What leaves as a whole takes its part of every index along; rows that go one by one leave "+
		"room in the indexes, which the database cleans later.")
	if x := d.CatchAll; x != nil {
		fmt.Fprintf(e.Out, "partition %s takes what no other does: %s rows, %s of them due\n", x.Name, number(x.Rows),
			number(x.Due))
	}
	return nil
}

func (e *Env) totals(t *client.TableTotals) {
	if t == nil || e.Format != "table" {
		return
	}
	about := ""
	if !t.Counted {
		about = "about "
	}
	fmt.Fprintf(e.Out, "\nrecords   %s%s = %s%s live + %s archived - %s archived again later - %s put back\n", about,
		Count(t.Records), about, Count(t.Live), Count(t.Archived), Count(t.Again), Count(t.Restored))
	adds := "which adds up"
	if !t.AddsUp {
		adds = "WHICH DOES NOT ADD UP"
	}
	fmt.Fprintf(e.Out, "deleted   %s by runs + %s by runs of before this catalog = %s archived + %s disposed + %s "+
		"purged + %s erased, %s\n", Count(t.ByRuns), Count(t.Adopted), Count(t.Archived), Count(t.Disposed),
		Count(t.Purged), Count(t.Erased), adds)
	if t.Untold > 0 {
		fmt.Fprintf(e.Out, "          %s in cold storage may have versions of rows that are archived again; they "+
			"were not looked into\n", Things(t.Untold, "segment"))
	}
}
