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

// WriteBeside stores the joined rows of a segment and notes in b what was written. feed hands the rows over.
func WriteBeside(ctx context.Context, st store.Store, m *Manifest, b *Beside,
	feed func(write func(*value.Chunk) error) error) error {
	f, err := st.Create(ctx, m.BesideName(b.Join))
	if err != nil {
		return err
	}
	w := NewWriter(f, b.Table, b.Columns)
	var hasher value.Hasher
	err = feed(func(c *value.Chunk) error {
		for i := range c.Rows() {
			b.Digest.Add(hasher.Row(c.Row(i)))
		}
		return w.Write(c)
	})
	if err != nil {
		f.Abort()
		return err
	}
	if b.Written, err = w.Close(); err != nil {
		f.Abort()
		return err
	}
	return f.Commit()
}

// VerifyBeside reads the files of joined rows back from their store: size, SHA-256, every row, and the digest of all.
// Rows are handed on to sink, which may be nil.
func VerifyBeside(ctx context.Context, st store.Store, m *Manifest, sink func(b *Beside, c *value.Chunk) error) error {
	for i := range m.Beside {
		if err := verifyBeside(ctx, st, m, &m.Beside[i], sink); err != nil {
			return fmt.Errorf("segment %s (%s): %w", m.Segment, m.BesideName(m.Beside[i].Join), err)
		}
	}
	return nil
}

func verifyBeside(ctx context.Context, st store.Store, m *Manifest, b *Beside,
	sink func(b *Beside, c *value.Chunk) error) error {
	f, err := st.Open(ctx, m.BesideName(b.Join))
	if err != nil {
		return err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, f.Size())); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); f.Size() != b.FileBytes || got != b.SHA256 {
		return fmt.Errorf("%w: it has %d bytes with the SHA-256 %s instead of %d with %s", ErrDamaged, f.Size(), got,
			b.FileBytes, b.SHA256)
	}
	var set value.Set
	var hasher value.Hasher
	err = Read(f, f.Size(), b.Laid(b.Columns), b.Rows, func(c *value.Chunk) error {
		for i := range c.Rows() {
			set.Add(hasher.Row(c.Row(i)))
		}
		if sink != nil {
			return sink(b, c)
		}
		return ctx.Err()
	})
	if err == nil && set != b.Digest {
		err = fmt.Errorf("%w: the digest of its rows is %s instead of %s", ErrDamaged, set, b.Digest)
	}
	return err
}
