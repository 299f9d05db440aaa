package search

import (
	"context"
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strings"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
)

// SummaryRequest asks for counts and sums of archived rows.
type SummaryRequest struct {
	Source  string    `json:"source"`
	Table   string    `json:"table"`
	Where   string    `json:"where,omitempty"`    // in the language of rules; empty: every row
	GroupBy []string  `json:"group_by,omitempty"` // columns; none: one group of all rows
	Of      []Measure `json:"of"`
	Live    bool      `json:"live,omitempty"` // rows of the table itself too; a row that was put back counts once
}

// Measure is what is made of the rows of a group: count, or sum, min or max of a column. NULLs do not count, as in
// SQL.
type Measure struct {
	Of     string `json:"of"`
	Column string `json:"column,omitempty"`
}

func (m Measure) String() string {
	if m.Column == "" {
		return m.Of
	}
	return m.Of + "(" + m.Column + ")"
}

// Summary is the answer: of each group the values of its columns, and what was made of its rows; null is NULL.
type Summary struct {
	Columns  []string    `json:"columns"`
	Groups   [][]*string `json:"groups"`
	Searched Searched    `json:"searched"`
}

// mostGroups bounds what a summary keeps in memory.
const mostGroups = 10_000

// Tallied is what one measure has come to.
type Tallied struct {
	count int64
	sum   *big.Rat // exact
	float float64
	best  value.Value
	scale int
}

type group struct {
	key []value.Value
	of  []Tallied
}

// Summarise counts and sums up archived rows. Sums of integers and decimals are exact; a value that is no number makes
// the sum of its group NULL. Groups come in the order of their columns.
func (se *Searcher) Summarise(ctx context.Context, q SummaryRequest) (*Summary, error) {
	x := &summing{request: q, groups: map[string]*group{},
		search: SearchRequest{Source: q.Source, Table: q.Table, Where: q.Where, Live: q.Live, Whole: true}}
	if err := x.columns(); err != nil {
		return nil, err
	}
	if len(x.search.Columns) == 0 { // of each row something must be read
		if err := se.anyColumn(ctx, x); err != nil {
			return nil, err
		}
	}
	var back *reinserted
	if q.Live {
		var err error
		if back, err = se.reinsertedOf(ctx, q.Source, q.Table, x.take); err != nil {
			return nil, err
		}
		x.search.keyed = back != nil
	}
	searched, err := se.Search(ctx, x.search, x.check, func(h Hit) error {
		if back != nil && h.Segment != "" {
			return back.add(ctx, h)
		}
		return x.take(h)
	})
	if err == nil && back != nil {
		err = back.flush(ctx)
	}
	if err != nil {
		return nil, err
	}
	out := x.summary()
	out.Searched = *searched
	return out, nil
}

// summing is a summary as it is made.
type summing struct {
	request SummaryRequest
	search  SearchRequest
	keys    []int // the places of the columns that rows are grouped by, among those of the search
	of      []int // likewise of the measures' columns
	groups  map[string]*group
	text    []byte // of a key; used again
}

// columns says which columns the search is to read, and refuses measures that are none.
func (x *summing) columns() error {
	at := func(name string) int {
		i := slices.Index(x.search.Columns, name)
		if i < 0 {
			i = len(x.search.Columns)
			x.search.Columns = append(x.search.Columns, name)
		}
		return i
	}
	q := &x.request
	x.keys, x.of = make([]int, len(q.GroupBy)), make([]int, len(q.Of))
	for i, c := range q.GroupBy {
		x.keys[i] = at(c)
	}
	if len(q.Of) == 0 {
		return &refuse.Error{Field: "of", Message: "it is not said what to make of the rows",
			Remedy: "write count, sum, min or max"}
	}
	for i, m := range q.Of {
		if !slices.Contains([]string{"count", "sum", "min", "max"}, m.Of) || (m.Of == "count") != (m.Column == "") {
			return &refuse.Error{Field: "of", Message: fmt.Sprintf("%q is nothing that can be made of rows", m),
				Remedy: "write count without a column, or sum, min or max with one"}
		}
		if m.Column != "" {
			x.of[i] = at(m.Column)
		}
	}
	return nil
}

