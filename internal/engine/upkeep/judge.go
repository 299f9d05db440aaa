package upkeep

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// Judging judges every file of every copy of the segments that the catalog knows: whether it lies where it should, and
// is what was written, by the hashes that the catalog and the manifest have. What is wrong is replaced from another
// copy where that is asked for.
type Judging struct {
	*Keeper
	V      *catalog.Verification
	Pause  func(context.Context, int) error
	places []archive.Place
	bySum  map[sumStart]string // segments by the SHA-256 of their rows
	saved  time.Time

	failed error // the catalog did not tell whether it knows a segment
}

// sumStart is the beginning of a SHA-256, enough to tell the files of an archive apart.
type sumStart [12]byte

func startOf(sum string) (out sumStart) {
	hex.Decode(out[:], []byte(sum)[:min(len(sum), 2*len(out))]) // what is no sum is that of no file
	return out
}

// knows says whether the catalog knows a segment, by its id or its stem.
func (j *Judging) knows(ctx context.Context, id, stem string) bool {
	yes, err := j.Catalog.Knows(ctx, id, stem)
	if err != nil && j.failed == nil {
		j.failed = err
	}
	return yes
}

// part is what of a segment should lie in one store.
type part struct {
	name          string
	store         store.Store
	records, rows bool
}

// partsOf lists where the files of a segment should lie: its records with or without its rows, its rows, and its
// second copy.
func (kp *Keeper) partsOf(ctx context.Context, s *catalog.Segment) ([]part, error) {
	list := []part{{name: s.Store, records: true, rows: s.RowsStore == ""}}
	if s.RowsStore != "" {
		list = append(list, part{name: s.RowsStore, rows: true})
	}
	if s.Second != "" {
		list = append(list, part{name: s.Second, records: true, rows: true})
	}
	for i := range list {
		st, err := kp.Store(ctx, list[i].name)
		if err != nil {
			return nil, err
		}
		list[i].store = st
	}
	return list, nil
}

// All judges the segments, one after the other, those first that were not judged for the longest time. A store that
// does not answer keeps no others from being judged.
func (j *Judging) All(ctx context.Context) error {
	f := catalog.VerifyFilter{Store: j.V.Store, Source: j.V.Source, Table: j.V.Table, Older: j.V.Older}
	copies, bytes, err := j.Catalog.ToVerifyInAll(ctx, f)
	if err != nil {
		return err
	}
	j.V.Of, j.V.OfBytes = j.V.Of+copies, j.V.OfBytes+bytes
	ids, err := j.Catalog.ToVerify(ctx, f)
	failures := 0
	fails := func(id string, one error) {
		if failures++; failures <= mostFailures {
			err = errors.Join(err, fmt.Errorf("segment %s: %w", id, one))
		}
	}
	var why error
	for wait, begun := tables.FirstWait, time.Now(); len(ids) > 0; wait = min(2*wait, tables.LongWait) {
		patient := time.Since(begun) <= VerifyPatience
		var left []string // in stores that do not answer
		for i, id := range ids {
			one := j.step(ctx, func() error { return j.segment(ctx, id) })
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if one != nil && patient && tables.Away(one) {
				left, why = append(left, id), one
				if i == 0 && wait > tables.FirstWait { // as before
					left = ids
					break
				}
			} else if one != nil {
				fails(id, one)
			}
		}
		if len(left) < len(ids) {
			wait, begun = tables.FirstWait, time.Now()
		}
		if ids = left; len(ids) > 0 {
			if err := j.wait(ctx, why, wait); err != nil {
				return err
			}
		}
	}
	if failures > mostFailures {
		err = errors.Join(err, fmt.Errorf("and so with %d more segments", failures-mostFailures))
	}
	return err
}

// mostFailures is of how many segments that could not be judged the reason is told.
const mostFailures = 20

// here lists the stores with records of a segment that are judged.
func (j *Judging) here(s *catalog.Segment) (out []string) {
	for _, name := range []string{s.Store, s.Second} {
		if name != "" && (j.V.Store == "" || name == j.V.Store || name == s.Store && s.RowsIn() == j.V.Store) {
			out = append(out, name)
		}
	}
	return out
}

