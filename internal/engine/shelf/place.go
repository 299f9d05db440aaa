package shelf

import (
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
)

// StoreOf opens the store of a segment: of its records, and of its rows where those lie elsewhere.
func (sh *Shelf) StoreOf(ctx context.Context, s *catalog.Segment) (store.Store, error) {
	records, err := sh.Store(ctx, s.Store)
	if err != nil || s.RowsStore == "" {
		return records, err
	}
	rows, err := sh.Store(ctx, s.RowsStore)
	if err != nil {
		return nil, err
	}
	return archive.WithRows(records, rows), nil
}

func IsCold(err error) bool { return errors.Is(err, store.ErrCold) }

// ReadableStore opens the store in which the rows of a segment can be read now: its second one where they are cold in the first.
func (sh *Shelf) ReadableStore(ctx context.Context, s *catalog.Segment) (store.Store, error) {
	if s.Cold && s.Second != "" {
		return sh.Store(ctx, s.Second)
	}
	return sh.StoreOf(ctx, s)
}

// CopyOnce copies a file; one that is there from a copying that was interrupted must be the same.
func CopyOnce(ctx context.Context, from, to store.Store, file string) error {
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

// HeldBy says whether a store holds the files of rows of a segment, by their SHA-256. A file that went cold was read back before that.
func HeldBy(ctx context.Context, st store.Store, m *archive.Manifest) error {
	sums := map[string]string{m.RowsName(): m.SHA256}
	for _, b := range m.Beside {
		sums[m.BesideName(b.Join)] = b.SHA256
	}
	for _, file := range m.RowFiles() {
		sum, err := archive.FileSum(ctx, st, file)
		if IsCold(err) {
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
