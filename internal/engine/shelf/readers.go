package shelf

import (
	"context"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/engine/refuse"
)

// Exclude takes the archive when nobody reads from it. Readers never wait for it.
func (sh *Shelf) Exclude(ctx context.Context) error {
	sh.Destroying.Add(1)
	defer sh.Destroying.Add(-1)
	for begun := sh.Now(); !sh.Reading.TryLock(); {
		if sh.Now().Sub(begun) > readersWait {
			return &refuse.Error{Message: "a restore, search or verification has been reading the archive all the " +
				"while", Remedy: "start the disposal again later; what is destroyed so far stays so"}
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return nil
}

// WhileRead does something with files of stores while none of them can be destroyed.
func (sh *Shelf) WhileRead(_ context.Context, do func() error) error {
	sh.Reading.RLock()
	defer sh.Reading.RUnlock()
	return do()
}

// HoldsFile says whether a file of a store belongs to a segment of this catalog.
func (sh *Shelf) HoldsFile(ctx context.Context, storeName, file string) (bool, error) {
	stem, _, ok := archive.Ours(file)
	if !ok {
		return false, nil
	}
	s, err := sh.Catalog.StemSegment(ctx, stem)
	return err == nil && s != nil && (s.Leaving == storeName || slices.Contains(s.Stores(), storeName)), err
}

// Exclusively does something with files of stores while nobody reads archived rows.
func (sh *Shelf) Exclusively(ctx context.Context, do func() error) error {
	if err := sh.Exclude(ctx); err != nil {
		return err
	}
	defer sh.Reading.Unlock()
	return do()
}

// readersWait is how long a disposal waits for those who read.
const readersWait = 10 * time.Minute
