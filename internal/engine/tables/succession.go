package tables

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// AdvanceHead brings the head of a table's chain in the source to the newest link, where it is one behind, and returns
// it.
func (ts *Tables) AdvanceHead(ctx context.Context, src source.Source, sourceName, table string) (newest source.Head,
	err error) {
	if err := ts.finishDisposals(ctx, sourceName, table); err != nil {
		return newest, err
	}
	for {
		head, err := src.Head(ctx, table)
		if err != nil {
			return newest, err
		}
		if newest, err = ts.NewestLink(ctx, sourceName, table, head); err != nil {
			return newest, err
		}
		if newest != head {
			if err := src.SetHead(ctx, table, newest); err != nil {
				return newest, err
			}
		}
		more, err := ts.finishSuccessor(ctx, sourceName, table)
		if err != nil || !more {
			return newest, err
		}
	}
}

// ClaimWait is how long a disposal waits for a table that a run is at work on.
const ClaimWait = 3 * time.Second

// finishDisposals finds out which disposal records were written that the catalog has not heard of, when the service
// was stopped in between. Whoever adds to a table's chain asks for it first.
func (ts *Tables) finishDisposals(ctx context.Context, sourceName, table string) error {
	begun, err := ts.Catalog.BeingDisposed(ctx, sourceName, table)
	if err != nil {
		return err
	}
	for i := range begun {
		s := &begun[i]
		if s.State != catalog.SegmentClosed {
			continue
		}
		st, err := ts.Store(ctx, s.Store)
		if err != nil {
			return err
		}
		m, _, err := archive.LoadManifest(ctx, st, s.Stem)
		if err != nil {
			return err
		}
		x, hash, err := archive.LoadDisposal(ctx, st, m)
		if err != nil {
			return err
		}
		if x == nil { // it never came to be
			s.Disposal = ""
		} else {
			s.State, s.Disposal, s.DisposalSeq, s.DisposalHash, s.Erased = catalog.SegmentDisposed, x.Disposal,
				x.Sequence, hash, x.Erasure
		}
		if err := ts.Catalog.SaveSegment(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// AgePlace is the place of the column that the age of a row stands in; -1 where it stood in another table.
func AgePlace(m *archive.Manifest) int {
	if m.Age.Join != "" {
		return -1
	}
	return slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == m.Age.Column })
}

// finishSuccessor writes the next record that is missing of a segment which holds what stayed of another: its
// manifest, or its closing record. It says whether it wrote one; the head of the chain is to be settled then, and
// asked again.
func (ts *Tables) finishSuccessor(ctx context.Context, sourceName, table string) (bool, error) {
	begun, err := ts.Catalog.BeingDisposed(ctx, sourceName, table)
	if err != nil {
		return false, err
	}
	for i := range begun {
		s := &begun[i]
		if s.State != catalog.SegmentDisposed {
			continue
		}
		st, err := ts.Store(ctx, s.Store)
		if err != nil {
			return false, err
		}
		m, _, err := archive.LoadManifest(ctx, st, s.Stem)
		if err != nil {
			return false, err
		}
		x, _, err := archive.LoadDisposal(ctx, st, m)
		if err != nil || x == nil || x.Successor == nil {
			if err != nil {
				return false, err
			}
			continue
		}
		if wrote, err := ts.succeed(ctx, st, s, m, x); err != nil || wrote {
			return wrote, err
		}
	}
	return false, nil
}

// succeed writes the next missing record of the successor of a segment.
func (ts *Tables) succeed(ctx context.Context, st store.Store, s *catalog.Segment, m *archive.Manifest,
	x *archive.Disposal) (bool, error) {
	fresh := x.Successor.Manifest(m)
	known, err := ts.Catalog.Segment(ctx, fresh.Segment)
	if errors.Is(err, catalog.ErrNotFound) {
		known = &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: fresh.Segment, Run: s.Run, Number: s.Number,
			Clause: s.Clause, Source: s.Source, Table: s.Table, Part: s.Part, Store: s.Store, Stem: fresh.Stem,
			State: catalog.SegmentWriting, CreatedAt: s.CreatedAt, Rewrites: s.ID, Rule: s.Rule}}
		err = ts.Catalog.AddSegment(ctx, known)
	}
	if err != nil {
		return false, err
	}
	switch known.State {
	case catalog.SegmentWriting:
		return true, ts.succeedManifest(ctx, st, s, known, fresh)
	case catalog.SegmentOpen:
		return true, ts.succeedClosing(ctx, st, s, known)
	}
	return false, nil
}

