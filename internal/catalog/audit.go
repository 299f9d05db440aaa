package catalog

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
	"golang.org/x/sync/errgroup"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/entries"
	"ambercellar/internal/core/audit"
)

// Entry is an entry of the audit log.
type Entry struct {
	ID      int64              `db:"id"`
	At      Time               `db:"at"`
	Actor   string             `db:"actor"`
	Session string             `db:"session"` // its public name; empty: a token's, or the service's own
	Address string             `db:"address"`
	Action  string             `db:"action"`
	Subject string             `db:"subject"`
	Outcome audit.EntryOutcome `db:"outcome"`
	Digest  string             `db:"digest"`
	Hash    string             `db:"hash"`
	Detail  string             `db:"detail"`
	Erased  bool               `db:"erased"` // the detail was erased
}

// Origin says from where something is asked for.
type Origin struct {
	Session string // its public name; empty: none
	Address string // empty: not from outside
}

type originKey struct{}

// WithOrigin says of everything that is done with a context from where it was asked for.
func WithOrigin(ctx context.Context, o Origin) context.Context {
	return context.WithValue(ctx, originKey{}, o)
}

// OriginOf returns from where something was asked for.
func OriginOf(ctx context.Context) Origin {
	o, _ := ctx.Value(originKey{}).(Origin)
	return o
}

// Note writes an entry into the audit log of something that was done.
func (c *Catalog) Note(ctx context.Context, actor, action, subject, detail string) error {
	return c.NoteOutcome(ctx, actor, action, subject, audit.OutcomeDone, detail)
}

// NoteOutcome writes an entry into the audit log of something that was done, refused, or failed.
func (c *Catalog) NoteOutcome(ctx context.Context, actor, action, subject string, outcome audit.EntryOutcome,
	detail string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		_, err := c.enter(
			ctx,
			tx,
			Entry{Actor: actor, Action: action, Subject: subject, Outcome: outcome, Detail: detail},
		)
		return err
	})
}

func (c *Catalog) note(ctx context.Context, tx *sqlx.Tx, actor, action, subject, detail string) error {
	_, err := c.enter(
		ctx,
		tx,
		Entry{Actor: actor, Action: action, Subject: subject, Outcome: audit.OutcomeDone, Detail: detail},
	)
	return err
}

// nothing stands for what there was not before, or is not any more.
const nothing = "none"

// change says what was before and what is after a change.
func change(before, after any) string {
	text := func(v any) string {
		if s, ok := v.(string); ok {
			return s
		}
		b, _ := json.Marshal(v) // records of the catalog
		return string(b)
	}
	return "before: " + text(before) + "; after: " + text(after)
}

// was returns a text of the catalog as it is before a change; nothing, where there is none.
func was(ctx context.Context, tx *sqlx.Tx, query string, args ...any) (string, error) {
	before, err := list[string](ctx, tx, query, args...)
	if err != nil || len(before) == 0 {
		return nothing, err
	}
	return before[0], nil
}

// enter writes an entry at the end of the chain.
func (c *Catalog) enter(ctx context.Context, tx *sqlx.Tx, e Entry) (id int64, err error) {
	e.At = At(c.Now())
	from := OriginOf(ctx)
	e.Session, e.Address = from.Session, from.Address
	last, hash, err := auditEnd(ctx, tx)
	if err != nil {
		return 0, err
	}
	e.ID = last + 1
	return e.ID, chained(ctx, tx, &e, hash)
}

// chained writes an entry behind one with a hash, and fills in what follows from that.
func chained(ctx context.Context, tx *sqlx.Tx, e *Entry, before string) error {
	salt := rand.Text()
	e.Digest = audit.Digest(salt, e.Detail)
	e.Hash = e.core().Sum(before)
	if _, err := tx.NamedExecContext(ctx,
		"INSERT INTO audit (id, at, actor, session, address, action, subject, outcome, "+
			"digest, hash) VALUES (:id, :at, :actor, :session, :address, :action, :subject, :outcome, :digest, :hash)",
		e); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO audit_detail (entry, salt, text) VALUES (?, ?, ?)", e.ID, salt, e.Detail)
	return err
}

