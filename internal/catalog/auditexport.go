package catalog

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"

	"ambercellar/internal/core/notify"
)

// AuditExportState says how far an export of the audit log is.
type AuditExportState string

const (
	AuditExportWaiting AuditExportState = "waiting"
	AuditExportWorking AuditExportState = "working"
	AuditExportDone    AuditExportState = "done"
	AuditExportFailed  AuditExportState = "failed"
	AuditExportGone    AuditExportState = "gone" // its file was removed
)

// AuditExport is an export of the audit log into a file, which is made in the background.
type AuditExport struct {
	ID        string            `db:"id"`
	Format    string            `db:"format"`
	Filter    JSON[AuditFilter] `db:"filter"`
	Account   string            `db:"account"`   // who asked for it
	SeesRows  bool              `db:"sees_rows"` // details that may name values of rows are in it
	Tell      string            `db:"tell"`      // a mail address, or the URL of a webhook; empty: nobody is told
	Schedule  string            `db:"schedule"`  // that asked for it; empty: somebody did
	State     AuditExportState  `db:"state"`
	Done      int64             `db:"done"`  // entries that were written
	Total     int64             `db:"total"` // about as many are to be
	Entries   int64             `db:"entries"`
	Bytes     int64             `db:"bytes"` // of the file
	SHA256    string            `db:"sha256"`
	Problem   string            `db:"problem"` // why it failed
	MadeAt    Time              `db:"made_at"`
	EndedAt   *Time             `db:"ended_at"`
	ExpiresAt *Time             `db:"expires_at"` // when its file is removed
}

// Place is the export's place in a list.
func (x *AuditExport) Place() string { return place(x.MadeAt, x.ID) }

// Fields are what the filter asks for, by the names that requests give them.
func (f *AuditFilter) Fields() map[string]string {
	out := map[string]string{}
	for name, value := range map[string]string{"actor": f.Actor, "kind": f.Kind, "action": f.Action,
		"subject": f.Subject, "outcome": string(f.Outcome)} {
		if value != "" {
			out[name] = value
		}
	}
	for name, at := range map[string]*Time{"from": f.From, "to": f.To} {
		if at != nil {
			out[name] = at.UTC().Format(time.RFC3339)
		}
	}
	if f.Since > 0 {
		out["since"] = fmt.Sprint(f.Since)
	}
	return out
}

// AddAuditExport keeps an export that is to be made, of the entries that there are now.
func (c *Catalog) AddAuditExport(ctx context.Context, x *AuditExport) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error { return c.addAuditExport(ctx, tx, x) })
}

func (c *Catalog) addAuditExport(ctx context.Context, tx *sqlx.Tx, x *AuditExport) (err error) {
	x.ID, x.MadeAt, x.State = ulid.Make().String(), At(c.Now()), AuditExportWaiting
	if x.Filter.V.Through, _, err = auditEnd(ctx, tx); err != nil {
		return err
	}
	if _, err := tx.NamedExecContext(ctx, "INSERT INTO audit_export (id, format, filter, account, sees_rows, tell, "+
		"schedule, state, made_at) VALUES (:id, :format, :filter, :account, :sees_rows, :tell, :schedule, :state, "+
		":made_at)", x); err != nil {
		return err
	}
	b, err := json.Marshal(x.Filter.V.Fields())
	if err != nil {
		return err
	}
	detail := x.Format + " " + string(b)
	if x.Schedule != "" {
		detail += ", by schedule " + x.Schedule
	}
	if x.Tell != "" {
		detail += ", tells " + x.Tell
	}
	return c.note(ctx, tx, x.Account, "audit export", x.ID, detail)
}

// AuditExports lists exports of the audit log, the newest first: those of an account; empty: all.
func (c *Catalog) AuditExports(ctx context.Context, account string, p Page) ([]AuditExport, error) {
	return paged[AuditExport](ctx, c.db, p, order{columns: []string{"made_at", "id"}},
		"SELECT * FROM audit_export WHERE ?1 IN ('', account)", account)
}

