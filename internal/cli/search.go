package cli

import (
	"flag"
	"fmt"
	"regexp"
	"strings"

	"ambercellar/client"
)

// searchCommands are the commands of searching.
func searchCommands() []Command {
	return []Command{
		{Name: "search", Args: "SOURCE TABLE", Summary: "search the archived rows of a table", Flags: searchFlags,
			Run: searchRows},
	}
}

func searchFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("columns", "", "columns to show, separated by commas; left out: all")
	f.Int("limit", 0, "rows at the most; left out: 100 in a table, all of them with -rows")
	f.String("rows", "", "write the rows alone, as a stream: csv, csv-safe (no text is a formula in a "+
		"spreadsheet), ndjson or parquet")
	f.Bool("live", false, "rows of the table itself too, saying where each lies")
	f.String("group-by", "", "count and sum up by these columns, separated by commas, instead of showing rows")
	f.String("of", "", "with or without -group-by: what to make of rows, like "+
		"count,sum(fare),min(scanned_at),max(scanned_at)")
}

func searchRows(e *Env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := client.SearchRequest{Source: e.Args[0], Table: e.Args[1], Where: where}
	if list := e.Flag("columns"); list != "" {
		q.Columns = strings.Split(list, ",")
	}
	q.Limit = Get[int](e, "limit")
	q.Live = Get[bool](e, "live")
	if e.Flag("group-by") != "" || e.Flag("of") != "" {
		return e.summary(q)
	}
	if format := e.Flag("rows"); format != "" {
		note, err := e.searchRows(q, format)
		if err == nil && note != "" {
			fmt.Fprintln(e.Err, note)
		}
		return err
	}
	found, err := e.Client.Search(e.Ctx, q)
	if err != nil {
		return err
	}
	rows := make([][]string, len(found.Items))
	for i, x := range found.Items {
		rows[i] = []string{x.Segment, fmt.Sprint(x.Ordinal)}
		if x.Segment == "" {
			rows[i] = []string{"(live)", ""}
		}
		for _, v := range x.Values {
			text := "NULL"
			if v != nil {
				text = printable(*v)
			}
			rows[i] = append(rows[i], text)
		}
	}
	if err := e.Show(found, append([]string{"segment", "row"}, found.Columns...), rows); err != nil ||
		e.Format != "table" {
		return err
	}
	s := found.Searched
	e.gaps(&s, q.Source, q.Table)
	if s.Large {
		_, err = fmt.Fprintf(e.Out, "the first %s, as many bytes as an answer may have; there are more (-rows csv "+
			"for all)\n", Things(s.Found, "row"))
		return err
	}
	if s.More {
		_, err = fmt.Fprintf(e.Out, "the first %s; there may be more (-limit N, or -rows csv for all)\n",
			Things(s.Found, "row"))
		return err
	}
	if s.Superseded > 0 {
		fmt.Fprintf(e.Out, "passed over: %s of which a newer version is archived\n", Things(s.Superseded, "row"))
	}
	_, err = fmt.Fprintf(e.Out, "rows found: %s; segments: %s, passed over by their bounds: %s; rows looked at: "+
		"%s; read: %s\n", Count(s.Found), Count(s.Segments), Count(s.Passed), Count(s.Rows), Size(s.Bytes))
	return err
}

// printable keeps a value on its line, and what a terminal would obey out of it.
func printable(text string) string {
	const most = 60
	out := strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '·'
		}
		return r
	}, strings.ToValidUTF8(text, "·"))
	if r := []rune(out); len(r) > most {
		out = string(r[:most-1]) + "…"
	}
	return out
}

var measureForm = regexp.MustCompile(`^(count|sum|min|max)(?:\((.+)\))?$`)

// summary counts and sums up what a search finds.
func (e *Env) summary(q client.SearchRequest) error {
	if len(q.Columns) > 0 || e.Flag("rows") != "" {
		return Usage("-group-by and -of go without -columns and -rows")
	}
	in := client.SummaryRequest{Source: q.Source, Table: q.Table, Where: q.Where, Live: q.Live}
	if list := e.Flag("group-by"); list != "" {
		in.GroupBy = strings.Split(list, ",")
	}
	of := e.Flag("of")
	if of == "" {
		of = "count"
	}
	for _, text := range strings.Split(of, ",") {
		m := measureForm.FindStringSubmatch(strings.TrimSpace(text))
		if m == nil || (m[1] == "count") != (m[2] == "") {
			return Usage("-of %q: write count, sum(COLUMN), min(COLUMN) or max(COLUMN), separated by commas", text)
		}
		in.Of = append(in.Of, client.Measure{Of: m[1], Column: m[2]})
	}
	s, err := e.Client.Summarise(e.Ctx, in)
	if err != nil {
		return err
	}
	rows := make([][]string, len(s.Groups))
	for i, g := range s.Groups {
		for _, v := range g {
			text := "NULL"
			if v != nil {
				text = printable(*v)
			}
			rows[i] = append(rows[i], text)
		}
	}
	if err := e.Show(s, s.Columns, rows); err != nil || e.Format != "table" {
		return err
	}
	e.gaps(&s.Searched, q.Source, q.Table)
	return nil
}

// gaps says what an answer may lack.
func (e *Env) gaps(s *client.Searched, source, table string) {
	e.coldNote(s.Cold, source, table)
	for i := range s.Lacking {
		fmt.Fprintln(e.Out, s.Lacking[i].Say(source, table))
	}
	if s.Untold != "" {
		fmt.Fprintln(e.Out, "these may not be all rows:", s.Untold)
	}
}
