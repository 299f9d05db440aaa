package catalog

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// JobKind is what a job is.
type JobKind string

// Kinds of jobs.
const (
	JobRestore      JobKind = "restore"      // to a table
	JobExport       JobKind = "export"       // a restore to a file
	JobDisposal     JobKind = "disposal"     // of segments, or an erasure
	JobVerification JobKind = "verification" // that somebody asked for
	JobMove         JobKind = "move"         // of a segment's rows to another store
	JobCopy         JobKind = "copy"         // the second copy of a segment
	JobAudit        JobKind = "audit"        // an export of the audit log
)

// JobKinds are all of them.
var JobKinds = []JobKind{JobRestore, JobExport, JobDisposal, JobVerification, JobMove, JobCopy, JobAudit}

// InArchive says whether jobs of a kind touch archived files or the catalog alone, and no source.
func (k JobKind) InArchive() bool {
	return k == JobVerification || k == JobMove || k == JobCopy || k == JobAudit
}

// JobTurn is which of the jobs that wait goes first, and whether one is paused.
type JobTurn struct {
	Kind     JobKind `db:"kind"`
	ID       string  `db:"id"`
	Priority int     `db:"priority"` // higher ones go first; 0 is usual
	PausedAt *Time   `db:"paused_at"`
	PausedBy string  `db:"paused_by"`
}

// JobTurnOf returns the turn of a job: the usual one where nothing else was said.
func (c *Catalog) JobTurnOf(ctx context.Context, kind JobKind, id string) (JobTurn, error) {
	found, err := list[JobTurn](ctx, c.db, "SELECT * FROM job_turn WHERE kind = ? AND id = ?", kind, id)
	if err != nil || len(found) == 0 {
		return JobTurn{Kind: kind, ID: id}, err
	}
	return found[0], nil
}

// SetJobTurn keeps the turn of a job, and why: what somebody did to it.
func (c *Catalog) SetJobTurn(ctx context.Context, actor, did string, t JobTurn) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT OR REPLACE INTO job_turn (kind, id, priority, paused_at, paused_by)
			VALUES (:kind, :id, :priority, :paused_at, :paused_by)`, t); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, string(t.Kind)+" "+did, t.ID, fmt.Sprintf("priority %d", t.Priority))
	})
}

// EndJobTurn forgets the turn of a job that has ended.
func (c *Catalog) EndJobTurn(ctx context.Context, kind JobKind, id string) error {
	_, err := c.writes.ExecContext(ctx, "DELETE FROM job_turn WHERE kind = ? AND id = ?", kind, id)
	return err
}
