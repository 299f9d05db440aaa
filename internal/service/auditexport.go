package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/entryfile"
)

// Exports makes exports of the audit log into files, in the background.
type Exports struct {
	*base
	audit    *Audit
	jobs     *Jobs
	notifier *Notifier
	changed  atomic.Bool // what is to be done, since it was looked at last
}

const (
	exportStays     = 7 * 24 * time.Hour  // how long a file stays
	exportKnown     = 90 * 24 * time.Hour // how long it is known that there was one
	mostExports     = 20                  // of one account, that wait, work or have a file
	mostSchedules   = 20                  // of one account
	mostExportSteps = 1000                // moments that a schedule missed are gone through one by one
)

// ExportRequest is an export that somebody asks for.
type ExportRequest struct {
	Format string
	Filter catalog.AuditFilter
	Tell   string // a mail address, or the URL of a webhook; empty: nobody is told
}

// check says what is wrong with a request, and writes it in its usual form.
func (s *Exports) check(q *ExportRequest) error {
	if !slices.Contains(entryfile.Formats, q.Format) {
		return &refuse.Error{Field: "format", Message: fmt.Sprintf("%.80q is no format", q.Format),
			Remedy: "write " + strings.Join(entryfile.Formats, ", ")}
	}
	if q.Tell == "" {
		return nil
	}
	usual, err := notify.CheckAddress(q.Tell)
	if err != nil {
		return &refuse.Error{Field: "tell", Message: err.Error(), Remedy: "write a mail address, or leave it out"}
	}
	q.Tell = usual
	return s.notifier.mayTell(usual)
}

// Ask keeps an export of the entries that there are now, and makes it in the background.
func (s *Exports) Ask(ctx context.Context, who *Who, q ExportRequest) (*catalog.AuditExport, error) {
	if err := s.check(&q); err != nil {
		return nil, err
	}
	list, err := s.Catalog.AuditExports(ctx, who.Name, catalog.All)
	if err != nil {
		return nil, err
	}
	n := 0
	for i := range list {
		if x := list[i].State; x != catalog.AuditExportFailed && x != catalog.AuditExportGone {
			n++
		}
	}
	if n >= mostExports {
		return nil, &refuse.Error{Field: "export", Message: fmt.Sprintf("you have %d exports already", n),
			Remedy: "discard some that you do not need any more (`ambercellar audit discard`)"}
	}
	x := &catalog.AuditExport{Format: q.Format, Account: who.Name, SeesRows: who.May(rights.Rows), Tell: q.Tell}
	x.Filter.V = q.Filter
	if err := s.Catalog.AddAuditExport(ctx, x); err != nil {
		return nil, err
	}
	s.enter(x)
	return x, nil
}

// enter puts an export into the queue.
func (s *Exports) enter(x *catalog.AuditExport) {
	id := x.ID
	s.jobs.enter(s.ctx, catalog.JobAudit, id, JobOrder{What: "export of the audit log as " + x.Format, By: x.Account,
		Asked: x.MadeAt.Time}, jobWork{
		do: func(ctx context.Context) error {
			x, err := s.Catalog.AuditExport(ctx, id)
			if err != nil || x.State != catalog.AuditExportWaiting && x.State != catalog.AuditExportWorking {
				return err // it has ended meanwhile
			}
			if err = s.make(ctx, x); err == nil || ctx.Err() != nil {
				return err
			}
			s.Log.Error("an export of the audit log failed", "export", id, "error", err)
			return errors.Join(err, s.fail(context.WithoutCancel(ctx), x, err.Error()))
		},
		end: func(reason string) error {
			x, err := s.Catalog.AuditExport(s.ctx, id)
			if err != nil {
				return err
			}
			return s.fail(s.ctx, x, reason)
		}})
}

