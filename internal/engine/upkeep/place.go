package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/engine/tables"
)

// ByService is who asks for what nobody did: moves to cold stores that rules ask for, and second copies.
const ByService = "service"

// RequestMove keeps that the rows of a closed segment are to be moved to another store, or back to that in which its
// records lie; those stay where they are. A segment that is told to go where its rows lie already is not moved any
// more.
func (kp *Keeper) RequestMove(ctx context.Context, actor, id, to string) (*catalog.Segment, error) {
	s, err := kp.Catalog.Segment(ctx, id)
	switch {
	case err != nil || s.Moving == to && to != "":
		return s, err
	case s.Moving != "" && s.RowsIn() == to && s.Leaving == "": // they are to stay after all
		return kp.StayPut(ctx, id)
	}
	if _, busy := kp.moving.LoadOrStore(id, true); busy {
		return nil, &refuse.Error{Field: "segment",
			Message: fmt.Sprintf("the rows of segment %s are being moved just now", id),
			Remedy:  "wait until that is done, or cancel it (`ambercellar queue cancel move " + id + "`)"}
	}
	defer kp.moving.Delete(id)
	if err := kp.canMove(ctx, s, to); err != nil {
		return nil, err
	}
	if err := kp.Catalog.Moving(ctx, actor, id, to); err != nil {
		return nil, err
	}
	if s.Moving != "" { // elsewhere, before
		kp.discard(ctx, id, s.Moving)
	}
	return kp.Catalog.Segment(ctx, id)
}

// StayPut keeps that the rows of a segment are not to be moved any more. One that its rule sends to a cold store stays
// where it is until somebody moves it.
func (kp *Keeper) StayPut(ctx context.Context, id string) (*catalog.Segment, error) {
	s, err := kp.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	if s.Moving == "" {
		return s, nil
	}
	// where it is to go elsewhere meanwhile, whoever asked for that is heard
	if err := kp.Catalog.NotMoving(ctx, id, s.Moving, s.MovingBy == ByService); err != nil &&
		!errors.Is(err, catalog.ErrState) {
		return nil, err
	}
	kp.discard(ctx, id, s.Moving)
	return kp.Catalog.Segment(ctx, id)
}

// discard removes what a move that is not wanted any more had copied into a store. Where that fails, a verification of
// the store tells what is left.
func (kp *Keeper) discard(ctx context.Context, id, from string) {
	if err := kp.discarding(ctx, id, from); err != nil {
		kp.Log.Warn("what a move had copied is left", "segment", id, "store", from, "error", err)
	}
}

func (kp *Keeper) discarding(ctx context.Context, id, from string) error {
	if err := kp.shelf.Exclude(ctx); err != nil {
		return err
	}
	defer kp.shelf.Reading.Unlock()
	s, err := kp.Catalog.Segment(ctx, id)
	if err != nil || s.State != catalog.SegmentClosed || s.RowsIn() == from || s.Second == from ||
		s.Leaving == from || s.Moving == from {
		return err
	}
	_, _, err = kp.removeRows(ctx, s, from)
	return err
}

