package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
)

type shapeTable = shape.Table

// nearest suggests a name in place of one that is not there.
func nearest(name string, candidates []string, otherwise string) string {
	if near := shape.Nearest(name, candidates); near != "" {
		return "did you mean " + near + "?"
	}
	return otherwise
}

// named returns the columns of a segment under the names that they have now.
func (e *Engine) named(ctx context.Context, m *archive.Manifest) ([]shape.Column, error) {
	names, err := e.Catalog.FormerNames(ctx, m.Source, m.Table)
	if err != nil {
		return nil, err
	}
	return names.Now(m.Columns), nil
}

// fitNow is fitOf with the names that the columns have now, where a restore says nothing else.
func (e *Engine) fitNow(ctx context.Context, m *archive.Manifest, t *shape.Table, how catalog.Fit) (*fit, error) {
	own, err := e.named(ctx, m)
	if err != nil {
		return nil, err
	}
	rename := map[string]string{}
	for i, c := range m.Columns {
		if now, _ := t.Column(own[i].Name); now != nil && own[i].Name != c.Name {
			rename[c.Name] = own[i].Name
		}
	}
	for was, name := range how.Rename {
		rename[was] = name
	}
	return fitOf(m, t, catalog.Fit{Rename: rename, LeaveOut: how.LeaveOut})
}

// Lacking are the segments of a search that have no column of a name that the search asks for. Whether the column was added later, and is
// NULL in their rows, or had another name then, nobody can tell from them.
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
	return fmt.Sprintf("%s with %d rows %s no column %s, which counts as NULL there; `ambercellar column tell %s %s %s` says what it was called then (-was NAME), or that it was added (-added)", n, l.Rows, have, l.Column, source, table, l.Column)
}

// lacking lists what the segments of a search do not have of the columns that it asks for.
func lacking(q SearchRequest, list []*searched, names catalog.FormerNames) []Lacking {
	var asked []string
	if !q.any {
		asked = slices.Clone(q.Columns)
	}
	if f, err := filter.Parse(q.Where); q.Where != "" && err == nil {
		for _, r := range f.Columns() {
			if r.Join == "" {
				asked = append(asked, r.Name)
			}
		}
	}
	var out []Lacking
	for i, name := range asked {
		if slices.Contains(asked[:i], name) || names.Added(name) {
			continue
		}
		l := Lacking{Column: name}
		for _, x := range list {
			if !slices.ContainsFunc(x.own, func(c shape.Column) bool { return c.Name == name }) { // that were left out among them
				l.Segments, l.Rows = append(l.Segments, x.segment.ID), l.Rows+x.segment.Deleted
			}
		}
		if len(l.Segments) > 0 {
			out = append(out, l)
		}
	}
	return out
}

// lacks returns the first column of a condition that a segment does not have, and of which nobody said that it was added; empty: none.
func (e *Engine) lacks(ctx context.Context, m *archive.Manifest, where string) (string, error) {
	names, err := e.Catalog.FormerNames(ctx, m.Source, m.Table)
	if err != nil {
		return "", err
	}
	l := lacking(SearchRequest{Where: where}, []*searched{{segment: &catalog.Segment{}, manifest: m, own: names.Now(m.Columns)}}, names)
	if len(l) == 0 {
		return "", nil
	}
	return l[0].Column, nil
}

// TellName keeps that a column of a table was called otherwise once, or that it had no name before: it was added. Searches, counts, restores
// and erasures find it in older segments then.
func (e *Engine) TellName(ctx context.Context, actor string, n catalog.FormerName) (catalog.FormerNames, error) {
	if strings.TrimSpace(n.Name) == "" || n.Name == n.Was {
		return nil, &RefusedError{Field: "name", Message: "a column has a name, and was called otherwise before", Remedy: "name the column as it is called now, and as it was called"}
	}
	columns, err := e.archivedColumnsAsWritten(ctx, n.Source, n.Table)
	if err != nil {
		return nil, err
	}
	if n.Was != "" && !slices.Contains(columns, n.Was) {
		return nil, &RefusedError{Field: "was", Message: fmt.Sprintf("no archived row of %s has a column %q", n.Table, n.Was), Remedy: nearest(n.Was, columns, "its columns are "+strings.Join(columns, ", "))}
	}
	names, err := e.Catalog.FormerNames(ctx, n.Source, n.Table)
	if err != nil {
		return nil, err
	}
	for _, k := range names {
		switch {
		case k.Was != "" && k.Was == n.Was && k.Name != n.Name:
			return nil, &RefusedError{Field: "was", Message: fmt.Sprintf("%s is told to be a former name of %s already", n.Was, k.Name), Remedy: "take that back first (column forget), or say that " + n.Name + " was called " + k.Name}
		case k.Name == n.Name && (k.Was == "") != (n.Was == ""):
			return nil, &RefusedError{Field: "name", Message: fmt.Sprintf("column %s cannot have been added and called otherwise before", n.Name), Remedy: "take back what was told of it first (column forget)"}
		}
	}
	for was, seen := n.Was, 0; was != "" && seen <= len(names); seen++ { // a name that leads back to itself
		i := slices.IndexFunc(names, func(k catalog.FormerName) bool { return k.Name == was && k.Was != "" })
		if i < 0 {
			break
		}
		if was = names[i].Was; was == n.Name {
			return nil, &RefusedError{Field: "was", Message: fmt.Sprintf("%s is told to have been called %s before, and cannot come from it too", n.Was, n.Name), Remedy: "take that back first (column forget)"}
		}
	}
	n.ToldAt, n.ToldBy = catalog.At(e.Now()), actor
	if err := e.Catalog.TellName(ctx, n); err != nil {
		return nil, err
	}
	return e.Catalog.FormerNames(ctx, n.Source, n.Table)
}

// archivedColumnsAsWritten lists the names that columns of a table have in its segments.
func (e *Engine) archivedColumnsAsWritten(ctx context.Context, source, table string) ([]string, error) {
	list, _, _, err := e.searchableNow(ctx, SearchRequest{Source: source, Table: table})
	var out []string
	for _, x := range list {
		for _, c := range x.manifest.Columns {
			if !slices.Contains(out, c.Name) {
				out = append(out, c.Name)
			}
		}
	}
	return out, err
}
