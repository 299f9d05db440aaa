package run

import (
	"context"

	"ambercellar/internal/core/shape"
)

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
