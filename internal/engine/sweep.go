package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
)

// Swept is what lay in a store and belongs to no segment.
type Swept struct {
	Looked  int         `json:"looked"` // files that were looked at
	Going   int         `json:"going"`  // of the listed, those that go
	Bytes   int64       `json:"bytes"`  // of those
	Removed int         `json:"removed"`
	Files   []SweptFile `json:"files"`
}

// SweptFile is one of these files.
type SweptFile struct {
	File     string       `json:"file"`
	Bytes    int64        `json:"bytes"`
	Modified catalog.Time `json:"modified"`
	Goes     bool         `json:"goes"`
	Reason   string       `json:"reason"`
	Removed  bool         `json:"removed"`
}

// sweepers is how many files are removed at a time.
const sweepers = 4

// Sweep lists what interrupted runs left behind in a store, and removes it where that is asked for: files that were begun and
// never completed, and complete ones of segments that have no manifest. Only files that are named like a segment's go, of a run
// that this catalog knows and that has ended, and that were not touched since older. It can be called again where it was
// interrupted.
func (e *Engine) Sweep(ctx context.Context, actor, storeName string, older time.Time, remove bool) (*Swept, error) {
	if _, err := e.Catalog.Store(ctx, storeName); err != nil {
		return nil, err
	}
	st, err := e.Store(ctx, storeName)
	if err != nil {
		return nil, err
	}
	objects, err := st.List(ctx, "")
	if err != nil {
		return nil, err
	}
	unfinished, err := e.givenUp(ctx, st, storeName)
	if err != nil {
		return nil, err
	}
	segments := map[string]bool{} // stems with a manifest, or a later record of one
	for _, o := range objects {
		if stem, _, ok := archive.Ours(o.Name); ok && strings.HasSuffix(o.Name, ".json") && !strings.HasSuffix(o.Name, ".range.json") {
			segments[stem] = true
		}
	}
	out := &Swept{Looked: len(objects) + len(unfinished), Files: []SweptFile{}}
	var removing []func(context.Context) error
	judge := func(o store.Object, kind string, take func(context.Context) error) error {
		f := SweptFile{File: o.Name, Bytes: o.Size, Modified: catalog.At(o.Modified)}
		if f.Goes, f.Reason, err = e.leftOver(ctx, o, older); err != nil {
			return err
		}
		if f.Goes {
			f.Reason = kind + f.Reason
			out.Going++
			out.Bytes += o.Size
			removing = append(removing, take)
		}
		out.Files = append(out.Files, f)
		return nil
	}
	for _, u := range unfinished {
		if err := judge(u.Object, "begun and never completed; ", func(ctx context.Context) error { return st.RemoveUnfinished(ctx, u) }); err != nil {
			return nil, err
		}
	}
	for _, o := range objects {
		if stem, _, ok := archive.Ours(o.Name); ok && segments[stem] {
			continue
		} else if ok {
			if e.isInHand(storeName, stem) { // asked before the catalog, which knows of it when it is not in hand any more
				continue
			}
			// Rows whose records lie in another store.
			if has, err := e.Catalog.HasRowsIn(ctx, stem, storeName); err != nil {
				return nil, err
			} else if has {
				continue
			}
		}
		if err := judge(o, "no manifest tells of it; ", func(ctx context.Context) error { return st.Remove(ctx, o.Name) }); err != nil {
			return nil, err
		}
	}
	if remove && out.Going > 0 {
		err = e.sweepOut(ctx, actor, storeName, out, removing)
	}
	slices.SortStableFunc(out.Files, func(a, b SweptFile) int { return strings.Compare(a.File, b.File) })
	return out, err
}

// takeInHand keeps sweeping from files that are written into a store for a segment that is not known to lie there yet. The function that is
// returned is called once it is, or when the files are given up.
func (e *Engine) takeInHand(store, stem string) func() {
	key := store + "\x00" + stem
	e.inHand.Store(key, true)
	return func() { e.inHand.Delete(key) }
}

func (e *Engine) isInHand(store, stem string) bool {
	_, ok := e.inHand.Load(store + "\x00" + stem)
	return ok
}

// givenUp lists the files that were begun and that nobody is writing now: not in hand once they were seen, and there still after that.
// One that is being written is in hand all the while.
func (e *Engine) givenUp(ctx context.Context, st store.Store, storeName string) ([]store.Unfinished, error) {
	seen, err := st.Unfinished(ctx)
	if err != nil {
		return nil, err
	}
	seen = slices.DeleteFunc(seen, func(u store.Unfinished) bool {
		stem, _, ok := archive.Ours(u.Name)
		return ok && e.isInHand(storeName, stem)
	})
	if len(seen) == 0 {
		return nil, nil
	}
	still, err := st.Unfinished(ctx)
	return slices.DeleteFunc(seen, func(u store.Unfinished) bool {
		return !slices.ContainsFunc(still, func(x store.Unfinished) bool { return x.Name == u.Name && x.ID == u.ID })
	}), err
}

// leftOver says whether a file that belongs to no segment goes, and why or why not.
func (e *Engine) leftOver(ctx context.Context, o store.Object, older time.Time) (bool, string, error) {
	_, id, ok := archive.Ours(o.Name)
	if !ok {
		return false, "it is named otherwise than the archive's files; it is never touched", nil
	}
	run, err := e.Catalog.Run(ctx, id)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		return false, "run " + id + " is not known to this service: another one may be writing it", nil
	case err != nil:
		return false, "", err
	case !run.State.Ended():
		return false, fmt.Sprintf("run %s is %s, and may still need it", id, run.State), nil
	case !o.Modified.Before(older):
		return false, "it was touched not long ago", nil
	}
	return true, fmt.Sprintf("run %s is %s", id, run.State), nil
}

// sweepOut removes the files that go, several at a time.
func (e *Engine) sweepOut(ctx context.Context, actor, storeName string, out *Swept, removing []func(context.Context) error) error {
	if err := e.Catalog.Note(ctx, actor, "store sweep", storeName, fmt.Sprintf("%d files with %d bytes are to be removed", out.Going, out.Bytes)); err != nil {
		return err
	}
	errs := make([]error, len(removing))
	slots := make(chan struct{}, sweepers)
	for i, take := range removing {
		slots <- struct{}{}
		go func() { defer func() { <-slots }(); errs[i] = take(ctx) }()
	}
	for range sweepers {
		slots <- struct{}{}
	}
	at := 0
	for i := range out.Files {
		if f := &out.Files[i]; f.Goes {
			if f.Removed = errs[at] == nil; f.Removed {
				out.Removed++
			}
			at++
		}
	}
	return errors.Join(errors.Join(errs...), e.Catalog.Note(ctx, actor, "store sweep", storeName, fmt.Sprintf("%d files were removed", out.Removed)))
}
