package shelf

import (
	"context"
	"fmt"
	"maps"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
)

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
func (sh *Shelf) SegmentDetail(ctx context.Context, id string) (*SegmentDetail, error) {
	s, err := sh.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &SegmentDetail{Segment: *s, Omitted: []string{}, Masked: map[string]string{}, Included: []string{}, Beside: []BesideFile{}}
	st, err := sh.Store(ctx, s.Store)
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

// Load reads a segment's manifest and closing record and checks them against the hashes in the catalog.
func (sh *Shelf) Load(ctx context.Context, st store.Store, s *catalog.Segment) (*archive.Manifest, *archive.Closing, error) {
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