// show keeps the counts of the verification, now and then.
func (j *Judging) show(ctx context.Context) {
	if j.Now().Sub(j.saved) <= lookEvery {
		return
	}
	j.saved = j.Now()
	if err := j.Catalog.SaveVerification(ctx, j.V); err != nil { // only to be looked at; the last one counts
		j.Log.Warn("how far a verification is cannot be kept", "verification", j.V.ID, "error", err)
	}
}

// segment judges one segment as it is now, and repairs it.
func (j *Judging) segment(ctx context.Context, id string) error {
	s, err := j.Catalog.Segment(ctx, id)
	if err != nil {
		return err
	}
	x := &judged{Keeper: j.Keeper, segment: s, pause: j.Pause, bySum: j.bySum}
	before, rows := j.V.Bytes, j.V.Rows
	x.read = func(rows int64) {
		j.V.Rows += rows
		j.show(ctx)
	}
	x.skips = func(name string) bool {
		return j.V.Store != "" && !slices.Contains(j.here(s), name) && name != j.V.Store
	}
	if err := x.judge(ctx); err != nil {
		j.V.Rows = rows
		return err
	}
	var found []catalog.FoundInStore
	for i := range x.found {
		f := catalog.FoundInStore{Remark: x.found[i]}
		if j.V.Store != "" && f.Store != j.V.Store && s.RowsIn() != j.V.Store {
			continue
		}
		if f.Wrong && j.V.Repair {
			if f.Repaired, err = x.repair(ctx, f.Remark); err != nil {
				j.V.Rows = rows
				return fmt.Errorf("store %s, %s: %w", f.Store, f.File, err)
			}
			if f.Repaired != "" {
				if err := j.Catalog.Note(ctx, j.V.CreatedBy, "segment repair", s.ID,
					fmt.Sprintf("%s in store %s, %s, was replaced from %s", f.File, f.Store, f.Kind,
						f.Repaired)); err != nil {
					return err
				}
			}
		}
		found = append(found, f)
	}
	j.V.Findings.V = append(j.V.Findings.V, found...)
	j.V.Segments += len(j.here(s))
	if j.V.Bytes = before; s.State != catalog.SegmentDisposed {
		j.V.Bytes += s.FileBytes
	}
	j.show(ctx)
	damage := damageOf(found)[s.ID]
	if damage == "" && (x.cold || s.State == catalog.SegmentDisposed) { // nothing was read that could be good
		return nil
	}
	return j.keep(ctx, s.ID, damage) // at once: what ends in the midst has judged these all the same
}

// damageOf tells what is wrong with segments, by findings that nothing has mended.
func damageOf(findings []catalog.FoundInStore) map[string]string {
	damage := map[string]string{}
	for _, f := range findings {
		if f.Wrong && f.Repaired == "" && f.Segment != "" && damage[f.Segment] == "" {
			damage[f.Segment] = fmt.Sprintf("%s in store %s: %s", f.File, f.Store, f.Message)
		}
	}
	return damage
}

// keep keeps with a segment whether it is what was written. damage empty: it is.
func (j *Judging) keep(ctx context.Context, id, damage string) error {
	if damage != "" {
		j.Log.Error("a segment is damaged", "segment", id, "damage", damage)
	}
	return j.Catalog.Judged(context.WithoutCancel(ctx), id, damage, j.Now())
}

// chains keeps with segments what is wrong with the chains that they are in.
func (j *Judging) chains(ctx context.Context) error {
	for id, damage := range damageOf(slices.DeleteFunc(slices.Clone(j.V.Findings.V),
		func(f catalog.FoundInStore) bool { return f.Kind != archive.FindChain })) {
		if j.knows(ctx, id, "") {
			if err := j.keep(ctx, id, damage); err != nil {
				return err
			}
		}
	}
	return j.failed
}

