package shelf

import (
	"context"
	"errors"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
)

// sideFile is what the side file of a segment tells.
type sideFile struct {
	Bounds *archive.Bounds
	Keys   *archive.Keys
}

// mostKeyBytes is how much of filters of keys searches keep in memory.
const mostKeyBytes = 32 << 20

// SideOf reads a segment's side file, once; nil where there is none, or where it cannot be read: it is only for speed.
func (sh *Shelf) SideOf(ctx context.Context, s *catalog.Segment, k *Learnt) (*sideFile, error) {
	if side := k.side.Load(); side != nil {
		return side, nil
	}
	st, err := sh.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	r, err := archive.LoadRange(ctx, st, k.Manifest)
	if errors.Is(err, archive.ErrDamaged) || err == nil && r == nil {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	out := &sideFile{}
	if out.Bounds, err = r.Bounds(k.Manifest); err != nil {
		return nil, nil
	}
	if r.Keys != nil {
		if out.Keys, err = r.Keys.Open(); err != nil {
			return nil, nil
		}
	}
	sh.recent.Lock()
	defer sh.recent.Unlock()
	if n := out.Keys.Bytes(); sh.recent.keyBytes+n <= mostKeyBytes && k.side.CompareAndSwap(nil, out) {
		sh.recent.keyBytes += n
	}
	return out, nil
}
