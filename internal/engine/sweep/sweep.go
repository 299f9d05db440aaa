package sweep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"path"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/shelf"
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

// sweepers is how many files are removed at a time, sweepAtOnce how many while nobody may read the archive.
const sweepers, sweepAtOnce = 4, 64

// sweep looks through one store for what belongs to no segment.
type sweep struct {
	*Sweeper
	name   string
	store  store.Store
	older  time.Time
	places []archive.Place // all stores, since the records of a segment may lie in another than its rows
	away   error           // why one of them cannot be asked
}

// candidate is a file that may go, and how.
type candidate struct {
	object store.Object
	kind   string
	take   func(context.Context) error
}

// Sweep lists what interrupted runs left behind in a store, and removes it where that is asked for: files that were
// begun and never completed, complete ones of segments that have no manifest, and what moves and disposals left. Only
// files that are named like a segment's go, of a run that this catalog knows and that has ended, and that were not
// touched since older. A file of a segment that is written, open or closed goes only where the store in which the rows
// are said to be holds them by SHA-256. It is judged once more, while nobody reads or moves anything, right before it
// goes. It can be called again where it was interrupted.
func (sw *Sweeper) Sweep(ctx context.Context, actor, storeName string, older time.Time, remove bool) (*Swept, error) {
	if _, err := sw.Catalog.Store(ctx, storeName); err != nil {
		return nil, err
	}
	return sw.SweepBelow(ctx, actor, storeName, "", older, remove)
}

// SweepBelow is Sweep for the files whose names begin with a prefix.
func (sw *Sweeper) SweepBelow(ctx context.Context, actor, storeName, prefix string, older time.Time,
	remove bool) (*Swept, error) {
	st, err := sw.Store(ctx, storeName)
	if err != nil {
		return nil, err
	}
	x := &sweep{Sweeper: sw, name: storeName, store: st, older: older}
	if err := x.open(ctx); err != nil {
		return nil, err
	}
	out := &Swept{Files: []SweptFile{}}
	var going []*candidate
	for c, err := range x.candidates(ctx, prefix) {
		if err != nil {
			return nil, err
		}
		out.Looked++
		f, err := x.judge(ctx, c)
		if err != nil {
			return nil, err
		}
		if f == nil {
			continue
		}
		if f.Goes {
			out.Going++
			out.Bytes += f.Bytes
			going = append(going, c)
		}
		out.Files = append(out.Files, *f)
	}
	if remove && out.Going > 0 {
		err = x.remove(ctx, actor, out, going)
	}
	slices.SortStableFunc(out.Files, func(a, b SweptFile) int { return strings.Compare(a.File, b.File) })
	return out, err
}

// open opens all stores. One that does not answer keeps every file from going that may belong to a segment with
// records there.
func (x *sweep) open(ctx context.Context) error {
	stores, err := x.Catalog.Stores(ctx)
	for _, s := range stores {
		st, one := x.Store(ctx, s.Name)
		if one != nil {
			x.away = fmt.Errorf("store %s cannot be asked: %w", s.Name, one)
			continue
		}
		x.places = append(x.places, archive.Place{Name: s.Name, Store: st})
	}
	return err
}

// candidates goes through the files of the store that may be left over, those that were never completed first.
func (x *sweep) candidates(ctx context.Context, prefix string) iter.Seq2[*candidate, error] {
	return func(yield func(*candidate, error) bool) {
		unfinished, err := x.givenUp(ctx, prefix)
		if err != nil {
			yield(nil, err)
			return
		}
		for _, u := range unfinished {
			if !yield(&candidate{u.Object, "begun and never completed; ",
				func(ctx context.Context) error { return x.store.RemoveUnfinished(ctx, u) }}, nil) {
				return
			}
		}
		for o, err := range x.store.Each(ctx, prefix) {
			if err != nil {
				yield(nil, err)
				return
			}
			if o.Name != store.IdentityName &&
				!yield(&candidate{o, "", func(ctx context.Context) error { return x.store.Remove(ctx, o.Name) }},
					nil) {
				return
			}
		}
	}
}

