package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
)

// VerifySegment reads a segment back from its store and checks it, its closing record, and both hashes.
func (e *Engine) VerifySegment(ctx context.Context, id string) (*catalog.Segment, error) {
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	st, err := e.storeOf(ctx, s)
	if err != nil {
		return nil, err
	}
	m, _, err := e.load(ctx, st, s)
	if err != nil {
		return nil, err
	}
	if s.State == catalog.SegmentDisposed {
		return nil, fmt.Errorf("segment %s was destroyed by disposal %s: %w", s.ID, s.Disposal, catalog.ErrState)
	}
	if s.Cold && (s.WarmUntil == nil || e.Now().After(s.WarmUntil.Time)) {
		return nil, &RefusedError{Field: "segment", Message: fmt.Sprintf("the rows of segment %s are in cold storage and cannot be read", s.ID), Remedy: "`ambercellar segment retrieve " + s.ID + "` fetches them for some days"}
	}
	e.reading.RLock()
	err = errors.Join(archive.Verify(ctx, st, m, nil), archive.VerifyBeside(ctx, st, m, nil))
	e.reading.RUnlock()
	if errors.Is(err, archive.ErrDamaged) || errors.Is(err, fs.ErrNotExist) {
		return nil, errors.Join(err, e.Catalog.Judged(ctx, s.ID, err.Error(), e.Now()))
	} else if err != nil {
		return nil, err
	}
	if err := e.Catalog.Judged(ctx, s.ID, "", e.Now()); err != nil {
		return nil, err
	}
	s.Damage = ""
	now := catalog.At(e.Now())
	s.VerifiedAt = &now
	return s, e.Catalog.SaveSegment(ctx, s)
}

// SegmentDetail is a segment with what its manifest says of its content.
type SegmentDetail struct {
	catalog.Segment
	Omitted  []string          `json:"omitted"`
	Masked   map[string]string `json:"masked"`
	Included []string          `json:"included"`  // columns of joined rows
	GoesWith *archive.GoesWith `json:"goes_with"` // of related rows
	Beside   []BesideFile      `json:"beside"`    // joined rows that are kept with the segment
}

// SegmentDetail returns a segment and what its manifest says. Where the store does not give the manifest, that part is
// empty.
func (e *Engine) SegmentDetail(ctx context.Context, id string) (*SegmentDetail, error) {
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &SegmentDetail{Segment: *s, Omitted: []string{}, Masked: map[string]string{}, Included: []string{}, Beside: []BesideFile{}}
	st, err := e.Store(ctx, s.Store)
	if err != nil {
		return out, nil
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return out, nil
	}
	out.Omitted, out.Included, out.GoesWith = append(out.Omitted, m.Omitted...), append(out.Included, m.Included...), m.GoesWith
	maps.Copy(out.Masked, m.Masked)
	for _, b := range m.Beside {
		out.Beside = append(out.Beside, BesideFile{File: m.BesideName(b.Join), Table: b.Table, Rows: b.Rows, Bytes: b.FileBytes})
	}
	return out, nil
}

