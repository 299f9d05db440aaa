package archive

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/value"
)

// Verify reads a segment back from its store: its size, its SHA-256, every row, and the digest of all rows. Rows are
// handed on to sink with their digests; it may be nil.
func Verify(ctx context.Context, st store.Store, m *Manifest, sink func(*value.Chunk, []value.Digest) error) error {
	var set value.Set
	var hasher value.Hasher
	var digests []value.Digest
	err := readBack(ctx, st, m, func(c *value.Chunk) error {
		digests = digests[:0]
		for i := range c.Rows() {
			d := hasher.Row(c.Row(i))
			set.Add(d)
			digests = append(digests, d)
		}
		if sink != nil {
			return sink(c, digests)
		}
		return nil
	})
	if err == nil && set != m.Digest {
		err = segmentError(m, fmt.Errorf("%w: the digest of its rows is %s instead of %s", ErrDamaged, set, m.Digest))
	}
	return err
}

func segmentError(m *Manifest, err error) error {
	return fmt.Errorf("segment %s (%s): %w", m.Segment, m.RowsName(), err)
}

// readBack reads a segment's file from its store, compares its size and SHA-256 with the manifest, and hands on its
// rows.
func readBack(ctx context.Context, st store.Store, m *Manifest, sink func(*value.Chunk) error) error {
	f, err := st.Open(ctx, m.RowsName())
	if err != nil {
		return segmentError(m, err)
	}
	defer f.Close()
	if f.Size() != m.FileBytes {
		return segmentError(m, fmt.Errorf("%w: it has %d bytes instead of %d", ErrDamaged, f.Size(), m.FileBytes))
	}
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, f.Size())); err != nil {
		return segmentError(m, err)
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != m.SHA256 {
		return segmentError(m, fmt.Errorf("%w: its SHA-256 is %s instead of %s", ErrDamaged, got, m.SHA256))
	}
	err = Read(f, f.Size(), m.Laid(m.Columns), m.Rows, func(c *value.Chunk) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return sink(c)
	})
	if err != nil {
		return segmentError(m, err)
	}
	return nil
}
