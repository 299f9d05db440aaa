package archive

import (
	"slices"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/value"
)

// Coarse puts a value on a line, so that a greater value is never to the left of a lesser one; several values may fall
// on one place. Values of different kinds are on different lines. False: values of the kind are on none.
func Coarse(v value.Value) (at float64, ok bool) {
	switch v.Kind {
	case value.Int:
		return float64(v.N), true
	case value.Text, value.UUID:
		n := uint64(0)
		for i := range 6 { // as many bytes as are exact in a number of this kind
			n <<= 8
			if i < len(v.B) {
				n |= uint64(v.B[i])
			}
		}
		return float64(n), true
	}
	return 0, false
}

// KeySpan is from where to where the values of the n-th column of the key lie, made coarse; false where that is not
// known.
func (r *Range) KeySpan(m *Manifest, n int) (low, high float64, ok bool) {
	if r == nil || n >= len(m.Key) {
		return 0, 0, false
	}
	b, err := r.Bounds(m)
	at := slices.IndexFunc(m.Columns, isNamed(m.Key[n]))
	if err != nil || at < 0 {
		return 0, 0, false
	}
	x := b.Column(at)
	if sign, ordered := filter.Order(x.Least, x.Greatest); !x.Known || !ordered || sign > 0 ||
		x.Least.Kind != m.Columns[at].Kind || x.Greatest.Kind != m.Columns[at].Kind {
		return 0, 0, false
	}
	low, one := Coarse(x.Least)
	high, other := Coarse(x.Greatest)
	return low, high, one && other
}
