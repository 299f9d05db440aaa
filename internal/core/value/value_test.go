package value

import (
	"bytes"
	"math"
	"strings"
	"testing"
)

// samples hold every kind with its extremes.
func samples() []Value {
	return []Value{{}, Of(0), Of(math.MinInt64), Of(math.MaxInt64), OfFloat(0), OfFloat(math.Copysign(0, -1)),
		OfFloat(math.NaN()), OfFloat(math.Inf(-1)), OfFloat(5e-324),
		OfFloat32(0.1), OfFloat32(float32(math.Inf(1))), OfBool(true), OfBool(false), OfText(""), OfText("a"),
		OfText("ab"), OfText("ÆØ 🚢:\n\""), {Kind: Text, B: []byte{0xff, 0xfe}}, OfBytes([]byte{}),
		OfBytes([]byte{0, 1}),
		{Kind: Decimal, N: 1250, Scale: 2}, {Kind: Decimal, N: -5, Scale: 2}, {Kind: Decimal, N: 12500, Scale: 3},
		{Kind: Decimal, B: []byte("NaN")}, {Kind: Decimal, N: math.MinInt64, Scale: 18},
		{Kind: Date, N: 0}, {Kind: Date, N: Infinity}, {Kind: Date, N: -800_000}, {Kind: Time, N: 86_400_000_000},
		{Kind: Timestamp, N: -1}, {Kind: Timestamp, N: NegInfinity}, {Kind: Instant, N: 1},
		{Kind: UUID, B: make([]byte, 16)}}
}

func TestTextIsWhatAPersonReads(t *testing.T) {
	for _, c := range []struct {
		v    Value
		want string
	}{
		{Of(-7), "-7"}, {OfFloat(0.1), "0.1"}, {OfFloat32(0.1), "0.1"}, {OfBool(true), "true"}, {Value{}, "NULL"},
		{OfBytes([]byte{0, 255}), `\x00ff`},
		{Value{Kind: Decimal, N: 1250, Scale: 2}, "12.50"}, {Value{Kind: Decimal, N: -5, Scale: 2}, "-0.05"},
		{Value{Kind: Decimal, N: 0, Scale: 3}, "0.000"}, {Value{Kind: Decimal, N: 42}, "42"},
		{Value{Kind: Decimal, N: math.MinInt64, Scale: 18}, "-9.223372036854775808"},
		{Value{Kind: Decimal, B: []byte("1e5")}, "1e5"},
		{Value{Kind: Date, N: 19782}, "2024-02-29"}, {Value{Kind: Date, N: NegInfinity}, "-infinity"},
		{Value{Kind: Date, N: 2932897}, "+10000-01-01"}, {Value{Kind: Date, N: -719529}, "-0001-12-31"},
		{Value{Kind: Time, N: 86_400_000_000}, "24:00:00"}, {Value{Kind: Time, N: 1_500_000}, "00:00:01.500000"},
		{Value{Kind: Timestamp, N: -1}, "1969-12-31T23:59:59.999999"},
		{Value{Kind: Instant, N: 0}, "1970-01-01T00:00:00Z"},
		{Value{Kind: UUID, B: []byte("0123456789abcdef")}, "30313233-3435-3637-3839-616263646566"},
	} {
		if got := c.v.String(); got != c.want {
			t.Errorf("%v of kind %s: got %q, want %q", c.v.N, c.v.Kind, got, c.want)
		}
	}
}

func TestCanonicalBytesDifferExactlyWhereValuesDo(t *testing.T) {
	all := samples()
	for i, a := range all {
		for j, b := range all {
			same := bytes.Equal(a.AppendCanonical(nil), b.AppendCanonical(nil))
			if same != (i == j) {
				t.Errorf("%s and %s: canonical bytes equal is %v", a.Exact(), b.Exact(), same)
			}
		}
	}
	unscaled, text := Value{Kind: Decimal, N: 1250, Scale: 2}, Value{Kind: Decimal, B: []byte("12.50")}
	if !bytes.Equal(unscaled.AppendCanonical(nil), text.AppendCanonical(nil)) {
		t.Error("a decimal has one digest, however it is carried")
	}
	var h Hasher
	if h.Row([]Value{OfText("a"), OfText("bc")}) == h.Row([]Value{OfText("ab"), OfText("c")}) {
		t.Error("the border between two values is lost in the digest")
	}
}

