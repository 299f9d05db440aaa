package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// recover brings a run to where it may read its next slice: whatever an earlier execution left half done is finished
// or taken back. It returns where the next slice begins and its number. A new run has nothing to recover.
func (r *runner) recover(ctx context.Context) (after []value.Value, number int, err error) {
	segments, err := r.settleSegments(ctx)
	if err != nil {
		return nil, 0, err
	}
	again := false // rows of the current pass are to be read again from the oldest
	for i := range segments {
		s := &segments[i]
		number = max(number, s.Number)
		if s.State == catalog.SegmentAbandoned || s.Table != r.table.Name {
			continue
		}
		p, err := r.passOf(s.Clause, s.Table)
		if err != nil {
			return nil, 0, err
		}
		r.taken += s.Rows
		current := p == r.pass && s.Part == ""
		number = max(number, s.Number+len(p.kin))
		if s.State == catalog.SegmentClosed && s.Number > r.run.Slices { // closed, and its related rows not counted yet
			done, err := r.tallyKin(ctx, p, s.Number)
			if err != nil {
				return nil, 0, err
			}
			done()
		}
		if s.State == catalog.SegmentClosed && !current {
			continue
		}
		if r.leavesWhole(s) { // its turn comes with its partition
			continue
		}
		w, err := r.reopen(ctx, s, p, segments)
		if err != nil {
			return nil, 0, err
		}
		if current {
			after = w.slice.Next
		}
		if s.State == catalog.SegmentClosed || p.then == rule.ThenCopy && !r.run.Deleting {
			continue
		}
		r.Log.Info("taking up an open segment", "run", r.run.ID, "segment", s.ID, "rows", s.Rows)
		journal, err := r.source.Journal(ctx, r.run.ID, s.Number)
		if err != nil {
			return nil, 0, err
		}
		left, err := r.finish(ctx, w, journal)
		if err != nil {
			return nil, 0, err
		}
		again = again || current && left
	}
	if again {
		after = nil
	}
	// What is left of related rows belongs to slices that never came to be, or that were purged.
	if err := r.closeOpenKin(ctx, segments, func(s *catalog.Segment) bool { return !r.waits(segments, s) }); err != nil {
		return nil, 0, err
	}
	if r.pass.store == nil {
		var purged int
		if after, purged, err = r.recoverPurge(ctx); err != nil {
			return nil, 0, err
		}
		number = max(number, purged)
	}
	for i, p := range r.passes {
		if p.store == nil {
			r.taken += r.run.Passes.V[i].Ledger.Copied
		}
	}
	return after, max(number, r.run.Slices) + 1, nil
}

// finish deletes what no batch has taken yet of a slice that was read before, and closes its books. It cannot delete rows
// whose content is not known any more: they are left, to be read again.
func (r *runner) finish(ctx context.Context, w *work, journal []source.JournalRow) (left bool, err error) {
	if !w.blind {
		return false, r.deleteSlice(ctx, w, journal)
	}
	undone, _ := remaining(w, journal)
	return len(undone) > 0, r.closeSlice(ctx, w, undone)
}

// settleSegments finds out how far each segment of the run came, compares the table's chain in source and catalog,
// and makes the run's ledger that of its closed segments.
func (r *runner) settleSegments(ctx context.Context) ([]catalog.Segment, error) {
	segments, err := r.Catalog.RunSegments(ctx, r.run.ID)
	if err != nil {
		return nil, err
	}
	for i := range segments {
		if err := r.settleSegment(ctx, &segments[i]); err != nil {
			return nil, err
		}
	}
	copies := map[string]bool{}
	for _, p := range r.passes {
		for _, x := range append([]*pass{p}, p.kin...) {
			if x.store != nil {
				copies[x.table.Name] = true
				*r.ledger(x) = catalog.Ledger{}
			}
		}
	}
	for _, table := range slices.Sorted(maps.Keys(copies)) {
		if err := r.settleChain(ctx, table); err != nil {
			return nil, err
		}
		r.run.RawBytes, r.run.FileBytes = 0, 0
	}
	r.sumUp()
	waiting := int64(0)
	for i := range segments {
		s := &segments[i]
		if s.State == catalog.SegmentAbandoned {
			continue
		}
		p, err := r.passOf(s.Clause, s.Table)
		if err != nil {
			return nil, err
		}
		r.run.RawBytes += s.RawBytes
		r.run.FileBytes += s.FileBytes
		if s.State != catalog.SegmentClosed {
			if r.copies(s.Clause) {
				if p.relation == nil {
					waiting += s.Rows
				}
			} else {
				r.run.RawBytes -= s.RawBytes
				r.run.FileBytes -= s.FileBytes
			}
			continue
		}
		m, _, err := archive.LoadManifest(ctx, p.store, s.Stem)
		if err != nil {
			return nil, err
		}
		books, _, err := archive.LoadClosing(ctx, p.store, m)
		if err != nil {
			return nil, err
		}
		if books == nil {
			return nil, fmt.Errorf("%w: segment %s is closed in the catalog, and its closing record is not in store %s", ErrDisagree, s.ID, p.name)
		}
		if books.Digest.Count+books.Left.Count != m.Rows {
			return nil, fmt.Errorf("%w: the closing record of segment %s covers %d of %d rows", ErrBooks, s.ID, books.Digest.Count+books.Left.Count, m.Rows)
		}
		r.addUp(p, numbers(books))
	}
	r.run.Copied += waiting
	return segments, nil
}

