package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/tables"
)

// RequestRestore keeps a restore and carries it out in the background.
func (s *Queue) RequestRestore(ctx context.Context, actor string, q restore.RestoreRequest) (*catalog.Restore, error) {
	if notify.IsURL(q.Tell) {
		if err := s.notifier.mayTell(q.Tell); err != nil {
			return nil, err
		}
	}
	r, err := s.Engine.Restores.Request(ctx, actor, q)
	return s.carriedOut(r, err)
}

// carriedOut puts a restore into the queue that is to be carried out, and returns it as it is now.
func (s *Queue) carriedOut(r *catalog.Restore, err error) (*catalog.Restore, error) {
	if err != nil {
		return nil, err
	}
	copied := *r
	if r.State == catalog.Restoring {
		s.restore(r)
	}
	return &copied, nil
}

// waitPatience is how long a restore or a disposal waits for what does not answer before it fails. It can be asked for
// again: what was done stays.
const waitPatience = 10 * time.Minute

// patiently carries something out again and again while what it needs does not answer. It returns engine.Waiting where
// that took too long.
func (s *Queue) patiently(ctx context.Context, kind catalog.JobKind, id string, do func() error) error {
	var waiting *tables.Waiting
	for wait, begun := firstLook, time.Now(); ; wait = min(2*wait, longestLook) {
		err := do()
		away := errors.As(err, &waiting) && time.Since(begun) <= waitPatience
		s.jobs.lend(kind, id, away)
		if !away {
			return err
		}
		select {
		case <-ctx.Done():
			return refuse.ErrShutdown
		case <-time.After(wait):
		}
	}
}

// restore puts a restore into the queue. One that the end of the service interrupts is taken up at its next start.
func (s *Queue) restore(r *catalog.Restore) {
	kind, what, id := catalog.JobRestore, "restore to "+r.Target, r.ID
	if r.Target == catalog.TargetFile {
		kind, what = catalog.JobExport, "export as "+r.Format
	}
	s.jobs.enter(s.ctx, kind, id, JobOrder{Source: r.Source, Table: r.Table, What: what, By: r.CreatedBy,
		Asked: r.CreatedAt.Time},
		jobWork{do: func(ctx context.Context) error { return s.carryOutRestore(ctx, kind, id) },
			end: func(reason string) error {
				r, err := s.Catalog.Restore(context.Background(), id)
				if err != nil {
					return err
				}
				now := catalog.At(s.Now())
				r.State, r.EndedAt, r.Lasts, r.ExpiresAt = catalog.RestoreFailed, &now, "", nil
				r.Reason = reason + "; what was put back stays, and a new request skips it"
				if kind == catalog.JobExport {
					r.Reason = reason
					err = os.Remove(filepath.Join(s.restoreDirectory(), restore.ExportedFile(r)))
					if r.File = ""; errors.Is(err, os.ErrNotExist) {
						err = nil
					}
				}
				return errors.Join(err, s.Catalog.SaveRestore(context.Background(), r))
			}})
}

func (s *Queue) carryOutRestore(ctx context.Context, kind catalog.JobKind, id string) error {
	r, err := insisted(ctx, s, "restore", s.Catalog.Restore, id)
	if err != nil {
		return err
	}
	if r.State != catalog.Restoring {
		return nil
	}
	err = s.patiently(ctx, kind, id, func() error { return s.Engine.Restores.Restore(ctx, r, s.restoreDirectory()) })
	var waiting *tables.Waiting
	if errors.As(err, &waiting) {
		now := catalog.At(s.Now())
		r.State, r.EndedAt, r.Lasts, r.ExpiresAt = catalog.RestoreFailed, &now, "", nil
		r.Reason = fmt.Sprintf("it has waited for %s; what was put back stays, and a new request skips it: %s",
			waitPatience, waiting.Reason)
	}
	switch {
	case errors.Is(err, refuse.ErrShutdown):
		s.Log.Info("restore rests", "restore", r.ID, "reason", context.Cause(ctx))
	case err != nil:
		s.Log.Error("restore failed", "restore", r.ID, "error", err)
		// it was tried once
		s.insist("restore "+r.ID, func() error { return s.Catalog.SaveRestore(context.Background(), r) })
	default:
		s.Log.Info("restore done", "restore", r.ID, "restored", r.Restored, "skipped", r.Skipped)
	}
	return err
}

// goOnRetrieved carries out restores whose rows have arrived from cold storage.
func (s *Queue) goOnRetrieved(ctx context.Context) error {
	list, err := s.Catalog.RestoresIn(ctx, catalog.Retrieving)
	for i := range list {
		r := &list[i]
		wait, one := s.Engine.Restores.StillCold(ctx, r)
		if one == nil && wait != "" {
			if wait == r.Reason {
				continue
			}
			r.Reason = wait
		} else if one != nil {
			now := catalog.At(s.Now())
			r.State, r.Reason, r.EndedAt = catalog.RestoreFailed, one.Error(), &now
		} else {
			r.State, r.Reason = catalog.Restoring, ""
		}
		if one := s.Catalog.SaveRestore(ctx, r); one != nil {
			err = errors.Join(err, one)
		} else if r.State == catalog.Restoring {
			s.restore(r)
		}
	}
	return err
}

func (s *Queue) restoreDirectory() string { return filepath.Join(s.dir, "restores") }

// ReplacedFile returns the path of the file with the rows that a restore replaced.
func (s *Queue) ReplacedFile(ctx context.Context, id string) (string, error) {
	r, err := s.Catalog.Restore(ctx, id)
	if err != nil {
		return "", err
	}
	path := filepath.Join(s.restoreDirectory(), restore.ReplacedFile(r.ID))
	if _, err := os.Stat(path); err != nil {
		return "", fmt.Errorf("restore %s replaced no row: %w", id, catalog.ErrState)
	}
	return path, nil
}

// RestoreFile returns the path of a restore's file.
func (s *Queue) RestoreFile(ctx context.Context, id string) (string, *catalog.Restore, error) {
	r, err := s.Catalog.Restore(ctx, id)
	if err != nil {
		return "", nil, err
	}
	if r.State != catalog.RestoreDone && r.State != catalog.RestoreExpired || r.File == "" {
		return "", nil, fmt.Errorf("restore %s (to %s) is %s and has no file: %w", id, r.Target, r.State,
			catalog.ErrState)
	}
	return filepath.Join(s.restoreDirectory(), r.File), r, nil
}
