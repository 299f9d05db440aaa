package value

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Exact writes a value so that nothing of it is lost and any reader can tell what it was: KIND:TEXT. Archives use
// it for what a Parquet column of another type cannot hold. Floats are their bits in hexadecimal; text that is not
// UTF-8 has the kind texthex; decimals with a scale are their digits.
func (v Value) Exact() string {
	switch v.Kind {
	case Null:
		return "null:"
	case Text:
		if !utf8.Valid(v.B) {
			return "texthex:" + hex.EncodeToString(v.B)
		}
		return "text:" + string(v.B)
	case Bytes, UUID:
		return v.Kind.String() + ":" + hex.EncodeToString(v.B)
	case Decimal:
		return "decimal:" + string(v.appendDecimal(nil))
	case Float64, Float32:
		return v.Kind.String() + ":" + strconv.FormatUint(uint64(v.N), 16)
	default:
		return v.Kind.String() + ":" + strconv.FormatInt(v.N, 10)
	}
}

// ParseExact is the inverse of Exact.
func ParseExact(s string) (Value, error) {
	name, text, ok := strings.Cut(s, ":")
	if !ok {
		return Value{}, fmt.Errorf("value: %.40q is not KIND:TEXT", s)
	}
	if name == "texthex" {
		b, err := hex.DecodeString(text)
		return Value{Kind: Text, B: b}, wrapExact(s, err)
	}
	k, err := ParseKind(name)
	if err != nil {
		return Value{}, err
	}
	v := Value{Kind: k}
	switch k {
	case Null:
	case Text:
		v.B = []byte(text)
	case Decimal:
		v.B = []byte(text)
	case Bytes, UUID:
		v.B, err = hex.DecodeString(text)
	case Float64, Float32:
		var u uint64
		u, err = strconv.ParseUint(text, 16, 64)
		v.N = int64(u)
	default:
		v.N, err = strconv.ParseInt(text, 10, 64)
	}
	return v, wrapExact(s, err)
}

func wrapExact(s string, err error) error {
	if err != nil {
		return fmt.Errorf("value: %.40q: %w", s, err)
	}
	return nil
}
