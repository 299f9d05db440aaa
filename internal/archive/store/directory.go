package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	slashes "path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sys/unix"
)

// Directory is a store in a directory of a local or mounted file system.
type Directory struct {
	root string

	guard    sync.Mutex
	identity string      // that must lie there; empty: it is not looked at
	seen     os.FileInfo // of the file that it was last read from
}

// OpenDirectory opens a directory that is there; ErrAway where there is none. It is never made here: where a disk is not mounted,
// a directory made in its place would take segments that nobody finds again.
func OpenDirectory(root string) (*Directory, error) {
	abs, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(abs); err == nil { // a walk does not follow a link that it begins with
		abs = real
	}
	if st, err := os.Stat(abs); err != nil {
		return nil, fmt.Errorf("%w: %w; is its disk mounted?", ErrAway, err)
	} else if !st.IsDir() {
		return nil, fmt.Errorf("%s is no directory", abs)
	}
	return &Directory{root: abs}, nil
}

// MakeDirectory opens a directory, and makes it where there is none.
func MakeDirectory(root string) (*Directory, error) {
	if err := os.MkdirAll(root, 0o750); err != nil {
		return nil, fmt.Errorf("the store's directory cannot be made: %w", err)
	}
	return OpenDirectory(root)
}

// partial ends the names of files that are not complete; listings leave them out.
const partial = ".partial"

func (d *Directory) path(name string) (string, error) {
	if !filepath.IsLocal(filepath.FromSlash(name)) || strings.HasSuffix(name, partial) {
		return "", fmt.Errorf("%q is no name for a file of a store", name)
	}
	if err := d.here(); err != nil {
		return "", err
	}
	return filepath.Join(d.root, filepath.FromSlash(name)), nil
}

// Create begins a file beside its final place.
func (d *Directory) Create(_ context.Context, name string) (File, error) {
	path, err := d.path(name)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(path); err == nil {
		return nil, fmt.Errorf("%s: %w", name, ErrExists)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path+"."+ulid.Make().String()+partial, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640)
	if err != nil {
		return nil, err
	}
	return &directoryFile{File: f, final: path, root: d.root}, nil
}

type directoryFile struct {
	*os.File
	final, root string
	done        bool
	written     int64
	unflushed   int64 // of it, that the disk was not told to write yet
}

// Commit syncs the file, gives it its name with a link, which fails where the name is taken, and syncs the
// directories up to the store's own.
func (f *directoryFile) Commit() error {
	err := f.Sync()
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Link(f.Name(), f.final)
		if errors.Is(err, fs.ErrExist) {
			err = fmt.Errorf("%s: %w", filepath.Base(f.final), ErrExists)
		}
	}
	f.done = true
	err = errors.Join(err, os.Remove(f.Name()))
	for dir := filepath.Dir(f.final); err == nil; dir = filepath.Dir(dir) {
		err = syncDirectory(dir)
		if dir == f.root || len(dir) <= len(f.root) {
			break
		}
	}
	return err
}

// flushBytes is how much is written before the disk is told to begin with it, so that the file's own sync at the end
// does not keep the database's log waiting, where both lie on one disk.
const flushBytes = 1 << 20

func (f *directoryFile) Write(p []byte) (int, error) {
	n, err := f.File.Write(p)
	if f.unflushed += int64(n); f.unflushed >= flushBytes {
		// It does not wait, and where the file system cannot, the sync at the end does it all.
		unix.SyncFileRange(int(f.Fd()), f.written+int64(n)-f.unflushed, f.unflushed, unix.SYNC_FILE_RANGE_WRITE)
		f.unflushed = 0
	}
	f.written += int64(n)
	return n, err
}

func (f *directoryFile) Abort() {
	if !f.done {
		f.Close()
		os.Remove(f.Name())
		f.done = true
	}
}

func syncDirectory(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Open opens a file for reading.
func (d *Directory) Open(_ context.Context, name string) (Reader, error) {
	path, err := d.path(name)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &directoryReader{File: f, size: st.Size()}, nil
}

type directoryReader struct {
	*os.File
	size int64
}

func (r *directoryReader) Size() int64 { return r.size }

// below is the directory in which all names with a prefix lie; the store's own where there is no such.
func (d *Directory) below(prefix string) string {
	dir := filepath.Join(d.root, filepath.FromSlash(slashes.Dir(prefix)))
	if st, err := os.Stat(dir); err != nil || !st.IsDir() || !filepath.IsLocal(filepath.FromSlash(slashes.Dir(prefix))) {
		return d.root
	}
	return dir
}

// List walks the directory.
func (d *Directory) List(_ context.Context, prefix string) ([]Object, error) {
	if err := d.here(); err != nil {
		return nil, err
	}
	var out []Object
	err := filepath.WalkDir(d.below(prefix), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(d.root, path)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(rel)
		if strings.HasSuffix(name, partial) || !strings.HasPrefix(name, prefix) {
			return nil
		}
		st, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil {
			out = append(out, Object{Name: name, Size: st.Size(), Modified: st.ModTime()})
		}
		return err
	})
	return out, err
}

// Unfinished walks the directory.
func (d *Directory) Unfinished(_ context.Context, prefix string) ([]Unfinished, error) {
	if err := d.here(); err != nil {
		return nil, err
	}
	var out []Unfinished
	err := filepath.WalkDir(d.below(prefix), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, partial) {
			return err
		}
		rel, err := filepath.Rel(d.root, path)
		if err != nil {
			return err
		}
		name := strings.TrimSuffix(filepath.ToSlash(rel), partial)
		dot := strings.LastIndexByte(name, '.')
		if !strings.HasPrefix(name, prefix) || dot < 0 || len(name)-dot-1 != ulid.EncodedSize {
			return nil
		}
		st, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil {
			out = append(out, Unfinished{Object{Name: name[:dot], Size: st.Size(), Modified: st.ModTime()}, name[dot+1:]})
		}
		return err
	})
	return out, err
}

// RemoveUnfinished removes the file.
func (d *Directory) RemoveUnfinished(_ context.Context, u Unfinished) error {
	if _, err := ulid.ParseStrict(u.ID); err != nil {
		return fmt.Errorf("%q is no unfinished file", u.ID)
	}
	path, err := d.path(u.Name)
	if err != nil {
		return err
	}
	if err := os.Remove(path + "." + u.ID + partial); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Remove removes a file and syncs its directory.
func (d *Directory) Remove(_ context.Context, name string) error {
	path, err := d.path(name)
	if err != nil {
		return err
	}
	if err := os.Remove(path); errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	return syncDirectory(filepath.Dir(path))
}

// Check tries the store out.
func (d *Directory) Check(ctx context.Context) error {
	return tryOut(ctx, d, d.root)
}

// KeptUntil: a directory keeps nothing.
func (d *Directory) KeptUntil(context.Context, string) (time.Time, error) { return time.Time{}, nil }

// Habits: a directory does nothing on its own.
func (d *Directory) Habits(context.Context) ([]Habit, error) { return []Habit{}, nil }

// Free asks the file system.
func (d *Directory) Free(context.Context) int64 {
	if d.here() != nil {
		return -1
	}
	var st unix.Statfs_t
	if unix.Statfs(d.root, &st) != nil {
		return -1
	}
	return int64(st.Bavail) * st.Bsize
}
