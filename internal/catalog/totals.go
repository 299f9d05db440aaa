package catalog

import (
	"context"
)

// Totals is what the overview sums up.
type Totals struct {
	Segments  int64 `db:"segments"`
	Rows      int64 `db:"row_count"`
	RawBytes  int64 `db:"raw_bytes"`
	FileBytes int64 `db:"file_bytes"`
	Purged    int64 `db:"purged"`
	Sources   int   `db:"sources"`
	Rules     int   `db:"rules"`
}

// Totals sums up the archive and what was purged.
func (c *Catalog) Totals(ctx context.Context) (*Totals, error) {
	return get[Totals](ctx, c.db, "archive", "totals", totalsQuery)
}

const totalsQuery = `SELECT coalesce(sum(segments), 0) AS segments, coalesce(sum(deleted), 0) AS row_count,
	coalesce(sum(raw_bytes), 0) AS raw_bytes,
	coalesce(sum(file_bytes), 0) AS file_bytes, (SELECT coalesce(sum(purged), 0) FROM run
		WHERE purged > 0) + coalesce((SELECT CAST(value AS INTEGER) FROM setting WHERE
		name = '` + purgedSetting + `'), 0) AS purged,
	(SELECT count(*) FROM source) AS sources, (SELECT count(*) FROM rule) AS rules FROM segment_sum`
