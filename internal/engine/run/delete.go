package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// deleteSlice deletes the rows of a slice in batches, those of earlier executions left out, and closes its books.
func (r *Execution) deleteSlice(ctx context.Context, w *Work, journal []source.JournalRow) error {
	todo, number := remaining(w, journal)
	var locked []int
	for len(todo) > 0 {
		if err := r.giveWay(ctx); err != nil {
			return err
		}
		n := w.nextBatch(todo, min(r.share(r.pace.Rows()), r.narrow(w)))
		row, err := r.deleteBatch(ctx, w, number, false, todo[:n])
		if err != nil {
			return err
		}
		locked = append(locked, row.Skipped...)
		todo, number = todo[n:], number+1
	}
	for round := 0; round < lockedRounds && len(locked) > 0; round++ {
		if err := source.Rest(ctx, lockedWait); err != nil {
			return err
		}
		row, err := r.deleteBatch(ctx, w, number, true, locked)
		if err != nil {
			return err
		}
		locked, number = row.Skipped, number+1
	}
	return r.closeSlice(ctx, w, nil)
}

// batchBytes is how much content a batch may have where a delete reports it, which the database or we hold in memory.
const batchBytes = 8 << 20

// narrow is how many rows of a slice a batch may have for their width.
func (r *Execution) narrow(w *Work) int {
	if r.source.Reads().RowVersions || w.bytes == 0 {
		return len(w.Digests)
	}
	return int(max(batchBytes*int64(len(w.Digests))/w.bytes, 1))
}

// Rows that others have locked come again at the end of their slice, so often and after such a wait.
const (
	lockedRounds = 3
	lockedWait   = 250 * time.Millisecond
)

// remaining returns the ordinals that no batch has covered yet, and the number of the next batch.
func remaining(w *Work, journal []source.JournalRow) (todo []int, number int) {
	number, first := 1, 0
	for _, row := range journal {
		number = max(number, row.Batch+1)
		if !row.Retry {
			first = max(first, row.Last+1)
		}
	}
	for o := first; o < len(w.Digests); o++ {
		todo = append(todo, o)
	}
	return todo, number
}

// SetPace changes the pace of a run, from its next batch on where it is going.
func (mv *Mover) SetPace(ctx context.Context, actor, id, text string) (*catalog.Run, error) {
	p, err := pace.Parse(text)
	if err != nil || text == "" {
		return nil, &refuse.Error{Field: "pace", Message: fmt.Sprintf("%q is not a pace", text),
			Remedy: "write " + pace.Names}
	}
	run, err := mv.Catalog.SetPace(ctx, actor, id, string(p))
	if err == nil {
		mv.paces.Store(id, p)
	}
	return run, err
}

// changePace takes up what SetPace was told.
func (r *Execution) changePace() {
	if p, ok := r.paces.LoadAndDelete(r.Run.ID); ok {
		r.Run.Pace = string(p.(pace.Pace))
		r.pace.Change(p.(pace.Pace), r.profile)
		r.watcher.Heed(r.bound())
		r.SetReading()
	}
}

// deleteBatch runs one delete transaction, and rests as the pace says.
func (r *Execution) deleteBatch(ctx context.Context, w *Work, number int, again bool,
	ordinals []int) (*source.JournalRow, error) {
	b := source.Batch{Lease: r.leases[r.table.Name], Segment: w.number, Number: number, Retry: again,
		Ordinals: ordinals,
		Locators: w.slice.Locators, Digests: w.Digests, Columns: w.pass.columns, LockWait: tables.LockWait,
		Bytes: w.bytes * int64(len(ordinals)) / max(int64(len(w.Digests)), 1), Spurts: r.inSpurts(r.deletes)}
	return r.transact(ctx, w, again, func(sel source.Selection) (rows []*source.JournalRow, err error) {
		b.Selection = sel
		if len(w.related) > 0 {
			b.Families = w.families(r, b.Selection)
			return source.FamiliesOf(r.source).DeleteFamilies(context.WithoutCancel(ctx), b)
		}
		for range 3 { // found again, rows are tried at once, before the table is rewritten once more
			var row *source.JournalRow
			row, err = r.source.DeleteBatch(context.WithoutCancel(ctx), b)
			rows = []*source.JournalRow{row}
			if !errors.Is(err, source.ErrLocators) || w.segment == nil {
				break
			}
			if err := r.locate(ctx, w); err != nil {
				return nil, err
			}
			b.Locators = w.slice.Locators
		}
		return rows, err
	})
}

