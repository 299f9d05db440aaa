package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/engine/refuse"
)

// Resealed is what sealing a store's files with its newest key came to.
type Resealed struct {
	Sealed int   `json:"sealed"` // files that are sealed with it now, and were not before
	Bytes  int64 `json:"bytes"`  // of those, as they lay there
	Cold   int   `json:"cold"`   // files that could not be read, since they are in cold storage

	Strange int `json:"strange"` // files that belong to no segment of this catalog, and were left as they are
}

// Reseal seals every file of this catalog's segments, and of its audit log, in a store with the newest of the store's
// keys, one after the other, so that older keys can be thrown away afterwards. It can be asked for again where it was
// interrupted.
func (s *Places) Reseal(ctx context.Context, actor, name string) (*Resealed, error) {
	st, err := s.store(ctx, name)
	if err != nil {
		return nil, err
	}
	sealed, ok := st.(*store.SealedStore)
	if !ok {
		return nil, &refuse.Error{Message: "store " + name + " is not sealed", Remedy: "`ambercellar store set " +
			name + " -key-file FILE` says with which keys it is to be"}
	}
	stale, err := sealed.Stale(ctx)
	if err != nil {
		return nil, err
	}
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return nil, err
	}
	out := &Resealed{}
	for _, o := range stale {
		ours, err := s.Engine.Shelf.HoldsFile(ctx, name, sealed.Shown(o.Name))
		if err != nil {
			return out, err
		}
		ours = ours || strings.HasPrefix(sealed.Shown(o.Name), headsDirectory(head.Log))
		if !ours { // of another service, or of nobody that is known here
			out.Strange++
			continue
		}
		err = s.Engine.Shelf.WhileRead(ctx, func() error { return sealed.SealAnew(ctx, o.Name) })
		if err == nil {
			err = s.Engine.Shelf.Exclusively(ctx, func() error { return sealed.RemoveStale(ctx, o.Name) })
		}
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
	return out, s.Catalog.Note(ctx, actor, "store reseal", name,
		fmt.Sprintf("%d files sealed anew, %d in cold storage, %d of others left alone", out.Sealed, out.Cold,
			out.Strange))
}
