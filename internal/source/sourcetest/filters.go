package sourcetest

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Judged is a column for filters.
type Judged struct {
	Name, Type string
	Rows       []string // SQL literals that rows hold; NULL is added
	Literals   []string // of the filter language
	Text       bool     // takes LIKE
	Unordered  bool     // takes = and <> alone
	Opaque     bool     // takes IS NULL alone
	Flag       bool     // is a condition on its own
}

// random filters: so many a run of the suite, over so many rows. The seed is fixed, so that a failure comes again.
const (
	randomFilters = 1500
	randomRows    = 120
)

var patterns = []string{"%", "", "_", "a%", "%a", "%é%", "_é", "A_", "100!%%", "!_", "% ", "%[%", "%*%", "a?", "%!!%",
	"'%", "ß_%", "__"}

// generator writes random filters.
type generator struct {
	*rand.Rand
	columns []Judged
}

func (g *generator) pick(list []string) string { return list[g.IntN(len(list))] }

func (g *generator) filter(depth int) string {
	switch n := g.IntN(10); {
	case depth > 0 && n < 3:
		return "(" + g.filter(depth-1) + " AND " + g.filter(depth-1) + ")"
	case depth > 0 && n < 6:
		return "(" + g.filter(depth-1) + " OR " + g.filter(depth-1) + ")"
	case depth > 0 && n < 7:
		return "NOT (" + g.filter(depth-1) + ")"
	}
	return g.predicate()
}

func (g *generator) predicate() string {
	c := g.columns[g.IntN(len(g.columns))]
	not := g.pick([]string{"", "", "NOT "})
	ops := []string{"=", "<>", "<", "<=", ">", ">="}
	if c.Unordered {
		ops = ops[:2]
	}
	n := g.IntN(10)
	switch {
	case c.Opaque || n == 0:
		return c.Name + " IS " + not + "NULL"
	case c.Flag && n == 1:
		return not + c.Name
	case c.Text && n < 4:
		return fmt.Sprintf("%s %sLIKE '%s' ESCAPE '!'", c.Name, not, strings.ReplaceAll(g.pick(patterns), "'", "''"))
	case n < 5 && !c.Unordered:
		return fmt.Sprintf("%s %sBETWEEN %s AND %s", c.Name, not, g.pick(c.Literals), g.pick(c.Literals))
	case n < 7:
		return fmt.Sprintf("%s %sIN (%s, %s, %s)", c.Name, not, g.pick(c.Literals), g.pick(c.Literals),
			g.pick(c.Literals))
	case n == 7:
		return fmt.Sprintf("%s %s %s", c.Name, g.pick(ops), c.Name+"_2")
	}
	return c.Name + " " + g.pick(ops) + " " + g.pick(c.Literals)
}

func filtersAgree(t *testing.T, w *world) {
	if len(w.f.Judged) == 0 {
		t.Fatal("the fixture names no columns for filters")
	}
	g := &generator{rand.New(rand.NewPCG(11, 23)), w.f.Judged}
	ddl := "CREATE TABLE judged (id integer PRIMARY KEY, at " + w.f.AgeType
	for _, c := range w.f.Judged {
		ddl += fmt.Sprintf(", %s %s, %s_2 %s", c.Name, c.Type, c.Name, c.Type)
	}
	w.exec(ddl + ")")
	var b strings.Builder
	for i := range randomRows {
		fmt.Fprintf(&b, "INSERT INTO judged VALUES (%d, '2020-01-01 00:00:00'", i)
		for _, c := range w.f.Judged {
			rows := append([]string{"NULL"}, c.Rows...)
			fmt.Fprintf(&b, ", %s, %s", g.pick(rows), g.pick(rows))
		}
		b.WriteString(");\n")
	}
	w.exec(b.String())
	sel := w.selection(t, "judged", "at")
	p := w.read(t, sel, nil, 1_000_000, 1<<40)
	expect(t, "rows read", len(p.rows), randomRows)
	ids := func(f *filter.Filter) (out []int64) {
		narrow := sel
		narrow.Only = []*filter.Filter{f}
		for _, r := range w.read(t, narrow, nil, 1_000_000, 1<<40).rows {
			out = append(out, r[0].N)
		}
		return out
	}
	outcomes := map[filter.Truth]int{}
	for i := 0; i < randomFilters && !t.Failed(); i++ {
		text := g.filter(g.IntN(3))
		f, not := bind(t, sel.Table, text), bind(t, sel.Table, "NOT ("+text+")")
		if again := bind(t, sel.Table, f.String()); again.String() != f.String() {
			t.Fatalf("%s prints as %s, and that as %s", text, f, again)
		}
		var yes, no []int64
		for _, row := range p.rows {
			judged := f.Eval(row)
			outcomes[judged]++
			switch judged {
			case filter.True:
				yes = append(yes, row[0].N)
			case filter.False:
				no = append(no, row[0].N)
			}
		}
		differs(t, judgement{sel.Table, text, yes, ids(f)}, p.rows)
		differs(t, judgement{sel.Table, "NOT (" + text + ")", no, ids(not)}, p.rows)
	}
	if outcomes[filter.True] < 1000 || outcomes[filter.False] < 1000 || outcomes[filter.Unknown] < 1000 {
		t.Errorf("the filters are lopsided: %v", outcomes)
	}
}

// judgement is for which rows, by their numbers, a filter is true by the evaluator and by the database.
type judgement struct {
	table        *shape.Table
	text         string
	ours, theirs []int64
}

// differs reports rows on which the evaluator and the database disagree.
func differs(t *testing.T, j judgement, rows [][]value.Value) {
	t.Helper()
	slices.Sort(j.ours)
	slices.Sort(j.theirs)
	if slices.Equal(j.ours, j.theirs) {
		return
	}
	shown := 0
	for _, row := range rows {
		id := row[0].N
		_, a := slices.BinarySearch(j.ours, id)
		_, b := slices.BinarySearch(j.theirs, id)
		if a == b {
			continue
		}
		if shown++; shown > 3 {
			break
		}
		line := ""
		for i, c := range j.table.Columns {
			if strings.Contains(j.text, c.Name) {
				line += fmt.Sprintf(" %s=%s", c.Name, row[i].Exact())
			}
		}
		t.Errorf("%s\n  is true by the evaluator: %v, by the database: %v, for%s", j.text, a, b, line)
	}
}
