package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// emptyTable removes all rows at once, where the plan's table is to be emptied so and still can be.
func (r *Execution) emptyTable(ctx context.Context, number int) (int, error) {
	if !r.Run.Emptying {
		return number, nil
	}
	done, err := r.emptied(ctx, number)
	if err == nil && !done && r.Run.Slices == 0 {
		err = r.emptyNow(ctx, number)
	}
	if err != nil {
		return number, err
	}
	r.Run.Emptying = false
	return number + 1, r.show(ctx, true)
}

// emptied books an emptying that was cut off, if it happened.
func (r *Execution) emptied(ctx context.Context, number int) (done bool, err error) {
	var row *source.JournalRow
	err = r.retry(ctx, func() (err error) {
		row, err = source.EmptierOf(r.source).Emptied(context.WithoutCancel(ctx), r.leases[r.table.Name], r.table,
			number)
		return err
	})
	if err != nil || row == nil {
		return false, err
	}
	r.bookEmptied(row, 0)
	return true, nil
}

// bookEmptied takes a table that was emptied into the books.
func (r *Execution) bookEmptied(row *source.JournalRow, took time.Duration) {
	r.Run.Parts.V = append(r.Run.Parts.V, catalog.Part{State: catalog.PartLeft, Left: int64(row.Deleted),
		Drop: took.Microseconds()})
	r.note(row, took, 0, nil)
	r.addUp(r.Pass, tally([]source.JournalRow{*row}))
	r.Run.Slices = max(r.Run.Slices, row.Segment)
}

// emptyTries is how often the lock on a table that is to be emptied is asked for, within about half a minute.
const emptyTries = 10

// emptyNow adds what came of it to the run's parts, as one without a name.
func (r *Execution) emptyNow(ctx context.Context, number int) error {
	begun := r.Now()
	defer r.gates(r.Pass)()
	if holds, err := r.Catalog.TableHolds(ctx, r.Run.Source, r.table.Name); err != nil {
		return err
	} else if len(holds) > 0 { // placed since the plan was made; none can be placed until this has ended
		r.Run.Parts.V = append(r.Run.Parts.V,
			catalog.Part{State: catalog.PartRows, Reason: fmt.Sprintf("hold %s (%s) stands on the table", holds[0].ID,
				holds[0].Reference)})
		return nil
	}
	sel, err := r.due.WithHolds(ctx, r.Run.Source, r.whole)
	if err != nil {
		return err
	}
	var row *source.JournalRow
	if err = r.retry(ctx, func() error { return due.Wholly(ctx, r.source, sel) }); err == nil {
		tries := 0
		err = r.retry(ctx, func() (err error) {
			row, err = source.EmptierOf(r.source).Empty(context.WithoutCancel(ctx), r.leases[r.table.Name], r.table,
				number, r.Pass.columns)
			if tries++; errors.Is(err, source.ErrBusy) && tries >= emptyTries {
				return &refuse.Differs{Why: "others were at the table whenever it was to be emptied: " + err.Error()}
			}
			return err
		})
	}
	var differs *refuse.Differs
	if errors.As(err, &differs) || errors.Is(err, source.ErrWhole) {
		r.Run.Parts.V = append(r.Run.Parts.V,
			catalog.Part{State: catalog.PartRows, Reason: strings.TrimPrefix(err.Error(), source.ErrWhole.Error()+
				": ")})
		return nil
	}
	if err != nil {
		return err
	}
	r.bookEmptied(row, r.Now().Sub(begun))
	r.measureLog(ctx)
	return nil
}
