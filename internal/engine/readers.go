package engine

import (
	"context"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/engine/refuse"
)

// unread takes the archive when nobody reads from it. Readers never wait for it.
func (e *Engine) unread(ctx context.Context) error {
	e.destroying.Add(1)
	defer e.destroying.Add(-1)
	for begun := e.Now(); !e.reading.TryLock(); {
		if e.Now().Sub(begun) > readersWait {
			return &refuse.Error{Message: "a restore, search or verification has been reading the archive all the while", Remedy: "start the disposal again later; what is destroyed so far stays so"}
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
func (e *Engine) WhileRead(_ context.Context, do func() error) error {
	e.reading.RLock()
	defer e.reading.RUnlock()
	return do()
}

// HoldsFile says whether a file of a store belongs to a segment of this catalog.
func (e *Engine) HoldsFile(ctx context.Context, storeName, file string) (bool, error) {
	stem, _, ok := archive.Ours(file)
	if !ok {
		return false, nil
	}
	s, err := e.Catalog.StemSegment(ctx, stem)
	return err == nil && s != nil && (s.Leaving == storeName || slices.Contains(s.Stores(), storeName)), err
}

// WhenUnread does something with files of stores while nobody reads archived rows.
func (e *Engine) WhenUnread(ctx context.Context, do func() error) error {
	if err := e.unread(ctx); err != nil {
		return err
	}
	defer e.reading.Unlock()
	return do()
}

// readersWait is how long a disposal waits for those who read.
const readersWait = 10 * time.Minute
