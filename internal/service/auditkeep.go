package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/entries"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
)

// AuditRetention says how long entries of the audit log are kept, and where.
type AuditRetention struct {
	Store string        // that old entries move to; empty: the first by name that does not go cold
	Live  period.Period // how long entries stay in the catalog; whole months move
	Keep  period.Period // how long they are kept in all; zero: for good
}

// UsualRetention is what holds where nothing else is said.
var UsualRetention = AuditRetention{Live: period.Period{Years: 2}, Keep: period.Period{Years: 10}}

// ParseRetention reads how long entries are kept: live and keep are lengths of time, keep may be empty.
func ParseRetention(store, live, keep string) (r AuditRetention, err error) {
	r.Store = store
	if r.Live, err = period.Parse(live); err != nil {
		return r, fmt.Errorf("audit-live: %w", err)
	}
	if keep != "" {
		if r.Keep, err = period.Parse(keep); err != nil {
			return r, fmt.Errorf("audit-keep: %w", err)
		}
		at := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
		if !r.Keep.Before(at, time.UTC).Before(r.Live.Before(at, time.UTC)) {
			return r, fmt.Errorf("audit-keep (%s) is not longer than audit-live (%s)", keep, live)
		}
	}
	return r, nil
}

// SetRetention says how long entries of the audit log are kept, and where.
func (s *Audit) SetRetention(r AuditRetention) { s.retention.Store(&r) }

// Retention returns how long entries of the audit log are kept, and where.
func (s *Audit) Retention() AuditRetention {
	if r := s.retention.Load(); r != nil {
		return *r
	}
	return UsualRetention
}

// auditPiece is how many entries a segment has at the most: they are in memory while it is written.
const auditPiece = 25_000

// keepEvery is how often it is looked for entries that are old.
const keepEvery = time.Minute

// auditNotice is how long before entries are destroyed that is said: time to object, and to mend a clock.
const auditNotice = 30 * 24 * time.Hour

// keeping returns what moves old entries to a store, takes erased details out of segments, and destroys entries that
// were kept long enough.
func (s *Audit) keeping() chore {
	var looked time.Time
	var by AuditRetention
	return func(ctx context.Context) (time.Time, error) {
		s.work.Lock()
		defer s.work.Unlock()
		err := s.eraseArchived(ctx)
		now := s.Now().UTC()
		// what is old becomes so slowly
		if since := now.Sub(looked); since < 0 || since >= keepEvery || by != s.Retention() {
			err = errors.Join(err, s.moveOld(ctx, now), s.destroyOld(ctx, now))
			if looked, by = now, s.Retention(); err != nil {
				looked = time.Time{}
			}
		}
		return time.Time{}, errors.Join(err, s.removeLeft(ctx))
	}
}

// storeFor finds the store that old entries move to; the empty text: there is none.
func (s *Audit) storeFor(ctx context.Context) (string, error) {
	list, err := s.Catalog.Stores(ctx)
	if err != nil {
		return "", err
	}
	want := s.Retention().Store
	for i := range list {
		switch {
		case want == "" && !list[i].Cold(), want == list[i].Name && !list[i].Cold():
			return list[i].Name, nil
		case want == list[i].Name:
			return "", fmt.Errorf("the audit log cannot move to store %s, whose files go cold: name another one with "+
				"audit-store", want)
		}
	}
	if want != "" {
		return "", fmt.Errorf("the audit log cannot move to store %s, which there is not: name another one with "+
			"audit-store", want)
	}
	return "", nil
}

// AuditKept says where the entries of the audit log lie.
type AuditKept struct {
	AuditRetention       // with the store that old entries move to now
	First          int64 // the first entry that there is
	Here           int64 // the first that is in the catalog
	Last           int64
	Segments       []catalog.AuditSegment
}

// Kept says where the entries of the audit log lie, and how long they are kept.
func (s *Audit) Kept(ctx context.Context) (*AuditKept, error) {
	s.moving.RLock()
	defer s.moving.RUnlock()
	out := &AuditKept{AuditRetention: s.Retention(), First: 1, Here: 1}
	if name, err := s.storeFor(ctx); err == nil { // otherwise as it was set
		out.Store = name
	}
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return nil, err
	}
	out.Last = head.Entry
	gone, err := s.Catalog.DestroyedAudit(ctx)
	if err != nil {
		return nil, err
	}
	if gone != nil {
		out.First, out.Here = gone.Last+1, gone.Last+1
	}
	if out.Segments, err = s.Catalog.AuditSegments(ctx); len(out.Segments) > 0 {
		out.Here = out.Segments[len(out.Segments)-1].Last + 1
	}
	return out, err
}