// judge says whether a file goes, and why or why not; nil: it belongs where it lies.
func (x *sweep) judge(ctx context.Context, c *candidate) (*SweptFile, error) {
	o := c.object
	f := &SweptFile{File: o.Name, Bytes: o.Size, Modified: catalog.At(o.Modified)}
	stem, run, ok := archive.Ours(o.Name)
	if !ok {
		f.Reason = "it is named otherwise than the archive's files; it is never touched"
		return f, nil
	}
	if x.tables.IsInHand(x.name, stem) { // asked before the catalog, which knows of it when it is not in hand any more
		return nil, nil
	}
	s, err := x.Catalog.StemSegment(ctx, stem)
	if err != nil {
		return nil, err
	}
	kind := c.kind
	if kind == "" { // a file that was begun and never completed is no copy of anything
		belongs, why, err := x.needed(ctx, s, stem, o.Name)
		if err != nil || belongs {
			return nil, err
		}
		if why != "" {
			f.Reason = why
			return f, nil
		}
		if kind = "no manifest tells of it; "; s != nil && s.State != catalog.SegmentAbandoned {
			kind = "the rows of its segment lie in store " + s.RowsIn() + "; "
			if s.State == catalog.SegmentDisposed {
				kind = "its segment was destroyed; "
			}
		}
	}
	if f.Goes, f.Reason, err = x.ended(ctx, run, o); err != nil || !f.Goes {
		return f, err
	}
	f.Reason = kind + f.Reason
	if c.kind != "" {
		return f, nil
	}
	switch r, err := x.store.Open(ctx, o.Name); {
	case err == nil:
		return f, r.Close()
	case errors.Is(err, fs.ErrNotExist): // it went while it was judged
		return nil, nil
	case !shelf.IsCold(err):
		return nil, err
	}
	return f, nil
}

// needed says of a whole file whether it belongs where it lies, or why it has to stay all the same. Neither: it is
// left over.
func (x *sweep) needed(ctx context.Context, s *catalog.Segment, stem, file string) (belongs bool, why string,
	err error) {
	record := strings.HasSuffix(file, ".json") && !strings.HasSuffix(file, ".range.json")
	switch {
	case record:
		return true, "", nil // records name no rows, and are never swept
	case s == nil || s.State == catalog.SegmentAbandoned:
		why, err = x.elsewhere(ctx, stem)
		return false, why, err
	case s.State == catalog.SegmentWriting:
		return false, "segment " + s.ID + " is being written", nil
	case s.State == catalog.SegmentDisposed:
		why, err = x.destroyed(ctx, s)
		return false, why, err
	case s.Leaving == x.name || slices.Contains(s.Stores(), x.name) && (s.RowsStore == "" || x.name != s.Store ||
		strings.HasSuffix(file, ".range.json")):
		return true, "", nil
	}
	// A move left it, or the catalog is not what it was: it may be the only copy.
	st, err := x.shelf.StoreOf(ctx, s)
	if err != nil {
		return false, fmt.Sprintf("store %s, in which the rows of segment %s are said to be, cannot be asked: %v",
			s.RowsIn(), s.ID, err), nil
	}
	m, _, err := x.shelf.Load(ctx, st, s)
	if err == nil {
		err = shelf.HeldBy(ctx, archive.RowsOf(st), m)
	}
	if errors.Is(err, archive.ErrDamaged) || errors.Is(err, fs.ErrNotExist) {
		return false, fmt.Sprintf("store %s, in which the rows of segment %s are said to be, does not hold them "+
			"(%v): this may be the only copy; `ambercellar catalog rebuild` finds it", s.RowsIn(), s.ID, err), nil
	}
	return false, "", err
}

// elsewhere says why a file stays whose segment this catalog does not know, or gave up: its manifest lies in some
// store, or a disposal record names it as the file of the rows that stayed.
func (x *sweep) elsewhere(ctx context.Context, stem string) (string, error) {
	if x.away != nil {
		return fmt.Sprintf("it may belong to a segment whose records lie elsewhere, and %v", x.away), nil
	}
	for _, p := range x.places {
		list, err := p.Store.List(ctx, path.Dir(stem)+"/")
		if err != nil {
			return "", fmt.Errorf("store %s: %w", p.Name, err)
		}
		for _, o := range list {
			other, _, ok := archive.Ours(o.Name)
			m := archive.ManifestAt(other)
			switch {
			case !ok:
			case other == stem && o.Name == m.ManifestName():
				return fmt.Sprintf("its manifest lies in store %s, and this catalog does not know the segment; "+
					"`ambercellar catalog rebuild` takes it up", p.Name), nil
			case o.Name == m.DisposalName():
				if names, err := successorOf(ctx, p.Store, other, stem); err != nil {
					return fmt.Sprintf("the disposal record %s in store %s cannot be read: %v", o.Name, p.Name, err),
						nil
				} else if names {
					return fmt.Sprintf("it holds the rows that stayed when others were destroyed, by a record in "+
						"store %s", p.Name), nil
				}
			}
		}
	}
	return "", nil
}

// successorOf says whether the disposal record of a segment names a stem as that of what stayed.
func successorOf(ctx context.Context, st store.Store, disposed, stem string) (bool, error) {
	m, _, err := archive.LoadManifest(ctx, st, disposed)
	if err != nil {
		return false, err
	}
	d, _, err := archive.LoadDisposal(ctx, st, m)
	return d != nil && d.Successor != nil && d.Successor.Stem == stem, err
}