func TestExactReadsBackToTheSame(t *testing.T) {
	for _, v := range samples() {
		back, err := ParseExact(v.Exact())
		if err != nil || !bytes.Equal(back.AppendCanonical(nil), v.AppendCanonical(nil)) {
			t.Errorf("%s came back as %s, %v", v.Exact(), back.Exact(), err)
		}
	}
	for _, bad := range []string{"", "int", "int:", "int:x", "moon:1", "bytes:0", "float64:zz", "texthex:g0"} {
		if v, err := ParseExact(bad); err == nil {
			t.Errorf("%q was read as %s", bad, v.Exact())
		}
	}
}

func FuzzParseExact(f *testing.F) {
	for _, v := range samples() {
		f.Add(v.Exact())
	}
	f.Fuzz(func(t *testing.T, s string) {
		v, err := ParseExact(s)
		if err != nil {
			return
		}
		back, err := ParseExact(v.Exact())
		if err != nil || !bytes.Equal(back.AppendCanonical(nil), v.AppendCanonical(nil)) {
			t.Errorf("%q reads as %q and that as %q, %v", s, v.Exact(), back.Exact(), err)
		}
	})
}

func TestSetsAddAndSubtract(t *testing.T) {
	var h Hasher
	digests := make([]Digest, 100)
	var forward, backward, odd, even Set
	for i := range digests {
		digests[i] = h.Row([]Value{Of(int64(i))})
		forward.Add(digests[i])
		if i%2 == 0 {
			even.Add(digests[i])
		} else {
			odd.Add(digests[i])
		}
	}
	for i := range digests {
		backward.Add(digests[99-i])
	}
	if forward != backward || forward.Count != 100 {
		t.Error("the order of rows matters")
	}
	sum := odd
	sum.Merge(even)
	if sum != forward {
		t.Error("two halves are not the whole")
	}
	sum.Subtract(even)
	if sum != odd {
		t.Error("the whole less one half is not the other")
	}
	sum.Remove(digests[1])
	sum.Add(digests[1])
	if sum != odd {
		t.Error("a row taken out and put back changes the set")
	}
	back, err := ParseSet(forward.String())
	if err != nil || back != forward {
		t.Errorf("%s came back as %s, %v", forward, back, err)
	}
	twice := forward
	twice.Add(digests[0])
	if twice == forward {
		t.Error("a row that is there twice is not seen")
	}
	for _, bad := range []string{"", "1", "1:00", "x:" + strings.Repeat("0", 64), "01:" + strings.Repeat("0", 64),
		"1:" + strings.Repeat("G", 64), "1:" + strings.Repeat("0", 65)} {
		if _, err := ParseSet(bad); err == nil {
			t.Errorf("%q was read as a set", bad)
		}
	}
}

func TestAChunkKeepsWhatItIsGiven(t *testing.T) {
	c := &Chunk{Width: 1}
	var want []string
	for i := range 1000 {
		s := strings.Repeat(string(rune('a'+i%26)), i)
		c.Values = append(c.Values, Value{Kind: Text, B: c.Keep([]byte(s))})
		want = append(want, s)
	}
	for i, s := range want {
		if got := string(c.Row(i)[0].B); got != s {
			t.Fatalf("row %d: %q instead of %q", i, got, s)
		}
	}
	if c.Reset(); c.Rows() != 0 || c.Size() != 0 {
		t.Error("a chunk that was reset holds something")
	}
	if c.Keep(nil) == nil {
		t.Error("an empty text became nothing")
	}
}
