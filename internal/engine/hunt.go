package engine

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
)

// hunt is what a search goes through: the segments of a table from which rows have left it. The records of few segments are in memory together, those of many in
// parts.
type hunt struct {
	*Engine
	q        SearchRequest
	at       *moment
	list     []*searched    // all, the oldest first; of many, those alone of which the catalog does not know what they look like
	long     *long          // nil: they are few
	columns  []shape.Column // that any of them has: the newest segment's first, as they stand there
	segments int
	passed   int // of those, how many need no look, by what the catalog knows
}

// errRenamed says that a column has another name than was thought, so that the segments have to be chosen again.
var errRenamed = errors.New("a column was renamed")

// hunt finds what there is to search. at tells of segments that are not closed, or were not at that moment.
func (e *Engine) hunt(ctx context.Context, q SearchRequest, at *moment) (*hunt, error) {
	if q.Table == "" || q.Source == "" {
		return nil, &refuse.Error{Field: "table", Message: "no source and table are named", Remedy: "write SOURCE TABLE"}
	}
	h := &hunt{Engine: e, q: q, at: at}
	narrow, err := e.narrow(ctx, q, at)
	if err != nil {
		return nil, err
	}
	if narrow == nil && !q.atOnce {
		if yes, err := h.lengthen(ctx); err != nil || yes {
			return h, err
		}
	}
	h.list, h.columns, err = e.searchable(ctx, q, at, narrow)
	if errors.Is(err, errRenamed) { // more may be of the name that is searched for
		q.wide = true
		return e.hunt(ctx, q, at)
	}
	if h.segments = len(h.list); narrow != nil {
		h.segments, h.passed = h.segments+narrow.passed, narrow.passed
	}
	return h, err
}

// huntNow is hunt as the journal tells it now, for all rows of a table.
func (e *Engine) huntNow(ctx context.Context, source, table string, live bool) (*hunt, error) {
	m, err := e.readMoment(ctx, source, table)
	if err != nil {
		return nil, err
	}
	return e.hunt(ctx, SearchRequest{Source: source, Table: table, Live: live}, m)
}

// parts hands out the segments, the oldest first.
func (h *hunt) parts(ctx context.Context) iter.Seq2[[]*searched, error] {
	if h.long != nil {
		return h.partsOf(ctx, func(*catalog.Segment) bool { return true })
	}
	return func(yield func([]*searched, error) bool) { yield(h.list, nil) }
}

// key is that of the newest segment, as it was called then.
func (h *hunt) key() []string {
	switch {
	case h.long != nil:
		return h.long.shapes[0].Key.V
	case len(h.list) > 0:
		return h.list[len(h.list)-1].manifest.Key
	}
	return nil
}

