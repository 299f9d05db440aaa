package tables

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/archive"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// NewestLink is the newest link that the catalog knows of a table, if the head that the source knows is that, or the one
// before it.
func (ts *Tables) NewestLink(ctx context.Context, sourceName, table string, head source.Head) (newest source.Head, err error) {
	newest.Sequence, newest.Hash, err = ts.Catalog.LastLink(ctx, sourceName, table)
	if err != nil || newest == head {
		return newest, err
	}
	if newest.Sequence == head.Sequence+1 {
		previous, err := ts.previousOf(ctx, sourceName, table, newest.Sequence)
		if err != nil || previous == head.Hash {
			return newest, err
		}
	}
	return newest, &refuse.Disagree{Source: sourceName, Table: table, Difference: fmt.Sprintf("the source's journal is at link %d of the chain (%.12s), the catalog at link %d (%.12s)", head.Sequence, head.Hash, newest.Sequence, newest.Hash)}
}

// previousOf reads from the store what the link of a sequence says of the one before it.
func (ts *Tables) previousOf(ctx context.Context, sourceName, table string, sequence int64) (string, error) {
	s, err := ts.Catalog.LinkSegment(ctx, sourceName, table, sequence)
	if err != nil {
		return "", err
	}
	st, err := ts.Store(ctx, s.Store)
	if err != nil {
		return "", err
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil || s.Sequence == sequence {
		return linkOf(m).Previous, err
	}
	if s.DisposalSeq == sequence {
		d, _, err := archive.LoadDisposal(ctx, st, m)
		if err != nil || d == nil {
			return "", errors.Join(err, fmt.Errorf("%w: link %d is not in store %s", refuse.ErrDisagree, sequence, s.Store))
		}
		return d.Previous, nil
	}
	books, _, err := archive.LoadClosing(ctx, st, m)
	if err != nil || books == nil {
		return "", errors.Join(err, fmt.Errorf("%w: link %d is not in store %s", refuse.ErrDisagree, sequence, s.Store))
	}
	return books.Previous, nil
}

func linkOf(m *archive.Manifest) archive.Link {
	if m == nil {
		return archive.Link{}
	}
	return m.Link
}