func (e *Entry) core() *audit.Entry {
	return &audit.Entry{
		ID:      e.ID,
		At:      e.At.Time,
		Actor:   e.Actor,
		Session: e.Session,
		Address: e.Address,
		Action:  e.Action,
		Subject: e.Subject,
		Outcome: e.Outcome,
		Digest:  e.Digest,
		Hash:    e.Hash,
	}
}

// auditEnd returns the last entry of the audit log and its hash; of a log without any, 0 and its genesis.
func auditEnd(ctx context.Context, q sqlx.QueryerContext) (id int64, hash string, err error) {
	err = q.QueryRowxContext(ctx, "SELECT id, hash FROM audit ORDER BY id DESC LIMIT 1").Scan(&id, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		return auditBegin(ctx, q)
	}
	return id, hash, err
}

// auditSetting is where the catalog keeps the name of its audit log.
const auditSetting = "audit_log"

// auditBegin returns what stands before the first entry of the catalog: the last one that moved to a segment, or the
// genesis.
func auditBegin(ctx context.Context, q sqlx.QueryerContext) (id int64, hash string, err error) {
	err = q.QueryRowxContext(ctx, "SELECT last, hash FROM audit_segment ORDER BY first DESC LIMIT 1").Scan(&id, &hash)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, hash, err
	}
	return auditGenesis(ctx, q)
}

// auditGenesis returns what stands before the very first entry.
func auditGenesis(ctx context.Context, q sqlx.QueryerContext) (id int64, hash string, err error) {
	var log string
	if err := sqlx.GetContext(ctx, q, &log, "SELECT value FROM setting WHERE name = ?", auditSetting); err != nil {
		return 0, "", fmt.Errorf("the name of the audit log: %w", err)
	}
	return 0, audit.Genesis(log), nil
}

// chainAudit takes the entries of an audit log over that was no chain.
func chainAudit(ctx context.Context, tx *sqlx.Tx) error {
	log, err := nameAudit(ctx, tx)
	if err != nil {
		return err
	}
	const piece = 1000
	hash := audit.Genesis(log)
	for last, n := int64(0), int64(0); ; {
		old := []Entry{}
		if err := tx.SelectContext(ctx, &old, "SELECT id, at, actor, action, subject, detail FROM audit_before WHERE "+
			"id > ? ORDER BY id LIMIT ?", last, piece); err != nil {
			return err
		}
		if len(old) == 0 {
			break
		}
		for i := range old {
			e := &old[i]
			n++
			last, e.ID, e.Outcome = e.ID, n, audit.OutcomeDone
			if err := chained(ctx, tx, e, hash); err != nil {
				return err
			}
			hash = e.Hash
		}
	}
	_, err = tx.ExecContext(ctx, "DROP TABLE audit_before")
	return err
}

// nameAudit gives an audit log that begins a name that no other one has.
func nameAudit(ctx context.Context, tx *sqlx.Tx) (log string, err error) {
	log = ulid.Make().String()
	_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", auditSetting, log)
	return log, err
}

// AuditFilter says which entries of the audit log are meant; empty: all.
type AuditFilter struct {
	Actor, Kind, Action, Subject string
	Outcome                      audit.EntryOutcome
	From, To                     *Time // from is within, to is not
	Since                        int64 // those behind an entry
	Through                      int64 // up to an entry, with it; 0: all
}

const auditColumns = "id, at, actor, session, address, action, subject, outcome, digest, hash, coalesce(text, '') AS " +
	"detail, coalesce(erased, 0) <> 0 AS erased FROM audit LEFT JOIN audit_detail ON entry = id"

