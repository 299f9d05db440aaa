package service

import (
	"context"
	"errors"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/standin"
)

func write(t *testing.T, st store.Store, name string) error {
	t.Helper()
	f, err := st.Create(t.Context(), name)
	if err != nil {
		return err
	}
	if _, err := f.Write([]byte("amber")); err != nil {
		t.Fatal(err)
	}
	return f.Commit()
}

// TestOnePlaceIsOneStore: however a place is named, it is a store once, and stores do not lie within each other.
func TestOnePlaceIsOneStore(t *testing.T) {
	s, _ := open(t, t.TempDir())
	defer s.Close()
	root := t.TempDir()
	path := func(names ...string) string { return filepath.Join(append([]string{root}, names...)...) }
	add := func(name, path string) error {
		return s.Places.AddStore(t.Context(), "me", catalog.Store{Name: name, Path: path}, false)
	}
	if err := add("attic", path("attic")); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Symlink(path("attic"), path("linked")), os.Mkdir(path("outer"), 0o750),
		os.Symlink(path("outer"), path("round"))); err != nil {
		t.Fatal(err)
	}
	if err := add("inner", path("outer", "inner")); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ path, want string }{
		"by a symbolic link":             {path("linked"), "is that of store attic"},
		"within another":                 {path("attic", "below"), "lies in that of store attic"},
		"around another":                 {path("outer"), "lies in its place"},
		"around another, through a link": {path("round"), "lies in its place"},
		"around all":                     {root, "lies in its place"},
	} {
		var refused *refuse.Error
		if err := add("twice", c.path); !errors.As(err, &refused) || refused.Field != "path" ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	mounted := path("mounted")
	if err := os.Mkdir(mounted, 0o750); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount(path("attic"), mounted, "", syscall.MS_BIND, ""); err != nil {
		t.Logf("bind mounts cannot be tried here: %v", err)
		return
	}
	defer syscall.Unmount(mounted, 0)
	if err := add("twice", mounted); err == nil || !strings.Contains(err.Error(), "is that of store attic") {
		t.Errorf("by a bind mount: %v", err)
	}
	below := path("shelf")
	if err := errors.Join(os.Mkdir(below, 0o750), os.Mkdir(path("attic", "shelf"), 0o750),
		syscall.Mount(path("attic", "shelf"), below, "", syscall.MS_BIND, "")); err != nil {
		t.Fatal(err)
	}
	defer syscall.Unmount(below, 0)
	if err := add("twice", below); err == nil || !strings.Contains(err.Error(), "lies in that of store attic") {
		t.Errorf("within another by a bind mount: %v", err)
	}
}

// TestOneBucketIsOneStore: under two host names, and with prefixes that lie within each other.
func TestOneBucketIsOneStore(t *testing.T) {
	t.Setenv("AWS_ACCESS_KEY_ID", "ferry")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "not-needed")
	h, err := standin.Objects{Buckets: []string{"attic"}, AccessKey: "ferry"}.Handler()
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(h)
	defer server.Close()
	s, _ := open(t, t.TempDir())
	defer s.Close()
	add := func(name, endpoint, prefix string, existing bool) error {
		c := catalog.Store{Name: name}
		c.Bucket.V = store.Bucket{Endpoint: endpoint, Name: "attic", Prefix: prefix}
		return s.Places.AddStore(t.Context(), "me", c, existing)
	}
	other := strings.Replace(server.URL, "127.0.0.1", "localhost", 1)
	if err := add("harbour", server.URL, "archive/harbour", false); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		endpoint, prefix string
		existing         bool
		want             string
	}{
		"under another host name":              {other, "archive/harbour", false, "is that of store harbour"},
		"under another host name, as existing": {other, "archive/harbour", true, "is that of store harbour"},
		"around it":                            {other, "archive", false, "another store in harbour below it"},
		"the whole bucket":                     {server.URL, "", false, "another store in archive/harbour below it"},
		"within it":                            {other, "archive/harbour/scan", false, "above it"},
	} {
		if err := add("twice", c.endpoint, c.prefix, c.existing); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := add("pier", other, "archive/pier", false); err != nil {
		t.Errorf("a place of its own: %v", err)
	}
}

