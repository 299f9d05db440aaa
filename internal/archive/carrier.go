package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// A carrier is how a column's values lie in a file where that is not by their kind alone: from the second format of
// segments on, a type that Parquet has a form for is carried in that form. Files of the first format have text, bytes
// or signed numbers there; what is read tells which.
type carrier uint8

const (
	byKind carrier = iota
	// decimals of 19 to 38 digits: DECIMAL, 16 bytes, big-endian in two's complement (Parquet format, LogicalTypes)
	wide
	unsigned // whole numbers without sign of 64 bits: UINT_64
	uuidText // a UUID that the database tells as text: UUID
	timeText // a time that the database tells as text, within a day: TIME in microseconds
	jsonText // JSON
	oneBit   // a bit: BOOLEAN
	// a geometry: its well-known binary form (OGC 06-103r4); the number of its reference system stands apart, in the
	// companion
	plainWKB
)

const wideBytes = 16

// carrierOf tells it from what the database calls the column's type.
func carrierOf(c *shape.Column) carrier {
	t := strings.ToLower(c.Type)
	switch {
	case c.Kind == value.Decimal && c.Precision > 18 && c.Precision <= 38 && c.Scale >= 0 && c.Scale <= c.Precision:
		return wide
	case c.Kind == value.Int && strings.HasPrefix(t, "bigint") && strings.Contains(t, "unsigned"):
		return unsigned
	case c.Kind == value.Text && c.AsText && t == "uuid":
		return uuidText
	case c.Kind == value.Text && c.AsText && (t == "time" || strings.HasPrefix(t, "time(") && len(t) == 7):
		return timeText
	case c.Kind == value.Text && c.AsText && (t == "json" || t == "jsonb"):
		return jsonText
	case c.Kind == value.Bytes && t == "bit(1)":
		return oneBit
	case isGeometry(c):
		return plainWKB
	}
	return byKind
}

// geometries are the types whose values MariaDB and MySQL tell as the number of a reference system (SRID), 4 bytes,
// the least first, and then the well-known binary form.
var geometries = []string{"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring",
	"multipolygon", "geometrycollection"}

const sridBytes = 4

func isGeometry(c *shape.Column) bool {
	return c.Kind == value.Bytes && slices.Contains(geometries, strings.ToLower(c.Type))
}

// Laid are columns as their values lie in the file: before the third format, geometries lay in the database's own
// form.
func (w *Written) Laid(columns []shape.Column) []shape.Column {
	if w.WKB || !slices.ContainsFunc(columns, func(c shape.Column) bool { return isGeometry(&c) }) {
		return columns
	}
	out := slices.Clone(columns)
	for i := range out {
		if isGeometry(&out[i]) {
			out[i].Type = ""
		}
	}
	return out
}

// wellKnown says whether a value is an SRID and something that begins as a well-known binary form does: the order of
// its bytes, and the number of one of seven types.
func wellKnown(b []byte) bool {
	if len(b) < sridBytes+5 {
		return false
	}
	kind := b[sridBytes+1:]
	switch b[sridBytes] {
	case 0:
		return binary.BigEndian.Uint32(kind)-1 < 7
	case 1:
		return binary.LittleEndian.Uint32(kind)-1 < 7
	}
	return false
}

// apart is what stands in the companion beside a value that the column carries; empty: nothing. That is the SRID of a
// geometry, where it has one.
func (k carrier) apart(v *value.Value) string {
	if k != plainWKB || v.Kind != value.Bytes {
		return ""
	}
	if srid := binary.LittleEndian.Uint32(v.B); srid != 0 {
		return sridForm + strconv.FormatUint(uint64(srid), 10)
	}
	return ""
}

// sridForm begins what stands in the companion for the SRID of a geometry.
const sridForm = "srid:"

// together puts a carried value and what stood apart from it together again.
func (k carrier) together(v, apart value.Value) value.Value {
	if k == plainWKB && v.Kind == value.Bytes && apart.Kind == value.Int && len(v.B) >= sridBytes {
		binary.LittleEndian.PutUint32(v.B, uint32(apart.N))
		return v
	}
	return apart
}

// carrierIn is how a column lies in a file, by the type that it has there.
func carrierIn(c *shape.Column, t parquet.Type) carrier {
	k := carrierOf(c)
	if k != unsigned {
		return k
	}
	if l := t.LogicalType(); l != nil {
		if whole, ok := l.Value.(*format.IntType); ok && !whole.IsSigned {
			return k
		}
	}
	return byKind // of the first format, where a database that bounds no type may have had negative ones
}

// carriers are those of columns, in order.
func carriers(columns []shape.Column) []carrier {
	out := make([]carrier, len(columns))
	for i := range columns {
		out[i] = carrierOf(&columns[i])
	}
	return out
}

// unordered says whether readers of others could be misled by the least and greatest values of a column, so that it
// gets none: the library orders these as bytes.
func (k carrier) unordered() bool { return k == wide }

// carry turns a value into the Parquet value that carries it exactly; false where there is none, and it goes to the
// companion.
func (k carrier) carry(v *value.Value, c *shape.Column) (parquet.Value, bool) {
	switch k {
	case wide:
		if v.Kind == value.Decimal {
			return carryWide(v, c.Scale, c.Precision)
		}
	case unsigned:
		if v.Kind == value.Int && v.N >= 0 {
			return parquet.Int64Value(v.N), true
		}
		if v.Kind == value.Decimal {
			u, err := strconv.ParseUint(string(v.B), 10, 64)
			return parquet.Int64Value(int64(u)), err == nil && u > 1<<63-1 && strconv.FormatUint(u, 10) == string(v.B)
		}
	case uuidText:
		if v.Kind == value.Text {
			var b [16]byte
			return parquet.FixedLenByteArrayValue(b[:]), parseUUID(b[:], v.B)
		}
	case timeText:
		if v.Kind == value.Text {
			n, ok := parseTime(v.B, fraction(c))
			return parquet.Int64Value(n), ok
		}
	case plainWKB:
		if v.Kind == value.Bytes && wellKnown(v.B) {
			return parquet.ByteArrayValue(v.B[sridBytes:]), true
		}
	case oneBit:
		if v.Kind == value.Bytes && len(v.B) == 1 && v.B[0] <= 1 {
			return parquet.BooleanValue(v.B[0] == 1), true
		}
	default:
		if fits(v, c) {
			return toParquet(v, c), true
		}
	}
	return parquet.Value{}, false
}

