package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/approval"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
)

// picked says which rows of one segment a scope is for.
type picked struct {
	filter *filter.Filter // nil: every row
	rows   map[int]bool   // by ordinal; nil: every row
	span   func(row []value.Value) bool
	reads  []int // positions of the columns that it looks at, the filter's own aside
	absent int   // where the filter finds NULL, of columns that the segment does not have
	wide   []value.Value
}

// pick makes out which rows of a segment a scope is for. own are its columns under the names that they have now,
// columns those that any segment of the table has.
func pick(m *archive.Manifest, scope catalog.Scope, own, columns []shape.Column) (*picked, error) {
	p := &picked{absent: len(m.Columns)}
	var err error
	if p.span, err = span(m, scope); err != nil {
		return nil, err
	}
	if scope.From != "" || scope.To != "" {
		p.reads = append(p.reads, slices.IndexFunc(m.Columns,
			func(c shape.Column) bool { return c.Name == m.Age.Column }))
	}
	if len(scope.Rows) > 0 {
		p.rows = map[int]bool{}
		for _, r := range scope.Rows {
			if r.Segment == m.Segment {
				p.rows[r.Ordinal] = true
			}
		}
	}
	if scope.Where != "" {
		p.filter, err = shelf.BindArchived(scope.Where, own, columns)
	}
	return p, err
}

// wants says whether a row is one of them. The row may be longer than the segment's columns.
func (p *picked) wants(ordinal int, row []value.Value) bool {
	if p.rows != nil && !p.rows[ordinal] || !p.span(row) {
		return false
	}
	if p.filter == nil {
		return true
	}
	if len(row) == p.absent {
		p.wide = append(append(p.wide[:0], row...), value.Value{})
		row = p.wide
	}
	return p.filter.Eval(row).Only()
}

// narrow says whether it may be that only few rows of a segment are wanted, so that it pays to look before all is
// read.
func (p *picked) narrow() bool { return p.filter != nil || p.rows != nil }

// each hands on the rows of a segment that are wanted and had left their table, with the values at reads; the others
// are NULL.
func (p *picked) each(ctx context.Context, e *Restorer, x *member, reads []int,
	sink func(ordinal int, row []value.Value) error) (archive.Scanned, error) {
	left := x.closing.LeftOut()
	columns := slices.Concat(p.reads, reads)
	slices.Sort(columns)
	return e.shelf.ScanRows(ctx, x.segment, x.manifest,
		archive.Search{Filter: p.filter, Columns: slices.Compact(columns), Absent: 1},
		func(ordinal int, row []value.Value) error {
			if _, out := slices.BinarySearch(left, ordinal); out || p.rows != nil && !p.rows[ordinal] || !p.span(row) {
				return nil
			}
			return sink(ordinal, row)
		})
}

var errFound = errors.New("found")

// any says whether a segment has a row that is wanted.
func (p *picked) any(ctx context.Context, e *Restorer, x *member) (bool, error) {
	_, err := p.each(ctx, e, x, nil, func(int, []value.Value) error { return errFound })
	if errors.Is(err, errFound) {
		return true, nil
	}
	return false, err
}

// RestorePreview is what a restore would do.
type RestorePreview struct {
	Source   string `json:"source"`
	Table    string `json:"table"`
	Segments int    `json:"segments"` // that have rows for it
	Rows     int64  `json:"rows"`     // archived rows in the scope, those of related tables aside
	// further ones, of which a newer version is archived: they do not go into a table
	Stale     int64    `json:"stale"`
	Bytes     int64    `json:"bytes"`     // of segments that are read
	Conflicts int64    `json:"conflicts"` // of the rows, those whose key is in the target already
	Untold    bool     `json:"untold"`    // the target has no key, so nobody can tell conflicts
	Into      string   `json:"into"`      // in words
	Triggers  []string `json:"triggers"`  // of the target, that fire for each row
	Approval  bool     `json:"approval"`  // somebody has to approve it first
	// what has to be retrieved first, whose rows are not counted; null: nothing
	Cold *shelf.Chilled `json:"cold"`
}

