package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/parquet-go/parquet-go"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/value"
)

// Search says which rows of a segment are wanted, and which of their columns.
type Search struct {
	Filter  *filter.Filter // bound so that indexes are positions among the segment's columns; nil: every row
	Columns []int          // positions of the columns that are read of a row that is wanted
	// values that are NULL in each row, behind the columns: of columns that the segment does not have
	Absent int
	Bounds *Bounds // what an earlier search learnt of the segment; nil: nothing
}

// Bounds are what the footer of a segment's file tells: the rows of each row group, and the least and greatest values
// of its columns. They never change, as the file never does.
type Bounds struct{ groups []groupBounds }

type groupBounds struct {
	rows    int64
	columns []filter.Bound
}

// possibly says whether a row group can hold a row for which a filter is true; nil: every row.
func (g *groupBounds) possibly(f *filter.Filter) bool {
	return f == nil || f.Over(func(c int) filter.Bound {
		if c >= len(g.columns) { // a column that the segment does not have
			return filter.Bound{}
		}
		return g.columns[c]
	}).Possibly()
}

// boundsOf reads them from the footer.
func boundsOf(file *parquet.File, m *Manifest) (*Bounds, error) {
	b := &Bounds{}
	return b, decoding(func() error {
		for _, g := range file.RowGroups() {
			x := groupBounds{rows: g.NumRows(), columns: make([]filter.Bound, len(m.Columns))}
			for c := range x.columns {
				x.columns[c] = boundOf(g, m, c)
			}
			b.groups = append(b.groups, x)
		}
		return nil
	})
}

// Scanned is what a search read: row groups passed over by their bounds, rows that the filter was asked about, and
// bytes.
type Scanned struct {
	Groups int   `json:"groups"`
	Passed int   `json:"passed"`
	Rows   int64 `json:"rows"`
	Bytes  int64 `json:"bytes"`

	Bounds *Bounds `json:"-"` // for the next search
}

// Scan hands on the rows of a segment that a search wants, in order, with their ordinals; a row is valid only during
// the call. It reads no more of the file than its footer and what it needs: the filter's columns of the row groups
// that can hold such rows, and the other columns where there is one. What it reads is checked to decode, and not
// against the manifest's hash.
func Scan(ctx context.Context, st store.Store, m *Manifest, s Search,
	sink func(ordinal int, row []value.Value) error) (out Scanned, err error) {
	if out.Bounds = s.Bounds; s.Bounds != nil &&
		!slices.ContainsFunc(s.Bounds.groups, func(g groupBounds) bool { return g.possibly(s.Filter) }) {
		out.Groups, out.Passed = len(s.Bounds.groups), len(s.Bounds.groups)
		return out, nil
	}
	f, err := st.Open(ctx, m.RowsName())
	if err != nil {
		return out, segmentError(m, err)
	}
	defer f.Close()
	reader := &metered{ReaderAt: f}
	defer func() { out.Bytes = reader.n }()
	if f.Size() != m.FileBytes {
		return out, segmentError(m, fmt.Errorf("%w: it has %d bytes instead of %d", ErrDamaged, f.Size(), m.FileBytes))
	}
	file, err := openRows(reader, f.Size(), m.Columns, m.Rows)
	if err != nil {
		return out, segmentError(m, err)
	}
	if out.Bounds == nil {
		if out.Bounds, err = boundsOf(file, m); err != nil {
			return out, segmentError(m, err)
		}
	}
	companion := false
	for _, n := range m.Exact {
		companion = companion || n > 0
	}
	ordinal := 0
	for i, g := range file.RowGroups() {
		out.Groups++
		if !out.Bounds.groups[i].possibly(s.Filter) {
			out.Passed++
			ordinal += int(g.NumRows())
			continue
		}
		out.Rows += g.NumRows()
		x := newGroupReader(g, file.Metadata().RowGroups[i].TotalByteSize, m.Laid(m.Columns), companion, s.Absent)
		if err := scanGroup(ctx, x, s, ordinal, sink); errors.Is(err, ErrDamaged) {
			return out, segmentError(m, err)
		} else if err != nil {
			return out, err
		}
		ordinal += int(g.NumRows())
	}
	return out, nil
}

// metered counts what is read.
type metered struct {
	io.ReaderAt
	n int64
}

func (r *metered) ReadAt(p []byte, at int64) (int, error) {
	n, err := r.ReaderAt.ReadAt(p, at)
	r.n += int64(n)
	return n, err
}

// boundOf is what the footer tells of a column's values in a row group. Values that stand in the companion column are
// not in its bounds; neither is NaN, and of decimals kept as text the order is not theirs.
func boundOf(g parquet.RowGroup, m *Manifest, column int) filter.Bound {
	c := &m.Columns[column]
	chunk, ok := g.ColumnChunks()[column].(*parquet.FileColumnChunk)
	if !ok || m.Exact[c.Name] > 0 || c.Kind == value.Float64 || c.Kind == value.Float32 || c.Kind == value.Decimal &&
		!unscaled(c) {
		return filter.Bound{}
	}
	k := carrierIn(c, chunk.Type())
	least, greatest, ok := chunk.Bounds()
	if !ok {
		return filter.Bound{}
	}
	return filter.Bound{Least: k.uncarry(least, c).Clone(), Greatest: k.uncarry(greatest, c).Clone(), Nulls: true,
		Known: true}
}

// scanGroup searches one row group: of each block first the filter's columns, then the others where a row is wanted.
// first is the ordinal of the group's first row.
func scanGroup(ctx context.Context, x *groupReader, s Search, first int, sink func(int, []value.Value) error) error {
	defer x.close()
	var judged, others []int
	if s.Filter != nil {
		for _, r := range s.Filter.Columns() {
			if r.Index < len(x.columns) && !slices.Contains(judged, r.Index) {
				judged = append(judged, r.Index)
			}
		}
	}
	for _, c := range s.Columns {
		if !slices.Contains(judged, c) {
			others = append(others, c)
		}
	}
	var wanted []int
	for {
		more, err := x.advance()
		if err = errors.Join(err, ctx.Err()); err != nil || !more {
			return err
		}
		for _, c := range judged {
			if err := x.fill(c); err != nil {
				return err
			}
		}
		wanted = wanted[:0]
		for r := range x.block.Rows() {
			if s.Filter == nil || s.Filter.Eval(x.block.Row(r)).Only() {
				wanted = append(wanted, r)
			}
		}
		if len(wanted) == 0 {
			continue
		}
		for _, c := range others {
			if err := x.fill(c); err != nil {
				return err
			}
		}
		for _, r := range wanted {
			if err := sink(first+int(x.from)+r, x.block.Row(r)); err != nil {
				return err
			}
		}
	}
}