// settleSegment: a manifest that is in the store counts, and so does a closing record, whether or not the catalog
// had heard of it before the service stopped.
func (r *runner) settleSegment(ctx context.Context, s *catalog.Segment) error {
	if s.State == catalog.SegmentAbandoned {
		return nil
	}
	p, err := r.passOf(s.Clause, s.Table)
	if err != nil {
		return err
	}
	if s.State == catalog.SegmentWriting {
		m, hash, err := archive.LoadManifest(ctx, p.store, s.Stem)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			s.State = catalog.SegmentAbandoned
			if err := archive.Discard(ctx, p.store, &archive.Manifest{Stem: s.Stem}); err != nil {
				return err
			}
			return r.Catalog.SaveSegment(ctx, s)
		case err != nil:
			return err
		}
		if span, err := archive.LoadRange(ctx, p.store, m); err == nil && span != nil {
			s.Oldest, s.Newest = span.Oldest, span.Newest
		}
		if err := r.opened(ctx, s, m, hash); err != nil {
			return err
		}
	}
	if s.State == catalog.SegmentOpen {
		m, _, err := archive.LoadManifest(ctx, p.store, s.Stem)
		if errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%w: segment %s is in the catalog, and its manifest is not in store %s", ErrDisagree, s.ID, p.name)
		} else if err != nil {
			return err
		}
		books, hash, err := archive.LoadClosing(ctx, p.store, m)
		if err != nil {
			return err
		}
		if books != nil {
			return r.closed(ctx, s, books, hash)
		}
	}
	return nil
}

// settleChain compares the head of the table's chain in the source with the newest link that the catalog knows. The
// record is written first, the source's head after it, so the source may be one link behind, and nothing else.
func (r *runner) settleChain(ctx context.Context, table string) error {
	head, err := r.source.Head(ctx, table)
	if err != nil {
		return err
	}
	newest, err := r.newestLink(ctx, r.run.Source, table, head)
	if err == nil && newest != head {
		err = r.source.SetHead(ctx, table, newest)
	}
	if err != nil {
		return err
	}
	r.chainOf(table).head = newest
	return nil
}

// newestLink is the newest link that the catalog knows of a table, if the head that the source knows is that, or the one
// before it.
func (e *Engine) newestLink(ctx context.Context, sourceName, table string, head source.Head) (newest source.Head, err error) {
	newest.Sequence, newest.Hash, err = e.Catalog.LastLink(ctx, sourceName, table)
	if err != nil || newest == head {
		return newest, err
	}
	if newest.Sequence == head.Sequence+1 {
		previous, err := e.previousOf(ctx, sourceName, table, newest.Sequence)
		if err != nil || previous == head.Hash {
			return newest, err
		}
	}
	return newest, &DisagreeError{sourceName, table, fmt.Sprintf("the source's journal is at link %d of the chain (%.12s), the catalog at link %d (%.12s)", head.Sequence, head.Hash, newest.Sequence, newest.Hash)}
}

