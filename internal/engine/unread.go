package engine

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Where a source finds and deletes in one statement, rows that are purged are not read first: what the statement judges is
// what it takes, and nothing can come in between. Rows that others have locked make it give way; from there a slice is read
// and deleted like any other, which leaves them out and comes again.

// unread is the source that purges the present pass unread; nil where its rows are to be read first.
func (r *runner) unread() source.Purger {
	if r.pass.part != "" {
		return nil
	}
	return purger(r.source, r.pass.then, r.pass.sel)
}

// purger is a source that purges what a clause does this with unread; nil where the rows are read first.
func purger(s source.Source, then rule.Then, sel source.Selection) source.Purger {
	if p, ok := s.(source.Purger); ok && then == rule.ThenPurge && p.PurgesUnread(sel) {
		return p
	}
	return nil
}

// purgePass is movePass for rows that are not read first.
func (r *runner) purgePass(ctx context.Context, from source.Purger, number int, after []value.Value) (int, error) {
	for {
		w := &work{number: number, pass: r.pass, slice: source.Slice{Next: after}}
		stopped, err := r.purgeUnread(ctx, from, w)
		if err != nil {
			return number, err
		}
		if w.set.Count > 0 {
			if err := r.closeUnread(ctx, w); err != nil {
				return number, err
			}
			number++
		}
		after = w.slice.Next
		if errors.Is(stopped, source.ErrBusy) {
			r.Log.Info("others are at rows that are due", "run", r.run.ID, "slice", number, "error", stopped)
			if number, err = r.purgeRead(ctx, number, &after); err != nil {
				return number, err
			}
			stopped = nil
			if after == nil {
				return number, nil
			}
		}
		if errors.Is(stopped, errNoMore) {
			return number, nil
		}
	}
}

var errNoMore = errors.New("no row is left that is due")

// purgeUnread deletes a slice's worth of rows in batches. It says why it stopped before: at others' locks, or since no row was
// left. Where the next rows begin, and the digest of those that are gone, stand in the slice.
func (r *runner) purgeUnread(ctx context.Context, from source.Purger, w *work) (stopped, err error) {
	for batch := 1; w.set.Count < sliceRows; batch++ {
		if err := r.giveWay(ctx); err != nil {
			return nil, err
		}
		if r.full() {
			return errNoMore, nil
		}
		q := source.PurgeRequest{Lease: r.leases[r.table.Name], Segment: w.number, Number: batch, After: w.slice.Next, Rows: r.share(r.pace.Rows())}
		if t := r.table; t.Rows > 0 && t.Bytes > 0 { // wide rows make a batch's transaction large
			q.Rows = int(min(int64(q.Rows), max(batchBytes*t.Rows/t.Bytes, 1)))
		}
		if r.run.Limit > 0 {
			q.Rows = int(min(int64(q.Rows), r.run.Limit-r.taken))
		}
		var next []value.Value
		row, err := r.transact(ctx, w, false, func(sel source.Selection) ([]*source.JournalRow, error) {
			q.Selection = sel
			row, last, err := from.Purge(context.WithoutCancel(ctx), q)
			if stopped = nil; errors.Is(err, source.ErrBusy) {
				stopped = err
				return nil, nil
			}
			if err != nil || row.Rows == 0 {
				return nil, err
			}
			next = last
			return []*source.JournalRow{row}, nil
		})
		if err != nil || stopped != nil {
			return stopped, err
		}
		if row == nil {
			return errNoMore, nil
		}
		w.set.Merge(row.Digest)
		r.taken += int64(row.Rows)
		if next != nil { // otherwise it was deleted by a try whose answer got lost: the next batch looks from the same place
			w.slice.Next = next
		}
	}
	return nil, nil
}

// closeUnread books a slice whose rows were purged unread: the journal must tell of just those that the deletes reported.
func (r *runner) closeUnread(ctx context.Context, w *work) error {
	var journal []source.JournalRow
	err := r.retry(ctx, func() (err error) {
		journal, err = r.source.Journal(ctx, r.run.ID, w.number)
		return err
	})
	if err != nil {
		return err
	}
	books := tally(journal)
	if books.digest != w.set || books.deleted != w.set.Count || books.left.Count != 0 {
		return fmt.Errorf("run %s, slice %d: %w: the deletes reported %d rows, and the journal tells of %d of the same digest", r.run.ID, w.number, ErrBooks, w.set.Count, books.deleted)
	}
	r.addUp(w.pass, books)
	r.run.Slices = max(r.run.Slices, w.number)
	r.run.Position = source.EncodePosition(w.slice.Next)
	if err := r.show(ctx, true); err != nil {
		return err
	}
	return r.retry(ctx, func() error { return r.source.PruneJournal(ctx, r.run.ID, w.number) })
}

// purgeRead purges one slice whose rows are read first. after becomes where the next begins, or nil where none is left.
func (r *runner) purgeRead(ctx context.Context, number int, after *[]value.Value) (int, error) {
	got := <-r.fetch(ctx, number, *after, shortSliceRows)
	if *after = nil; got.err != nil || got.work == nil {
		return number, got.err
	}
	r.taken += int64(len(got.work.digests))
	if got.work.slice.More {
		*after = got.work.slice.Next
	}
	return number + 1, r.deleteSlice(ctx, got.work, nil)
}
