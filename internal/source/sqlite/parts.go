package sqlite

import (
	"context"
	"fmt"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

const cannotEmpty = "SQLite has no statement that empties a table at once"

var errNoParts = fmt.Errorf("%w: SQLite has no partitions", source.ErrWhole)

// Part is never asked for: no table here has partitions.
func (s *Source) Part(t *shape.Table, _ string, _ bool) *shape.Table { return t }

// Departures is always empty.
func (s *Source) Departures(context.Context, string) ([]source.Departure, error) { return nil, nil }

// Detach, Seize, Return and Ahead are for partitions.
func (s *Source) Detach(context.Context, source.Lease, *shape.Table, string) error { return errNoParts }
func (s *Source) Seize(context.Context, source.Lease, *shape.Table, string) (source.Seized, error) {
	return nil, errNoParts
}
func (s *Source) Return(context.Context, source.Lease, *shape.Table, string) error { return errNoParts }
func (s *Source) Ahead(context.Context, *shape.Table, [][2]time.Time, bool) ([]string, []string, error) {
	return nil, nil, errNoParts
}

// Emptied has nothing to find out.
func (s *Source) Emptied(context.Context, source.Lease, *shape.Table, int) (*source.JournalRow, error) {
	return nil, nil
}

// Empty is left to batches: the file's only writer would keep everybody out for as long anyway.
func (s *Source) Empty(context.Context, source.Lease, *shape.Table, int, []int) (*source.JournalRow, error) {
	return nil, fmt.Errorf("%w: %s", source.ErrWhole, cannotEmpty)
}
