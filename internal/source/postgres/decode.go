package postgres

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Between the epochs of the server (2000-01-01) and of value (1970-01-01).
const (
	epochDays   = 10_957
	epochMicros = epochDays * 86_400_000_000
)

// decode turns the binary form of a column's value (as the type's send function writes it) into a Value. raw is nil
// for NULL. Bytes are copied with keep.
func decode(raw []byte, c *shape.Column, keep func([]byte) []byte) (value.Value, error) {
	if raw == nil {
		return value.Value{}, nil
	}
	v := value.Value{Kind: c.Kind}
	switch c.Kind {
	case value.Text, value.Bytes, value.UUID:
		v.B = keep(raw)
		return v, nil
	case value.Decimal:
		return decodeNumeric(raw, c, keep)
	}
	switch len(raw) {
	case 1:
		v.N = int64(raw[0])
	case 2:
		v.N = int64(int16(binary.BigEndian.Uint16(raw)))
	case 4:
		if c.Kind == value.Float32 {
			v.N = int64(binary.BigEndian.Uint32(raw))
			return v, nil
		}
		v.N = int64(int32(binary.BigEndian.Uint32(raw)))
	case 8:
		v.N = int64(binary.BigEndian.Uint64(raw))
	default:
		return v, fmt.Errorf("column %q: %d bytes are no value of type %s", c.Name, len(raw), c.Type)
	}
	switch c.Kind {
	case value.Date:
		switch v.N {
		case 0x7fffffff:
			v.N = value.Infinity
		case -0x80000000:
			v.N = value.NegInfinity
		default:
			v.N += epochDays
		}
	case value.Timestamp, value.Instant:
		switch {
		case v.Endless():
		// the server's last thirty years lie beyond our count: they travel as text
		case v.N > math.MaxInt64-epochMicros-1:
			zone := ""
			if c.Kind == value.Instant {
				zone = "+00"
			}
			late := time.UnixMicro(v.N).UTC().AddDate(0, 0, epochDays)
			return value.Value{Kind: value.Text, B: keep([]byte(calendar(late, "-01-02 15:04:05.999999") + zone))}, nil
		default:
			v.N += epochMicros
		}
	}
	return v, nil
}

var powers = [...]int64{1, 10, 100, 1000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000, 1_000_000_000,
	10_000_000_000, 100_000_000_000,
	1_000_000_000_000, 10_000_000_000_000, 100_000_000_000_000, 1_000_000_000_000_000, 10_000_000_000_000_000,
	100_000_000_000_000_000, 1_000_000_000_000_000_000}

// decodeNumeric reads a numeric (numeric_send in the server's utils/adt/numeric.c): count of base-10,000 digits,
// weight of the first, sign, digits after the point, digits. What fits the column's precision of at most 18 digits
// becomes an unscaled integer, everything else its exact text.
func decodeNumeric(raw []byte, c *shape.Column, keep func([]byte) []byte) (value.Value, error) {
	v := value.Value{Kind: value.Decimal}
	if len(raw) < 8 || len(raw)%2 != 0 {
		return v, fmt.Errorf("column %q: %d bytes are no numeric", c.Name, len(raw))
	}
	u16 := func(i int) int { return int(binary.BigEndian.Uint16(raw[2*i:])) }
	n, weight, sign, scale := u16(0), int(int16(u16(1))), u16(2), u16(3)
	if len(raw) != 8+2*n {
		return v, fmt.Errorf("column %q: the numeric says %d digits and has %d bytes", c.Name, n, len(raw))
	}
	switch sign {
	case 0xC000:
		v.B = []byte("NaN")
		return v, nil
	case 0xD000:
		v.B = []byte("Infinity")
		return v, nil
	case 0xF000:
		v.B = []byte("-Infinity")
		return v, nil
	}
	if c.Precision > 0 && c.Precision <= 18 && scale == c.Scale {
		// digit i stands for 10^(4*(weight-i)); in units of the scale that is 10^(4*(weight-i)+scale)
		sum, exact := int64(0), true
		for i := range n {
			d, exp := int64(u16(4+i)), 4*(weight-i)+scale
			switch {
			case exp >= len(powers) || exp < -3:
				exact = exact && d == 0
			case exp >= 0:
				sum += d * powers[exp]
			default:
				exact = exact && d%powers[-exp] == 0
				sum += d / powers[-exp]
			}
		}
		if exact {
			if sign == 0x4000 {
				sum = -sum
			}
			v.N, v.Scale = sum, uint8(scale)
			return v, nil
		}
	}
	text := make([]byte, 0, 4*n+scale+8)
	if sign == 0x4000 {
		text = append(text, '-')
	}
	digit := func(i int) int {
		if i < 0 || i >= n {
			return 0
		}
		return u16(4 + i)
	}
	if weight < 0 {
		text = append(text, '0')
	} else {
		text = strconv.AppendInt(text, int64(digit(0)), 10)
		for i := 1; i <= weight; i++ {
			text = appendFour(text, digit(i))
		}
	}
	if scale > 0 {
		text = append(text, '.')
		end := len(text) + scale
		for i := weight + 1; len(text) < end; i++ {
			text = appendFour(text, digit(i))
		}
		text = text[:end]
	}
	v.B = keep(text)
	return v, nil
}

func appendFour(dst []byte, d int) []byte {
	return append(dst, byte('0'+d/1000), byte('0'+d/100%10), byte('0'+d/10%10), byte('0'+d%10))
}

// copyReader takes apart a binary COPY stream (PostgreSQL documentation, COPY, "Binary Format") as it arrives in
// pieces.
type copyReader struct {
	fields [][]byte
	row    func([][]byte) error // fields are valid during the call only; NULL is nil
	rest   []byte
	begun  bool
	done   bool
}

var copySignature = []byte("PGCOPY\n\xff\r\n\x00")

// Write takes the next piece of the stream.
func (r *copyReader) Write(p []byte) (int, error) {
	data := p
	if len(r.rest) > 0 {
		r.rest = append(r.rest, p...)
		data = r.rest
	}
	for !r.done {
		n, err := r.next(data)
		if err != nil {
			return 0, err
		}
		if n == 0 {
			break
		}
		data = data[n:]
	}
	r.rest = append(r.rest[:0], data...)
	return len(p), nil
}

// next takes one header or row off data and returns how many bytes it was; 0 if it is not there in full yet.
func (r *copyReader) next(data []byte) (int, error) {
	if !r.begun {
		if len(data) < 19 {
			return 0, nil
		}
		if string(data[:11]) != string(copySignature) {
			return 0, errors.New("the server's COPY stream has another signature than binary COPY")
		}
		skip := 19 + int(binary.BigEndian.Uint32(data[15:]))
		if len(data) < skip {
			return 0, nil
		}
		r.begun = true
		return skip, nil
	}
	if len(data) < 2 {
		return 0, nil
	}
	count := int(int16(binary.BigEndian.Uint16(data)))
	if count == -1 {
		r.done = true
		return 2, nil
	}
	at := 2
	r.fields = r.fields[:0]
	for range count {
		if len(data) < at+4 {
			return 0, nil
		}
		size := int(int32(binary.BigEndian.Uint32(data[at:])))
		at += 4
		if size < 0 {
			r.fields = append(r.fields, nil)
			continue
		}
		if len(data) < at+size {
			return 0, nil
		}
		r.fields = append(r.fields, data[at:at+size:at+size])
		at += size
	}
	return at, r.row(r.fields)
}