func (s *Exports) fail(ctx context.Context, x *catalog.AuditExport, why string) error {
	x.State, x.Problem = catalog.AuditExportFailed, why
	_, err := s.Catalog.EndAuditExport(ctx, x)
	return errors.Join(err, ignoreGone(os.Remove(s.path(x.ID)+partialFile)))
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// partialFile ends the name of a file that is not whole yet, spoolFile that of details that are still to go into it.
const partialFile, spoolFile = ".partial", ".details"

func (s *Exports) directory() string { return filepath.Join(s.dir, "exports") }

func (s *Exports) path(id string) string { return filepath.Join(s.directory(), id+".zip") }

// make writes the file of an export. It is there whole or not at all.
func (s *Exports) make(ctx context.Context, x *catalog.AuditExport) (err error) {
	count, err := s.Catalog.CountAudit(ctx, x.Filter.V)
	if err != nil {
		return err
	}
	x.Done, x.Total = 0, count
	if err := s.Catalog.AuditExportStep(ctx, x); err != nil {
		return err
	}
	if err := os.MkdirAll(s.directory(), 0o700); err != nil {
		return err
	}
	path := s.path(x.ID)
	f, err := os.OpenFile(path+partialFile, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	spool, err := os.OpenFile(path+spoolFile, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return errors.Join(err, f.Close())
	}
	defer func() {
		err = errors.Join(err, spool.Close(), ignoreGone(os.Remove(path+spoolFile)))
		if err != nil {
			err = errors.Join(err, ignoreGone(os.Remove(path+partialFile)))
		}
	}()
	sum := sha256.New()
	about := &entryfile.About{Export: x.ID, By: x.Account, Made: s.Now().UTC(), Filter: x.Filter.V.Fields(),
		Rows: x.SeesRows}
	if err = s.write(ctx, io.MultiWriter(f, sum), spool, x, about); err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	st, err := os.Stat(path + partialFile)
	if err != nil {
		return err
	}
	if err := os.Rename(path+partialFile, path); err != nil {
		return err
	}
	expires := catalog.At(s.Now().Add(exportStays))
	x.State, x.Entries, x.Total, x.Bytes = catalog.AuditExportDone, about.Entries, x.Done, st.Size()
	x.SHA256, x.ExpiresAt = hex.EncodeToString(sum.Sum(nil)), &expires
	ended, err := s.Catalog.EndAuditExport(ctx, x)
	if err == nil && !ended { // somebody discarded it meanwhile
		return ignoreGone(os.Remove(path))
	}
	return err
}

func (s *Exports) write(ctx context.Context, out io.Writer, spool *os.File, x *catalog.AuditExport,
	about *entryfile.About) error {
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return err
	}
	e, err := s.audit.Entry(ctx, x.Filter.V.Through)
	if err != nil {
		return err
	}
	about.Head = *head
	about.Head.Entry, about.Head.Hash = e.ID, e.Hash
	said := time.Now()
	var failed error
	read := func(each func([]entryfile.Entry) error) error {
		err := s.audit.Each(ctx, x.Filter.V, func(list []catalog.Entry) error {
			some := make([]entryfile.Entry, len(list))
			for i := range list {
				some[i] = entryfile.EntryOf(&list[i], x.SeesRows)
			}
			return errors.Join(each(some), failed, ctx.Err())
		})
		return err
	}
	return entryfile.Zip(out, spool, x.Format, about, read, func(n int) {
		x.Done += int64(n)
		if time.Since(said) > time.Second {
			said = time.Now()
			failed = s.Catalog.AuditExportStep(ctx, x)
		}
	})
}

// Open opens the file of an export for somebody, which is recorded.
func (s *Exports) Open(ctx context.Context, who *Who, id string) (*catalog.AuditExport, *os.File, error) {
	x, err := s.Of(ctx, who, id)
	if err != nil {
		return nil, nil, err
	}
	if x.State != catalog.AuditExportDone {
		return nil, nil, fmt.Errorf("export %s has no file, it is %s: %w", id, x.State, catalog.ErrState)
	}
	if x.SeesRows && !who.May(rights.Rows) {
		return nil, nil, &refuse.Error{
			Field: "export",
			Message: "the file may hold values of rows, which you may not " +
				"see any more",
			Remedy: "ask for another export",
		}
	}
	f, err := os.Open(s.path(id))
	if err != nil {
		return nil, nil, err
	}
	if err := s.Catalog.Note(ctx, who.Name, "audit fetch", id, fmt.Sprintf("%d entries, of %s", x.Entries,
		x.Account)); err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	return x, f, nil
}

// Of returns an export, to who asked for it or is an administrator.
func (s *Exports) Of(ctx context.Context, who *Who, id string) (*catalog.AuditExport, error) {
	x, err := s.Catalog.AuditExport(ctx, id)
	if err == nil && x.Account != who.Name && !who.May(rights.Administer) {
		err = &catalog.NotFoundError{Kind: "export", Name: id}
	}
	return x, err
}

// ListedFor is whose exports somebody sees; empty: everybody's.
func (*Exports) ListedFor(who *Who) string {
	if who.May(rights.Administer) {
		return ""
	}
	return who.Name
}

// Discard removes the file of an export, or ends it.
func (s *Exports) Discard(ctx context.Context, who *Who, id string) error {
	x, err := s.Of(ctx, who, id)
	if err != nil {
		return err
	}
	if x.State == catalog.AuditExportWaiting || x.State == catalog.AuditExportWorking {
		if err := s.jobs.Cancel(ctx, who.Name, catalog.JobAudit, id); err != nil &&
			!errors.Is(err, catalog.ErrState) {
			return err
		}
	}
	return s.remove(ctx, who.Name, id, "")
}

func (s *Exports) remove(ctx context.Context, actor, id, why string) error {
	if err := s.Catalog.RemoveAuditExport(ctx, actor, id, why); err != nil {
		return err
	}
	return ignoreGone(os.Remove(s.path(id)))
}

// ScheduleRequest is a schedule of exports that somebody asks for.
type ScheduleRequest struct {
	ExportRequest
	Name, When, Zone string
}

// Schedule keeps a schedule of exports: each has the entries since the one before.
func (s *Exports) Schedule(ctx context.Context, who *Who, q ScheduleRequest) (*catalog.AuditSchedule, error) {
	if err := checkName("name", q.Name); err != nil {
		return nil, err
	}
	if err := s.check(&q.ExportRequest); err != nil {
		return nil, err
	}
	if f := &q.Filter; f.From != nil || f.To != nil || f.Since != 0 {
		return nil, &refuse.Error{
			Field: "from",
			Message: "a schedule has no fixed time: each export has the entries " +
				"since the one before",
			Remedy: "leave from, to and since out",
		}
	}
	when, err := calendar.ParseRecurrence(q.When)
	if err != nil {
		return nil, &refuse.Error{Field: "when", Message: err.Error()}
	}
	zone, err := time.LoadLocation(q.Zone)
	if err != nil || strings.EqualFold(q.Zone, "local") {
		return nil, &refuse.Error{Field: "zone", Message: fmt.Sprintf("%.80q is no zone", q.Zone),
			Remedy: "write an IANA name like Europe/Athens, or UTC"}
	}
	own, err := s.Catalog.AuditSchedules(ctx, who.Name)
	if err != nil {
		return nil, err
	}
	if len(own) >= mostSchedules {
		return nil, &refuse.Error{Field: "name", Message: fmt.Sprintf("you have %d schedules already", len(own)),
			Remedy: "end some that you do not need any more (`ambercellar audit unschedule`)"}
	}
	now := s.Now()
	next := when.Next(now, now, zone)
	if next.IsZero() {
		return nil, &refuse.Error{Field: "when", Message: fmt.Sprintf("%.80q never comes again", q.When)}
	}
	x := &catalog.AuditSchedule{Name: q.Name, Recurrence: when.Text, Zone: zone.String(), Format: q.Format,
		Account: who.Name, Tell: q.Tell, MadeAt: catalog.At(now), LastAt: catalog.At(now), NextAt: catalog.At(next)}
	x.Filter.V = q.Filter
	defer s.changed.Store(true)
	return x, s.Catalog.SetAuditSchedule(ctx, x)
}

// Unschedule ends a schedule of one's own; an administrator anybody's.
func (s *Exports) Unschedule(ctx context.Context, who *Who, name string) error {
	list, err := s.Catalog.AuditSchedules(ctx, s.ListedFor(who))
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(x catalog.AuditSchedule) bool { return x.Name == name }) {
		return &catalog.NotFoundError{Kind: "schedule", Name: name}
	}
	return s.Catalog.DeleteAuditSchedule(ctx, who.Name, name)
}

