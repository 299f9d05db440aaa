package shelf

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
)

type ShapeTable = shape.Table

// Nearest suggests a name in place of one that is not there.
func Nearest(name string, candidates []string, otherwise string) string {
	if near := shape.Nearest(name, candidates); near != "" {
		return "did you mean " + near + "?"
	}
	return otherwise
}

// mostTables is how many tables are compared with one of which nothing is archived.
const mostTables = 500

// NearestArchived suggests a table in place of one of which nothing is archived.
func (sh *Shelf) NearestArchived(ctx context.Context, source, table string) string {
	list, _ := sh.Catalog.ArchivedTables(ctx, "", catalog.First(mostTables)) // without them it says less
	var names []string
	for _, t := range list {
		if t.Source == source {
			names = append(names, t.Table)
		}
	}
	return Nearest(table, names, "`segment list` shows what is")
}

// Named returns the columns of a segment under the names that they have now.
func (sh *Shelf) Named(ctx context.Context, m *archive.Manifest) ([]shape.Column, error) {
	names, err := sh.Catalog.ColumnNames(ctx, m.Source, m.Table)
	if err != nil {
		return nil, err
	}
	return names.Now(m.Numbered, m.Columns), nil
}

// Numbering says where the numbers of a table's columns hold: where the database says so, and since it was last
// settled that it is the one that the catalog knows. Before, it may have been turned back, and may have given numbers
// to other columns.
func (sh *Shelf) Numbering(ctx context.Context, source string, t *shape.Table) (string, error) {
	if t.Numbered == "" {
		return "", nil
	}
	known, err := sh.Catalog.TableLineage(ctx, source, t.Name)
	if err != nil || known == nil || known.Settled == 0 {
		return t.Numbered, err
	}
	return fmt.Sprintf("%s/%d", t.Numbered, known.Settled), nil
}

// Saw keeps which names the columns of tables have now, where their database tells which is which whatever it is
// called, and says whether that is news.
func (sh *Shelf) Saw(ctx context.Context, source string, tables ...*shape.Table) (news bool, err error) {
	for _, t := range tables {
		numbered, err := sh.Numbering(ctx, source, t)
		if err != nil {
			return news, err
		}
		one, err := sh.Catalog.SeeColumns(ctx, source, t, numbered, sh.Now(), func() (bool, error) {
			var disagree *refuse.Disagree
			err := sh.tables.Agree(ctx, source, t.Name)
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

// BindArchived binds a filter to the columns of a segment, as they were when it was written: of the columns that any
// segment has, those that this one lacks are NULL, and stand behind its own.
func BindArchived(where string, own, columns []shape.Column) (*filter.Filter, error) {
	known := filter.TableScope(&shape.Table{TableForm: shape.TableForm{Columns: columns}})
	f, bad := filter.Bind(where, func(join, name string) (*shape.Column, int, string) {
		c, _, near := known(join, name)
		if c == nil {
			return nil, 0, near
		}
		if i := slices.IndexFunc(own, func(c shape.Column) bool { return c.Name == name }); i >= 0 {
			return &own[i], i, ""
		}
		return c, len(own), ""
	})
	if len(bad) > 0 {
		return nil, refuse.Filter("where", bad[0])
	}
	return f, nil
}

// Spanned keeps in the catalog where the keys of a segment lie, by its manifest and its side file; nil: not known.
func (sh *Shelf) Spanned(ctx context.Context, s *catalog.Segment, m *archive.Manifest, r *archive.Range) error {
	spans := [catalog.SpanColumns]catalog.Span{}
	for n := range spans {
		spans[n] = catalog.Anywhere
		if low, high, ok := r.KeySpan(m, n); ok {
			spans[n] = catalog.Span{Low: low, High: high}
		}
	}
	x := catalog.Shape{Numbered: m.Numbered}
	x.Columns.V, x.Key.V = m.Columns, m.Key
	return sh.Catalog.Spanned(ctx, s, x, spans)
}

func Canonical(vs []value.Value) string {
	var out []byte
	for _, v := range vs {
		out = v.AppendCanonical(out)
	}
	return string(out)
}

// KeysAtOnce is how many keys are looked up in one statement.
const KeysAtOnce = 500