// anyColumn has the search read a column, whichever, where only rows are counted.
func (se *Searcher) anyColumn(ctx context.Context, x *summing) error {
	h, err := se.HuntNow(ctx, x.request.Source, x.request.Table, x.request.Live)
	if err != nil {
		return err
	}
	columns := h.Columns
	if x.request.Live {
		if _, columns, err = se.searchedLive(ctx, x.search, columns); err != nil {
			return err
		}
	}
	x.search.Columns, x.search.any = []string{columns[0].Name}, true
	return nil
}

// check refuses sums of what has none.
func (x *summing) check(columns []shape.Column) error {
	for i, m := range x.request.Of {
		if c := columns[x.of[i]]; m.Of == "sum" && c.Kind != value.Int && c.Kind != value.Decimal &&
			c.Kind != value.Float64 && c.Kind != value.Float32 {
			return &refuse.Error{Field: "of", Message: fmt.Sprintf("column %q is of type %s, which has no sum", c.Name,
				c.Type), Remedy: "ask for min or max"}
		}
	}
	return nil
}

// take adds a row to its group.
func (x *summing) take(h Hit) error {
	x.text = x.text[:0]
	for _, k := range x.keys {
		x.text = h.Row[k].AppendCanonical(x.text)
	}
	g := x.groups[string(x.text)]
	if g == nil {
		if len(x.groups) >= mostGroups {
			return &refuse.Error{Field: "group_by", Message: fmt.Sprintf("there are more than %d groups", mostGroups),
				Remedy: "group by fewer columns, or narrow the rows with a condition"}
		}
		g = &group{of: make([]Tallied, len(x.of))}
		for _, k := range x.keys {
			g.key = append(g.key, h.Row[k].Clone())
		}
		x.groups[string(x.text)] = g
	}
	for i, m := range x.request.Of {
		g.of[i].Add(m.Of, h.Row[x.of[i]*min(1, len(m.Column))])
	}
	return nil
}

// summary lists the groups in order.
func (x *summing) summary() *Summary {
	out := &Summary{Columns: slices.Clone(x.request.GroupBy), Groups: [][]*string{}}
	for _, m := range x.request.Of {
		out.Columns = append(out.Columns, m.String())
	}
	if len(x.groups) == 0 && len(x.keys) == 0 { // no row, and one group all the same
		x.groups[""] = &group{of: make([]Tallied, len(x.of))}
	}
	list := slices.SortedFunc(maps.Values(x.groups), func(a, b *group) int {
		for i := range a.key {
			if s := ordered(a.key[i], b.key[i]); s != 0 {
				return s
			}
		}
		return 0
	})
	for _, g := range list {
		var row []*string
		for _, v := range g.key {
			row = append(row, asText(v))
		}
		for i, m := range x.request.Of {
			row = append(row, g.of[i].Text(m.Of))
		}
		out.Groups = append(out.Groups, row)
	}
	return out
}

// asText is a value as it is shown; nil: NULL.
func asText(v value.Value) *string {
	if v.Kind == value.Null {
		return nil
	}
	s := string(v.AppendText(nil))
	return &s
}

// ordered puts NULL first, and what has no order by its text.
func ordered(a, b value.Value) int {
	if a.Kind == value.Null || b.Kind == value.Null {
		return int(min(a.Kind, 1)) - int(min(b.Kind, 1))
	}
	if s, ok := filter.Order(a, b); ok {
		return s
	}
	return strings.Compare(a.String(), b.String())
}

func (x *Tallied) Add(of string, v value.Value) {
	if of == "count" {
		x.count++
		return
	}
	if v.Kind == value.Null {
		return
	}
	x.count++
	if of != "sum" {
		if s := 0; x.best.Kind != value.Null {
			if s = ordered(v, x.best); of == "min" && s >= 0 || of == "max" && s <= 0 {
				return
			}
		}
		x.best = v.Clone()
		return
	}
	switch v.Kind {
	case value.Float64, value.Float32:
		x.float += v.Float()
		return
	case value.Int, value.Decimal:
		text := string(v.AppendText(nil))
		if n, ok := new(big.Rat).SetString(text); ok && !strings.ContainsAny(text, "/eE") {
			if x.sum == nil {
				x.sum = new(big.Rat)
			}
			x.sum.Add(x.sum, n)
			if _, fraction, ok := strings.Cut(text, "."); ok {
				x.scale = max(x.scale, len(fraction))
			}
			return
		}
	}
	x.float = math.NaN()
}

