package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Adopted is what was taken up from a store.
type Adopted struct {
	Segments int `json:"segments"` // that the catalog did not know
	// that it knew otherwise than their records tell: where their rows lie, or what has become of them since
	Renewed int `json:"renewed"`
}

// Adopt brings into the catalog every segment of a store that it does not know: after the catalog was lost or turned
// back, the store alone tells what was archived. Of those that it knows, it finds out anew where their rows lie and
// what their records tell. One that cannot be read does not keep others from being taken up.
func (kp *Keeper) Adopt(ctx context.Context, actor, storeName string) (out Adopted, err error) {
	st, err := kp.Store(ctx, storeName)
	if err != nil {
		return out, err
	}
	for stem, listing := range archive.Stems(ctx, st, "") {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if listing != nil {
			return out, errors.Join(err, listing)
		}
		fresh, renewed, one := kp.takeUp(ctx, st, storeName, stem)
		if one != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", stem, one))
		}
		if fresh {
			out.Segments++
		}
		if renewed {
			out.Renewed++
		}
	}
	return out, errors.Join(err, kp.Catalog.Note(ctx, actor, "store adopt", storeName,
		fmt.Sprintf("%d segments taken up, %d renewed", out.Segments, out.Renewed)))
}

// takeUp takes one segment of a store into the catalog, or renews what that knows of it.
func (kp *Keeper) takeUp(ctx context.Context, st store.Store, storeName, stem string) (fresh, renewed bool,
	err error) {
	kp.shelf.Reading.RLock()
	defer kp.shelf.Reading.RUnlock()
	m, hash, err := archive.LoadManifest(ctx, st, stem)
	if err != nil {
		return false, false, err
	}
	known, err := kp.Catalog.Segment(ctx, m.Segment)
	if errors.Is(err, catalog.ErrNotFound) {
		s, err := kp.segmentOf(ctx, st, storeName, m, hash)
		if err != nil {
			return false, false, err
		}
		return true, false, kp.Catalog.Adopt(ctx, s)
	}
	if err != nil || known.Store != storeName {
		return false, false, err
	}
	if renewed, err = kp.renew(ctx, st, known, m, hash); renewed {
		err = errors.Join(err, kp.Catalog.TakeUp(ctx, known))
	}
	return false, renewed, err
}

// renew brings what the catalog knows of a segment to what its store tells. A run that the catalog knows deals with
// its open segments itself.
func (kp *Keeper) renew(ctx context.Context, st store.Store, s *catalog.Segment, m *archive.Manifest,
	hash string) (bool, error) {
	if s.State == catalog.SegmentDisposed || s.ManifestHash != "" && s.ManifestHash != hash || s.Disposal != "" {
		return false, nil
	}
	now, err := kp.segmentOf(ctx, st, s.Store, m, hash)
	if err != nil {
		return false, err
	}
	if s.State == catalog.SegmentWriting || s.State == catalog.SegmentOpen || s.State == catalog.SegmentAbandoned {
		if _, err := kp.Catalog.Run(ctx, s.Run); err == nil || !errors.Is(err, catalog.ErrNotFound) {
			return false, err
		}
		*s = *now // its adoption was interrupted
		return true, nil
	}
	if now.State == catalog.SegmentDisposed { // after the catalog was turned back
		s.State, s.Disposal, s.DisposedAt, s.DisposalSeq, s.DisposalHash, s.Erased = now.State, now.Disposal,
			now.DisposedAt, now.DisposalSeq, now.DisposalHash, now.Erased
		return true, nil
	}
	there, err := kp.RowsIn(ctx, s.RowsIn(), m)
	if err != nil || there || s.Leaving != "" {
		return false, err
	}
	lies := now.RowsStore
	if lies == "" {
		lies = s.Store
	}
	if there, err := kp.RowsIn(ctx, lies, m); err != nil || !there { // they are in no store: verifying says so
		return false, err
	}
	s.RowsStore, s.Cold, s.WarmUntil = now.RowsStore, now.Cold, now.WarmUntil
	if s.Second == lies { // what is left of two copies is one
		s.Second, s.SecondAt = "", nil
	}
	return true, nil
}