// uncarry is the inverse of carry, and of how the first format carried the column.
func (k carrier) uncarry(p parquet.Value, c *shape.Column) value.Value {
	switch {
	case k == byKind || k == jsonText || p.IsNull():
	case k == wide && p.Kind() == parquet.FixedLenByteArray:
		return value.Value{Kind: value.Decimal, B: wideText(p.ByteArray(), c.Scale)}
	case k == unsigned && p.Int64() < 0:
		return value.Value{Kind: value.Decimal, B: strconv.AppendUint(nil, uint64(p.Int64()), 10)}
	case k == uuidText && p.Kind() == parquet.FixedLenByteArray:
		b := p.ByteArray()
		return value.Value{Kind: value.Text, B: fmt.Appendf(nil, "%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10],
			b[10:])}
	case k == timeText && p.Kind() == parquet.Int64:
		return value.Value{Kind: value.Text, B: timeBytes(p.Int64(), fraction(c))}
	case k == plainWKB:
		return value.Value{Kind: value.Bytes, B: append(make([]byte, sridBytes, sridBytes+len(p.ByteArray())),
			p.ByteArray()...)}
	case k == oneBit && p.Kind() == parquet.Boolean:
		if p.Boolean() {
			return value.Value{Kind: value.Bytes, B: []byte{1}}
		}
		return value.Value{Kind: value.Bytes, B: []byte{0}}
	}
	return fromParquet(p, c)
}

// carryWide takes only text that reads back to itself.
func carryWide(v *value.Value, scale, precision int) (parquet.Value, bool) {
	text := v.AppendText(nil)
	digits := strings.TrimPrefix(string(text), "-")
	whole, rest, _ := strings.Cut(digits, ".")
	if len(rest) != scale || len(whole)+len(rest) > precision+1 || strings.Trim(whole+rest, "0123456789") != "" {
		return parquet.Value{}, false
	}
	n, ok := new(big.Int).SetString(whole+rest, 10)
	if !ok || len(strings.TrimLeft(whole+rest, "0")) > precision {
		return parquet.Value{}, false
	}
	if len(digits) < len(text) {
		n.Neg(n)
	}
	b := make([]byte, wideBytes)
	if n.Sign() < 0 {
		n.Add(n, new(big.Int).Lsh(big.NewInt(1), 8*wideBytes))
	}
	n.FillBytes(b)
	return parquet.FixedLenByteArrayValue(b), bytes.Equal(wideText(b, scale), text)
}

// wideText writes a number in two's complement with so many digits after the point.
func wideText(b []byte, scale int) []byte {
	n := new(big.Int).SetBytes(b)
	negative := len(b) > 0 && b[0] >= 0x80
	if negative {
		n.Sub(new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))), n)
	}
	digits := n.String()
	if len(digits) <= scale {
		digits = strings.Repeat("0", scale+1-len(digits)) + digits
	}
	var out []byte
	if negative {
		out = append(out, '-')
	}
	out = append(out, digits[:len(digits)-scale]...)
	if scale > 0 {
		out = append(append(out, '.'), digits[len(digits)-scale:]...)
	}
	return out
}

// parseUUID reads a UUID in the form in which it is written again.
func parseUUID(to, text []byte) bool {
	if len(text) != 36 {
		return false
	}
	at := 0
	for i, c := range text {
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return false
			}
			continue
		}
		digit := strings.IndexByte("0123456789abcdef", c)
		if digit < 0 {
			return false
		}
		to[at/2] = to[at/2]<<4 | byte(digit)
		at++
	}
	return true
}

// fraction is how many digits a time of a column has behind its seconds.
func fraction(c *shape.Column) int {
	if len(c.Type) == 7 {
		return int(c.Type[5] - '0')
	}
	return 0
}

// parseTime reads a time of day in the form in which it is written again: microseconds since midnight.
func parseTime(text []byte, fraction int) (int64, bool) {
	if len(text) < 8 || fraction > 6 {
		return 0, false
	}
	var n int64
	for i, unit := range map[int]int64{0: 3600, 3: 60, 6: 1} {
		if text[i] < '0' || text[i] > '9' || text[i+1] < '0' || text[i+1] > '9' {
			return 0, false
		}
		n += int64(text[i]-'0')*10*unit + int64(text[i+1]-'0')*unit
	}
	n *= 1_000_000
	if len(text) > 9 {
		micros, unit := int64(0), int64(100_000)
		for _, c := range text[9:] {
			if c < '0' || c > '9' {
				return 0, false
			}
			micros, unit = micros+int64(c-'0')*unit, unit/10
		}
		n += micros
	}
	return n, n < 86_400_000_000 && bytes.Equal(timeBytes(n, fraction), text)
}

func timeBytes(micros int64, fraction int) []byte {
	s := micros / 1_000_000
	out := fmt.Appendf(nil, "%02d:%02d:%02d", s/3600, s/60%60, s%60)
	if fraction > 0 {
		out = append(append(out, '.'), fmt.Sprintf("%06d", micros%1_000_000)[:fraction]...)
	}
	return out
}
