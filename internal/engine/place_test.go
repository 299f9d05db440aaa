package engine

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/upkeep"
)

// newVault is a bench with a second store to which segments can move.
func newVault(t *testing.T) (*bench, *store.Directory) {
	t.Helper()
	b := newBench(t, "wal")
	vault, err := store.MakeDirectory(filepath.Join(t.TempDir(), "vault"))
	if err == nil {
		err = b.Catalog.AddStore(t.Context(), "me", catalog.Store{Name: "vault", Path: "y"})
	}
	if err != nil {
		t.Fatal(err)
	}
	cellar := b.Store
	b.Store = func(ctx context.Context, name string) (store.Store, error) {
		if name == "vault" {
			return vault, nil
		}
		return cellar(ctx, name)
	}
	return b, vault
}

// moveSegment asks for the move of a segment's rows, and carries it out.
func (b *bench) moveSegment(t *testing.T, id, to string) (*catalog.Segment, error) {
	t.Helper()
	if s, err := b.Upkeep.RequestMove(t.Context(), "me", id, to); err != nil || s.Moving == "" {
		return s, err
	}
	return b.Upkeep.Move(t.Context(), id)
}

// finishMoves carries out what is left of moves.
func (b *bench) finishMoves(t *testing.T) error {
	t.Helper()
	err := b.Upkeep.FinishMoves(t.Context())
	list, listing := b.Upkeep.ToMove(t.Context(), 1000)
	for i := range list {
		_, one := b.Upkeep.Move(t.Context(), list[i].ID)
		err = errors.Join(err, one)
	}
	return errors.Join(err, listing)
}

// copySeconds makes the second copies that are wanted.
func (b *bench) copySeconds(t *testing.T) (n int, err error) {
	t.Helper()
	list, err := b.Catalog.WithoutSecond(t.Context(), 1000)
	for i := range list {
		if err == nil {
			n, err = n+1, b.Upkeep.CopySecond(t.Context(), list[i].ID)
		}
	}
	return n, err
}

// TestAMoveGoesOnWhereItStopped: wherever a store fails on the way, the rows of a segment are always to be read, are
// in one store in the end, and nothing is left in the other.
func TestAMoveGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	steps := 0
	for n := 0; ; n++ {
		b, vault := newVault(t)
		b.finish(t, plan.PlanRequest{})
		list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
		if err != nil || len(list) != 1 {
			t.Fatal(len(list), err)
		}
		s := &list[0]
		all := b.archivedRows(t, "")
		whole := b.Store
		left := n
		b.Store = func(ctx context.Context, name string) (store.Store, error) {
			st, err := whole(ctx, name)
			if err != nil {
				return nil, err
			}
			return &stumblingBoth{stumbling{Store: st}, &left}, nil
		}
		_, err = b.moveSegment(t, s.ID, "vault")
		b.Store = whole
		if got := b.archivedRows(t, ""); got != all {
			t.Fatalf("step %d: %d of %d rows can be read", n, got, all)
		}
		moved := err == nil
		if !moved {
			steps++
			if err := b.finishMoves(t); err != nil {
				t.Fatalf("step %d, settling: %v", n, err)
			}
			if s, err = b.Catalog.Segment(t.Context(), s.ID); err != nil {
				t.Fatal(err)
			}
			if s.RowsStore != "vault" || s.Moving != "" {
				t.Fatalf("step %d: its rows lie in %q and are to move to %q", n, s.RowsStore, s.Moving)
			}
		}
		m := archive.ManifestAt(s.Stem)
		if f, err := b.store.Directory.Open(t.Context(), m.RowsName()); !errors.Is(err, fs.ErrNotExist) {
			f.Close()
			t.Fatalf("step %d: the rows were left: %v", n, err)
		}
		if f, err := vault.Open(t.Context(), m.RowsName()); err != nil {
			t.Fatalf("step %d: the rows did not arrive: %v", n, err)
		} else {
			f.Close()
		}
		v, err := b.Upkeep.RequestVerification(t.Context(), "me", upkeep.VerificationRequest{}, nil)
		if err == nil {
			err = b.Upkeep.Verify(t.Context(), v, 0)
		}
		if err != nil || v.Wrong != 0 || v.Segments != 1 {
			t.Fatalf("step %d: %+v, %v", n, v, err)
		}
		if moved {
			break
		}
	}
	if steps < 6 {
		t.Errorf("only %d steps", steps)
	}
	// It goes back, and what cannot be done is refused.
	b, _ := newVault(t)
	b.finish(t, plan.PlanRequest{})
	list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
	if err != nil {
		t.Fatal(err)
	}
	for _, to := range []string{"vault", "cellar"} {
		if s, err := b.moveSegment(t, list[0].ID, to); err != nil || s.RowsIn() != to {
			t.Fatalf("%+v, %v", s, err)
		}
	}
	for to, want := range map[string]string{"cellar": "already", "attic": "there is no store attic"} {
		if _, err := b.moveSegment(t, list[0].ID, to); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("to %s: %v", to, err)
		}
	}
}

// stumblingBoth is one of several stores that fail together.
type stumblingBoth struct {
	stumbling
	shared *int
}

func (s *stumblingBoth) step() error {
	s.left = *s.shared
	*s.shared--
	return s.stumbling.step()
}

func (s *stumblingBoth) Create(ctx context.Context, name string) (store.File, error) {
	if err := s.step(); err != nil {
		return nil, err
	}
	return s.Store.Create(ctx, name)
}

func (s *stumblingBoth) Open(ctx context.Context, name string) (store.Reader, error) {
	if err := s.step(); err != nil {
		return nil, err
	}
	return s.Store.Open(ctx, name)
}

func (s *stumblingBoth) Remove(ctx context.Context, name string) error {
	if err := s.step(); err != nil {
		return err
	}
	return s.Store.Remove(ctx, name)
}
