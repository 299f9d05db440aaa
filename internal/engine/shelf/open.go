package shelf

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
)

// SegmentDetail is a segment with what its manifest says of its content.
type SegmentDetail struct {
	catalog.Segment
	Told
}

// Told is what the manifest of a segment says of its columns, and of what lies with it.
type Told struct {
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
	out := &SegmentDetail{*s, Told{Omitted: []string{}, Masked: map[string]string{}, Included: []string{},
		Beside: []BesideFile{}}}
	st, err := sh.Store(ctx, s.Store)
	if err != nil {
		return out, nil
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return out, nil
	}
	out.Omitted, out.Included, out.GoesWith = append(out.Omitted, m.Omitted...), append(out.Included, m.Included...),
		m.GoesWith
	maps.Copy(out.Masked, m.Masked)
	for _, b := range m.Beside {
		out.Beside = append(out.Beside, BesideFile{File: m.BesideName(b.Join), Table: b.Table, Rows: b.Rows,
			Bytes: b.FileBytes})
	}
	return out, nil
}

// Load reads a segment's manifest and closing record and checks them against the hashes in the catalog.
func (sh *Shelf) Load(ctx context.Context, st store.Store, s *catalog.Segment) (*archive.Manifest, *archive.Closing,
	error) {
	m, hash, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return nil, nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	if hash != s.ManifestHash {
		return nil, nil, fmt.Errorf("segment %s: %w: its manifest has the hash %s instead of %s", s.ID,
			archive.ErrDamaged, hash, s.ManifestHash)
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil {
		return nil, nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	if books != nil && s.State == catalog.SegmentClosed && hash != s.ClosingHash || books == nil &&
		s.State == catalog.SegmentClosed {
		return nil, nil, fmt.Errorf("segment %s: %w: its closing record has the hash %q instead of %s", s.ID,
			archive.ErrDamaged, hash, s.ClosingHash)
	}
	return m, books, nil
}

// StoreOf opens the store of a segment: of its records, and of its rows where those lie elsewhere.
func (sh *Shelf) StoreOf(ctx context.Context, s *catalog.Segment) (store.Store, error) {
	records, err := sh.Store(ctx, s.Store)
	if err != nil || s.RowsStore == "" {
		return records, err
	}
	rows, err := sh.Store(ctx, s.RowsStore)
	if err != nil {
		return nil, err
	}
	return archive.WithRows(records, rows), nil
}

func IsCold(err error) bool { return errors.Is(err, store.ErrCold) }

// ReadableStore opens the store in which the rows of a segment can be read now: its second one where they are cold in
// the first.
func (sh *Shelf) ReadableStore(ctx context.Context, s *catalog.Segment) (store.Store, error) {
	if s.Cold && s.Second != "" {
		return sh.Store(ctx, s.Second)
	}
	return sh.StoreOf(ctx, s)
}

// CopyOnce copies a file; one that is there from a copying that was interrupted must be the same.
func CopyOnce(ctx context.Context, from, to store.Store, file string) error {
	_, err := archive.CopyFile(ctx, from, to, file)
	if !errors.Is(err, store.ErrExists) {
		return err
	}
	same, err := archive.SameFile(ctx, from, to, file)
	if err == nil && !same {
		err = fmt.Errorf("there is another file %s already, and the archive overwrites nothing", file)
	}
	return err
}

// HeldBy says whether a store holds the files of rows of a segment, by their SHA-256. A file that went cold was read
// back before that.
func HeldBy(ctx context.Context, st store.Store, m *archive.Manifest) error {
	sums := map[string]string{m.RowsName(): m.SHA256}
	for _, b := range m.Beside {
		sums[m.BesideName(b.Join)] = b.SHA256
	}
	for _, file := range m.RowFiles() {
		sum, err := archive.FileSum(ctx, st, file)
		if IsCold(err) {
			continue
		}
		if err != nil {
			return err
		}
		if sum != sums[file] {
			return fmt.Errorf("%s: %w: it has the SHA-256 %.12s instead of %.12s", file, archive.ErrDamaged, sum,
				sums[file])
		}
	}
	return nil
}

// Whole opens a segment where it is what was written: in its store, or in the second one. Rows are read there once,
// and their digests kept.
func (sh *Shelf) Whole(ctx context.Context, s *catalog.Segment, digests *[]value.Digest) (store.Store,
	*archive.Manifest, *archive.Closing, error) {
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

func (sh *Shelf) wholeIn(ctx context.Context, s *catalog.Segment, digests *[]value.Digest,
	open func() (store.Store, error)) (store.Store, *archive.Manifest, *archive.Closing, error) {
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

// BesideFile is a file of joined rows beside a segment.
type BesideFile struct {
	File  string `json:"file"`
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
}

// FilesOf lists the files of a segment in a store that tell rows or values, and those that were begun and never
// completed.
func FilesOf(ctx context.Context, st store.Store, m *archive.Manifest) (whole []string, begun []store.Unfinished,
	err error) {
	list, err := st.List(ctx, m.Stem)
	if err != nil {
		return nil, nil, err
	}
	for _, o := range list {
		if stem, _, ok := archive.Ours(o.Name); ok && stem == m.Stem && o.Name != m.ManifestName() &&
			o.Name != m.ClosingName() && o.Name != m.DisposalName() {
			whole = append(whole, o.Name)
		}
	}
	begun, err = st.Unfinished(ctx, m.Stem)
	return whole, begun, err
}
