package export

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// export writes restored rows to a file: CSV (RFC 4180), newline-delimited JSON, or Parquet.
type File struct {
	Path, Format string
	File         *os.File
	Out          *bufio.Writer
	Parquet      *archive.Writer
	Columns      []shape.Column // of the first segment; later ones must have the same
	buf, line    []byte
}

func New(path, format string) (*File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the restored file cannot be made: %w", err)
	}
	return &File{Path: path, Format: format, File: f, Out: bufio.NewWriterSize(f, 256<<10)}, nil
}

// Sync makes what was written so far durable.
func (x *File) Sync() error {
	if err := x.Out.Flush(); err != nil {
		return err
	}
	return x.File.Sync()
}

func (x *File) Write(m *archive.Manifest, rows *value.Chunk) error {
	if x.Columns == nil {
		x.Columns = m.Columns
		if x.Format == "parquet" {
			x.Parquet = archive.NewWriter(x.Out, m.Table, m.Carried())
		}
		if IsCSV(x.Format) {
			x.CsvHead()
		}
	}
	if !SameColumns(x.Columns, m.Columns) {
		return &MixedError{m.Segment}
	}
	if x.Parquet != nil {
		return x.Parquet.Write(rows)
	}
	for i := range rows.Rows() {
		if IsCSV(x.Format) {
			x.CsvRow(rows.Row(i))
		} else {
			x.JsonRow(rows.Row(i))
		}
	}
	return nil
}

func SameColumns(a, b []shape.Column) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Name != b[i].Name || a[i].Kind != b[i].Kind || a[i].Precision != b[i].Precision ||
			a[i].Scale != b[i].Scale {
			return false
		}
	}
	return true
}

func (x *File) CsvHead() {
	for i, c := range x.Columns {
		x.csvField([]byte(c.Name), i)
	}
	x.Out.WriteString("\r\n")
}

// Formats of rows in files and streams. Those that others open with a spreadsheet can be had so that no text is a
// formula there.
const (
	CSV     = "csv"
	SafeCSV = "csv-safe"
	Lines   = "ndjson"
	Parquet = "parquet"
)

// Known says whether a text names a format of rows.
func Known(format string) bool {
	return slices.Contains([]string{CSV, SafeCSV, Lines, Parquet}, format)
}

// MixedError says that a segment has other columns than those before it in a file.
type MixedError struct{ Segment string }

func (e *MixedError) Error() string {
	return "segment " + e.Segment +
		" has other columns than the segments before it, as the table was altered in between"
}

// ErrDiffers says that a file, read back, does not hold what was written.
var ErrDiffers = errors.New("the file does not hold what was written")

// IsCSV says whether a format is one of CSV.
func IsCSV(format string) bool { return format == CSV || format == SafeCSV }

// loneNull stands for NULL where a row has one column alone: an empty line would be none to many readers. The text is
// quoted there.
const loneNull = "NULL"

// CsvRow: NULL is an empty field, the empty text a pair of quotes.
func (x *File) CsvRow(row []value.Value) {
	for i, v := range row {
		if v.Kind == value.Null {
			if i > 0 {
				x.Out.WriteByte(',')
			} else if len(row) == 1 {
				x.Out.WriteString(loneNull)
			}
			continue
		}
		x.buf = x.buf[:0]
		if x.Format == SafeCSV && v.Kind == value.Text && len(v.B) > 0 && strings.IndexByte("=+-@\t\r", v.B[0]) >= 0 {
			x.buf = append(x.buf, '\'') // which spreadsheets take for the mark of a text
		}
		x.buf = v.AppendText(x.buf)
		x.csvField(x.buf, i)
	}
	x.Out.WriteString("\r\n")
}

func (x *File) csvField(text []byte, i int) {
	if i > 0 {
		x.Out.WriteByte(',')
	}
	if len(text) > 0 && !strings.ContainsAny(string(text), "\",\r\n ") &&
		!(len(x.Columns) == 1 && string(text) == loneNull) {
		x.Out.Write(text)
		return
	}
	x.Out.WriteByte('"')
	x.Out.WriteString(strings.ReplaceAll(string(text), `"`, `""`))
	x.Out.WriteByte('"')
}

// JsonRow writes numbers and booleans as such, NULL as null, and everything else as text: decimals too, since JSON
// readers round them. Text that is not UTF-8, which no JSON holds, is an object with its bytes in hexadecimal.
func (x *File) JsonRow(row []value.Value) { x.Out.Write(x.JsonLine(row)) }

// JsonLine is that row; it is valid until the next call.
func (x *File) JsonLine(row []value.Value) []byte {
	line := x.line[:0]
	for i, v := range row {
		name, _ := json.Marshal(x.Columns[i].Name) // strings always marshal
		if i == 0 {
			line = append(line, '{')
		} else {
			line = append(line, ',')
		}
		line = append(line, name...)
		line = append(line, ':')
		x.buf = v.AppendText(x.buf[:0])
		number := v.Kind == value.Int || v.Kind == value.Bool ||
			(v.Kind == value.Float64 || v.Kind == value.Float32) && !math.IsInf(v.Float(), 0) && !math.IsNaN(v.Float())
		switch {
		case v.Kind == value.Null:
			line = append(line, "null"...)
		case number:
			line = append(line, x.buf...)
		case !utf8.Valid(x.buf):
			line = fmt.Appendf(line, `{"texthex":"%x"}`, x.buf)
		default:
			text, _ := json.Marshal(string(x.buf))
			line = append(line, text...)
		}
	}
	x.line = append(line, "}\n"...)
	return x.line
}

// Close completes the file, reads it back, and checks that it holds so many rows; of Parquet, the digest as well.
func (x *File) Close(rows int64, want value.Set) (size int64, err error) {
	defer x.File.Close()
	if x.Parquet != nil {
		if _, err := x.Parquet.Close(); err != nil {
			return 0, err
		}
	}
	if err := x.Out.Flush(); err != nil {
		return 0, err
	}
	if err := x.File.Sync(); err != nil {
		return 0, err
	}
	st, err := x.File.Stat()
	if err != nil {
		return 0, err
	}
	if _, err := x.File.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	got, set, err := x.readBack(st.Size(), rows)
	if err == nil && (got != rows || x.Parquet != nil && set != want) {
		err = fmt.Errorf("%w: it holds %d rows instead of %d, or other ones", ErrDiffers, got, rows)
	}
	return st.Size(), err
}

func (x *File) readBack(size, rows int64) (n int64, set value.Set, err error) {
	switch {
	case x.Columns == nil:
	case IsCSV(x.Format):
		r := csv.NewReader(bufio.NewReaderSize(x.File, 256<<10))
		r.ReuseRecord, r.FieldsPerRecord = true, len(x.Columns)
		for n = -1; ; n++ {
			if _, err := r.Read(); err == io.EOF {
				return n, set, nil
			} else if err != nil {
				return n, set, err
			}
		}
	case x.Format == "ndjson":
		d := json.NewDecoder(bufio.NewReaderSize(x.File, 256<<10))
		for ; ; n++ {
			var row map[string]json.RawMessage
			if err := d.Decode(&row); err == io.EOF {
				return n, set, nil
			} else if err != nil {
				return n, set, err
			}
		}
	default:
		var hasher value.Hasher
		err = archive.Read(x.File, size, x.Columns, rows, func(c *value.Chunk) error {
			for i := range c.Rows() {
				set.Add(hasher.Row(c.Row(i)))
			}
			return nil
		})
		n = set.Count
	}
	return n, set, err
}
