package cli

import (
	"flag"
	"fmt"
	"regexp"
	"strings"

	"ambercellar/internal/engine/search"

	"ambercellar/internal/api"
	"ambercellar/internal/client"
)

func searchFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("columns", "", "columns to show, separated by commas; left out: all")
	f.Int("limit", 0, "rows at the most; left out: 100 in a table, all of them with -rows")
	f.String("rows", "", "write the rows alone, as a stream: csv, csv-safe (no text is a formula in a spreadsheet), ndjson or parquet")
	f.Bool("live", false, "rows of the table itself too, saying where each lies")
	f.String("group-by", "", "count and sum up by these columns, separated by commas, instead of showing rows")
	f.String("of", "", "with or without -group-by: what to make of rows, like count,sum(fare),min(scanned_at),max(scanned_at)")
}

func searchRows(e *env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := search.SearchRequest{Source: e.args[0], Table: e.args[1], Where: where}
	if list := e.flag("columns"); list != "" {
		q.Columns = strings.Split(list, ",")
	}
	fmt.Sscan(e.flag("limit"), &q.Limit)
	q.Live = e.flag("live") == "true"
	if e.flag("group-by") != "" || e.flag("of") != "" {
		return e.summary(q)
	}
	if format := e.flag("rows"); format != "" {
		note, err := e.client.SearchRows(e.ctx, q, format, e.out)
		if err == nil && note != "" {
			fmt.Fprintln(e.err, note)
		}
		return err
	}
	found, err := client.Post[api.Found](e.ctx, e.client, "/search", q)
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
	if err := e.show(found, append([]string{"segment", "row"}, found.Columns...), rows); err != nil || e.format != "table" {
		return err
	}
	s := found.Searched
	e.gaps(&s, q.Source, q.Table)
	if s.Large {
		_, err = fmt.Fprintf(e.out, "the first %s, as many bytes as an answer may have; there are more (-rows csv for all)\n", things(s.Found, "row"))
		return err
	}
	if s.More {
		_, err = fmt.Fprintf(e.out, "the first %s; there may be more (-limit N, or -rows csv for all)\n", things(s.Found, "row"))
		return err
	}
	if s.Superseded > 0 {
		fmt.Fprintf(e.out, "passed over: %s of which a newer version is archived\n", things(s.Superseded, "row"))
	}
	_, err = fmt.Fprintf(e.out, "rows found: %s; segments: %s, passed over by their bounds: %s; rows looked at: %s; read: %s\n", count(s.Found), count(s.Segments), count(s.Passed), count(s.Rows), size(s.Bytes))
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
func (e *env) summary(q search.SearchRequest) error {
	if len(q.Columns) > 0 || e.flag("rows") != "" {
		return usage("-group-by and -of go without -columns and -rows")
	}
	in := search.SummaryRequest{Source: q.Source, Table: q.Table, Where: q.Where, Live: q.Live}
	if list := e.flag("group-by"); list != "" {
		in.GroupBy = strings.Split(list, ",")
	}
	of := e.flag("of")
	if of == "" {
		of = "count"
	}
	for _, text := range strings.Split(of, ",") {
		m := measureForm.FindStringSubmatch(strings.TrimSpace(text))
		if m == nil || (m[1] == "count") != (m[2] == "") {
			return usage("-of %q: write count, sum(COLUMN), min(COLUMN) or max(COLUMN), separated by commas", text)
		}
		in.Of = append(in.Of, search.Measure{Of: m[1], Column: m[2]})
	}
	s, err := client.Post[search.Summary](e.ctx, e.client, "/search/summary", in)
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
	if err := e.show(s, s.Columns, rows); err != nil || e.format != "table" {
		return err
	}
	e.gaps(&s.Searched, q.Source, q.Table)
	return nil
}

// gaps says what an answer may lack.
func (e *env) gaps(s *search.Searched, source, table string) {
	e.coldNote(s.Cold, source, table)
	for i := range s.Lacking {
		fmt.Fprintln(e.out, s.Lacking[i].Say(source, table))
	}
	if s.Untold != "" {
		fmt.Fprintln(e.out, "these may not be all rows:", s.Untold)
	}
}
