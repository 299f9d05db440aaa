package archive

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Search says which rows of a segment are wanted, and which of their columns.
type Search struct {
	Filter  *filter.Filter // bound so that indexes are positions among the segment's columns; nil: every row
	Columns []int          // positions of the columns that are read of a row that is wanted
	Absent  int            // values that are NULL in each row, behind the columns: of columns that the segment does not have
}

// Scanned is what a search read: row groups passed over by their bounds, rows that the filter was asked about, and bytes.
type Scanned struct {
	Groups int   `json:"groups"`
	Passed int   `json:"passed"`
	Rows   int64 `json:"rows"`
	Bytes  int64 `json:"bytes"`
}

// Scan hands on the rows of a segment that a search wants, in order, with their ordinals; a row is valid only during the call.
// It reads no more of the file than its footer and what it needs: the filter's columns of the row groups that can hold such
// rows, and the other columns where there is one. What it reads is checked to decode, and not against the manifest's hash.
func Scan(ctx context.Context, st store.Store, m *Manifest, s Search, sink func(ordinal int, row []value.Value) error) (out Scanned, err error) {
	f, err := st.Open(ctx, m.RowsName())
	if err != nil {
		return out, segmentError(m, err)
	}
	defer f.Close()
	reader := &metered{ReaderAt: f}
	defer func() {
		out.Bytes = reader.n
		if r := recover(); r != nil { // the Parquet library panics on some damaged files
			err = segmentError(m, fmt.Errorf("%w: %v", ErrDamaged, r))
		}
	}()
	if f.Size() != m.FileBytes {
		return out, segmentError(m, fmt.Errorf("%w: it has %d bytes instead of %d", ErrDamaged, f.Size(), m.FileBytes))
	}
	file, err := openRows(reader, f.Size(), m.Columns, m.Rows)
	if err != nil {
		return out, segmentError(m, err)
	}
	ordinal := 0
	for i, g := range file.RowGroups() {
		out.Groups++
		if s.Filter != nil && !s.Filter.Over(func(c int) filter.Bound { return boundOf(g, m, c) }).Possibly() {
			out.Passed++
			ordinal += int(g.NumRows())
			continue
		}
		out.Rows += g.NumRows()
		x := &groupScan{group: g, manifest: m, search: s, first: ordinal, bytes: file.Metadata().RowGroups[i].TotalByteSize}
		if err := x.run(ctx, sink); err != nil {
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

// boundOf is what the footer tells of a column's values in a row group. Values that stand in the companion column are not
// in its bounds; neither is NaN, and of decimals kept as text the order is not theirs.
func boundOf(g parquet.RowGroup, m *Manifest, column int) filter.Bound {
	if column >= len(m.Columns) { // a column that the segment does not have
		return filter.Bound{}
	}
	c := &m.Columns[column]
	chunk, ok := g.ColumnChunks()[column].(*parquet.FileColumnChunk)
	if !ok || m.Exact[c.Name] > 0 || c.Kind == value.Float64 || c.Kind == value.Float32 || c.Kind == value.Decimal && !unscaled(c) {
		return filter.Bound{}
	}
	least, greatest, ok := chunk.Bounds()
	if !ok {
		return filter.Bound{}
	}
	return filter.Bound{Least: fromParquet(least, c).Clone(), Greatest: fromParquet(greatest, c).Clone(), Nulls: true, Known: true}
}

// groupScan searches one row group, block by block: first the filter's columns, then the others where a row is wanted.
type groupScan struct {
	group    parquet.RowGroup
	manifest *Manifest
	search   Search
	first    int // ordinal of the group's first row
	bytes    int64
	values   []parquet.Value
	lanes    []*lane // by column, the companion last; nil where not needed
}

// lane is a column's cursor and the row of the group that it stands at.
type lane struct {
	*cursor
	at int64
}

func (x *groupScan) lane(column int) *lane {
	if x.lanes[column] == nil {
		x.lanes[column] = &lane{cursor: &cursor{pages: x.group.ColumnChunks()[column].Pages()}}
	}
	return x.lanes[column]
}

// read hands on n values of a column from a row of the group on.
func (x *groupScan) read(column int, from int64, n int, fn func(int, parquet.Value)) error {
	l := x.lane(column)
	if l.at != from {
		if chunk, ok := x.group.ColumnChunks()[column].(*parquet.FileColumnChunk); ok {
			chunk.OffsetIndex() // where its pages lie, so that none has to be read on the way; without it the way is longer
		}
		if err := l.seek(from); err != nil {
			return err
		}
	}
	l.at = from + int64(n)
	return l.cursor.read(x.values[:n], fn)
}

func (x *groupScan) run(ctx context.Context, sink func(int, []value.Value) error) error {
	m := x.manifest
	width := len(m.Columns)
	x.lanes = make([]*lane, width+1)
	defer func() {
		for _, l := range x.lanes {
			if l != nil {
				l.close()
			}
		}
	}()
	judged := map[int]bool{}
	if x.search.Filter != nil {
		for _, r := range x.search.Filter.Columns() {
			if r.Index < width {
				judged[r.Index] = true
			}
		}
	}
	exact := int64(0)
	byName := make(map[string]int, width)
	for i := range m.Columns {
		byName[m.Columns[i].Name] = i
		exact += m.Exact[m.Columns[i].Name]
	}
	rows, most := x.group.NumRows(), int64(readRows)
	if rows > 0 && x.bytes/rows > readBytes/readRows {
		most = max(readBytes/(x.bytes/rows), 1)
	}
	x.values = make([]parquet.Value, most)
	block := &value.Chunk{Width: width + x.search.Absent}
	wanted := make([]bool, most)
	for from := int64(0); from < rows; from += most {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := int(min(most, rows-from))
		block.Reset()
		block.Values = append(block.Values, make([]value.Value, n*block.Width)...)
		companions := make(map[int]map[string]value.Value)
		if exact > 0 {
			var bad error
			if err := x.read(width, from, n, func(r int, p parquet.Value) {
				if p.IsNull() || bad != nil {
					return
				}
				row := make([]value.Value, width)
				if bad = readCompanion(p.ByteArray(), byName, row); bad == nil {
					companions[r] = map[string]value.Value{}
					for name, i := range byName {
						if row[i].Kind != value.Null {
							companions[r][name] = row[i]
						}
					}
				}
			}); err != nil || bad != nil {
				return x.damaged(width, errors.Join(err, bad))
			}
		}
		fill := func(column int) error {
			c := &m.Columns[column]
			err := x.read(column, from, n, func(r int, p parquet.Value) {
				v := fromParquet(p, c)
				if v.B != nil {
					v.B = block.Keep(v.B)
				}
				if e, ok := companions[r][c.Name]; ok {
					v = e
				}
				block.Values[r*block.Width+column] = v
			})
			if err != nil {
				return x.damaged(column, err)
			}
			return nil
		}
		for column := range judged {
			if err := fill(column); err != nil {
				return err
			}
		}
		some := false
		for r := range n {
			wanted[r] = x.search.Filter == nil || x.search.Filter.Eval(block.Row(r)).Only()
			some = some || wanted[r]
		}
		if !some {
			continue
		}
		for _, column := range x.search.Columns {
			if !judged[column] {
				if err := fill(column); err != nil {
					return err
				}
			}
		}
		for r := range n {
			if wanted[r] {
				if err := sink(x.first+int(from)+r, block.Row(r)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (x *groupScan) damaged(column int, err error) error {
	name := x.manifest.Companion
	if column < len(x.manifest.Columns) {
		name = x.manifest.Columns[column].Name
	}
	return segmentError(x.manifest, fmt.Errorf("%w: column %q: %w", ErrDamaged, name, err))
}

// openRows opens a segment file and compares its columns and rows with what the manifest tells.
func openRows(file io.ReaderAt, size int64, columns []shape.Column, rows int64) (*parquet.File, error) {
	f, err := parquet.OpenFile(file, size, parquet.SkipBloomFilters(true), parquet.SkipPageIndex(true), parquet.ReadBufferSize(256<<10))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	want := schema("", columns, nil).Columns()
	got := f.Schema().Columns()
	if len(got) != len(want) {
		return nil, fmt.Errorf("%w: it has %d columns instead of %d", ErrDamaged, len(got), len(want))
	}
	for i := range want {
		if len(got[i]) != 1 || got[i][0] != want[i][0] {
			return nil, fmt.Errorf("%w: column %d is %q instead of %q", ErrDamaged, i+1, got[i], want[i])
		}
	}
	if f.NumRows() != rows {
		return nil, fmt.Errorf("%w: it has %d rows instead of %d", ErrDamaged, f.NumRows(), rows)
	}
	return f, nil
}
