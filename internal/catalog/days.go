package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Day is what the runs came to that ended on a day, in UTC.
type Day struct {
	Day      string `db:"day"` // like 2027-01-31
	Runs     int64  `db:"runs"`
	Archived int64  `db:"archived"` // rows that left their tables for the archive
	Purged   int64  `db:"purged"`   // rows that were deleted without a copy
	// bytes of both in their tables; of what was purged, as the plans took them to be
	Freed     int64 `db:"freed"`
	FileBytes int64 `db:"file_bytes"` // that the archive grew by
	Working   int64 `db:"working_micros"`
}

// addToDay adds a run that has ended to the sums of its day.
func addToDay(ctx context.Context, tx *sqlx.Tx, r *Run) error {
	_, err := tx.ExecContext(ctx,
		`INSERT INTO day_sum SELECT ?1, r.rule, r.revision, r.source, r.table_name, r.store, 1,
		r.deleted - r.purged, r.purged,
		CAST(r.raw_bytes + coalesce(r.purged * (p.counts ->> '$.bytes') / max(p.counts ->> '$.due', 1), 0) AS INTEGER),
		r.file_bytes, r.working_micros FROM run r LEFT JOIN plan p ON p.id = r.plan WHERE r.id = ?2
		ON CONFLICT DO UPDATE SET runs = runs + 1, archived = archived + excluded.archived,
		purged = purged + excluded.purged, freed = freed + excluded.freed,
		file_bytes = file_bytes + excluded.file_bytes, working_micros = working_micros + excluded.working_micros`,
		r.EndedAt.UTC().Format(time.DateOnly), r.ID)
	return err
}