// AuditExport returns an export of the audit log.
func (c *Catalog) AuditExport(ctx context.Context, id string) (*AuditExport, error) {
	return get[AuditExport](ctx, c.db, "export", id, "SELECT * FROM audit_export WHERE id = ?", id)
}

// AuditExportsIn lists the exports in one of some states, the oldest first.
func (c *Catalog) AuditExportsIn(ctx context.Context, states ...AuditExportState) ([]AuditExport, error) {
	query, args, err := sqlx.In("SELECT * FROM audit_export WHERE state IN (?) ORDER BY made_at, id", states)
	if err != nil {
		return nil, err
	}
	return list[AuditExport](ctx, c.db, query, args...)
}

// AuditExportStep keeps how far an export is.
func (c *Catalog) AuditExportStep(ctx context.Context, x *AuditExport) error {
	x.State = AuditExportWorking
	_, err := c.writes.NamedExecContext(ctx, "UPDATE audit_export SET state = :state, done = :done, total = :total "+
		"WHERE id = :id AND state IN ('waiting', 'working')", x)
	return err
}

// EndAuditExport keeps how an export ended, and has told of it whoever is to be. False: it had ended before.
func (c *Catalog) EndAuditExport(ctx context.Context, x *AuditExport) (ended bool, err error) {
	at := At(c.Now())
	x.EndedAt = &at
	kind := notify.EventExportReady
	if x.State != AuditExportDone {
		kind = notify.EventExportFailed
	}
	detail := notify.Detail{Subject: x.Account, Tell: x.Tell, Numbers: map[string]int64{"entries": x.Entries,
		"bytes": x.Bytes}, Problem: x.Problem}
	if x.ExpiresAt != nil {
		detail.Until = x.ExpiresAt.UTC().Format(time.RFC3339Nano)
	}
	b, err := json.Marshal(detail)
	if err != nil {
		return false, err
	}
	return ended, c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.NamedExecContext(
			ctx,
			"UPDATE audit_export SET state = :state, done = :done, total = :total, "+
				"entries = :entries, bytes = :bytes, sha256 = :sha256, problem = :problem, ended_at = :ended_at, "+
				"expires_at = :expires_at WHERE id = :id AND state IN ('waiting', 'working')",
			x,
		)
		n, err := affected(done, err)
		if ended = n > 0; err != nil || !ended {
			return err
		}
		_, err = tx.ExecContext(
			ctx,
			"INSERT INTO event (kind, record, at, detail) VALUES (?, ?, ?, ?)",
			kind,
			x.ID,
			at,
			string(b),
		)
		return err
	})
}

// RemoveAuditExport notes that the file of an export is to be gone.
func (c *Catalog) RemoveAuditExport(ctx context.Context, actor, id, why string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, "UPDATE audit_export SET state = ?, ended_at = coalesce(ended_at, ?) WHERE "+
			"id = ? AND state <> ?", AuditExportGone, At(c.Now()), id, AuditExportGone)
		if n, one := affected(done, err); one != nil || n == 0 {
			return one
		}
		return c.note(ctx, tx, actor, "audit discard", id, why)
	})
}

// voidExports has the files of exports removed in which a detail may stand that is erased.
func voidExports(ctx context.Context, tx *sqlx.Tx, now Time) error {
	_, err := tx.ExecContext(
		ctx,
		"UPDATE audit_export SET state = CASE state WHEN 'done' THEN 'gone' ELSE 'failed' END, "+
			"ended_at = coalesce(ended_at, ?), problem = 'a detail was erased since; ask for it again' WHERE state IN "+
			"('done', 'working')",
		now,
	)
	return err
}

