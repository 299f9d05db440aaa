// Package fresh gives tests new catalogs, without each of them being brought up to date from the first version on.
package fresh

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"ambercellar/internal/catalog"
)

// made is a new catalog's file.
var made = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "ambercellar-fresh-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "catalog.db")
	c, err := catalog.Open(context.Background(), path)
	if err == nil {
		err = c.Close()
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(path)
})

// Catalog sees to it that a catalog is at a path: a new one, where there is none.
func Catalog(t testing.TB, path string) {
	t.Helper()
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return
	}
	b, err := made()
	if err == nil {
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}
