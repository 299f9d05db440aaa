package engine

import (
	"context"
	"sync/atomic"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
)

// learnt is what searches keep of a segment in memory: its records, and what its footer tells. None of that ever changes while the
// hashes in the catalog are the same.
type learnt struct {
	manifestHash, closingHash string
	manifest                  *archive.Manifest
	left                      []int // ordinals that stayed in the table
	bounds                    atomic.Pointer[archive.Bounds]
	side                      atomic.Pointer[sideFile]
}

// Of so many segments is kept what searches learnt, and of those only where few rows stayed in the table.
const mostLearnt, mostLeft = 2_000, 10_000

// learnt returns what is known of a segment, and reads its records where nothing is.
func (e *Engine) learnt(ctx context.Context, s *catalog.Segment) (*learnt, error) {
	e.recent.Lock()
	k := e.recent.segments[s.ID]
	e.recent.Unlock()
	if k != nil && k.manifestHash == s.ManifestHash && k.closingHash == s.ClosingHash {
		return k, nil
	}
	m, books, err := e.recordsOf(ctx, s)
	if err != nil {
		return nil, err
	}
	k = &learnt{manifestHash: s.ManifestHash, closingHash: s.ClosingHash, manifest: m}
	if books != nil {
		k.left = books.LeftOut()
	}
	if len(k.left) > mostLeft {
		return k, nil
	}
	e.recent.Lock()
	defer e.recent.Unlock()
	if e.recent.segments == nil {
		e.recent.segments = map[string]*learnt{}
	}
	for id := range e.recent.segments { // any: the order of a map is none
		if len(e.recent.segments) < mostLearnt {
			break
		}
		if side := e.recent.segments[id].side.Load(); side != nil {
			e.recent.keyBytes -= side.keys.Bytes()
		}
		delete(e.recent.segments, id)
	}
	e.recent.segments[s.ID] = k
	return k, nil
}
