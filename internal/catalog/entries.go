package catalog

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/entries"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/value"
)

// AuditSegment is a segment of the oldest entries of the audit log.
type AuditSegment struct {
	First       int64                 `db:"first"`
	Last        int64                 `db:"last"`
	Before      string                `db:"before"` // the hash of the entry before the first
	Hash        string                `db:"hash"`   // of the last
	Least       Time                  `db:"least"`  // the earliest time of its entries
	Greatest    Time                  `db:"greatest"`
	Erased      int64                 `db:"erased"` // details
	Store       string                `db:"store"`
	Stem        string                `db:"stem"` // of its file's name
	Written     JSON[archive.Written] `db:"written"`
	Digest      JSON[value.Set]       `db:"digest"`
	MovedAt     Time                  `db:"moved_at"`
	DueAt       *Time                 `db:"due_at"` // from when on its entries may be destroyed; nil: they stay
	DestroyedAt *Time                 `db:"destroyed_at"`
}

// File is what its file has to be.
func (s *AuditSegment) File() *entries.Segment {
	return &entries.Segment{Stem: s.Stem, First: s.First, Last: s.Last, Before: s.Before, Hash: s.Hash,
		Written: s.Written.V, Digest: s.Digest.V}
}

// Wrote notes what was written.
func (s *AuditSegment) Wrote(f *entries.Segment) {
	s.Stem, s.Written.V, s.Digest.V = f.Stem, f.Written, f.Digest
}

const segmentsQuery = "SELECT * FROM audit_segment WHERE destroyed_at IS NULL ORDER BY first"

// AuditSegments lists the segments of the audit log that are kept, the oldest first.
func (c *Catalog) AuditSegments(ctx context.Context) ([]AuditSegment, error) {
	return list[AuditSegment](ctx, c.db, segmentsQuery)
}

// DestroyedAudit returns the newest segment whose entries were destroyed, and the first entry of them all; nil: none
// were.
func (c *Catalog) DestroyedAudit(ctx context.Context) (*AuditSegment, error) {
	return destroyedAudit(ctx, c.db)
}

func destroyedAudit(ctx context.Context, q sqlx.QueryerContext) (*AuditSegment, error) {
	l, err := list[AuditSegment](ctx, q,
		"SELECT * FROM audit_segment WHERE destroyed_at IS NOT NULL ORDER BY first DESC LIMIT 1")
	if err != nil || len(l) == 0 {
		return nil, err
	}
	return &l[0], nil
}

// OldAudit returns the oldest entries of the catalog that come before all that are not older than an instant, with
// their details, as a segment of at most so many. Entries from the future, of a clock that was wrong, keep none
// back. Nil: there are none.
func (c *Catalog) OldAudit(ctx context.Context, before Time, most int64) (s *AuditSegment, all []entries.Entry,
	err error) {
	s = &AuditSegment{}
	begin, hash, err := auditBegin(ctx, c.db)
	if err != nil {
		return nil, nil, err
	}
	end, _, err := auditEnd(ctx, c.db)
	if err != nil {
		return nil, nil, err
	}
	last := min(end-1, begin+most) // the end of the log stays here
	// in their order, as the first one most often tells
	young, err := list[int64](ctx, c.db, "SELECT id FROM audit WHERE id > ? AND id <= ? AND +at >= ? AND +at <= ? "+
		"ORDER BY id LIMIT 1", begin, last, before, At(c.Now()))
	if err != nil {
		return nil, nil, err
	}
	if len(young) > 0 {
		last = min(last, young[0]-1)
	}
	if last <= begin {
		return nil, nil, nil
	}
	s.First, s.Last, s.Before = begin+1, last, hash
	all = make([]entries.Entry, 0, last-begin)
	err = eachEntry(ctx, c.db, begin, last, func(e *audit.Entry, d audit.Detail) {
		all = append(all, entries.Entry{Entry: *e, Detail: d})
	})
	if err != nil {
		return nil, nil, err
	}
	for i := range all {
		e := &all[i]
		if at := At(e.At); i == 0 || at.Before(s.Least.Time) {
			s.Least = at
		}
		if at := At(e.At); i == 0 || at.After(s.Greatest.Time) {
			s.Greatest = at
		}
		if e.Erased != 0 {
			s.Erased++
		}
		s.Hash = e.Hash
	}
	return s, all, nil
}

