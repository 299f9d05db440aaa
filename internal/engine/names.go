package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
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
	names, err := e.Catalog.ColumnNames(ctx, m.Source, m.Table)
	if err != nil {
		return nil, err
	}
	return names.Now(m.Numbered, m.Columns), nil
}

// numbering says where the numbers of a table's columns hold: where the database says so, and since it was last settled that it is the one
// that the catalog knows. Before, it may have been turned back, and may have given numbers to other columns.
func (e *Engine) numbering(ctx context.Context, source string, t *shape.Table) (string, error) {
	if t.Numbered == "" {
		return "", nil
	}
	known, err := e.Catalog.TableLineage(ctx, source, t.Name)
	if err != nil || known == nil || known.Settled == 0 {
		return t.Numbered, err
	}
	return fmt.Sprintf("%s/%d", t.Numbered, known.Settled), nil
}

// saw keeps which names the columns of tables have now, where their database tells which is which whatever it is called, and says whether that
// is news.
func (e *Engine) saw(ctx context.Context, source string, tables ...*shape.Table) (news bool, err error) {
	for _, t := range tables {
		numbered, err := e.numbering(ctx, source, t)
		if err != nil {
			return news, err
		}
		one, err := e.Catalog.SeeColumns(ctx, source, t, numbered, e.Now(), func() (bool, error) {
			var disagree *refuse.Disagree
			err := e.Agree(ctx, source, t.Name)
			if errors.As(err, &disagree) {
				return false, nil
			}
			return true, err
		})
		if err != nil {
			return news, err
		}
		news = news || one
	}
	return news, nil
}

// number keeps the names of the columns of a run's tables, and where their numbers hold, for the manifests.
func (r *runner) number(ctx context.Context, tables []*shape.Table) (err error) {
	r.numbered = map[string]string{}
	for _, t := range tables {
		if _, err := r.saw(ctx, r.run.Source, t); err != nil {
			return err
		}
		if r.numbered[t.Name], err = r.numbering(ctx, r.run.Source, t); err != nil {
			return err
		}
	}
	return nil
}

// lookBudget is how long a search waits for a database that may know under which name it knew a column before.
const lookBudget = 2 * time.Second

// look asks the database how the columns of a table are called now, and says whether that is news. A database that does not answer has none.
func (e *Engine) look(ctx context.Context, source, table string) (news bool, err error) {
	soon, cancel := context.WithTimeout(ctx, lookBudget)
	defer cancel()
	src, err := e.Source(soon, source)
	if err != nil {
		return false, ctx.Err()
	}
	t, err := src.Table(soon, table)
	if err != nil {
		return false, ctx.Err()
	}
	if news, err = e.saw(soon, source, t); err != nil && soon.Err() != nil {
		return false, ctx.Err()
	}
	return news, err
}

// ColumnNames lists the former names of a table's columns: those that were told, and those that the database knows.
func (e *Engine) ColumnNames(ctx context.Context, source, table string) ([]catalog.FormerName, error) {
	if _, err := e.look(ctx, source, table); err != nil {
		return nil, err
	}
	names, err := e.Catalog.ColumnNames(ctx, source, table)
	return names.All(), err
}