func (f *AuditFilter) where() (text string, args []any) {
	text = " WHERE true"
	for _, x := range []struct{ column, value string }{{"actor", f.Actor}, {"kind", f.Kind}, {"action", f.Action},
		{"subject", f.Subject}} {
		if x.value != "" {
			text += " AND " + x.column + " = ?"
			args = append(args, x.value)
		}
	}
	switch f.Outcome {
	case "":
	case audit.OutcomeDone:
		text += " AND outcome = 'done'"
	default:
		text += " AND outcome = ? AND outcome <> 'done'"
		args = append(args, f.Outcome)
	}
	if f.From != nil {
		text += " AND at >= ?"
		args = append(args, *f.From)
	}
	if f.To != nil {
		text += " AND at < ?"
		args = append(args, *f.To)
	}
	if f.Since > 0 {
		text += " AND id > ?"
		args = append(args, f.Since)
	}
	if f.Through > 0 {
		text += " AND id <= ?"
		args = append(args, f.Through)
	}
	return text, args
}

// AuditLog returns the newest entries of the audit log that are meant and still in the catalog.
func (c *Catalog) AuditLog(ctx context.Context, f AuditFilter, p Page) ([]Entry, error) {
	where, args := f.where()
	return paged[Entry](ctx, c.db, p, order{columns: []string{"at", "id"}}, "SELECT "+auditColumns+where, args...)
}

// AuditEntry returns an entry of the audit log that is still in the catalog.
func (c *Catalog) AuditEntry(ctx context.Context, id int64) (*Entry, error) {
	return get[Entry](ctx, c.db, "entry", fmt.Sprint(id), "SELECT "+auditColumns+" WHERE id = ?", id)
}

// EachEntry hands out the entries that are meant and still in the catalog, the oldest first, a few at a time. Entries
// that are written meanwhile are not among them.
func (c *Catalog) EachEntry(ctx context.Context, f AuditFilter, each func([]Entry) error) error {
	end, _, err := auditEnd(ctx, c.db)
	if err != nil {
		return err
	}
	const piece = 5000
	where, args := f.where()
	for p := (Page{Limit: piece}); ; {
		query, all, err := p.query(
			order{columns: []string{"at", "id"}, up: true},
			"SELECT "+auditColumns+where+" AND id <= ?",
			append(args[:len(args):len(args)], end)...)
		if err != nil {
			return err
		}
		some, err := c.entries(ctx, query, all)
		if err != nil || len(some) == 0 {
			return err
		}
		if err := each(some); err != nil {
			return err
		}
		if len(some) < piece {
			return nil
		}
		p.After = some[len(some)-1].Place()
	}
}

// entries reads entries as auditColumns has them.
func (c *Catalog) entries(ctx context.Context, query string, args []any) (out []Entry, err error) {
	rows, err := c.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var e Entry
		if err := rows.Scan(&e.ID, &e.At, &e.Actor, &e.Session, &e.Address, &e.Action, &e.Subject, &e.Outcome,
			&e.Digest, &e.Hash,
			&e.Detail, &e.Erased); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// eraseDetails takes away the details of entries, and records that.
func (c *Catalog) eraseDetails(ctx context.Context, tx *sqlx.Tx, actor, why, entries string, args ...any) error {
	ids := []int64{}
	if err := tx.SelectContext(ctx, &ids, "SELECT id FROM audit JOIN audit_detail ON entry = id WHERE erased = 0 AND "+
		entries, args...); err != nil || len(ids) == 0 {
		return err
	}
	by, err := c.enter(
		ctx,
		tx,
		Entry{Actor: actor, Action: audit.EraseAction, Subject: fmt.Sprint(ids), Outcome: audit.OutcomeDone,
			Detail: why},
	)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if _, err := tx.ExecContext(ctx, "UPDATE audit_detail SET salt = '', text = '', erased = ? WHERE entry = ?", by,
			id); err != nil {
			return err
		}
	}
	return voidExports(ctx, tx, At(c.Now()))
}

// EraseDetail takes away the detail of an entry, and records that. In a segment, it is only asked for: see
// AuditErasures.
func (c *Catalog) EraseDetail(ctx context.Context, actor string, id int64, why string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		begin, _, err := auditBegin(ctx, tx)
		if err == nil && id <= begin {
			return c.eraseArchived(ctx, tx, actor, why, fmt.Sprintf("id = %d", id))
		}
		if err != nil {
			return err
		}
		return c.eraseDetails(ctx, tx, actor, why, "id = ?", id)
	})
}

