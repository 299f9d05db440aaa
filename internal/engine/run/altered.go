package run

import (
	"context"

	"ambercellar/internal/engine/tables"
)

// stillSame is unaltered for all tables that a run works on while it goes; those that it joins must be there.
func (r *Execution) stillSame(ctx context.Context) error {
	_, err := tables.Unaltered(ctx, r.source, r.table)
	for _, k := range r.whole.Kin {
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
