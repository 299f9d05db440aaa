// Package value holds the typed values of a row, their canonical bytes, and the digests of rows and sets of
// rows. It knows nothing of databases, files or SQL: a source turns what its database sends into Values, an
// archive turns Values into Parquet, and both agree on what "identical" means because both ask this package.
package value

import (
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"time"
)

// Kind says what a Value is. The numbers are part of the canonical bytes and never change.
type Kind uint8

const (
	Null    Kind = 0
	Int     Kind = 1 // N
	Float64 Kind = 2 // N holds the IEEE 754 bits
	Float32 Kind = 3 // N holds the IEEE 754 bits
	Bool    Kind = 4 // N is 0 or 1
	// N is unscaled with Scale digits after the point; or B holds the exact text where B is not nil
	Decimal   Kind = 5
	Text      Kind = 6  // B, as the database holds it; not always valid UTF-8
	Bytes     Kind = 7  // B
	Date      Kind = 8  // N is days since 1970-01-01, proleptic Gregorian
	Time      Kind = 9  // N is microseconds since midnight, 0 to 86,400,000,000 inclusive
	Timestamp Kind = 10 // N is microseconds since 1970-01-01 00:00:00 of a clock without zone
	Instant   Kind = 11 // N is microseconds since 1970-01-01 00:00:00 UTC
	UUID      Kind = 12 // B, 16 bytes
)

var kindNames = [...]string{"null", "int", "float64", "float32", "bool", "decimal", "text", "bytes", "date", "time",
	"timestamp", "instant", "uuid"}

// String returns the kind's name as manifests and the interface write it.
func (k Kind) String() string {
	if int(k) < len(kindNames) {
		return kindNames[k]
	}
	return "kind" + strconv.Itoa(int(k))
}

// ParseKind is the inverse of String.
func ParseKind(s string) (Kind, error) {
	for i, n := range kindNames {
		if n == s {
			return Kind(i), nil
		}
	}
	return Null, fmt.Errorf("value: %q is not a kind of value", s)
}

// MarshalText and UnmarshalText carry the kind in JSON by its name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }
func (k *Kind) UnmarshalText(b []byte) (err error) {
	*k, err = ParseKind(string(b))
	return err
}

// Infinity and NegInfinity stand in N of a Date, Timestamp or Instant for the endless dates that some databases know.
const (
	Infinity    = math.MaxInt64
	NegInfinity = math.MinInt64
)

// Value is one value of a row. It is small and holds no interface. B may alias a buffer that belongs to whoever
// made the Value: copy it before keeping it.
type Value struct {
	N     int64
	B     []byte
	Kind  Kind
	Scale uint8
}

// Constructors for the common kinds.

func Of(n int64) Value          { return Value{Kind: Int, N: n} }
func OfText(s string) Value     { return Value{Kind: Text, B: []byte(s)} }
func OfBytes(b []byte) Value    { return Value{Kind: Bytes, B: b} }
func OfFloat(f float64) Value   { return Value{Kind: Float64, N: int64(math.Float64bits(f))} }
func OfFloat32(f float32) Value { return Value{Kind: Float32, N: int64(math.Float32bits(f))} }
func OfBool(b bool) Value {
	if b {
		return Value{Kind: Bool, N: 1}
	}
	return Value{Kind: Bool}
}

// Float returns the number of a Float64 or Float32.
func (v Value) Float() float64 {
	if v.Kind == Float32 {
		return float64(math.Float32frombits(uint32(v.N)))
	}
	return math.Float64frombits(uint64(v.N))
}

// Clone returns v with a copy of its bytes.
func (v Value) Clone() Value {
	if v.B != nil {
		v.B = append(make([]byte, 0, len(v.B)), v.B...)
	}
	return v
}

// CloneRow copies a row and the bytes of its values.
func CloneRow(row []Value) []Value {
	out := make([]Value, len(row))
	for i, v := range row {
		out[i] = v.Clone()
	}
	return out
}

// Endless says whether a Date, Timestamp or Instant is infinite.
func (v Value) Endless() bool { return v.N == Infinity || v.N == NegInfinity }

