package run

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// Where a source finds and deletes in one statement, rows that are purged are not read first: what the statement
// judges is what it takes, and nothing can come in between. Rows that others have locked make it give way; from there
// a slice is read and deleted like any other, which leaves them out and comes again.

// direct is the source that may purge the present pass in one statement a batch; nil where its rows are to be read
// first.
func (r *Execution) direct() source.Purger {
	r.booking.Lock()
	defer r.booking.Unlock()
	if r.Pass.then != rule.ThenPurge || r.Pass.partition != "" || r.source.Reads().ReadsGently && !r.freely() {
		return nil
	}
	p, _ := source.As[source.Purger](r.source)
	return p
}

// purgePass is movePass for rows that are not read first: stretch by stretch, two of them side by side where the pace
// knows no bounds. Each stretch is a slice for the books, and they are closed in order. It returns the number of the
// next slice, and whether rows are left behind a place for movePass: the database would not find them by an index, or
// the pace has become one that they are read at.
func (r *Execution) purgePass(ctx context.Context, from source.Purger, number int, after []value.Value) (_ int,
	_ []value.Value, left bool, _ error) {
	ctx, cancel := context.WithCancel(ctx)
	open := &stretches{Execution: r, from: from}
	defer func() { // wait for all goroutines before returning
		cancel()
		open.wait()
	}()
	for more := true; more || len(open.list) > 0; {
		for more && len(open.list) < r.sideBySide() {
			if r.direct() == nil || !from.PurgesDirect(ctx, source.PurgeRequest{Selection: r.Pass.sel, After: after,
				Rows: r.firstBatch()}) {
				left, more = true, false
				break
			}
			x, err := open.begin(ctx, number, after)
			if err != nil {
				return number, nil, false, err
			}
			after, number, more = x.to, number+1, x.to != nil
		}
		if len(open.list) == 0 {
			break
		}
		x, err := open.end(ctx, nil)
		if err != nil {
			return number, nil, false, err
		}
		switch {
		case x.stopped == nil && x.to == nil: // it has as many as a slice may have
			after, more, left = x.slice.Next, true, false
			continue
		case x.stopped == nil || x.stopped == errNoMore:
			continue
		}
		for len(open.list) > 0 { // what stopped it is dealt with alone, and the way goes on from its place
			if _, err := open.end(ctx, x); err != nil {
				return number, nil, false, err
			}
		}
		after, more, left = x.slice.Next, true, false
		if errors.Is(x.stopped, source.ErrBusy) {
			r.Log.Info("others are at rows that are due", "run", r.Run.ID, "slice", x.number, "error", x.stopped)
			if number, err = r.purgeRead(ctx, number, &after); err != nil {
				return number, nil, false, err
			}
			more = after != nil
		}
	}
	return number, after, left, nil
}

// stretches are those that are being purged side by side, in order.
type stretches struct {
	*Execution
	from source.Purger
	list []*stretch
}

// begin begins the stretch behind a place.
func (o *stretches) begin(ctx context.Context, number int, after []value.Value) (*stretch, error) {
	x := &stretch{Work: &Work{number: number, pass: o.Pass, slice: source.Slice{Next: after}},
		done: make(chan struct{})}
	if o.sideBySide() > 1 {
		rows := o.stretchRows()
		if len(o.list) == 0 { // so that they do not come to their ends together
			rows /= 2
		}
		if err := o.retry(ctx, func() (err error) {
			x.to, err = o.from.PlaceAhead(ctx, o.Pass.sel, after, rows)
			return err
		}); err != nil {
			return nil, err
		}
		x.rows = rows
	}
	o.list = append(o.list, x)
	o.beside(len(o.list))
	go func() {
		defer close(x.done)
		x.stopped, x.err = o.purgeStretch(ctx, o.from, x)
	}()
	return x, nil
}

// end waits for the first of them and closes its books: as coming from where another one stopped, if it is given.
func (o *stretches) end(ctx context.Context, stopped *stretch) (*stretch, error) {
	x := o.list[0]
	<-x.done
	o.list = o.list[1:]
	o.beside(len(o.list))
	if x.err != nil {
		return nil, x.err
	}
	if stopped != nil {
		x.slice.Next = stopped.slice.Next
	}
	return x, o.closeDirect(ctx, x)
}

func (o *stretches) wait() {
	for _, x := range o.list {
		<-x.done
	}
}

// firstBatch is how many rows the next batch would have.
func (r *Execution) firstBatch() int {
	r.booking.Lock()
	defer r.booking.Unlock()
	return r.pace.Rows()
}

// stretch is a slice whose rows are purged directly, and how far that is.
type stretch struct {
	*Work
	to      []value.Value // where it ends; nil: with the last row that is due
	rows    int           // that it may have at the most, if it ends somewhere
	done    chan struct{} // closed when nothing more of it is going on
	stopped error
	err     error
}

// errNoMore says that no row of a stretch is left, errAlone that it is to go on without another beside it.
var (
	errNoMore = errors.New("no row is left that is due")
	errAlone  = errors.New("the pace has changed")
)

// stretchRows is how many rows a stretch has at the most.
func (r *Execution) stretchRows() int {
	if r.SliceRows > 0 {
		return r.SliceRows
	}
	return due.SliceRows
}

