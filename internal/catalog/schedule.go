package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/core/rule"
)

// Schedule is a schedule that rules share.
type Schedule struct {
	Name      string                   `db:"name"`
	Body      JSON[rule.NamedSchedule] `db:"body"`
	Text      string                   `db:"text"`
	AppliedAt Time                     `db:"applied_at"`
	AppliedBy string                   `db:"applied_by"`
}

// Schedules lists the named schedules.
func (c *Catalog) Schedules(ctx context.Context) ([]Schedule, error) {
	return list[Schedule](ctx, c.db, "SELECT * FROM schedule ORDER BY name")
}

// applySchedule keeps a named schedule. Rules that follow it fire by it from now on.
func (c *Catalog) applySchedule(ctx context.Context, tx *sqlx.Tx, actor string, now time.Time, a Applied) error {
	s := a.Document.Schedule
	before, err := was(ctx, tx, "SELECT text FROM schedule WHERE name = ?", s.Name)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO schedule VALUES (?, ?, ?, ?, ?)", s.Name,
		JSON[rule.NamedSchedule]{*s}, a.Document.Text, At(now), actor); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE rule SET fired_to = ? WHERE name IN (SELECT v.rule FROM rule_revision v
		JOIN rule u ON u.name = v.rule AND u.revision = v.revision WHERE v.body ->> '$.schedule.name' = ?)`, At(now),
		s.Name); err != nil {
		return err
	}
	return c.note(ctx, tx, actor, "schedule apply", s.Name, fmt.Sprint(a.Changes)+"; "+change(before, a.Document.Text))
}

// Scheduled is a rule that has a schedule, and up to which moment its firings are dealt with.
type Scheduled struct {
	Rule    string               `db:"name"`
	Source  string               `db:"source"`
	Table   string               `db:"table_name"`
	Times   JSON[*rule.Schedule] `db:"schedule"`
	Zone    string               `db:"zone"`
	Off     bool                 `db:"off"`
	FiredTo *Time                `db:"fired_to"`
	Applied Time                 `db:"applied_at"`
}

// ScheduledRules lists the rules that have a schedule.
func (c *Catalog) ScheduledRules(ctx context.Context) ([]Scheduled, error) {
	return list[Scheduled](ctx, c.db, `SELECT u.name, u.source, u.table_name, v.body -> '$.schedule' AS schedule,
		coalesce(v.body ->> '$.zone', '') AS zone, coalesce(v.body ->> '$.off', 0) AS off, u.fired_to, v.applied_at
		FROM rule u JOIN rule_revision v ON v.rule = u.name AND v.revision = u.revision
		WHERE v.body -> '$.schedule' IS NOT NULL ORDER BY u.name`)
}

// Revised tells whether rules or schedules have changed: it is another text whenever they have.
func (c *Catalog) Revised(ctx context.Context) (mark string, err error) {
	err = c.db.GetContext(ctx, &mark, `SELECT (SELECT coalesce(max(rowid), 0) FROM rule_revision) || ' ' ||
		(SELECT coalesce(max(applied_at), '') || count(*) FROM schedule)`)
	return mark, err
}

// Firing is a moment at which a rule runs by itself, and what became of it.
type Firing struct {
	Rule   string      `db:"rule"`
	At     Time        `db:"at"`
	Source string      `db:"source"`
	Table  string      `db:"table_name"`
	State  FiringState `db:"state"`
	Reason string      `db:"reason"`
	Missed int         `db:"missed"` // firings before it that it makes up for
	FiringWork
}

// FiringWork is what was done about a firing.
type FiringWork struct {
	Tries   int    `db:"tries"`
	NextTry *Time  `db:"next_try"`
	Plan    string `db:"plan"` // empty: none yet
	Run     string `db:"run"`  // empty: none
	Due     int64  `db:"due"`  // rows, by its plan
	BeganAt Time   `db:"began_at"`
	EndedAt *Time  `db:"ended_at"`
	AskedBy string `db:"asked_by"` // who wanted it; empty: the schedule
}

// FireAsked keeps firings that somebody asks for, for a reason: all of them or none.
func (c *Catalog) FireAsked(ctx context.Context, actor, reason string, firings []Firing) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		for i := range firings {
			f := &firings[i]
			f.BeganAt, f.State, f.Reason, f.AskedBy = At(c.Now()), FiringDue, reason, actor
			f.At = f.BeganAt
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO firing (rule, at, source, table_name, state, reason,
				began_at, asked_by) VALUES (:rule, :at, :source, :table_name, :state, :reason, :began_at, :asked_by)`,
				f); err != nil {
				return fmt.Errorf("rule %s: %w", f.Rule, err)
			}
			if err := c.note(ctx, tx, actor, "rule fire", f.Rule, reason); err != nil {
				return err
			}
		}
		return nil
	})
}

// Fire keeps a firing, once, and that the rule's firings up to it are dealt with. It returns false where that had been
// done.
func (c *Catalog) Fire(ctx context.Context, f *Firing) (first bool, err error) {
	f.BeganAt = At(c.Now())
	if f.At.After(f.BeganAt.Time) {
		return false, fmt.Errorf("rule %s cannot fire at %s, which is to come: %w", f.Rule, f.At.Format(time.RFC3339),
			ErrState)
	}
	if f.State != FiringDue {
		f.EndedAt = &f.BeganAt
	}
	err = c.transaction(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, "UPDATE rule SET fired_to = ? WHERE name = ? AND (fired_to IS NULL OR "+
			"fired_to < ?)",
			f.At, f.Rule, f.At)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return err
		}
		first = true
		// a record of that moment is of a clock that was ahead
		_, err = tx.NamedExecContext(ctx,
			`INSERT OR REPLACE INTO firing (rule, at, source, table_name, state, reason, missed, began_at,
			ended_at) VALUES (:rule, :at, :source, :table_name, :state, :reason, :missed, :began_at, :ended_at)`, f)
		return err
	})
	return first, err
}