// tending makes what is to be made, asks for what schedules want, and removes what has stayed long enough.
func (s *Exports) tending() chore {
	var looked, due time.Time // due: when something is to be done of which no change tells
	return func(ctx context.Context) (next time.Time, err error) {
		// most changes of the catalog are of other things
		waits := due.IsZero() || s.Now().Before(due)
		if !s.changed.Swap(false) && waits && time.Since(looked) < tendRarely {
			return due, nil
		}
		defer func() {
			if due = next; err == nil {
				looked = time.Now()
			}
		}()
		if next, err = s.fire(ctx); err != nil {
			return next, err
		}
		open, err := s.Catalog.AuditExportsIn(ctx, catalog.AuditExportWaiting, catalog.AuditExportWorking)
		for i := range open {
			s.enter(&open[i])
		}
		done, one := s.Catalog.AuditExportsIn(ctx, catalog.AuditExportDone)
		err = errors.Join(err, one)
		for i := range done {
			switch x := &done[i]; {
			case x.ExpiresAt == nil:
			case !s.Now().Before(x.ExpiresAt.Time):
				err = errors.Join(err, s.remove(ctx, "service", x.ID, "it stayed for 7 days"))
			default:
				next = sooner(next, x.ExpiresAt.Time)
			}
		}
		return next, errors.Join(
			err,
			s.sweep(ctx, open, done),
			s.Catalog.ForgetAuditExports(ctx, catalog.At(s.Now().Add(-exportKnown))),
		)
	}
}

