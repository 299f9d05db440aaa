package search

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// A row is live until the batch that deletes it is committed, and archived from then on: the journal row of the batch
// says so, in the same transaction, long before the closing record of its segment is written. Whoever looks at the
// archive of a table whose run goes on asks the journal, at one moment, which rows of which segments have left.

// Moment is what the source's journal tells of the runs of a table that have not ended.
type Moment struct {
	Runs   []string // that had not ended before the journal was read
	before catalog.Time
	Rows   map[string]map[int][]source.JournalRow // by run and number of the segment
	// by run and table: the greatest number of a segment that has rows in the journal
	Newest map[[2]string]int
	aside  map[string]bool // partitions that are out of the table, and not dropped yet
	Untold string          // why the journal was not read; empty: it was
}

// momentOf lists the runs whose rows may be on their way out of a table; nil where there is none.
func (se *Searcher) momentOf(ctx context.Context, sourceName, table string) (*Moment, error) {
	m := &Moment{before: catalog.At(se.Now()), Rows: map[string]map[int][]source.JournalRow{},
		Newest: map[[2]string]int{}, aside: map[string]bool{}}
	var err error
	m.Runs, err = se.Catalog.OpenRuns(ctx, sourceName, table)
	return m, err
}

// take takes the journal in.
func (m *Moment) take(journal []source.JournalRow) {
	for _, r := range journal {
		if m.Rows[r.Run] == nil {
			m.Rows[r.Run] = map[int][]source.JournalRow{}
		}
		m.Rows[r.Run][r.Segment] = append(m.Rows[r.Run][r.Segment], r)
	}
}

// read reads the journal, where there is a run that it may tell of.
func (se *Searcher) ReadMoment(ctx context.Context, sourceName, table string) (*Moment, error) {
	m, err := se.momentOf(ctx, sourceName, table)
	if err != nil || len(m.Runs) == 0 {
		return m, err
	}
	src, err := se.Source(ctx, sourceName)
	if err == nil {
		for _, run := range m.Runs {
			var rows []source.JournalRow
			if rows, err = src.Journal(ctx, run, -1); err != nil {
				break
			}
			m.take(rows)
		}
	}
	if err == nil {
		err = m.departures(ctx, src, table)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		m.Untold = err.Error()
	}
	return m, nil
}

// departures notes which partitions are out of the table and not dropped yet: their rows are copied, verified and not
// live.
func (m *Moment) departures(ctx context.Context, src source.Source, table string) error {
	list, err := source.PartitionsOf(src).Departures(ctx, table)
	for _, d := range list {
		if d.Aside {
			m.aside[d.Partition] = true
		}
	}
	return err
}

// Number notes which segments of the runs there are, so that those can be told that were closed before the journal was
// read.
func (m *Moment) Number(segments []catalog.Segment) {
	for i := range segments {
		s := &segments[i]
		if len(m.Rows[s.Run][s.Number]) > 0 {
			k := [2]string{s.Run, s.Table}
			m.Newest[k] = max(m.Newest[k], s.Number)
		}
	}
}

// What the journal says of a segment's rows.
const (
	AllTold  = iota // the closing record tells: the run had ended, or the segment was closed before
	SomeTold        // the journal tells which of them have left
	noneGone        // none of them had left
)

// Of says how a segment stood at the moment. Journal rows go when their segment is closed, but for the newest of the
// table.
func (m *Moment) Of(s *catalog.Segment) int {
	if m == nil || m.Untold != "" || !slices.Contains(m.Runs, s.Run) {
		if s.State != catalog.SegmentClosed {
			return noneGone
		}
		return AllTold
	}
	rows := m.Rows[s.Run][s.Number]
	switch {
	case len(rows) > 0 && rows[0].Batch == 1:
		return SomeTold
	case s.Part != "" && m.aside[s.Part] && s.State == catalog.SegmentOpen:
		return SomeTold
	case s.State == catalog.SegmentClosed && (len(rows) > 0 || s.Number < m.Newest[[2]string{s.Run, s.Table}]):
		return AllTold
	}
	return noneGone
}