// TestAStoreThatIsAwayIsNotMadeAnew: where its disk is not mounted, or another is in its place, nothing is written,
// removed or taken for missing.
func TestAStoreThatIsAwayIsNotMadeAnew(t *testing.T) {
	data := t.TempDir()
	s, _ := open(t, data)
	root := t.TempDir()
	disk, aside := filepath.Join(root, "disk"), filepath.Join(root, "aside")
	if err := s.Places.AddStore(t.Context(), "me", catalog.Store{Name: "attic", Path: disk}, false); err != nil {
		t.Fatal(err)
	}
	st, err := s.Store(t.Context(), "attic")
	if err == nil {
		err = write(t, st, "a")
	}
	if err != nil {
		t.Fatal(err)
	}
	away := func(when string) {
		t.Helper()
		st, err := s.Store(t.Context(), "attic")
		if err == nil {
			_, err = st.Open(t.Context(), "a")
		}
		if !errors.Is(err, store.ErrAway) || errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s, reading: %v", when, err)
		}
		if st == nil {
			return
		}
		if err := write(t, st, "b"); !errors.Is(err, store.ErrAway) {
			t.Errorf("%s, writing: %v", when, err)
		}
		if err := st.Remove(t.Context(), "a"); !errors.Is(err, store.ErrAway) {
			t.Errorf("%s, removing: %v", when, err)
		}
		if _, err := st.List(t.Context(), ""); !errors.Is(err, store.ErrAway) {
			t.Errorf("%s, listing: %v", when, err)
		}
	}
	if err := os.Rename(disk, aside); err != nil {
		t.Fatal(err)
	}
	away("the directory is gone")
	if err := os.Mkdir(disk, 0o750); err != nil {
		t.Fatal(err)
	}
	away("an empty mount point")
	s.Close()
	s, _ = open(t, data)
	defer s.Close()
	away("after a start")
	if entries, err := os.ReadDir(disk); err != nil || len(entries) != 0 {
		t.Errorf("in the mount point: %v, %v", entries, err)
	}
	d, err := store.OpenDirectory(disk)
	if err == nil {
		_, err = store.Mark(t.Context(), d, s.Now())
	}
	if err != nil {
		t.Fatal(err)
	}
	away("another store's disk")
	if err := errors.Join(os.RemoveAll(disk), os.Rename(aside, disk)); err != nil {
		t.Fatal(err)
	}
	if st, err = s.Store(t.Context(), "attic"); err != nil {
		t.Fatal(err)
	}
	if f, err := st.Open(t.Context(), "a"); err != nil {
		t.Errorf("the disk is back: %v", err)
	} else {
		f.Close()
	}
	if err := s.Places.AddStore(t.Context(), "me", catalog.Store{Name: "loft", Path: filepath.Join(root, "loft")},
		true); err == nil || !strings.Contains(err.Error(), "mount") {
		t.Errorf("an existing store that is not there: %v", err)
	}
}

// TestAStoreComesFromElsewhere only where that is said.
func TestAStoreComesFromElsewhere(t *testing.T) {
	one, _ := open(t, t.TempDir())
	place := filepath.Join(t.TempDir(), "attic")
	if err := one.Places.AddStore(t.Context(), "me", catalog.Store{Name: "attic", Path: place}, false); err != nil {
		t.Fatal(err)
	}
	was, err := one.Catalog.Store(t.Context(), "attic")
	if err != nil {
		t.Fatal(err)
	}
	one.Close()
	two, _ := open(t, t.TempDir())
	defer two.Close()
	if err := two.Places.AddStore(t.Context(), "me", catalog.Store{Name: "attic", Path: place}, false); err == nil ||
		!strings.Contains(err.Error(), "-existing") {
		t.Errorf("without a word: %v", err)
	}
	if err := two.Places.AddStore(t.Context(), "me", catalog.Store{Name: "attic", Path: place}, true); err != nil {
		t.Error(err)
	}
	if c, err := two.Catalog.Store(t.Context(), "attic"); err != nil || c.Identity != was.Identity ||
		c.Identity == "" {
		t.Errorf("%+v, %v", c, err)
	}
	bare := filepath.Join(t.TempDir(), "bare")
	if err := os.MkdirAll(filepath.Join(bare, "harbour", "scan", "01M842KQCYFD047AM346QQAKHQ"), 0o750); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(bare, "harbour", "scan", "01M842KQCYFD047AM346QQAKHQ",
		"000001-01M842KQCYFD047AM346QQAKHQ.parquet"), nil, 0o640); err != nil {
		t.Fatal(err)
	}
	if err := two.Places.AddStore(t.Context(), "me", catalog.Store{Name: "bare", Path: bare}, false); err == nil ||
		!strings.Contains(err.Error(), "holds segments already") {
		t.Errorf("segments without an identity: %v", err)
	}
}

// TestStoresOfOlderVersionsGetTheirIdentity: two that are one place give their files and take none; one whose segments
// are not there is away.
func TestStoresOfOlderVersionsGetTheirIdentity(t *testing.T) {
	data, root := t.TempDir(), t.TempDir()
	s, _ := open(t, data)
	for _, name := range []string{"attic", "vault", "loft"} {
		if err := os.Mkdir(filepath.Join(root, name), 0o750); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(filepath.Join(root, "attic"), filepath.Join(root, "again")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"attic", "again", "vault", "loft"} { // as they were kept before
		if err := s.Catalog.AddStore(t.Context(), "me", catalog.Store{Name: name, Kind: catalog.StoreDirectory,
			Path: filepath.Join(root, name)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Catalog.Adopt(t.Context(),
		&catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: "S", Run: "r", Source: "harbour", Table: "scan",
			Store: "loft", Stem: "harbour/scan/r/000001-S", State: catalog.SegmentClosed,
			CreatedAt: catalog.At(s.Now())}}); err != nil {
		t.Fatal(err)
	}
	s.Close()
	s, _ = open(t, data)
	defer s.Close()
	if _, err := s.Store(t.Context(), "loft"); !errors.Is(err, store.ErrAway) {
		t.Errorf("a store without its segments: %v", err)
	}
	if st, err := s.Store(t.Context(), "vault"); err != nil || write(t, st, "a") != nil {
		t.Errorf("a store of its own: %v", err)
	}
	taken := 0
	for _, name := range []string{"attic", "again"} {
		st, err := s.Store(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		if err := write(t, st, "a-"+name); err == nil {
			taken++
		} else if !strings.Contains(err.Error(), "under another name") {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := st.List(context.Background(), ""); err != nil {
			t.Errorf("%s cannot be read: %v", name, err)
		}
	}
	if taken > 1 {
		t.Error("both of two names for one place take files")
	}
}
