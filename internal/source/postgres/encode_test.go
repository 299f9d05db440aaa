package postgres

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// TestNumericsAreWrittenAsTheyAreRead: what is written in the server's form is read back as the same number.
func TestNumericsAreWrittenAsTheyAreRead(t *testing.T) {
	check := func(n int64, scale int) {
		t.Helper()
		raw := appendNumeric(nil, n, scale)
		if int(binary.BigEndian.Uint32(raw)) != len(raw)-4 {
			t.Fatalf("%d with %d digits behind the point: length %d of %d bytes", n, scale,
				binary.BigEndian.Uint32(raw), len(raw)-4)
		}
		c := &shape.Column{Name: "fare", Type: "numeric(18,2)", Kind: value.Decimal, Precision: 18, Scale: scale}
		v, err := decodeNumeric(raw[4:], c, func(b []byte) []byte { return b })
		want := value.Value{Kind: value.Decimal, N: n, Scale: uint8(scale)}
		if err != nil || string(v.AppendCanonical(nil)) != string(want.AppendCanonical(nil)) {
			t.Fatalf("%d with %d digits behind the point is read as %s, %v", n, scale, v.Exact(), err)
		}
	}
	for scale := range 18 {
		for _, n := range []int64{0, 1, -1, 9, 10, 99, 100, 9_999, 10_000, 10_001, 99_990_000, 100_000_000,
			123_456_789, 999_999_999_999_999_999, -999_999_999_999_999_999} {
			check(n, scale)
		}
		for range 300 {
			check(rand.Int64N(2*999_999_999_999_999_999)-999_999_999_999_999_999, scale)
			check(rand.Int64N(math.MaxInt32)-math.MaxInt32/2, scale)
		}
	}
}
