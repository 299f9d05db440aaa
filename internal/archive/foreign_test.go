package archive

import (
	"encoding/hex"
	"fmt"
	"math"
	"path/filepath"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
)

// foreign reads a value of a column as another library has it; ok is false for NULL.
func foreign(t *testing.T, column arrow.Array, row int) (v value.Value, ok bool) {
	t.Helper()
	if column.IsNull(row) {
		return v, false
	}
	switch c := column.(type) {
	case *array.Int64:
		return value.Of(c.Value(row)), true
	case *array.Float64:
		return value.OfFloat(c.Value(row)), true
	case *array.Float32:
		return value.OfFloat32(c.Value(row)), true
	case *array.Boolean:
		return value.OfBool(c.Value(row)), true
	case *array.String:
		return value.OfText(c.Value(row)), true
	case *array.Binary:
		return value.OfBytes(c.Value(row)), true
	case *array.Date32:
		return value.Value{Kind: value.Date, N: int64(c.Value(row))}, true
	case *array.Time64:
		return value.Value{Kind: value.Time, N: int64(c.Value(row))}, true
	case *array.Timestamp:
		kind := value.Timestamp
		if c.DataType().(*arrow.TimestampType).TimeZone == "UTC" {
			kind = value.Instant
		}
		return value.Value{Kind: kind, N: int64(c.Value(row))}, true
	case *array.Decimal128:
		d := c.DataType().(*arrow.Decimal128Type)
		return value.Value{Kind: value.Decimal, N: int64(c.Value(row).LowBits()), Scale: uint8(d.Scale)}, true
	case *array.FixedSizeBinary:
		return value.Value{Kind: value.UUID, B: c.Value(row)}, true
	case array.ExtensionArray:
		return foreign(t, c.Storage(), row)
	}
	t.Fatalf("a column of type %s", column.DataType())
	return v, false
}

// foreignTable reads a segment file with a Parquet library other than the one that writes.
func foreignTable(t *testing.T, path string) arrow.Table {
	t.Helper()
	p, err := file.OpenParquetFile(path, false)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	r, err := pqarrow.NewFileReader(p, pqarrow.ArrowReadProperties{BatchSize: 512}, memory.DefaultAllocator)
	if err != nil {
		t.Fatal(err)
	}
	table, err := r.ReadTable(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(table.Release)
	return table
}

// TestAnotherReaderSeesTheSameRows: a Parquet library other than the one that writes reads every row of a segment,
// with its types, value by value; what no Parquet type can hold is NULL there and stands in the companion column.
func TestAnotherReaderSeesTheSameRows(t *testing.T) {
	root := t.TempDir()
	st, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	m, want := write(t, st)
	table := foreignTable(t, filepath.Join(root, filepath.FromSlash(m.RowsName())))
	if table.NumRows() != int64(len(want)) || int(table.NumCols()) != len(m.Columns)+1 {
		t.Fatalf("%d rows of %d columns", table.NumRows(), table.NumCols())
	}
	kinds := map[string]string{"z": "int64", "fare": "decimal(9, 2)", "day": "date32", "at": "timestamp[us, tz=UTC]",
		"local": "timestamp[us]", "clock": "time64[us]"}
	exact := 0
	for i := range m.Columns {
		name := m.Columns[i].Name
		if got := table.Column(i); got.Name() != name || kinds[name] != "" && got.DataType().String() != kinds[name] {
			t.Errorf("column %d is %q of type %s", i, got.Name(), got.DataType())
		}
		row := 0
		for _, part := range table.Column(i).Data().Chunks() {
			for j := range part.Len() {
				w := want[row][i]
				got, there := foreign(t, part, j)
				switch {
				case !fits(&w, &m.Columns[i]):
					if exact++; there {
						t.Errorf("row %d, column %q: %s where %s cannot stand", row, name, got.Exact(), w.Exact())
					}
				case !there != (w.Kind == value.Null):
					t.Errorf("row %d, column %q: NULL is %v, and it is %s", row, name, !there, w.Exact())
				case there && !same(got, w):
					t.Errorf("row %d, column %q: %s instead of %s", row, name, got.Exact(), w.Exact())
				}
				row++
			}
		}
	}
	told := int64(0)
	for _, n := range m.Exact {
		told += n
	}
	if int64(exact) != told || exact == 0 {
		t.Errorf("%d values stand in the companion column, and the manifest tells of %d", exact, told)
	}
}

// same compares what another library read; decimals kept as text have no other form there.
func same(got, want value.Value) bool {
	switch {
	case want.Kind == value.Decimal && got.Kind == value.Text:
		return string(got.B) == string(want.AppendText(nil))
	case want.Kind == value.Float64 && math.IsNaN(want.Float()):
		return math.IsNaN(got.Float())
	case want.Kind == value.UUID:
		return hex.EncodeToString(got.B) == hex.EncodeToString(want.B)
	}
	return fmt.Sprint(got.Exact()) == want.Exact()
}
