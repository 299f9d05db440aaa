package catalog

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/audit"
)

// Scope says which archived rows a restore is for: those of a run, of a segment, of a table by age and filter, or
// single ones.
type Scope struct {
	Run     string  `json:"run,omitempty"`
	Segment string  `json:"segment,omitempty"`
	From    string  `json:"from,omitempty"`  // age at or after; ISO 8601
	To      string  `json:"to,omitempty"`    // age before; ISO 8601
	Where   string  `json:"where,omitempty"` // in the language of rules
	Rows    []RowAt `json:"rows,omitempty"`  // single rows, as a search names them
	All     bool    `json:"all,omitempty"`   // every archived row of the table

	Priority store.Priority `json:"priority,omitempty"` // of retrievals, where rows of it are in cold storage
	Days     int            `json:"days,omitempty"`     // that retrieved copies stay
}

// Fit is how archived rows go into a table that was altered since.
type Fit struct {
	Rename   map[string]string `json:"rename,omitempty"`    // archived columns that are called otherwise now
	LeaveOut []string          `json:"leave_out,omitempty"` // archived columns that have no place any more
}

// RowAt is where an archived row lies.
type RowAt struct {
	Segment string `json:"segment"`
	Ordinal int    `json:"ordinal"` // from 0, in the order of the file
}

// Restore is a request to bring archived rows back.
type Restore struct {
	RestoreOrder
	RestoreStanding
	RestoreSums
	RestoreMark
}

// RestoreOrder is what was asked of a restore.
type RestoreOrder struct {
	ID           string      `db:"id"`
	Source       string      `db:"source"`
	Table        string      `db:"table_name"`
	Scope        JSON[Scope] `db:"scope"`
	Target       string      `db:"target"`        // "table", "side" or "file"
	TargetSource string      `db:"target_source"` // of side: the source of the table that is made
	TargetTable  string      `db:"target_table"`  // of side: the table that is made
	Format       string      `db:"format"`        // of a file: csv, ndjson or parquet
	Note         string      `db:"note"`
	CreatedAt    Time        `db:"created_at"`
	CreatedBy    string      `db:"created_by"`
	Fit          JSON[Fit]   `db:"fit"`
	Lasts        string      `db:"lasts"`     // ISO 8601: the rows go again when that has passed; empty: they stay
	Conflicts    string      `db:"conflicts"` // what becomes of rows whose key is there: "skip", "fail" or "replace"
	Pace         string      `db:"pace"`
	Tell         string      `db:"tell"` // who is told when it is ready: a mail address or a URL
}

// RestoreStanding is where a restore stands.
type RestoreStanding struct {
	State      RestoreState `db:"state"`
	Reason     string       `db:"reason"`
	Begun      bool         `db:"begun"` // rows may have been put back or replaced
	EndedAt    *Time        `db:"ended_at"`
	ExpiresAt  *Time        `db:"expires_at"` // when they go
	ExpiredAt  *Time        `db:"expired_at"` // when they went
	ApprovedBy string       `db:"approved_by"`
	ApprovedAt *Time        `db:"approved_at"`
	ToldAt     *Time        `db:"told_at"`
}

// RestoreSums is what a restore has done so far.
type RestoreSums struct {
	Segments  int64  `db:"segments"`
	Found     int64  `db:"found"`    // archived rows in the scope
	Restored  int64  `db:"restored"` // put back, or written to the file
	Skipped   int64  `db:"skipped"`  // their key was there already, or a newer archived version
	Replaced  int64  `db:"replaced"` // of the restored rows, those that took the place of another
	Of        int64  `db:"of_rows"`  // rows of the segments that are read, for telling how far it is; 0: not known yet
	Digest    string `db:"digest"`   // of the restored rows
	Verified  *bool  `db:"verified"` // counts and digest hold
	FileBytes int64  `db:"file_bytes"`
	TakenBack int64  `db:"taken_back"` // rows that went
	Stayed    int64  `db:"stayed"`     // rows that had been changed, and stayed
}

// RestoreMark is where the file of a restore is.
type RestoreMark struct {
	File string `db:"file"`
}

