package search

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
)

// lookBudget is how long a search waits for a database that may know under which name it knew a column before.
const lookBudget = 2 * time.Second

// look asks the database how the columns of a table are called now, and says whether that is news. A database that
// does not answer has none.
func (se *Searcher) look(ctx context.Context, source, table string) (news bool, err error) {
	soon, cancel := context.WithTimeout(ctx, lookBudget)
	defer cancel()
	src, err := se.Source(soon, source)
	if err != nil {
		return false, ctx.Err()
	}
	t, err := src.Table(soon, table)
	if err != nil {
		return false, ctx.Err()
	}
	if news, err = se.shelf.Saw(soon, source, t); err != nil && soon.Err() != nil {
		return false, ctx.Err()
	}
	return news, err
}

// ColumnNames lists the former names of a table's columns: those that were told, and those that the database knows.
func (se *Searcher) ColumnNames(ctx context.Context, source, table string) ([]catalog.FormerName, error) {
	if _, err := se.look(ctx, source, table); err != nil {
		return nil, err
	}
	names, err := se.Catalog.ColumnNames(ctx, source, table)
	return names.All(), err
}

// Lacking are the segments of a search that have no column of a name that the search asks for. Whether the column was
// added later, and is NULL in their rows, or had another name then, nobody can tell from them.
type Lacking struct {
	Column   string   `json:"column"`
	Segments []string `json:"segments"` // the oldest first
	Rows     int64    `json:"rows"`
}

// Say tells of it in words.
func (l *Lacking) Say(source, table string) string {
	n, have := fmt.Sprintf("%d segments", len(l.Segments)), "have"
	if len(l.Segments) == 1 {
		n, have = "segment "+l.Segments[0], "has"
	}
	return fmt.Sprintf("%s with %d rows %s no column %s, which counts as NULL there; `ambercellar column tell %s "+
		"%s %s` says what it was called then (-was NAME), or that it was added (-added)", n, l.Rows, have, l.Column,
		source, table, l.Column)
}

// asked are the columns that a search asks for by name, each once.
func (q *SearchRequest) asked() (asked []string) {
	add := func(name string) {
		if !slices.Contains(asked, name) {
			asked = append(asked, name)
		}
	}
	if !q.any {
		for _, name := range q.Columns {
			add(name)
		}
	}
	if f, err := filter.Parse(q.Where); q.Where != "" && err == nil {
		for _, r := range f.Columns() {
			if r.Join == "" {
				add(r.Name)
			}
		}
	}
	return asked
}

// lacking lists what the segments of a search do not have of the columns that it asks for.
func lacking(q SearchRequest, list []*Segment, names catalog.ColumnNames) []Lacking {
	var out []Lacking
	for _, name := range q.asked() {
		l := Lacking{Column: name}
		for _, x := range list {
			there := slices.ContainsFunc(x.own, func(c shape.Column) bool { return c.Name == name })
			if m := x.Manifest; !there && (len(m.Omitted) > 0 || !names.Added(name, m.Numbered, m.Columns)) {
				l.Segments, l.Rows = append(l.Segments, x.Segment.ID), l.Rows+x.Segment.Deleted
			}
		}
		if len(l.Segments) > 0 {
			out = append(out, l)
		}
	}
	return out
}

// Lacks returns the first column of a condition that a segment does not have, and of which nobody said that it was
// added; empty: none.
func (se *Searcher) Lacks(ctx context.Context, m *archive.Manifest, where string) (string, error) {
	names, err := se.Catalog.ColumnNames(ctx, m.Source, m.Table)
	if err != nil {
		return "", err
	}
	l := lacking(SearchRequest{Where: where},
		[]*Segment{{Segment: &catalog.Segment{}, Manifest: m, own: names.Now(m.Numbered, m.Columns)}}, names)
	if len(l) == 0 {
		return "", nil
	}
	return l[0].Column, nil
}

