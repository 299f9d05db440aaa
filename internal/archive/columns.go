// Package archive writes and reads segments: Parquet files of rows, each with a manifest and, once its rows have
// been deleted, a closing record beside it. It knows nothing of databases; where files lie is the business of the
// store package below it.
package archive

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go"
	parquetzstd "github.com/parquet-go/parquet-go/compress/zstd"
	"github.com/parquet-go/parquet-go/encoding"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// compression is zstd at the library's default level: with typed columns the next one gains a few percent of the size
// for twice the time.
var compression = &codec{encoder: encoder()}

// codec is the Parquet library's, with an encoder that also packs text in which nothing repeats but the letters, such
// as hexadecimal digits: half of its size.
type codec struct {
	parquetzstd.Codec
	encoder *zstd.Encoder // EncodeAll may be called concurrently
}

func encoder() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(2),
		zstd.WithWindowSize(1<<20), zstd.WithZeroFrames(true), zstd.WithEncoderCRC(false),
		zstd.WithAllLitEntropyCompression(true))
	if err != nil {
		panic(err) // the options above do not depend on anything
	}
	return e
}

func (c *codec) Encode(dst, src []byte) ([]byte, error) {
	return c.encoder.EncodeAll(src, dst[:0]), nil
}

// The range of dates that readers of Parquet agree on: 0001-01-01 to 9999-12-31, in days and microseconds since 1970.
const (
	firstDay, lastDay       = -719_162, 2_932_896
	firstMicro, behindMicro = firstDay * 86_400_000_000, (lastDay + 1) * 86_400_000_000
)

// node returns the Parquet column for a table's column. Every column is optional, since what it cannot hold exactly
// goes to the companion column. plain asks for no dictionary.
func node(c *shape.Column, plain bool) parquet.Node {
	var n parquet.Node
	var enc encoding.Encoding
	switch k := carrierOf(c); k {
	case wide:
		return parquet.Optional(parquet.Decimal(c.Scale, c.Precision, parquet.FixedLenByteArrayType(wideBytes)))
	case unsigned:
		return parquet.Optional(parquet.Encoded(parquet.Uint(64), &parquet.DeltaBinaryPacked))
	case uuidText:
		return parquet.Optional(parquet.UUID())
	case timeText:
		return parquet.Optional(parquet.Encoded(parquet.TimeAdjusted(parquet.Microsecond, false),
			&parquet.DeltaBinaryPacked))
	case oneBit:
		return parquet.Optional(parquet.Leaf(parquet.BooleanType))
	case jsonText:
		if plain {
			return parquet.Optional(parquet.Encoded(parquet.JSON(), &parquet.DeltaLengthByteArray))
		}
		return parquet.Optional(parquet.Encoded(parquet.JSON(), &parquet.RLEDictionary))
	}
	switch c.Kind {
	case value.Int:
		n, enc = parquet.Int(64), &parquet.DeltaBinaryPacked
	case value.Float64:
		n = parquet.Leaf(parquet.DoubleType)
	case value.Float32:
		n = parquet.Leaf(parquet.FloatType)
	case value.Bool:
		n = parquet.Leaf(parquet.BooleanType)
	case value.Decimal:
		if unscaled(c) {
			n, enc = parquet.Decimal(c.Scale, c.Precision, decimalType(c)), &parquet.DeltaBinaryPacked
		} else {
			n, enc = parquet.String(), &parquet.RLEDictionary
		}
	case value.Bytes:
		n = parquet.Leaf(parquet.ByteArrayType)
	case value.Date:
		n, enc = parquet.Date(), &parquet.DeltaBinaryPacked
	case value.Time:
		n, enc = parquet.TimeAdjusted(parquet.Microsecond, false), &parquet.DeltaBinaryPacked
	case value.Timestamp:
		n, enc = parquet.TimestampAdjusted(parquet.Microsecond, false), &parquet.DeltaBinaryPacked
	case value.Instant:
		n, enc = parquet.Timestamp(parquet.Microsecond), &parquet.DeltaBinaryPacked
	case value.UUID:
		n = parquet.UUID()
	default:
		n, enc = parquet.String(), &parquet.RLEDictionary
	}
	if plain {
		enc = &parquet.DeltaLengthByteArray
	}
	if enc != nil {
		n = parquet.Encoded(n, enc)
	}
	return parquet.Optional(n)
}

// decimalType is the integer that a decimal's precision asks for (Parquet format, LogicalTypes, DECIMAL).
func decimalType(c *shape.Column) parquet.Type {
	if c.Precision <= 9 {
		return parquet.Int32Type
	}
	return parquet.Int64Type
}

// unscaled says whether a decimal column's values are archived as integers.
func unscaled(c *shape.Column) bool {
	return c.Precision > 0 && c.Precision <= 18 && c.Scale >= 0 && c.Scale <= c.Precision
}

// fits says whether a Parquet column holds the value exactly.
func fits(v *value.Value, c *shape.Column) bool {
	if v.Kind == value.Null {
		return true
	}
	if v.Kind != c.Kind {
		return false
	}
	switch v.Kind {
	case value.Text:
		return utf8.Valid(v.B)
	case value.Decimal:
		if unscaled(c) {
			return v.B == nil && int(v.Scale) == c.Scale
		}
		return true
	case value.Date:
		return v.N >= firstDay && v.N <= lastDay
	case value.Time, value.Timestamp, value.Instant:
		first, last, _ := wholeRange(c)
		return v.N >= first && v.N <= last
	case value.UUID:
		return len(v.B) == 16
	}
	return true
}

