package run

import (
	"context"
	"fmt"
	"slices"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// take takes the lease of a table for the run.
func (r *Execution) take(ctx context.Context, table string) (err error) {
	r.leases[table], r.history[table], err = r.tables.TakeTable(ctx, r.source, r.Run.Source, table, r.Run.ID)
	return err
}

// sameHistory makes sure, after the database was out of reach, that what answers now has everything that was committed
// before: the lease, and the newest batch.
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
		return &refuse.Disagree{Source: r.Run.Source, Table: table,
			Difference: "what answers after the outage does not know the lease of this run"}
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
			return &refuse.Disagree{Source: r.Run.Source, Table: table,
				Difference: fmt.Sprintf("batch %d of slice %d was committed before the outage, and what answers "+
					"now does not know it", last.Batch, last.Segment)}
		}
	}
	r.lost.Store(false)
	return nil
}

// stillSame is unaltered for all tables that a run works on while it goes; those that it joins must be there.
func (r *Execution) stillSame(ctx context.Context) error {
	_, err := tables.Unaltered(ctx, r.source, r.table)
	for _, k := range r.whole.Related {
		if err == nil {
			_, err = tables.Unaltered(ctx, r.source, k.Table)
		}
	}
	for _, t := range r.joined { // of which nothing goes
		if err == nil {
			_, err = r.source.Table(ctx, t.Name)
			err = tables.Dropped(t, err)
		}
	}
	return err
}

// number keeps the names of the columns of a run's tables, and where their numbers hold, for the manifests.
func (r *Execution) number(ctx context.Context, tables []*shape.Table) (err error) {
	r.numbered = map[string]string{}
	for _, t := range tables {
		if _, err := r.shelf.Saw(ctx, r.Run.Source, t); err != nil {
			return err
		}
		if r.numbered[t.Name], err = r.shelf.Numbering(ctx, r.Run.Source, t); err != nil {
			return err
		}
	}
	return nil
}