// judged is one segment being judged.
type judged struct {
	*Keeper
	segment *catalog.Segment
	pause   func(context.Context, int) error
	bySum   map[sumStart]string
	read    func(rows int64)       // hears of rows that were read; may be nil
	skips   func(name string) bool // stores that are not looked at; may be nil

	parts    []part
	manifest *archive.Manifest
	books    *archive.Closing
	found    []archive.Remark
	cold     bool // rows of it are in cold storage, and were not read
}

func (x *judged) find(wrong bool, kind string, p part, file, message string) {
	x.found = append(x.found, archive.Remark{Wrong: wrong, Kind: kind, Store: p.name, Table: x.segment.Source + "." +
		x.segment.Table, Segment: x.segment.ID, File: file, Message: message})
}

// judge looks at every file of every copy. An error says that a store does not answer.
func (x *judged) judge(ctx context.Context) (err error) {
	if x.parts, err = x.partsOf(ctx, x.segment); err != nil {
		return err
	}
	if err := x.records(ctx); err != nil {
		return err
	}
	if x.manifest == nil { // none of its manifests tells what its files should be
		return nil
	}
	if x.segment.State == catalog.SegmentDisposed {
		return x.gone(ctx)
	}
	for _, p := range x.parts {
		if x.skip(p) {
			continue
		}
		if p.records {
			if err := x.side(ctx, p); err != nil {
				return err
			}
		}
		if p.rows {
			if err := x.rows(ctx, p); err != nil {
				return err
			}
		}
	}
	return nil
}

func (x *judged) skip(p part) bool { return x.skips != nil && x.skips(p.name) }

// record looks at one record of one copy: it must have the hash by which the catalog knows it.
func (x *judged) record(ctx context.Context, p part, file, hash string) (good bool, err error) {
	sum, err := archive.FileSum(ctx, p.store, file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		x.find(true, archive.FindMissing, p, file,
			"the catalog knows this segment, and this record of it is not there")
		return false, nil
	case errors.Is(err, archive.ErrDamaged):
		x.find(true, archive.FindDamaged, p, file, err.Error())
		return false, nil
	case err != nil:
		return false, err
	case sum != hash:
		x.find(true, archive.FindDamaged, p, file,
			fmt.Sprintf("the record has the SHA-256 %.12s, and the catalog knows it by %.12s", sum, hash))
		return false, nil
	}
	return true, nil
}

// records looks at the records of all copies, and takes manifest and closing record from a good one.
func (x *judged) records(ctx context.Context) error {
	s, names := x.segment, archive.ManifestAt(x.segment.Stem)
	for _, p := range x.parts {
		if !p.records {
			continue
		}
		good, err := x.record(ctx, p, names.ManifestName(), s.ManifestHash)
		if err != nil {
			return err
		}
		if good && x.manifest == nil {
			if x.manifest, _, err = archive.LoadManifest(ctx, p.store, s.Stem); err != nil {
				return err
			}
		}
		if s.DisposalHash != "" {
			if _, err := x.record(ctx, p, names.DisposalName(), s.DisposalHash); err != nil {
				return err
			}
		}
	}
	if x.manifest == nil {
		return nil
	}
	for _, p := range x.parts {
		if !p.records {
			continue
		}
		if s.ClosingHash == "" {
			x.find(false, archive.FindOpen, p, names.ClosingName(),
				"the segment has no closing record yet: its rows are being deleted, or wait for that")
			continue
		}
		good, err := x.record(ctx, p, names.ClosingName(), s.ClosingHash)
		if err != nil {
			return err
		}
		if good && x.books == nil {
			if x.books, _, err = archive.LoadClosing(ctx, p.store, x.manifest); err != nil {
				return err
			}
		}
	}
	return nil
}

// gone looks whether files of rows, or that tell values, are left of a segment that was destroyed.
func (x *judged) gone(ctx context.Context) error {
	for _, p := range x.parts {
		if x.skip(p) {
			continue
		}
		whole, _, err := shelf.FilesOf(ctx, p.store, x.manifest)
		if err != nil {
			return err
		}
		for _, file := range whole {
			x.find(true, archive.FindExtra, p, file, "the segment was destroyed by disposal "+x.segment.Disposal+
				", and this file of it is still there")
		}
	}
	return nil
}

