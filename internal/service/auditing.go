package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ambercellar/internal/archive/entries"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/settings"
	"ambercellar/internal/engine/refuse"
)

// Audit keeps the audit log, and finds out whether it is what was written.
type Audit struct {
	*base
	freezes   *Freezes
	exports   *Exports
	retention atomic.Pointer[AuditRetention]
	moving    sync.RWMutex // entries are read; held for writing while they change their place
	work      sync.Mutex   // segments are written or removed
}

// frozen says whether all work is frozen.
func (s *Audit) frozen() bool { return s.freezes.Over("", "") }

// AuditReport says whether the audit log holds.
type AuditReport struct {
	Holds     bool          `json:"holds"`
	Log       string        `json:"log"`       // the name of the log
	Entries   int64         `json:"entries"`   // that were checked
	Last      int64         `json:"last"`      // the last one
	Hash      string        `json:"hash"`      // its
	Erased    int64         `json:"erased"`    // entries whose detail was taken away
	Archived  int64         `json:"archived"`  // entries in segments of a store, among those that were checked
	Unread    int64         `json:"unread"`    // entries that could not be checked, because their store did not answer
	Destroyed int64         `json:"destroyed"` // the last entry of those that were kept long enough and destroyed
	Heads     int           `json:"heads"`     // what stores know of the log, that it was compared with
	Faults    []audit.Fault `json:"faults"`
	More      int64         `json:"more"`   // faults beyond those
	Away      []string      `json:"away"`   // stores that could not be asked, and why
	Took      float64       `json:"took"`   // in seconds
	Newest    *catalog.Time `json:"newest"` // when the newest of the heads was written; null: there is none
}

// mostHeads is how many heads are read of a store: the newest.
const mostHeads = 400

// headsDirectory is where a store keeps what it knows of a log.
func headsDirectory(log string) string { return "audit/" + log + "/" }

// ReadHeads reads what a store knows of a log.
func ReadHeads(ctx context.Context, st store.Store, log string) ([]audit.Head, error) {
	list, err := st.List(ctx, headsDirectory(log))
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(o store.Object) bool { return !strings.HasSuffix(o.Name, ".json") })
	if len(list) > mostHeads {
		list = list[len(list)-mostHeads:]
	}
	var out []audit.Head
	for _, o := range list {
		f, err := st.Open(ctx, o.Name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", o.Name, err)
		}
		b, err := io.ReadAll(io.NewSectionReader(f, 0, min(f.Size(), 4096)))
		var h audit.Head
		if err = errors.Join(err, f.Close()); err == nil {
			err = json.Unmarshal(b, &h)
		}
		if err == nil && (h.Format != audit.HeadFormat || h.Log != log) {
			err = fmt.Errorf("it is of another log, or in another format")
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", o.Name, err)
		}
		out = append(out, h)
	}
	return out, nil
}

// Verify checks the audit log against itself, and against what stores know of it.
func (s *Audit) Verify(ctx context.Context) (*AuditReport, error) {
	begun := time.Now()
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return nil, err
	}
	var heads []audit.Head
	out := &AuditReport{Log: head.Log, Faults: []audit.Fault{}, Away: []string{}}
	stores, err := s.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for i := range stores {
		name := stores[i].Name
		st, err := s.Store(ctx, name)
		var known []audit.Head
		if err == nil {
			known, err = ReadHeads(ctx, st, head.Log)
		}
		if err != nil {
			out.Away = append(out.Away, name+": "+err.Error())
			continue
		}
		heads = append(heads, known...)
	}
	s.moving.RLock()
	defer s.moving.RUnlock()
	segments, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return nil, err
	}
	for i := range segments {
		out.Archived += segments[i].Last - segments[i].First + 1
	}
	gone, err := s.Catalog.DestroyedAudit(ctx)
	if err != nil {
		return nil, err
	}
	if gone != nil {
		out.Destroyed = gone.Last
	}
	c, err := s.Catalog.CheckAudit(ctx, heads, func(ctx context.Context, seg *catalog.AuditSegment) ([]entries.Entry,
		error) {
		list, err := s.readSegment(ctx, seg)
		if err != nil {
			s.Log.Error("entries of the audit log cannot be read", "store", seg.Store, "file", seg.Stem, "error", err)
		}
		return list, err
	})
	if err != nil {
		return nil, err
	}
	out.fill(c, heads)
	out.Took = time.Since(begun).Seconds()
	return out, nil
}

// fill takes over what a check has found.
func (r *AuditReport) fill(c *audit.Checker, heads []audit.Head) {
	r.Last, r.Hash = c.Last()
	r.Entries, r.Erased, r.More, r.Heads = c.Entries, c.Erased, c.More, len(heads)
	r.Unread = c.Unread
	r.Faults = append(r.Faults, c.Faults...)
	r.Holds = len(r.Faults) == 0
	for _, h := range heads {
		if at := catalog.At(h.At); r.Newest == nil || at.After(r.Newest.Time) {
			r.Newest = &at
		}
	}
}

