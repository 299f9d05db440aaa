package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"math"
	"os"
	slashes "path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sys/unix"
)

// Directory is a store in a directory of a local or mounted file system.
type Directory struct {
	root string
	hung hung

	guard    sync.Mutex
	identity string      // that must lie there; empty: it is not looked at
	seen     os.FileInfo // of the file that it was last read from
}

// OpenDirectory opens a directory that is there; ErrAway where there is none. It is never made here: where a disk is
// not mounted, a directory made in its place would take segments that nobody finds again.
func OpenDirectory(root string) (*Directory, error) {
	abs, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	return within(context.Background(), &hung{}, patience, abs, func() (*Directory, error) {
		real := abs
		if linked, err := filepath.EvalSymlinks(abs); err == nil { // a walk does not follow a link that it begins with
			real = linked
		}
		if st, err := os.Stat(real); err != nil {
			return nil, fmt.Errorf("%w: %w; is its disk mounted?", ErrAway, err)
		} else if !st.IsDir() {
			return nil, fmt.Errorf("%s is no directory", real)
		}
		return &Directory{root: real}, nil
	}, nil)
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

// read does a step that changes nothing, and can be left at any moment.
func read[T any](ctx context.Context, d *Directory, step func() (T, error), late func(T)) (T, error) {
	return within(ctx, &d.hung, patience, d.root, step, late)
}

// change does a step that is waited for even where the context ends, since it might happen after all.
func (d *Directory) change(ctx context.Context, step func() error, undo func()) error {
	_, err := within(context.WithoutCancel(ctx), &d.hung, patience, d.root,
		func() (struct{}, error) { return struct{}{}, step() }, func(struct{}) {
			if undo != nil {
				undo()
			}
		})
	return err
}

// Create begins a file beside its final place.
func (d *Directory) Create(ctx context.Context, name string) (File, error) {
	f, err := read(ctx, d, func() (*directoryFile, error) {
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
		return &directoryFile{File: f, final: path, directory: d, ctx: ctx}, nil
	}, (*directoryFile).drop)
	if err != nil {
		return nil, err
	}
	return f, nil
}

type directoryFile struct {
	*os.File
	final     string
	directory *Directory
	ctx       context.Context
	done      bool
	written   int64
	unflushed int64 // of it, that the disk was not told to write yet
}

// Commit syncs the file, gives it its name with a link, which fails where the name is taken, and syncs the
// directories up to the store's own.
func (f *directoryFile) Commit() error {
	d := f.directory
	_, err := within(f.ctx, &d.hung, longPatience, d.root, func() (struct{}, error) { return struct{}{}, f.Sync() },
		nil)
	if err != nil {
		f.Abort()
		return err
	}
	f.done = true
	return d.change(f.ctx, func() error {
		err := f.Close()
		if err == nil {
			err = os.Link(f.Name(), f.final)
			if errors.Is(err, fs.ErrExist) {
				err = fmt.Errorf("%s: %w", filepath.Base(f.final), ErrExists)
			}
		}
		err = errors.Join(err, os.Remove(f.Name()))
		for dir := filepath.Dir(f.final); err == nil; dir = filepath.Dir(dir) {
			err = syncDirectory(dir)
			if dir == d.root || len(dir) <= len(d.root) {
				break
			}
		}
		return err
	}, func() { os.Remove(f.final) })
}

// flushBytes is how much is written before the disk is told to begin with it, so that the file's own sync at the end
// does not keep the database's log waiting, where both lie on one disk.
const flushBytes = 1 << 20

func (f *directoryFile) Write(p []byte) (int, error) {
	own := buffers.Get().(*[]byte) // whoever calls may use its own again, though this has not come back
	*own = append((*own)[:0], p...)
	n, err := read(f.ctx, f.directory, func() (int, error) {
		defer buffers.Put(own)
		n, err := f.File.Write(*own)
		if f.unflushed += int64(n); f.unflushed >= flushBytes {
			// It does not wait, and where the file system cannot, the sync at the end does it all.
			unix.SyncFileRange(int(f.Fd()), f.written+int64(n)-f.unflushed, f.unflushed, unix.SYNC_FILE_RANGE_WRITE)
			f.unflushed = 0
		}
		f.written += int64(n)
		return n, err
	}, nil)
	return n, err
}

// buffers are those through which bytes go to and from files.
var buffers = sync.Pool{New: func() any { return new([]byte) }}

func (f *directoryFile) Abort() {
	if !f.done {
		f.done = true
		f.directory.change(f.ctx, func() error {
			f.drop()
			return nil
		}, nil)
	}
}

func (f *directoryFile) drop() {
	f.Close()
	os.Remove(f.Name())
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
func (d *Directory) Open(ctx context.Context, name string) (Reader, error) {
	f, err := read(ctx, d, func() (*directoryReader, error) {
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
		return &directoryReader{File: f, size: st.Size(), directory: d, ctx: ctx}, nil
	}, func(f *directoryReader) { f.Close() })
	if err != nil {
		return nil, err
	}
	return f, nil
}

type directoryReader struct {
	*os.File
	size      int64
	directory *Directory
	ctx       context.Context
}

// ReadAt reads into a buffer of its own, since a file system may come back when nobody waits for it any more.
func (r *directoryReader) ReadAt(p []byte, at int64) (int, error) {
	type piece struct {
		buffer *[]byte
		n      int
		err    error
	}
	got, err := read(r.ctx, r.directory, func() (piece, error) {
		own := buffers.Get().(*[]byte)
		*own = slices.Grow((*own)[:0], len(p))[:len(p)]
		n, err := r.File.ReadAt(*own, at)
		return piece{own, n, err}, nil
	}, nil)
	if err != nil {
		return 0, err
	}
	copy(p, (*got.buffer)[:got.n])
	buffers.Put(got.buffer)
	return got.n, got.err
}

func (r *directoryReader) Size() int64 { return r.size }

// below is the directory in which all names with a prefix lie; the store's own where there is no such.
func (d *Directory) below(prefix string) string {
	dir := filepath.Join(d.root, filepath.FromSlash(slashes.Dir(prefix)))
	if st, err := os.Stat(dir); err != nil || !st.IsDir() ||
		!filepath.IsLocal(filepath.FromSlash(slashes.Dir(prefix))) {
		return d.root
	}
	return dir
}

// walk goes through the files that may have a prefix. A directory may have a great many: as long as it gets on, it is
// waited for, or while it is held up by whoever takes the files.
func (d *Directory) walk(ctx context.Context, prefix string, held *atomic.Bool, each fs.WalkDirFunc) error {
	var seen atomic.Int64
	ended := errors.New("ended")
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stop, patience := make(chan struct{}), patience
	defer close(stop)
	go func() {
		tick := time.NewTicker(patience)
		defer tick.Stop()
		for before := int64(-1); ; {
			select {
			case <-stop:
				return
			case <-tick.C:
			}
			now := seen.Load()
			if now == before && !held.Load() {
				cancel(fmt.Errorf("%w: %s has not come back for %s", ErrUnreachable, d.root, patience))
				return
			}
			before = now
		}
	}()
	_, err := within(ctx, &d.hung, math.MaxInt64, d.root, func() (struct{}, error) {
		if err := d.here(); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, filepath.WalkDir(d.below(prefix), func(path string, e fs.DirEntry, err error) error {
			if seen.Add(1); ctx.Err() != nil {
				return ended
			}
			return each(path, e, err)
		})
	}, nil)
	if cause := context.Cause(ctx); err != nil && cause != nil {
		return cause
	}
	return err
}

// List walks the directory.
func (d *Directory) List(ctx context.Context, prefix string) ([]Object, error) {
	return sorted(d.Each(ctx, prefix))
}

// listedAtOnce is how many files of a directory are handed on together.
const listedAtOnce = 1000

// Each walks the directory, which waits for whoever takes the files.
func (d *Directory) Each(ctx context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		batches, ended := make(chan []Object), make(chan error, 1)
		walking := true
		defer func() {
			if cancel(); walking {
				<-ended
			}
		}()
		go func() {
			var batch []Object
			var held atomic.Bool
			hand := func() error {
				held.Store(true)
				defer held.Store(false)
				select {
				case batches <- batch:
					batch = nil
					return nil
				case <-ctx.Done():
					return context.Cause(ctx)
				}
			}
			err := d.walk(ctx, prefix, &held, func(path string, e fs.DirEntry, err error) error {
				if err != nil || e.IsDir() {
					return err
				}
				o, err := d.object(path, prefix, e)
				if err != nil || o == nil {
					return err
				}
				if batch = append(batch, *o); len(batch) < listedAtOnce {
					return nil
				}
				return hand()
			})
			if err == nil && len(batch) > 0 { // the walk may still be going on where it failed
				err = hand()
			}
			ended <- err
		}()
		for {
			select {
			case batch := <-batches:
				for _, o := range batch {
					if !yield(o, nil) {
						return
					}
				}
			case err := <-ended:
				if walking = false; err != nil {
					yield(Object{}, err)
				}
				return
			}
		}
	}
}

// object is how a file of the directory is listed; nil: it is not.
func (d *Directory) object(path, prefix string, e fs.DirEntry) (*Object, error) {
	rel, err := filepath.Rel(d.root, path)
	if err != nil {
		return nil, err
	}
	name := filepath.ToSlash(rel)
	if strings.HasSuffix(name, partial) || !strings.HasPrefix(name, prefix) {
		return nil, nil
	}
	st, err := e.Info()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	return &Object{Name: name, Size: st.Size(), Modified: st.ModTime()}, nil
}

// Unfinished walks the directory.
func (d *Directory) Unfinished(ctx context.Context, prefix string) ([]Unfinished, error) {
	var out []Unfinished
	err := d.walk(ctx, prefix, new(atomic.Bool), func(path string, e fs.DirEntry, err error) error {
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
			out = append(out, Unfinished{Object{Name: name[:dot], Size: st.Size(), Modified: st.ModTime()},
				name[dot+1:]})
		}
		return err
	})
	if err != nil { // the walk may still be going on
		return nil, err
	}
	return out, nil
}

// RemoveUnfinished removes the file.
func (d *Directory) RemoveUnfinished(ctx context.Context, u Unfinished) error {
	if _, err := ulid.ParseStrict(u.ID); err != nil {
		return fmt.Errorf("%q is no unfinished file", u.ID)
	}
	return d.change(ctx, func() error {
		path, err := d.path(u.Name)
		if err != nil {
			return err
		}
		if err := os.Remove(path + "." + u.ID + partial); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}, nil)
}

// Remove removes a file and syncs its directory.
func (d *Directory) Remove(ctx context.Context, name string) error {
	return d.change(ctx, func() error {
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
	}, nil)
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
func (d *Directory) Free(ctx context.Context) int64 {
	free, err := read(ctx, d, func() (int64, error) {
		if err := d.here(); err != nil {
			return -1, err
		}
		var st unix.Statfs_t
		err := unix.Statfs(d.root, &st)
		return int64(st.Bavail) * st.Bsize, err
	}, nil)
	if err != nil {
		return -1
	}
	return free
}
