package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
)

// Severity is how soon somebody should look at a finding.
type Severity string

// Severities, the most urgent first.
const (
	Urgent  Severity = "urgent"  // rows or segments are in danger, or nothing goes on
	Warning Severity = "warning" // what should happen does not
	Notice  Severity = "notice"  // it can wait
)

// Severities are all of them.
var Severities = []Severity{Urgent, Warning, Notice}

// Finding is something that somebody should look at. It is open until its cause is gone.
type Finding struct {
	ID string `db:"id"`
	Cause
	OpenedAt Time  `db:"opened_at"`
	SeenAt   Time  `db:"seen_at"` // when its cause was last seen
	ClosedAt *Time `db:"closed_at"`
	Acknowledgement
}

// Cause is what a finding says. Kind and subject together tell one from another.
type Cause struct {
	Kind     string   `db:"kind"`
	Subject  string   `db:"subject"` // a rule, a table, a store, a run
	Severity Severity `db:"severity"`
	Message  string   `db:"message"`
	Evidence string   `db:"evidence"`
	Remedy   string   `db:"remedy"`
	Address  string   `db:"address"` // of the page of the console that shows it, from #
}

// Acknowledgement is who knows of a finding, and why it may stay for now.
type Acknowledgement struct {
	AcknowledgedAt    *Time  `db:"acknowledged_at"`
	AcknowledgedBy    string `db:"acknowledged_by"`
	AcknowledgedUntil *Time  `db:"acknowledged_until"` // from when on it is shown again; nil: never
	AcknowledgeReason string `db:"acknowledge_reason"`
}

// Quiet says whether somebody acknowledged the finding for now.
func (f *Finding) Quiet(now time.Time) bool {
	return f.AcknowledgedAt != nil && (f.AcknowledgedUntil == nil || now.Before(f.AcknowledgedUntil.Time))
}

