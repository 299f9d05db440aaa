package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
)

// storeOf opens the store of a segment: of its records, and of its rows where those lie elsewhere.
func (e *Engine) storeOf(ctx context.Context, s *catalog.Segment) (store.Store, error) {
	records, err := e.Store(ctx, s.Store)
	if err != nil || s.RowsStore == "" {
		return records, err
	}
	rows, err := e.Store(ctx, s.RowsStore)
	if err != nil {
		return nil, err
	}
	return archive.WithRows(records, rows), nil
}

func isCold(err error) bool { return errors.Is(err, store.ErrCold) }

// readableStore opens the store in which the rows of a segment can be read now: its second one where they are cold in the first.
func (e *Engine) readableStore(ctx context.Context, s *catalog.Segment) (store.Store, error) {
	if s.Cold && s.Second != "" {
		return e.Store(ctx, s.Second)
	}
	return e.storeOf(ctx, s)
}

// MoveSegment moves the rows of a closed segment to another store, or back to that in which its records lie; those stay where they
// are. What arrived is read back, row by row, before the catalog says so, and only then do the files that were left go: where a cold
// store is the target, its files are let go cold after that. A move that is interrupted, by whatever, is taken up again.
func (e *Engine) MoveSegment(ctx context.Context, actor, id, to string) (*catalog.Segment, error) {
	if _, busy := e.moving.LoadOrStore(id, true); busy {
		return nil, &refuse.Error{Field: "segment", Message: fmt.Sprintf("the rows of segment %s are being moved just now", id), Remedy: "wait until that is done"}
	}
	defer e.moving.Delete(id)
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	if s.Moving != "" && s.RowsIn() == to && s.Leaving == "" { // they are to stay after all
		if err := e.Catalog.Moving(ctx, id, ""); err != nil {
			return nil, err
		}
		return e.Catalog.Segment(ctx, id)
	}
	if err := e.canMove(ctx, s, to); err != nil {
		var refused *refuse.Error
		if s.Moving == to && errors.As(err, &refused) { // it could be when it was asked for
			err = errors.Join(err, e.Catalog.Moving(ctx, id, ""))
		}
		return nil, err
	}
	if s.Moving != to {
		if err := e.Catalog.Moving(ctx, id, to); err != nil {
			return nil, err
		}
	}
	moved, err := e.move(ctx, actor, s, to)
	switch {
	case moved != nil && err != nil:
		return nil, fmt.Errorf("segment %s: its rows lie in store %s now, and what is left to do is done by itself: %w", id, to, err)
	case err == nil || ctx.Err() != nil:
		return moved, err
	case away(err):
		return nil, fmt.Errorf("segment %s: it is tried again by itself (`ambercellar segment move %s -to %s` leaves its rows where they are): %w", id, id, s.RowsIn(), err)
	case isCold(err):
		err = &refuse.Error{Field: "segment", Message: fmt.Sprintf("the rows of segment %s are in cold storage", id), Remedy: "`ambercellar segment retrieve " + id + "` fetches them; move it while the copy is there"}
	}
	return nil, errors.Join(fmt.Errorf("segment %s: %w", id, err), e.Catalog.Moving(ctx, id, ""))
}

// move returns the segment, even with an error, once the catalog says that its rows are in the other store.
func (e *Engine) move(ctx context.Context, actor string, s *catalog.Segment, to string) (*catalog.Segment, error) {
	defer e.takeInHand(to, s.Stem)()
	s, err := e.copyRows(ctx, s.ID, to)
	if err != nil {
		return nil, err
	}
	from := s.RowsIn()
	if s.RowsStore = to; to == s.Store {
		s.RowsStore = ""
	}
	s.Leaving = from
	if err := e.Catalog.Moved(ctx, actor, s, from); err != nil {
		return nil, err
	}
	if err := e.settleMove(ctx, s.ID); err != nil {
		return s, err
	}
	return e.Catalog.Segment(ctx, s.ID)
}

func (e *Engine) canMove(ctx context.Context, s *catalog.Segment, to string) error {
	target, err := e.Catalog.Store(ctx, to)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("there is no store %s", to), Remedy: "`ambercellar store list` shows which there are"}
	case err != nil:
		return err
	case s.State != catalog.SegmentClosed:
		return &refuse.Error{Field: "segment", Message: fmt.Sprintf("segment %s is %s; only closed segments move", s.ID, s.State), Remedy: "let its run finish first"}
	case s.Damage != "":
		return &refuse.Error{Field: "segment", Message: fmt.Sprintf("segment %s is damaged: %s", s.ID, s.Damage), Remedy: "mend it first (`ambercellar segment verify -all -repair`)"}
	case s.Leaving != "":
		return &refuse.Error{Field: "segment", Message: fmt.Sprintf("segment %s is on its way from store %s already", s.ID, s.Leaving), Remedy: "wait until that is done"}
	case s.RowsIn() == to:
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("the rows of segment %s lie in store %s already", s.ID, to), Remedy: "name another store"}
	case s.Second == to:
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("segment %s has its second copy in store %s", s.ID, to), Remedy: "name another store; two copies in one place are one"}
	case to != s.Store && target.Second != "":
		return &refuse.Error{Field: "to", Message: fmt.Sprintf("store %s has a second store itself (%s)", to, target.Second), Remedy: "name a store that has none"}
	}
	return nil
}