// moveOld moves the entries of months that are older than they stay in the catalog.
func (s *Audit) moveOld(ctx context.Context, now time.Time) error {
	before := catalog.At(period.Cutoff(now, s.Retention().Live, period.Month, time.UTC))
	for ctx.Err() == nil {
		seg, list, err := s.Catalog.OldAudit(ctx, before, auditPiece)
		if err != nil || seg == nil {
			return err
		}
		if seg.Store, err = s.storeFor(ctx); err != nil || seg.Store == "" {
			return err
		}
		file := seg.File()
		if err := s.writeSegment(ctx, seg.Store, file, list, 0); err != nil {
			return fmt.Errorf("entries %d to %d of the audit log cannot be moved to store %s: %w", seg.First, seg.Last,
				seg.Store, err)
		}
		seg.Wrote(file)
		// Whoever reads the log has its entries either here or there. One who reads for long does not keep others
		// waiting: then it is tried again.
		if !s.moving.TryLock() {
			return nil
		}
		moved, err := s.Catalog.MoveAudit(ctx, seg)
		s.moving.Unlock()
		if err != nil {
			return err
		}
		if !moved {
			continue
		}
		s.Log.Info("old entries of the audit log moved", "first", seg.First, "last", seg.Last, "store", seg.Store,
			"file", seg.Stem, "bytes", seg.Written.V.FileBytes)
	}
	return ctx.Err()
}

// writeSegment writes entries under a name that no other file has, the n-th or a later one, and reads them back. What
// an earlier attempt wrote is taken where it is the same.
func (s *Audit) writeSegment(ctx context.Context, name string, file *entries.Segment, list []entries.Entry,
	n int) error {
	st, err := s.Store(ctx, name)
	if err != nil {
		return err
	}
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return err
	}
	for ; ; n++ {
		file.Stem = entries.Stem(head.Log, file, n)
		if err := s.Catalog.LeaveAuditFile(ctx, name, file.Stem); err != nil {
			return err
		}
		err := entries.Write(ctx, st, file, list)
		if err == nil {
			return entries.Verify(ctx, st, file, func(*entries.Entry) {})
		}
		if !errors.Is(err, store.ErrExists) {
			return err
		}
		if err = entries.Found(ctx, st, file, list); !errors.Is(err, archive.ErrDamaged) {
			return err
		}
	}
}

// destroyOld announces which segments are to be destroyed, and destroys those whose time has come. While anything is
// frozen as a whole, nothing is.
func (s *Audit) destroyOld(ctx context.Context, now time.Time) error {
	keep := s.Retention().Keep
	list, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return err
	}
	oldest := true // only from the beginning on: the chain has no gap
	for i := range list {
		seg := &list[i]
		over := !keep.Zero() && seg.Greatest.Before(period.Cutoff(now, keep, period.None, time.UTC))
		switch {
		case over && seg.DueAt == nil:
			due := catalog.At(now.Add(auditNotice))
			err = s.Catalog.AnnounceAudit(ctx, seg, &due)
		case !over && seg.DueAt != nil:
			err = s.Catalog.AnnounceAudit(ctx, seg, nil)
		case over && oldest && !now.Before(seg.DueAt.Time) && !s.frozen():
			if !s.moving.TryLock() { // somebody reads
				return nil
			}
			err = s.Catalog.DestroyAudit(ctx, seg, "kept for "+keep.String()+" (audit-keep), in store "+seg.Store)
			s.moving.Unlock()
			if err == nil {
				continue
			}
		}
		if err != nil {
			return err
		}
		oldest = false
	}
	return nil
}

// removeLeft removes files that nothing refers to any more. What a store keeps longer is tried again.
func (s *Audit) removeLeft(ctx context.Context) error {
	list, err := s.Catalog.AuditLeftovers(ctx)
	for _, f := range list {
		st, one := s.Store(ctx, f.Store)
		if one == nil {
			one = entries.Remove(ctx, st, f.Stem)
		}
		if one == nil || errors.Is(one, fs.ErrNotExist) {
			one = s.Catalog.RemovedAuditFile(ctx, f)
		}
		if one != nil {
			err = errors.Join(err, fmt.Errorf("%s in store %s holds entries of the audit log that are to be gone: %w",
				f.Stem, f.Store, one))
		}
	}
	return err
}