// nextLink is the link that follows the newest of a table that the catalog knows.
func (ts *Tables) nextLink(ctx context.Context, s *catalog.Segment) (archive.Link, error) {
	sequence, hash, err := ts.Catalog.LastLink(ctx, s.Source, s.Table)
	return archive.Link{Sequence: sequence + 1, Previous: hash}, err
}

func (ts *Tables) succeedManifest(ctx context.Context, st store.Store, s, known *catalog.Segment,
	fresh *archive.Manifest) error {
	there, hash, err := archive.LoadManifest(ctx, st, fresh.Stem)
	if errors.Is(err, fs.ErrNotExist) {
		span, described, err := SpanOf(ctx, st, fresh)
		if err != nil {
			return err
		}
		described.Into(&span)
		if err := st.Remove(ctx, fresh.RangeName()); err != nil { // of a try that was interrupted
			return err
		}
		if fresh.Link, err = ts.nextLink(ctx, s); err != nil {
			return err
		}
		if hash, err = archive.Publish(ctx, st, fresh, span); err != nil {
			return err
		}
	} else if err != nil {
		return err
	} else {
		fresh = there
	}
	if span, err := archive.LoadRange(ctx, st, fresh); err == nil && span != nil {
		known.Oldest, known.Newest = span.Oldest, span.Newest
	}
	now := catalog.At(ts.Now())
	known.State, known.Rows, known.RawBytes, known.FileBytes, known.Digest, known.VerifiedAt = catalog.SegmentOpen,
		fresh.Rows, fresh.RawBytes, fresh.FileBytes, fresh.Digest.String(), &now
	known.Sequence, known.ManifestHash = fresh.Sequence, hash
	known.WantSecond, known.ColdStore, known.ColdAt = s.WantSecond, s.ColdStore, s.ColdAt
	if keep, err := period.Parse(fresh.Keep); fresh.Keep != "" && err == nil {
		known.KeepUntil = KeptUntil(fresh, known.Newest, fresh.KeepFrom, &keep)
	}
	return ts.Catalog.SaveSegment(ctx, known)
}

// SpanOf reads a file of rows that stayed, and describes it for its side file.
func SpanOf(ctx context.Context, st store.Store, m *archive.Manifest) (span archive.Range, d *archive.Description,
	err error) {
	if d, err = archive.Describe(ctx, st, m); err != nil {
		return span, nil, err
	}
	age := AgePlace(m)
	keys := make([]int, len(m.Key))
	for i, k := range m.Key {
		keys[i] = slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == k })
	}
	seen := false
	err = archive.Verify(ctx, st, m, func(c *value.Chunk, _ []value.Digest) error {
		d.Rows(c)
		for i := range c.Rows() {
			row := c.Row(i)
			key := make([]value.Value, len(keys))
			for j, at := range keys {
				key[j] = row[at]
			}
			if age >= 0 {
				text := string(row[age].AppendText(nil))
				if !seen {
					span.Oldest = text
				}
				span.Newest = text
			}
			if !seen {
				span.FirstKey = source.EncodePosition(key)
			}
			span.LastKey, seen = source.EncodePosition(key), true
		}
		return ctx.Err()
	})
	return span, d, err
}

// succeedClosing closes a segment of rows that stayed: all of them have left their table.
func (ts *Tables) succeedClosing(ctx context.Context, st store.Store, s, known *catalog.Segment) error {
	m, _, err := archive.LoadManifest(ctx, st, known.Stem)
	if err != nil {
		return err
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil {
		return err
	}
	if books == nil {
		books = &archive.Closing{Deleted: m.Rows, Digest: m.Digest, Changed: []int{}, Vanished: []int{}, Held: []int{},
			Skipped: []int{}, Closed: ts.Now().UTC().Truncate(time.Millisecond)}
		if books.Link, err = ts.nextLink(ctx, s); err != nil {
			return err
		}
		if hash, err = archive.WriteClosing(ctx, st, m, books); err != nil {
			return err
		}
	}
	at := catalog.At(books.Closed)
	known.State, known.ClosedAt, known.ClosingHash, known.ClosingSeq, known.Deleted = catalog.SegmentClosed, &at, hash,
		books.Sequence, books.Deleted
	if err := ts.Catalog.SaveSegment(ctx, known); err != nil {
		return err
	}
	ts.inHand.Delete(known.Store + "\x00" + known.Stem)
	return nil
}