// load reads a segment's manifest and closing record and checks them against the hashes in the catalog.
func (e *Engine) load(ctx context.Context, st store.Store, s *catalog.Segment) (*archive.Manifest, *archive.Closing, error) {
	m, hash, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return nil, nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	if hash != s.ManifestHash {
		return nil, nil, fmt.Errorf("segment %s: %w: its manifest has the hash %s instead of %s", s.ID, archive.ErrDamaged, hash, s.ManifestHash)
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil {
		return nil, nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	if books != nil && s.State == catalog.SegmentClosed && hash != s.ClosingHash || books == nil && s.State == catalog.SegmentClosed {
		return nil, nil, fmt.Errorf("segment %s: %w: its closing record has the hash %q instead of %s", s.ID, archive.ErrDamaged, hash, s.ClosingHash)
	}
	return m, books, nil
}

// Adopt brings into the catalog every segment of a store that it does not know: after the catalog was lost or turned
// back, the store alone tells what was archived. It returns how many there were.
func (e *Engine) Adopt(ctx context.Context, actor, storeName string) (adopted int, err error) {
	st, err := e.Store(ctx, storeName)
	if err != nil {
		return 0, err
	}
	stems, err := archive.Stems(ctx, st)
	if err != nil {
		return 0, err
	}
	for _, stem := range stems {
		m, hash, err := archive.LoadManifest(ctx, st, stem)
		if err != nil {
			return adopted, err
		}
		if _, err := e.Catalog.Segment(ctx, m.Segment); err == nil {
			continue
		} else if !errors.Is(err, catalog.ErrNotFound) {
			return adopted, err
		}
		if err := e.adoptSegment(ctx, st, storeName, m, hash); err != nil {
			return adopted, err
		}
		adopted++
	}
	return adopted, e.Catalog.Note(ctx, actor, "store adopt", storeName, fmt.Sprintf("%d segments", adopted))
}

// findRows looks in which store the rows of a segment lie, where they are not with its records.
func (e *Engine) findRows(ctx context.Context, records store.Store, s *catalog.Segment, m *archive.Manifest) error {
	if f, err := records.Open(ctx, m.RowsName()); err == nil {
		return f.Close()
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	places, err := e.places(ctx, "")
	if err != nil {
		return err
	}
	for _, p := range places {
		f, err := p.Store.Open(ctx, m.RowsName())
		switch {
		case errors.Is(err, store.ErrCold):
			s.RowsStore, s.Cold = p.Name, true
			return nil
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return fmt.Errorf("store %s: %w", p.Name, err)
		}
		f.Close()
		if s.RowsStore = p.Name; store.AsCold(p.Store) != nil { // a copy that was retrieved: it is cold all the same
			w, err := store.AsCold(p.Store).Warmth(ctx, m.RowsName())
			if err != nil {
				return err
			}
			if s.Cold = w.Cold; w.Until != nil {
				until := catalog.At(*w.Until)
				s.WarmUntil = &until
			}
		}
		return nil
	}
	return nil // they are lost, or a store is not there yet: verifying says so
}

func (e *Engine) adoptSegment(ctx context.Context, st store.Store, storeName string, m *archive.Manifest, hash string) error {
	s := &catalog.Segment{ID: m.Segment, Run: m.Run, Number: m.Number, Clause: m.Clause, Source: m.Source, Table: m.Table, Store: storeName, Stem: m.Stem,
		State: catalog.SegmentWriting, CreatedAt: catalog.At(m.Stored), Rewrites: m.Rewrites, Rule: m.Rule}
	if err := e.findRows(ctx, st, s, m); err != nil {
		return err
	}
	if err := e.Catalog.AddSegment(ctx, s); err != nil {
		return err
	}
	if span, err := archive.LoadRange(ctx, st, m); err == nil && span != nil {
		s.Oldest, s.Newest = span.Oldest, span.Newest
	}
	s.State, s.Rows, s.RawBytes, s.FileBytes, s.Digest = catalog.SegmentOpen, m.Rows, m.RawBytes, m.FileBytes, m.Digest.String()
	s.Sequence, s.ManifestHash = m.Sequence, hash
	if err := e.Catalog.SaveSegment(ctx, s); err != nil {
		return err
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil || books == nil {
		return err
	}
	at := catalog.At(books.Closed)
	s.State, s.ClosedAt, s.ClosingHash, s.ClosingSeq = catalog.SegmentClosed, &at, hash, books.Sequence
	s.Deleted, s.Changed, s.Vanished, s.Held, s.Skipped = books.Deleted, int64(len(books.Changed)), int64(len(books.Vanished)), int64(len(books.Held)), int64(len(books.Skipped))
	if keep, err := period.Parse(m.Keep); m.Keep != "" && err == nil {
		s.KeepUntil = keptUntil(m, s.Newest, m.KeepFrom, &keep)
	}
	if err := e.Catalog.SaveSegment(ctx, s); err != nil {
		return err
	}
	d, hash, err := archive.LoadDisposal(ctx, st, m)
	if err != nil || d == nil {
		return err
	}
	gone := catalog.At(d.At)
	s.State, s.Disposal, s.DisposedAt, s.DisposalSeq, s.DisposalHash, s.Erased = catalog.SegmentDisposed, d.Disposal, &gone, d.Sequence, hash, d.Erasure
	return e.Catalog.SaveSegment(ctx, s)
}
