package shelf

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/shape"
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

// Named returns the columns of a segment under the names that they have now.
func (sh *Shelf) Named(ctx context.Context, m *archive.Manifest) ([]shape.Column, error) {
	names, err := sh.Catalog.ColumnNames(ctx, m.Source, m.Table)
	if err != nil {
		return nil, err
	}
	return names.Now(m.Numbered, m.Columns), nil
}

// Numbering says where the numbers of a table's columns hold: where the database says so, and since it was last settled that it is the one
// that the catalog knows. Before, it may have been turned back, and may have given numbers to other columns.
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

// Saw keeps which names the columns of tables have now, where their database tells which is which whatever it is called, and says whether that
// is news.
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