// removeRows removes the files of a segment's rows from a store that is not theirs, and returns their own store and
// their manifest. What is removed was found where the rows are said to be, by its SHA-256; the caller sees to it that
// nothing changes meanwhile.
func (kp *Keeper) removeRows(ctx context.Context, s *catalog.Segment, from string) (store.Store, *archive.Manifest,
	error) {
	st, err := kp.shelf.StoreOf(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	m, _, err := kp.shelf.Load(ctx, st, s)
	if err != nil {
		return nil, nil, err
	}
	left, err := kp.Store(ctx, from)
	if err != nil {
		return nil, nil, err
	}
	rows := archive.RowsOf(st)
	if err := shelf.HeldBy(ctx, rows, m); err != nil {
		return nil, nil, fmt.Errorf("store %s does not hold its rows, so those in store %s stay: %w", s.RowsIn(), from,
			err)
	}
	for _, file := range m.RowFiles() {
		if err := left.Remove(ctx, file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, nil, fmt.Errorf("store %s: %w", from, err)
		}
	}
	if err := shelf.HeldBy(ctx, rows, m); err != nil { // two names for one place, which nothing has told
		return nil, nil, fmt.Errorf("store %s: %w", s.RowsIn(), err)
	}
	return rows, m, nil
}

// AgainError is why a move failed that is tried again by itself.
type AgainError struct {
	Segment string
	From    string // the store in which its rows lie
	Err     error
}

func (e *AgainError) Error() string {
	return fmt.Sprintf("segment %s: it is tried again by itself (`ambercellar segment move %[1]s -to %s` leaves its "+
		"rows where they are): %v", e.Segment, e.From, e.Err)
}

func (e *AgainError) Unwrap() error { return e.Err }

// Move moves the rows of a segment that are to be moved. What arrived is read back, row by row, before the catalog
// says so, and only then do the files that were left go: where a cold store is the target, its files are let go cold
// after that. After an error, what the segment says tells whether the rows are to be moved still.
func (kp *Keeper) Move(ctx context.Context, id string) (moved *catalog.Segment, err error) {
	if _, busy := kp.moving.LoadOrStore(id, true); busy {
		return nil, fmt.Errorf("the rows of segment %s are being moved just now: %w", id, catalog.ErrState)
	}
	defer kp.moving.Delete(id)
	s, err := kp.Catalog.Segment(ctx, id)
	if err != nil || s.Moving == "" {
		return s, err
	}
	if s.State != catalog.SegmentClosed || s.Disposal != "" { // it was destroyed, or is being
		return s, kp.Catalog.NotMoving(ctx, id, s.Moving, false)
	}
	to := s.Moving
	defer func() {
		ctx := context.WithoutCancel(ctx)
		if now, one := kp.Catalog.Segment(ctx, id); err != nil && one == nil && now.Moving != to {
			kp.discard(ctx, id, to) // it is not to go there any more
		}
	}()
	giveUp := func(err error) error { // what its rule wants is wanted still
		if s.MovingBy == ByService {
			return err
		}
		if told := kp.Catalog.NotMoving(ctx, id, to, false); !errors.Is(told, catalog.ErrState) {
			err = errors.Join(err, told)
		}
		return err
	}
	if err := kp.canMove(ctx, s, to); err != nil {
		var refused *refuse.Error
		if errors.As(err, &refused) { // it could be when it was asked for
			err = giveUp(err)
		}
		return nil, err
	}
	moved, err = kp.move(ctx, s.MovingBy, s, to)
	switch {
	case moved != nil && err != nil:
		return nil, fmt.Errorf("segment %s: its rows lie in store %s now, and what is left to do is done by "+
			"itself: %w", id, to, err)
	case err == nil || ctx.Err() != nil:
		return moved, err
	case tables.Away(err):
		return nil, &AgainError{id, s.RowsIn(), err}
	case shelf.IsCold(err):
		err = &refuse.Error{Field: "segment", Message: fmt.Sprintf("the rows of segment %s are in cold storage", id),
			Remedy: "`ambercellar segment retrieve " + id + "` fetches them; move it while the copy is there"}
	}
	return nil, giveUp(fmt.Errorf("segment %s: %w", id, err))
}

// move returns the segment, even with an error, once the catalog says that its rows are in the other store.
func (kp *Keeper) move(ctx context.Context, actor string, s *catalog.Segment, to string) (*catalog.Segment, error) {
	defer kp.tables.TakeInHand(to, s.Stem)()
	s, err := kp.copyRows(ctx, s.ID, to)
	if err != nil {
		return nil, err
	}
	from := s.RowsIn()
	if s.RowsStore = to; to == s.Store {
		s.RowsStore = ""
	}
	s.Leaving = from
	if err := kp.Catalog.Moved(ctx, actor, s, from); err != nil {
		return nil, err
	}
	if err := kp.finishMove(ctx, s.ID); err != nil {
		return s, err
	}
	return kp.Catalog.Segment(ctx, s.ID)
}

func (kp *Keeper) canMove(ctx context.Context, s *catalog.Segment, to string) error {
	target, err := kp.Catalog.Store(ctx, to)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("there is no store %s", to),
			Remedy: "`ambercellar store list` shows which there are"}
	case err != nil:
		return err
	case s.State != catalog.SegmentClosed:
		return &refuse.Error{Field: "segment", Message: fmt.Sprintf("segment %s is %s; only closed segments move",
			s.ID, s.State), Remedy: "let its run finish first"}
	case s.Damage != "":
		return &refuse.Error{Field: "segment", Message: fmt.Sprintf("segment %s is damaged: %s", s.ID, s.Damage),
			Remedy: "mend it first (`ambercellar segment verify -all -repair`)"}
	case s.Leaving != "":
		return &refuse.Error{Field: "segment", Message: fmt.Sprintf("segment %s is on its way from store %s already",
			s.ID, s.Leaving), Remedy: "wait until that is done"}
	case s.RowsIn() == to:
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("the rows of segment %s lie in store %s already", s.ID,
			to), Remedy: "name another store"}
	case s.Second == to:
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("segment %s has its second copy in store %s", s.ID, to),
			Remedy: "name another store; two copies in one place are one"}
	case to != s.Store && target.Second != "":
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("store %s has a second store itself (%s)", to,
			target.Second), Remedy: "name a store that has none"}
	}
	return nil
}