// side looks at the side file of one copy.
func (x *judged) side(ctx context.Context, p part) error {
	m := x.manifest
	sum, err := archive.FileSum(ctx, p.store, m.RangeName())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		x.find(true, archive.FindMissing, p, m.RangeName(),
			"the side file with the range of ages and keys is not there; searches read more without it")
	case err != nil && !errors.Is(err, archive.ErrDamaged):
		return err
	case err != nil || sum != m.Range && !archive.Remade(ctx, p.store, m):
		x.find(true, archive.FindDamaged, p, m.RangeName(),
			fmt.Sprintf("the side file has the SHA-256 %.12s instead of %.12s", sum, m.Range))
	}
	return nil
}

// rows reads the rows of one copy, and compares the closing record with them.
func (x *judged) rows(ctx context.Context, p part) error {
	m, st := x.manifest, p.store
	if x.pause != nil {
		st = archive.Paced(st, x.pause)
	}
	var left []int
	if x.books != nil {
		left = x.books.LeftOut()
	}
	var leftSet value.Set
	ordinal := 0
	err := archive.Verify(ctx, st, m, func(_ *value.Chunk, digests []value.Digest) error {
		for _, d := range digests {
			if len(left) > 0 && left[0] == ordinal {
				leftSet.Add(d)
				left = left[1:]
			}
			ordinal++
		}
		if x.read != nil {
			x.read(int64(len(digests)))
		}
		return ctx.Err()
	})
	intact := err == nil
	if err := x.file(ctx, p, m.RowsName(), err); err != nil {
		return err
	}
	for i := range m.Beside {
		one := *m
		one.Beside = m.Beside[i : i+1]
		if err := x.file(ctx, p, m.BesideName(m.Beside[i].Join),
			archive.VerifyBeside(ctx, st, &one, nil)); err != nil {
			return err
		}
	}
	if x.books == nil {
		return nil
	}
	if err := x.books.Balance(m, left, leftSet, intact && m.AsRead == nil); err != nil {
		x.find(true, archive.FindBooks, p, m.ClosingName(), err.Error())
	}
	return nil
}

// file notes what reading a file of rows came to.
func (x *judged) file(ctx context.Context, p part, file string, err error) error {
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.Is(err, fs.ErrNotExist):
		x.find(true, archive.FindMissing, p, file, "the file is not there")
	case errors.Is(err, store.ErrCold):
		x.cold = true
		x.find(false, archive.FindCold, p, file,
			"these rows are in cold storage and were not read; they can be once they were retrieved")
	case !errors.Is(err, archive.ErrDamaged):
		return err
	default:
		sum, _ := archive.FileSum(ctx, p.store, file) // of one that cannot be read nobody can tell whose it is
		if other := x.bySum[startOf(sum)]; other != "" && other != x.segment.ID {
			x.find(true, archive.FindSwapped, p, file, "the file holds the rows of segment "+other)
		} else {
			x.find(true, archive.FindDamaged, p, file, err.Error())
		}
	}
	return nil
}

// repair puts a file that is missing or not what was written in its place, from another copy that is. A side file of
// which there is none is made again from the rows. It returns where it was replaced from; nothing where there is
// nothing to replace it with.
func (x *judged) repair(ctx context.Context, f archive.Remark) (string, error) {
	if f.Kind != archive.FindMissing && f.Kind != archive.FindDamaged && f.Kind != archive.FindSwapped {
		return "", nil
	}
	x.mending.Lock()
	defer x.mending.Unlock()
	want := x.sumOf(f.File)
	var target *part
	for i := range x.parts {
		if x.parts[i].name == f.Store {
			target = &x.parts[i]
		}
	}
	if target == nil || want == "" {
		return "", nil
	}
	for _, p := range x.parts {
		if p.name == f.Store {
			continue
		}
		sum, err := archive.FileSum(ctx, p.store, f.File)
		if err != nil || sum != want {
			if ctx.Err() != nil {
				return "", context.Cause(ctx)
			}
			continue // this copy cannot mend it
		}
		return p.name, x.replace(ctx, p.store, target, f.File, want)
	}
	if x.manifest != nil && f.File == x.manifest.RangeName() {
		return x.remake(ctx, target)
	}
	return "", nil
}

