package service

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/engine"
)

// Resealed is what sealing a store's files with its newest key came to.
type Resealed struct {
	Sealed int   `json:"sealed"` // files that are sealed with it now, and were not before
	Bytes  int64 `json:"bytes"`  // of those, as they lay there
	Cold   int   `json:"cold"`   // files that could not be read, since they are in cold storage
}

// Reseal seals every file of a store with the newest of its keys, one after the other, so that older keys can be thrown away
// afterwards. It can be asked for again where it was interrupted.
func (s *Service) Reseal(ctx context.Context, actor, name string) (*Resealed, error) {
	st, err := s.store(ctx, name)
	if err != nil {
		return nil, err
	}
	sealed, ok := st.(*store.SealedStore)
	if !ok {
		return nil, &engine.RefusedError{Message: "store " + name + " is not sealed", Remedy: "`ambercellar store set " + name + " -key-file FILE` says with which keys it is to be"}
	}
	stale, err := sealed.Stale(ctx)
	if err != nil {
		return nil, err
	}
	out := &Resealed{}
	for _, o := range stale {
		err := sealed.Reseal(ctx, o.Name, func(remove func() error) error { return s.WhenUnread(ctx, remove) })
		if errors.Is(err, store.ErrCold) {
			out.Cold++
			continue
		}
		if err != nil {
			return out, fmt.Errorf("store %s, %s: %w", name, o.Name, err)
		}
		out.Sealed++
		out.Bytes += o.Size
	}
	return out, s.Catalog.Note(ctx, actor, "store reseal", name, fmt.Sprintf("%d files sealed anew, %d in cold storage", out.Sealed, out.Cold))
}
