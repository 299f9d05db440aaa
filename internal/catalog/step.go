package catalog

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
)

// Step is something that was done before a run worked, or after.
type Step struct {
	ID     string `db:"id"`
	Run    string `db:"run"`
	Rule   string `db:"rule"`
	Phase  Phase  `db:"phase"`
	Number int    `db:"number"` // in the rule, from 0
	What   string `db:"what"`   // as the rule has it
	StepOutcome
}

// StepOutcome is what became of a step.
type StepOutcome struct {
	BeganAt Time    `db:"began_at"`
	EndedAt *Time   `db:"ended_at"`
	Outcome Outcome `db:"outcome"`
	Output  string  `db:"output"` // what it answered, or why it failed
	Tries   int     `db:"tries"`
}

// Phase is when a step is done.
type Phase string

// Phases.
const (
	BeforeRun Phase = "before"
	AfterRun  Phase = "after"
)

// Outcome is what became of a step.
type Outcome string

// Outcomes. A step that stays StepBegan was cut off: whether it was carried out is not known.
const (
	StepBegan  Outcome = "began"
	StepDone   Outcome = "done"
	StepFailed Outcome = "failed"
)

// BeginStep keeps that a step is begun, before it is.
func (c *Catalog) BeginStep(ctx context.Context, s *Step) error {
	s.ID, s.BeganAt, s.Outcome, s.Tries = ulid.Make().String(), At(c.Now()), StepBegan, 1
	_, err := c.writes.NamedExecContext(ctx, `INSERT INTO step (id, run, rule, phase, number, what, began_at, outcome,
		tries) VALUES (:id, :run, :rule, :phase, :number, :what, :began_at, :outcome, :tries)`, s)
	return err
}

// EndStep keeps what became of a step.
func (c *Catalog) EndStep(ctx context.Context, s *Step) error {
	now := At(c.Now())
	s.EndedAt = &now
	_, err := c.writes.NamedExecContext(ctx,
		"UPDATE step SET ended_at = :ended_at, outcome = :outcome, output = :output, tries = :tries WHERE id = :id", s)
	return err
}

// Steps lists what was done before and after a run worked, the newest first.
func (c *Catalog) Steps(ctx context.Context, run string) ([]Step, error) {
	return list[Step](ctx, c.db, "SELECT * FROM step WHERE run = ? ORDER BY id DESC LIMIT 1000", run)
}

// FailedSteps lists, of each rule, the newest try of each step after runs that failed.
func (c *Catalog) FailedSteps(ctx context.Context, since time.Time) ([]Step, error) {
	return list[Step](ctx, c.db, `SELECT * FROM step s WHERE began_at >= ? AND outcome = 'failed' AND phase = 'after'
		AND NOT EXISTS (SELECT 1 FROM step later WHERE later.rule = s.rule AND later.id > s.id AND
		later.phase = 'after' AND later.number = s.number) ORDER BY id DESC LIMIT 1000`, At(since))
}

// Enter keeps whether steps before a run have begun, so that those after it are still to be done.
func (c *Catalog) Enter(ctx context.Context, run string, entered bool) error {
	return changed(c.writes.ExecContext(ctx, "UPDATE run SET entered = ? WHERE id = ?", entered, run))
}

// Unmet keeps that a run rests because what its rule requires does not hold, until that is looked at again.
func (c *Catalog) Unmet(ctx context.Context, id, reason string, again time.Time) (*Run, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := afterRun.check(tx, "run", id, Resting); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE run SET state = 'resting', reason = ?, resume_at = ?,
			unmet_since = coalesce(unmet_since, ?) WHERE id = ?`, reason, At(again), At(c.Now()), id)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("run %s: %w", id, err)
	}
	return c.Run(ctx, id)
}

// Met keeps that what the rule of a run requires holds.
func (c *Catalog) Met(ctx context.Context, id string) error {
	_, err := c.writes.ExecContext(ctx, "UPDATE run SET unmet_since = NULL WHERE id = ? AND unmet_since IS NOT NULL",
		id)
	return err
}
