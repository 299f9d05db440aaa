package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"ambercellar/internal/archive/entries"
	"ambercellar/internal/catalog"
)

// Page returns the newest entries of the audit log that are meant, wherever they lie.
func (s *Audit) Page(ctx context.Context, f catalog.AuditFilter, p catalog.Page) (out []catalog.Entry, err error) {
	s.moving.RLock()
	defer s.moving.RUnlock()
	behind, err := catalog.PlaceOfEntry(p)
	if err != nil {
		return nil, err
	}
	segments, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return nil, err
	}
	if n := len(segments); n == 0 || behind == 0 || behind > segments[n-1].Last {
		if out, err = s.Catalog.AuditLog(ctx, f, p); err != nil {
			return nil, err
		}
	}
	hidden, err := s.hidden(ctx)
	for i := len(segments) - 1; i >= 0 && err == nil && (p.Limit < 0 || len(out) < p.Limit); i-- {
		seg := &segments[i]
		if behind > 0 && seg.First >= behind || !f.Within(seg) {
			continue
		}
		condition := f.Condition()
		if behind > 0 {
			condition += fmt.Sprintf(" AND id < %d", behind)
		}
		var some []catalog.Entry
		err = s.search(ctx, seg, condition, func(e *entries.Entry) error {
			some = append(some, hidden.show(e))
			return nil
		})
		slices.Reverse(some)
		out = append(out, some...)
	}
	if err != nil {
		return nil, err
	}
	if p.Limit >= 0 && len(out) > p.Limit {
		out = out[:p.Limit]
	}
	return out, nil
}

// Each hands out the entries that are meant, wherever they lie, the oldest first, a few at a time. Entries that are
// written meanwhile are not among them.
func (s *Audit) Each(ctx context.Context, f catalog.AuditFilter, each func([]catalog.Entry) error) error {
	s.moving.RLock()
	defer s.moving.RUnlock()
	segments, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return err
	}
	hidden, err := s.hidden(ctx)
	if err != nil {
		return err
	}
	for i := range segments {
		if !f.Within(&segments[i]) {
			continue
		}
		var some []catalog.Entry
		if err := s.search(ctx, &segments[i], f.Condition(), func(e *entries.Entry) error {
			some = append(some, hidden.show(e))
			return nil
		}); err != nil {
			return err
		}
		if len(some) > 0 {
			if err := each(some); err != nil {
				return err
			}
		}
	}
	return s.Catalog.EachEntry(ctx, f, each)
}

// Entry returns an entry of the audit log, wherever it lies.
func (s *Audit) Entry(ctx context.Context, id int64) (*catalog.Entry, error) {
	s.moving.RLock()
	defer s.moving.RUnlock()
	list, err := s.archived(ctx, fmt.Sprintf("id = %d", id), id, id)
	if err != nil || len(list) > 0 {
		return &append(list, catalog.Entry{})[0], err
	}
	return s.Catalog.AuditEntry(ctx, id)
}

// About returns the entries about some subjects, wherever they lie, the oldest first, each with the hash of the one
// before it.
func (s *Audit) About(ctx context.Context, subjects []string) (out []catalog.EntryBehind, err error) {
	s.moving.RLock()
	defer s.moving.RUnlock()
	const all = int64(1)<<62 - 1
	list, err := s.archived(ctx, catalog.ArchivedEntries(subjects), 1, all)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		b := catalog.EntryBehind{Entry: e}
		if b.Before, err = s.hashOf(ctx, e.ID-1); err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	rest, err := s.Catalog.EntriesOf(ctx, subjects)
	return append(out, rest...), err
}

// archived returns the entries of segments for which a condition is true, from one to another one.
func (s *Audit) archived(ctx context.Context, condition string, from, to int64) (out []catalog.Entry, err error) {
	segments, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return nil, err
	}
	hidden, err := s.hidden(ctx)
	for i := range segments {
		if err == nil && segments[i].First <= to && from <= segments[i].Last {
			err = s.search(ctx, &segments[i], condition, func(e *entries.Entry) error {
				out = append(out, hidden.show(e))
				return nil
			})
		}
	}
	return out, err
}

// hashOf returns the hash of an entry in a segment, or of what stands before the first of all.
func (s *Audit) hashOf(ctx context.Context, id int64) (string, error) {
	segments, err := s.Catalog.AuditSegments(ctx)
	if err != nil {
		return "", err
	}
	for i := range segments {
		if segments[i].First-1 == id {
			return segments[i].Before, nil
		}
	}
	list, err := s.archived(ctx, fmt.Sprintf("id = %d", id), id, id)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("entry %d of the audit log is not there: check it with `ambercellar audit verify`", id)
	}
	if err != nil {
		return "", err
	}
	return list[0].Hash, nil
}

// hidden are the details that are to be erased and still lie in a segment: they are shown to nobody.
type hidden []func(*entries.Entry) bool

func (s *Audit) hidden(ctx context.Context) (out hidden, err error) {
	list, err := s.Catalog.AuditErasures(ctx)
	for _, x := range list {
		if x.Entry != 0 {
			out = append(out, func(e *entries.Entry) bool { return slices.Contains(x.Entries.V, e.ID) })
			continue
		}
		matching, one := entries.Matching(x.Condition)
		if one != nil {
			return nil, one
		}
		out = append(out, func(e *entries.Entry) bool { return e.ID <= x.Through && matching(e) })
	}
	return out, err
}

// show shows an entry of a segment.
func (h hidden) show(e *entries.Entry) catalog.Entry {
	out := catalog.ArchivedEntry(e)
	for _, is := range h {
		if is(e) {
			out.Detail, out.Erased = "", true
		}
	}
	return out
}

// readSegment reads the entries of a segment, for checking them.
func (s *Audit) readSegment(ctx context.Context, seg *catalog.AuditSegment) ([]entries.Entry, error) {
	st, err := s.Store(ctx, seg.Store)
	if err != nil {
		return nil, err
	}
	list, err := entries.Read(ctx, st, seg.File())
	if errors.Is(err, fs.ErrNotExist) {
		if now, one := s.replaced(ctx, seg); one == nil && now != nil {
			return entries.Read(ctx, st, now.File())
		}
	}
	return list, err
}