// replace puts a file into a store from another, and reads it back.
func (x *judged) replace(ctx context.Context, from store.Store, to *part, file, want string) error {
	if err := to.store.Remove(ctx, file); err != nil {
		return err
	}
	if _, err := archive.CopyFile(ctx, from, to.store, file); err != nil {
		return err
	}
	if sum, err := archive.FileSum(ctx, to.store, file); err != nil || sum != want {
		return errors.Join(err, fmt.Errorf("%w: the file that was put in its place was read back as another",
			archive.ErrDamaged))
	}
	if cold := store.AsCold(to.store); cold != nil && to.name == x.segment.RowsStore && x.segment.Cold {
		return cold.Cool(ctx, file)
	}
	return nil
}

// remake makes the side file of a segment again, from rows that are what was written.
func (x *judged) remake(ctx context.Context, to *part) (string, error) {
	m := x.manifest
	for _, p := range x.parts {
		if !p.rows || archive.Verify(ctx, p.store, m, nil) != nil {
			continue
		}
		again := *m // whether it has a filter of keys is noted there, and the manifest does not change
		span, described, err := tables.SpanOf(ctx, p.store, &again)
		if err != nil {
			return "", err
		}
		described.Into(&span)
		if !m.KeyFilter {
			span.Keys = nil
		}
		if err := to.store.Remove(ctx, m.RangeName()); err != nil {
			return "", err
		}
		return "the rows in store " + p.name, archive.WriteRange(ctx, to.store, m, span)
	}
	return "", ctx.Err()
}

// sumOf is the SHA-256 that a file of the segment was written with; empty where nobody can tell.
func (x *judged) sumOf(file string) string {
	s, m := x.segment, x.manifest
	names := archive.ManifestAt(s.Stem)
	switch file {
	case names.ManifestName():
		return s.ManifestHash
	case names.ClosingName():
		return s.ClosingHash
	case names.DisposalName():
		return s.DisposalHash
	}
	if m == nil {
		return ""
	}
	switch file {
	case m.RowsName():
		return m.SHA256
	case m.RangeName():
		return m.Range
	}
	for _, b := range m.Beside {
		if m.BesideName(b.Join) == file {
			return b.SHA256
		}
	}
	return ""
}

// VerifySegment judges every file of every copy of a segment.
func (kp *Keeper) VerifySegment(ctx context.Context, id string) (*catalog.Segment, error) {
	kp.shelf.Reading.RLock()
	defer kp.shelf.Reading.RUnlock()
	s, err := kp.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case s.State == catalog.SegmentDisposed:
		return nil, fmt.Errorf("segment %s was destroyed by disposal %s: %w", s.ID, s.Disposal, catalog.ErrState)
	case s.State != catalog.SegmentOpen && s.State != catalog.SegmentClosed:
		return nil, fmt.Errorf("segment %s is %s: %w", s.ID, s.State, catalog.ErrState)
	case s.Asleep(kp.Now()):
		return nil, &refuse.Error{Field: "segment",
			Message: fmt.Sprintf("the rows of segment %s are in cold storage and cannot be read", s.ID),
			Remedy:  "`ambercellar segment retrieve " + s.ID + "` fetches them for some days"}
	}
	x := &judged{Keeper: kp, segment: s}
	if err := x.judge(ctx); err != nil {
		return nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	for _, f := range x.found {
		if f.Wrong {
			text := fmt.Sprintf("%s in store %s: %s", f.File, f.Store, f.Message)
			return nil, errors.Join(fmt.Errorf("segment %s: %w: %s", s.ID, archive.ErrDamaged, text),
				kp.Catalog.Judged(ctx, s.ID, text, kp.Now()))
		}
	}
	if err := kp.Catalog.Judged(ctx, s.ID, "", kp.Now()); err != nil {
		return nil, err
	}
	return kp.Catalog.Segment(ctx, s.ID)
}
