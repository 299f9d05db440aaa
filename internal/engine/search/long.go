package search

import (
	"cmp"
	"context"
	"iter"
	"os"
	"slices"
	"strings"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
)

// LongFrom is from how many segments of a table on their records are in memory in parts of so many, instead of
// together. Tests change both.
var LongFrom, PartOf = 2_000, 500

// long is what the catalog knows of a table of many segments.
type long struct {
	shapes []catalog.Shape // the newest first
	names  catalog.ColumnNames
}

// lengthen prepares a hunt through a table of many segments; false where they are few, or where the catalog does not
// know enough of them.
func (h *Hunt) lengthen(ctx context.Context) (bool, error) {
	many, err := h.Catalog.MoreThan(ctx, h.q.Source, h.q.Table, LongFrom)
	if err != nil || !many {
		return false, err
	}
	var runs []string
	if h.at != nil {
		runs = h.at.Runs
	}
	loose, unknown, err := h.Catalog.Within(ctx, h.q.Source, h.q.Table, nil, runs)
	if err != nil || unknown > LongFrom {
		return false, err
	}
	l := &long{}
	if l.shapes, err = h.Catalog.ShapesOf(ctx, h.q.Source, h.q.Table); err != nil || len(l.shapes) == 0 {
		return false, err
	}
	if h.at != nil {
		h.at.Number(loose)
	}
	h.Segments = unknown
	for i := range l.shapes {
		h.Segments += l.shapes[i].Segments
	}
	var unlike []catalog.Segment
	for i := range loose {
		if s := &loose[i]; h.at.Of(s) == noneGone {
			h.Segments--
		} else if s.Span == nil {
			unlike = append(unlike, *s)
		}
	}
	if h.list, err = h.known(ctx, unlike, h.at); err != nil {
		return false, err
	}
	slices.Reverse(h.list)
	h.long = l
	if err := h.name(ctx); err != nil {
		return false, err
	}
	if !slices.ContainsFunc(l.shapes, func(x catalog.Shape) bool { return x.Numbered != "" }) {
		return true, nil
	}
	if !h.q.Live {
		if lack, err := h.lacking(ctx); err != nil || len(lack) == 0 {
			return true, err
		}
	}
	news, err := h.look(ctx, h.q.Source, h.q.Table)
	if err == nil && news {
		err = h.name(ctx)
	}
	return true, err
}

// name gives the columns the names that they have now.
func (h *Hunt) name(ctx context.Context) (err error) {
	if h.long.names, err = h.Catalog.ColumnNames(ctx, h.q.Source, h.q.Table); err != nil {
		return err
	}
	h.Columns = nil
	for i := range h.long.shapes {
		h.Columns = union(h.Columns, h.now(&h.long.shapes[i]))
	}
	h.Columns = union(h.Columns, callNow(h.list, h.long.names))
	return nil
}

// now are the columns of a shape under the names that they have now.
func (h *Hunt) now(x *catalog.Shape) []shape.Column { return h.long.names.Now(x.Numbered, x.Columns.V) }

// partsOf hands out segments of a table of many, the oldest first, a part at a time.
func (h *Hunt) partsOf(ctx context.Context, wanted func(*catalog.Segment) bool) iter.Seq2[[]*Segment, error] {
	return func(yield func([]*Segment, error) bool) {
		var part []catalog.Segment
		size := min(8, PartOf) // at first: the first few rows may be all that is asked for
		hand := func() bool {
			list, err := h.known(ctx, part, h.at)
			callNow(list, h.long.names)
			part, size = nil, min(2*size, PartOf)
			return yield(list, err) && err == nil
		}
		for s, err := range h.Catalog.EachSegment(ctx, catalog.SegmentFilter{Source: h.q.Source, Table: h.q.Table,
			Archived: true}) {
			if err != nil {
				yield(nil, err)
				return
			}
			if h.at.Of(s) == noneGone || h.began(s) || !wanted(s) {
				continue
			}
			if part = append(part, *s); len(part) >= size && !hand() {
				return
			}
		}
		if len(part) > 0 {
			hand()
		}
	}
}