// eraseArchived takes details out of segments. s.work is held.
func (s *Audit) eraseArchived(ctx context.Context) error {
	list, err := s.Catalog.AuditErasures(ctx)
	for i := range list {
		x := &list[i]
		if x.Entry == 0 {
			err = s.seek(ctx, x)
		}
		if err == nil && x.Entry != 0 {
			if err = s.takeOut(ctx, x); err == nil {
				err = s.Catalog.EndAuditErasure(ctx, x.ID)
			}
		}
		if err != nil {
			return fmt.Errorf("details of the audit log cannot be erased: %w", err)
		}
	}
	return err
}

// seek finds the entries that an erasure is about.
func (s *Audit) seek(ctx context.Context, x *catalog.AuditErasure) error {
	ids := []int64{}
	list, err := s.Catalog.AuditSegments(ctx)
	for i := range list {
		if err == nil && list[i].First <= x.Through {
			err = s.search(ctx, &list[i], x.Condition+" AND erased = 0", func(e *entries.Entry) error {
				ids = append(ids, e.ID)
				return nil
			})
		}
	}
	if err != nil {
		return err
	}
	return s.Catalog.SoughtAudit(ctx, x, ids)
}

// takeOut writes the segments anew that hold details of an erasure, without these.
func (s *Audit) takeOut(ctx context.Context, x *catalog.AuditErasure) error {
	list, err := s.Catalog.AuditSegments(ctx)
	for i := range list {
		seg := &list[i]
		if err != nil || !slices.ContainsFunc(x.Entries.V, func(id int64) bool {
			return seg.First <= id && id <= seg.Last
		}) {
			continue
		}
		var st store.Store
		if st, err = s.Store(ctx, seg.Store); err != nil {
			return err
		}
		all, one := entries.Read(ctx, st, seg.File())
		if one != nil {
			return one
		}
		erased, changed := int64(0), false
		for j := range all {
			e := &all[j]
			if slices.Contains(x.Entries.V, e.ID) && e.Erased == 0 {
				e.Salt, e.Text, e.Erased, changed = "", "", x.Entry, true
			}
			if e.Erased != 0 {
				erased++
			}
		}
		if !changed {
			continue
		}
		file := seg.File()
		if err = s.writeSegment(ctx, seg.Store, file, all, 1); err == nil {
			err = s.Catalog.ReplaceAudit(ctx, seg, file, erased)
		}
	}
	return err
}

// search hands on the entries of a segment for which a condition is true.
func (s *Audit) search(ctx context.Context, seg *catalog.AuditSegment, condition string,
	each func(*entries.Entry) error) error {
	last := int64(0)
	read := func(seg *catalog.AuditSegment) error {
		st, err := s.Store(ctx, seg.Store)
		if err != nil {
			return err
		}
		return entries.Search(ctx, st, seg.File(), condition, func(e *entries.Entry) error {
			if e.ID <= last {
				return nil
			}
			last = e.ID
			return each(e)
		})
	}
	err := read(seg)
	if errors.Is(err, fs.ErrNotExist) {
		if now, one := s.replaced(ctx, seg); one != nil {
			err = errors.Join(err, one)
		} else if now != nil {
			err = read(now)
		}
	}
	if err != nil {
		return fmt.Errorf("entries %d to %d of the audit log, in store %s: %w", seg.First, seg.Last, seg.Store, err)
	}
	return nil
}

// replaced looks for the file of a segment where it is not: a detail was erased meanwhile, or was before an older
// catalog was put back, and another file is in its place. Nil: there is none.
func (s *Audit) replaced(ctx context.Context, seg *catalog.AuditSegment) (*catalog.AuditSegment, error) {
	list, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(x catalog.AuditSegment) bool { return x.First == seg.First })
	if i < 0 {
		return nil, nil
	}
	if list[i].Stem != seg.Stem {
		return &list[i], nil
	}
	st, err := s.Store(ctx, seg.Store)
	if err != nil {
		return nil, err
	}
	head, err := s.Catalog.AuditHead(ctx)
	if err != nil {
		return nil, err
	}
	file, err := entries.Later(ctx, st, head.Log, seg.File())
	if err != nil {
		return nil, err
	}
	s.Log.Warn("entries of the audit log are in another file than the catalog knows; an older catalog was put back",
		"first", seg.First, "last", seg.Last, "store", seg.Store, "file", file.Stem)
	if err := s.Catalog.ReplaceAudit(ctx, &list[i], file, seg.Erased); err != nil {
		return nil, err
	}
	return &list[i], nil
}