// AppendText appends the value as a person reads it and as CSV carries it: ISO 8601 dates and times, exact
// decimals, the shortest digits that give a float back, bytes as hexadecimal. Null appends nothing.
func (v Value) AppendText(dst []byte) []byte {
	switch v.Kind {
	case Null:
		return dst
	case Int:
		return strconv.AppendInt(dst, v.N, 10)
	case Float64:
		return strconv.AppendFloat(dst, v.Float(), 'g', -1, 64)
	case Float32:
		return strconv.AppendFloat(dst, v.Float(), 'g', -1, 32)
	case Bool:
		return strconv.AppendBool(dst, v.N != 0)
	case Decimal:
		return v.appendDecimal(dst)
	case Text:
		return append(dst, v.B...)
	case Bytes:
		return hex.AppendEncode(append(dst, `\x`...), v.B)
	case Date:
		if v.Endless() {
			return appendEndless(dst, v.N)
		}
		return appendDay(dst, v.N)
	case Time:
		return appendClock(dst, v.N)
	case Timestamp, Instant:
		if v.Endless() {
			return appendEndless(dst, v.N)
		}
		day := floorDiv(v.N, dayMicros)
		dst = appendDay(dst, day)
		dst = append(dst, 'T')
		dst = appendClock(dst, v.N-day*dayMicros)
		if v.Kind == Instant {
			dst = append(dst, 'Z')
		}
		return dst
	case UUID:
		return appendUUID(dst, v.B)
	}
	return dst
}

// String is AppendText, with NULL for Null.
func (v Value) String() string {
	if v.Kind == Null {
		return "NULL"
	}
	return string(v.AppendText(nil))
}

const dayMicros = 24 * 60 * 60 * 1_000_000

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func appendEndless(dst []byte, n int64) []byte {
	if n == NegInfinity {
		dst = append(dst, '-')
	}
	return append(dst, "infinity"...)
}

// appendDay writes a day as ISO 8601, with a sign and as many digits as it takes outside the years 0 to 9999.
func appendDay(dst []byte, day int64) []byte {
	t := time.Unix(0, 0).UTC().AddDate(0, 0, int(day))
	y := t.Year()
	if y < 0 || y > 9999 {
		if y < 0 {
			dst, y = append(dst, '-'), -y
		} else {
			dst = append(dst, '+')
		}
		if y < 1000 {
			dst = append(dst, "0000"[:4-len(strconv.Itoa(y))]...)
		}
		dst = strconv.AppendInt(dst, int64(y), 10)
		return t.AppendFormat(dst, "-01-02")
	}
	return t.AppendFormat(dst, "2006-01-02")
}

func appendClock(dst []byte, micros int64) []byte {
	s, f := micros/1_000_000, micros%1_000_000
	dst = append(dst, byte('0'+s/36000), byte('0'+s/3600%10), ':', byte('0'+s/600%6), byte('0'+s/60%10), ':',
		byte('0'+s/10%6), byte('0'+s%10))
	if f != 0 {
		dst = append(dst, '.')
		for d := int64(100_000); d > 0; d /= 10 {
			dst = append(dst, byte('0'+f/d%10))
		}
	}
	return dst
}

func appendUUID(dst, b []byte) []byte {
	if len(b) != 16 {
		return hex.AppendEncode(dst, b)
	}
	for i, n := range [...]int{4, 6, 8, 10, 16} {
		if i > 0 {
			dst = append(dst, '-')
		}
		dst = hex.AppendEncode(dst, b[[...]int{0, 4, 6, 8, 10}[i]:n])
	}
	return dst
}

// appendDecimal writes a decimal's exact digits, trailing zeros of its scale included.
func (v Value) appendDecimal(dst []byte) []byte {
	if v.B != nil {
		return append(dst, v.B...)
	}
	if v.Scale == 0 {
		return strconv.AppendInt(dst, v.N, 10)
	}
	n := uint64(v.N)
	if v.N < 0 {
		dst, n = append(dst, '-'), -n
	}
	var digits [24]byte
	d := strconv.AppendUint(digits[:0], n, 10)
	point := len(d) - int(v.Scale)
	if point > 0 {
		dst = append(dst, d[:point]...)
		dst = append(dst, '.')
		return append(dst, d[point:]...)
	}
	dst = append(dst, '0', '.')
	for ; point < 0; point++ {
		dst = append(dst, '0')
	}
	return append(dst, d...)
}

// Instant returns the point in time that a Date, Timestamp or Instant stands for (clocks without zone read as
// UTC), and false for every other kind and for endless dates.
func (v Value) Instant() (time.Time, bool) {
	if v.Endless() {
		return time.Time{}, false
	}
	switch v.Kind {
	case Date:
		return time.Unix(0, 0).UTC().AddDate(0, 0, int(v.N)), true
	case Timestamp, Instant:
		return time.UnixMicro(v.N).UTC(), true
	}
	return time.Time{}, false
}