// VerifyAuditFile checks the audit log of a catalog's file, without a service, against what stores know of it.
func VerifyAuditFile(ctx context.Context, path string, stores []store.Store) (*AuditReport, error) {
	begun := time.Now()
	out := &AuditReport{Faults: []audit.Fault{}, Away: []string{}}
	var heads []audit.Head
	c, err := catalog.CheckAuditFile(ctx, path, func(log string) ([]audit.Head, error) {
		out.Log = log
		for _, st := range stores {
			known, err := ReadHeads(ctx, st, log)
			if err != nil {
				return nil, err
			}
			heads = append(heads, known...)
		}
		return heads, nil
	}, func(ctx context.Context, seg *catalog.AuditSegment) (list []entries.Entry, err error) {
		atomic.AddInt64(&out.Archived, seg.Last-seg.First+1)
		return readFrom(ctx, stores, seg)
	})
	if err != nil {
		return nil, err
	}
	out.fill(c, heads)
	out.Took = time.Since(begun).Seconds()
	return out, nil
}

// readFrom reads the entries of a segment from the one of some stores that has it. Where one could not be asked, it is
// not said that none has.
func readFrom(ctx context.Context, stores []store.Store, seg *catalog.AuditSegment) ([]entries.Entry, error) {
	err := fmt.Errorf("%w: no store was named", store.ErrAway)
	for i, st := range stores {
		list, one := entries.Read(ctx, st, seg.File())
		if one == nil {
			return list, nil
		}
		if i == 0 || errors.Is(err, fs.ErrNotExist) {
			err = one
		}
	}
	return nil, err
}

// EraseDetail takes away the detail of an entry, for a reason.
func (s *Audit) EraseDetail(ctx context.Context, actor string, id int64, reason string) (*catalog.Entry, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, &refuse.Error{Field: "reason", Message: "no reason is given",
			Remedy: "say why, in words that name nobody: they stay"}
	}
	if _, err := s.Entry(ctx, id); err != nil {
		return nil, err
	}
	if err := s.Catalog.EraseDetail(ctx, actor, id, reason); err != nil {
		return nil, err
	}
	s.exports.changed.Store(true) // what holds it is to be removed
	s.work.Lock()
	defer s.work.Unlock()
	// where that fails, it is shown to nobody, and tried again
	if err := errors.Join(s.eraseArchived(ctx), s.removeLeft(ctx)); err != nil {
		s.Log.Error("a detail of the audit log is not erased in its store yet", "entry", id, "error", err)
	}
	return s.Entry(ctx, id)
}

// headSetting is where the catalog keeps on which day a store was last told of the log, by the store's name.
const headSetting = "audit_head_"

// telling returns what writes the head of the audit log to each store and to the log, once a day in UTC.
func (s *Audit) telling() chore {
	said := ""
	return func(ctx context.Context) (time.Time, error) {
		now := s.Now().UTC()
		today := now.Format(time.DateOnly)
		next := now.Truncate(24 * time.Hour).Add(24 * time.Hour)
		head, err := s.Catalog.AuditHead(ctx)
		if err != nil || head.Entry == 0 {
			return next, err
		}
		if said != today {
			s.Log.Info("the audit log's head", "log", head.Log, "entry", head.Entry, "hash", head.Hash)
			said = today
		}
		stores, err := s.Catalog.Stores(ctx)
		for i := range stores {
			name := stores[i].Name
			told, one := s.Catalog.Setting(ctx, headSetting+name)
			if one == nil && told == today {
				continue
			}
			if one == nil {
				one = s.tellStore(ctx, name, today, head)
			}
			if one == nil {
				one = s.Catalog.SetSetting(ctx, headSetting+name, today)
			}
			if one != nil {
				err = errors.Join(err, fmt.Errorf("store %s cannot be told of the audit log: %w", name, one))
			}
		}
		return next, err
	}
}

func (s *Audit) tellStore(ctx context.Context, name, today string, head *audit.Head) error {
	st, err := s.Store(ctx, name)
	if err != nil {
		return err
	}
	b, err := json.MarshalIndent(head, "", "  ")
	if err != nil {
		return err
	}
	f, err := st.Create(ctx, fmt.Sprintf("%s%s-%012d.json", headsDirectory(head.Log), today, head.Entry))
	if errors.Is(err, store.ErrExists) { // told, and then the service was killed
		return nil
	} else if err != nil {
		return err
	}
	defer f.Abort()
	if _, err := f.Write(append(b, '\n')); err != nil {
		return err
	}
	if err := f.Commit(); !errors.Is(err, store.ErrExists) {
		return err
	}
	return nil
}

// configuredSetting is where the catalog keeps how the service was told to run when that was recorded last.
const configuredSetting = "configured"

// Configured records how the service is told to run, where that is something else than before: what was before and
// after.
// Settings hold no secret, only where secrets are found.
func (s *Audit) Configured(ctx context.Context, list []settings.InForce) error {
	now := map[string]string{}
	for _, x := range list {
		if x.From != settings.Usual {
			now[x.Name] = x.Text
		}
	}
	text, err := json.Marshal(now)
	if err != nil {
		return err
	}
	before, err := s.Catalog.Setting(ctx, configuredSetting)
	if err != nil || before == string(text) {
		return err
	}
	was := map[string]string{}
	if before != "" {
		if err := json.Unmarshal([]byte(before), &was); err != nil {
			return err
		}
	}
	var changes []string
	for _, name := range slices.Sorted(maps.Keys(merged(was, now))) {
		if was[name] != now[name] {
			changes = append(changes, fmt.Sprintf("%s: %s → %s", name, cmp.Or(was[name], settings.Usual),
				cmp.Or(now[name], settings.Usual)))
		}
	}
	if err := s.Catalog.Note(ctx, "service", "service configure", s.Instance, strings.Join(changes, "; ")); err != nil {
		return err
	}
	return s.Catalog.SetSetting(ctx, configuredSetting, string(text))
}

func merged(a, b map[string]string) map[string]string {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}
