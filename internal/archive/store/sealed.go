package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
)

// Seal says where the keys of a sealed store are: age identities (age-encryption.org/v1), one a line. New files are
// sealed with the first of them; the others only open what was sealed with them before.
type Seal struct {
	File string `json:"key_file,omitempty"`
	Env  string `json:"key_env,omitempty"` // the environment variable that holds them, in place of a file
}

// Sealed says whether files are sealed at all.
func (s Seal) Sealed() bool { return s != Seal{} }

// keys reads the keys.
func (s Seal) keys() ([]sealKey, error) {
	var text string
	from := "the environment variable " + s.Env
	switch {
	case s.File != "" && s.Env != "":
		return nil, errors.New("both a file and an environment variable are named for the keys; name one")
	case s.Env != "":
		text = os.Getenv(s.Env)
	default:
		b, err := os.ReadFile(s.File)
		if err != nil {
			return nil, fmt.Errorf("the keys cannot be read: %w", err)
		}
		text, from = string(b), s.File
	}
	found, err := age.ParseIdentities(strings.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("%s holds no keys that can be read: %w; `ambercellar store key` makes one", from, err)
	}
	out := make([]sealKey, len(found))
	for i, one := range found {
		x, ok := one.(*age.X25519Identity)
		if !ok {
			return nil, fmt.Errorf("key %d in %s is of a kind that is not used here; write lines that begin with "+
				"AGE-SECRET-KEY-1", i+1, from)
		}
		sum := sha256.Sum256([]byte(x.Recipient().String()))
		out[i] = sealKey{id: hex.EncodeToString(sum[:4]), identity: x}
	}
	return out, nil
}

// NewSealKey makes a key, as text for a file of keys, and returns the id that the names of files sealed with it carry.
func NewSealKey() (text, id string, err error) {
	x, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	sum := sha256.Sum256([]byte(x.Recipient().String()))
	return x.String(), hex.EncodeToString(sum[:4]), nil
}

type sealKey struct {
	id       string
	identity *age.X25519Identity
}

func (k sealKey) sealed(name string) string { return name + "." + k.id + sealEnding }

const sealEnding = ".age"

var sealForm = regexp.MustCompile(`^(.+)\.([0-9a-f]{8})\.age$`)

// SealedStore keeps every file of another store encrypted, under a name that tells with which key. Files are opened at
// any place, without reading all of what comes before. What was there before the store was sealed is read as it is.
type SealedStore struct {
	inner    Store
	keys     []sealKey
	overhead int64 // of an empty file

	looked  sync.Once
	strange map[string]string // names of files that are sealed with keys that are not known, and these keys
}

// OpenSealed seals a store.
func OpenSealed(inner Store, seal Seal) (*SealedStore, error) {
	keys, err := seal.keys()
	if err != nil {
		return nil, err
	}
	s := &SealedStore{inner: inner, keys: keys}
	var count countWriter
	w, err := age.Encrypt(&count, keys[0].identity.Recipient())
	if err == nil {
		err = w.Close()
	}
	s.overhead = int64(count)
	return s, err
}

type countWriter int64

func (c *countWriter) Write(p []byte) (int, error) {
	*c += countWriter(len(p))
	return len(p), nil
}

// plainSize computes the size of what is sealed in a file: the format has 64 KiB in each chunk and 16 bytes behind it.
func (s *SealedStore) plainSize(sealed int64) int64 {
	const chunk, tag = 64 << 10, 16
	payload := sealed - (s.overhead - tag)
	return payload/(chunk+tag)*chunk + max(payload%(chunk+tag)-tag, 0)
}