// TellName keeps that a column of a table was called otherwise once, or that it had no name before: it was added.
// Searches, counts, restores and erasures find it in older segments then.
func (se *Searcher) TellName(ctx context.Context, actor string, n catalog.FormerName) ([]catalog.FormerName, error) {
	if strings.TrimSpace(n.Name) == "" || n.Name == n.Was {
		return nil, &refuse.Error{Field: "name", Message: "a column has a name, and was called otherwise before",
			Remedy: "name the column as it is called now, and as it was called"}
	}
	columns, err := se.archivedColumnsAsWritten(ctx, n.Source, n.Table)
	if err != nil {
		return nil, err
	}
	if n.Was != "" && !slices.Contains(columns, n.Was) {
		return nil, &refuse.Error{Field: "was", Message: fmt.Sprintf("no archived row of %s has a column %q", n.Table,
			n.Was), Remedy: shelf.Nearest(n.Was, columns, "its columns are "+strings.Join(columns, ", "))}
	}
	known, err := se.Catalog.ColumnNames(ctx, n.Source, n.Table)
	if err != nil {
		return nil, err
	}
	names := known.Told
	for _, k := range names {
		switch {
		case k.Was != "" && k.Was == n.Was && k.Name != n.Name:
			return nil, &refuse.Error{Field: "was",
				Message: fmt.Sprintf("%s is told to be a former name of %s already", n.Was, k.Name),
				Remedy:  "take that back first (column forget), or say that " + n.Name + " was called " + k.Name}
		case k.Name == n.Name && (k.Was == "") != (n.Was == ""):
			return nil, &refuse.Error{Field: "name",
				Message: fmt.Sprintf("column %s cannot have been added and called otherwise before", n.Name),
				Remedy:  "take back what was told of it first (column forget)"}
		}
	}
	for was, seen := n.Was, 0; was != "" && seen <= len(names); seen++ { // a name that leads back to itself
		i := slices.IndexFunc(names, func(k catalog.FormerName) bool { return k.Name == was && k.Was != "" })
		if i < 0 {
			break
		}
		if was = names[i].Was; was == n.Name {
			return nil, &refuse.Error{Field: "was",
				Message: fmt.Sprintf("%s is told to have been called %s before, and cannot come from it too", n.Was,
					n.Name), Remedy: "take that back first (column forget)"}
		}
	}
	n.ToldAt, n.ToldBy = catalog.At(se.Now()), actor
	if err := se.Catalog.TellName(ctx, n); err != nil {
		return nil, err
	}
	return se.ColumnNames(ctx, n.Source, n.Table)
}

// ForgetName takes back what was told of a column's name.
func (se *Searcher) ForgetName(ctx context.Context, actor string, n catalog.FormerName) ([]catalog.FormerName, error) {
	if err := se.Catalog.ForgetName(ctx, actor, n); err != nil {
		return nil, err
	}
	return se.ColumnNames(ctx, n.Source, n.Table)
}

// archivedColumnsAsWritten lists the names that columns of a table have in its segments.
func (se *Searcher) archivedColumnsAsWritten(ctx context.Context, source, table string) ([]string, error) {
	h, err := se.HuntNow(ctx, source, table, false)
	if err != nil {
		return nil, err
	}
	var out []string
	add := func(columns []shape.Column) {
		for _, c := range columns {
			if !slices.Contains(out, c.Name) {
				out = append(out, c.Name)
			}
		}
	}
	for _, x := range h.list {
		add(x.Manifest.Columns)
	}
	if h.long != nil {
		for i := range h.long.shapes {
			add(h.long.shapes[i].Columns.V)
		}
	}
	return out, nil
}

// ArchivedColumns are the columns that any segment of a table has: the newest segment's first, as they stand there.
func (se *Searcher) ArchivedColumns(ctx context.Context, sourceName, table string) ([]shape.Column, error) {
	h, err := se.HuntNow(ctx, sourceName, table, false)
	if err != nil {
		return nil, err
	}
	return h.Columns, nil
}
