package engine

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
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
	"ambercellar/internal/engine/refuse"
)

// export writes restored rows to a file: CSV (RFC 4180), newline-delimited JSON, or Parquet.
type export struct {
	path, format string
	file         *os.File
	out          *bufio.Writer
	parquet      *archive.Writer
	columns      []shape.Column // of the first segment; later ones must have the same
	buf, line    []byte
}

func newExport(path, format string) (*export, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the restored file cannot be made: %w", err)
	}
	return &export{path: path, format: format, file: f, out: bufio.NewWriterSize(f, 256<<10)}, nil
}

// sync makes what was written so far durable.
func (x *export) sync() error {
	if err := x.out.Flush(); err != nil {
		return err
	}
	return x.file.Sync()
}

func (x *export) write(m *archive.Manifest, rows *value.Chunk) error {
	if x.columns == nil {
		x.columns = m.Columns
		if x.format == "parquet" {
			x.parquet = archive.NewWriter(x.out, m.Table, m.Carried())
		}
		if isCSV(x.format) {
			x.csvHead()
		}
	}
	if !sameColumns(x.columns, m.Columns) {
		return &refuse.Error{Message: fmt.Sprintf("segment %s has other columns than the segments before it, as the table was altered in between", m.Segment), Remedy: "restore its run or segment to a file of its own"}
	}
	if x.parquet != nil {
		return x.parquet.Write(rows)
	}
	for i := range rows.Rows() {
		if isCSV(x.format) {
			x.csvRow(rows.Row(i))
		} else {
			x.jsonRow(rows.Row(i))
		}
	}
	return nil
}

func sameColumns(a, b []shape.Column) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Name != b[i].Name || a[i].Kind != b[i].Kind || a[i].Precision != b[i].Precision || a[i].Scale != b[i].Scale {
			return false
		}
	}
	return true
}

func (x *export) csvHead() {
	for i, c := range x.columns {
		x.csvField([]byte(c.Name), i)
	}
	x.out.WriteString("\r\n")
}

// Formats of rows in files and streams. Those that others open with a spreadsheet can be had so that no text is a formula there.
const (
	formatCSV     = "csv"
	formatSafeCSV = "csv-safe"
	formatLines   = "ndjson"
	formatParquet = "parquet"
)

// checkFormat refuses what is no format of rows.
func checkFormat(format string) error {
	if slices.Contains([]string{formatCSV, formatSafeCSV, formatLines, formatParquet}, format) {
		return nil
	}
	return &refuse.Error{Field: "format", Message: fmt.Sprintf("%q is no format of rows", format), Remedy: "write csv, csv-safe, ndjson or parquet"}
}

func isCSV(format string) bool { return format == formatCSV || format == formatSafeCSV }

// loneNull stands for NULL where a row has one column alone: an empty line would be none to many readers. The text is quoted there.
const loneNull = "NULL"

// csvRow: NULL is an empty field, the empty text a pair of quotes.
func (x *export) csvRow(row []value.Value) {
	for i, v := range row {
		if v.Kind == value.Null {
			if i > 0 {
				x.out.WriteByte(',')
			} else if len(row) == 1 {
				x.out.WriteString(loneNull)
			}
			continue
		}
		x.buf = x.buf[:0]
		if x.format == formatSafeCSV && v.Kind == value.Text && len(v.B) > 0 && strings.IndexByte("=+-@\t\r", v.B[0]) >= 0 {
			x.buf = append(x.buf, '\'') // which spreadsheets take for the mark of a text
		}
		x.buf = v.AppendText(x.buf)
		x.csvField(x.buf, i)
	}
	x.out.WriteString("\r\n")
}

func (x *export) csvField(text []byte, i int) {
	if i > 0 {
		x.out.WriteByte(',')
	}
	if len(text) > 0 && !strings.ContainsAny(string(text), "\",\r\n ") && !(len(x.columns) == 1 && string(text) == loneNull) {
		x.out.Write(text)
		return
	}
	x.out.WriteByte('"')
	x.out.WriteString(strings.ReplaceAll(string(text), `"`, `""`))
	x.out.WriteByte('"')
}

// jsonRow writes numbers and booleans as such, NULL as null, and everything else as text: decimals too, since JSON
// readers round them. Text that is not UTF-8, which no JSON holds, is an object with its bytes in hexadecimal.
func (x *export) jsonRow(row []value.Value) { x.out.Write(x.jsonLine(row)) }

// jsonLine is that row; it is valid until the next call.
func (x *export) jsonLine(row []value.Value) []byte {
	line := x.line[:0]
	for i, v := range row {
		name, _ := json.Marshal(x.columns[i].Name) // strings always marshal
		if i == 0 {
			line = append(line, '{')
		} else {
			line = append(line, ',')
		}
		line = append(line, name...)
		line = append(line, ':')
		x.buf = v.AppendText(x.buf[:0])
		number := v.Kind == value.Int || v.Kind == value.Bool || (v.Kind == value.Float64 || v.Kind == value.Float32) && !math.IsInf(v.Float(), 0) && !math.IsNaN(v.Float())
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

// close completes the file, reads it back, and checks that it holds so many rows; of Parquet, the digest as well.
func (x *export) close(rows int64, want value.Set) (size int64, err error) {
	defer x.file.Close()
	if x.parquet != nil {
		if _, err := x.parquet.Close(); err != nil {
			return 0, err
		}
	}
	if err := x.out.Flush(); err != nil {
		return 0, err
	}
	if err := x.file.Sync(); err != nil {
		return 0, err
	}
	st, err := x.file.Stat()
	if err != nil {
		return 0, err
	}
	if _, err := x.file.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	got, set, err := x.readBack(st.Size(), rows)
	if err == nil && (got != rows || x.parquet != nil && set != want) {
		err = fmt.Errorf("%w: the file holds %d rows instead of %d, or other ones", refuse.ErrBooks, got, rows)
	}
	return st.Size(), err
}

func (x *export) readBack(size, rows int64) (n int64, set value.Set, err error) {
	switch {
	case x.columns == nil:
	case isCSV(x.format):
		r := csv.NewReader(bufio.NewReaderSize(x.file, 256<<10))
		r.ReuseRecord, r.FieldsPerRecord = true, len(x.columns)
		for n = -1; ; n++ {
			if _, err := r.Read(); err == io.EOF {
				return n, set, nil
			} else if err != nil {
				return n, set, err
			}
		}
	case x.format == "ndjson":
		d := json.NewDecoder(bufio.NewReaderSize(x.file, 256<<10))
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
		err = archive.Read(x.file, size, x.columns, rows, func(c *value.Chunk) error {
			for i := range c.Rows() {
				set.Add(hasher.Row(c.Row(i)))
			}
			return nil
		})
		n = set.Count
	}
	return n, set, err
}
