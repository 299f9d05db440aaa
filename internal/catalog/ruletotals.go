package catalog

import (
	"context"
	"time"
)

// RuleTotals is what the runs of a rule have come to on a table, those that go on included.
type RuleTotals struct {
	Rule      string `db:"rule"`
	Source    string `db:"source"`
	Table     string `db:"table_name"`
	Runs      int64  `db:"runs"`       // that have ended
	Archived  int64  `db:"archived"`   // rows that left the table for the archive
	Purged    int64  `db:"purged"`     // rows that were deleted without a copy
	Freed     int64  `db:"freed"`      // bytes of both in the table; of what was purged, as the plans took them to be
	FileBytes int64  `db:"file_bytes"` // that the archive grew by
}

const ruleSums = `SELECT rule, source, table_name, sum(runs) AS runs, sum(archived) AS archived, sum(purged) AS purged,
	sum(freed) AS freed, sum(file_bytes) AS file_bytes FROM `

// RuleTotalsBefore sums up the runs that ended before a day, in UTC.
func (c *Catalog) RuleTotalsBefore(ctx context.Context, day time.Time) ([]RuleTotals, error) {
	return list[RuleTotals](ctx, c.db, ruleSums+"day_sum WHERE day < ? GROUP BY 1, 2, 3",
		day.UTC().Format(time.DateOnly))
}

// RuleTotalsFrom sums up the runs that ended on a day, in UTC, or later, and those that have not ended.
func (c *Catalog) RuleTotalsFrom(ctx context.Context, day time.Time) ([]RuleTotals, error) {
	return list[RuleTotals](ctx, c.db, ruleTotalsQuery, day.UTC().Format(time.DateOnly))
}

// One statement, so that no run is counted twice or not at all when it ends meanwhile.
const ruleTotalsQuery = ruleSums + `(SELECT rule, source, table_name, runs, archived, purged, freed, file_bytes
	FROM day_sum WHERE day >= ?
	UNION ALL SELECT rule, source, table_name, 0, deleted - purged, purged, raw_bytes, file_bytes FROM run
	WHERE state NOT IN ('done', 'cancelled')) GROUP BY 1, 2, 3`

// LastSuccess is when the newest run of a rule that is done ended.
type LastSuccess struct {
	Rule  string `db:"rule"`
	Ended Time   `db:"ended"`
}

// LastSuccesses lists the rules of which a run is done, with when the newest of these ended.
func (c *Catalog) LastSuccesses(ctx context.Context) ([]LastSuccess, error) {
	return list[LastSuccess](ctx, c.db, lastSuccessQuery)
}

const lastSuccessQuery = `SELECT rule.name AS rule, run.ended_at AS ended FROM rule CROSS JOIN run ON run.id = (
	SELECT id FROM run WHERE run.rule = rule.name AND state = 'done' ORDER BY created_at DESC LIMIT 1)
	WHERE run.ended_at IS NOT NULL`
