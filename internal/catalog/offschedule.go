package catalog

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
)

// OffSchedule keeps a rule from firing by its schedule for a while. Firings that somebody asks for are carried out.
type OffSchedule struct {
	ID        string `db:"id"`
	Rule      string `db:"rule"`
	Reason    string `db:"reason"`
	Until     *Time  `db:"until"`      // when it ends; nil: by hand, or by UntilDone
	UntilDone bool   `db:"until_done"` // it ends when a run of the rule is done
	PlacedAt  Time   `db:"placed_at"`
	PlacedBy  string `db:"placed_by"`
	FreezeLift
}

// TakeOffSchedule keeps that a rule does not fire for a while, in place of what was kept of it before.
func (c *Catalog) TakeOffSchedule(ctx context.Context, actor string, o OffSchedule) (*OffSchedule, error) {
	o.ID, o.PlacedAt, o.PlacedBy = ulid.Make().String(), At(c.Now()), actor
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := c.liftOffSchedule(ctx, tx, o.Rule, actor, "another took its place"); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO off_schedule (id, rule, reason, until, until_done, placed_at,
			placed_by) VALUES (:id, :rule, :reason, :until, :until_done, :placed_at, :placed_by)`, o); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "schedule off", o.Rule, o.Reason)
	})
	return &o, err
}

// PutOnSchedule ends that a rule does not fire.
func (c *Catalog) PutOnSchedule(ctx context.Context, actor, rule, reason string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		n, err := c.liftOffSchedule(ctx, tx, rule, actor, reason)
		if err == nil && n == 0 {
			return fmt.Errorf("rule %s is not off its schedule: %w", rule, ErrState)
		}
		if err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "schedule on", rule, reason)
	})
}

func (c *Catalog) liftOffSchedule(ctx context.Context, tx *sqlx.Tx, rule, actor, reason string) (int64, error) {
	r, err := tx.ExecContext(ctx, `UPDATE off_schedule SET lifted_at = ?, lifted_by = ?, lift_reason = ?
		WHERE rule = ? AND lifted_at IS NULL`, At(c.Now()), actor, reason, rule)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// runDone puts a rule back on its schedule that was off it until a run of it is done.
func (c *Catalog) runDone(ctx context.Context, tx *sqlx.Tx, rule string) error {
	_, err := tx.ExecContext(ctx, `UPDATE off_schedule SET lifted_at = ?, lifted_by = 'service',
		lift_reason = 'its run is done' WHERE rule = ? AND until_done AND lifted_at IS NULL`, At(c.Now()), rule)
	return err
}

// OffSchedules lists the rules that are off their schedules: of one rule, or of all.
func (c *Catalog) OffSchedules(ctx context.Context, rule string) ([]OffSchedule, error) {
	return list[OffSchedule](ctx, c.db, `SELECT * FROM off_schedule WHERE lifted_at IS NULL AND ? IN ('', rule)
		ORDER BY rule`, rule)
}
