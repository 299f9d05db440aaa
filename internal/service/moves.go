package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/upkeep"
)

// mostMoves is how many moves and how many second copies stand in the queue; more follow as these end.
const mostMoves = 1000

// moveWait is how long somebody who asks for a move waits for its end.
const moveWait = 20 * time.Second

// Move moves the rows of a segment to another store, or back to that of its records, when their turn comes. It waits
// for that for a while: the segment that it returns says whether its rows are still to be moved.
func (s *Queue) Move(ctx context.Context, actor, id, to string) (*catalog.Segment, error) {
	segment, err := s.Engine.Upkeep.RequestMove(ctx, actor, id, to)
	if err != nil || segment.Moving == "" {
		return segment, err
	}
	j, tried := s.move(segment)
	if s.jobs.hurry(j) {
		select {
		case <-tried:
			err = s.jobs.failure(j)
		case <-time.After(moveWait):
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-s.ctx.Done():
		}
	}
	if err != nil {
		return nil, err
	}
	return s.Catalog.Segment(ctx, id)
}

// move puts the move of a segment's rows into the queue.
func (s *Queue) move(segment *catalog.Segment) (*job, <-chan struct{}) {
	id := segment.ID
	o := JobOrder{Source: segment.Source, Table: segment.Table, By: segment.MovingBy,
		What: fmt.Sprintf("move from store %s to store %s", segment.RowsIn(), segment.Moving)}
	if segment.MovingAt != nil {
		o.Asked = segment.MovingAt.Time
	}
	return s.jobs.enter(s.ctx, catalog.JobMove, id, o, jobWork{
		do: func(ctx context.Context) error {
			_, err := s.Engine.Upkeep.Move(ctx, id)
			return err
		},
		end: func(string) error {
			_, err := s.Engine.Upkeep.StayPut(context.Background(), id)
			return err
		},
		again: func(ctx context.Context) bool {
			now, err := s.Catalog.Segment(ctx, id)
			return err != nil || now.Moving != ""
		},
	})
}

// hurry ends the rest of a job that failed. It says whether there is anything to wait for.
func (s *Jobs) hurry(j *job) bool {
	s.mu.Lock()
	j.until = time.Time{}
	waits := j.PausedAt == nil
	s.mu.Unlock()
	s.dispatch()
	return waits
}

// failure is why the last try of a job failed; nil: it did not.
func (s *Jobs) failure(j *job) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return j.failed
}

// moving puts the moves that somebody or a rule wants into the queue, and finishes those that were interrupted after
// the rows had arrived.
func (s *Chores) moving(ctx context.Context) (time.Time, error) {
	err := s.Engine.Upkeep.FinishMoves(ctx)
	wanted, listing := s.Engine.Upkeep.ToMove(ctx, mostMoves)
	for i := range wanted {
		s.queue.move(&wanted[i])
	}
	return time.Time{}, errors.Join(err, listing)
}

// copying puts the second copies that are wanted into the queue.
func (s *Chores) copying(ctx context.Context) (time.Time, error) {
	lacking, err := s.Catalog.WithoutSecond(ctx, mostMoves)
	for i := range lacking {
		x := &lacking[i]
		o := JobOrder{Source: x.Source, Table: x.Table, By: upkeep.ByService, Asked: x.CreatedAt.Time,
			What: "second copy, from store " + x.Store}
		if x.ClosedAt != nil {
			o.Asked = x.ClosedAt.Time
		}
		s.queue.jobs.enter(ctx, catalog.JobCopy, x.ID, o, jobWork{
			do:    func(ctx context.Context) error { return s.Engine.Upkeep.CopySecond(ctx, x.ID) },
			again: func(context.Context) bool { return true },
		})
	}
	return time.Time{}, err
}
