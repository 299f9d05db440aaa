package archive

import (
	"errors"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// decoding calls what reads a foreign file with the Parquet library, which panics on some damaged ones. Nothing of
// ours that could fail for reasons of its own is called within: a mistake of ours must not be taken for damage.
func decoding(read func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			failed, ok := r.(error)
			if !ok {
				failed = fmt.Errorf("%v", r)
			}
			err = damaged(failed)
		}
	}()
	return read()
}

// openRows opens a segment file and compares its columns and rows with what the manifest tells.
func openRows(file io.ReaderAt, size int64, columns []shape.Column, rows int64) (f *parquet.File, err error) {
	err = decoding(func() error {
		f, err = openParquet(file, size, columns, rows)
		return err
	})
	return f, err
}

func openParquet(file io.ReaderAt, size int64, columns []shape.Column, rows int64) (*parquet.File, error) {
	f, err := parquet.OpenFile(file, size, parquet.SkipBloomFilters(true), parquet.SkipPageIndex(true),
		parquet.ReadBufferSize(256<<10))
	if err != nil {
		return nil, damaged(err)
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

// So many rows are read at a time, or fewer where rows are wide.
const readRows, readBytes = 256, 2 << 20

// groupReader reads a row group block by block, and of each block the columns that are asked for.
type groupReader struct {
	group     parquet.RowGroup
	columns   []shape.Column
	companion bool // some values stand in the companion column
	byName    map[string]int
	block     value.Chunk // the present rows; what has not been read of them is NULL
	from      int64       // the block's first row in the group
	next      int64
	most      int64
	values    []parquet.Value
	exact     map[int][]value.Value // by row of the block, what the companion column holds
	lanes     []*lane               // by column, the companion last; nil until it is read
}

// lane is a column's cursor and the row of the group that it stands at.
type lane struct {
	cursor
	at int64
}

// newGroupReader reads a row group of so many bytes. Rows have more values than columns by absent, which stay NULL.
func newGroupReader(g parquet.RowGroup, bytes int64, columns []shape.Column, companion bool, absent int) *groupReader {
	x := &groupReader{group: g, columns: columns, companion: companion, byName: make(map[string]int, len(columns)),
		most: readRows, lanes: make([]*lane, len(columns)+1)}
	for i := range columns {
		x.byName[columns[i].Name] = i
	}
	if rows := g.NumRows(); rows > 0 && bytes/rows > readBytes/readRows {
		x.most = max(readBytes/(bytes/rows), 1)
	}
	x.values = make([]parquet.Value, x.most)
	x.block.Width = len(columns) + absent
	return x
}

// advance goes to the next block; false: there is none.
func (x *groupReader) advance() (bool, error) {
	x.from = x.next
	n := min(x.most, x.group.NumRows()-x.from)
	if n <= 0 {
		return false, nil
	}
	x.next = x.from + n
	x.block.Reset()
	x.block.Values = append(x.block.Values, make([]value.Value, int(n)*x.block.Width)...)
	if !x.companion {
		return true, nil
	}
	clear(x.exact)
	var bad error
	err := x.read(len(x.columns), func(from int, values []parquet.Value) {
		for i, p := range values {
			if p.IsNull() || bad != nil {
				continue
			}
			if x.exact == nil {
				x.exact = map[int][]value.Value{}
			}
			exact := make([]value.Value, len(x.columns))
			x.exact[from+i] = exact
			bad = readCompanion(p.ByteArray(), x.byName, exact)
		}
	})
	if err = errors.Join(err, bad); err != nil {
		return false, damaged(err)
	}
	return true, nil
}

// fill reads a column of the block.
func (x *groupReader) fill(column int) error {
	c := &x.columns[column]
	k := carrierIn(c, x.group.ColumnChunks()[column].Type())
	width, kind := x.block.Width, c.Kind
	_, _, whole := wholeRange(c)
	err := x.read(column, func(from int, values []parquet.Value) {
		block := x.block.Values[from*width+column:]
		switch {
		case k == byKind && whole:
			for i := range values {
				if p := &values[i]; !p.IsNull() {
					block[i*width] = value.Value{Kind: kind, N: p.Int64()}
				}
			}
		case (k == byKind || k == jsonText) && kind == value.Text:
			for i := range values {
				if p := &values[i]; !p.IsNull() {
					block[i*width] = value.Value{Kind: kind, B: x.block.Keep(p.ByteArray())}
				}
			}
		default:
			for i := range values {
				v := k.uncarry(values[i], c)
				if v.B != nil {
					v.B = x.block.Keep(v.B)
				}
				block[i*width] = v
			}
		}
	})
	for r, e := range x.exact {
		if e[column].Kind != value.Null {
			v := &x.block.Values[r*width+column]
			*v = k.together(*v, e[column])
		}
	}
	if err != nil {
		return damaged(fmt.Errorf("column %q: %w", c.Name, err))
	}
	return nil
}

// read hands on a column's values of the block.
func (x *groupReader) read(column int, fn func(from int, values []parquet.Value)) error {
	return decoding(func() error { return x.readColumn(column, fn) })
}

func (x *groupReader) readColumn(column int, fn func(int, []parquet.Value)) error {
	chunk := x.group.ColumnChunks()[column]
	if x.lanes[column] == nil {
		x.lanes[column] = &lane{cursor: cursor{pages: chunk.Pages()}}
	}
	l := x.lanes[column]
	if l.at != x.from {
		if c, ok := chunk.(*parquet.FileColumnChunk); ok {
			// where its pages lie, so that none has to be read on the way; without it the way is longer
			c.OffsetIndex()
		}
		if err := l.seek(x.from); err != nil {
			return err
		}
	}
	l.at = x.next
	return l.cursor.read(x.values[:x.next-x.from], fn)
}

func (x *groupReader) close() {
	for _, l := range x.lanes {
		if l != nil {
			l.close()
		}
	}
}

// cursor reads the values of one column, page by page.
type cursor struct {
	pages  parquet.Pages
	page   parquet.Page
	values parquet.ValueReader
}

// read hands on as many values as buffer holds, some at a time, with how many came before; they are valid only during
// the call.
func (c *cursor) read(buffer []parquet.Value, fn func(int, []parquet.Value)) error {
	for at := 0; at < len(buffer); {
		if c.values == nil {
			page, err := c.pages.ReadPage()
			if err != nil {
				return err
			}
			c.page, c.values = page, page.Values()
		}
		n, err := c.values.ReadValues(buffer[at:])
		fn(at, buffer[at:at+n])
		at += n
		if err == io.EOF {
			parquet.Release(c.page)
			c.page, c.values = nil, nil
		} else if err != nil {
			return err
		}
	}
	return nil
}

// seek goes to a row of the column's row group.
func (c *cursor) seek(row int64) error {
	if c.page != nil {
		parquet.Release(c.page)
		c.page, c.values = nil, nil
	}
	return c.pages.SeekToRow(row)
}

func (c *cursor) close() {
	if c.page != nil {
		parquet.Release(c.page)
	}
	c.pages.Close()
}
