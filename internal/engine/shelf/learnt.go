package shelf

import (
	"context"
	"sync/atomic"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
)

// Learnt is what searches keep of a segment in memory: its records, and what its footer tells. None of that ever changes while the
// hashes in the catalog are the same.
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
	sh.recent.Lock()
	k := sh.recent.segments[s.ID]
	sh.recent.Unlock()
	if k != nil && k.manifestHash == s.ManifestHash && k.closingHash == s.ClosingHash {
		return k, nil
	}
	m, books, err := sh.RecordsOf(ctx, s)
	if err != nil {
		return nil, err
	}
	k = &Learnt{manifestHash: s.ManifestHash, closingHash: s.ClosingHash, Manifest: m}
	if books != nil {
		k.Left = books.LeftOut()
	}
	if len(k.Left) > mostLeft {
		return k, nil
	}
	sh.recent.Lock()
	defer sh.recent.Unlock()
	if sh.recent.segments == nil {
		sh.recent.segments = map[string]*Learnt{}
	}
	for id := range sh.recent.segments { // any: the order of a map is none
		if len(sh.recent.segments) < mostLearnt {
			break
		}
		if side := sh.recent.segments[id].side.Load(); side != nil {
			sh.recent.keyBytes -= side.Keys.Bytes()
		}
		delete(sh.recent.segments, id)
	}
	sh.recent.segments[s.ID] = k
	return k, nil
}

// Forget drops all that was learnt, as a start of the service does.
func (sh *Shelf) Forget() {
	sh.recent.Lock()
	defer sh.recent.Unlock()
	sh.recent.segments, sh.recent.checked, sh.recent.keyBytes = nil, nil, 0
}
