package search

import (
	"context"
	"maps"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/shelf"
)

// NarrowFrom is from how many segments of a table on a look-up by key goes by the catalog's spans instead of looking
// at each of them. Tests change it.
var NarrowFrom = 200

// mostProbes is for how many keys that pays.
const mostProbes = 1000

// narrowed are the segments of a table that can have rows of some keys.
type narrowed struct {
	Segments []catalog.Segment // the newest first
	columns  []shape.Column    // that any segment of the table has
	passed   int               // segments that cannot have such rows
}

// Narrow finds the segments that can hold what a search is for, where that names values of the key; nil where it does
// not, or where it does not pay.
func (se *Searcher) Narrow(ctx context.Context, q SearchRequest, m *Moment) (*narrowed, error) {
	if q.Where == "" || q.Wide {
		return nil, nil
	}
	if many, err := se.Catalog.MoreThan(ctx, q.Source, q.Table, NarrowFrom); err != nil || !many {
		return nil, err
	}
	shapes, err := se.Catalog.ShapesOf(ctx, q.Source, q.Table)
	if err != nil || len(shapes) == 0 {
		return nil, err
	}
	names, err := se.Catalog.ColumnNames(ctx, q.Source, q.Table)
	if err != nil {
		return nil, err
	}
	out := &narrowed{}
	for i := range shapes {
		x := &shapes[i]
		out.columns = union(out.columns, names.Now(x.Numbered, x.Columns.V))
	}
	var probes []catalog.Probe
	for i := range shapes {
		some, ok := probing(q.Where, &shapes[i], names, out.columns)
		if !ok || len(probes)+len(some) > mostProbes {
			return nil, nil
		}
		probes = append(probes, some...)
	}
	if m != nil { // the journal tells of a segment by which ones of its run have rows there
		if err := se.newest(ctx, m, q.Table); err != nil {
			return nil, err
		}
	}
	total := 0
	if out.Segments, total, err = se.Catalog.Within(ctx, q.Source, q.Table, probes, nil); err != nil {
		return nil, err
	}
	for i := range shapes {
		total += shapes[i].Segments
	}
	out.passed = max(total-len(out.Segments), 0)
	return out, nil
}

// newest notes, of each run, the newest segment of a table that has rows in the journal.
func (se *Searcher) newest(ctx context.Context, m *Moment, table string) error {
	for run, rows := range m.Rows {
		n, err := se.Catalog.NewestNumber(ctx, run, table, slices.Collect(maps.Keys(rows)))
		if err != nil {
			return err
		}
		if k := [2]string{run, table}; n > 0 {
			m.Newest[k] = max(m.Newest[k], n)
		}
	}
	return nil
}

// union adds columns to a list, those that are not there yet.
func union(columns, more []shape.Column) []shape.Column {
	for _, c := range more {
		if !slices.ContainsFunc(columns, func(k shape.Column) bool { return k.Name == c.Name }) {
			columns = append(columns, c)
		}
	}
	return columns
}

// probing says where, in the spans of segments of a shape, rows lie for which a condition is true; false where it does
// not tell.
func probing(where string, x *catalog.Shape, names catalog.ColumnNames, columns []shape.Column) ([]catalog.Probe,
	bool) {
	own := names.Now(x.Numbered, x.Columns.V)
	f, err := shelf.BindArchived(where, own, columns)
	if err != nil {
		return nil, false
	}
	probes, known := []catalog.Probe{{Shape: x.ID}}, false
	for n, key := range x.Key.V {
		if n == catalog.SpanColumns {
			break
		}
		at := slices.IndexFunc(x.Columns.V, func(c shape.Column) bool { return c.Name == key })
		if at < 0 {
			continue
		}
		values, ok := f.Among(at)
		if !ok || len(probes)*len(values) > mostProbes {
			continue
		}
		var more []catalog.Probe
		for _, v := range values {
			place, ok := archive.Coarse(v)
			if !ok || v.Kind != x.Columns.V[at].Kind {
				return nil, false
			}
			for _, p := range probes {
				p.At[n] = &place
				more = append(more, p)
			}
		}
		probes, known = more, true
	}
	return probes, known
}
