package archive

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// A row group ends at so many rows or bytes, which bounds what writing and reading hold in memory.
const (
	groupRows  = 65_536
	groupBytes = 8 << 20
)

// Writer writes one segment as a stream. It is not safe for concurrent use.
type Writer struct {
	table   string
	columns []shape.Column
	out     *counting
	//lint:ignore SA1019 columns are written one by one, which its successor does not offer
	file       *parquet.Writer // made with the first rows, which tell how columns are best encoded
	writers    []*parquet.ColumnWriter
	values     []parquet.Value // of a column, of the rows that are being written
	companions [][]byte        // of those rows
	groupRows  int
	groupBytes int
	rows       int64
	bytes      int64
	exact      map[string]int64
	carriers   []carrier
}

// Written is what was written: the file's size and SHA-256, the rows, their size before encoding, and how many
// values of each column went to the companion column.
type Written struct {
	Rows      int64            `json:"rows"`
	RawBytes  int64            `json:"raw_bytes"`
	FileBytes int64            `json:"file_bytes"`
	SHA256    string           `json:"sha256"`
	Exact     map[string]int64 `json:"exact,omitempty"`
	// geometries lie in their well-known binary form, and their SRIDs in the companion column
	WKB bool `json:"wkb,omitempty"`
}

type counting struct {
	io.Writer
	n       int64
	hash    hash.Hash
	breathe func()
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.n += int64(n)
	c.hash.Write(p[:n])
	if c.breathe != nil {
		c.breathe()
	}
	return n, err
}

// NewWriter begins a segment of a table's columns.
func NewWriter(out io.Writer, table string, columns []shape.Column) *Writer {
	return &Writer{table: table, columns: columns, carriers: carriers(columns),
		out:   &counting{Writer: out, hash: sha256.New()},
		exact: map[string]int64{}}
}

// Breathe has a function called between pieces of encoding.
func (w *Writer) Breathe(fn func()) { w.out.breathe = fn }

// begin begins the file. Text that hardly repeats in the first rows is written plainly: a dictionary of it costs more
// than it saves. Bytes, long text and the companion column get no least and greatest values: they would be kept whole,
// several times over.
func (w *Writer) begin(first *value.Chunk) {
	plain := map[string]bool{}
	options := []parquet.WriterOption{parquet.CreatedBy("ambercellar", "1", ""), parquet.PageBufferSize(256 << 10),
		parquet.DictionaryMaxBytes(1 << 20),
		parquet.SkipPageBounds(companionName(w.columns)), parquet.SkipPageStatistics(companionName(w.columns))}
	for i := range w.columns {
		c := &w.columns[i]
		long := first != nil && widest(first, i) > longText
		if first != nil && c.Kind == value.Text && (long || !repeats(first, i)) {
			plain[c.Name] = true
		}
		if c.Kind == value.Bytes || long || w.carriers[i].unordered() {
			options = append(options, parquet.SkipPageBounds(c.Name), parquet.SkipPageStatistics(c.Name))
		}
	}
	w.file = parquet.NewWriter(w.out, append(options, schema(w.table, w.columns, plain))...)
	w.writers = w.file.ColumnWriters()
}

// longText is how many bytes a value may have before its column gets no least and greatest values.
const longText = 4096

func widest(c *value.Chunk, column int) (n int) {
	for i := range c.Rows() {
		n = max(n, len(c.Row(i)[column].B))
	}
	return n
}

// repeats says whether a column's values are, by these rows, fewer than half as many as its rows.
func repeats(c *value.Chunk, column int) bool {
	seen, n := map[string]bool{}, 0
	for i := range c.Rows() {
		if v := c.Row(i)[column]; v.Kind != value.Null {
			seen[string(v.B)] = true
			n++
		}
	}
	return n < 16 || len(seen) < n/2
}

// Write appends a chunk of rows, column by column.
func (w *Writer) Write(chunk *value.Chunk) error {
	n := chunk.Rows()
	if n == 0 {
		return nil
	}
	if chunk.Width != len(w.columns) {
		return fmt.Errorf("archive: a chunk of %d columns for a segment of %d", chunk.Width, len(w.columns))
	}
	if w.file == nil {
		w.begin(chunk)
	}
	size := chunk.Size() + 8*len(chunk.Values)
	if w.groupRows > 0 && w.groupBytes+size > groupBytes {
		if err := w.flush(); err != nil {
			return err
		}
	}
	w.companions = slices.Grow(w.companions[:0], n)[:n]
	clear(w.companions)
	w.values = slices.Grow(w.values[:0], n)[:n]
	for i := range w.columns {
		w.column(chunk, i)
		if _, err := w.writers[i].WriteRowValues(w.values); err != nil {
			return err
		}
	}
	for r, b := range w.companions {
		if w.values[r] = (parquet.Value{}); b != nil {
			w.values[r] = parquet.ByteArrayValue(b)
			w.values[r].SetDefinitionLevel(1)
		}
	}
	if _, err := w.writers[len(w.columns)].WriteRowValues(w.values); err != nil {
		return err
	}
	w.rows, w.bytes = w.rows+int64(n), w.bytes+int64(size)
	w.groupRows, w.groupBytes = w.groupRows+n, w.groupBytes+size
	if w.groupRows >= groupRows || w.groupBytes >= groupBytes {
		return w.flush()
	}
	return nil
}