// AuditHead returns the name of the audit log, its last entry, and the hash of that.
func (c *Catalog) AuditHead(ctx context.Context) (*audit.Head, error) {
	log, err := c.Setting(ctx, auditSetting)
	if err != nil {
		return nil, err
	}
	id, hash, err := auditEnd(ctx, c.db)
	return &audit.Head{Format: audit.HeadFormat, Log: log, Entry: id, Hash: hash, At: c.Now().UTC()}, err
}

// CheckAudit checks the audit log against itself and against heads that are known from elsewhere. read reads the
// entries of a segment.
func (c *Catalog) CheckAudit(ctx context.Context, heads []audit.Head, read ReadSegment) (*audit.Checker, error) {
	return checkAudit(ctx, c.db, runtime.NumCPU(), heads, read)
}

// ReadSegment reads the entries of a segment, each as it was written. An error that is archive.ErrDamaged or
// fs.ErrNotExist says that they are not there any more, another one that nobody can say now.
type ReadSegment func(context.Context, *AuditSegment) ([]entries.Entry, error)

// CheckAuditFile does the same with the file of a catalog that no service may have open.
func CheckAuditFile(ctx context.Context, path string, heads func(log string) ([]audit.Head, error),
	read ReadSegment) (*audit.Checker, error) {
	if err := CheckFile(ctx, path); err != nil {
		return nil, err
	}
	db, err := sqlx.Open("sqlite", fileAddress(path)+"?mode=ro")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	is, err := version(ctx, db)
	if err != nil {
		return nil, err
	}
	if known, err := supported(); err != nil || is != known {
		return nil, errors.Join(err, fmt.Errorf(
			"%s is of another version (its tables are at %d, this program knows %d); start the service with it once, "+
				"or use the program that it is of", path, is, known))
	}
	var log string
	if err := db.GetContext(ctx, &log, "SELECT value FROM setting WHERE name = ?", auditSetting); err != nil {
		return nil, err
	}
	known, err := heads(log)
	if err != nil {
		return nil, err
	}
	return checkAudit(ctx, db, runtime.NumCPU(), known, read)
}

// auditStretch is how many entries are checked in one stretch, side by side with others. Fewer in tests.
var auditStretch = int64(25_000)

// stretch is a part of the log that is checked by itself: the entries behind one, up to another one.
type stretch struct {
	after, to int64
	hash      string        // of the entry behind which it begins
	segment   *AuditSegment // in which it lies; nil: in the catalog
}

