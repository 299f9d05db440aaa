package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
)

// tend does what the service would do by itself with exports, and waits until all have ended.
func (l *oldLog) tend() []catalog.AuditExport {
	l.Helper()
	if _, err := l.Exports.tending()(l.Context()); err != nil {
		l.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		open, err := l.Catalog.AuditExportsIn(l.Context(), catalog.AuditExportWaiting, catalog.AuditExportWorking)
		if err != nil || time.Now().After(end) {
			l.Fatal(len(open), err)
		}
		if len(open) == 0 {
			break
		}
	}
	list, err := l.Catalog.AuditExports(l.Context(), "", catalog.All)
	if err != nil {
		l.Fatal(err)
	}
	return list
}

func (l *oldLog) zips() (out []string) {
	l.Helper()
	list, err := os.ReadDir(l.Exports.directory())
	if err != nil && !os.IsNotExist(err) {
		l.Fatal(err)
	}
	for _, f := range list {
		out = append(out, f.Name())
	}
	return out
}

// A schedule has an export made each time, of what was written since the one before, in the catalog or in a store.
func TestExportsAreMadeOnASchedule(t *testing.T) {
	l := newOldLog(t)
	l.history()
	desk, err := l.Access.AddAccount(t.Context(), "me", NewAccount{Name: "desk", Role: string(rights.Viewer)})
	if err != nil || desk == "" {
		t.Fatal(err)
	}
	who, err := l.Exports.account(t.Context(), "desk")
	if err != nil || who == nil {
		t.Fatal(who, err)
	}
	q := ScheduleRequest{Name: "month", When: "monthly on the 1st at 06:00", Zone: "Europe/Athens"}
	q.Format, q.Tell = "csv", "desk@harbour.example"
	q.Filter.Kind = "rows"
	if _, err := l.Exports.Schedule(t.Context(), who, q); err != nil {
		t.Fatal(err)
	}
	if list := l.tend(); len(list) != 0 {
		t.Errorf("before its time: %+v", list)
	}
	for n := range 3 {
		l.now = l.end.AddDate(0, 0, 5+n)
		l.day(n)
	}
	l.now = time.Date(2029, 8, 1, 3, 0, 1, 0, time.UTC) // 06:00:01 in Athens
	list := l.tend()
	if len(list) != 1 || list[0].State != catalog.AuditExportDone || list[0].Entries != 3 ||
		list[0].Schedule != "month" ||
		list[0].SeesRows ||
		list[0].Account != "desk" {
		t.Fatalf("%+v", list)
	}
	if again := l.tend(); len(again) != 1 {
		t.Errorf("it is made twice: %+v", again)
	}
	// the service does not run for months: one makes up for it
	l.now = time.Date(2029, 8, 20, 0, 0, 0, 0, time.UTC)
	l.day(4)
	l.now = time.Date(2029, 12, 3, 0, 0, 0, 0, time.UTC)
	list = l.tend()
	if len(list) != 1 || list[0].Entries != 1 || list[0].Filter.V.To.UTC().Format(time.DateOnly) != "2029-12-01" ||
		len(l.zips()) != 1 {
		t.Errorf("%+v, %q", list, l.zips())
	}
	// the account may not come in any more
	if err := l.Access.RevokeAccount(t.Context(), "me", "desk", "it is closed"); err != nil {
		t.Fatal(err)
	}
	l.now = time.Date(2030, 1, 2, 0, 0, 0, 0, time.UTC)
	if list = l.tend(); len(list) != 2 || list[1].State != catalog.AuditExportGone ||
		list[0].State != catalog.AuditExportFailed ||
		!strings.Contains(list[0].Problem, "may not see") ||
		len(l.zips()) != 0 {
		t.Errorf("%+v, %q", list[0], l.zips())
	}
	told, err := l.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{}, catalog.All)
	for end := time.Now().Add(20 * time.Second); err == nil && len(told) < 3 && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
		told, err = l.Catalog.Deliveries(t.Context(), catalog.DeliveryFilter{}, catalog.All)
	}
	titles := ""
	for _, d := range told {
		titles += d.Title + "; "
	}
	if err != nil || len(told) != 3 || strings.Count(titles, "is ready") != 2 ||
		strings.Count(titles, "failed") != 1 {
		t.Errorf("%q (%v)", titles, err)
	}
	l.now = l.now.AddDate(0, 4, 0)
	if list = l.tend(); len(list) != 1 || !list[0].MadeAt.After(l.now.AddDate(0, 0, -1)) {
		t.Errorf("what is over is not forgotten: %+v", list)
	}
}

// An export that was cut off is made anew at the next start, and what is left of it goes.
func TestAnExportThatWasCutOffIsMade(t *testing.T) {
	l := newOldLog(t)
	l.history()
	x := &catalog.AuditExport{Format: "csv", Account: "administrator", SeesRows: true}
	if err := l.Catalog.AddAuditExport(t.Context(), x); err != nil {
		t.Fatal(err)
	}
	if err := l.Catalog.AuditExportStep(t.Context(), x); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{x.ID + ".zip" + partialFile, "01J9ZK0000000000000000000.zip", "other.partial"} {
		if err := errors.Join(os.MkdirAll(l.Exports.directory(), 0o700),
			os.WriteFile(filepath.Join(l.Exports.directory(), name), []byte("cut"), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	list := l.tend()
	if list[0].State != catalog.AuditExportDone || list[0].Entries < 200 {
		t.Errorf("%+v", list)
	}
	l.tend()
	if got := l.zips(); fmt.Sprint(got) != "["+x.ID+".zip]" {
		t.Errorf("%q", got)
	}
	_, f, err := l.Exports.Open(t.Context(), &administrator, x.ID)
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	blind := administrator
	blind.Name, blind.Rows, blind.Role = "administrator", false, rights.Viewer
	if _, _, err := l.Exports.Open(t.Context(), &blind, x.ID); err == nil {
		t.Error("who may not see rows any more is given a file with them")
	}
	// where no file can be written, it fails, and says why
	if err := errors.Join(os.RemoveAll(l.Exports.directory()),
		os.WriteFile(l.Exports.directory(), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	y, err := l.Exports.Ask(t.Context(), &administrator, ExportRequest{Format: "pdf"})
	if err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); y.State != catalog.AuditExportFailed; {
		time.Sleep(10 * time.Millisecond)
		if y, err = l.Catalog.AuditExport(t.Context(), y.ID); err != nil || time.Now().After(end) {
			t.Fatalf("%+v, %v", y, err)
		}
	}
	if !strings.Contains(y.Problem, "exports") {
		t.Errorf("%+v", y)
	}
}