// RowsIn says whether the rows of a segment lie in a store, cold or not.
func (kp *Keeper) RowsIn(ctx context.Context, name string, m *archive.Manifest) (bool, error) {
	st, err := kp.Store(ctx, name)
	if err != nil {
		return false, err
	}
	f, err := st.Open(ctx, m.RowsName())
	switch {
	case err == nil:
		return true, f.Close()
	case shelf.IsCold(err):
		return true, nil
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	}
	return false, fmt.Errorf("store %s: %w", name, err)
}

// findRows looks in which store the rows of a segment lie, where they are not with its records: those first that were
// moved there, which have no manifest beside them, and second copies last.
func (kp *Keeper) findRows(ctx context.Context, records store.Store, s *catalog.Segment, m *archive.Manifest) error {
	if f, err := records.Open(ctx, m.RowsName()); err == nil {
		return f.Close()
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	stores, err := kp.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	copied := ""
	for _, c := range stores {
		st, err := kp.Store(ctx, c.Name)
		if err != nil {
			kp.Log.Warn("a store cannot be searched for rows", "store", c.Name, "segment", s.ID, "error", err)
			continue
		}
		there, err := kp.RowsIn(ctx, c.Name, m)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		if f, err := st.Open(ctx, m.ManifestName()); err == nil {
			f.Close()
			copied = c.Name
			continue
		}
		return kp.liesIn(ctx, s, c.Name, st, m)
	}
	if copied == "" {
		return nil // they are lost, or a store is not there yet: verifying says so
	}
	st, err := kp.Store(ctx, copied)
	if err != nil {
		return err
	}
	return kp.liesIn(ctx, s, copied, st, m)
}

// liesIn notes in which store the rows of a segment lie, and whether they are cold there.
func (kp *Keeper) liesIn(ctx context.Context, s *catalog.Segment, name string, st store.Store,
	m *archive.Manifest) error {
	s.RowsStore = name
	cold := store.AsCold(st)
	if cold == nil {
		return nil
	}
	w, err := cold.Warmth(ctx, m.RowsName())
	if s.Cold = w.Cold; w.Until != nil { // a copy that was retrieved: it is cold all the same
		until := catalog.At(*w.Until)
		s.WarmUntil = &until
	}
	return err
}

// segmentOf is a segment as its records in a store tell of it.
func (kp *Keeper) segmentOf(ctx context.Context, st store.Store, storeName string, m *archive.Manifest,
	hash string) (*catalog.Segment, error) {
	s := &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: m.Segment, Run: m.Run, Number: m.Number,
		Clause: m.Clause, Source: m.Source, Table: m.Table, Store: storeName, Stem: m.Stem, State: catalog.SegmentOpen,
		CreatedAt: catalog.At(m.Stored), Rewrites: m.Rewrites, Rule: m.Rule},
		SegmentContent: catalog.SegmentContent{Rows: m.Rows, RawBytes: m.RawBytes, FileBytes: m.FileBytes,
			Digest: m.Digest.String()},
		SegmentChain: catalog.SegmentChain{Sequence: m.Sequence, ManifestHash: hash}}
	if span, err := archive.LoadRange(ctx, st, m); err == nil && span != nil {
		s.Oldest, s.Newest = span.Oldest, span.Newest
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil {
		return nil, err
	}
	if books != nil {
		at := catalog.At(books.Closed)
		s.State, s.ClosedAt, s.ClosingHash, s.ClosingSeq = catalog.SegmentClosed, &at, hash, books.Sequence
		s.Deleted, s.Changed, s.Vanished, s.Held, s.Skipped = books.Deleted, int64(len(books.Changed)),
			int64(len(books.Vanished)), int64(len(books.Held)), int64(len(books.Skipped))
		if keep, err := period.Parse(m.Keep); m.Keep != "" && err == nil {
			s.KeepUntil = tables.KeptUntil(m, s.Newest, m.KeepFrom, &keep)
		}
	}
	d, hash, err := archive.LoadDisposal(ctx, st, m)
	if err != nil {
		return nil, err
	}
	if books != nil && d != nil {
		gone := catalog.At(d.At)
		s.State, s.Disposal, s.DisposedAt, s.DisposalSeq, s.DisposalHash, s.Erased = catalog.SegmentDisposed,
			d.Disposal, &gone, d.Sequence, hash, d.Erasure
		return s, nil
	}
	return s, kp.findRows(ctx, st, s, m)
}
