package value

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"math/bits"

	"golang.org/x/crypto/blake2b"
)

// Digest is the BLAKE2b-256 (RFC 7693) of a row's canonical bytes: as strong as SHA-256, and several times as fast on
// rows.
type Digest [blake2b.Size256]byte

// AppendCanonical appends a value's canonical bytes: one byte for the kind; then floats as 8 bytes big-endian, whole
// numbers and times as zigzag variable-length integers, and all others as a variable-length count and their bytes
// (both as in Protocol Buffers, "Base 128 Varints" and "Signed Integers"). Decimals are written as their exact text,
// so that one digest holds for every way of carrying them. Two values are identical, in the sense of this service,
// exactly when these bytes are equal.
func (v Value) AppendCanonical(dst []byte) []byte { return v.appendCanonical(dst) }

func (v *Value) appendCanonical(dst []byte) []byte {
	dst = append(dst, byte(v.Kind))
	switch v.Kind {
	case Null:
		return dst
	case Text, Bytes, UUID:
		dst = binary.AppendUvarint(dst, uint64(len(v.B)))
		return append(dst, v.B...)
	case Decimal:
		var digits [64]byte
		text := v.appendDecimal(digits[:0])
		return append(binary.AppendUvarint(dst, uint64(len(text))), text...)
	case Float64, Float32:
		return binary.BigEndian.AppendUint64(dst, uint64(v.N))
	default:
		return binary.AppendVarint(dst, v.N)
	}
}

// Hasher computes row digests and reuses its buffer. Its zero value is ready; it is not safe for concurrent use.
type Hasher struct{ buf []byte }

// wide is how many bytes a value may have to be copied once more for its digest.
const wide = 64 << 10

// Row returns the digest of a row: its values' canonical bytes in column order.
func (h *Hasher) Row(row []Value) (d Digest) {
	buf := h.buf[:0]
	var stream hash.Hash
	for i := range row {
		v := &row[i]
		if len(v.B) <= wide || v.Kind != Text && v.Kind != Bytes {
			buf = v.appendCanonical(buf)
			continue
		}
		if stream == nil {
			stream, _ = blake2b.New256(nil) // without a key it cannot fail
		}
		stream.Write(binary.AppendUvarint(append(buf, byte(v.Kind)), uint64(len(v.B))))
		stream.Write(v.B)
		buf = buf[:0]
	}
	h.buf = buf
	if stream == nil {
		return blake2b.Sum256(buf)
	}
	stream.Write(buf)
	stream.Sum(d[:0])
	return d
}

// Set is the digest of a set of rows: the sum of their digests as 256-bit numbers modulo 2^256, and their count.
// The order of the rows does not matter, and sets add and subtract. The zero value is the empty set.
type Set struct {
	words [4]uint64 // least significant first
	Count int64
}

// Add puts a row into the set.
func (s *Set) Add(d Digest) { s.combine(d.words(), 1) }

// Remove takes a row out of the set.
func (s *Set) Remove(d Digest) { s.take(d.words(), 1) }

// Merge puts all rows of o into the set.
func (s *Set) Merge(o Set) { s.combine(o.words, o.Count) }

// Subtract takes all rows of o out of the set.
func (s *Set) Subtract(o Set) { s.take(o.words, o.Count) }

func (d Digest) words() (w [4]uint64) {
	for i := range w {
		w[i] = binary.BigEndian.Uint64(d[24-8*i:])
	}
	return w
}

func (s *Set) combine(w [4]uint64, n int64) {
	var carry uint64
	for i := range w {
		s.words[i], carry = bits.Add64(s.words[i], w[i], carry)
	}
	s.Count += n
}

func (s *Set) take(w [4]uint64, n int64) {
	var borrow uint64
	for i := range w {
		s.words[i], borrow = bits.Sub64(s.words[i], w[i], borrow)
	}
	s.Count -= n
}

// String writes the set as COUNT:HEX, 64 hexadecimal digits.
func (s Set) String() string {
	var b [32]byte
	for i, w := range s.words {
		binary.BigEndian.PutUint64(b[24-8*i:], w)
	}
	return fmt.Sprintf("%d:%s", s.Count, hex.EncodeToString(b[:]))
}

// ParseSet is the inverse of String.
func ParseSet(text string) (Set, error) {
	var s Set
	var digits string
	if n, err := fmt.Sscanf(text, "%d:%64s", &s.Count, &digits); n != 2 || err != nil || len(digits) != 64 {
		return Set{}, fmt.Errorf("value: %q is not a set digest (COUNT:64 hexadecimal digits)", text)
	}
	b, err := hex.DecodeString(digits)
	if err != nil {
		return Set{}, fmt.Errorf("value: %q is not a set digest: %v", text, err)
	}
	for i := range s.words {
		s.words[i] = binary.BigEndian.Uint64(b[24-8*i:])
	}
	if s.String() != text {
		return Set{}, fmt.Errorf("value: %q is not a set digest in its one written form", text)
	}
	return s, nil
}

// MarshalText and UnmarshalText carry the set in JSON and in the journal.
func (s Set) MarshalText() ([]byte, error) { return []byte(s.String()), nil }
func (s *Set) UnmarshalText(b []byte) (err error) {
	*s, err = ParseSet(string(b))
	return err
}
