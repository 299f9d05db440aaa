package search

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
)

// Hunt is what a search goes through: the segments of a table from which rows have left it. The records of few
// segments are in memory together, those of many in parts.
type Hunt struct {
	*Searcher
	q  SearchRequest
	at *Moment
	// all, the oldest first; of many, those alone of which the catalog does not know what they look like
	list     []*Segment
	long     *long          // nil: they are few
	Columns  []shape.Column // that any of them has: the newest segment's first, as they stand there
	Segments int
	passed   int // of those, how many need no look, by what the catalog knows
}

// errRenamed says that a column has another name than was thought, so that the segments have to be chosen again.
var errRenamed = errors.New("a column was renamed")

// Hunt finds what there is to search. at tells of segments that are not closed, or were not at that moment.
func (se *Searcher) Hunt(ctx context.Context, q SearchRequest, at *Moment) (*Hunt, error) {
	if q.Table == "" || q.Source == "" {
		return nil, &refuse.Error{Field: "table", Message: "no source and table are named",
			Remedy: "write SOURCE TABLE"}
	}
	h := &Hunt{Searcher: se, q: q, at: at}
	narrow, err := se.Narrow(ctx, q, at)
	if err != nil {
		return nil, err
	}
	if narrow == nil && !q.AtOnce {
		if yes, err := h.lengthen(ctx); err != nil || yes {
			return h, err
		}
	}
	h.list, h.Columns, err = se.Searchable(ctx, q, at, narrow)
	if errors.Is(err, errRenamed) { // more may be of the name that is searched for
		q.Wide = true
		return se.Hunt(ctx, q, at)
	}
	if h.Segments = len(h.list); narrow != nil {
		h.Segments, h.passed = h.Segments+narrow.passed, narrow.passed
	}
	return h, err
}

// HuntNow is hunt as the journal tells it now, for all rows of a table.
func (se *Searcher) HuntNow(ctx context.Context, source, table string, live bool) (*Hunt, error) {
	m, err := se.ReadMoment(ctx, source, table)
	if err != nil {
		return nil, err
	}
	return se.Hunt(ctx, SearchRequest{Source: source, Table: table, Live: live}, m)
}

// Parts hands out the segments, the oldest first.
func (h *Hunt) Parts(ctx context.Context) iter.Seq2[[]*Segment, error] {
	if h.long != nil {
		return h.partsOf(ctx, func(*catalog.Segment) bool { return true })
	}
	return func(yield func([]*Segment, error) bool) { yield(h.list, nil) }
}

// Key is that of the newest segment, as it was called then.
func (h *Hunt) Key() []string {
	switch {
	case h.long != nil:
		return h.long.shapes[0].Key.V
	case len(h.list) > 0:
		return h.list[len(h.list)-1].Manifest.Key
	}
	return nil
}

