package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/refuse"
)

// forgetEvery is how often it is looked whether the time of records of the service's own is over. They go in steps of
// so many, with a rest after each, so that nobody waits for the catalog.
const (
	forgetEvery = time.Hour
	forgetStep  = 2000
	forgetRest  = 50 * time.Millisecond
)

// forgetting returns what removes records of the service's own whose time is over.
func (s *Chores) forgetting() chore {
	var next time.Time
	return func(ctx context.Context) (time.Time, error) {
		if s.Now().Before(next) {
			return next, nil
		}
		next = s.Now().Add(forgetEvery)
		gone, err := s.Forget(ctx)
		for _, kind := range slices.Sorted(maps.Keys(gone)) {
			s.Log.Info("records whose time is over are removed", "kind", kind, "records", gone[kind])
			err = errors.Join(err, s.Catalog.Note(ctx, "service", "catalog forget", kind,
				fmt.Sprintf("%d records whose time was over", gone[kind])))
		}
		return next, err
	}
}

// Forget removes the records of the service's own whose time is over, and returns how many of each kind went.
func (s *Chores) Forget(ctx context.Context) (map[string]int64, error) {
	gone := map[string]int64{}
	err := s.Catalog.EndOldSessions(ctx, s.Now())
	keeps, listing := s.Catalog.RecordKeeps(ctx)
	if err = errors.Join(err, listing); err != nil {
		return gone, err
	}
	for _, kind := range slices.Sorted(maps.Keys(keeps)) {
		if keeps[kind] == "" {
			continue
		}
		p, one := period.Parse(keeps[kind])
		if one != nil {
			err = errors.Join(err, fmt.Errorf("keep of %s: %w", kind, one))
			continue
		}
		before := p.Before(s.Now(), time.UTC)
		beyond, one := s.Catalog.Beyond(ctx, kind)
		if one != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", kind, one))
		}
		if day := s.Now().Add(-24 * time.Hour); beyond.After(before) && beyond.Before(day) {
			before = beyond
		}
		for {
			n, one := s.Catalog.Forget(ctx, kind, before, forgetStep)
			if one != nil {
				err = errors.Join(err, fmt.Errorf("%s: %w", kind, one))
			}
			if n > 0 {
				gone[kind] += n
			}
			if n == 0 || one != nil {
				break
			}
			select {
			case <-ctx.Done():
				return gone, ctx.Err()
			case <-time.After(forgetRest):
			}
		}
	}
	return gone, err
}

// SetRecordKeeps changes how long records of the service's own are kept.
func (s *Chores) SetRecordKeeps(ctx context.Context, actor string, change catalog.RecordKeeps) (catalog.RecordKeeps,
	error) {
	for kind := range change {
		usual, err := change.Check(kind)
		if err != nil {
			return nil, &refuse.Error{Field: kind, Message: err.Error(),
				Remedy: "write a period of a day or more, like P90D, or forever"}
		}
		change[kind] = usual
	}
	return s.Catalog.SetRecordKeeps(ctx, actor, change)
}