// checkAudit checks a log in stretches, as many side by side as there are workers.
func checkAudit(ctx context.Context, q sqlx.QueryerContext, workers int, heads []audit.Head,
	read ReadSegment) (*audit.Checker, error) {
	parts, err := stretches(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make([]*audit.Checker, len(parts))
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(workers)
	for i, p := range parts {
		group.Go(func() error {
			// what stores know of entries behind the end is said once, at the end
			known := slices.DeleteFunc(slices.Clone(heads), func(h audit.Head) bool {
				return h.Entry <= p.after || h.Entry > p.to && i < len(parts)-1
			})
			out[i] = audit.NewChecker(p.after, p.hash, known)
			if p.segment != nil {
				return checkSegment(within, p.segment, read, out[i])
			}
			return checkStretch(within, q, p, out[i])
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	whole := out[0]
	destroyed, err := destroyedAudit(ctx, q)
	if err != nil {
		return nil, err
	}
	if destroyed != nil {
		var first int64
		if err := sqlx.GetContext(ctx, q, &first, "SELECT min(first) FROM audit_segment"); err != nil {
			return nil, err
		}
		whole.BeginsBehind(first)
	}
	for _, next := range out[1:] {
		whole.Join(next)
	}
	whole.End()
	return whole, nil
}

// checkSegment checks the entries that moved to a segment.
func checkSegment(ctx context.Context, s *AuditSegment, read ReadSegment, c *audit.Checker) error {
	list, err := read(ctx, s)
	switch {
	case errors.Is(err, archive.ErrDamaged) || errors.Is(err, fs.ErrNotExist):
		c.Damaged(s.Last, s.Hash, err.Error())
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		c.Pass(s.Last, s.Hash)
	default:
		for i := range list {
			c.Add(&list[i].Entry, list[i].Detail)
		}
		if id, hash := c.Last(); id != s.Last || hash != s.Hash {
			c.Damaged(s.Last, s.Hash, "the segment ends with other entries than were moved to it")
		}
	}
	return nil
}

// stretches parts the log as it is now: segments, and behind them what is in the catalog.
func stretches(ctx context.Context, q sqlx.QueryerContext) (out []stretch, err error) {
	moved, err := list[AuditSegment](ctx, q, segmentsQuery)
	if err != nil {
		return nil, err
	}
	for i := range moved {
		s := &moved[i]
		out = append(out, stretch{after: s.First - 1, to: s.Last, hash: s.Before, segment: s})
	}
	if len(out) > 0 && out[0].after == 0 {
		if _, out[0].hash, err = auditGenesis(ctx, q); err != nil {
			return nil, err
		}
	}
	first, hash, err := auditBegin(ctx, q)
	if err != nil {
		return nil, err
	}
	last, _, err := auditEnd(ctx, q)
	if err != nil {
		return nil, err
	}
	out = append(out, stretch{after: first, to: max(last, first), hash: hash})
	for at := first + auditStretch; at < last; at += auditStretch {
		var id int64
		err := q.QueryRowxContext(
			ctx,
			"SELECT id, hash FROM audit WHERE id >= ? ORDER BY id LIMIT 1",
			at,
		).Scan(
			&id,
			&hash,
		)
		if err != nil {
			return nil, err
		}
		if at = max(at, id); id < last {
			out[len(out)-1].to = id
			out = append(out, stretch{after: id, to: last, hash: hash})
		}
	}
	return out, nil
}

func checkStretch(ctx context.Context, q sqlx.QueryerContext, p stretch, c *audit.Checker) error {
	return eachEntry(ctx, q, p.after, p.to, c.Add)
}

// eachEntry reads the entries behind one, up to another one, as they were written.
func eachEntry(ctx context.Context, q sqlx.QueryerContext, after, to int64,
	each func(*audit.Entry, audit.Detail)) error {
	rows, err := q.QueryxContext(
		ctx,
		"SELECT id, at, actor, session, address, action, subject, outcome, digest, hash, salt, "+
			"text, erased FROM audit LEFT JOIN audit_detail ON entry = id WHERE id > ? AND id <= ? ORDER BY id",
		after,
		to,
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var e audit.Entry
		var at string
		var salt, text sql.NullString
		var erased sql.NullInt64
		if err := rows.Scan(&e.ID, &at, &e.Actor, &e.Session, &e.Address, &e.Action, &e.Subject, &e.Outcome,
			&e.Digest, &e.Hash, &salt, &text, &erased); err != nil {
			return err
		}
		if e.At, err = time.Parse(audit.Form, at); err != nil {
			e.At = time.Time{} // which is not what was written
		}
		each(&e, audit.Detail{Salt: salt.String, Text: text.String, Erased: erased.Int64, Missing: !text.Valid})
	}
	return rows.Err()
}

// EntryBehind is an entry with the hash of the one before it.
type EntryBehind struct {
	Entry
	Before string
}

// EntriesOf returns the entries about some subjects that are still in the catalog, the oldest first, each with the hash
// of the one before it.
func (c *Catalog) EntriesOf(ctx context.Context, subjects []string) (out []EntryBehind, err error) {
	query, args, err := sqlx.In("SELECT "+auditColumns+" WHERE subject IN (?) ORDER BY id", subjects)
	if err != nil {
		return nil, err
	}
	list, err := c.entries(ctx, query, args)
	if err != nil {
		return nil, err
	}
	begin, hash, err := auditBegin(ctx, c.db)
	for i := range list {
		e := EntryBehind{Entry: list[i], Before: hash}
		if e.ID > begin+1 {
			if err := c.db.GetContext(ctx, &e.Before, "SELECT hash FROM audit WHERE id = ?", e.ID-1); err != nil {
				return nil, fmt.Errorf("the entry before entry %d: %w", e.ID, err)
			}
		}
		out = append(out, e)
	}
	return out, err
}