// copyRows copies a segment's files of rows into a store and reads them back there. It looks at the segment while nothing can be
// destroyed, and returns it as it was then.
func (e *Engine) copyRows(ctx context.Context, id, to string) (*catalog.Segment, error) {
	e.reading.RLock()
	defer e.reading.RUnlock()
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := e.canMove(ctx, s, to); err != nil {
		return nil, err
	}
	records, err := e.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	from, err := e.readableStore(ctx, s)
	if err != nil {
		return nil, err
	}
	target, err := e.Store(ctx, to)
	if err != nil {
		return nil, err
	}
	m, _, err := e.load(ctx, records, s)
	if err != nil {
		return nil, err
	}
	for _, file := range m.RowFiles() {
		if err := copyOnce(ctx, archive.RowsOf(from), target, file); err != nil {
			return nil, fmt.Errorf("store %s: %w", to, err)
		}
	}
	arrived := archive.WithRows(records, target)
	if err := errors.Join(archive.Verify(ctx, arrived, m, nil), archive.VerifyBeside(ctx, arrived, m, nil)); err != nil {
		return nil, fmt.Errorf("what arrived, read back: %w", err)
	}
	return s, nil
}

// copyOnce copies a file; one that is there from a copying that was interrupted must be the same.
func copyOnce(ctx context.Context, from, to store.Store, file string) error {
	_, err := archive.CopyFile(ctx, from, to, file)
	if !errors.Is(err, store.ErrExists) {
		return err
	}
	same, err := archive.SameFile(ctx, from, to, file)
	if err == nil && !same {
		err = fmt.Errorf("there is another file %s already, and the archive overwrites nothing", file)
	}
	return err
}

// settleMove does what follows a move: the files that were left are removed, and a cold store's files are let go cold. What is
// removed was found where the rows are said to be, by its SHA-256, under the same lock. It can be done again after it stopped anywhere.
func (e *Engine) settleMove(ctx context.Context, id string) error {
	if err := e.unread(ctx); err != nil {
		return err
	}
	defer e.reading.Unlock()
	s, err := e.Catalog.Segment(ctx, id)
	if err != nil || s.Leaving == "" || s.State != catalog.SegmentClosed {
		return err
	}
	st, err := e.storeOf(ctx, s)
	if err != nil {
		return err
	}
	m, _, err := e.load(ctx, st, s)
	if err != nil {
		return err
	}
	left, err := e.Store(ctx, s.Leaving)
	if err != nil {
		return err
	}
	rows := archive.RowsOf(st)
	if err := heldBy(ctx, rows, m); err != nil {
		return fmt.Errorf("store %s does not hold its rows, so those in store %s stay: %w", s.RowsIn(), s.Leaving, err)
	}
	for _, file := range m.RowFiles() {
		if err := left.Remove(ctx, file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("store %s: %w", s.Leaving, err)
		}
	}
	if err := heldBy(ctx, rows, m); err != nil { // two names for one place, which nothing has told
		return fmt.Errorf("store %s: %w", s.RowsIn(), err)
	}
	cold := store.AsCold(rows)
	if cold != nil {
		for _, file := range m.RowFiles() {
			if err := cold.Cool(ctx, file); err != nil {
				return fmt.Errorf("store %s: %w", s.RowsIn(), err)
			}
		}
	}
	return e.Catalog.Settled(ctx, s.ID, s.Leaving, cold != nil)
}

// heldBy says whether a store holds the files of rows of a segment, by their SHA-256. A file that went cold was read back before that.
func heldBy(ctx context.Context, st store.Store, m *archive.Manifest) error {
	sums := map[string]string{m.RowsName(): m.SHA256}
	for _, b := range m.Beside {
		sums[m.BesideName(b.Join)] = b.SHA256
	}
	for _, file := range m.RowFiles() {
		sum, err := archive.FileSum(ctx, st, file)
		if isCold(err) {
			continue
		}
		if err != nil {
			return err
		}
		if sum != sums[file] {
			return fmt.Errorf("%s: %w: it has the SHA-256 %.12s instead of %.12s", file, archive.ErrDamaged, sum, sums[file])
		}
	}
	return nil
}

// SettleMoves goes on with moves that were interrupted, and moves segments whose time has come by their rule. It returns how many
// it moved; one that cannot be moved does not keep others waiting.
func (e *Engine) SettleMoves(ctx context.Context) (moved int, err error) {
	begun, err := e.Catalog.Unsettled(ctx)
	for i := range begun {
		if one := e.settleMove(ctx, begun[i].ID); one != nil {
			err = errors.Join(err, fmt.Errorf("segment %s: %w", begun[i].ID, one))
		}
	}
	wanted, listing := e.Catalog.Moves(ctx)
	err = errors.Join(err, listing)
	for i := range wanted {
		s := &wanted[i]
		if s.State != catalog.SegmentClosed || s.Disposal != "" {
			err = errors.Join(err, e.Catalog.Moving(ctx, s.ID, ""))
			continue
		}
		if _, busy := e.moving.Load(s.ID); busy { // whoever asked for it is at it
			continue
		}
		if done, one := e.MoveSegment(ctx, "service", s.ID, s.Moving); one != nil {
			err = errors.Join(err, one)
		} else if done.RowsIn() == s.Moving {
			moved++
		}
		if ctx.Err() != nil {
			return moved, ctx.Err()
		}
	}
	due, listing := e.Catalog.ToCool(ctx, e.Now(), 1000)
	err = errors.Join(err, listing)
	for i := range due {
		if ctx.Err() != nil {
			return moved, ctx.Err()
		}
		if _, one := e.MoveSegment(ctx, "service", due[i].ID, due[i].ColdStore); one != nil {
			err = errors.Join(err, one)
			continue
		}
		moved++
	}
	return moved, err
}
