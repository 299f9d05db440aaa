package filter

import (
	"bytes"
	"math"
	"math/big"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Truth is what a filter can be for a row: one of False, Unknown and True where all columns are known; several of
// them, as a set, where a value that it asks for is not there.
type Truth uint8

const (
	False   Truth = 1
	Unknown Truth = 2
	True    Truth = 4
)

// Only says whether the filter is certainly true.
func (t Truth) Only() bool { return t == True }

// Possibly says whether the filter may be true.
func (t Truth) Possibly() bool { return t&True != 0 }

var (
	conjunction [8][8]Truth
	disjunction [8][8]Truth
	negation    [8]Truth
)

// The tables of three-valued logic, over sets: of two values, AND takes the lesser and OR the greater.
var _ = func() bool {
	each := []Truth{False, Unknown, True}
	for a := range Truth(8) {
		for b := range Truth(8) {
			for _, x := range each {
				for _, y := range each {
					if a&x != 0 && b&y != 0 {
						conjunction[a][b] |= min(x, y)
						disjunction[a][b] |= max(x, y)
					}
				}
			}
		}
		for i, x := range each {
			if a&x != 0 {
				negation[a] |= each[2-i]
			}
		}
	}
	return true
}()

func truth(b bool) Truth {
	if b {
		return True
	}
	return False
}

// Eval says what a filter is for a row, whose values stand where the scope of Bind said.
func (f *Filter) Eval(row []value.Value) Truth { return eval(f.root, row) }

func eval(n node, row []value.Value) Truth {
	switch x := n.(type) {
	case *and:
		out := True
		for _, p := range x.parts {
			out = conjunction[out][eval(p, row)]
		}
		return out
	case *or:
		out := False
		for _, p := range x.parts {
			out = disjunction[out][eval(p, row)]
		}
		return out
	case *not:
		return negation[eval(x.part, row)]
	case *Constant:
		return truth(x.Value)
	case *IsNull:
		if x.Left.Index < 0 {
			return False | True
		}
		return truth((row[x.Left.Index].Kind == value.Null) != x.Not)
	case *Compare:
		return leaf(&x.Left, row, func(v value.Value) Truth { return compared(x.Left.Column, v, x.Op, x.Right.Value) })
	case *CompareColumns:
		if x.Left.Index < 0 || x.Right.Index < 0 {
			return False | Unknown | True
		}
		return columnsCompared(x, row[x.Left.Index], row[x.Right.Index])
	case *Flag:
		return leaf(&x.Left, row, func(v value.Value) Truth {
			if v.Kind != value.Bool && v.Kind != value.Int {
				return Unknown
			}
			return truth(v.N == 1)
		})
	case *In:
		return leaf(&x.Left, row, func(v value.Value) Truth {
			out := False
			for i := range x.List {
				out = disjunction[out][compared(x.Left.Column, v, Equal, x.List[i].Value)]
			}
			return negatedIf(x.Not, out)
		})
	case *Between:
		return leaf(&x.Left, row, func(v value.Value) Truth {
			return negatedIf(x.Not, conjunction[compared(x.Left.Column, v, GreaterEqual,
				x.Low.Value)][compared(x.Left.Column, v, LessEqual, x.High.Value)])
		})
	case *Like:
		return leaf(&x.Left, row, func(v value.Value) Truth {
			b := v.B
			if v.Kind != value.Text || bytes.IndexByte(b, 0) >= 0 {
				return Unknown
			}
			return truth(match(x.parts, trimmed(x.Left.Column, b)) != x.Not)
		})
	}
	panic("filter: a node of no known type")
}

func leaf(r *Ref, row []value.Value, fn func(value.Value) Truth) Truth {
	if r.Index < 0 {
		return False | Unknown | True
	}
	return fn(row[r.Index])
}

func negatedIf(not bool, t Truth) Truth {
	if not {
		return negation[t]
	}
	return t
}

// trimmed takes off the blanks that pad a value of a char(n) column: they are its storage, not its content.
func trimmed(c *shape.Column, b []byte) []byte {
	if c.Padded() {
		return bytes.TrimRight(b, " ")
	}
	return b
}

func compared(c *shape.Column, v value.Value, op Op, lit value.Value) Truth {
	if v.Kind == value.Text {
		v.B = trimmed(c, v.B)
	}
	sign, ok := compare(v, lit)
	if !ok {
		return Unknown
	}
	return truth(op.Holds(sign))
}

func columnsCompared(x *CompareColumns, l, r value.Value) Truth {
	if l.Kind == value.Text {
		l.B = trimmed(x.Left.Column, l.B)
	}
	if r.Kind == value.Text {
		r.B = trimmed(x.Right.Column, r.B)
	}
	if k := classOf(x.Left.Column); (k == dates || k == timestamps || k == instants) &&
		(l.Kind == value.Text && !late(l) || r.Kind == value.Text && !late(r)) {
		return Unknown // a date that is none
	}
	if l.Kind != r.Kind && !(numeric(l.Kind) && numeric(r.Kind)) && !late(l) && !late(r) {
		return Unknown
	}
	sign, ok := compare(l, r)
	if !ok {
		return Unknown
	}
	return truth(x.Op.Holds(sign))
}

func numeric(k value.Kind) bool {
	return k == value.Int || k == value.Decimal || k == value.Float64 || k == value.Float32
}

// Order orders two values as filters do; false where they have no order.
func Order(a, b value.Value) (sign int, ok bool) { return compare(a, b) }

// compare orders a value against a literal, or against a value of the same type; false where they have no order: one
// is NULL, or the value is of another storage class than its column's type. NaN equals itself and is greater than all
// else.
func compare(v, lit value.Value) (sign int, ok bool) {
	switch {
	case v.Kind == value.Null || lit.Kind == value.Null:
		return 0, false
	case numeric(v.Kind) && numeric(lit.Kind):
		return compareNumbers(v, lit), true
	case v.Kind == lit.Kind && (v.Kind == value.Text || v.Kind == value.UUID):
		return bytes.Compare(v.B, lit.B), true
	case v.Kind == value.Text && (lit.Kind == value.Timestamp || lit.Kind == value.Instant):
		if lit.Kind == value.Timestamp {
			if t, ok := clockOf(string(v.B)); ok {
				return compareInts(t.Unix()*1_000_000, lit.N), true
			}
		}
		if late(v) && lit.N == value.Infinity {
			return -1, true
		}
		return 1, late(v)
	case lit.Kind == value.Text && (v.Kind == value.Timestamp || v.Kind == value.Instant):
		sign, ok := compare(lit, v)
		return -sign, ok
	case v.Kind == lit.Kind && (v.Kind == value.Bool || v.Kind == value.Date || v.Kind == value.Timestamp ||
		v.Kind == value.Instant):
		return compareInts(v.N, lit.N), true
	}
	return 0, false
}

// late says whether a value is a time in a year of six digits, which is carried as text for lying beyond the count of
// microseconds; every other finite time is before it.
func late(v value.Value) bool {
	if v.Kind != value.Text || len(v.B) < 7 || v.B[6] != '-' {
		return false
	}
	for _, c := range v.B[:6] {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

func compareInts(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func compareNumbers(a, b value.Value) int {
	if a.Kind == value.Int && b.Kind == value.Int {
		return compareInts(a.N, b.N)
	}
	aFloat, bFloat := a.Kind == value.Float64 || a.Kind == value.Float32, b.Kind == value.Float64 ||
		b.Kind == value.Float32
	switch {
	case aFloat && bFloat:
		return compareFloats(a.Float(), b.Float())
	case aFloat && b.Kind == value.Decimal:
		return compareFloats(a.Float(), nearest(b))
	case bFloat && a.Kind == value.Decimal:
		return compareFloats(nearest(a), b.Float())
	case aFloat:
		return -compareIntFloat(b.N, a.Float())
	case bFloat:
		return compareIntFloat(a.N, b.Float())
	}
	return compareDecimals(a, b)
}

func compareFloats(a, b float64) int {
	switch {
	case math.IsNaN(a) && math.IsNaN(b):
		return 0
	case math.IsNaN(a):
		return 1
	case math.IsNaN(b):
		return -1
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// compareIntFloat compares exactly, beyond the 53 bits of a float too.
func compareIntFloat(n int64, f float64) int {
	switch {
	case math.IsNaN(f), math.IsInf(f, 1):
		return -1
	case math.IsInf(f, -1):
		return 1
	}
	return new(big.Float).SetPrec(2000).SetInt64(n).Cmp(new(big.Float).SetPrec(2000).SetFloat64(f))
}

func nearest(v value.Value) float64 {
	f, _, err := big.ParseFloat(v.String(), 10, 2000, big.ToNearestEven)
	if err != nil {
		return math.NaN()
	}
	x, _ := f.Float64()
	return x
}

// compareDecimals compares integers and exact decimals; NaN and the infinities are PostgreSQL's.
func compareDecimals(a, b value.Value) int {
	x, xs := rank(a)
	y, ys := rank(b)
	if xs != 0 || ys != 0 {
		return compareInts(int64(xs), int64(ys))
	}
	return x.Cmp(y)
}

func rank(v value.Value) (r *big.Rat, special int) {
	switch s := v.String(); s {
	case "NaN":
		return nil, 2
	case "Infinity":
		return nil, 1
	case "-Infinity":
		return nil, -1
	default:
		r, ok := new(big.Rat).SetString(s)
		if !ok {
			return new(big.Rat), 0
		}
		return r, 0
	}
}

// clockOf reads ISO text as the clock that it shows, to the whole second; where it names a zone, as its clock in UTC.
func clockOf(s string) (time.Time, bool) {
	for _, form := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05", "2006-01-02 15:04Z07:00",
		"2006-01-02 15:04:05Z07:00"} {
		if len(s) > 10 && s[10] == 'T' {
			s = s[:10] + " " + s[11:]
		}
		if t, err := time.Parse(form, s); err == nil {
			return t.UTC().Truncate(time.Second), true
		}
	}
	return time.Time{}, false
}

// match compares a text with a pattern, code point by code point.
func match(parts []likePart, s []byte) bool {
	star, from := -1, []byte(nil) // the last % passed, and where the text stood then
	at := 0
	for len(s) > 0 {
		if at < len(parts) && parts[at].any {
			star, from = at, s
			at++
			continue
		}
		r, n := codePoint(s)
		if at < len(parts) && (parts[at].one || parts[at].char == r) {
			s, at = s[n:], at+1
			continue
		}
		if star < 0 {
			return false
		}
		_, n = codePoint(from)
		from = from[n:]
		s, at = from, star+1
	}
	for at < len(parts) && parts[at].any {
		at++
	}
	return at == len(parts)
}

// codePoint takes the first code point off a text. Bytes that are not UTF-8 are read as SQLite reads them
// (sqlite3Utf8Read in its utf.c), so that both judge a pattern alike: a lead byte takes all continuation bytes with
// it.
func codePoint(s []byte) (rune, int) {
	c := rune(s[0])
	if c < 0xC0 {
		return c, 1
	}
	switch {
	case c < 0xE0:
		c &= 0x1F
	case c < 0xF0:
		c &= 0x0F
	case c < 0xF8:
		c &= 0x07
	default:
		c &= 0x03
	}
	n := 1
	for n < len(s) && s[n]&0xC0 == 0x80 {
		c = c<<6 + rune(s[n]&0x3F)
		n++
	}
	if c < 0x80 || c&^0x7FF == 0xD800 || c&^1 == 0xFFFE {
		c = 0xFFFD
	}
	return c, n
}