// destroyed says why a file of a segment stays that was disposed of: its record must be there, and what stayed of it
// be a segment.
func (x *sweep) destroyed(ctx context.Context, s *catalog.Segment) (string, error) {
	st, err := x.Store(ctx, s.Store)
	if err != nil {
		return fmt.Sprintf("store %s, with the record of its disposal, cannot be asked: %v", s.Store, err), nil
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	var d *archive.Disposal
	if err == nil {
		d, _, err = archive.LoadDisposal(ctx, st, m)
	}
	switch {
	case err != nil:
		return fmt.Sprintf("the record of its disposal cannot be read: %v", err), nil
	case d == nil:
		return "the record of its disposal is not in store " + s.Store, nil
	case d.Successor == nil:
		return "", nil
	}
	after, err := x.Catalog.Segment(ctx, d.Successor.Segment)
	if errors.Is(err, catalog.ErrNotFound) || err == nil && after.State != catalog.SegmentClosed &&
		after.State != catalog.SegmentDisposed {
		return "the segment of the rows that stayed is not complete yet", nil
	}
	return "", err
}

// givenUp lists the files that were begun and that nobody is writing now: not in hand once they were seen, and there
// still after that. One that is being written is in hand all the while.
func (x *sweep) givenUp(ctx context.Context, prefix string) ([]store.Unfinished, error) {
	seen, err := x.store.Unfinished(ctx, prefix)
	if err != nil {
		return nil, err
	}
	seen = slices.DeleteFunc(seen, func(u store.Unfinished) bool {
		stem, _, ok := archive.Ours(u.Name)
		return ok && x.tables.IsInHand(x.name, stem)
	})
	if len(seen) == 0 {
		return nil, nil
	}
	still, err := x.store.Unfinished(ctx, prefix)
	return slices.DeleteFunc(seen, func(u store.Unfinished) bool {
		return !slices.ContainsFunc(still, func(x store.Unfinished) bool { return x.Name == u.Name && x.ID == u.ID })
	}), err
}

// ended says whether the run of a file is known and has ended, and the file is old enough.
func (x *sweep) ended(ctx context.Context, id string, o store.Object) (bool, string, error) {
	run, err := x.Catalog.Run(ctx, id)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		return false, "run " + id + " is not known to this service: another one may be writing it", nil
	case err != nil:
		return false, "", err
	case !run.State.Ended():
		return false, fmt.Sprintf("run %s is %s, and may still need it", id, run.State), nil
	case !o.Modified.Before(x.older):
		return false, "it was touched not long ago", nil
	}
	return true, fmt.Sprintf("run %s is %s", id, run.State), nil
}

// remove removes the files that go, several at a time. Each is judged once more while nothing is read, moved or
// copied.
func (x *sweep) remove(ctx context.Context, actor string, out *Swept, going []*candidate) error {
	if err := x.Catalog.Note(ctx, actor, "store sweep", x.name, fmt.Sprintf("%d files with %d bytes are to be removed",
		out.Going, out.Bytes)); err != nil {
		return err
	}
	var err error
	gone := map[string]bool{}
	for part := range slices.Chunk(going, sweepAtOnce) {
		if one := x.removeSome(ctx, part, gone); one != nil {
			err = errors.Join(err, one)
			break
		}
	}
	for i := range out.Files {
		if f := &out.Files[i]; f.Goes {
			if f.Removed = gone[f.File]; f.Removed {
				out.Removed++
			}
		}
	}
	return errors.Join(err, x.Catalog.Note(context.WithoutCancel(ctx), actor, "store sweep", x.name,
		fmt.Sprintf("%d files were removed", out.Removed)))
}

func (x *sweep) removeSome(ctx context.Context, part []*candidate, gone map[string]bool) error {
	if err := x.shelf.Exclude(ctx); err != nil {
		return err
	}
	defer x.shelf.Reading.Unlock()
	return x.removeExclusively(ctx, part, gone)
}

// removeExclusively is for who has taken the archive.
func (x *sweep) removeExclusively(ctx context.Context, part []*candidate, gone map[string]bool) error {
	errs := make([]error, len(part))
	slots := make(chan struct{}, sweepers)
	for i, c := range part {
		slots <- struct{}{}
		go func() {
			defer func() { <-slots }()
			f, err := x.judge(ctx, c)
			if err == nil && (f == nil || !f.Goes) {
				err = errStays
			}
			if err == nil {
				err = c.take(ctx)
			}
			errs[i] = err
		}()
	}
	for range sweepers {
		slots <- struct{}{}
	}
	var err error
	for i, one := range errs {
		if one == nil {
			gone[part[i].object.Name] = true
		} else if one != errStays {
			err = errors.Join(err, one)
		}
	}
	return err
}

// errStays says that a file that was to go is needed after all.
var errStays = errors.New("it stays")
