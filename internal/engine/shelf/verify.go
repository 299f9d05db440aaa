package shelf

import (
	"context"
	"errors"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
)

// Whole opens a segment where it is what was written: in its store, or in the second one. Rows are read there once, and their digests kept.
func (sh *Shelf) Whole(ctx context.Context, s *catalog.Segment, digests *[]value.Digest) (store.Store, *archive.Manifest, *archive.Closing, error) {
	st, m, books, err := sh.wholeIn(ctx, s, digests, func() (store.Store, error) { return sh.ReadableStore(ctx, s) })
	if err == nil || s.Second == "" || s.Cold || ctx.Err() != nil {
		return st, m, books, err
	}
	sh.Log.Error("a segment is read from its second copy", "segment", s.ID, "error", err)
	st, m, books, second := sh.wholeIn(ctx, s, digests, func() (store.Store, error) { return sh.Store(ctx, s.Second) })
	return st, m, books, errors.Join(second, ifBoth(second, err))
}

func ifBoth(second, first error) error {
	if second == nil {
		return nil
	}
	return first
}

func (sh *Shelf) wholeIn(ctx context.Context, s *catalog.Segment, digests *[]value.Digest, open func() (store.Store, error)) (store.Store, *archive.Manifest, *archive.Closing, error) {
	st, err := open()
	if err != nil {
		return nil, nil, nil, err
	}
	m, books, err := sh.Load(ctx, st, s)
	if err != nil { // any copy's will do: they are what the catalog's hashes say
		m, books, err = sh.RecordsOf(ctx, s)
	}
	if err == nil {
		*digests = (*digests)[:0]
		err = archive.Verify(ctx, st, m, func(_ *value.Chunk, d []value.Digest) error {
			*digests = append(*digests, d...)
			return nil
		})
	}
	return st, m, books, err
}
