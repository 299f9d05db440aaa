package catalog

import (
	"context"
	"time"
)

// RunTime is when a run worked.
type RunTime struct {
	ID      string   `db:"id"`
	Rule    string   `db:"rule"`
	Source  string   `db:"source"`
	State   RunState `db:"state"`
	Started Time     `db:"started_at"`
	Ended   *Time    `db:"ended_at"`
}

// RunTimes lists the runs that have begun and had not ended before a moment, by their sources, states and starts.
func (c *Catalog) RunTimes(ctx context.Context, since time.Time) ([]RunTime, error) {
	return list[RunTime](ctx, c.db, runTimesQuery, At(since))
}

const runTimesQuery = `SELECT id, rule, source, state, started_at, ended_at FROM run WHERE ended_at >= ?
	AND started_at IS NOT NULL
	UNION ALL SELECT id, rule, source, state, started_at, NULL FROM run WHERE state NOT IN ('done', 'cancelled')
	AND started_at IS NOT NULL ORDER BY source, state, started_at, id`
