package mariadb

import (
	"bytes"
	"database/sql/driver"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// decode turns what the driver returned for a column into a value. Bytes are copied with keep.
func decode(v driver.Value, c *shape.Column, keep func([]byte) []byte) (value.Value, error) {
	switch x := v.(type) {
	case nil:
		return value.Value{}, nil
	case int64:
		return value.Of(x), nil
	case uint64: // beyond what a signed integer holds
		return value.Value{Kind: value.Decimal, B: keep(strconv.AppendUint(nil, x, 10))}, nil
	case float32:
		return value.OfFloat32(x), nil
	case float64:
		return value.OfFloat(x), nil
	case []byte:
		if string(x) == noLabel && enumeration(c) {
			return value.Of(0), nil
		}
		return decodeBytes(x, c, keep), nil
	}
	return value.Value{}, fmt.Errorf("column %q: the driver returned a %T", c.Name, v)
}

// noLabel stands for index 0 of an enumeration: no text in UTF-8 has this byte.
const noLabel = "\xff"

// enumeration says whether a column's values are labels, or index 0, which no label has: a number among texts.
func enumeration(c *shape.Column) bool {
	return len(c.Type) > 5 && strings.EqualFold(c.Type[:5], "enum(")
}

func decodeBytes(b []byte, c *shape.Column, keep func([]byte) []byte) value.Value {
	switch c.Kind {
	case value.Int: // an unsigned number beyond the signed ones
		return value.Value{Kind: value.Decimal, B: keep(b)}
	case value.Decimal:
		if c.Precision > 0 && c.Precision <= 18 {
			if n, ok := digits(b); ok {
				return value.Value{Kind: value.Decimal, N: n, Scale: uint8(c.Scale)}
			}
		}
		return value.Value{Kind: value.Decimal, B: keep(b)}
	case value.Date:
		if t, err := time.Parse(time.DateOnly, string(b)); err == nil {
			return value.Value{Kind: value.Date, N: floorDay(t)}
		}
	case value.Timestamp, value.Instant:
		if t, ok := clock(b); ok {
			return value.Value{Kind: c.Kind, N: t.UnixMicro()}
		}
	case value.Bytes:
		return value.Value{Kind: value.Bytes, B: keep(b)}
	}
	// Text; and dates that are none, like 0000-00-00, which are carried as the server writes them.
	return value.Value{Kind: value.Text, B: keep(b)}
}

// digits reads a decimal number of at most 18 digits as if it had no point.
func digits(b []byte) (int64, bool) {
	var text [24]byte
	whole, fraction, _ := bytes.Cut(b, []byte{'.'})
	n, err := strconv.ParseInt(string(append(append(text[:0], whole...), fraction...)), 10, 64)
	return n, err == nil
}

// clock reads a DATETIME or TIMESTAMP as the server writes it. As RFC 3339 the standard library reads it several times
// as fast.
func clock(b []byte) (time.Time, bool) {
	const least, most = len("2006-01-02 15:04:05"), len("2006-01-02 15:04:05.000000")
	if len(b) < least || len(b) > most || b[10] != ' ' {
		return time.Time{}, false
	}
	var text [most + 1]byte
	s := append(append(text[:0], b...), 'Z')
	s[10] = 'T'
	t, err := time.Parse(time.RFC3339Nano, string(s))
	return t, err == nil
}

func floorDay(t time.Time) int64 {
	s := t.Unix()
	if s < 0 {
		return -((-s + 86_399) / 86_400)
	}
	return s / 86_400
}

// encode turns a value into what the driver binds for a column.
func encode(v value.Value) any {
	switch v.Kind {
	case value.Null:
		return nil
	case value.Int, value.Bool:
		return v.N
	case value.Float64, value.Float32:
		return v.Float()
	case value.Text:
		return string(v.B)
	case value.Bytes:
		if v.B == nil {
			return []byte{}
		}
		return v.B
	case value.Timestamp, value.Instant:
		return time.UnixMicro(v.N).UTC().Format("2006-01-02 15:04:05.000000")
	}
	return v.String()
}

// typed writes a placeholder for a value such that it is compared with a column as what it is: text compared with a
// number or a time would be compared as floating numbers, or not at all.
func typed(mark string, v value.Value) string {
	switch v.Kind {
	case value.Decimal:
		_, fraction, _ := strings.Cut(v.String(), ".")
		return fmt.Sprintf("CAST(%s AS DECIMAL(65,%d))", mark, min(len(fraction), 38))
	case value.Date:
		return "CAST(" + mark + " AS DATE)"
	case value.Timestamp, value.Instant:
		return "CAST(" + mark + " AS DATETIME(6))"
	}
	return mark
}

// maxDigits and maxScale are what a DECIMAL of the server holds.
const maxDigits, maxScale = 65, 30

// fits says whether the server can hold a decimal exactly; if not, floor is the greatest number that it can hold
// below, or whether the number is greater or less than all that it can hold (huge 1 or -1).
func fitsDecimal(text string) (floor string, exact bool, huge int) {
	r, ok := new(big.Rat).SetString(text)
	if !ok {
		return "0", false, 0
	}
	whole, fraction, _ := strings.Cut(strings.TrimPrefix(text, "-"), ".")
	if len(whole) > maxDigits-maxScale && len(whole)+len(fraction) > maxDigits {
		if len(whole) > maxDigits {
			return "", false, r.Sign()
		}
	}
	scale := min(len(fraction), maxScale, max(maxDigits-len(whole), 0))
	if len(fraction) == scale {
		return text, true, 0
	}
	unit := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil)
	scaled := new(big.Rat).Mul(r, new(big.Rat).SetInt(unit))
	down := new(big.Int).Div(scaled.Num(), scaled.Denom())
	return new(big.Rat).SetFrac(down, unit).FloatString(scale), false, 0
}