// OldestAudit returns the time of the first entry that is still in the catalog, and how many there are.
func (c *Catalog) OldestAudit(ctx context.Context) (at Time, n int64, err error) {
	begin, _, err := auditBegin(ctx, c.db)
	if err != nil {
		return at, 0, err
	}
	end, _, err := auditEnd(ctx, c.db)
	if err != nil || end == begin {
		return at, 0, err
	}
	return at, end - begin, c.db.GetContext(ctx, &at, "SELECT at FROM audit WHERE id > ? ORDER BY id LIMIT 1",
		begin)
}

// MoveAudit takes entries out of the catalog that lie in a segment now. False: a detail was erased since they were
// read, and they stay.
func (c *Catalog) MoveAudit(ctx context.Context, s *AuditSegment) (moved bool, err error) {
	s.MovedAt = At(c.Now())
	return moved, c.transaction(ctx, func(tx *sqlx.Tx) error {
		var entries, erased int64
		if err := tx.QueryRowxContext(ctx, "SELECT count(*), count(*) FILTER (WHERE erased <> 0) FROM audit JOIN "+
			"audit_detail ON entry = id WHERE id BETWEEN ? AND ?", s.First, s.Last).Scan(
			&entries, &erased); err != nil {
			return err
		}
		if entries != s.Last-s.First+1 || erased != s.Erased {
			moved = false
			return nil
		}
		moved = true
		if _, err := tx.NamedExecContext(ctx, "INSERT INTO audit_segment (first, last, before, hash, least, greatest, "+
			"erased, store, stem, written, digest, moved_at) VALUES (:first, :last, :before, :hash, :least, "+
			":greatest, "+
			":erased, :store, :stem, :written, :digest, :moved_at)", s); err != nil {
			return err
		}
		for _, statement := range []string{"DELETE FROM audit WHERE id BETWEEN ? AND ?",
			"DELETE FROM audit_detail WHERE entry BETWEEN ? AND ?"} {
			if _, err := tx.ExecContext(ctx, statement, s.First, s.Last); err != nil {
				return err
			}
		}
		if err := keepFile(ctx, tx, s.Store, s.Stem); err != nil {
			return err
		}
		return c.note(ctx, tx, "service", "audit move", fmt.Sprintf("%d-%d", s.First, s.Last), "to store "+s.Store+
			", "+s.Stem)
	})
}

// AnnounceAudit says from when on the entries of a segment may be destroyed; nil: they stay.
func (c *Catalog) AnnounceAudit(ctx context.Context, s *AuditSegment, due *Time) error {
	what, when := "audit keep", "the entries stay"
	if due != nil {
		what, when = "audit announce", "the entries will be destroyed from "+due.UTC().Format(time.RFC3339)+" on"
	}
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE audit_segment SET due_at = ? WHERE first = ?", due,
			s.First); err != nil {
			return err
		}
		return c.note(ctx, tx, "service", what, fmt.Sprintf("%d-%d", s.First, s.Last), when)
	})
}

// DestroyAudit records that the entries of the oldest segment are destroyed. Its file is left over.
func (c *Catalog) DestroyAudit(ctx context.Context, s *AuditSegment, why string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		var first int64
		if err := tx.GetContext(ctx, &first, "SELECT min(first) FROM audit_segment"); err != nil {
			return err
		}
		done, err := tx.ExecContext(
			ctx,
			"UPDATE audit_segment SET destroyed_at = ? WHERE first = ? AND stem = ? AND "+
				"destroyed_at IS NULL",
			At(c.Now()),
			s.First,
			s.Stem,
		)
		if n, one := affected(done, err); one != nil || n == 0 {
			return one
		}
		if err := c.leaveFile(ctx, tx, s.Store, s.Stem); err != nil {
			return err
		}
		return c.note(ctx, tx, "service", audit.DestroyAction, audit.DestroyedSubject(first, s.Last, s.Hash), why)
	})
}

