package archive

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"math"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
	"ambercellar/internal/dbtest/duck"
)

// asText is how an engine writes the values of a type of its own so that nothing is lost, %s being the column. Other
// types are cast.
var asText = map[string]string{"BLOB": "hex(%s)", "GEOMETRY": "hex(CAST(%s AS BLOB))",
	"DATE": "CAST(%s - DATE '1970-01-01' AS VARCHAR)", "TIME": "CAST(epoch_us(%s) AS VARCHAR)",
	"TIMESTAMP": "CAST(epoch_us(%s) AS VARCHAR)", "TIMESTAMP WITH TIME ZONE": "CAST(epoch_us(%s) AS VARCHAR)"}

// foreignColumn is a column of a segment file as another engine has it.
type foreignColumn struct {
	name, kind string
	values     []*string // nil: NULL
}

// foreignTable reads a segment file with another engine than the library that writes.
func foreignTable(t *testing.T, path string) (out []foreignColumn) {
	t.Helper()
	engine := duck.Install(t)
	file := "read_parquet('" + path + "', file_row_number = true)"
	var columns []string
	for _, row := range engine.Ask(t, ".", "DESCRIBE SELECT * FROM "+file)[0] {
		c := foreignColumn{name: fmt.Sprint(row["column_name"]), kind: fmt.Sprint(row["column_type"])}
		if c.name == "file_row_number" {
			continue
		}
		form := cmp.Or(asText[c.kind], "CAST(%s AS VARCHAR)")
		columns = append(columns, fmt.Sprintf(form+" AS c%d", `"`+strings.ReplaceAll(c.name, `"`, `""`)+`"`, len(out)))
		out = append(out, c)
	}
	for _, row := range engine.Ask(t, ".", "SELECT "+strings.Join(columns, ", ")+" FROM "+file+
		" ORDER BY file_row_number")[0] {
		for i := range out {
			var v *string
			if text, ok := row[fmt.Sprint("c", i)].(string); ok {
				v = &text
			}
			out[i].values = append(out[i].values, v)
		}
	}
	return out
}

// value is what the other engine has in a row; ok is false for NULL.
func (c *foreignColumn) value(t *testing.T, row int) (v value.Value, ok bool) {
	t.Helper()
	if c.values[row] == nil {
		return v, false
	}
	text := *c.values[row]
	number := func() int64 {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			t.Fatalf("column %s of type %s: %v", c.name, c.kind, err)
		}
		return n
	}
	float := func(bits int) float64 {
		f, err := strconv.ParseFloat(text, bits)
		if err != nil {
			t.Fatalf("column %s of type %s: %v", c.name, c.kind, err)
		}
		return f
	}
	unhex := func(text string) []byte {
		b, err := hex.DecodeString(text)
		if err != nil {
			t.Fatalf("column %s of type %s: %v", c.name, c.kind, err)
		}
		return b
	}
	switch kind, _, _ := strings.Cut(c.kind, "("); kind {
	case "BIGINT":
		v = value.Of(number())
	case "DOUBLE":
		v = value.OfFloat(float(64))
	case "FLOAT":
		v = value.OfFloat32(float32(float(32)))
	case "BOOLEAN":
		v = value.OfBool(text == "true")
	case "VARCHAR", "DECIMAL":
		v = value.OfText(text)
	case "BLOB":
		v = value.OfBytes(unhex(text))
	case "DATE":
		v = value.Value{Kind: value.Date, N: number()}
	case "TIME":
		v = value.Value{Kind: value.Time, N: number()}
	case "TIMESTAMP":
		v = value.Value{Kind: value.Timestamp, N: number()}
	case "TIMESTAMP WITH TIME ZONE":
		v = value.Value{Kind: value.Instant, N: number()}
	case "UUID":
		v = value.Value{Kind: value.UUID, B: unhex(strings.ReplaceAll(text, "-", ""))}
	default:
		t.Fatalf("a column of type %s", c.kind)
	}
	return v, true
}

// TestAnotherReaderSeesTheSameRows: an engine that knows nothing of the library that writes reads every row of a
// segment, with its types, value by value; what no Parquet type can hold is NULL there and stands in the companion
// column.
func TestAnotherReaderSeesTheSameRows(t *testing.T) {
	root := t.TempDir()
	st, err := store.MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	m, want := write(t, st)
	table := foreignTable(t, filepath.Join(root, filepath.FromSlash(m.RowsName())))
	if len(table) != len(m.Columns)+1 || len(table[0].values) != len(want) {
		t.Fatalf("%d columns of %d rows", len(table), len(table[0].values))
	}
	kinds := map[string]string{"z": "BIGINT", "fare": "DECIMAL(9,2)", "day": "DATE", "clock": "TIME",
		"at": "TIMESTAMP WITH TIME ZONE", "local": "TIMESTAMP", "größe": "UUID"}
	exact := 0
	for i := range m.Columns {
		name := m.Columns[i].Name
		if got := &table[i]; got.name != name || kinds[name] != "" && got.kind != kinds[name] {
			t.Errorf("column %d is %q of type %s", i, got.name, got.kind)
		}
		for row := range want {
			w := want[row][i]
			got, there := table[i].value(t, row)
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

// same compares what another engine read; decimals kept as text have no other form there.
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