// beside notes how many stretches are being purged.
func (r *Execution) beside(n int) {
	r.booking.Lock()
	defer r.booking.Unlock()
	r.workers = n
}

// sideBySide is how many stretches are purged at a time. What counts rows or bytes as they go leaves nothing to a
// second one.
func (r *Execution) sideBySide() int {
	r.booking.Lock()
	defer r.booking.Unlock()
	if !r.freely() || r.Run.Limit > 0 || r.rule.Budget != nil || r.rule.Log != nil ||
		r.Pass.sel.Empties() {
		return 1
	}
	return 2
}

// purgeStretch deletes the rows of a stretch in batches. It says why it stopped before: at others' locks, or since no
// row was left. Where the next rows begin, and the digest of those that are gone, stand in the slice.
func (r *Execution) purgeStretch(ctx context.Context, from source.Purger, x *stretch) (stopped, err error) {
	busy := 0
	for batch := 1; x.to != nil || x.set.Count < int64(r.stretchRows()); {
		q := source.PurgeRequest{Lease: r.leases[r.table.Name], Segment: x.number, Number: batch, After: x.slice.Next,
			UpTo: x.to, Spurts: r.inSpurts(r.purges)}
		if q.Rows, err = r.batchRows(ctx); err != nil {
			return nil, err
		}
		if r.direct() == nil || x.to != nil && r.sideBySide() == 1 {
			return errAlone, nil
		}
		if x.to != nil {
			// A statement that finds as many as it may looks at no row behind them, which a neighbour may have in
			// hand.
			if q.Rows = min(q.Rows, x.rows-int(x.set.Count)); q.Rows == 0 {
				return nil, nil
			}
		}
		if q.Rows == 0 {
			return errNoMore, nil
		}
		var next []value.Value
		row, err := r.transact(ctx, x.Work, false, func(sel source.Selection) ([]*source.JournalRow, error) {
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
		switch {
		case err != nil:
			return nil, err
		case stopped != nil && x.to != nil && busy < busyTries: // by the neighbour, perhaps
			busy++
			if err := source.Rest(ctx, tables.LockWait); err != nil {
				return nil, err
			}
			continue
		case stopped != nil:
			return stopped, nil
		case row == nil:
			return errNoMore, nil
		}
		busy = 0
		batch++
		x.set.Merge(row.Digest)
		r.took(row)
		// otherwise it was deleted by a try whose answer got lost: the next batch looks from the same place
		if next != nil {
			x.slice.Next = next
		}
	}
	return nil, nil
}

// took counts rows for a plan that limits them.
func (r *Execution) took(row *source.JournalRow) {
	r.booking.Lock()
	defer r.booking.Unlock()
	r.taken += int64(row.Rows)
}

// busyTries is how often a batch beside another is tried before the locks that it meets are taken for those of others.
const busyTries = 3

// batchRows waits until the next batch may go, and returns how many rows it may have; 0: the run has as many as its
// plan allows.
func (r *Execution) batchRows(ctx context.Context) (int, error) {
	r.booking.Lock()
	defer r.booking.Unlock()
	if err := r.giveWay(ctx); err != nil {
		return 0, err
	}
	if r.full() {
		return 0, nil
	}
	n := r.share(r.pace.Rows())
	if t := r.table; t.Rows > 0 && t.Bytes > 0 { // wide rows make a batch's transaction large
		n = int(min(int64(n), max(batchBytes*t.Rows/t.Bytes, 1)))
	}
	if r.Run.Limit > 0 {
		n = int(min(int64(n), r.Run.Limit-r.taken))
	}
	return n, nil
}

// closeDirect books a slice whose rows were purged directly: the journal must tell of just those that the deletes
// reported.
func (r *Execution) closeDirect(ctx context.Context, x *stretch) error {
	if x.set.Count == 0 {
		return nil
	}
	journal, err := r.journalOf(ctx, x.number)
	if err != nil {
		return err
	}
	books := tally(journal)
	if books.digest != x.set || books.deleted != x.set.Count || books.left.Count != 0 {
		return fmt.Errorf("run %s, slice %d: %w: the deletes reported %d rows, and the journal tells of %d, or of "+
			"others", r.Run.ID, x.number, refuse.ErrBooks, x.set.Count, books.deleted)
	}
	if err := r.bookDirect(ctx, x, books); err != nil {
		return err
	}
	return r.retry(ctx, func() error { return r.source.PruneJournal(ctx, r.Run.ID, x.number) })
}

func (r *Execution) bookDirect(ctx context.Context, x *stretch, books *books) error {
	r.booking.Lock()
	defer r.booking.Unlock()
	r.addUp(x.pass, books)
	r.Run.Slices = max(r.Run.Slices, x.number)
	r.Run.Position = source.EncodePosition(x.slice.Next)
	return r.show(ctx, true)
}

// purgeRead purges one slice whose rows are read first. after becomes where the next begins, or nil where none is
// left.
func (r *Execution) purgeRead(ctx context.Context, number int, after *[]value.Value) (int, error) {
	got := <-r.fetch(ctx, number, *after, shortSliceRows)
	if *after = nil; got.err != nil || got.work == nil {
		return number, got.err
	}
	r.taken += int64(len(got.work.Digests))
	if got.work.slice.More {
		*after = got.work.slice.Next
	}
	return number + 1, r.deleteSlice(ctx, got.work, nil)
}