// Older says of rows, which come in the order in which they were archived, those whose key a newer segment has too.
func (h *Hunt) Older(ctx context.Context, hits []Hit) (map[int]bool, error) {
	if len(hits) == 0 {
		return nil, nil
	}
	if h.long != nil {
		return h.longOlder(ctx, hits)
	}
	place := map[string]int{}
	for i, x := range h.list {
		place[x.Segment.ID] = i
	}
	out := map[int]bool{}
	for i, x := range h.list {
		if x.Segment.Asleep(h.Now()) {
			continue
		}
		if err := h.Searcher.older(ctx, x, hits, out, func(of string) bool { return place[of] < i }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Superseded finds the rows of which a newer version is archived too. meant: as superseded of the engine takes it.
func (h *Hunt) Superseded(ctx context.Context, meant func(*Segment) bool) (*SupersededRows, error) {
	if h.long != nil {
		return h.longSuperseded(ctx, meant)
	}
	return h.Searcher.superseded(ctx, h.list, meant)
}

// lacking lists what segments do not have of the columns that are asked for.
func (h *Hunt) lacking(ctx context.Context) ([]Lacking, error) {
	names, err := h.Catalog.ColumnNames(ctx, h.q.Source, h.q.Table)
	if err != nil {
		return nil, err
	}
	if h.long != nil {
		return h.longLacking(ctx, names)
	}
	return lacking(h.q, h.list, names), nil
}

// bind binds the search's condition to all that is searched, so that what is wrong with it is said before anything is
// found.
func (h *Hunt) bind(columns, show []shape.Column) error {
	for _, x := range h.list {
		if err := x.Bind(h.q, columns, show); err != nil {
			return err
		}
	}
	if h.q.Where == "" {
		return nil
	}
	if h.long != nil {
		for i := range h.long.shapes {
			x := &h.long.shapes[i]
			if _, err := shelf.BindArchived(h.q.Where, h.long.names.Now(x.Numbered, x.Columns.V),
				columns); err != nil {
				return err
			}
		}
	}
	return nil
}

// untold says which rows a search cannot find, since the source does not tell what has left.
func (se *Searcher) untold(ctx context.Context, q SearchRequest, m *Moment) (string, error) {
	if m == nil || m.Untold == "" {
		return "", nil
	}
	open, err := se.Catalog.Segments(ctx, catalog.SegmentFilter{Source: q.Source, Table: q.Table,
		State: string(catalog.SegmentOpen)}, catalog.All)
	return m.UntoldRows(open), err
}

// Searchable lists the segments of a table from which rows have left it, the oldest first, and the columns that any of
// them has: the newest segment's first, as they stand there. m tells of segments that are not closed, or were not at
// that moment; nil: the closed ones alone. narrow: of those alone.
func (se *Searcher) Searchable(ctx context.Context, q SearchRequest, m *Moment, narrow *narrowed) ([]*Segment,
	[]shape.Column, error) {
	var all []catalog.Segment
	var err error
	if narrow != nil {
		all = narrow.Segments
		// both by one question: one that is closed between two would be in neither answer
	} else if all, err = se.Catalog.Segments(ctx, catalog.SegmentFilter{Source: q.Source, Table: q.Table,
		Archived: true}, catalog.All); err != nil {
		return nil, nil, err
	}
	var open, segments []catalog.Segment
	for _, s := range all {
		if s.State == catalog.SegmentOpen {
			open = append(open, s)
		} else {
			segments = append(segments, s)
		}
	}
	if m != nil && len(m.Runs) > 0 {
		segments = append(slices.Clone(open), segments...) // of the newest run
		m.Number(segments)
		segments = slices.DeleteFunc(segments, func(s catalog.Segment) bool { return m.Of(&s) == noneGone })
	}
	if len(segments) == 0 && !q.Live && m != nil && m.Untold != "" {
		if why := m.UntoldRows(open); why != "" {
			return nil, nil, &refuse.Error{Field: "table", Message: why, Remedy: "ask again when it does"}
		}
	}
	if len(segments) == 0 && !q.Live && narrow == nil {
		return nil, nil, &refuse.Error{Field: "table", Message: fmt.Sprintf("nothing of %s.%s is archived", q.Source,
			q.Table), Remedy: se.shelf.NearestArchived(ctx, q.Source, q.Table)}
	}
	list, err := se.known(ctx, segments, m) // the newest first
	if err != nil {
		return nil, nil, err
	}
	names, err := se.Catalog.ColumnNames(ctx, q.Source, q.Table)
	if err != nil {
		return nil, nil, err
	}
	columns := callNow(list, names)
	if narrow != nil {
		columns = union(narrow.columns, columns)
	}
	numbered := func(x *Segment) bool { return x.Manifest.Numbered != "" }
	if slices.ContainsFunc(list, numbered) && (q.Live || len(lacking(q, list, names)) > 0) {
		if news, err := se.look(ctx, q.Source, q.Table); err != nil {
			return nil, nil, err
		} else if news {
			if narrow != nil {
				return nil, nil, errRenamed
			}
			if names, err = se.Catalog.ColumnNames(ctx, q.Source, q.Table); err != nil {
				return nil, nil, err
			}
			columns = callNow(list, names)
		}
	}
	slices.Reverse(list)
	return list, columns, nil
}

// known returns what is known of segments, in their order, for a search of rows that had left at a moment.
func (se *Searcher) known(ctx context.Context, segments []catalog.Segment, m *Moment) ([]*Segment, error) {
	list := make([]*Segment, 0, len(segments))
	for i := range segments {
		s := &segments[i]
		k, err := se.shelf.Learnt(ctx, s)
		if err != nil {
			return nil, err
		}
		x := &Segment{Segment: s, Known: k, Manifest: k.Manifest, left: k.Left}
		if m.Of(s) == SomeTold {
			if x.left, _, err = m.Left(s, k.Manifest.Rows); err != nil {
				return nil, err
			}
		}
		list = append(list, x)
	}
	return list, nil
}

// callNow gives the columns of segments the names that they have now, and returns all of them, in the order in which
// they come up.
func callNow(list []*Segment, names catalog.ColumnNames) (columns []shape.Column) {
	for _, x := range list {
		x.own = names.Now(x.Manifest.Numbered, x.Manifest.Columns)
		for _, c := range x.own {
			if !slices.ContainsFunc(columns, func(k shape.Column) bool { return k.Name == c.Name }) {
				columns = append(columns, c)
			}
		}
	}
	return columns
}
