package catalog

import (
	"context"

	"ambercellar/internal/core/pace"

	"github.com/jmoiron/sqlx"
)

// Slowdown is a time in which a run went slower than its pace, or rested, and why.
type Slowdown struct {
	Run    string `db:"run"`
	Begun  Time   `db:"begun"`
	Ended  *Time  `db:"ended"` // nil: still
	Rests  bool   `db:"rests"` // it rested altogether
	Reason string `db:"reason"`
}

// Batch is what one delete transaction did.
type Batch struct {
	Run      string `db:"run"`
	Segment  int    `db:"segment"`
	Number   int    `db:"number"`
	Retry    bool   `db:"retry"`
	Rows     int    `db:"row_count"`
	Deleted  int    `db:"deleted"`
	Changed  int    `db:"changed"`
	Vanished int    `db:"vanished"`
	Held     int    `db:"held"`
	Skipped  int    `db:"skipped"`
	Micros   int64  `db:"micros"`
	At       Time   `db:"at"`
	Rest     int64  `db:"rest_micros"` // after it
	LogBytes *int64 `db:"log_bytes"`   // that the database's log grew by, others' writing included
}

// purges is how many rows a run has deleted without a copy.
func (r *Run) purges() (n int64) {
	if r.Action == "purge" {
		return r.Deleted
	}
	for _, p := range r.Passes.V {
		if p.Then == "purge" {
			n += p.Ledger.Deleted
		}
	}
	return n
}

// Progress is what a run has done since it was kept the last time.
type Progress struct {
	Batches []Batch
	Slow    []Slowdown // times gone slowly
	Efforts []Effort
	Course  *pace.Course // the whole of it; nil: as it was kept last
}

// SaveProgress keeps a run's counts, and what it has done since the last time.
func (c *Catalog) SaveProgress(ctx context.Context, r *Run, done Progress) error {
	r.Purged = r.purges()
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`UPDATE run SET copied = :copied, deleted = :deleted, unlinked = :unlinked, changed = :changed,
				vanished = :vanished, held = :held,
			skipped = :skipped, copied_digest = :copied_digest, deleted_digest = :deleted_digest,
				left_digest = :left_digest, balanced = :balanced,
			raw_bytes = :raw_bytes, file_bytes = :file_bytes, log_bytes = :log_bytes, working_micros = :working_micros,
				slices = :slices, position = :position, closed = :closed, passes = :passes, pass = :pass,
				parts = :parts, emptying = :emptying, deleting = :deleting, delete_at = :delete_at,
			resume_at = :resume_at, window_from = :window_from, window_began = :window_began,
				purged = :purged, window_rows = :window_rows,
				last_window_rows = :last_window_rows, windows_left = :windows_left
				WHERE id = :id`, r); err != nil {
			return err
		}
		for _, b := range done.Batches {
			if _, err := tx.NamedExecContext(ctx,
				`INSERT OR REPLACE INTO batch (run, segment, number, retry, row_count, deleted, changed, vanished,
					held, skipped, micros, at, rest_micros, log_bytes)
				VALUES (:run, :segment, :number, :retry, :row_count, :deleted, :changed, :vanished, :held, :skipped,
					:micros, :at, :rest_micros, :log_bytes)`, b); err != nil {
				return err
			}
		}
		for _, s := range done.Slow {
			if _, err := tx.NamedExecContext(ctx,
				"INSERT OR REPLACE INTO slowdown (run, begun, ended, rests, reason) VALUES (:run, :begun, :ended, "+
					":rests, :reason)", s); err != nil {
				return err
			}
		}
		if err := saveCourse(ctx, tx, r.ID, done.Course); err != nil {
			return err
		}
		return addEfforts(ctx, tx, r.Source, c.Now(), done.Efforts)
	})
}

// Slowdowns lists the times in which a run went slower than its pace, the newest first.
func (c *Catalog) Slowdowns(ctx context.Context, run string, p Page) ([]Slowdown, error) {
	return paged[Slowdown](ctx, c.db, p, order{columns: []string{"begun"}}, "SELECT * FROM slowdown WHERE run = ?",
		run)
}

// Batches lists the batches of a run, the newest first.
func (c *Catalog) Batches(ctx context.Context, run string, p Page) ([]Batch, error) {
	return paged[Batch](ctx, c.db, p, order{columns: []string{"segment", "number"}},
		"SELECT * FROM batch WHERE run = ?", run)
}