// transact carries out one delete transaction of a slice, again while it fails for reasons that may pass, books it,
// and rests as the pace says. fn gets the slice's selection with the holds that stand now, and returns the
// transaction's journal rows, those of the slice first; none: there was nothing to do, and nothing is booked. A
// transaction that has begun is never cut off.
func (r *Execution) transact(ctx context.Context, w *Work, again bool, fn func(source.Selection) ([]*source.JournalRow,
	error)) (*source.JournalRow, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	tried, paused := r.Now(), time.Duration(0)
	var rows []*source.JournalRow
	done := r.awaited("deleting a batch") // until it is booked, through all tries: what is shown has no gap
	defer done()
	err := r.retry(ctx, func() error {
		defer r.gates(w.pass)()
		if err := r.sameHistory(ctx); err != nil {
			return err
		}
		sel, err := r.due.WithHolds(context.WithoutCancel(ctx), r.Run.Source, w.pass.sel)
		if err != nil {
			return err
		}
		tried, paused = r.Now(), r.breaks()
		defer r.watcher.Work()()
		rows, err = fn(sel)
		return err
	}, func(err error) {
		r.booking.Lock()
		defer r.booking.Unlock()
		r.Run.Reason = "waiting: " + err.Error()
		if unsaved := r.show(ctx, true); unsaved != nil {
			r.Log.Warn("the run's progress cannot be kept", "run", r.Run.ID, "error", unsaved)
		}
	})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	pause, err := r.booked(ctx, rows, again, r.Now().Sub(tried), r.breaks()-paused)
	done()
	if err != nil {
		return nil, err
	}
	return rows[0], source.Rest(ctx, pause)
}

// breaks is how long all breaks of delete transactions were.
func (r *Execution) breaks() time.Duration { return r.deletes.Breaks() + r.purges.Breaks() }

// booked books the journal rows of a transaction, those of the slice first, and returns how long to rest after it.
func (r *Execution) booked(ctx context.Context, rows []*source.JournalRow, again bool,
	took, breaks time.Duration) (pause time.Duration, err error) {
	r.booking.Lock()
	defer r.booking.Unlock()
	r.Run.Reason = r.load.reason
	row := rows[0]
	if r.newest == nil || !row.At.Before(r.newest.At) { // the journal keeps that, whatever else is pruned
		r.newest = row
	}
	grown := r.measureLog(ctx)
	if !again {
		r.Run.WindowRows += int64(row.Rows)
	}
	together := 0
	for _, x := range rows {
		if x != nil {
			together += x.Rows
		}
	}
	room, _ := r.free(pace.Pace(r.Run.Pace))
	r.pace.Free(room)
	pause = r.pace.Done(together, took-max(row.Flushed-shortFlush, 0), breaks, r.load.pressure.Slow)
	r.efforts.add(catalog.EffortStage, StageDelete, took)
	r.efforts.add(catalog.EffortRest, r.restFor(pace.Pace(r.Run.Pace)), pause)
	for _, x := range rows {
		if x != nil {
			r.note(x, took, pause, grown)
			grown = nil // it stands with the first
		}
	}
	r.count(row)
	if !again {
		r.load.rated(r.Run, float64(row.Rows*max(r.workers, 1))/max((took+pause).Seconds(), 1e-6))
	}
	return pause, r.show(ctx, false)
}

// shortFlush is how long a wait for the log's disk still counts as work. Beyond it a run waits like everybody else, and
// what it waits for takes nothing from others.
const shortFlush = time.Millisecond

// measureLog adds what the database's log has grown by since it was last called, and returns it. Where that fails the
// run goes on: a batch that cannot be measured is no reason to stop.
func (r *Execution) measureLog(ctx context.Context) (batch *int64) {
	at, known, err := r.source.LogWritten(context.WithoutCancel(ctx))
	if err != nil || !known {
		if r.logAt != nil {
			r.Log.Warn("the log's growth is not known any more", "run", r.Run.ID, "error", err)
		}
		r.logAt = nil
		return nil
	}
	if r.logAt != nil && at >= *r.logAt { // otherwise the server was started anew
		grown := at - *r.logAt
		one := grown
		batch = &one
		r.load.grown = append(r.load.grown, growth{r.Now(), float64(grown)})
		if r.Run.LogBytes != nil {
			grown += *r.Run.LogBytes
		}
		r.Run.LogBytes = &grown
	}
	r.logAt = &at
	return batch
}

// count adds a batch to what is shown of the run; the ledger proper is made from the journal when the slice closes.
func (r *Execution) count(row *source.JournalRow) {
	if !row.Retry && !r.Run.Deleting {
		r.Run.Copied += int64(row.Rows)
	}
	r.Run.Deleted += int64(row.Deleted)
	r.Run.Changed += int64(len(row.Changed))
	r.Run.Vanished += int64(len(row.Vanished))
	r.Run.Held += int64(len(row.Held))
	r.Run.Skipped += int64(len(row.Skipped))
	if row.Retry {
		r.Run.Skipped -= int64(row.Rows)
	}
}

// note keeps what a batch did, for the list of batches.
func (r *Execution) note(row *source.JournalRow, took, pause time.Duration, grown *int64) {
	r.pending = append(r.pending, catalog.Batch{Run: r.Run.ID, Segment: row.Segment, Number: row.Batch,
		Retry: row.Retry, Rows: row.Rows, Deleted: row.Deleted,
		Changed: len(row.Changed), Vanished: len(row.Vanished), Held: len(row.Held), Skipped: len(row.Skipped),
		Micros: took.Microseconds(), At: catalog.At(row.At),
		Rest: pause.Microseconds(), LogBytes: grown})
}