func affected(done sql.Result, err error) (int64, error) {
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// AuditFile is a file of entries in a store.
type AuditFile struct {
	Store string `db:"store"`
	Stem  string `db:"stem"`
}

// LeaveAuditFile notes that a file is about to be written, or that nothing refers to it any more: unless a segment
// comes to refer to it, it will be removed.
func (c *Catalog) LeaveAuditFile(ctx context.Context, store, stem string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error { return c.leaveFile(ctx, tx, store, stem) })
}

func (c *Catalog) leaveFile(ctx context.Context, tx *sqlx.Tx, store, stem string) error {
	_, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO audit_leftover VALUES (?, ?, ?)", store, stem, At(c.Now()))
	return err
}

func keepFile(ctx context.Context, tx *sqlx.Tx, store, stem string) error {
	_, err := tx.ExecContext(ctx, "DELETE FROM audit_leftover WHERE store = ? AND stem = ?", store, stem)
	return err
}

// AuditLeftovers lists the files of entries to which nothing refers any more.
func (c *Catalog) AuditLeftovers(ctx context.Context) ([]AuditFile, error) {
	return list[AuditFile](ctx, c.db, "SELECT store, stem FROM audit_leftover ORDER BY since")
}

// RemovedAuditFile notes that a file that was left over is gone.
func (c *Catalog) RemovedAuditFile(ctx context.Context, f AuditFile) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error { return keepFile(ctx, tx, f.Store, f.Stem) })
}

// AuditErasure asks for details to be taken out of segments.
type AuditErasure struct {
	ID        int64         `db:"id"`
	Actor     string        `db:"actor"`
	Why       string        `db:"why"`
	Through   int64         `db:"through"`   // the last entry that lay in a segment then
	Condition string        `db:"condition"` // on the columns of entries
	Entry     int64         `db:"entry"`     // that records the erasure; 0: the entries are still to be sought
	Entries   JSON[[]int64] `db:"entries"`   // whose details are erased
}

// eraseArchived asks for the details of entries in segments to be erased.
func (c *Catalog) eraseArchived(ctx context.Context, tx *sqlx.Tx, actor, why, condition string) error {
	begin, _, err := auditBegin(ctx, tx)
	if err != nil || begin == 0 {
		return err
	}
	_, err = tx.ExecContext(
		ctx,
		"INSERT INTO audit_erasure (actor, why, through, condition) VALUES (?, ?, ?, ?)",
		actor,
		why,
		begin,
		condition,
	)
	return err
}

// AuditErasures lists the erasures of details in segments that have not ended.
func (c *Catalog) AuditErasures(ctx context.Context) ([]AuditErasure, error) {
	return list[AuditErasure](ctx, c.db, "SELECT * FROM audit_erasure ORDER BY id")
}

// SoughtAudit notes which entries an erasure is about, and records it in the log; without any, it has ended.
func (c *Catalog) SoughtAudit(ctx context.Context, x *AuditErasure, ids []int64) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) (err error) {
		if len(ids) == 0 {
			_, err := tx.ExecContext(ctx, "DELETE FROM audit_erasure WHERE id = ?", x.ID)
			return err
		}
		x.Entries.V = ids
		if x.Entry, err = c.enter(ctx, tx, Entry{Actor: x.Actor, Action: audit.EraseAction, Subject: fmt.Sprint(ids),
			Outcome: audit.OutcomeDone, Detail: x.Why}); err != nil {
			return err
		}
		_, err = tx.NamedExecContext(
			ctx,
			"UPDATE audit_erasure SET entry = :entry, entries = :entries WHERE id = :id",
			x,
		)
		if err != nil {
			return err
		}
		return voidExports(ctx, tx, At(c.Now()))
	})
}

