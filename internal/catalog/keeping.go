package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Inflow is how many rows become due by a rule.
type Inflow struct {
	Rule     string  `db:"rule"`
	Revision int     `db:"revision"` // of the rule, that was counted
	At       Time    `db:"at"`       // when
	PerDay   float64 `db:"per_day"`  // rows; less than 0: that could not be counted
	Days     int     `db:"days"`     // over how many days to come it was counted
	Due      int64   `db:"due"`      // at that time, by the database's statistics; less than 0: not known
	Problem  string  `db:"problem"`  // what kept it from being counted
}

// Inflows lists what was counted of all rules.
func (c *Catalog) Inflows(ctx context.Context) ([]Inflow, error) {
	return list[Inflow](ctx, c.db, "SELECT * FROM inflow ORDER BY rule")
}

// KeepInflow keeps what was counted of a rule, and forgets rules that are gone.
func (c *Catalog) KeepInflow(ctx context.Context, x Inflow) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO inflow VALUES (:rule, :revision, :at, :per_day, "+
			":days, :due, :problem)", x)
		if err == nil {
			_, err = tx.ExecContext(ctx, "DELETE FROM inflow WHERE rule NOT IN (SELECT name FROM rule)")
		}
		return err
	})
}

// Taking is what the runs of a rule have taken since a moment.
type Taking struct {
	Runs  int   `db:"runs"`
	Rows  int64 `db:"row_count"`
	First *Time `db:"first"` // when the first of them was made
}

// TakenSince sums up the runs of a rule that were made from a moment on.
func (c *Catalog) TakenSince(ctx context.Context, rule string, from time.Time) (*Taking, error) {
	return get[Taking](ctx, c.db, "rule", rule, `SELECT count(*) AS runs, coalesce(sum(max(deleted, CASE action WHEN
		'copy' THEN copied ELSE 0 END)), 0) AS row_count, min(created_at) AS first FROM run WHERE rule = ? AND
		created_at >= ?`, rule, At(from))
}

// DueBy is how many rows were due at a moment.
type DueBy struct {
	At      Time         `db:"at"`
	Due     int64        `db:"due"`
	Exactly bool         `db:"exactly"`
	Narrow  JSON[Narrow] `db:"narrow"`
}

// NewestDue lists what is known of how many rows were due by a rule, the newest first: by its newest plans, and after
// its newest runs that took all that they were for.
func (c *Catalog) NewestDue(ctx context.Context, rule string) ([]DueBy, error) {
	return list[DueBy](ctx, c.db, `SELECT * FROM (SELECT made_at AS at, json_extract(counts, '$.due') AS due,
			json_extract(counts, '$.counted') AS exactly, coalesce(json_extract(detail, '$.narrow'), '{}') AS narrow
			FROM plan WHERE rule = ?1 ORDER BY made_at DESC LIMIT 10)
		UNION ALL SELECT * FROM (SELECT strftime('%Y-%m-%dT%H:%M:%fZ', r.created_at, '+0.001 seconds') AS at,
			r.changed + r.held + r.skipped, 1, coalesce(json_extract(p.detail, '$.narrow'), '{}')
			FROM run r JOIN plan p ON p.id = r.plan WHERE r.rule = ?1 AND r.state = 'done' ORDER BY r.created_at DESC
			LIMIT 10)
		ORDER BY at DESC`, rule)
}

// FirstApplied is when the first revision of a rule was applied.
func (c *Catalog) FirstApplied(ctx context.Context, rule string) (*Time, error) {
	return get[Time](ctx, c.db, "rule", rule, "SELECT min(applied_at) FROM rule_revision WHERE rule = ?", rule)
}