// previousOf reads from the store what the link of a sequence says of the one before it.
func (e *Engine) previousOf(ctx context.Context, sourceName, table string, sequence int64) (string, error) {
	s, err := e.Catalog.LinkSegment(ctx, sourceName, table, sequence)
	if err != nil {
		return "", err
	}
	st, err := e.Store(ctx, s.Store)
	if err != nil {
		return "", err
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil || s.Sequence == sequence {
		return linkOf(m).Previous, err
	}
	books, _, err := archive.LoadClosing(ctx, st, m)
	if err != nil || books == nil {
		return "", errors.Join(err, fmt.Errorf("%w: link %d is not in store %s", ErrDisagree, sequence, s.Store))
	}
	return books.Previous, nil
}

func linkOf(m *archive.Manifest) archive.Link {
	if m == nil {
		return archive.Link{}
	}
	return m.Link
}

// copies says whether the rows of a clause are copied, and deleted by a decision of its own.
func (r *runner) copies(clause int) bool {
	p, err := r.passOf(clause, r.table.Name)
	return err == nil && p.then == rule.ThenCopy
}

// waits says whether a segment of related rows belongs to an open segment that waits for the decision to delete.
func (r *runner) waits(segments []catalog.Segment, s *catalog.Segment) bool {
	return !r.run.Deleting && r.copies(s.Clause) && slices.ContainsFunc(segments, func(head catalog.Segment) bool {
		p, err := r.passOf(head.Clause, head.Table)
		return err == nil && head.Table == r.table.Name && head.State == catalog.SegmentOpen && head.Number < s.Number && s.Number <= head.Number+len(p.kin)
	})
}

// reopen reads a stored segment again, in place of the slice that it was made from. Locators do not outlive a start
// of the service, so the rows are found again by key and content.
func (r *runner) reopen(ctx context.Context, s *catalog.Segment, p *pass, segments []catalog.Segment) (*work, error) {
	w, err := r.stored(ctx, s, p)
	if err != nil {
		return nil, err
	}
	if w.blind {
		return w, nil
	}
	if s.State == catalog.SegmentClosed || p.then == rule.ThenCopy && !r.run.Deleting { // only its end is of interest
		return w, nil
	}
	if len(p.kin) > 0 {
		journal, err := r.source.Journal(ctx, r.run.ID, s.Number)
		if err != nil {
			return nil, err
		}
		if err := r.reopenKin(ctx, w, segments, journal); err != nil {
			return nil, err
		}
	}
	return w, r.locate(ctx, w)
}

// contents reads a segment from its store: the digests of its rows, their keys, what refers to them, and the last row's age.
func (r *runner) contents(ctx context.Context, w *work) error {
	at := func(name string) int {
		return slices.IndexFunc(w.manifest.Columns, func(c shape.Column) bool { return c.Name == name })
	}
	places := func(names []string) []int {
		out := make([]int, len(names))
		for i, name := range names {
			out[i] = at(name)
		}
		return out
	}
	pick := func(row []value.Value, places []int) []value.Value {
		out := make([]value.Value, len(places))
		for i, p := range places {
			out[i] = row[p].Clone()
		}
		return out
	}
	age, member := -1, -1 // an age of another table is not archived: reading begins again with the oldest row
	var refers []int
	kin := w.pass.kin
	if w.pass.relation != nil {
		refers = places(w.pass.relation.OurColumns())
		root, err := r.passOf(w.pass.clause, r.table.Name)
		if err != nil {
			return err
		}
		kin = root.kin
		member = slices.Index(kin, w.pass)
	} else if r.rule.Age.Join == "" && !w.pass.table.ByAddress() { // nor is an address
		age = at(r.rule.Age.Column)
	}
	key := places(w.pass.table.OwnKey())
	note := w.refer(member, w.manifest.Columns, kin)
	w.digests, w.keys, w.refers, w.set = nil, nil, nil, value.Set{}
	own := len(w.manifest.Columns) - len(w.manifest.Included)
	var hasher value.Hasher
	err := archive.Verify(ctx, w.pass.store, w.manifest, func(c *value.Chunk, digests []value.Digest) error {
		for i := range c.Rows() {
			row := c.Row(i)
			if own < len(row) {
				digests[i] = hasher.Row(row[:own])
			}
			w.keys = append(w.keys, pick(row, key))
			if refers != nil {
				w.refers = append(w.refers, pick(row, refers))
			}
			note(row)
		}
		w.add(digests)
		w.bytes += c.Weight()
		if age >= 0 {
			w.slice.Last = []value.Value{c.Row(c.Rows() - 1)[age].Clone()}
		}
		return ctx.Err()
	})
	if err == nil && len(w.keys) > 0 && age >= 0 {
		w.slice.Last = append(w.slice.Last, w.keys[len(w.keys)-1]...)
		if w.slice.Next = w.slice.Last; w.manifest.WholeAges {
			w.slice.Next = w.slice.Last[:1]
		}
	}
	if asRead := w.manifest.AsRead; err == nil && asRead != nil {
		if len(w.manifest.Omitted)+len(w.manifest.Masked) > 0 {
			w.blind, w.set = true, *asRead
		} else if w.set != *asRead {
			return fmt.Errorf("segment %s: %w: the digest of its rows as they were read is %s instead of %s", w.manifest.Segment, archive.ErrDamaged, w.set, asRead)
		}
	}
	return err
}

// stores names the stores of the run, for a message.
func (r *runner) stores() string {
	var names []string
	for _, p := range r.passes {
		if p.store != nil && !slices.Contains(names, p.name) {
			names = append(names, p.name)
		}
	}
	return strings.Join(names, ", ")
}

// locate finds a segment's rows again in the table.
func (r *runner) locate(ctx context.Context, w *work) error {
	if w.keys == nil {
		if err := r.contents(ctx, w); err != nil {
			return err
		}
	}
	if w.pass.table.ByAddress() {
		return r.locateByContent(ctx, w)
	}
	var err error
	w.slice.Locators, err = r.source.Locate(ctx, w.pass.sel, w.keys, w.digests)
	return err
}

// locateByContent finds a segment's rows again in a table without key, by reading what is due until all are found. Of rows
// with the same content any will do; the last of them are found first, since batches begin with the first.
func (r *runner) locateByContent(ctx context.Context, w *work) error {
	wanted := make(map[value.Digest][]int, len(w.digests))
	for o, d := range w.digests {
		wanted[d] = append(wanted[d], o)
	}
	var found source.Locators
	at := make([]int, len(w.digests)) // ordinal → its place among those found
	for o := range at {
		at[o] = -1
	}
	left := len(at)
	req := source.SliceRequest{Selection: w.pass.sel, Columns: w.pass.columns, MaxRows: sliceRows, MaxBytes: sliceBytes}
	var hasher value.Hasher
	for {
		var places, ordinals []int
		var slice *source.Slice
		err := r.retry(ctx, func() (err error) {
			row := 0
			places, ordinals = nil, nil
			slice, err = r.readSlice(ctx, req, func(c *value.Chunk) error {
				for i := range c.Rows() {
					d := hasher.Row(c.Row(i))
					if list := wanted[d]; len(list) > 0 {
						places, ordinals = append(places, row), append(ordinals, list[len(list)-1])
						wanted[d] = list[:len(list)-1]
					}
					row++
				}
				return ctx.Err()
			})
			if err != nil { // as it was before this slice
				for _, o := range slices.Backward(ordinals) {
					wanted[w.digests[o]] = append(wanted[w.digests[o]], o)
				}
			}
			return err
		})
		if err != nil {
			return err
		}
		base := 0
		picked := slice.Locators.Arrange(places)
		if found == nil {
			found = picked
		} else {
			base = found.Len()
			if err := found.Append(picked); err != nil {
				return err
			}
		}
		for i, o := range ordinals {
			at[o] = base + i
		}
		if left -= len(ordinals); left == 0 || !slice.More || slice.Locators.Len() == 0 {
			w.slice.Locators = found.Arrange(at)
			return nil
		}
		req.After = slice.Next
	}
}

// recoverPurge takes what the journal tells of a slice that was not closed into the run's ledger. What is left of that
// slice is read again.
func (r *runner) recoverPurge(ctx context.Context) (after []value.Value, number int, err error) {
	journal, err := r.source.Journal(ctx, r.run.ID, -1)
	if err != nil {
		return nil, 0, err
	}
	after, err = source.DecodePosition(r.run.Position)
	if err != nil {
		return nil, 0, err
	}
	number = r.run.Slices
	slices := map[int][]source.JournalRow{} // by the number of the slice's own rows
	for _, row := range journal {
		if row.Segment > r.run.Slices {
			slices[row.Segment] = append(slices[row.Segment], row)
			number = max(number, row.Segment)
		}
	}
	if number == r.run.Slices {
		return after, number, nil
	}
	for first := r.run.Slices + 1; first <= number; first++ {
		if slices[first] == nil || r.purgedWhole(first) {
			continue
		}
		r.addUp(r.pass, tally(slices[first]))
		for i, k := range r.pass.kin {
			if k.store == nil {
				r.addUp(k, tally(slices[first+1+i]))
			}
		}
		first += len(r.pass.kin)
		r.run.Slices = first
	}
	return after, r.run.Slices, r.show(ctx, true)
}

// closeAsIs closes what a cancelled run leaves open: rows that no batch has covered count as skipped.
func (r *runner) closeAsIs(ctx context.Context) error {
	if err := r.returnParts(ctx); err != nil {
		return err
	}
	segments, err := r.settleSegments(ctx)
	if err != nil {
		return err
	}
	if err := r.closeOpenKin(ctx, segments, func(*catalog.Segment) bool { return true }); err != nil {
		return err
	}
	for i := range segments {
		s := &segments[i]
		if s.Table != r.table.Name || s.State == catalog.SegmentAbandoned {
			continue
		}
		p, err := r.passOf(s.Clause, s.Table)
		if err != nil {
			return err
		}
		if s.State == catalog.SegmentClosed {
			if s.Number > r.run.Slices {
				done, err := r.tallyKin(ctx, p, s.Number)
				if err != nil {
					return err
				}
				done()
			}
			continue
		}
		w, err := r.stored(ctx, s, p)
		if err != nil {
			return err
		}
		journal, err := r.source.Journal(ctx, r.run.ID, s.Number)
		if err != nil {
			return err
		}
		undone, _ := remaining(w, journal)
		if err := r.closeSlice(ctx, w, undone); err != nil {
			return err
		}
	}
	if r.pass.store == nil {
		_, _, err := r.recoverPurge(ctx)
		return err
	}
	return nil
}

// balance makes the run's ledger from what has been closed, and checks that it adds up.
func (r *runner) balance(ctx context.Context) error {
	if _, err := r.settleSegments(ctx); err != nil {
		return err
	}
	l := r.run.Closed.V
	if err := closeLedger(&l); err != nil {
		return err
	}
	r.run.Ledger = l
	balanced := *l.Balanced
	for i := range r.run.Passes.V {
		for j := range r.run.Passes.V[i].Related {
			x := &r.run.Passes.V[i].Related[j].Ledger
			if err := closeLedger(x); err != nil {
				return err
			}
			balanced = balanced && *x.Balanced
		}
	}
	if err := r.show(ctx, true); err != nil {
		return err
	}
	if !balanced {
		return fmt.Errorf("run %s: %w: %+v", r.run.ID, ErrBooks, r.run.Passes.V)
	}
	return nil
}

// closeLedger says whether a ledger adds up.
func closeLedger(l *catalog.Ledger) error {
	var sets [3]value.Set
	for i, text := range []string{l.CopiedDigest, l.DeletedDigest, l.LeftDigest} {
		if text == "" {
			text = value.Set{}.String()
		}
		set, err := value.ParseSet(text)
		if err != nil {
			return err
		}
		sets[i] = set
	}
	l.CopiedDigest, l.DeletedDigest, l.LeftDigest = sets[0].String(), sets[1].String(), sets[2].String()
	total := sets[1]
	total.Merge(sets[2])
	balanced := l.Copied == l.Deleted+l.LeftOut() && total == sets[0] && sets[0].Count == l.Copied && sets[1].Count == l.Deleted+l.Unlinked
	l.Balanced = &balanced
	return nil
}

// VerifySegment reads a segment back from its store and checks it, its closing record, and both hashes.
func (e *Engine) VerifySegment(ctx context.Context, id string) (*catalog.Segment, error) {
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	st, err := e.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	m, _, err := e.load(ctx, st, s)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(archive.Verify(ctx, st, m, nil), archive.VerifyBeside(ctx, st, m, nil)); err != nil {
		return nil, err
	}
	now := catalog.At(e.Now())
	s.VerifiedAt = &now
	return s, e.Catalog.SaveSegment(ctx, s)
}

// SegmentDetail is a segment with what its manifest says of its content.
type SegmentDetail struct {
	catalog.Segment
	Omitted  []string          `json:"omitted"`
	Masked   map[string]string `json:"masked"`
	Included []string          `json:"included"`  // columns of joined rows
	GoesWith *archive.GoesWith `json:"goes_with"` // of related rows
	Beside   []BesideFile      `json:"beside"`    // joined rows that are kept with the segment
}

// BesideFile is a file of joined rows beside a segment.
type BesideFile struct {
	File  string `json:"file"`
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
}

// SegmentDetail returns a segment and what its manifest says. Where the store does not give the manifest, that part is
// empty.
func (e *Engine) SegmentDetail(ctx context.Context, id string) (*SegmentDetail, error) {
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &SegmentDetail{Segment: *s, Omitted: []string{}, Masked: map[string]string{}, Included: []string{}, Beside: []BesideFile{}}
	st, err := e.Store(ctx, s.Store)
	if err != nil {
		return out, nil
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return out, nil
	}
	out.Omitted, out.Included, out.GoesWith = append(out.Omitted, m.Omitted...), append(out.Included, m.Included...), m.GoesWith
	maps.Copy(out.Masked, m.Masked)
	for _, b := range m.Beside {
		out.Beside = append(out.Beside, BesideFile{File: m.BesideName(b.Join), Table: b.Table, Rows: b.Rows, Bytes: b.FileBytes})
	}
	return out, nil
}

// load reads a segment's manifest and closing record and checks them against the hashes in the catalog.
func (e *Engine) load(ctx context.Context, st store.Store, s *catalog.Segment) (*archive.Manifest, *archive.Closing, error) {
	m, hash, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil {
		return nil, nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	if hash != s.ManifestHash {
		return nil, nil, fmt.Errorf("segment %s: %w: its manifest has the hash %s instead of %s", s.ID, archive.ErrDamaged, hash, s.ManifestHash)
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil {
		return nil, nil, fmt.Errorf("segment %s: %w", s.ID, err)
	}
	if books != nil && s.State == catalog.SegmentClosed && hash != s.ClosingHash || books == nil && s.State == catalog.SegmentClosed {
		return nil, nil, fmt.Errorf("segment %s: %w: its closing record has the hash %q instead of %s", s.ID, archive.ErrDamaged, hash, s.ClosingHash)
	}
	return m, books, nil
}

// Adopt brings into the catalog every segment of a store that it does not know: after the catalog was lost or turned
// back, the store alone tells what was archived. It returns how many there were.
func (e *Engine) Adopt(ctx context.Context, actor, storeName string) (adopted int, err error) {
	st, err := e.Store(ctx, storeName)
	if err != nil {
		return 0, err
	}
	stems, err := archive.Stems(ctx, st)
	if err != nil {
		return 0, err
	}
	for _, stem := range stems {
		m, hash, err := archive.LoadManifest(ctx, st, stem)
		if err != nil {
			return adopted, err
		}
		if _, err := e.Catalog.Segment(ctx, m.Segment); err == nil {
			continue
		} else if !errors.Is(err, catalog.ErrNotFound) {
			return adopted, err
		}
		if err := e.adoptSegment(ctx, st, storeName, m, hash); err != nil {
			return adopted, err
		}
		adopted++
	}
	return adopted, e.Catalog.Note(ctx, actor, "store adopt", storeName, fmt.Sprintf("%d segments", adopted))
}

func (e *Engine) adoptSegment(ctx context.Context, st store.Store, storeName string, m *archive.Manifest, hash string) error {
	s := &catalog.Segment{ID: m.Segment, Run: m.Run, Number: m.Number, Clause: m.Clause, Source: m.Source, Table: m.Table, Store: storeName, Stem: m.Stem,
		State: catalog.SegmentWriting, CreatedAt: catalog.At(m.Stored)}
	if err := e.Catalog.AddSegment(ctx, s); err != nil {
		return err
	}
	if span, err := archive.LoadRange(ctx, st, m); err == nil && span != nil {
		s.Oldest, s.Newest = span.Oldest, span.Newest
	}
	s.State, s.Rows, s.RawBytes, s.FileBytes, s.Digest = catalog.SegmentOpen, m.Rows, m.RawBytes, m.FileBytes, m.Digest.String()
	s.Sequence, s.ManifestHash = m.Sequence, hash
	if err := e.Catalog.SaveSegment(ctx, s); err != nil {
		return err
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil || books == nil {
		return err
	}
	at := catalog.At(books.Closed)
	s.State, s.ClosedAt, s.ClosingHash, s.ClosingSeq = catalog.SegmentClosed, &at, hash, books.Sequence
	s.Deleted, s.Changed, s.Vanished, s.Held, s.Skipped = books.Deleted, int64(len(books.Changed)), int64(len(books.Vanished)), int64(len(books.Held)), int64(len(books.Skipped))
	return e.Catalog.SaveSegment(ctx, s)
}
