package upkeep

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
)

// spansAtOnce is of how many segments one step of SpanSegments is.
const spansAtOnce = 200

// SpanSegments finds out where the keys of segments lie of which the catalog does not know it: those that were
// archived by an older version, or taken up from a store. Until then, every look-up reads their records. It returns
// how many it found out; one that cannot be read keeps no others waiting.
func (kp *Keeper) SpanSegments(ctx context.Context) (n int, err error) {
	for after := ""; ; {
		list, listing := kp.Catalog.Unspanned(ctx, after, spansAtOnce)
		if listing != nil {
			return n, errors.Join(err, listing)
		}
		for i := range list {
			s := &list[i]
			after = s.ID
			if ctx.Err() != nil {
				return n, ctx.Err()
			}
			if one := kp.spanSegment(ctx, s); one != nil {
				if err == nil { // one will do
					err = fmt.Errorf("segment %s: %w", s.ID, one)
				}
				continue
			}
			n++
		}
		if len(list) < spansAtOnce {
			return n, err
		}
	}
}

func (kp *Keeper) spanSegment(ctx context.Context, s *catalog.Segment) error {
	st, err := kp.Store(ctx, s.Store)
	if err != nil {
		return err
	}
	m, hash, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return err
	}
	if hash != s.ManifestHash {
		return fmt.Errorf("%w: its manifest has the hash %s instead of %s", archive.ErrDamaged, hash, s.ManifestHash)
	}
	r, err := archive.LoadRange(ctx, st, m)
	if errors.Is(err, archive.ErrDamaged) { // it is only for speed
		r, err = nil, nil
	}
	if err != nil {
		return err
	}
	return kp.shelf.Spanned(ctx, s, m, r)
}
