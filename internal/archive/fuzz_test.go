package archive

import (
	"bytes"
	"errors"
	"testing"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// FuzzRead: whatever bytes lie in the store, reading ends, without a panic, in rows or in ErrDamaged.
func FuzzRead(f *testing.F) {
	columns := []shape.Column{{Name: "id", Kind: value.Int}, {Name: "note", Kind: value.Text},
		{Name: "fare", Kind: value.Decimal, Precision: 9, Scale: 2}}
	var good bytes.Buffer
	w := NewWriter(&good, "scan", columns)
	chunk := &value.Chunk{Width: 3}
	for i := range int64(50) {
		chunk.Values = append(chunk.Values, value.Of(i), value.OfText("note"),
			value.Value{Kind: value.Decimal, B: []byte("NaN")})
	}
	if err := w.Write(chunk); err != nil {
		f.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		f.Fatal(err)
	}
	f.Add(good.Bytes())
	f.Add([]byte("PAR1PAR1"))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		rows := 0
		err := Read(bytes.NewReader(b), int64(len(b)), columns, 50, func(c *value.Chunk) error {
			rows += c.Rows()
			return nil
		})
		if err == nil && rows != 50 || err != nil && !errors.Is(err, ErrDamaged) {
			t.Errorf("%d rows, %v", rows, err)
		}
	})
}
