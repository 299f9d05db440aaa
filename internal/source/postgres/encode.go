package postgres

import (
	"encoding/binary"
	"io"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// binaryKinds are the kinds that columns of a type have whose values can be sent in the server's own form.
var binaryKinds = map[string]value.Kind{
	"smallint": value.Int, "integer": value.Int, "bigint": value.Int, "real": value.Float32,
	"double precision": value.Float64, "boolean": value.Bool, "text": value.Text, "character varying": value.Text,
	"bytea": value.Bytes, "uuid": value.UUID, "date": value.Date, "time without time zone": value.Time,
	"timestamp without time zone": value.Timestamp, "timestamp with time zone": value.Instant,
	"numeric": value.Decimal,
}

// plainType is the name of a column's type without what stands in brackets.
func plainType(c *shape.Column) string {
	name, rest, ok := strings.Cut(c.Type, "(")
	if !ok {
		return c.Type
	}
	_, after, _ := strings.Cut(rest, ")")
	return name + after
}

// binaryRows says whether all rows of a request can be sent in the server's own form, which is faster for both sides.
// Values that the form of their column does not hold as they are (endless times, decimals kept as text) go as text,
// and so does all that comes with them.
func binaryRows(req source.RestoreRequest) bool {
	kinds := make([]value.Kind, len(req.Columns))
	for i, at := range req.Columns {
		c := &req.Table.Columns[at]
		kind, ok := binaryKinds[plainType(c)]
		if !c.Generated && (!ok || c.AsText || kind != c.Kind) {
			return false
		}
		kinds[i] = c.Kind
	}
	for i := range req.Rows.Rows() {
		for j, v := range req.Rows.Row(i) {
			switch {
			case v.Kind == value.Null:
			case v.Kind != kinds[j] || v.Kind == value.Decimal && v.B != nil || v.Endless():
				return false
			}
		}
	}
	return true
}

// copyBinary writes rows in COPY's binary form (PostgreSQL documentation, COPY, "Binary Format"), as they are asked
// for.
type copyBinary struct {
	req    source.RestoreRequest
	begun  bool
	ended  bool
	next   int
	fields int
	buf    []byte
	left   []byte // of buf
}

func (c *copyBinary) Read(p []byte) (n int, err error) {
	for len(c.left) == 0 {
		if c.ended {
			return 0, io.EOF
		}
		c.fill()
		c.left = c.buf
	}
	n = copy(p, c.left)
	c.left = c.left[n:]
	return n, nil
}

func (c *copyBinary) fill() {
	c.buf = c.buf[:0]
	if !c.begun {
		c.begun = true
		c.buf = append(append(c.buf, copySignature...), make([]byte, 8)...)
		for _, at := range c.req.Columns {
			if !c.req.Table.Columns[at].Generated {
				c.fields++
			}
		}
	}
	for ; c.next < c.req.Rows.Rows() && len(c.buf) < 64<<10; c.next++ {
		c.buf = binary.BigEndian.AppendUint16(c.buf, uint16(c.fields))
		row := c.req.Rows.Row(c.next)
		for j, at := range c.req.Columns {
			if column := &c.req.Table.Columns[at]; !column.Generated {
				c.buf = appendBinary(c.buf, &row[j], column)
			}
		}
	}
	if c.next >= c.req.Rows.Rows() {
		c.buf, c.ended = append(c.buf, 0xff, 0xff), true
	}
}

// appendBinary appends a value, its length in front, as the receive function of the column's type reads it.
func appendBinary(dst []byte, v *value.Value, c *shape.Column) []byte {
	long := func(n int64) []byte {
		return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(dst, 8), uint64(n))
	}
	short := func(n int64) []byte {
		return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(dst, 4), uint32(n))
	}
	switch v.Kind {
	case value.Null:
		return binary.BigEndian.AppendUint32(dst, 0xffffffff)
	case value.Text, value.Bytes, value.UUID:
		return append(binary.BigEndian.AppendUint32(dst, uint32(len(v.B))), v.B...)
	case value.Bool:
		return append(binary.BigEndian.AppendUint32(dst, 1), byte(v.N))
	case value.Date:
		return short(v.N - epochDays)
	case value.Timestamp, value.Instant:
		return long(v.N - epochMicros)
	case value.Float32:
		return short(v.N)
	case value.Decimal:
		return appendNumeric(dst, v.N, int(v.Scale))
	case value.Int:
		switch c.Type {
		case "smallint":
			return binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint32(dst, 2), uint16(v.N))
		case "integer":
			return short(v.N)
		}
	}
	return long(v.N)
}

// appendNumeric writes an unscaled number with so many digits behind the point as decodeNumeric reads it.
func appendNumeric(dst []byte, n int64, scale int) []byte {
	sign := uint16(0)
	u := uint64(n)
	if n < 0 {
		sign, u = 0x4000, -u
	}
	var digits [8]uint16 // of base 10,000, the last first
	count := 0
	// Digits behind the point come in fours: the last of them is filled up with zeros.
	behind := (scale + 3) / 4
	if pad := 4*behind - scale; pad > 0 {
		low := u % uint64(powers[4-pad]) * uint64(powers[pad])
		u /= uint64(powers[4-pad])
		digits[0], count = uint16(low), 1
	}
	for ; u > 0; count++ {
		digits[count] = uint16(u % 10_000)
		u /= 10_000
	}
	weight := count - behind - 1
	for count > 0 && digits[count-1] == 0 { // zeros in front
		count--
		weight--
	}
	first := 0
	for first < count && digits[first] == 0 { // zeros at the end
		first++
	}
	if count == first {
		count, first, weight, sign = 0, 0, 0, 0
	}
	dst = binary.BigEndian.AppendUint32(dst, uint32(8+2*(count-first)))
	for _, x := range []uint16{uint16(count - first), uint16(int16(weight)), sign, uint16(scale)} {
		dst = binary.BigEndian.AppendUint16(dst, x)
	}
	for i := count - 1; i >= first; i-- {
		dst = binary.BigEndian.AppendUint16(dst, digits[i])
	}
	return dst
}
