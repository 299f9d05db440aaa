package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/period"
)

// oldLog is a service whose audit log began 30 months ago, and moved to its store three times since.
type oldLog struct {
	*testing.T
	*Service
	dir string // of its store
	now time.Time
	end time.Time // of its history
}

func newOldLog(t *testing.T, set ...func(*Service)) *oldLog {
	t.Helper()
	dir := t.TempDir()
	l := &oldLog{T: t, dir: filepath.Join(dir, "data", "cellar"), end: time.Date(2029, 7, 9, 3, 0, 0, 0, time.UTC)}
	l.now = l.end.AddDate(0, -30, 0)
	still := func(s *Service) {
		s.Engine.Now = func() time.Time { return l.now }
		s.Audit.work.Lock() // the service does not do so by itself
		s.Audit.SetRetention(AuditRetention{Live: period.Period{Months: 6}, Keep: period.Period{Years: 2}})
	}
	l.Service, _ = open(t, filepath.Join(dir, "data"), append(set, still)...)
	t.Cleanup(l.Audit.work.Unlock)
	return l
}

// day is one day of entries.
func (l *oldLog) day(n int) {
	l.Helper()
	ctx := catalog.WithOrigin(l.Context(), catalog.Origin{Session: "s", Address: "10.0.0.7"})
	for i, x := range []struct {
		actor, action string
		outcome       audit.EntryOutcome
	}{{"nora-quay", "run start", audit.OutcomeDone}, {"desk", "rows search", audit.OutcomeRefused},
		{"o'hara", "rule apply", audit.OutcomeDone}} {
		if err := l.Catalog.NoteOutcome(ctx, x.actor, x.action, fmt.Sprint("thing-", (n+i)%5), x.outcome,
			fmt.Sprintf("détail %d of day %d\xff", i, n)); err != nil {
			l.Fatal(err)
		}
	}
}

// keep does what the service would do by itself.
func (l *oldLog) keep() error {
	l.Helper()
	l.Audit.work.Unlock()
	_, err := l.Audit.keeping()(l.Context())
	l.Audit.work.Lock()
	return err
}

// history writes 30 months, and moves what is old at three times.
func (l *oldLog) history() {
	l.Helper()
	const days = 30 * 30
	for n := range days {
		l.now = l.end.AddDate(0, 0, n-days)
		if n%10 == 0 {
			l.day(n)
		}
		if n == 300 || n == 600 {
			if err := l.keep(); err != nil {
				l.Fatal(err)
			}
		}
	}
	l.now = l.end
}

// all reads the log page by page, and as a stream.
func (l *oldLog) all(f catalog.AuditFilter) (list []catalog.Entry) {
	l.Helper()
	for after := ""; ; {
		some, err := l.Audit.Page(l.Context(), f, catalog.Page{Limit: 7, After: after})
		if err != nil {
			l.Fatal(err)
		}
		list = append(list, some...)
		if len(some) < 7 {
			break
		}
		after = some[len(some)-1].Place()
	}
	var up []catalog.Entry
	if err := l.Audit.Each(l.Context(), f, func(some []catalog.Entry) error {
		up = append(up, some...)
		return nil
	}); err != nil {
		l.Fatal(err)
	}
	slices.Reverse(up)
	if !reflect.DeepEqual(up, list) {
		l.Errorf("%+v: %d entries page by page, and %d as a stream", f, len(list), len(up))
	}
	return list
}

// verify checks the log, with the service and without.
func (l *oldLog) verify() *AuditReport {
	l.Helper()
	r, err := l.Audit.Verify(l.Context())
	if err != nil {
		l.Fatal(err)
	}
	copied := filepath.Join(l.TempDir(), "copy.db")
	if err := l.Catalog.Backup(l.Context(), copied); err != nil {
		l.Fatal(err)
	}
	var places []store.Store
	if st, err := store.OpenDirectory(l.dir); err == nil {
		places = append(places, st)
	}
	apart, err := VerifyAuditFile(l.Context(), copied, places)
	if err != nil || apart.Holds != r.Holds || apart.Entries != r.Entries || apart.Unread != r.Unread ||
		!reflect.DeepEqual(apart.Faults, r.Faults) {
		l.Errorf("with the service %+v, without %+v (%v)", r, apart, err)
	}
	return r
}