// sweep removes files that are to be gone: of exports that were voided, and those that a service left which was killed.
func (s *Exports) sweep(ctx context.Context, known ...[]catalog.AuditExport) error {
	names := map[string]bool{}
	for _, x := range slices.Concat(known...) {
		names[x.ID] = true
	}
	list, err := os.ReadDir(s.directory())
	err = ignoreGone(err)
	for _, f := range list {
		id, _, _ := strings.Cut(f.Name(), ".")
		if names[id] {
			continue
		}
		x, one := s.Catalog.AuditExport(ctx, id) // it may be new
		if errors.Is(one, catalog.ErrNotFound) || one == nil && (x.State == catalog.AuditExportGone ||
			x.State == catalog.AuditExportFailed) {
			one = ignoreGone(os.Remove(filepath.Join(s.directory(), f.Name())))
		}
		err = errors.Join(err, one)
	}
	return err
}

// fire asks for the exports of schedules whose time has come, and returns when the next one comes.
func (s *Exports) fire(ctx context.Context) (next time.Time, err error) {
	list, err := s.Catalog.AuditSchedules(ctx, "")
	for i := range list {
		x := &list[i]
		if x.NextAt.After(s.Now()) {
			next = sooner(next, x.NextAt.Time)
			continue
		}
		err = errors.Join(err, s.fireOne(ctx, x))
	}
	return next, err
}

// fireOne asks for the export of a schedule. One that was missed, because the service did not run, is made up for by
// one for all of the time since.
func (s *Exports) fireOne(ctx context.Context, x *catalog.AuditSchedule) error {
	when, err := calendar.ParseRecurrence(x.Recurrence)
	if err != nil {
		return err
	}
	zone, err := time.LoadLocation(x.Zone)
	if err != nil {
		return err
	}
	to, now := x.NextAt.Time, s.Now()
	next := when.Next(to, x.MadeAt.Time, zone)
	for range mostExportSteps {
		if next.IsZero() || next.After(now) {
			break
		}
		to, next = next, when.Next(next, x.MadeAt.Time, zone)
	}
	if next.IsZero() { // never again
		next = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	out := &catalog.AuditExport{Format: x.Format, Account: x.Account, Tell: x.Tell, Schedule: x.Name}
	out.Filter.V = x.Filter.V
	from, end := x.LastAt, catalog.At(to)
	out.Filter.V.From, out.Filter.V.To = &from, &end
	who, err := s.account(ctx, x.Account)
	if err != nil {
		return err
	}
	out.SeesRows = who != nil && who.May(rights.Rows)
	if err := s.Catalog.FireAuditSchedule(ctx, x, out, end, catalog.At(next)); err != nil || out.ID == "" {
		return err
	}
	if who == nil {
		return s.fail(ctx, out, "the account "+x.Account+" may not see the audit log any more")
	}
	return nil
}

// account returns what an account may do now; nil: it may not even see.
func (s *Exports) account(ctx context.Context, name string) (*Who, error) {
	if name == administrator.Name {
		who := administrator
		return &who, nil
	}
	a, err := s.Catalog.Account(ctx, name)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	if who := whoOf(a); a.Stands(s.Now()) && who.May(rights.See) {
		return who, nil
	}
	return nil, nil
}