// column puts a column's values where they are written from, and what it cannot carry exactly into the companions of
// their rows. What most columns hold has a loop of its own here, which does just what carry does.
func (w *Writer) column(chunk *value.Chunk, i int) {
	c, k, values, out := &w.columns[i], w.carriers[i], chunk.Values, w.values
	first, last, whole := wholeRange(c)
	switch {
	case k == byKind && whole:
		for r, at := 0, i; at < len(values); r, at = r+1, at+chunk.Width {
			if v := &values[at]; v.Kind == c.Kind && v.N >= first && v.N <= last {
				out[r] = parquet.Int64Value(v.N)
				out[r].SetDefinitionLevel(1)
			} else {
				w.cell(r, i, v)
			}
		}
	case k == byKind && c.Kind == value.Text:
		for r, at := 0, i; at < len(values); r, at = r+1, at+chunk.Width {
			if v := &values[at]; v.Kind == value.Text && utf8.Valid(v.B) {
				out[r] = parquet.ByteArrayValue(v.B)
				out[r].SetDefinitionLevel(1)
			} else {
				w.cell(r, i, v)
			}
		}
	default:
		for r, at := 0, i; at < len(values); r, at = r+1, at+chunk.Width {
			w.cell(r, i, &values[at])
		}
	}
}

// cell puts one value of any kind where it is written from. What is not NULL is at the definition level of an optional
// column's values.
func (w *Writer) cell(row, column int, v *value.Value) {
	to, c, k := &w.values[row], &w.columns[column], w.carriers[column]
	*to = parquet.Value{}
	if v.Kind == value.Null {
		return
	}
	p, ok := k.carry(v, c)
	apart := ""
	if !ok {
		apart = v.Exact()
	} else {
		*to = p
		to.SetDefinitionLevel(1)
		if apart = k.apart(v); apart == "" {
			return
		}
	}
	w.companions[row] = appendCompanion(w.companions[row], c.Name, apart)
	w.exact[c.Name]++
}

// flush ends the row group.
func (w *Writer) flush() error {
	w.groupRows, w.groupBytes = 0, 0
	return w.file.Flush()
}

// Rows returns how many rows have been written.
func (w *Writer) Rows() int64 { return w.rows }

// Close writes what is left and the footer.
func (w *Writer) Close() (Written, error) {
	if w.file == nil {
		w.begin(nil)
	}
	if err := w.file.Close(); err != nil {
		return Written{}, err
	}
	return Written{Rows: w.rows, RawBytes: w.bytes, FileBytes: w.out.n,
			SHA256: hex.EncodeToString(w.out.hash.Sum(nil)), Exact: w.exact,
			WKB: slices.Contains(w.carriers, plainWKB)},
		nil
}

// ErrDamaged is wrapped by every error that says a stored file is not what was written.
var ErrDamaged = store.ErrDamaged

// damaged tells of a file that cannot be read that it is not what was written, unless the store is what failed: of
// such a file nobody can tell.
func damaged(err error) error {
	for _, other := range []error{store.ErrUnreachable, store.ErrAway, store.ErrForbidden, store.ErrMisspoken,
		store.ErrCold, context.Canceled, context.DeadlineExceeded, ErrDamaged} {
		if errors.Is(err, other) {
			return err
		}
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// Read hands on all rows of a segment file in order, in chunks valid only during the call. It trusts nothing that
// it reads: a file that does not decode to the columns and rows that the manifest tells of is ErrDamaged.
func Read(file io.ReaderAt, size int64, columns []shape.Column, rows int64, sink func(*value.Chunk) error) error {
	f, err := openRows(file, size, columns, rows)
	if err != nil {
		return err
	}
	for i, g := range f.RowGroups() {
		if err := readGroup(newGroupReader(g, f.Metadata().RowGroups[i].TotalByteSize, columns, true, 0),
			sink); err != nil {
			return err
		}
	}
	return nil
}

// readGroup hands on all rows of a row group.
func readGroup(x *groupReader, sink func(*value.Chunk) error) error {
	defer x.close()
	for {
		more, err := x.advance()
		if err != nil || !more {
			return err
		}
		for i := range x.columns {
			if err := x.fill(i); err != nil {
				return err
			}
		}
		if err := sink(&x.block); err != nil {
			return err
		}
	}
}