// copyRows copies a segment's files of rows into a store and reads them back there. It looks at the segment while
// nothing can be destroyed, and returns it as it was then.
func (kp *Keeper) copyRows(ctx context.Context, id, to string) (*catalog.Segment, error) {
	kp.shelf.Reading.RLock()
	defer kp.shelf.Reading.RUnlock()
	s, err := kp.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := kp.canMove(ctx, s, to); err != nil {
		return nil, err
	}
	records, err := kp.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	from, err := kp.shelf.ReadableStore(ctx, s)
	if err != nil {
		return nil, err
	}
	target, err := kp.Store(ctx, to)
	if err != nil {
		return nil, err
	}
	m, _, err := kp.shelf.Load(ctx, records, s)
	if err != nil {
		return nil, err
	}
	for _, file := range m.RowFiles() {
		if err := shelf.CopyOnce(ctx, archive.RowsOf(from), target, file); err != nil {
			return nil, fmt.Errorf("store %s: %w", to, err)
		}
	}
	arrived := archive.WithRows(records, target)
	if err := errors.Join(archive.Verify(ctx, arrived, m, nil),
		archive.VerifyBeside(ctx, arrived, m, nil)); err != nil {
		return nil, fmt.Errorf("what arrived, read back: %w", err)
	}
	return s, nil
}

// finishMove does what follows a move: the files that were left are removed, and a cold store's files are let go cold.
// It can be done again after it stopped anywhere.
func (kp *Keeper) finishMove(ctx context.Context, id string) error {
	if err := kp.shelf.Exclude(ctx); err != nil {
		return err
	}
	defer kp.shelf.Reading.Unlock()
	s, err := kp.Catalog.Segment(ctx, id)
	if err != nil || s.Leaving == "" || s.State != catalog.SegmentClosed {
		return err
	}
	rows, m, err := kp.removeRows(ctx, s, s.Leaving)
	if err != nil {
		return err
	}
	cold := store.AsCold(rows)
	if cold != nil {
		for _, file := range m.RowFiles() {
			if err := cold.Cool(ctx, file); err != nil {
				return fmt.Errorf("store %s: %w", s.RowsIn(), err)
			}
		}
	}
	return kp.Catalog.MoveFinished(ctx, s.ID, s.Leaving, cold != nil)
}

// FinishMoves does what follows moves that were interrupted after the rows had arrived. One that cannot be finished
// keeps no others waiting.
func (kp *Keeper) FinishMoves(ctx context.Context) error {
	begun, err := kp.Catalog.Unfinished(ctx)
	for i := range begun {
		if one := kp.finishMove(ctx, begun[i].ID); one != nil {
			err = errors.Join(err, fmt.Errorf("segment %s: %w", begun[i].ID, one))
		}
	}
	return err
}

// ToMove lists the segments whose rows are to be moved: those that somebody asked for and those whose time to go to a
// cold store has come by their rule, at most so many of these. One that cannot be moved keeps no others waiting.
func (kp *Keeper) ToMove(ctx context.Context, limit int) ([]catalog.Segment, error) {
	wanted, err := kp.Catalog.Moves(ctx)
	if err != nil || len(wanted) >= limit {
		return wanted, err
	}
	due, err := kp.Catalog.ToCool(ctx, kp.Now(), limit-len(wanted))
	for i := range due {
		s, one := kp.RequestMove(ctx, ByService, due[i].ID, due[i].ColdStore)
		if one != nil {
			err = errors.Join(err, one)
			continue
		}
		wanted = append(wanted, *s)
	}
	return wanted, err
}