// files are those of entries in the store.
func (l *oldLog) files() []string {
	l.Helper()
	list, err := filepath.Glob(filepath.Join(l.dir, "audit", "*", "entries", "*"))
	if err != nil {
		l.Fatal(err)
	}
	return list
}

// Whether entries have moved or not, the log shows the same, by every filter, and its chain holds.
func TestOldEntriesOfTheAuditLogMoveToAStore(t *testing.T) {
	l := newOldLog(t)
	l.history()
	from, to := catalog.At(l.now.AddDate(0, -20, 0)), catalog.At(l.now.AddDate(0, -2, 0))
	filters := []catalog.AuditFilter{
		{},
		{Actor: "o'hara"},
		{Kind: "rows"},
		{Action: "run start"},
		{Subject: "thing-3"},
		{Outcome: audit.OutcomeRefused},
		{Outcome: audit.OutcomeDone, Kind: "rule"},
		{From: &from},
		{To: &to},
		{From: &from, To: &to, Actor: "desk"},
		{Since: 150},
		{Subject: "nothing"},
	}
	var before [][]catalog.Entry
	for _, f := range filters {
		before = append(before, l.all(f))
	}
	moved := len(l.files())
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	k, err := l.Audit.Kept(t.Context())
	if err != nil || len(k.Segments) < 3 || len(k.Segments) <= moved || len(l.files()) != len(k.Segments) ||
		k.Store != "cellar" || k.First != 1 {
		t.Fatalf("%d files, then %d; %+v (%v)", moved, len(l.files()), k, err)
	}
	young := catalog.At(time.Date(2029, 1, 1, 0, 0, 0, 0, time.UTC))
	for i, s := range k.Segments {
		if !s.Greatest.Before(young.Time) || i > 0 && s.First != k.Segments[i-1].Last+1 {
			t.Errorf("entries %d to %d, up to %s", s.First, s.Last, s.Greatest)
		}
	}
	after := l.all(catalog.AuditFilter{})
	own := len(after) - len(before[0]) // what moving them is recorded with
	for i, f := range filters {
		got := slices.DeleteFunc(l.all(f), func(e catalog.Entry) bool { return e.ID > before[0][0].ID })
		if !reflect.DeepEqual(got, before[i]) {
			t.Errorf("%+v: %d entries, and %d before they moved", f, len(got), len(before[i]))
		}
	}
	if own != 2 || after[1].Action != "audit move" || after[0].Action != "audit announce" {
		t.Errorf("%d entries tell of it, %+v", own, after[0])
	}
	e, err := l.Audit.Entry(t.Context(), 5)
	if err != nil || e.ID != 5 || e.Detail == "" || e.Address != "10.0.0.7" {
		t.Errorf("%+v, %v", e, err)
	}
	about, err := l.Audit.About(t.Context(), []string{"thing-2"})
	if err != nil || len(about) < 50 {
		t.Fatalf("%d, %v", len(about), err)
	}
	for _, b := range about { // each shows that it follows the one before it
		x := audit.Entry{
			ID:      b.ID,
			At:      b.At.Time,
			Actor:   b.Actor,
			Session: b.Session,
			Address: b.Address,
			Action:  b.Action,
			Subject: b.Subject,
			Outcome: b.Outcome,
			Digest:  b.Digest,
		}
		if x.Sum(b.Before) != b.Hash {
			t.Errorf("entry %d does not follow from what is said of the one before", b.ID)
		}
	}
	if r := l.verify(); !r.Holds || r.Archived < 200 || r.Entries != after[0].ID || r.Unread != 0 {
		t.Errorf("%+v", r)
	}
	bare, err := VerifyAuditFile(t.Context(), l.backup(), nil)
	if err != nil || !bare.Holds || bare.Unread != k.Here-1 {
		t.Errorf("without any store: %+v (%v)", bare, err)
	}
	if _, err := l.Audit.Page(t.Context(), catalog.AuditFilter{}, catalog.Page{Limit: 5, After: "zzz"}); !errors.Is(
		err,
		catalog.ErrPlace,
	) {
		t.Errorf("a place that is none: %v", err)
	}
}