// older says of rows, which come in the order in which they were archived, those whose key a newer segment has too.
func (h *hunt) older(ctx context.Context, hits []Hit) (map[int]bool, error) {
	if len(hits) == 0 {
		return nil, nil
	}
	if h.long != nil {
		return h.longOlder(ctx, hits)
	}
	place := map[string]int{}
	for i, x := range h.list {
		place[x.segment.ID] = i
	}
	out := map[int]bool{}
	for i, x := range h.list {
		if x.segment.Asleep(h.Now()) {
			continue
		}
		if err := h.Engine.older(ctx, x, hits, out, func(of string) bool { return place[of] < i }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// superseded finds the rows of which a newer version is archived too. meant: as superseded of the engine takes it.
func (h *hunt) superseded(ctx context.Context, meant func(*searched) bool) (*supersededRows, error) {
	if h.long != nil {
		return h.longSuperseded(ctx, meant)
	}
	return h.Engine.superseded(ctx, h.list, meant)
}

// lacking lists what segments do not have of the columns that are asked for.
func (h *hunt) lacking(ctx context.Context) ([]Lacking, error) {
	names, err := h.Catalog.ColumnNames(ctx, h.q.Source, h.q.Table)
	if err != nil {
		return nil, err
	}
	if h.long != nil {
		return h.longLacking(ctx, names)
	}
	return lacking(h.q, h.list, names), nil
}

// bind binds the search's condition to all that is searched, so that what is wrong with it is said before anything is found.
func (h *hunt) bind(columns, show []shape.Column) error {
	for _, x := range h.list {
		if err := x.bind(h.q, columns, show); err != nil {
			return err
		}
	}
	if h.q.Where == "" {
		return nil
	}
	if h.long != nil {
		for i := range h.long.shapes {
			x := &h.long.shapes[i]
			if _, err := bindArchived(h.q.Where, h.long.names.Now(x.Numbered, x.Columns.V), columns); err != nil {
				return err
			}
		}
	}
	return nil
}

// untold says which rows a search cannot find, since the source does not tell what has left.
func (e *Engine) untold(ctx context.Context, q SearchRequest, m *moment) (string, error) {
	if m == nil || m.untold == "" {
		return "", nil
	}
	open, err := e.Catalog.Segments(ctx, catalog.SegmentFilter{Source: q.Source, Table: q.Table, State: string(catalog.SegmentOpen)}, catalog.All)
	return m.untoldRows(open), err
}

// searchable lists the segments of a table from which rows have left it, the oldest first, and the columns that any of them has: the newest
// segment's first, as they stand there. m tells of segments that are not closed, or were not at that moment; nil: the closed ones alone. narrow: of those alone.
func (e *Engine) searchable(ctx context.Context, q SearchRequest, m *moment, narrow *narrowed) ([]*searched, []shape.Column, error) {
	var all []catalog.Segment
	var err error
	if narrow != nil {
		all = narrow.segments
	} else if all, err = e.Catalog.Segments(ctx, catalog.SegmentFilter{Source: q.Source, Table: q.Table, Archived: true}, catalog.All); err != nil { // both by one question: one that is closed between two would be in neither answer
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
	if m != nil && len(m.runs) > 0 {
		segments = append(slices.Clone(open), segments...) // of the newest run
		m.number(segments)
		segments = slices.DeleteFunc(segments, func(s catalog.Segment) bool { return m.of(&s) == noneGone })
	}
	if len(segments) == 0 && !q.Live && m != nil && m.untold != "" {
		if why := m.untoldRows(open); why != "" {
			return nil, nil, &refuse.Error{Field: "table", Message: why, Remedy: "ask again when it does"}
		}
	}
	if len(segments) == 0 && !q.Live && narrow == nil {
		return nil, nil, &refuse.Error{Field: "table", Message: fmt.Sprintf("nothing of %s.%s is archived", q.Source, q.Table), Remedy: "`segment list` shows what is"}
	}
	list, err := e.known(ctx, segments, m) // the newest first
	if err != nil {
		return nil, nil, err
	}
	names, err := e.Catalog.ColumnNames(ctx, q.Source, q.Table)
	if err != nil {
		return nil, nil, err
	}
	columns := callNow(list, names)
	if narrow != nil {
		columns = union(narrow.columns, columns)
	}
	numbered := func(x *searched) bool { return x.manifest.Numbered != "" }
	if slices.ContainsFunc(list, numbered) && (q.Live || len(lacking(q, list, names)) > 0) {
		if news, err := e.look(ctx, q.Source, q.Table); err != nil {
			return nil, nil, err
		} else if news {
			if narrow != nil {
				return nil, nil, errRenamed
			}
			if names, err = e.Catalog.ColumnNames(ctx, q.Source, q.Table); err != nil {
				return nil, nil, err
			}
			columns = callNow(list, names)
		}
	}
	slices.Reverse(list)
	return list, columns, nil
}

// known returns what is known of segments, in their order, for a search of rows that had left at a moment.
func (e *Engine) known(ctx context.Context, segments []catalog.Segment, m *moment) ([]*searched, error) {
	list := make([]*searched, 0, len(segments))
	for i := range segments {
		s := &segments[i]
		k, err := e.learnt(ctx, s)
		if err != nil {
			return nil, err
		}
		x := &searched{segment: s, known: k, manifest: k.manifest, left: k.left}
		if m.of(s) == someTold {
			if x.left, _, err = m.left(s, k.manifest.Rows); err != nil {
				return nil, err
			}
		}
		list = append(list, x)
	}
	return list, nil
}

// callNow gives the columns of segments the names that they have now, and returns all of them, in the order in which they come up.
func callNow(list []*searched, names catalog.ColumnNames) (columns []shape.Column) {
	for _, x := range list {
		x.own = names.Now(x.manifest.Numbered, x.manifest.Columns)
		for _, c := range x.own {
			if !slices.ContainsFunc(columns, func(k shape.Column) bool { return k.Name == c.Name }) {
				columns = append(columns, c)
			}
		}
	}
	return columns
}
