package restore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// tableTarget puts rows back into the tables that they came from.
type tableTarget struct {
	*restoration
	name string // of the source
	db   source.Source
	live map[string]*shape.Table // by archived table
	find func(ctx context.Context, m *archive.Manifest) (*shape.Table, error)
	fit  func(ctx context.Context, m *archive.Manifest, t *shape.Table) (*fit, error)
}

// openTable makes ready the tables that the rows came from, or new ones that are made to fit.
func (q *restoration) openTable(ctx context.Context) (target, error) {
	x := &tableTarget{restoration: q, name: q.restore.Source, live: map[string]*shape.Table{}}
	x.find, x.fit = x.ownTable, func(ctx context.Context, m *archive.Manifest, t *shape.Table) (*fit, error) {
		return q.fitNow(ctx, m, t, q.restore.Fit.V)
	}
	if q.restore.Target == catalog.TargetSide {
		x.name, x.find, x.fit = q.restore.TargetSource, x.sideTable, q.fitBeside
	}
	var err error
	if x.db, err = q.Source(ctx, x.name); err != nil {
		return nil, err
	}
	if err := x.db.PrepareJournal(ctx); err != nil {
		return nil, err
	}
	p, err := pace.Parse(q.restore.Pace)
	if err != nil {
		return nil, err
	}
	q.pace = pace.New(p, pace.Profile{Rows: x.db.Reads().Gentle.Rows}) // somebody waits for what is restored
	q.batch.Store(int64(q.pace.Rows()))
	q.watcher = q.Watch.Of(x.db, x.name, nil, 0)
	if p == pace.Unlimited && x.db.Reads().ParallelWrites {
		q.workers = 2
	}
	return x, nil
}

// ownTable describes the table that rows came from.
func (x *tableTarget) ownTable(ctx context.Context, m *archive.Manifest) (*shape.Table, error) {
	t, err := x.db.Table(ctx, m.Table)
	if err != nil {
		return nil, err
	}
	_, err = x.shelf.Saw(ctx, x.name, t)
	return t, err
}

// sideTable makes the side table for rows, or finds the one that it made before.
func (x *tableTarget) sideTable(ctx context.Context, m *archive.Manifest) (*shape.Table, error) {
	into, err := x.makeSide(ctx, x.db, m)
	if err != nil {
		return nil, err
	}
	return x.db.Table(ctx, into)
}

// into returns the table that rows of a segment go into.
func (x *tableTarget) into(ctx context.Context, m *archive.Manifest) (*shape.Table, error) {
	x.books.Lock()
	defer x.books.Unlock()
	if t := x.live[m.Table]; t != nil {
		return t, nil
	}
	t, err := x.find(ctx, m)
	if err != nil {
		return nil, err
	}
	x.live[m.Table] = t
	return t, nil
}

func (x *tableTarget) deliver(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest,
	ordinals []int) error {
	t, err := x.into(ctx, m)
	if err != nil {
		return err
	}
	f, err := x.fit(ctx, m, t)
	if err != nil {
		return err
	}
	rows, digests = f.apply(rows, digests)
	request := source.RestoreRequest{Table: t, Restore: x.restore.ID, Segment: m.Segment, Ordinals: ordinals,
		Columns: f.to, Rows: rows, Digests: digests}
	if x.restore.Conflicts == ConflictsReplace {
		request.Replace = func(there *value.Chunk) error { return x.keepReplaced(ctx, t, f.to, there) }
	}
	out, unsure, begun, err := x.put(ctx, request)
	if err != nil {
		return err
	}
	var want value.Set
	for i, d := range digests {
		if !out.Present[i] {
			want.Add(d)
		}
	}
	if out.Digest != want {
		return fmt.Errorf("%w: the restored rows have the digest %s instead of %s", refuse.ErrBooks, out.Digest, want)
	}
	pause, err := x.book(ctx, request, out, unsure, begun)
	if err != nil {
		return err
	}
	return source.Rest(ctx, pause)
}

// put puts rows back in one transaction. unsure says that a try whose connection broke may have done so, begun when
// the last try began.
func (x *tableTarget) put(ctx context.Context, request source.RestoreRequest) (out *source.RestoreOutcome, unsure bool,
	begun time.Time, err error) {
	err = tables.Retry(ctx, x.Log, func() (err error) {
		begun = x.Now()
		defer x.watcher.Work()()
		out, err = x.db.Restore(ctx, request)
		switch {
		case err == nil || errors.Is(err, source.ErrBusy):
			return err
		case errors.Is(err, source.ErrUnreachable) && !request.Table.ByAddress():
			unsure = true
			return err
		}
		x.books.Lock()
		defer x.books.Unlock()
		return &refuse.Error{Message: err.Error(),
			Remedy: fmt.Sprintf("%d rows of this restore had been put back before; they stay, and a new "+
				"request skips them", x.restore.Restored)}
	}, x.waiting(ctx))
	return out, unsure, begun, err
}

// book counts what became of the rows of a transaction, and returns how long to rest after it.
func (x *tableTarget) book(ctx context.Context, request source.RestoreRequest, out *source.RestoreOutcome, unsure bool,
	begun time.Time) (time.Duration, error) {
	x.books.Lock()
	defer x.books.Unlock()
	x.expect.Merge(out.Digest)
	if x.replaced != nil {
		x.restore.Replaced = x.replaced.rows
	}
	if (x.again || unsure) && out.Skipped > 0 {
		if err := x.reinsertBefore(ctx, x.db, request, out); err != nil {
			return 0, err
		}
	}
	room, _ := x.watcher.Free()
	x.pace.Free(room)
	pause := x.pace.Done(request.Rows.Rows(), x.Now().Sub(begun), 0, 0)
	x.batch.Store(int64(x.pace.Rows()))
	return pause, x.counted(ctx, int64(request.Rows.Rows()), out.Inserted, out.Skipped)
}

// finish moves the sequences past the restored numbers, and compares the count with the source's own record.
func (x *tableTarget) finish(ctx context.Context) error {
	if sequenced, ok := source.As[source.Sequenced](x.db); ok {
		for _, t := range x.live {
			if err := sequenced.MoveSequences(ctx, t); err != nil { // the rows are there all the same
				x.Log.Warn("rows were put back, and a sequence may give their numbers again", "restore",
					x.restore.ID, "error", err)
			}
		}
	}
	total := int64(0)
	for _, t := range x.live {
		n, err := x.db.RestoredCount(ctx, t, x.restore.ID)
		if err != nil {
			return err
		}
		total += n
	}
	if total != x.restore.Restored {
		return fmt.Errorf("%w: %d rows were restored and the source's record has %d", refuse.ErrBooks,
			x.restore.Restored, total)
	}
	return nil
}