// Create begins a file, sealed with the newest key.
func (s *SealedStore) Create(ctx context.Context, name string) (File, error) {
	if sealForm.MatchString(name) {
		return nil, fmt.Errorf("%q is no name for a file of a sealed store", name)
	}
	if _, f, err := s.find(ctx, name); err == nil || errors.Is(err, ErrCold) {
		if f != nil {
			f.Close()
		}
		return nil, fmt.Errorf("%s: %w", name, ErrExists)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	f, err := s.inner.Create(ctx, s.keys[0].sealed(name))
	if err != nil {
		return nil, err
	}
	w, err := age.Encrypt(f, s.keys[0].identity.Recipient())
	if err != nil {
		f.Abort()
		return nil, err
	}
	return &sealedFile{File: f, seal: w}, nil
}

type sealedFile struct {
	File
	seal io.WriteCloser
}

func (f *sealedFile) Write(p []byte) (int, error) { return f.seal.Write(p) }

func (f *sealedFile) Commit() error {
	if err := f.seal.Close(); err != nil {
		f.File.Abort()
		return err
	}
	return f.File.Commit()
}

// find opens the file of a name as it lies in the other store: sealed with the newest key that there is one of, or
// plain.
func (s *SealedStore) find(ctx context.Context, name string) (inner string, f Reader, err error) {
	for _, k := range s.keys {
		inner = k.sealed(name)
		if f, err = s.inner.Open(ctx, inner); !errors.Is(err, fs.ErrNotExist) {
			return inner, f, err
		}
	}
	f, err = s.inner.Open(ctx, name)
	return name, f, err
}

// Open opens a file for reading.
func (s *SealedStore) Open(ctx context.Context, name string) (Reader, error) {
	inner, f, err := s.find(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		err = s.unknownKey(ctx, name, err)
	}
	if err != nil || inner == name {
		return f, err
	}
	r, err := s.unseal(f, name)
	if err != nil {
		f.Close()
		return nil, err
	}
	return r, nil
}

func (s *SealedStore) unseal(f Reader, name string) (Reader, error) {
	through := &faithful{ReaderAt: f}
	identities := make([]age.Identity, len(s.keys))
	for i, k := range s.keys {
		identities[i] = k.identity
	}
	plain, size, err := age.DecryptReaderAt(through, f.Size(), identities...)
	if err != nil {
		return nil, through.why(name, err)
	}
	return &sealedReader{ReaderAt: plain, Closer: f, size: size, through: through, name: name}, nil
}

// unknownKey tells a file that is not there from one whose key is not known.
func (s *SealedStore) unknownKey(ctx context.Context, name string, otherwise error) error {
	s.looked.Do(func() { // once: nobody but who has other keys writes such files
		s.strange = map[string]string{}
		for o, err := range s.inner.Each(ctx, "") {
			if err != nil {
				return
			}
			m := sealForm.FindStringSubmatch(o.Name)
			if m != nil && !slices.ContainsFunc(s.keys, func(k sealKey) bool { return k.id == m[2] }) {
				s.strange[m[1]] = m[2]
			}
		}
	})
	if key, ok := s.strange[name]; ok {
		return fmt.Errorf("%s is sealed with key %s, which is none of the store's keys; add that key to them again",
			name, key)
	}
	return otherwise
}

// faithful remembers that the other store did not give what was asked for, so that this is not taken for damage.
type faithful struct {
	io.ReaderAt
	err error
}

func (f *faithful) ReadAt(p []byte, at int64) (int, error) {
	n, err := f.ReaderAt.ReadAt(p, at)
	if err != nil && err != io.EOF {
		f.err = err
	}
	return n, err
}

func (f *faithful) why(name string, err error) error {
	if f.err != nil {
		return f.err
	}
	return fmt.Errorf("%s: %w: it does not open with its key: %w", name, ErrDamaged, err)
}

type sealedReader struct {
	io.ReaderAt
	io.Closer
	size    int64
	through *faithful
	name    string
}

func (r *sealedReader) Size() int64 { return r.size }

func (r *sealedReader) ReadAt(p []byte, at int64) (int, error) {
	n, err := r.ReaderAt.ReadAt(p, at)
	if err != nil && err != io.EOF {
		err = r.through.why(r.name, err)
	}
	return n, err
}

// shown is how an object of the other store is listed: a sealed one by its own name and size.
func (s *SealedStore) shown(o Object) Object {
	if m := sealForm.FindStringSubmatch(o.Name); m != nil {
		o.Name, o.Size = m[1], s.plainSize(o.Size)
	}
	return o
}

// List lists the files by their own names. One that is there under two keys, since its sealing anew was interrupted,
// counts once.
func (s *SealedStore) List(ctx context.Context, prefix string) ([]Object, error) {
	out, err := sorted(s.Each(ctx, prefix))
	return slices.CompactFunc(out, func(a, b Object) bool { return a.Name == b.Name }), err
}

// Each goes through the files by their own names. One that is there under two keys counts once: the other store names
// them one after the other.
func (s *SealedStore) Each(ctx context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		before := ""
		for o, err := range s.inner.Each(ctx, prefix) {
			if err != nil {
				yield(Object{}, err)
				return
			}
			if o = s.shown(o); o.Name == before || !strings.HasPrefix(o.Name, prefix) {
				continue
			}
			if before = o.Name; !yield(o, nil) {
				return
			}
		}
	}
}

// Remove removes a file, with whichever of the keys it was sealed.
func (s *SealedStore) Remove(ctx context.Context, name string) error {
	err := s.inner.Remove(ctx, name)
	for _, k := range s.keys {
		err = errors.Join(err, s.inner.Remove(ctx, k.sealed(name)))
	}
	return err
}

