package search

import (
	"context"

	"ambercellar/internal/core/shape"
)

// ArchivedColumns are the columns that any segment of a table has: the newest segment's first, as they stand there.
func (se *Searcher) ArchivedColumns(ctx context.Context, sourceName, table string) ([]shape.Column, error) {
	h, err := se.HuntNow(ctx, sourceName, table, false)
	if err != nil {
		return nil, err
	}
	return h.Columns, nil
}