// Find brings the open findings of some kinds up to date with their causes: those that are new open, those whose cause
// is gone close. It returns how many opened and closed.
func (c *Catalog) Find(ctx context.Context, kinds []string, causes []Cause) (opened, closed int, err error) {
	query, args, err := sqlx.In("SELECT * FROM finding WHERE closed_at IS NULL AND kind IN (?)", kinds)
	if err != nil {
		return 0, 0, err
	}
	type subject struct{ kind, name string }
	open := map[subject]Finding{}
	found, err := list[Finding](ctx, c.db, query, args...)
	if err != nil {
		return 0, 0, err
	}
	for _, f := range found {
		open[subject{f.Kind, f.Subject}] = f
	}
	var opening, changing []Finding
	now := At(c.Now())
	seen := map[subject]bool{}
	for _, x := range causes {
		key := subject{x.Kind, x.Subject}
		if seen[key] {
			continue
		}
		seen[key] = true
		if f, ok := open[key]; !ok {
			opening = append(opening, Finding{ID: ulid.Make().String(), Cause: x, OpenedAt: now, SeenAt: now})
		} else if f.Cause != x {
			f.Cause, f.SeenAt = x, now
			changing = append(changing, f)
		}
	}
	var closing []string
	for key, f := range open {
		if !seen[key] {
			closing = append(closing, f.ID)
		}
	}
	if len(opening)+len(changing)+len(closing) == 0 {
		return 0, 0, nil
	}
	return len(opening), len(closing), c.transaction(ctx, func(tx *sqlx.Tx) error {
		for _, f := range opening {
			if _, err := tx.NamedExecContext(ctx, `INSERT OR IGNORE INTO finding (id, kind, subject, message, evidence,
				remedy, address, severity, opened_at, seen_at) VALUES (:id, :kind, :subject, :message, :evidence,
				:remedy, :address, :severity, :opened_at, :seen_at)`, f); err != nil {
				return err
			}
		}
		for _, f := range changing {
			if _, err := tx.NamedExecContext(ctx, `UPDATE finding SET message = :message, evidence = :evidence,
				remedy = :remedy, address = :address, severity = :severity, seen_at = :seen_at WHERE id = :id`,
				f); err != nil {
				return err
			}
		}
		for _, id := range closing {
			if _, err := tx.ExecContext(ctx, "UPDATE finding SET closed_at = ?, seen_at = ? WHERE id = ?", now, now,
				id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Findings lists findings, the newest first: those that are open, or all.
func (c *Catalog) Findings(ctx context.Context, closed bool, p Page) ([]Finding, error) {
	return paged[Finding](ctx, c.db, p, order{columns: []string{"opened_at", "id"}},
		"SELECT * FROM finding WHERE (? OR closed_at IS NULL)", closed)
}

// Acknowledge keeps that somebody knows of an open finding, for a reason, until a time where one is given.
func (c *Catalog) Acknowledge(ctx context.Context, actor, id, reason string, until *Time) (*Finding, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		var closed *Time
		err := tx.GetContext(ctx, &closed, "SELECT closed_at FROM finding WHERE id = ?", id)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		if closed != nil {
			return ErrState
		}
		if _, err := tx.ExecContext(ctx, `UPDATE finding SET acknowledged_at = ?, acknowledged_by = ?,
			acknowledged_until = ?, acknowledge_reason = ? WHERE id = ?`, At(c.Now()), actor, until, reason,
			id); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "finding acknowledge", id, reason)
	})
	if err != nil {
		return nil, err
	}
	return get[Finding](ctx, c.db, "finding", id, "SELECT * FROM finding WHERE id = ?", id)
}

// UnscheduledRule is a rule that runs by hand only.
type UnscheduledRule struct {
	Name    string `db:"name"`
	LastRun *Time  `db:"last_run"`
}

// Unscheduled lists the enabled rules without a schedule that were applied, and last ran, before a time.
func (c *Catalog) Unscheduled(ctx context.Context, before time.Time) ([]UnscheduledRule, error) {
	return list[UnscheduledRule](ctx, c.db,
		`SELECT u.name, (SELECT max(created_at) FROM run WHERE rule = u.name) AS last_run
		FROM rule u JOIN rule_revision v ON v.rule = u.name AND v.revision = u.revision
		WHERE v.body -> '$.schedule' IS NULL AND coalesce(v.body ->> '$.off', 0) = 0 AND v.applied_at < ? AND
		NOT EXISTS (SELECT 1 FROM run WHERE rule = u.name AND created_at >= ?) ORDER BY u.name`, At(before),
		At(before))
}

// QuietRules lists the rules whose last firings, n of them, all found nothing due.
func (c *Catalog) QuietRules(ctx context.Context, n int) ([]string, error) {
	return list[string](ctx, c.db, `SELECT u.name FROM rule u WHERE ? = (SELECT count(*) FROM (SELECT state FROM
		firing WHERE rule = u.name ORDER BY at DESC LIMIT ?) WHERE state = 'nothing') ORDER BY u.name`, n, n)
}

// LatestFirings lists the firings that are the newest of their rules and in a state.
func (c *Catalog) LatestFirings(ctx context.Context, state FiringState) ([]Firing, error) {
	return list[Firing](ctx, c.db, latestFiringsQuery, state)
}

// Uncovered is a rule whose newest plan counted rows that no clause is for.
type Uncovered struct {
	Rule string `db:"rule"`
	Rows int64  `db:"row_count"`
}

// UncoveredRows lists the scheduled rules whose newest plan counted rows that no clause is for.
func (c *Catalog) UncoveredRows(ctx context.Context) ([]Uncovered, error) {
	return list[Uncovered](ctx, c.db, uncoveredQuery)
}

// Expected is what a run came to, and what its plan had expected; nil where that is not known.
type Expected struct {
	ID            string   `db:"id"`
	Rule          string   `db:"rule"`
	State         RunState `db:"state"`
	Due           int64    `db:"due"`
	Left          int64    `db:"left_out"`
	Working       int64    `db:"working_micros"`
	FileBytes     int64    `db:"file_bytes"`
	LogBytes      *int64   `db:"log_bytes"`
	Seconds       *float64 `db:"seconds"`
	ExpectArchive *int64   `db:"expect_archive"`
	ExpectLog     *int64   `db:"expect_log"`
}

// RunsExpected lists the newest run of each rule, if it was made since a time and works or is done, beside what its
// plan expected.
func (c *Catalog) RunsExpected(ctx context.Context, since time.Time) ([]Expected, error) {
	return list[Expected](ctx, c.db, expectedQuery, At(since))
}

const expectedQuery = `SELECT r.id, r.rule, r.state, r.due, r.changed + r.vanished + r.held + r.skipped AS
		left_out, r.working_micros, r.file_bytes, r.log_bytes, p.detail ->> '$.expect.seconds' AS seconds,
		p.detail ->> '$.expect.archive_bytes' AS expect_archive, p.detail ->> '$.expect.log_bytes' AS expect_log
		FROM rule u CROSS JOIN run r
			ON r.id = (SELECT id FROM run WHERE rule = u.name ORDER BY created_at DESC, id DESC LIMIT 1)
		CROSS JOIN plan p ON p.id = r.plan WHERE r.created_at >= ? AND r.state IN ('running', 'done') ORDER BY r.id`

const uncoveredQuery = `SELECT p.rule, p.counts ->> '$.uncovered' AS row_count
		FROM rule u CROSS JOIN rule_revision v ON v.rule = u.name AND v.revision = u.revision
		CROSS JOIN plan p ON p.id = (SELECT id FROM plan WHERE rule = u.name ORDER BY made_at DESC, id DESC LIMIT 1)
		WHERE v.body -> '$.schedule' IS NOT NULL AND coalesce(v.body ->> '$.off', 0) = 0
		AND p.counts ->> '$.counted' AND p.counts ->> '$.uncovered' > 0 ORDER BY p.rule`

const latestFiringsQuery = `SELECT f.* FROM rule u CROSS JOIN firing f ON f.rule = u.name
		AND f.at = (SELECT max(at) FROM firing WHERE rule = u.name) WHERE f.state = ? ORDER BY f.rule`

// FindingCount is how many open findings are of a kind and a severity. Quiet ones somebody knows of.
type FindingCount struct {
	Kind     string   `db:"kind"`
	Severity Severity `db:"severity"`
	Quiet    bool     `db:"quiet"`
	N        int      `db:"n"`
}

// FindingCounts counts the open findings.
func (c *Catalog) FindingCounts(ctx context.Context) ([]FindingCount, error) {
	return list[FindingCount](ctx, c.db, `SELECT kind, severity, acknowledged_at IS NOT NULL AND
		(acknowledged_until IS NULL OR acknowledged_until > ?) AS quiet, count(*) AS n FROM finding
		WHERE closed_at IS NULL GROUP BY 1, 2, 3`, At(c.Now()))
}