// ReplaceAudit puts a file in the place of a segment's, in which details are erased; the other one is left over.
func (c *Catalog) ReplaceAudit(ctx context.Context, s *AuditSegment, f *entries.Segment, erased int64) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		was := s.Stem
		s.Wrote(f)
		s.Erased = erased
		done, err := tx.ExecContext(
			ctx,
			"UPDATE audit_segment SET stem = ?, written = ?, digest = ?, erased = ? WHERE "+
				"first = ? AND stem = ? AND destroyed_at IS NULL",
			s.Stem,
			s.Written,
			s.Digest,
			s.Erased,
			s.First,
			was,
		)
		if n, one := affected(done, err); one != nil || n == 0 {
			return one
		}
		if err := keepFile(ctx, tx, s.Store, s.Stem); err != nil {
			return err
		}
		return c.leaveFile(ctx, tx, s.Store, was)
	})
}

// EndAuditErasure notes that all details that an erasure is about are gone.
func (c *Catalog) EndAuditErasure(ctx context.Context, id int64) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM audit_erasure WHERE id = ?", id)
		return err
	})
}

// PlaceOfEntry returns the entry behind which a page of the audit log begins; 0: it is the first page.
func PlaceOfEntry(p Page) (int64, error) {
	if p.After == "" {
		return 0, nil
	}
	by, err := p.behind(2)
	if err != nil {
		return 0, err
	}
	id, ok := by[1].(int64)
	if !ok {
		return 0, fmt.Errorf("%w: %.40q", ErrPlace, p.After)
	}
	return id, nil
}

// ArchivedEntries is the condition for the entries of segments about some subjects.
func ArchivedEntries(subjects []string) string { return in("subject", subjects) }

// Condition writes a filter as one on the columns of entries in a segment.
func (f *AuditFilter) Condition() string {
	out := []string{"id > " + fmt.Sprint(f.Since)}
	for _, x := range []struct{ column, value string }{{"actor", f.Actor}, {"kind", f.Kind}, {"action", f.Action},
		{"subject", f.Subject}, {"outcome", string(f.Outcome)}} {
		if x.value != "" {
			out = append(out, x.column+" = "+quoted(x.value))
		}
	}
	if f.Through > 0 {
		out = append(out, fmt.Sprintf("id <= %d", f.Through))
	}
	if f.From != nil {
		out = append(out, "at >= "+quoted(f.From.UTC().Format(time.RFC3339Nano)))
	}
	if f.To != nil {
		out = append(out, "at < "+quoted(f.To.UTC().Format(time.RFC3339Nano)))
	}
	return strings.Join(out, " AND ")
}

// Within says whether a segment can hold entries that are meant.
func (f *AuditFilter) Within(s *AuditSegment) bool {
	return s.Last > f.Since && (f.Through == 0 || s.First <= f.Through) &&
		(f.From == nil || !s.Greatest.Before(f.From.Time)) &&
		(f.To == nil ||
			s.Least.Before(f.To.Time))
}

// quoted writes a text as a literal of a filter.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// in writes that a column has one of some values.
func in(column string, values []string) string {
	q := slices.Clone(values)
	for i := range q {
		q[i] = quoted(q[i])
	}
	return column + " IN (" + strings.Join(q, ", ") + ")"
}

// ArchivedEntry shows an entry of a segment as one of the catalog.
func ArchivedEntry(e *entries.Entry) Entry {
	return Entry{ID: e.ID, At: At(e.At), Actor: e.Actor, Session: e.Session, Address: e.Address, Action: e.Action,
		Subject: e.Subject, Outcome: e.Outcome, Digest: e.Digest, Hash: e.Hash, Detail: e.Text, Erased: e.Erased != 0}
}
