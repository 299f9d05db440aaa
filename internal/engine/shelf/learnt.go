package shelf

import (
	"context"
	"errors"
	"sync/atomic"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
)

// Learnt is what searches keep of a segment in memory: its records, and what its footer tells. None of that ever
// changes while the hashes in the catalog are the same.
type Learnt struct {
	manifestHash, closingHash string
	Manifest                  *archive.Manifest
	Left                      []int // ordinals that stayed in the table
	Bounds                    atomic.Pointer[archive.Bounds]
	side                      atomic.Pointer[sideFile]
}

// Of so many segments is kept what searches learnt, and of those only where few rows stayed in the table.
const mostLearnt, mostLeft = 2_000, 10_000

// Learnt returns what is known of a segment, and reads its records where nothing is.
func (sh *Shelf) Learnt(ctx context.Context, s *catalog.Segment) (*Learnt, error) {
	if k, ok := sh.segments.Get(s.ID); ok && k.manifestHash == s.ManifestHash && k.closingHash == s.ClosingHash {
		return k, nil
	}
	m, books, err := sh.RecordsOf(ctx, s)
	if err != nil {
		return nil, err
	}
	k := &Learnt{manifestHash: s.ManifestHash, closingHash: s.ClosingHash, Manifest: m}
	if books != nil {
		k.Left = books.LeftOut()
	}
	if len(k.Left) <= mostLeft {
		sh.segments.Add(s.ID, k)
	}
	return k, nil
}

// drop gives back the memory of a filter of keys.
func (sh *Shelf) drop(k *Learnt) {
	sh.keys.Lock()
	defer sh.keys.Unlock()
	if side := k.side.Swap(nil); side != nil {
		sh.keys.bytes -= side.Keys.Bytes()
	}
}

// Forget drops all that was learnt, as a start of the service does.
func (sh *Shelf) Forget() {
	sh.segments.Purge()
	sh.whole.Purge()
}

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
	sh.keys.Lock()
	defer sh.keys.Unlock()
	// what is kept no more would never be dropped
	if kept, ok := sh.segments.Peek(s.ID); !ok || kept != k {
		return out, nil
	}
	if n := out.Keys.Bytes(); sh.keys.bytes+n <= mostKeyBytes && k.side.CompareAndSwap(nil, out) {
		sh.keys.bytes += n
	}
	return out, nil
}
