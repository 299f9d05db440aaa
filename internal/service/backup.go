package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/oklog/ulid/v2"

	"ambercellar/internal/catalog"
)

// Backup writes the catalog as it is at this moment into a file of its own and checks it. Whoever asked removes the
// file.
func (s *Service) Backup(ctx context.Context, actor string) (path string, err error) {
	if err := s.Catalog.Note(ctx, actor, "catalog backup", s.Instance, ""); err != nil {
		return "", err
	}
	path = filepath.Join(s.dir, "backup-"+ulid.Make().String()+".db")
	return path, s.Catalog.Backup(ctx, path)
}

// RestoreCatalog puts a backup in the place of a data directory's catalog, while no service runs there. The catalog
// that was there stays beside it, under the name that is returned; empty: there was none.
func RestoreCatalog(ctx context.Context, dir, backup string) (before string, err error) {
	if err := catalog.CheckFile(ctx, backup); err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	lock, err := lockDirectory(dir)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	place := filepath.Join(dir, "catalog.db")
	fresh := place + ".restored"
	if err := copyFile(backup, fresh); err != nil {
		return "", errors.Join(err, os.Remove(fresh))
	}
	err = catalog.CheckFile(ctx, fresh)
	if err == nil {
		err = catalog.EndAllSessions(ctx, fresh)
	}
	if err != nil {
		return "", errors.Join(err, os.Remove(fresh))
	}
	if _, err := os.Stat(place); err == nil {
		before = place + ".before-" + ulid.Make().String()
		for _, ending := range []string{"", "-wal", "-shm"} { // what is in the log belongs to the file
			if err := os.Rename(place+ending, before+ending); err != nil && !errors.Is(err, os.ErrNotExist) {
				return "", fmt.Errorf("the catalog that is there cannot be put aside: %w", err)
			}
		}
	}
	return before, os.Rename(fresh, place)
}

func copyFile(from, to string) error {
	r, err := os.Open(from)
	if err != nil {
		return err
	}
	defer r.Close()
	w, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, r)
	return errors.Join(err, w.Sync(), w.Close())
}