// PreviewRestore says what a restore would do. It changes nothing.
func (rs *Restorer) PreviewRestore(ctx context.Context, q RestoreRequest) (*RestorePreview, error) {
	rs.shelf.Reading.RLock()
	defer rs.shelf.Reading.RUnlock()
	r, segments, err := rs.checkRestore(ctx, &q)
	if err != nil {
		return nil, err
	}
	x := &preview{restoration: &restoration{Restorer: rs, restore: r, related: r.Target == catalog.TargetTable},
		out: &RestorePreview{Source: r.Source, Table: r.Table, Triggers: []string{}}}
	if err := x.into(ctx); err != nil {
		return nil, err
	}
	if x.out.Cold, err = rs.coldFor(ctx, r, segments); err != nil {
		return nil, err
	}
	for i := range segments {
		if segments[i].Asleep(rs.Now()) {
			continue
		}
		if err := x.segment(ctx, &segments[i]); err != nil {
			return nil, err
		}
	}
	if x.conflicts != nil {
		err = x.conflicts.Look(ctx)
		x.out.Conflicts = x.conflicts.Found
	}
	if err == nil {
		err = x.approval(ctx, mostRows(segments))
	}
	return x.out, err
}

// approval finds out whether others have to approve the restore.
func (x *preview) approval(ctx context.Context, rows int64) error {
	guard, err := x.Catalog.Guard(ctx, x.restore.Source)
	if err != nil {
		return err
	}
	persons, err := approval.Persons(guard.Approve, []approval.What{approval.Restores}, "", rows)
	x.out.Approval = persons > 0
	return err
}

// preview is a preview of a restore as it is made.
type preview struct {
	*restoration
	out       *RestorePreview
	conflicts *search.Conflicts // nil where nobody asks, or can tell, which keys are there already
}

// into says where the rows would go.
func (x *preview) into(ctx context.Context) (err error) {
	r := x.restore
	switch r.Target {
	case catalog.TargetFile:
		x.out.Into = "a file, as " + r.Format
		return nil
	case catalog.TargetSide:
		x.out.Into = fmt.Sprintf("a new table %s of source %s, made to fit", r.TargetTable, r.TargetSource)
		return nil
	}
	x.out.Into = fmt.Sprintf("table %s of source %s", r.Table, r.Source)
	c := &search.Conflicts{}
	if c.Source, err = x.Source(ctx, r.Source); err != nil {
		return err
	}
	if c.Table, err = c.Source.Table(ctx, r.Table); err != nil {
		return err
	}
	x.out.Triggers = append(x.out.Triggers, c.Table.InsertTriggers...)
	if x.out.Untold = c.Table.ByAddress(); !x.out.Untold {
		x.conflicts = c
	}
	return nil
}

// segment looks at the rows of one segment.
func (x *preview) segment(ctx context.Context, s *catalog.Segment) error {
	m, err := x.member(ctx, s)
	if err != nil {
		return err
	}
	p, err := x.pick(ctx, m.manifest)
	if err != nil {
		return err
	}
	var key []int // the places of the table's key in the rows that are read
	if c := x.conflicts; c != nil {
		f, err := x.fitNow(ctx, m.manifest, c.Table, x.restore.Fit.V)
		if err != nil {
			return err
		}
		for _, k := range c.Table.Key {
			_, column := c.Table.Column(k)
			key = append(key, f.from[slices.Index(f.to, column)])
		}
	}
	before := x.out.Rows
	looked := &portion{Chunk: value.Chunk{Width: len(m.manifest.Columns)}, manifest: m.manifest}
	_, err = p.each(ctx, x.Restorer, m, slices.Concat(key, search.KeyColumns(m.manifest)),
		func(ordinal int, row []value.Value) error {
			looked.Values = append(looked.Values, value.CloneRow(row[:looked.Width])...)
			looked.ordinals = append(looked.ordinals, ordinal)
			if looked.Rows() >= previewRows {
				return x.look(ctx, looked, key)
			}
			return nil
		})
	if err = errors.Join(err, x.look(ctx, looked, key)); err == nil && x.out.Rows > before {
		x.out.Segments++
		x.out.Bytes += m.manifest.FileBytes
	}
	return err
}

// look counts rows, those of which a newer version is archived apart, and takes their keys in.
func (x *preview) look(ctx context.Context, rows *portion, key []int) error {
	old, err := x.staleOf(ctx, rows.manifest, rows)
	for i := 0; err == nil && i < rows.Rows(); i++ {
		if old != nil && old[i] {
			x.out.Stale++
			continue
		}
		x.out.Rows++
		if x.conflicts != nil {
			err = x.conflicts.Add(ctx, rows.Row(i), key)
		}
	}
	rows.Reset()
	rows.ordinals = rows.ordinals[:0]
	return err
}

// previewRows is how many rows of a preview are compared with newer versions at a time.
const previewRows = 1000