// began says whether a segment is of a run that began after the moment at which is searched.
func (h *Hunt) began(s *catalog.Segment) bool {
	return h.at != nil && s.CreatedAt.After(h.at.before.Time) && !slices.Contains(h.at.Runs, s.Run)
}

// longLacking is lacking for a table of many segments: those alone are looked at that are known to lack something.
func (h *Hunt) longLacking(ctx context.Context, names catalog.ColumnNames) ([]Lacking, error) {
	asked, lack := h.q.asked(), map[int64]bool{}
	for i := range h.long.shapes {
		x := &h.long.shapes[i]
		own := names.Now(x.Numbered, x.Columns.V)
		for _, name := range asked {
			if !slices.ContainsFunc(own, func(c shape.Column) bool { return c.Name == name }) {
				lack[x.ID] = true
			}
		}
	}
	if len(lack) == 0 && len(h.list) == 0 {
		return nil, nil
	}
	var out []Lacking
	for list, err := range h.partsOf(ctx, func(s *catalog.Segment) bool { return s.Shape == nil || lack[*s.Shape] }) {
		if err != nil {
			return nil, err
		}
		for _, l := range lacking(h.q, list, names) {
			if i := slices.IndexFunc(out, func(k Lacking) bool { return k.Column == l.Column }); i >= 0 {
				out[i].Segments, out[i].Rows = append(out[i].Segments, l.Segments...), out[i].Rows+l.Rows
			} else {
				out = append(out, l)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Lacking) int {
		return cmp.Compare(slices.Index(asked, a.Column), slices.Index(asked, b.Column))
	})
	return out, nil
}

// hitsAtOnce is for how many rows newer versions are looked for together.
const hitsAtOnce = 200

// longOlder is older for a table of many segments: those alone are looked into that can have the keys.
func (h *Hunt) longOlder(ctx context.Context, hits []Hit) (map[int]bool, error) {
	out, segments := map[int]bool{}, map[string]*catalog.Segment{}
	for _, hit := range hits {
		if hit.Segment != "" && segments[hit.Segment] == nil {
			s, err := h.Catalog.Segment(ctx, hit.Segment)
			if err != nil {
				return nil, err
			}
			segments[hit.Segment] = s
		}
	}
	for at := 0; at < len(hits); at += hitsAtOnce {
		some := hits[at:min(at+hitsAtOnce, len(hits))]
		old := map[int]bool{}
		for list, err := range h.versions(ctx, some, segments) {
			if err != nil {
				return nil, err
			}
			for _, x := range list {
				if x.Segment.Asleep(h.Now()) {
					continue
				}
				if err := h.Searcher.older(ctx, x, some, old,
					func(of string) bool { return archivedBefore(segments[of], x.Segment) < 0 }); err != nil {
					return nil, err
				}
			}
		}
		for i := range old {
			out[at+i] = true
		}
	}
	return out, nil
}

// versions hands out the segments that can have the keys of rows, where the catalog tells, and else all.
func (h *Hunt) versions(ctx context.Context, hits []Hit, segments map[string]*catalog.Segment) iter.Seq2[[]*Segment,
	error] {
	return func(yield func([]*Segment, error) bool) {
		var text []string
		for _, hit := range hits {
			if hit.Key == nil || hit.Segment == "" {
				continue
			}
			i := slices.IndexFunc(h.long.shapes, func(x catalog.Shape) bool {
				of := segments[hit.Segment].Shape
				return of != nil && *of == x.ID
			})
			if i < 0 { // nothing tells what the key is called now
				text = nil
				break
			}
			var names []string
			for _, key := range h.long.shapes[i].Key.V {
				at := slices.IndexFunc(h.long.shapes[i].Columns.V, func(c shape.Column) bool { return c.Name == key })
				names = append(names, h.now(&h.long.shapes[i])[at].Name)
			}
			if condition := KeyCondition(names, hit.Key); condition != "" {
				text = append(text, condition)
			}
		}
		var narrow *narrowed
		var err error
		if len(text) > 0 {
			narrow, err = h.Narrow(ctx, SearchRequest{Source: h.q.Source, Table: h.q.Table,
				Where: strings.Join(text, " OR ")}, h.at)
		} else if !slices.ContainsFunc(hits, func(x Hit) bool { return x.Key != nil }) {
			return
		}
		if err != nil {
			yield(nil, err)
			return
		}
		if narrow == nil {
			h.Parts(ctx)(yield)
			return
		}
		some := slices.DeleteFunc(narrow.Segments, func(s catalog.Segment) bool {
			return h.at.Of(&s) == noneGone ||
				h.began(&s)
		})
		slices.Reverse(some)
		for part := range slices.Chunk(some, PartOf) {
			list, err := h.known(ctx, part, h.at)
			if !yield(list, err) || err != nil {
				return
			}
		}
	}
}

// archivedBefore puts segments in the order in which they were archived.
func archivedBefore(a, b *catalog.Segment) int {
	return cmp.Or(a.CreatedAt.Compare(b.CreatedAt.Time), cmp.Compare(a.Number, b.Number), cmp.Compare(a.ID, b.ID))
}

// longSuperseded is superseded for a table of many segments. Those alone are looked at whose keys lie near those of
// others, by the catalog.
func (h *Hunt) longSuperseded(ctx context.Context, meant func(*Segment) bool) (*SupersededRows, error) {
	out := &SupersededRows{ordinals: map[string]map[int]bool{}}
	near, err := h.near(ctx)
	if err != nil || len(near) == 0 {
		return out, err
	}
	var ids []string // of those that have a key, the oldest first
	var spans []filter.Bound
	for list, err := range h.partsOf(ctx, func(s *catalog.Segment) bool { return near[s.ID] || s.Span == nil }) {
		if err != nil {
			return nil, err
		}
		for _, x := range list {
			if KeyColumns(x.Manifest) == nil {
				continue
			}
			span, err := h.keySpan(ctx, x)
			if err != nil {
				return nil, err
			}
			ids, spans = append(ids, x.Segment.ID), append(spans, span)
		}
	}
	crossed := Crossing(spans)
	dir, err := os.MkdirTemp("", "ambercellar-keys-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	seen, err := OpenSeen(dir)
	if err != nil {
		return nil, err
	}
	defer seen.Close()
	for i, id := range slices.Backward(ids) {
		if !crossed[i] {
			continue
		}
		s, err := h.Catalog.Segment(ctx, id)
		if err != nil {
			return nil, err
		}
		list, err := h.known(ctx, []catalog.Segment{*s}, h.at)
		if err == nil {
			err = h.seen(ctx, list[0], seen, out, meant)
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// near are the segments whose keys may lie between those of others, by the spans that the catalog has.
func (h *Hunt) near(ctx context.Context) (map[string]bool, error) {
	spans, err := h.Catalog.KeySpans(ctx, h.q.Source, h.q.Table)
	if err != nil {
		return nil, err
	}
	kinds := map[int64]int{} // of the first column of the key
	for i := range h.long.shapes {
		x := &h.long.shapes[i]
		kinds[x.ID] = -1
		if len(x.Key.V) > 0 {
			if at := slices.IndexFunc(x.Columns.V,
				func(c shape.Column) bool { return c.Name == x.Key.V[0] }); at >= 0 {
				kinds[x.ID] = int(x.Columns.V[at].Kind)
			}
		}
	}
	spans = slices.DeleteFunc(spans, func(s catalog.KeySpan) bool { return kinds[s.Shape] < 0 })
	mixed := len(h.list) > 0 // nothing is known of these
	for i := range spans {
		mixed = mixed || kinds[spans[i].Shape] != kinds[spans[0].Shape]
	}
	out := map[string]bool{}
	last := 0              // the one that reaches furthest
	for i := range spans { // by where they begin
		switch {
		case mixed:
			out[spans[i].Segment] = true
		case i > 0 && spans[i].Low <= spans[last].High:
			out[spans[i].Segment], out[spans[last].Segment] = true, true
		}
		if spans[i].High > spans[last].High {
			last = i
		}
	}
	return out, nil
}
