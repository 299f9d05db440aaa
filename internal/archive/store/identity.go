package store

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"
)

// IdentityName is the file at the root of every store that tells it from all others. A place is known by it, never by
// its path or address: a disk that is not mounted, another disk at the same path, and one place under two names are
// all told by it.
const IdentityName = "ambercellar-store.json"

// IdentityFormat is the name of the format of that file, with its version.
const IdentityFormat = "ambercellar-store/1"

// Identity is what the file holds. It is never sealed and never rewritten.
type Identity struct {
	Format string    `json:"format"`
	Store  string    `json:"store"` // a ULID, drawn when the place became a store
	Made   time.Time `json:"made"`
}

// ErrAway says that what answers at a store's place is not that store: its disk is not mounted, or something else is
// in its place.
var ErrAway = errors.New("the store is not there")

// maxIdentity bounds what is read of the file.
const maxIdentity = 4096

// Unsealed returns the store that holds the files of a sealed one as they lie; any other store is returned as it is.
func Unsealed(st Store) Store {
	if s, ok := st.(*SealedStore); ok {
		return s.inner
	}
	return st
}

// Identify reads the identity of the place where a store lies; nil where it has none.
func Identify(ctx context.Context, st Store) (*Identity, error) {
	f, err := Unsealed(st).Open(ctx, IdentityName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.NewSectionReader(f, 0, min(f.Size(), maxIdentity)))
	if err != nil {
		return nil, err
	}
	return parseIdentity(b)
}

func parseIdentity(b []byte) (*Identity, error) {
	id := &Identity{}
	if err := json.Unmarshal(b, id); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", IdentityName, err)
	}
	if _, err := ulid.ParseStrict(id.Store); err != nil || id.Format != IdentityFormat {
		return nil, fmt.Errorf("%s is no identity of a store of this version (format %q)", IdentityName, id.Format)
	}
	return id, nil
}

// Mark gives the place of a store an identity. It fails where the place has one.
func Mark(ctx context.Context, st Store, now time.Time) (*Identity, error) {
	id := &Identity{Format: IdentityFormat, Store: ulid.Make().String(), Made: now.UTC().Truncate(time.Second)}
	b, err := json.MarshalIndent(id, "", "  ")
	if err != nil {
		return nil, err
	}
	f, err := Unsealed(st).Create(ctx, IdentityName)
	if err != nil {
		return nil, err
	}
	if _, err := f.Write(append(b, '\n')); err != nil {
		f.Abort()
		return nil, err
	}
	return id, f.Commit()
}

// Guard has a store in a directory look at its identity whenever it is used, since a disk can go at any moment. Every
// call fails with ErrAway while another store's identity, or none, lies there.
func Guard(st Store, identity string) {
	if d, ok := Unsealed(st).(*Directory); ok {
		d.guard.Lock()
		defer d.guard.Unlock()
		d.identity, d.seen = identity, nil
	}
}

// here says whether the directory is still the store that it was opened as.
func (d *Directory) here() error {
	d.guard.Lock()
	defer d.guard.Unlock()
	if d.identity == "" {
		return nil
	}
	name := filepath.Join(d.root, IdentityName)
	st, err := os.Stat(name)
	if err == nil && d.seen != nil && os.SameFile(st, d.seen) && st.ModTime().Equal(d.seen.ModTime()) &&
		st.Size() == d.seen.Size() {
		return nil
	}
	d.seen = nil
	if err != nil {
		return fmt.Errorf("%w: %s has no %s (%w); is its disk mounted?", ErrAway, d.root, IdentityName, unlinked(err))
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrAway, d.root, unlinked(err))
	}
	id, err := parseIdentity(b)
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrAway, d.root, err)
	}
	if id.Store != d.identity {
		return fmt.Errorf("%w: what lies in %s is store %s, and was store %s", ErrAway, d.root, id.Store, d.identity)
	}
	d.seen = st
	return nil
}

// unlinked keeps an absent identity from being taken for an absent file of the archive.
func unlinked(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return errors.New("no such file")
	}
	return err
}

// Around looks for other stores at the places around one: in it, and in what it lies in. It returns where it found
// one; empty: nowhere. Two such stores would list, sweep and destroy each other's files.
func Around(ctx context.Context, st Store) (string, error) {
	inner := Unsealed(st)
	for o, err := range inner.Each(ctx, "") {
		if err != nil {
			return "", err
		}
		if strings.HasSuffix(o.Name, "/"+IdentityName) {
			return "in " + path.Dir(o.Name) + " below it", nil
		}
	}
	switch s := inner.(type) {
	case *Directory:
		real, err := filepath.EvalSymlinks(s.root)
		if err != nil {
			return "", err
		}
		for dir := filepath.Dir(real); ; dir = filepath.Dir(dir) {
			if _, err := os.Stat(filepath.Join(dir, IdentityName)); err == nil {
				return "in " + dir + " above it", nil
			}
			if dir == filepath.Dir(dir) {
				return "", nil
			}
		}
	case *Objects:
		for prefix := strings.Trim(s.bucket.Prefix, "/"); prefix != ""; {
			if prefix = path.Dir(prefix); prefix == "." {
				prefix = ""
			}
			above := *s
			above.bucket.Prefix = prefix
			if id, err := Identify(ctx, &above); err != nil {
				return "", err
			} else if id != nil {
				return "in " + above.bucket.String() + " above it", nil
			}
		}
	}
	return "", nil
}

// Within says whether one store in a directory lies in another, or is it, by the device and the path on it: a bind
// mount shows one directory at two paths. Stores of another kind, and what the system does not tell, are within none.
func Within(a, b Store) bool {
	x, ok1 := Unsealed(a).(*Directory)
	y, ok2 := Unsealed(b).(*Directory)
	if !ok1 || !ok2 {
		return false
	}
	deviceA, placeA := location(x.root)
	deviceB, placeB := location(y.root)
	if deviceA == "" || deviceA != deviceB {
		return false
	}
	return placeA == placeB || strings.HasPrefix(placeA, strings.TrimRight(placeB, "/")+"/")
}

// location finds the device that a directory lies on, and its path there (proc(5), /proc/self/mountinfo). Empty: not
// known.
func location(dir string) (device, place string) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", ""
	}
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return "", ""
	}
	defer f.Close()
	longest := -1
	plain := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 5 {
			continue
		}
		root, mount := plain.Replace(fields[3]), plain.Replace(fields[4])
		rest, below := strings.CutPrefix(real, strings.TrimRight(mount, "/")+"/")
		if real == mount {
			rest, below = "", true
		}
		if below && len(mount) >= longest { // of two at one place the later hides the earlier
			longest, device, place = len(mount), fields[2], path.Join(root, rest)
		}
	}
	return device, place
}

// ReadOnly returns a store that gives its files and takes none: everything that would change it fails with why.
func ReadOnly(st Store, why error) Store { return &readOnly{Store: st, why: why} }

type readOnly struct {
	Store
	why error
}

func (r *readOnly) Create(context.Context, string) (File, error)       { return nil, r.why }
func (r *readOnly) Remove(context.Context, string) error               { return r.why }
func (r *readOnly) RemoveUnfinished(context.Context, Unfinished) error { return r.why }
func (r *readOnly) Check(context.Context) error                        { return r.why }