// wholeRange is the range of a column's values that lie as whole numbers of 64 bits in the file and that it holds
// exactly; false: they do not lie so, or not by their kind alone.
func wholeRange(c *shape.Column) (first, last int64, whole bool) {
	switch c.Kind {
	case value.Int:
		return math.MinInt64, math.MaxInt64, true
	case value.Time:
		return math.MinInt64, 86_400_000_000 - 1, true
	case value.Timestamp, value.Instant:
		return firstMicro, behindMicro - 1, true
	}
	return 0, 0, false
}

// toParquet turns a value that fits into the column's Parquet value. Its bytes are shared.
func toParquet(v *value.Value, c *shape.Column) parquet.Value {
	switch v.Kind {
	case value.Int, value.Time, value.Timestamp, value.Instant:
		return parquet.Int64Value(v.N)
	case value.Float64:
		return parquet.DoubleValue(v.Float())
	case value.Float32:
		return parquet.FloatValue(float32(v.Float()))
	case value.Bool:
		return parquet.BooleanValue(v.N != 0)
	case value.Date:
		return parquet.Int32Value(int32(v.N))
	case value.Decimal:
		if unscaled(c) && c.Precision <= 9 {
			return parquet.Int32Value(int32(v.N))
		}
		if unscaled(c) {
			return parquet.Int64Value(v.N)
		}
		return parquet.ByteArrayValue(v.AppendText(nil))
	case value.UUID:
		return parquet.FixedLenByteArrayValue(v.B)
	}
	return parquet.ByteArrayValue(v.B)
}

// fromParquet is the inverse of toParquet. Its bytes are shared with p.
func fromParquet(p parquet.Value, c *shape.Column) value.Value {
	if p.IsNull() {
		return value.Value{}
	}
	v := value.Value{Kind: c.Kind}
	switch c.Kind {
	case value.Int, value.Time, value.Timestamp, value.Instant:
		v.N = p.Int64()
	case value.Float64:
		return value.OfFloat(p.Double())
	case value.Float32:
		return value.OfFloat32(p.Float())
	case value.Bool:
		return value.OfBool(p.Boolean())
	case value.Date:
		v.N = int64(p.Int32())
	case value.Decimal:
		if unscaled(c) {
			v.N, v.Scale = p.Int64(), uint8(c.Scale)
			if c.Precision <= 9 {
				v.N = int64(p.Int32())
			}
		} else {
			v.B = notNil(p.ByteArray())
		}
	default:
		v.B = notNil(p.ByteArray())
	}
	return v
}

func notNil(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

// companionName names the companion column so that it collides with none of the table's.
func companionName(columns []shape.Column) string {
	name := "_exact"
	for slices.ContainsFunc(columns, func(c shape.Column) bool { return c.Name == name }) {
		name += "_"
	}
	return name
}

// schema is the Parquet schema of a segment: the table's columns in the table's order, then the companion. Columns
// that plain names get no dictionary.
func schema(table string, columns []shape.Column, plain map[string]bool) *parquet.Schema {
	root := ordered{Group: parquet.Group{}}
	add := func(name string, n parquet.Node) {
		n = parquet.Compressed(n, compression)
		root.Group[name] = n
		root.fields = append(root.fields, parquet.Group{name: n}.Fields()[0])
	}
	for i := range columns {
		add(columns[i].Name, node(&columns[i], plain[columns[i].Name]))
	}
	add(companionName(columns), parquet.Optional(parquet.Encoded(parquet.String(), &parquet.RLEDictionary)))
	return parquet.NewSchema(table, root)
}

// ordered is a group whose fields stand in the table's order; the library's own sorts them by name.
type ordered struct {
	parquet.Group
	fields []parquet.Field
}

func (o ordered) Fields() []parquet.Field { return o.fields }

// appendCompanion adds one value to a row's companion: a JSON object of column names and exact values.
func appendCompanion(dst []byte, column, exact string) []byte {
	name, _ := json.Marshal(column) // strings always marshal
	text, _ := json.Marshal(exact)
	if len(dst) == 0 {
		dst = append(dst, '{')
	} else {
		dst[len(dst)-1] = ','
	}
	return append(append(append(append(dst, name...), ':'), text...), '}')
}

// readCompanion puts a row's companion values in place.
func readCompanion(text []byte, byName map[string]int, row []value.Value) error {
	var fields map[string]string
	if err := json.Unmarshal(text, &fields); err != nil {
		return fmt.Errorf("companion column: %w", err)
	}
	for name, exact := range fields {
		i, ok := byName[name]
		if !ok {
			return fmt.Errorf("companion column: there is no column %q", name)
		}
		v, err := parseCompanion(exact)
		if err != nil {
			return fmt.Errorf("companion column: %w", err)
		}
		row[i] = v
	}
	return nil
}

func parseCompanion(exact string) (value.Value, error) {
	if srid, ok := strings.CutPrefix(exact, sridForm); ok {
		n, err := strconv.ParseUint(srid, 10, 32)
		return value.Of(int64(n)), err
	}
	return value.ParseExact(exact)
}
