package shelf

import (
	"slices"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
)

// BindArchived binds a filter to the columns of a segment, as they were when it was written: of the columns that any segment
// has, those that this one lacks are NULL, and stand behind its own.
func BindArchived(where string, own, columns []shape.Column) (*filter.Filter, error) {
	known := filter.TableScope(&shape.Table{Columns: columns})
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
