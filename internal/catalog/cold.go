package catalog

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/archive/store"
)

// Retrieval is the fetching of one segment's rows from cold storage, for a time.
type Retrieval struct {
	ID         string         `db:"id"`
	Segment    string         `db:"segment"`
	Store      string         `db:"store"`
	Priority   store.Priority `db:"priority"`
	Days       int            `db:"days"` // that the copy stays
	Bytes      int64          `db:"bytes"`
	Price      *float64       `db:"price"` // by the store's tariff; null: not known
	Currency   string         `db:"currency"`
	State      RetrievalState `db:"state"`
	Reason     string         `db:"reason"`
	Note       string         `db:"note"` // what it is for
	CreatedAt  Time           `db:"created_at"`
	CreatedBy  string         `db:"created_by"`
	ExpectedAt *Time          `db:"expected_at"` // by the tariff
	ReadyAt    *Time          `db:"ready_at"`
	Until      *Time          `db:"until"`
}

// AddRetrieval keeps a new retrieval.
func (c *Catalog) AddRetrieval(ctx context.Context, r *Retrieval) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO retrieval VALUES (:id, :segment, :store, :priority, :days, :bytes, :price, :currency, `+
				`:state, :reason, :note, :created_at, :created_by, :expected_at, :ready_at, :until)`, r); err != nil {
			return err
		}
		return c.note(ctx, tx, r.CreatedBy, "segment retrieve", r.Segment,
			fmt.Sprintf("from store %s at %s priority for %d days: %s", r.Store, r.Priority, r.Days, r.Note))
	})
}

// SaveRetrieval keeps where a retrieval stands, and with it until when its segment can be read.
func (c *Catalog) SaveRetrieval(ctx context.Context, r *Retrieval) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := afterRetrieval.check(tx, "retrieval", r.ID, r.State); err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE retrieval SET state = :state, reason = :reason, ready_at = :ready_at, until = :until WHERE id "+
				"= :id", r); err != nil {
			return err
		}
		if r.State != RetrievalReady {
			return nil
		}
		_, err := tx.ExecContext(ctx, "UPDATE segment SET warm_until = ? WHERE id = ?", r.Until, r.Segment)
		return err
	})
}

// Retrieval returns one retrieval.
func (c *Catalog) Retrieval(ctx context.Context, id string) (*Retrieval, error) {
	return get[Retrieval](ctx, c.db, "retrieval", id, "SELECT * FROM retrieval WHERE id = ?", id)
}

// Retrievals lists retrievals, the newest first.
func (c *Catalog) Retrievals(ctx context.Context, p Page) ([]Retrieval, error) {
	return paged[Retrieval](ctx, c.db, p, newestFirst, "SELECT * FROM retrieval WHERE true")
}

// RetrievalsIn lists the retrievals in a state, the oldest first.
func (c *Catalog) RetrievalsIn(ctx context.Context, state RetrievalState) ([]Retrieval, error) {
	return list[Retrieval](ctx, c.db, "SELECT * FROM retrieval WHERE state = ? ORDER BY created_at", state)
}

// RetrievedSince sums up the bytes that somebody has retrieved from a store since a moment.
func (c *Catalog) RetrievedSince(ctx context.Context, store, actor string, since time.Time) (bytes int64, err error) {
	return bytes, c.db.GetContext(ctx, &bytes,
		"SELECT coalesce(sum(bytes), 0) FROM retrieval WHERE store = ? AND created_by = ? AND created_at >= ?", store,
		actor, At(since))
}

// Moved keeps that a segment's rows lie in another store now, and that their files in the one before are to be
// removed. One that was brought back to its records stays there: its rule does not send it away again.
func (c *Catalog) Moved(ctx context.Context, actor string, s *Segment, from string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.NamedExecContext(ctx,
			`UPDATE segment SET rows_store = :rows_store, leaving = :leaving, moving = '', moving_by = '',
				moving_at = NULL, cold = 0, warm_until = NULL,
				cold_at = CASE WHEN :rows_store = '' THEN NULL ELSE cold_at END
			WHERE id = :id AND state = 'closed' AND disposal = '' AND leaving = ''
			AND moving = coalesce(nullif(:rows_store, ''), store) AND coalesce(nullif(rows_store, ''),
				store) = :leaving`, s)); err != nil {
			return fmt.Errorf("segment %s: %w", s.ID, err)
		}
		return c.note(ctx, tx, actor, "segment move", s.ID, fmt.Sprintf("its rows from store %s to store %s", from,
			s.RowsIn()))
	})
}

// Moving keeps that somebody wants a segment's rows moved to a store.
func (c *Catalog) Moving(ctx context.Context, actor, segment, to string) error {
	return changed(c.writes.ExecContext(ctx,
		"UPDATE segment SET moving = ?, moving_by = ?, moving_at = ? WHERE id = ?", to, actor, At(c.Now()), segment))
}

// NotMoving keeps that a segment's rows are not to be moved to a store any more. stay: nor by its rule.
func (c *Catalog) NotMoving(ctx context.Context, segment, to string, stay bool) error {
	return changed(c.writes.ExecContext(ctx, `UPDATE segment SET moving = '', moving_by = '', moving_at = NULL,
		cold_at = CASE WHEN ? THEN NULL ELSE cold_at END WHERE id = ? AND moving = ?`, stay, segment, to))
}

// Moves lists the segments whose rows are being moved to a store, and are not there yet.
func (c *Catalog) Moves(ctx context.Context) ([]Segment, error) {
	return list[Segment](ctx, c.db, movesQuery)
}

const movesQuery = "SELECT * FROM segment WHERE moving <> '' ORDER BY created_at"

// MoveFinished keeps that nothing of a segment's rows is left in the store that they left, and whether they are cold.
func (c *Catalog) MoveFinished(ctx context.Context, segment, left string, cold bool) error {
	return changed(c.writes.ExecContext(ctx, "UPDATE segment SET leaving = '', cold = ? WHERE id = ? AND leaving = ?",
		cold, segment, left))
}

// Unfinished lists the segments whose rows have left a store in which files of them may be left.
func (c *Catalog) Unfinished(ctx context.Context) ([]Segment, error) {
	return list[Segment](ctx, c.db, unsettledQuery)
}

const unsettledQuery = "SELECT * FROM segment WHERE leaving <> '' AND state = 'closed' ORDER BY created_at"

// ToCool lists the closed segments whose time to move to a cold store has come by their rule, the oldest first. One
// waits until it has its second copy, where it is to have one.
func (c *Catalog) ToCool(ctx context.Context, now time.Time, limit int) ([]Segment, error) {
	return list[Segment](ctx, c.db, coolQuery, At(now), limit)
}

const coolQuery = `SELECT segment.* FROM segment JOIN store ON store.name = segment.store
	WHERE segment.state = 'closed' AND segment.rows_store = '' AND segment.cold_store <> ''
	AND segment.cold_at <= ? AND segment.moving = ''
	AND segment.leaving = '' AND segment.damage = '' AND coalesce(nullif(segment.want_second,
		''), store.second) IN ('', segment.second) ORDER BY segment.cold_at LIMIT ?`

// ColdUnverified lists the cold segments of a store that cannot be read and were not verified since a moment, those
// first that were not verified for the longest time.
func (c *Catalog) ColdUnverified(ctx context.Context, store string, since, now time.Time) ([]Segment, error) {
	return list[Segment](ctx, c.db, coldQuery, store, At(now), At(since))
}

const coldQuery = `SELECT * FROM segment WHERE rows_store = ? AND state = 'closed' AND cold = 1
	AND coalesce(warm_until, '') <= ? AND coalesce(verified_at, '') < ?
	AND NOT EXISTS (SELECT 1 FROM retrieval WHERE retrieval.segment = segment.id AND retrieval.state = 'retrieving')
		ORDER BY verified_at`
