package run

import (
	"context"
	"fmt"
	"slices"

	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// take takes the lease of a table for the run.
func (r *Execution) take(ctx context.Context, table string) (err error) {
	r.leases[table], r.history[table], err = r.tables.TakeTable(ctx, r.source, r.Run.Source, table, r.Run.ID)
	return err
}

// sameHistory makes sure, after the database was out of reach, that what answers now has everything that was committed before:
// the lease, and the newest batch.
func (r *Execution) sameHistory(ctx context.Context) error {
	if !r.lost.Load() {
		return nil
	}
	table := r.table.Name
	now, err := r.source.Lineage(ctx, table)
	if err != nil {
		return err
	}
	if now.Identity != r.history[table] || now.Epoch < r.leases[table].Epoch {
		return &refuse.Disagree{Source: r.Run.Source, Table: table, Difference: "what answers after the outage does not know the lease of this run"}
	}
	r.booking.Lock()
	last := r.newest
	r.booking.Unlock()
	if last != nil {
		rows, err := r.source.Journal(ctx, r.Run.ID, last.Segment)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(rows, func(x source.JournalRow) bool { return x.Batch == last.Batch }) {
			return &refuse.Disagree{Source: r.Run.Source, Table: table, Difference: fmt.Sprintf("batch %d of slice %d was committed before the outage, and what answers now does not know it", last.Batch, last.Segment)}
		}
	}
	r.lost.Store(false)
	return nil
}
