package run

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// recover brings a run to where it may read its next slice: whatever an earlier execution left half done is finished
// or taken back. It returns where the next slice begins and its number. A new run has nothing to recover.
func (r *Execution) recover(ctx context.Context) (after []value.Value, number int, err error) {
	segments, err := r.recoverSegments(ctx)
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
		current := p == r.Pass && s.Part == ""
		number = max(number, s.Number+len(p.related))
		// closed, and its related rows not counted yet
		if s.State == catalog.SegmentClosed && s.Number > r.Run.Slices {
			done, err := r.tallyRelated(ctx, p, s.Number)
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
		if s.State == catalog.SegmentClosed || p.then == rule.ThenCopy && !r.Run.Deleting {
			// an earlier recovery may have left them, and have been stopped right after
			again = again || w.blind && s.Skipped > 0
			continue
		}
		r.Log.Info("taking up an open segment", "run", r.Run.ID, "segment", s.ID, "rows", s.Rows)
		journal, err := r.source.Journal(ctx, r.Run.ID, s.Number)
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
	purged, err := r.recoverRest(ctx, segments, &after)
	return after, max(number, purged, r.Run.Slices) + 1, err
}

// recoverRest closes what belongs to no slice of a table's own rows, and finds where a pass that purges goes on: the
// number of its last slice, and the place behind it.
func (r *Execution) recoverRest(ctx context.Context, segments []catalog.Segment, after *[]value.Value) (purged int,
	err error) {
	// What is left of related rows belongs to slices that never came to be, or that were purged.
	if err := r.closeOpenRelated(ctx, segments,
		func(s *catalog.Segment) bool { return !r.waits(segments, s) }); err != nil {
		return 0, err
	}
	if r.Pass.store == nil {
		if *after, purged, err = r.recoverPurge(ctx); err != nil {
			return 0, err
		}
	}
	for i, p := range r.passes {
		if p.store == nil {
			r.taken += r.Run.Passes.V[i].Ledger.Copied
		}
	}
	return purged, nil
}

// finish deletes what no batch has taken yet of a slice that was read before, and closes its books. It cannot delete
// rows whose content is not known any more: they are left, to be read again.
func (r *Execution) finish(ctx context.Context, w *Work, journal []source.JournalRow) (left bool, err error) {
	if !w.blind {
		return false, r.deleteSlice(ctx, w, journal)
	}
	undone, _ := remaining(w, journal)
	return len(undone) > 0, r.closeSlice(ctx, w, undone)
}

// recoverSegments finds out how far each segment of the run came, compares the table's chain in source and catalog,
// and makes the run's ledger that of its closed segments.
func (r *Execution) recoverSegments(ctx context.Context) ([]catalog.Segment, error) {
	segments, err := r.Catalog.RunSegments(ctx, r.Run.ID)
	if err != nil {
		return nil, err
	}
	for i := range segments {
		if err := r.recoverSegment(ctx, &segments[i]); err != nil {
			return nil, err
		}
	}
	copies := map[string]bool{}
	for _, p := range r.passes {
		for _, x := range append([]*Pass{p}, p.related...) {
			if x.store != nil {
				copies[x.table.Name] = true
				*r.ledger(x) = catalog.Ledger{}
			}
		}
	}
	for _, table := range slices.Sorted(maps.Keys(copies)) {
		if err := r.recoverChain(ctx, table); err != nil {
			return nil, err
		}
		r.Run.RawBytes, r.Run.FileBytes = 0, 0
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
		r.Run.RawBytes += s.RawBytes
		r.Run.FileBytes += s.FileBytes
		if s.State != catalog.SegmentClosed {
			if r.copies(s.Clause) {
				if p.relation == nil {
					waiting += s.Rows
				}
			} else {
				r.Run.RawBytes -= s.RawBytes
				r.Run.FileBytes -= s.FileBytes
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
			return nil, fmt.Errorf("%w: segment %s is closed in the catalog, and its closing record is not in "+
				"store %s", refuse.ErrDisagree, s.ID, p.name)
		}
		if books.Digest.Count+books.Left.Count != m.Rows {
			return nil, fmt.Errorf("%w: the closing record of segment %s covers %d of %d rows", refuse.ErrBooks, s.ID,
				books.Digest.Count+books.Left.Count, m.Rows)
		}
		r.addUp(p, numbers(books))
	}
	r.Run.Copied += waiting
	return segments, nil
}

// recoverSegment: a manifest that is in the store counts, and so does a closing record, whether or not the catalog
// had heard of it before the service stopped.
func (r *Execution) recoverSegment(ctx context.Context, s *catalog.Segment) error {
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
			if err := archive.Discard(ctx, p.store, archive.ManifestAt(s.Stem)); err != nil {
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
			return fmt.Errorf("%w: segment %s is in the catalog, and its manifest is not in store %s",
				refuse.ErrDisagree, s.ID, p.name)
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

// recoverChain compares the head of the table's chain in the source with the newest link that the catalog knows. The
// record is written first, the source's head after it, so the source may be one link behind, and nothing else.
func (r *Execution) recoverChain(ctx context.Context, table string) error {
	newest, err := r.tables.AdvanceHead(ctx, r.source, r.Run.Source, table)
	if err != nil {
		return err
	}
	r.chains.Begin(table, newest)
	return nil
}

// copies says whether the rows of a clause are copied, and deleted by a decision of its own.
func (r *Execution) copies(clause int) bool {
	p, err := r.passOf(clause, r.table.Name)
	return err == nil && p.then == rule.ThenCopy
}

// waits says whether a segment of related rows belongs to an open segment that waits for the decision to delete.
func (r *Execution) waits(segments []catalog.Segment, s *catalog.Segment) bool {
	return !r.Run.Deleting && r.copies(s.Clause) && slices.ContainsFunc(segments, func(head catalog.Segment) bool {
		p, err := r.passOf(head.Clause, head.Table)
		return err == nil && head.Table == r.table.Name && head.State == catalog.SegmentOpen &&
			head.Number < s.Number && s.Number <= head.Number+len(p.related)
	})
}

// recoverPurge takes what the journal tells of a slice that was not closed into the run's ledger. What is left of that
// slice is read again.
func (r *Execution) recoverPurge(ctx context.Context) (after []value.Value, number int, err error) {
	journal, err := r.source.Journal(ctx, r.Run.ID, -1)
	if err != nil {
		return nil, 0, err
	}
	after, err = source.DecodePosition(r.Run.Position)
	if err != nil {
		return nil, 0, err
	}
	number = r.Run.Slices
	slices := map[int][]source.JournalRow{} // by the number of the slice's own rows
	for _, row := range journal {
		if row.Segment > r.Run.Slices {
			slices[row.Segment] = append(slices[row.Segment], row)
			number = max(number, row.Segment)
		}
	}
	if number == r.Run.Slices {
		return after, number, nil
	}
	for first := r.Run.Slices + 1; first <= number; first++ {
		if slices[first] == nil || r.purgedWhole(first) {
			continue
		}
		r.addUp(r.Pass, tally(slices[first]))
		for i, k := range r.Pass.related {
			if k.store == nil {
				r.addUp(k, tally(slices[first+1+i]))
			}
		}
		first += len(r.Pass.related)
		r.Run.Slices = first
	}
	return after, r.Run.Slices, r.show(ctx, true)
}

// closeAsIs closes what a cancelled run leaves open: rows that no batch has covered count as skipped.
func (r *Execution) closeAsIs(ctx context.Context) error {
	if err := r.returnPartitions(ctx); err != nil {
		return err
	}
	segments, err := r.recoverSegments(ctx)
	if err != nil {
		return err
	}
	if err := r.closeOpenRelated(ctx, segments, func(*catalog.Segment) bool { return true }); err != nil {
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
			if s.Number > r.Run.Slices {
				done, err := r.tallyRelated(ctx, p, s.Number)
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
		journal, err := r.source.Journal(ctx, r.Run.ID, s.Number)
		if err != nil {
			return err
		}
		undone, _ := remaining(w, journal)
		if err := r.closeSlice(ctx, w, undone); err != nil {
			return err
		}
	}
	if r.Pass.store == nil {
		_, _, err := r.recoverPurge(ctx)
		return err
	}
	return nil
}

// balance makes the run's ledger from what has been closed, and checks that it adds up.
func (r *Execution) balance(ctx context.Context) error {
	if _, err := r.recoverSegments(ctx); err != nil {
		return err
	}
	l := r.Run.Closed.V
	if err := CloseLedger(&l); err != nil {
		return err
	}
	r.Run.Ledger = l
	balanced := *l.Balanced
	for i := range r.Run.Passes.V {
		for j := range r.Run.Passes.V[i].Related {
			x := &r.Run.Passes.V[i].Related[j].Ledger
			if err := CloseLedger(x); err != nil {
				return err
			}
			balanced = balanced && *x.Balanced
		}
	}
	if err := r.show(ctx, true); err != nil {
		return err
	}
	if !balanced {
		return fmt.Errorf("run %s: %w: %+v", r.Run.ID, refuse.ErrBooks, r.Run.Passes.V)
	}
	return nil
}

// CloseLedger says whether a ledger adds up.
func CloseLedger(l *catalog.Ledger) error {
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
	balanced := l.Copied == l.Deleted+l.LeftOut() && total == sets[0] && sets[0].Count == l.Copied &&
		sets[1].Count == l.Deleted+l.Unlinked
	l.Balanced = &balanced
	return nil
}

// earlierRuns is how many of a table's earlier runs are looked at for what they have left in the journal.
const earlierRuns = 20

// pruneEarlier removes what earlier runs of the table have left in the source's journal: their ledgers are stored, and
// the newest batch of the table, which stays, is of this run. That it cannot be done now is no reason to stop; the next
// run does it.
func (r *Execution) pruneEarlier(ctx context.Context) {
	runs, err := r.Catalog.EndedBefore(ctx, r.Run, earlierRuns)
	for _, id := range runs {
		var rows []source.JournalRow
		if rows, err = r.source.Journal(ctx, id, -1); err != nil || len(rows) == 0 { // those before it have none either
			break
		}
		pruned := map[int]bool{}
		for _, row := range rows {
			if pruned[row.Segment] {
				continue
			}
			pruned[row.Segment] = true
			if err = r.source.PruneJournal(ctx, id, row.Segment); err != nil {
				break
			}
		}
	}
	if err != nil {
		r.Log.Warn("what earlier runs left in the journal stays for now", "run", r.Run.ID, "error", err)
	}
}