// fitNow is fitOf with the names that the columns have now, where a restore says nothing else.
func (e *Engine) fitNow(ctx context.Context, m *archive.Manifest, t *shape.Table, how catalog.Fit) (*fit, error) {
	own, err := e.named(ctx, m)
	if err != nil {
		return nil, err
	}
	rename, leaveOut := map[string]string{}, slices.Clone(how.LeaveOut)
	for i, c := range m.Columns {
		now, _ := t.Column(own[i].Name)
		if now != nil && own[i].Name != c.Name {
			rename[c.Name] = own[i].Name
		}
		left := slices.Contains(how.LeaveOut, own[i].Name)
		if left {
			leaveOut = append(leaveOut, c.Name)
		}
		if !left && now == nil && strings.HasSuffix(own[i].Name, catalog.Dropped) && how.Rename[c.Name] == "" && !slices.Contains(how.LeaveOut, c.Name) {
			return nil, &refuse.Error{Field: "fit", Message: fmt.Sprintf("column %q of the archived rows was dropped from table %s, and another has its name now", c.Name, t.Name),
				Remedy: fmt.Sprintf("leave it out, as %q, or restore to a side table or a file", own[i].Name)}
		}
	}
	for was, name := range how.Rename {
		rename[was] = name
	}
	return fitOf(m, t, catalog.Fit{Rename: rename, LeaveOut: leaveOut})
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
func lacking(q SearchRequest, list []*searched, names catalog.ColumnNames) []Lacking {
	var out []Lacking
	for _, name := range q.asked() {
		l := Lacking{Column: name}
		for _, x := range list {
			there := slices.ContainsFunc(x.own, func(c shape.Column) bool { return c.Name == name })
			if m := x.manifest; !there && (len(m.Omitted) > 0 || !names.Added(name, m.Numbered, m.Columns)) {
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
	names, err := e.Catalog.ColumnNames(ctx, m.Source, m.Table)
	if err != nil {
		return "", err
	}
	l := lacking(SearchRequest{Where: where}, []*searched{{segment: &catalog.Segment{}, manifest: m, own: names.Now(m.Numbered, m.Columns)}}, names)
	if len(l) == 0 {
		return "", nil
	}
	return l[0].Column, nil
}

// TellName keeps that a column of a table was called otherwise once, or that it had no name before: it was added. Searches, counts, restores
// and erasures find it in older segments then.
func (e *Engine) TellName(ctx context.Context, actor string, n catalog.FormerName) ([]catalog.FormerName, error) {
	if strings.TrimSpace(n.Name) == "" || n.Name == n.Was {
		return nil, &refuse.Error{Field: "name", Message: "a column has a name, and was called otherwise before", Remedy: "name the column as it is called now, and as it was called"}
	}
	columns, err := e.archivedColumnsAsWritten(ctx, n.Source, n.Table)
	if err != nil {
		return nil, err
	}
	if n.Was != "" && !slices.Contains(columns, n.Was) {
		return nil, &refuse.Error{Field: "was", Message: fmt.Sprintf("no archived row of %s has a column %q", n.Table, n.Was), Remedy: nearest(n.Was, columns, "its columns are "+strings.Join(columns, ", "))}
	}
	known, err := e.Catalog.ColumnNames(ctx, n.Source, n.Table)
	if err != nil {
		return nil, err
	}
	names := known.Told
	for _, k := range names {
		switch {
		case k.Was != "" && k.Was == n.Was && k.Name != n.Name:
			return nil, &refuse.Error{Field: "was", Message: fmt.Sprintf("%s is told to be a former name of %s already", n.Was, k.Name), Remedy: "take that back first (column forget), or say that " + n.Name + " was called " + k.Name}
		case k.Name == n.Name && (k.Was == "") != (n.Was == ""):
			return nil, &refuse.Error{Field: "name", Message: fmt.Sprintf("column %s cannot have been added and called otherwise before", n.Name), Remedy: "take back what was told of it first (column forget)"}
		}
	}
	for was, seen := n.Was, 0; was != "" && seen <= len(names); seen++ { // a name that leads back to itself
		i := slices.IndexFunc(names, func(k catalog.FormerName) bool { return k.Name == was && k.Was != "" })
		if i < 0 {
			break
		}
		if was = names[i].Was; was == n.Name {
			return nil, &refuse.Error{Field: "was", Message: fmt.Sprintf("%s is told to have been called %s before, and cannot come from it too", n.Was, n.Name), Remedy: "take that back first (column forget)"}
		}
	}
	n.ToldAt, n.ToldBy = catalog.At(e.Now()), actor
	if err := e.Catalog.TellName(ctx, n); err != nil {
		return nil, err
	}
	return e.ColumnNames(ctx, n.Source, n.Table)
}

// archivedColumnsAsWritten lists the names that columns of a table have in its segments.
func (e *Engine) archivedColumnsAsWritten(ctx context.Context, source, table string) ([]string, error) {
	h, err := e.huntNow(ctx, source, table, false)
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
		add(x.manifest.Columns)
	}
	if h.long != nil {
		for i := range h.long.shapes {
			add(h.long.shapes[i].Columns.V)
		}
	}
	return out, nil
}
