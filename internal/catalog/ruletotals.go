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
	Working   int64  `db:"working_micros"`
}

// sums adds up what rules came to: each of those up to a name by itself, and all others together, as a rule without
// one. Of ten thousand rules few are told apart.
func sums(of string) string {
	const each = `sum(runs) AS runs, sum(archived) AS archived, sum(purged) AS purged, sum(freed) AS freed,
		sum(file_bytes) AS file_bytes, sum(working_micros) AS working_micros`
	return "SELECT rule, source, table_name, " + each + " FROM (" + of + ") WHERE +rule <= ?2 GROUP BY 1, 2, 3 " +
		"UNION ALL SELECT '', '', '', " + each + " FROM (" + of + ") WHERE +rule > ?2 HAVING count(*) > 0"
}

// RuleTotalsBefore sums up the runs that ended before a day, in UTC: those of each rule up to a name, and those of all
// others together.
func (c *Catalog) RuleTotalsBefore(ctx context.Context, day time.Time, last string) ([]RuleTotals, error) {
	return list[RuleTotals](ctx, c.db, sums("SELECT * FROM day_sum WHERE day < ?1"), day.UTC().Format(time.DateOnly),
		last)
}

// RuleTotalsFrom sums up the runs that ended on a day, in UTC, or later, and those that have not ended: those of each
// rule up to a name, and those of all others together.
func (c *Catalog) RuleTotalsFrom(ctx context.Context, day time.Time, last string) ([]RuleTotals, error) {
	return list[RuleTotals](ctx, c.db, sums(ruleTotals), day.UTC().Format(time.DateOnly), last)
}

// One statement, so that no run is counted twice or not at all when it ends meanwhile.
const ruleTotals = `SELECT rule, source, table_name, runs, archived, purged, freed, file_bytes,
	working_micros FROM day_sum WHERE day >= ?1
	UNION ALL SELECT rule, source, table_name, 0, deleted - purged, purged, raw_bytes, file_bytes, working_micros
	FROM run
	WHERE state NOT IN ('done', 'cancelled')`

// LastSuccess is when the newest run of a rule that is done ended.
type LastSuccess struct {
	Rule  string `db:"rule"`
	Ended Time   `db:"ended"`
}

// LastSuccesses lists, of the first so many rules by name, those of which a run is done, with when the newest of these
// ended.
func (c *Catalog) LastSuccesses(ctx context.Context, most int) ([]LastSuccess, error) {
	return list[LastSuccess](ctx, c.db, lastSuccessQuery, most)
}

const lastSuccessQuery = `SELECT rule.name AS rule, run.ended_at AS ended FROM (SELECT name FROM rule ORDER BY name
	LIMIT ?) rule CROSS JOIN run ON run.id = (
	SELECT id FROM run WHERE run.rule = rule.name AND state = 'done' ORDER BY created_at DESC LIMIT 1)
	WHERE run.ended_at IS NOT NULL`
