package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
)

// narrowFrom is from how many segments of a table on a look-up by key goes by the catalog's spans instead of looking at each of them. Tests change it.
var narrowFrom = 200

// mostProbes is for how many keys that pays.
const mostProbes = 1000

// narrowed are the segments of a table that can have rows of some keys.
type narrowed struct {
	segments []catalog.Segment // the newest first
	columns  []shape.Column    // that any segment of the table has
	passed   int               // segments that cannot have such rows
}

// narrow finds the segments that can hold what a search is for, where that names values of the key; nil where it does not, or where it does not pay.
func (e *Engine) narrow(ctx context.Context, q SearchRequest, m *moment) (*narrowed, error) {
	if q.Where == "" || q.wide {
		return nil, nil
	}
	if many, err := e.Catalog.MoreThan(ctx, q.Source, q.Table, narrowFrom); err != nil || !many {
		return nil, err
	}
	shapes, err := e.Catalog.ShapesOf(ctx, q.Source, q.Table)
	if err != nil || len(shapes) == 0 {
		return nil, err
	}
	names, err := e.Catalog.ColumnNames(ctx, q.Source, q.Table)
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
		if err := e.newest(ctx, m, q.Table); err != nil {
			return nil, err
		}
	}
	total := 0
	if out.segments, total, err = e.Catalog.Within(ctx, q.Source, q.Table, probes, nil); err != nil {
		return nil, err
	}
	for i := range shapes {
		total += shapes[i].Segments
	}
	out.passed = max(total-len(out.segments), 0)
	return out, nil
}

// newest notes, of each run, the newest segment of a table that has rows in the journal.
func (e *Engine) newest(ctx context.Context, m *moment, table string) error {
	for run, rows := range m.rows {
		n, err := e.Catalog.NewestNumber(ctx, run, table, slices.Collect(maps.Keys(rows)))
		if err != nil {
			return err
		}
		if k := [2]string{run, table}; n > 0 {
			m.newest[k] = max(m.newest[k], n)
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

// probing says where, in the spans of segments of a shape, rows lie for which a condition is true; false where it does not tell.
func probing(where string, x *catalog.Shape, names catalog.ColumnNames, columns []shape.Column) ([]catalog.Probe, bool) {
	own := names.Now(x.Numbered, x.Columns.V)
	f, err := bindArchived(where, own, columns)
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

// spanned keeps in the catalog where the keys of a segment lie, by its manifest and its side file; nil: not known.
func (e *Engine) spanned(ctx context.Context, s *catalog.Segment, m *archive.Manifest, r *archive.Range) error {
	spans := [catalog.SpanColumns]catalog.Span{}
	for n := range spans {
		spans[n] = catalog.Anywhere
		if low, high, ok := r.KeySpan(m, n); ok {
			spans[n] = catalog.Span{Low: low, High: high}
		}
	}
	x := catalog.Shape{Numbered: m.Numbered}
	x.Columns.V, x.Key.V = m.Columns, m.Key
	return e.Catalog.Spanned(ctx, s, x, spans)
}

// spansAtOnce is of how many segments one step of SpanSegments is.
const spansAtOnce = 200

// SpanSegments finds out where the keys of segments lie of which the catalog does not know it: those that were archived by an older version, or taken up from a
// store. Until then, every look-up reads their records. It returns how many it found out; one that cannot be read keeps no others waiting.
func (e *Engine) SpanSegments(ctx context.Context) (n int, err error) {
	for after := ""; ; {
		list, listing := e.Catalog.Unspanned(ctx, after, spansAtOnce)
		if listing != nil {
			return n, errors.Join(err, listing)
		}
		for i := range list {
			s := &list[i]
			after = s.ID
			if ctx.Err() != nil {
				return n, ctx.Err()
			}
			if one := e.spanSegment(ctx, s); one != nil {
				if err == nil { // one will do
					err = fmt.Errorf("segment %s: %w", s.ID, one)
				}
				continue
			}
			n++
		}
		if len(list) < spansAtOnce {
			return n, err
		}
	}
}

func (e *Engine) spanSegment(ctx context.Context, s *catalog.Segment) error {
	st, err := e.Store(ctx, s.Store)
	if err != nil {
		return err
	}
	m, hash, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return err
	}
	if hash != s.ManifestHash {
		return fmt.Errorf("%w: its manifest has the hash %s instead of %s", archive.ErrDamaged, hash, s.ManifestHash)
	}
	r, err := archive.LoadRange(ctx, st, m)
	if errors.Is(err, archive.ErrDamaged) { // it is only for speed
		r, err = nil, nil
	}
	if err != nil {
		return err
	}
	return e.spanned(ctx, s, m, r)
}
