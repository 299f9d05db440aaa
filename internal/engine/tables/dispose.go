package tables

import (
	"context"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/source"
)

// SettleHead brings the head of a table's chain in the source to the newest link, where it is one behind, and returns it.
func (ts *Tables) SettleHead(ctx context.Context, src source.Source, sourceName, table string) (newest source.Head, err error) {
	if err := ts.settleDisposals(ctx, sourceName, table); err != nil {
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
		more, err := ts.settleSuccessor(ctx, sourceName, table)
		if err != nil || !more {
			return newest, err
		}
	}
}

// ClaimWait is how long a disposal waits for a table that a run is at work on.
const ClaimWait = 3 * time.Second

// settleDisposals finds out which disposal records were written that the catalog has not heard of, when the service was stopped
// in between. Whoever adds to a table's chain asks for it first.
func (ts *Tables) settleDisposals(ctx context.Context, sourceName, table string) error {
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
			s.State, s.Disposal, s.DisposalSeq, s.DisposalHash, s.Erased = catalog.SegmentDisposed, x.Disposal, x.Sequence, hash, x.Erasure
		}
		if err := ts.Catalog.SaveSegment(ctx, s); err != nil {
			return err
		}
	}
	return nil
}