// ForgetAuditExports forgets exports whose files were removed, and that ended before an instant.
func (c *Catalog) ForgetAuditExports(ctx context.Context, before Time) error {
	var some bool // what writes wakes others
	if err := c.db.GetContext(ctx, &some, "SELECT EXISTS (SELECT 1 FROM audit_export WHERE state IN ('gone', "+
		"'failed') AND ended_at < ?)", before); err != nil || !some {
		return err
	}
	_, err := c.writes.ExecContext(ctx, "DELETE FROM audit_export WHERE state IN ('gone', 'failed') AND ended_at < ?",
		before)
	return err
}

// AuditSchedule asks for an export again and again: of the entries since it did so last.
type AuditSchedule struct {
	Name       string            `db:"name"`
	Recurrence string            `db:"recurrence"`
	Zone       string            `db:"zone"` // whose clock it follows
	Format     string            `db:"format"`
	Filter     JSON[AuditFilter] `db:"filter"`
	Account    string            `db:"account"`
	Tell       string            `db:"tell"`
	MadeAt     Time              `db:"made_at"`
	LastAt     Time              `db:"last_at"` // from when on the next export has entries
	NextAt     Time              `db:"next_at"`
}

// AuditSchedules lists the schedules of exports: those of an account; empty: all.
func (c *Catalog) AuditSchedules(ctx context.Context, account string) ([]AuditSchedule, error) {
	return list[AuditSchedule](
		ctx,
		c.db,
		"SELECT * FROM audit_schedule WHERE ?1 IN ('', account) ORDER BY name",
		account,
	)
}

// SetAuditSchedule keeps a schedule of exports. It fails with ErrState where there is one of that name.
func (c *Catalog) SetAuditSchedule(ctx context.Context, x *AuditSchedule) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.NamedExecContext(
			ctx,
			"INSERT OR IGNORE INTO audit_schedule VALUES (:name, :recurrence, :zone, "+
				":format, :filter, :account, :tell, :made_at, :last_at, :next_at)",
			x,
		)
		if n, one := affected(done, err); one != nil || n == 0 {
			return cmp.Or(one, fmt.Errorf("there is a schedule %s already: %w", x.Name, ErrState))
		}
		return c.note(ctx, tx, x.Account, "audit schedule", x.Name, fmt.Sprintf("%s, %s, %v, tells %s", x.Recurrence,
			x.Format, x.Filter.V.Fields(), x.Tell))
	})
}

// DeleteAuditSchedule ends a schedule of exports.
func (c *Catalog) DeleteAuditSchedule(ctx context.Context, actor, name string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, "DELETE FROM audit_schedule WHERE name = ?", name)
		if n, one := affected(done, err); one != nil || n == 0 {
			return cmp.Or[error](one, &NotFoundError{Kind: "schedule", Name: name})
		}
		return c.note(ctx, tx, actor, "audit unschedule", name, "")
	})
}

// FireAuditSchedule asks for the export of a schedule whose time has come, up to an instant, and keeps when it does so
// next. Where that was done already, nothing is.
func (c *Catalog) FireAuditSchedule(ctx context.Context, s *AuditSchedule, x *AuditExport, to, next Time) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, "UPDATE audit_schedule SET last_at = ?, next_at = ? WHERE name = ? AND "+
			"next_at = ?", to, next, s.Name, s.NextAt)
		if n, one := affected(done, err); one != nil || n == 0 {
			return one
		}
		return c.addAuditExport(ctx, tx, x)
	})
}

// CountAudit says about how many entries are meant: of those in segments, at most.
func (c *Catalog) CountAudit(ctx context.Context, f AuditFilter) (n int64, err error) {
	where, args := f.where()
	if err := c.db.GetContext(ctx, &n, "SELECT count(*) FROM audit"+where, args...); err != nil {
		return 0, err
	}
	segments, err := c.AuditSegments(ctx)
	for i := range segments {
		if s := &segments[i]; f.Within(s) {
			n += s.Last - max(s.First-1, f.Since)
		}
	}
	return n, err
}
