package engine

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
	"ambercellar/internal/source"
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

// pick makes out which rows of a segment a scope is for. own are its columns under the names that they have now, columns those that any
// segment of the table has.
func pick(m *archive.Manifest, scope catalog.Scope, own, columns []shape.Column) (*picked, error) {
	p := &picked{absent: len(m.Columns)}
	var err error
	if p.span, err = span(m, scope); err != nil {
		return nil, err
	}
	if scope.From != "" || scope.To != "" {
		p.reads = append(p.reads, slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == m.Age.Column }))
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
		p.filter, err = bindArchived(scope.Where, own, columns)
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

// narrow says whether it may be that only few rows of a segment are wanted, so that it pays to look before all is read.
func (p *picked) narrow() bool { return p.filter != nil || p.rows != nil }

// each hands on the rows of a segment that are wanted and had left their table, with the values at reads; the others are NULL.
func (p *picked) each(ctx context.Context, e *Engine, x *member, reads []int, sink func(ordinal int, row []value.Value) error) (archive.Scanned, error) {
	left := x.closing.LeftOut()
	columns := slices.Concat(p.reads, reads)
	slices.Sort(columns)
	return e.scanRows(ctx, x.segment, x.manifest, archive.Search{Filter: p.filter, Columns: slices.Compact(columns), Absent: 1}, func(ordinal int, row []value.Value) error {
		if _, out := slices.BinarySearch(left, ordinal); out || p.rows != nil && !p.rows[ordinal] || !p.span(row) {
			return nil
		}
		return sink(ordinal, row)
	})
}

var errFound = errors.New("found")

// any says whether a segment has a row that is wanted.
func (p *picked) any(ctx context.Context, e *Engine, x *member) (bool, error) {
	_, err := p.each(ctx, e, x, nil, func(int, []value.Value) error { return errFound })
	if errors.Is(err, errFound) {
		return true, nil
	}
	return false, err
}