func (l *oldLog) backup() string {
	l.Helper()
	path := filepath.Join(l.TempDir(), "backup.db")
	if err := l.Catalog.Backup(l.Context(), path); err != nil {
		l.Fatal(err)
	}
	return path
}

// A detail that was erased is nowhere in the store any more, and while its store is away nobody is shown it.
func TestDetailsAreErasedInTheStoreToo(t *testing.T) {
	l := newOldLog(t)
	l.history()
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	l.Audit.work.Unlock()
	before := l.files()
	x, err := l.Exports.Ask(t.Context(), &administrator, ExportRequest{Format: "csv"})
	if err != nil {
		t.Fatal(err)
	}
	l.tend()
	e, err := l.Audit.EraseDetail(t.Context(), "nora-quay", 5, "somebody asked for it")
	if one, two := l.Catalog.AuditExport(t.Context(), x.ID); two != nil || one.State != catalog.AuditExportGone {
		t.Errorf("an export that holds the detail stays: %+v, %v", one, two)
	}
	l.Audit.work.Lock()
	if err != nil || !e.Erased || e.Detail != "" {
		t.Fatalf("%+v, %v", e, err)
	}
	after := l.files()
	if len(after) != len(before) || slices.Equal(before, after) {
		t.Errorf("files %q, then %q", before, after)
	}
	if r := l.verify(); !r.Holds || r.Erased != 1 {
		t.Errorf("%+v", r)
	}
	log := l.all(catalog.AuditFilter{Kind: "audit"})
	if log[0].Action != audit.EraseAction || log[0].Actor != "nora-quay" || log[0].Subject != "[5]" {
		t.Errorf("%+v", log[0])
	}
	// the store is away meanwhile
	if err := os.Rename(l.dir, l.dir+"-away"); err != nil {
		t.Fatal(err)
	}
	l.now = l.end.AddDate(1, 0, 0)
	if causes, err := l.Findings.auditKept(t.Context()); err != nil || !strings.Contains(fmt.Sprint(causes),
		"old entries of the audit log stay") {
		t.Errorf("%+v, %v", causes, err)
	}
	l.now = l.end
	if _, err := l.Audit.EraseDetail(t.Context(), "nora-quay", 7, "why"); err == nil {
		t.Error("an entry that cannot be read is said to be erased")
	}
	if err := l.Catalog.EraseDetail(t.Context(), "nora-quay", 8, "why"); err != nil {
		t.Fatal(err)
	}
	if err := l.keep(); err == nil {
		t.Error("a store that is away is no fault")
	}
	if r := l.verify(); r.Unread == 0 || !r.Holds {
		t.Errorf("the store is away: %+v", r)
	}
	if err := os.Rename(l.dir+"-away", l.dir); err != nil {
		t.Fatal(err)
	}
	if e, err := l.Audit.Entry(t.Context(), 8); err != nil || e.Detail != "" || !e.Erased {
		t.Errorf("before it is gone: %+v, %v", e, err)
	}
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	if r := l.verify(); !r.Holds || r.Erased != 2 || len(l.files()) != len(before) {
		t.Errorf("%+v, %q", r, l.files())
	}
}