// ClockWasAhead keeps that the firings of a rule are dealt with up to now, and no further: those that the service's
// clock showed when it was ahead are still to come.
func (c *Catalog) ClockWasAhead(ctx context.Context, rule string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		now := At(c.Now())
		if _, err := tx.ExecContext(ctx, "UPDATE rule SET fired_to = ? WHERE name = ? AND fired_to > ?", now, rule,
			now); err != nil {
			return err
		}
		return c.note(ctx, tx, "service", "rule clock", rule, "its clock had been ahead; it fires again from now on")
	})
}

// DueFirings lists the firings that are still to be carried out, the oldest first.
func (c *Catalog) DueFirings(ctx context.Context) ([]Firing, error) {
	return list[Firing](ctx, c.db, "SELECT * FROM firing WHERE state = 'due' ORDER BY at, rule")
}

// Firing returns one firing.
func (c *Catalog) Firing(ctx context.Context, rule string, at time.Time) (*Firing, error) {
	return get[Firing](ctx, c.db, "firing", rule+" "+At(at).Format(time.RFC3339),
		"SELECT * FROM firing WHERE rule = ? AND at = ?",
		rule, At(at))
}

// SaveFiring keeps what became of a firing.
func (c *Catalog) SaveFiring(ctx context.Context, f *Firing) error {
	if f.State != FiringDue && f.State != FiringAsking && f.EndedAt == nil {
		now := At(c.Now())
		f.EndedAt = &now
	}
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		var from FiringState
		if err := tx.GetContext(ctx, &from, "SELECT state FROM firing WHERE rule = ? AND at = ?", f.Rule,
			f.At); err != nil {
			return fmt.Errorf("firing of %s: %w", f.Rule, err)
		}
		if err := afterFiring.refuse("firing", f.Rule, from, f.State); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx, `UPDATE firing SET state = :state, reason = :reason, tries = :tries,
			next_try = :next_try, plan = :plan, due = :due, ended_at = :ended_at WHERE rule = :rule AND at = :at`, f)
		return err
	})
}

// firingStarted keeps, in the transaction that makes a run, that its firing has its run: none gets two. A run that
// somebody starts of a plan that asked is that of its firing.
func (c *Catalog) firingStarted(ctx context.Context, tx *sqlx.Tx, r *Run) error {
	var f Firing
	err := tx.GetContext(ctx, &f, "SELECT * FROM firing WHERE plan = ? AND state IN ('due', 'asking')", r.Plan)
	switch {
	case errors.Is(err, sql.ErrNoRows) && r.Scheduled == nil:
		return nil
	case errors.Is(err, sql.ErrNoRows):
		return fmt.Errorf("the firing of rule %s has its run already: %w", r.Rule, ErrState)
	case err != nil:
		return err
	}
	if _, err := tx.ExecContext(ctx, "UPDATE run SET scheduled = ? WHERE id = ?", f.At, r.ID); err != nil {
		return err
	}
	r.Scheduled = &f.At
	now := At(c.Now())
	if _, err := tx.ExecContext(ctx,
		`UPDATE firing SET reason = iif(state = 'asking', '', reason), state = 'started', run = ?, ended_at = ? WHERE
		rule = ? AND at = ?`, r.ID, now, f.Rule, f.At); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `UPDATE firing SET state = 'skipped', reason = 'a later one ran', ended_at = ? WHERE
		rule = ? AND at < ? AND state = 'asking'`, now, f.Rule, f.At)
	return err
}

// FiringFilter narrows a listing of firings; empty fields do not.
type FiringFilter struct {
	Rule, Source, State string
	From, To            time.Time // zero: any
}

// Firings lists firings, the newest first.
func (c *Catalog) Firings(ctx context.Context, f FiringFilter, p Page) ([]Firing, error) {
	query, args := "SELECT * FROM firing WHERE true", []any{}
	for _, x := range [][2]string{{"rule", f.Rule}, {"source", f.Source}, {"state", f.State}} {
		if x[1] != "" {
			query, args = query+" AND "+x[0]+" = ?", append(args, x[1])
		}
	}
	if !f.From.IsZero() {
		query, args = query+" AND at >= ?", append(args, At(f.From))
	}
	if !f.To.IsZero() {
		query, args = query+" AND at < ?", append(args, At(f.To))
	}
	return paged[Firing](ctx, c.db, p, firingOrder, query, args...)
}

var firingOrder = order{columns: []string{"at", "rule"}}

// LastTaken is how many rows the newest run of a rule took that took any; 0: none did.
func (c *Catalog) LastTaken(ctx context.Context, rule string) (int64, error) {
	found, err := list[int64](ctx, c.db, `SELECT max(copied, deleted) FROM run WHERE rule = ? AND state = 'done' AND
		max(copied, deleted) > 0 ORDER BY created_at DESC LIMIT 1`, rule)
	if err != nil || len(found) == 0 {
		return 0, err
	}
	return found[0], nil
}