func (x *Tallied) Text(of string) *string {
	text := ""
	switch {
	case of == "count":
		text = fmt.Sprint(x.count)
	case of != "sum":
		return asText(x.best)
	case x.count == 0 || math.IsNaN(x.float):
		return nil
	case x.sum == nil:
		text = string(value.OfFloat(x.float).AppendText(nil))
	case x.float == 0:
		text = x.sum.FloatString(x.scale)
	default: // SQLite's columns may hold both
		whole, _ := x.sum.Float64()
		text = string(value.OfFloat(whole + x.float).AppendText(nil))
	}
	return &text
}

// reinserted leaves out archived rows that restores have put back, so that those that are live count once.
type reinserted struct {
	engine *Searcher
	table  *shape.Table
	source source.Source
	in     map[string]bool // segments of which rows were put back; nil: any
	hits   []Hit
	take   func(Hit) error
}

// reinsertedOf returns nil where no row of a table that is live now was put back.
func (se *Searcher) reinsertedOf(ctx context.Context, sourceName, table string, take func(Hit) error) (*reinserted,
	error) {
	src, err := se.Source(ctx, sourceName)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, table)
	if err != nil {
		return nil, err
	}
	if t.ByAddress() { // nobody can tell
		return nil, nil
	}
	b := &reinserted{engine: se, table: t, source: src, in: map[string]bool{}, take: take}
	list, err := se.RestoredInto(ctx, sourceName, src, t)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	if open, err := se.Catalog.OpenRuns(ctx, sourceName, table); err != nil {
		return nil, err
	} else if len(open) > 0 { // rows may have come back from segments that are not closed
		b.in = nil
		return b, nil
	}
	for i := range list {
		r := &list[i]
		if r.Table != t.Name { // its rows went along with those of another table, from whichever segments
			b.in = nil
			break
		}
		segments, err := se.shelf.InScope(ctx, r.Source, r.Table, r.Scope.V)
		if err != nil {
			return nil, err
		}
		for _, s := range segments {
			b.in[s.ID] = true
		}
	}
	return b, nil
}

// RestoredInto lists the restores that have put rows into a table which are recorded as theirs still.
func (se *Searcher) RestoredInto(ctx context.Context, sourceName string, src source.Source,
	t *shape.Table) (out []catalog.Restore, err error) {
	all, err := se.Catalog.RestoresIn(ctx, catalog.RestoreDone, catalog.RestoreFailed, catalog.Restoring)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if r.Source != sourceName {
			continue
		}
		if r.Target != catalog.TargetTable {
			continue
		}
		n, err := src.RestoredCount(ctx, t, r.ID)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			out = append(out, r)
		}
	}
	return out, nil
}

func (b *reinserted) add(ctx context.Context, h Hit) error {
	if b.in != nil && !b.in[h.Segment] || h.Key == nil {
		return b.take(h)
	}
	if b.hits = append(b.hits, h); len(b.hits) >= shelf.KeysAtOnce {
		return b.flush(ctx)
	}
	return nil
}

func (b *reinserted) flush(ctx context.Context) error {
	if len(b.hits) == 0 {
		return nil
	}
	keys := make([][]value.Value, len(b.hits))
	for i, h := range b.hits {
		keys[i] = h.Key
	}
	live := map[string]bool{}
	err := b.source.Related(ctx, source.Query{Selection: source.Selection{Table: b.table}, On: b.table.Key,
		Values: keys}, func(key []value.Value) error {
		live[shelf.Canonical(key)] = true
		return nil
	})
	if err != nil {
		return err
	}
	for _, h := range b.hits {
		if !live[shelf.Canonical(h.Key)] {
			if err := b.take(h); err != nil {
				return err
			}
		}
	}
	b.hits = b.hits[:0]
	return nil
}
