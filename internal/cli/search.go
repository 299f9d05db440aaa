package cli

import (
	"flag"
	"fmt"
	"strings"

	"ambercellar/internal/api"
	"ambercellar/internal/client"
	"ambercellar/internal/engine"
)

func searchFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("columns", "", "columns to show, separated by commas; left out: all")
	f.Int("limit", 0, "rows at the most; left out: 100 in a table, all of them with -rows")
	f.String("rows", "", "write the rows alone, as a stream: csv or ndjson")
}

func search(e *env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := engine.SearchRequest{Source: e.args[0], Table: e.args[1], Where: where}
	if list := e.flag("columns"); list != "" {
		q.Columns = strings.Split(list, ",")
	}
	fmt.Sscan(e.flag("limit"), &q.Limit)
	if format := e.flag("rows"); format != "" {
		return e.client.SearchRows(e.ctx, q, format, e.out)
	}
	found, err := client.Post[api.Found](e.ctx, e.client, "/search", q)
	if err != nil {
		return err
	}
	rows := make([][]string, len(found.Items))
	for i, x := range found.Items {
		rows[i] = []string{x.Segment, fmt.Sprint(x.Ordinal)}
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
	if s.More {
		_, err = fmt.Fprintf(e.out, "the first %s rows; there may be more (-limit N, or -rows csv for all)\n", count(s.Found))
		return err
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