// What was kept long enough is destroyed: announced before, from the beginning on, recorded, and not while all is
// frozen. A clock that was wrong for a while destroys nothing.
func TestEntriesAreDestroyedWhenTheirTimeIsOver(t *testing.T) {
	l := newOldLog(t)
	l.history()
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	kept := func() *AuditKept {
		k, err := l.Audit.Kept(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	due := func() (n int) {
		for _, s := range kept().Segments {
			if s.DueAt != nil {
				n++
			}
		}
		return n
	}
	if due() != 1 {
		t.Fatalf("%+v", kept())
	}
	causes, err := l.Findings.auditKept(t.Context())
	if err != nil || len(causes) != 1 || !strings.Contains(causes[0].Message, "may be destroyed from 2029-08-08 on") {
		t.Errorf("%+v, %v", causes, err)
	}
	// the clock is wrong for a day, and everything seems to be old: that is only announced, but for what was before
	l.now = l.end.AddDate(12, 0, 0)
	l.Freezes.Freeze(t.Context(), "me", catalog.Freeze{Reason: "the clock"})
	if err := l.keep(); err != nil || due() != len(kept().Segments) {
		t.Fatalf("%+v (%v)", kept(), err)
	}
	l.now = l.end.AddDate(0, 0, 1)
	if err := l.keep(); err != nil || due() != 1 || kept().First != 1 {
		t.Fatalf("%+v (%v)", kept(), err)
	}
	l.now = l.end.AddDate(0, 0, 40)
	before := kept().First
	if err := l.keep(); err != nil || kept().First != before {
		t.Fatalf("while all is frozen: %d, then %d (%v)", before, kept().First, err)
	}
	standing, err := l.Catalog.Freezes(t.Context(), false)
	if err != nil || len(standing) != 1 {
		t.Fatal(standing, err)
	}
	if _, err := l.Freezes.Lift(t.Context(), "me", standing[0].ID, "it is over"); err != nil {
		t.Fatal(err)
	}
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	k := kept()
	r := l.verify()
	if k.First == 1 || !r.Holds || r.Destroyed != k.First-1 || len(l.files()) != len(k.Segments) {
		t.Errorf("%+v; %+v; %q", k, r, l.files())
	}
	if _, err := l.Audit.Entry(t.Context(), k.First-1); !errors.Is(err, catalog.ErrNotFound) {
		t.Errorf("an entry that was destroyed: %v", err)
	}
	list := l.all(catalog.AuditFilter{})
	if last := list[len(list)-1]; last.ID != k.First {
		t.Errorf("the list ends with %d instead of %d", last.ID, k.First)
	}
	if told := l.all(catalog.AuditFilter{Action: audit.DestroyAction}); len(told) == 0 ||
		!strings.HasPrefix(told[0].Subject,
			fmt.Sprintf("1-%d ", k.First-1)) {
		t.Errorf("%+v", told)
	}
}

// Whatever is done to a segment, or to what is known of it, is found.
func TestAChangedSegmentOfTheAuditLogIsFound(t *testing.T) {
	l := newOldLog(t)
	l.history()
	file := l.files()[0]
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	other, err := os.ReadFile(l.files()[1])
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string][]byte{"cut": whole[:len(whole)/2], "empty": {}, "of another segment": other,
		"a byte flipped": flipped(whole, len(whole)/3), "nonsense": bytes.Repeat([]byte("x"), len(whole))} {
		if err := errors.Join(os.Chmod(file, 0o600), os.WriteFile(file, b, 0o600)); err != nil {
			t.Fatal(err)
		}
		if r := l.verify(); r.Holds || r.Faults[0].Entry != 1 {
			t.Errorf("%s: %+v", name, r)
		}
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if r := l.verify(); r.Holds || !strings.Contains(r.Faults[0].Message, "entries 1 to ") {
		t.Errorf("gone: %+v", r)
	}
	if err := os.WriteFile(file, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if r := l.verify(); !r.Holds {
		t.Errorf("put back: %+v", r)
	}
}

func flipped(b []byte, at int) []byte {
	out := bytes.Clone(b)
	out[at] ^= 0x10
	return out
}

// A move that was cut off between its steps is taken up, and what lies there meanwhile is not overwritten.
func TestAMoveOfEntriesIsTakenUp(t *testing.T) {
	for name, between := range map[string]func(l *oldLog, stem string){
		"written, and not noted": func(*oldLog, string) {},
		"something else is there": func(l *oldLog, stem string) {
			path := filepath.Join(l.dir, filepath.FromSlash(stem)+".parquet")
			other := []byte("none of ours")
			if err := errors.Join(os.Chmod(path, 0o600), os.WriteFile(path, other, 0o600)); err != nil {
				l.Fatal(err)
			}
		},
		"a detail was erased": func(l *oldLog, _ string) {
			if err := l.Catalog.EraseDetail(l.Context(), "me", 2, "why"); err != nil {
				l.Fatal(err)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			l := newOldLog(t)
			for n := range 20 {
				l.now = l.end.AddDate(-1, 0, n)
				l.day(n)
			}
			l.now = l.end
			l.day(0)
			seg, list, err := l.Catalog.OldAudit(
				t.Context(),
				catalog.At(time.Date(2029, 1, 1, 0, 0, 0, 0, time.UTC)),
				auditPiece,
			)
			if err != nil || seg == nil {
				t.Fatal(seg, err)
			}
			file := seg.File()
			if err := l.Audit.writeSegment(t.Context(), "cellar", file, list, 0); err != nil {
				t.Fatal(err)
			}
			between(l, file.Stem)
			if err := l.keep(); err != nil {
				t.Fatal(err)
			}
			if r := l.verify(); !r.Holds || r.Archived == 0 || len(l.files()) != 1 {
				t.Errorf("%+v, %q", r, l.files())
			}
			if err := l.keep(); err != nil {
				t.Fatal(err)
			}
		})
	}
}

// Who reads and who checks while entries move sees each of them, once.
func TestEntriesAreReadWhileTheyMove(t *testing.T) {
	l := newOldLog(t)
	for n := range 60 {
		l.now = l.end.AddDate(-2, n/4, n%28)
		l.day(n)
	}
	l.now = l.end
	want := len(l.all(catalog.AuditFilter{Actor: "desk"}))
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		for ctx.Err() == nil {
			n := 0
			err := l.Audit.Each(t.Context(), catalog.AuditFilter{Actor: "desk"}, func(some []catalog.Entry) error {
				n += len(some)
				return nil
			})
			r, one := l.Audit.Verify(t.Context())
			if err = errors.Join(err, one); err == nil && (n != want || !r.Holds) {
				err = fmt.Errorf("%d entries instead of %d; %+v", n, want, r)
			}
			if err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	for months := 23; months > 5; months-- {
		l.Audit.SetRetention(AuditRetention{Live: period.Period{Months: months}, Keep: period.Period{Years: 5}})
		if err := l.keep(); err != nil {
			t.Error(err)
		}
	}
	stop()
	if err := <-done; err != nil {
		t.Error(err)
	}
}

func TestARetentionThatCannotBeIsRefused(t *testing.T) {
	for _, x := range [][2]string{{"", ""}, {"soon", ""}, {"P2Y", "P1Y"}, {"P1Y", "P1Y"}, {"P1Y", "never"}} {
		if r, err := ParseRetention("", x[0], x[1]); err == nil {
			t.Errorf("%q is taken as %+v", x, r)
		}
	}
	if r, err := ParseRetention("deep", "18 months", ""); err != nil || !r.Keep.Zero() || r.Live.Months != 18 {
		t.Errorf("%+v, %v", r, err)
	}
}

// On a clock that jumps the chain holds, lists have each entry once, and nothing is destroyed before its time.
func TestTheAuditLogHoldsOnAClockThatJumps(t *testing.T) {
	l := newOldLog(t)
	for n, at := range []time.Time{l.end.AddDate(-2, 0, 0), l.end.AddDate(20, 0, 0), l.end.AddDate(-20, 0, 0),
		l.end.AddDate(-1, 0, 0), l.end.AddDate(0, 1, 0), l.end.AddDate(0, 0, -1), time.Unix(0, 0), l.end} {
		l.now = at
		for i := range 3 {
			l.day(10*n + i)
		}
	}
	before := l.all(catalog.AuditFilter{})
	ids := map[int64]bool{}
	for _, e := range before {
		ids[e.ID] = true
	}
	if len(ids) != len(before) || int64(len(before)) != before[0].ID && len(before) < 72 {
		t.Errorf("%d entries, %d of them different", len(before), len(ids))
	}
	for _, months := range []int{0, 1, 2, 3, 240, 0, 1} { // and on it goes
		l.now = l.end.AddDate(0, months, 0)
		if err := l.keep(); err != nil {
			t.Fatal(err)
		}
		after := l.all(catalog.AuditFilter{})
		seen := map[int64]bool{}
		for _, e := range after {
			seen[e.ID] = true
		}
		r := l.verify()
		k, err := l.Audit.Kept(t.Context())
		if err != nil || !r.Holds || len(seen) != len(after) || int64(len(after)) != r.Last-k.First+1 {
			t.Fatalf("after %d months: %d entries, %d different; %+v; %+v (%v)", months, len(after), len(seen), r, k,
				err)
		}
		for _, s := range k.Segments {
			if s.DestroyedAt != nil {
				t.Errorf("%+v", s)
			}
		}
	}
}

// An older catalog that is put back finds what was moved since, and what was written anew since.
func TestAnOlderCatalogFindsItsEntriesInTheStore(t *testing.T) {
	l := newOldLog(t)
	l.history()
	before := l.backup() // two segments are there, and a third is to come
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	l.Audit.work.Unlock()
	_, err := l.Audit.EraseDetail(t.Context(), "nora-quay", 5, "somebody asked for it")
	l.Audit.work.Lock()
	if err != nil {
		t.Fatal(err)
	}
	files := l.files()
	data := filepath.Dir(l.dir)
	l.Audit.work.Unlock()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	for _, ending := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(filepath.Join(data, "catalog.db"+ending)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Fatal(err)
		}
	}
	if err := os.Rename(before, filepath.Join(data, "catalog.db")); err != nil {
		t.Fatal(err)
	}
	older := &oldLog{T: t, dir: l.dir, now: l.now, end: l.end}
	older.Service, _ = open(t, data, func(s *Service) {
		s.Engine.Now = func() time.Time { return older.now }
		s.Audit.work.Lock()
		s.Audit.SetRetention(l.Audit.Retention())
	})
	t.Cleanup(older.Audit.work.Unlock)
	l.Audit.work.Lock() // as its own end expects it
	if list := older.all(catalog.AuditFilter{Kind: "rule"}); len(list) != 90 {
		t.Errorf("%d entries", len(list))
	}
	if err := older.keep(); err != nil {
		t.Fatal(err)
	}
	r := older.verify()
	if r.Holds || len(r.Faults) != 1 || r.Faults[0].Entry != 5 || !strings.Contains(r.Faults[0].Message,
		"does not record that") {
		t.Errorf("%+v", r)
	}
	if now := older.files(); !slices.Equal(now, files) {
		t.Errorf("files %q, then %q", files, now)
	}
}

// In a sealed store the audit log gets the newest key with the rest, so that the older one can be thrown away.
func TestTheAuditLogIsSealedAnewWithItsStore(t *testing.T) {
	l := newOldLog(t)
	t.Setenv("AMBERCELLAR_SECRET_VAULT", newSealKey(t))
	place := catalog.Store{Name: "vault", Path: filepath.Join(t.TempDir(), "vault")}
	place.Seal.V.Env = "AMBERCELLAR_SECRET_VAULT"
	if err := l.Places.AddStore(t.Context(), "me", place, false); err != nil {
		t.Fatal(err)
	}
	r := l.Audit.Retention()
	r.Store = "vault"
	l.Audit.SetRetention(r)
	l.history()
	if err := l.keep(); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Audit.telling()(t.Context()); err != nil {
		t.Fatal(err)
	}
	older, newer := os.Getenv("AMBERCELLAR_SECRET_VAULT"), newSealKey(t)
	for _, keys := range []string{newer + "\n" + older, newer} {
		t.Setenv("AMBERCELLAR_SECRET_VAULT", keys)
		l.Places.mu.Lock()
		delete(l.Places.stores, "vault") // as at the next start
		l.Places.mu.Unlock()
		if strings.Contains(keys, older) {
			out, err := l.Places.Reseal(t.Context(), "me", "vault")
			if err != nil || out.Strange != 0 || out.Sealed < 4 {
				t.Fatalf("%+v, %v", out, err)
			}
		}
	}
	v, err := l.Audit.Verify(t.Context())
	if err != nil || !v.Holds || v.Archived == 0 || v.Unread != 0 || v.Heads == 0 {
		t.Errorf("%+v, %v", v, err)
	}
}

func newSealKey(t *testing.T) string {
	t.Helper()
	text, _, err := store.NewSealKey()
	if err != nil {
		t.Fatal(err)
	}
	return text
}