// KeptUntil asks for the file under each of the keys.
func (s *SealedStore) KeptUntil(ctx context.Context, name string) (time.Time, error) {
	until, err := s.inner.KeptUntil(ctx, name)
	for _, k := range s.keys {
		if err != nil {
			break
		}
		var one time.Time
		if one, err = s.inner.KeptUntil(ctx, k.sealed(name)); one.After(until) {
			until = one
		}
	}
	return until, err
}

// Unfinished lists files that were begun and never committed.
func (s *SealedStore) Unfinished(ctx context.Context, prefix string) ([]Unfinished, error) {
	list, err := s.inner.Unfinished(ctx, prefix)
	for i := range list {
		list[i].ID += "@" + list[i].Name
		list[i].Object = s.shown(list[i].Object)
	}
	return list, err
}

// RemoveUnfinished removes one of them.
func (s *SealedStore) RemoveUnfinished(ctx context.Context, u Unfinished) error {
	id, name, ok := strings.Cut(u.ID, "@")
	if !ok {
		return fmt.Errorf("%q is no unfinished file", u.ID)
	}
	u.ID, u.Name = id, name
	return s.inner.RemoveUnfinished(ctx, u)
}

// Check tries the store out, through its seal.
func (s *SealedStore) Check(ctx context.Context) error { return tryOut(ctx, s, "the sealed store") }

// Habits are those of the other store.
func (s *SealedStore) Habits(ctx context.Context) ([]Habit, error) { return s.inner.Habits(ctx) }

// Free is the other store's.
func (s *SealedStore) Free(ctx context.Context) int64 { return s.inner.Free(ctx) }

// Stale lists, by the names under which they lie, the files that are not sealed with the newest key.
func (s *SealedStore) Stale(ctx context.Context) ([]Object, error) {
	var out []Object
	for o, err := range s.inner.Each(ctx, "") {
		if err != nil {
			return nil, err
		}
		// the identity of a place is never sealed
		if o.Name != IdentityName && !strings.HasSuffix(o.Name, s.keys[0].sealed("")) {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b Object) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Shown is the name under which a file that lies in the other store is known here.
func (s *SealedStore) Shown(lies string) string { return s.shown(Object{Name: lies}).Name }

// SealAnew writes one file of those again, sealed with the newest key, and reads that back. The old one stays until
// RemoveStale. It can be called again after it stopped anywhere.
func (s *SealedStore) SealAnew(ctx context.Context, lies string) error {
	name := s.shown(Object{Name: lies}).Name
	var old Reader
	f, err := s.inner.Open(ctx, lies)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if old = f; err == nil && lies != name {
		if old, err = s.unseal(f, name); err != nil {
			f.Close()
		}
	}
	if err != nil {
		return err
	}
	defer old.Close()
	w, err := s.inner.Create(ctx, s.keys[0].sealed(name))
	if err == nil {
		err = s.copySealed(w, old)
	} else if errors.Is(err, ErrExists) { // from a try that was interrupted
		err = nil
	}
	if err == nil {
		err = s.same(ctx, name, old)
	}
	return err
}

// RemoveStale removes a file that SealAnew has written again; where that is not there, it stays.
func (s *SealedStore) RemoveStale(ctx context.Context, lies string) error {
	f, err := s.inner.Open(ctx, s.keys[0].sealed(s.Shown(lies)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it was destroyed meanwhile, and the old one with it, or is still to be sealed anew
	} else if err != nil {
		return err
	}
	f.Close()
	return s.inner.Remove(ctx, lies)
}

func (s *SealedStore) copySealed(w File, from Reader) error {
	seal, err := age.Encrypt(w, s.keys[0].identity.Recipient())
	if err == nil {
		_, err = io.Copy(seal, io.NewSectionReader(from, 0, from.Size()))
	}
	if err == nil {
		err = seal.Close()
	}
	if err != nil {
		w.Abort()
		return err
	}
	return w.Commit()
}

// same reads what was sealed with the newest key back.
func (s *SealedStore) same(ctx context.Context, name string, want Reader) error {
	f, err := s.inner.Open(ctx, s.keys[0].sealed(name))
	if err != nil {
		return err
	}
	got, err := s.unseal(f, name)
	if err != nil {
		f.Close()
		return err
	}
	defer got.Close()
	a, b := sha256.New(), sha256.New()
	_, one := io.Copy(a, io.NewSectionReader(got, 0, got.Size()))
	_, other := io.Copy(b, io.NewSectionReader(want, 0, want.Size()))
	if err := errors.Join(one, other); err != nil {
		return err
	}
	if !slices.Equal(a.Sum(nil), b.Sum(nil)) {
		return fmt.Errorf("%s: %w: what was sealed anew was read back as something else", name, ErrDamaged)
	}
	return nil
}