// bindArchived binds a filter to the columns of a segment, as they were when it was written: of the columns that any segment
// has, those that this one lacks are NULL, and stand behind its own.
func bindArchived(where string, own, columns []shape.Column) (*filter.Filter, error) {
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

// archivedColumns are the columns that any segment of a table has: the newest segment's first, as they stand there.
func (e *Engine) archivedColumns(ctx context.Context, sourceName, table string) ([]shape.Column, error) {
	h, err := e.huntNow(ctx, sourceName, table, false)
	if err != nil {
		return nil, err
	}
	return h.columns, nil
}

// RestorePreview is what a restore would do.
type RestorePreview struct {
	Source    string   `json:"source"`
	Table     string   `json:"table"`
	Segments  int      `json:"segments"`  // that have rows for it
	Rows      int64    `json:"rows"`      // archived rows in the scope, those of related tables aside
	Stale     int64    `json:"stale"`     // further ones, of which a newer version is archived: they do not go into a table
	Bytes     int64    `json:"bytes"`     // of segments that are read
	Conflicts int64    `json:"conflicts"` // of the rows, those whose key is in the target already
	Untold    bool     `json:"untold"`    // the target has no key, so nobody can tell conflicts
	Into      string   `json:"into"`      // in words
	Triggers  []string `json:"triggers"`  // of the target, that fire for each row
	Approval  bool     `json:"approval"`  // somebody has to approve it first
	Cold      *Chilled `json:"cold"`      // what has to be retrieved first, whose rows are not counted; null: nothing
}

// PreviewRestore says what a restore would do. It changes nothing.
func (e *Engine) PreviewRestore(ctx context.Context, q RestoreRequest) (*RestorePreview, error) {
	e.reading.RLock()
	defer e.reading.RUnlock()
	r, segments, err := e.checkRestore(ctx, &q)
	if err != nil {
		return nil, err
	}
	out := &RestorePreview{Source: r.Source, Table: r.Table, Triggers: []string{}}
	var c *conflicts
	switch r.Target {
	case TargetFile:
		out.Into = "a file, as " + r.Format
	case TargetSide:
		out.Into = fmt.Sprintf("a new table %s of source %s, made to fit", r.TargetTable, r.TargetSource)
	default:
		out.Into = fmt.Sprintf("table %s of source %s", r.Table, r.Source)
		c = &conflicts{}
		if c.source, err = e.Source(ctx, r.Source); err != nil {
			return nil, err
		}
		if c.table, err = c.source.Table(ctx, r.Table); err != nil {
			return nil, err
		}
		out.Triggers = append(out.Triggers, c.table.InsertTriggers...)
		out.Untold = c.table.ByAddress()
	}
	if out.Untold {
		c = nil
	}
	guard, err := e.Catalog.Guard(ctx, r.Source)
	if err != nil {
		return nil, err
	}
	out.Approval = slices.Contains(guard.Approve, catalog.ApproveRestores)
	if out.Cold, err = e.coldFor(ctx, r, segments); err != nil {
		return nil, err
	}
	x := &restoration{Engine: e, restore: r, kin: r.Target == TargetTable}
	for i := range segments {
		if segments[i].Asleep(e.Now()) {
			continue
		}
		m, err := x.member(ctx, &segments[i])
		if err != nil {
			return nil, err
		}
		p, err := x.pick(ctx, m.manifest)
		if err != nil {
			return nil, err
		}
		var key []int
		if c != nil {
			f, err := x.fitNow(ctx, m.manifest, c.table, r.Fit.V)
			if err != nil {
				return nil, err
			}
			for _, k := range c.table.Key {
				_, column := c.table.Column(k)
				key = append(key, f.from[slices.Index(f.to, column)])
			}
		}
		before := out.Rows
		looked := &handful{Chunk: value.Chunk{Width: len(m.manifest.Columns)}, manifest: m.manifest}
		look := func() error {
			old, err := x.staleOf(ctx, m.manifest, looked)
			for i := 0; err == nil && i < looked.Rows(); i++ {
				switch {
				case old != nil && old[i]:
					out.Stale++
				case c == nil:
					out.Rows++
				default:
					out.Rows++
					err = c.add(ctx, looked.Row(i), key)
				}
			}
			looked.Reset()
			looked.ordinals = looked.ordinals[:0]
			return err
		}
		_, err = p.each(ctx, e, m, slices.Concat(key, keyColumns(m.manifest)), func(ordinal int, row []value.Value) error {
			looked.Values, looked.ordinals = append(looked.Values, value.CloneRow(row[:looked.Width])...), append(looked.ordinals, ordinal)
			if looked.Rows() >= previewRows {
				return look()
			}
			return nil
		})
		if err = errors.Join(err, look()); err != nil {
			return nil, err
		}
		if out.Rows > before {
			out.Segments++
			out.Bytes += m.manifest.FileBytes
		}
	}
	if c != nil {
		err = c.look(ctx)
		out.Conflicts = c.found
	}
	return out, err
}

// previewRows is how many rows of a preview are compared with newer versions at a time.
const previewRows = 1000

// conflicts counts archived rows whose key is in their table.
type conflicts struct {
	source source.Source
	table  *shape.Table
	keys   [][]value.Value
	found  int64
}

// keyOf are the positions of the table's key among a segment's columns.
func (c *conflicts) keyOf(m *archive.Manifest) ([]int, error) {
	var out []int
	for _, k := range c.table.Key {
		i := slices.IndexFunc(m.Columns, func(x shape.Column) bool { return x.Name == k })
		if i < 0 {
			return nil, &refuse.Error{Message: fmt.Sprintf("segment %s has no column %q, which is in the key of table %s now", m.Segment, k, c.table.Name), Remedy: "restore to a file, or to a side table"}
		}
		out = append(out, i)
	}
	return out, nil
}

func (c *conflicts) add(ctx context.Context, row []value.Value, key []int) error {
	k := make([]value.Value, len(key))
	for i, at := range key {
		k[i] = row[at].Clone()
	}
	if c.keys = append(c.keys, k); len(c.keys) >= keysAtOnce {
		return c.look(ctx)
	}
	return nil
}

func (c *conflicts) look(ctx context.Context) error {
	if len(c.keys) == 0 {
		return nil
	}
	err := c.source.Related(ctx, source.Query{Selection: source.Selection{Table: c.table}, On: c.table.Key, Values: c.keys}, func([]value.Value) error { c.found++; return nil })
	c.keys = c.keys[:0]
	return err
}
