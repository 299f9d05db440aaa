package service

import (
	"context"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/upkeep"
)

const (
	// quietWithin is how long work of the service's own that need not happen beside a workload waits for a quiet hour:
	// a night lies within it.
	quietWithin = 12 * time.Hour
	// besideEvery is how often such work does one step all the same where it has begun, and quietLook how often it
	// looks whether it has become quiet.
	besideEvery, quietLook = time.Minute, time.Second
)

// unquiet says why a job waits for a quiet hour; empty: it need not. Second copies and moves that nobody asked for wait
// while a run sees others at work in its source, since the service, its stores and the database may share processors,
// disks or a network. Whoever wants one now gives it a priority.
func (s *Jobs) unquiet(j *job) string {
	until := j.Asked.Add(quietWithin)
	if j.By != upkeep.ByService || j.Kind != catalog.JobCopy && j.Kind != catalog.JobMove || j.Priority > 0 ||
		!s.Now().Before(until) {
		return ""
	}
	who := s.Watch.Others()
	if who == "" {
		return ""
	}
	return who + "; it waits for a quiet hour, until " + until.UTC().Format("2006-01-02 15:04 MST") + " at the latest"
}

// slowly lets a verification that nobody asked for go on with its next segment: at once in a quiet hour, and within
// besideEvery while a run sees others at work.
func (s *Jobs) slowly(ctx context.Context) error {
	for begun := time.Now(); s.Watch.Others() != "" && time.Since(begun) < besideEvery; {
		select {
		case <-time.After(quietLook):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return nil
}