// AddRestore keeps a new restore.
func (c *Catalog) AddRestore(ctx context.Context, r *Restore) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO restore (id, source, table_name, scope, target, target_source, target_table, fit, lasts,
				format, note, state, created_at, created_by, conflicts, pace, tell)
			VALUES (:id, :source, :table_name, :scope, :target, :target_source, :target_table, :fit, :lasts, :format,
				:note, :state, :created_at, :created_by, :conflicts, :pace, :tell)`, r); err != nil {
			return err
		}
		return c.note(ctx, tx, r.CreatedBy, "restore request", r.ID, fmt.Sprintf("%s.%s to %s: %s", r.Source, r.Table,
			r.Target, r.Note))
	})
}

// SaveRestore keeps where a restore stands.
func (c *Catalog) SaveRestore(ctx context.Context, r *Restore) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		before, err := was(ctx, tx, "SELECT state FROM restore WHERE id = ?", r.ID)
		if err != nil {
			return err
		}
		if err := afterRestore.check(tx, "restore", r.ID, r.State); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx,
			`UPDATE restore SET state = :state, reason = :reason, ended_at = :ended_at, segments = :segments,
				found = :found, restored = :restored, begun = :begun,
		skipped = :skipped, replaced = :replaced, of_rows = :of_rows, target_table = :target_table, digest = :digest,
			verified = :verified, file = :file, file_bytes = :file_bytes, expired_at = :expired_at,
			taken_back = :taken_back, stayed = :stayed,
		lasts = CASE WHEN state IN ('asked', 'retrieving', 'running') THEN :lasts ELSE lasts END, expires_at = CASE
			WHEN state IN ('asked', 'retrieving', 'running') THEN :expires_at ELSE expires_at END WHERE id = :id`,
			r); err != nil || before == string(r.State) {
			return err
		}
		end := Entry{Actor: "service", Action: "restore " + string(r.State), Subject: r.ID, Outcome: audit.OutcomeDone}
		switch r.State {
		case RestoreDone:
			end.Detail = fmt.Sprintf("%d of %d rows put back or written, %d skipped", r.Restored, r.Found, r.Skipped)
		case RestoreFailed:
			end.Outcome, end.Detail = audit.OutcomeFailed, r.Reason
		default:
			return nil
		}
		_, err = c.enter(ctx, tx, end)
		return err
	})
}

// SetExpiry changes when the rows of a restore go again; nil: they stay for good. Only a restore whose rows are there
// can be changed.
func (c *Catalog) SetExpiry(ctx context.Context, actor, id, lasts string, at *Time) (*Restore, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		r, err := get[Restore](ctx, tx, "restore", id, "SELECT * FROM restore WHERE id = ?", id)
		if err != nil {
			return err
		}
		if r.State != RestoreDone || r.Target != "table" {
			return fmt.Errorf("restore %s (to %s) is %s: %w", id, r.Target, r.State, ErrState)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE restore SET lasts = ?, expires_at = ? WHERE id = ?", lasts, at,
			id); err != nil {
			return err
		}
		until := "for good"
		if at != nil {
			until = "until " + at.Format(time.RFC3339)
		}
		return c.note(ctx, tx, actor, "restore keep", id, until)
	})
	if err != nil {
		return nil, err
	}
	return c.Restore(ctx, id)
}

// DecideRestore keeps that a restore which waits for an approval got it, and which state follows, or that it was
// refused.
func (c *Catalog) DecideRestore(ctx context.Context, actor, id string, to RestoreState, reason string,
	at Time) (*Restore, error) {
	err := c.transaction(ctx, func(tx *sqlx.Tx) error {
		r, err := get[Restore](ctx, tx, "restore", id, "SELECT * FROM restore WHERE id = ?", id)
		if err != nil {
			return err
		}
		if r.State != RestoreAsked {
			return fmt.Errorf("restore %s is %s and waits for no decision: %w", id, r.State, ErrState)
		}
		if err := afterRestore.refuse("restore", id, r.State, to); err != nil {
			return err
		}
		if to != RestoreRefused {
			if err := c.useApproval(ctx, tx); err != nil {
				return err
			}
		}
		what := "restore approve"
		if r.State, r.ApprovedBy, r.ApprovedAt = to, actor, &at; to == RestoreRefused {
			what, r.Reason, r.EndedAt = "restore refuse", reason, &at
		}
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE restore SET state = :state, reason = :reason, ended_at = :ended_at, approved_by = "+
				":approved_by, approved_at = :approved_at WHERE id = :id", r); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, what, id, reason)
	})
	if err != nil {
		return nil, err
	}
	return c.Restore(ctx, id)
}

// RestoresIn lists the restores in a state, the oldest first.
func (c *Catalog) RestoresIn(ctx context.Context, states ...RestoreState) ([]Restore, error) {
	query, args, err := sqlx.In("SELECT * FROM restore WHERE state IN (?) ORDER BY created_at", states)
	if err != nil {
		return nil, err
	}
	return list[Restore](ctx, c.db, query, args...)
}

// Expiring lists the restores whose rows are there for a time: of one table where it is named.
func (c *Catalog) Expiring(ctx context.Context, source string) ([]Restore, error) {
	return list[Restore](ctx, c.db, expiringQuery, source)
}

const expiringQuery = "SELECT * FROM restore WHERE state IN ('asked', 'retrieving', 'running', 'done') AND lasts " +
	"<> '' AND ? IN ('', source) ORDER BY expires_at"

// Restore returns one restore.
func (c *Catalog) Restore(ctx context.Context, id string) (*Restore, error) {
	return get[Restore](ctx, c.db, "restore", id, "SELECT * FROM restore WHERE id = ?", id)
}

// Restores lists the newest restores.
func (c *Catalog) Restores(ctx context.Context, p Page) ([]Restore, error) {
	return paged[Restore](ctx, c.db, p, newestFirst, "SELECT * FROM restore WHERE true")
}

// Targets of restores.
const (
	TargetTable = "table" // the one that the rows came from
	TargetSide  = "side"  // a new table, made to fit
	TargetFile  = "file"
)