// Left lists the ordinals of a segment of so many rows that had not left at the moment.
func (m *Moment) Left(s *catalog.Segment, n int64) (left []int, gone int64, err error) {
	rows := m.Rows[s.Run][s.Number]
	if len(rows) == 0 { // its partition is out of the table
		return nil, n, nil
	}
	fate := make([]byte, n)
	if err := tables.Fates(fate, rows); err != nil {
		return nil, 0, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	for o, f := range fate {
		if f == tables.RowDeleted {
			gone++
		} else {
			left = append(left, o)
		}
	}
	return left, gone, nil
}

// UntoldRows says what a search cannot tell, since the source does not answer.
func (m *Moment) UntoldRows(segments []catalog.Segment) string {
	if m.Untold == "" {
		return ""
	}
	rows, n := int64(0), 0
	for i := range segments {
		if s := &segments[i]; s.State == catalog.SegmentOpen && slices.Contains(m.Runs, s.Run) {
			rows += s.Rows
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("which of %d rows in %d open segments have left the table is not told, since the source "+
		"does not answer: %s", rows, n, m.Untold)
}

// errMoved says that a run began while the journal was read, so that it has to be read again.
var errMoved = errors.New("a run began meanwhile")

// momentTries is how often the journal is read again, since another run began.
const momentTries = 5

// liveAt hands on the rows of a table, and what the journal tells at the same moment; begin hears of that before the
// first row.
func (se *Searcher) liveAt(ctx context.Context, src source.Source, sourceName string, q source.LiveQuery,
	begin func(*Moment) error) (n int64, err error) {
	for range momentTries {
		m, err := se.momentOf(ctx, sourceName, q.Table.Name)
		if err != nil {
			return 0, err
		}
		q.Runs = m.Runs
		q.Journal = func(journal []source.JournalRow) error {
			m.take(journal)
			if err := m.departures(ctx, src, q.Table.Name); err != nil {
				return err
			}
			if since, err := se.Catalog.RunsSince(ctx, sourceName, m.before); err != nil {
				return err
			} else if slices.ContainsFunc(since, func(id string) bool { return !slices.Contains(m.Runs, id) }) {
				return errMoved
			}
			return begin(m)
		}
		if n, err = src.LiveRows(ctx, q); !errors.Is(err, errMoved) {
			return n, err
		}
	}
	return 0, &refuse.Error{Message: "runs began again and again while the table was read", Remedy: "ask again"}
}

// InFlight is one open segment from which rows have left.
func (se *Searcher) InFlight(ctx context.Context, sourceName, table string, m *Moment) (out []catalog.Segment,
	err error) {
	if len(m.Runs) == 0 {
		return nil, nil
	}
	open, err := se.Catalog.Segments(ctx, catalog.SegmentFilter{Source: sourceName, Table: table,
		State: string(catalog.SegmentOpen)}, catalog.All)
	for i := range open {
		if m.Of(&open[i]) == SomeTold {
			out = append(out, open[i])
		}
	}
	return out, err
}

// BooksAt is the closing record of an open segment as the journal tells it: rows that have not left count as skipped.
// found is the digest of those that have, by what the deletes reported.
func (m *Moment) BooksAt(s *catalog.Segment, x *archive.Manifest) (*archive.Closing, value.Set, error) {
	left, gone, err := m.Left(s, x.Rows)
	if err != nil {
		return nil, value.Set{}, err
	}
	var found value.Set
	for _, row := range m.Rows[s.Run][s.Number] {
		found.Merge(row.Digest)
	}
	return &archive.Closing{Segment: s.ID, Deleted: gone, Digest: found, Changed: []int{}, Vanished: []int{},
		Held: []int{}, Skipped: left}, found, nil
}

// LiveCounted counts the rows of a table, and how many of its segments' rows had left it at the same moment, by
// segment.
func (se *Searcher) LiveCounted(ctx context.Context, src source.Source, sourceName string, t *shape.Table) (live int64,
	m *Moment, err error) {
	every, bad := filter.Bind("TRUE", filter.TableScope(t))
	if len(bad) > 0 {
		return 0, nil, errors.New(bad[0].Plain())
	}
	live, err = se.liveAt(ctx, src, sourceName, source.LiveQuery{Table: t, Filter: every, Limit: math.MaxInt64},
		func(at *Moment) error { m = at; return nil })
	return live, m, err
}
