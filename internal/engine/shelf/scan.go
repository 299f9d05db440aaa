package shelf

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
)

// copies lists the stores in which the rows of a segment can be read, in the order in which they are tried: its second
// copy comes last, and is the only one where the rows are cold in the first.
func (sh *Shelf) copies(s *catalog.Segment) (out []string) {
	if !s.Cold || s.Second == "" {
		out = append(out, s.RowsIn())
	}
	if s.Second != "" {
		out = append(out, s.Second)
	}
	return out
}

// ScanRows searches the rows of a segment, in whichever of its copies is what was written. The first time that a copy
// is read, all of it is compared with the SHA-256 of its manifest. Rows that were handed on before a copy failed are
// not handed on again.
func (sh *Shelf) ScanRows(ctx context.Context, s *catalog.Segment, m *archive.Manifest, q archive.Search,
	sink func(ordinal int, row []value.Value) error) (out archive.Scanned, err error) {
	last := -1
	var failed error
	for _, name := range sh.copies(s) {
		st, one := sh.Store(ctx, name)
		if one == nil {
			one = sh.checked(ctx, name, st, m, q)
		}
		stopped := error(nil)
		if one == nil {
			out, one = archive.Scan(ctx, st, m, q, func(ordinal int, row []value.Value) error {
				if ordinal <= last {
					return nil
				}
				if stopped = sink(ordinal, row); stopped == nil {
					last = ordinal
				}
				return stopped
			})
		}
		if one == nil {
			return out, nil
		}
		if stopped != nil || ctx.Err() != nil { // by who asked, not by the copy
			return out, one
		}
		sh.forget(name, m.Stem)
		failed = errors.Join(failed, one)
		if len(sh.copies(s)) > 1 {
			sh.Log.Error("a segment cannot be read from one of its copies", "segment", s.ID, "store", name, "error",
				one)
		}
	}
	return out, failed
}

// mostChecked is of how many files is kept that they were what was written when they were first read.
const mostChecked = 100_000

// checked compares a file of rows with its SHA-256 the first time that rows of it are read. What its bounds pass over
// is not read.
func (sh *Shelf) checked(ctx context.Context, name string, st store.Store, m *archive.Manifest,
	q archive.Search) error {
	if q.Bounds != nil && q.Filter != nil && !q.Bounds.Possibly(q.Filter) {
		return nil
	}
	key := name + "\x00" + m.Stem
	if sh.whole.Contains(key) {
		return nil
	}
	sum, err := archive.FileSum(ctx, st, m.RowsName())
	if err == nil && sum != m.SHA256 {
		err = fmt.Errorf("%w: its SHA-256 is %s instead of %s", archive.ErrDamaged, sum, m.SHA256)
	}
	if err != nil {
		return fmt.Errorf("segment %s (%s) in store %s: %w", m.Segment, m.RowsName(), name, err)
	}
	sh.whole.Add(key, struct{}{})
	return nil
}

// forget has a file compared again when it is next read.
func (sh *Shelf) forget(name, stem string) { sh.whole.Remove(name + "\x00" + stem) }

// RecordsOf reads manifest and closing record of a segment, from its second copy where the first does not give them.
func (sh *Shelf) RecordsOf(ctx context.Context, s *catalog.Segment) (m *archive.Manifest, books *archive.Closing,
	err error) {
	var failed error
	for _, name := range []string{s.Store, s.Second} {
		if name == "" {
			continue
		}
		st, err := sh.Store(ctx, name)
		if err == nil {
			m, books, err = sh.Load(ctx, st, s)
		}
		if err == nil {
			return m, books, nil
		}
		if ctx.Err() != nil {
			return nil, nil, err
		}
		failed = errors.Join(failed, fmt.Errorf("store %s: %w", name, err))
	}
	return nil, nil, failed
}
