package store

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/standin"
)

func newKey(t *testing.T) string {
	t.Helper()
	text, _, err := NewSealKey()
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// sealed seals a store with keys, the newest first.
func sealed(t *testing.T, inner Store, keys ...string) *SealedStore {
	t.Helper()
	file := filepath.Join(t.TempDir(), "keys")
	if err := os.WriteFile(file, []byte("# of the test\n"+strings.Join(keys, "\n")+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	st, err := OpenSealed(inner, Seal{File: file})
	if err != nil {
		t.Fatal(err)
	}
	return st
}

func content(t *testing.T, st Store, name string) ([]byte, error) {
	t.Helper()
	f, err := st.Open(t.Context(), name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.NewSectionReader(f, 0, f.Size()))
}

// TestASealedStoreTellsNothing: what lies there is not what was written, has its size in listings, and is read at any
// place; a flipped byte is damage, and a key that is not known is named.
func TestASealedStoreTellsNothing(t *testing.T) {
	root := t.TempDir()
	inner, err := MakeDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	key := newKey(t)
	st := sealed(t, inner, key)
	for _, size := range []int{0, 1, 65_535, 65_536, 65_537, 131_072, 300_000} {
		want := bytes.Repeat([]byte("amber "), size/6+1)[:size]
		name := "x/" + strings.Repeat("n", size%7+1)
		if err := put(t, st, name, string(want)); err != nil {
			t.Fatal(err)
		}
		list, err := st.List(t.Context(), name)
		if err != nil || len(list) != 1 || list[0].Size != int64(size) || list[0].Name != name {
			t.Errorf("%d bytes are listed as %+v, %v", size, list, err)
		}
		got, err := content(t, st, name)
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%d bytes are read back as %d, %v", size, len(got), err)
		}
		if f, err := st.Open(t.Context(), name); err == nil && size > 10 {
			at := rand.IntN(size - 5)
			b := make([]byte, 5)
			if _, err := f.ReadAt(b, int64(at)); err != nil || !bytes.Equal(b, want[at:at+5]) {
				t.Errorf("at %d of %d: %q, %v", at, size, b, err)
			}
			f.Close()
		}
		lies, err := inner.List(t.Context(), name)
		if err != nil || len(lies) != 1 {
			t.Fatal(lies, err)
		}
		raw, err := content(t, inner, lies[0].Name)
		if err != nil || size > 100 && bytes.Contains(raw, []byte("amber amber")) {
			t.Errorf("the file tells what is in it, %v", err)
		}
		if size == 300_000 {
			raw[150_000] ^= 1
			if err := os.WriteFile(filepath.Join(root, lies[0].Name), raw, 0o640); err != nil {
				t.Fatal(err)
			}
			if _, err := content(t, st, name); !errors.Is(err, ErrDamaged) {
				t.Errorf("a flipped byte: %v", err)
			}
		}
		if err := st.Remove(t.Context(), name); err != nil {
			t.Fatal(err)
		}
		if _, err := st.Open(t.Context(), name); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("a file that was removed: %v", err)
		}
	}
	if err := put(t, st, "kept", "amber"); err != nil {
		t.Fatal(err)
	}
	if _, err := content(t, sealed(t, inner, newKey(t)), "kept"); err == nil ||
		!strings.Contains(err.Error(), "none of the store's keys") {
		t.Errorf("with another key: %v", err)
	}
	for text, want := range map[string]string{"": "holds no keys", "AGE-SECRET-KEY-1X": "holds no keys",
		"age1nothing": "holds no keys"} {
		t.Setenv("AMBER_TEST_KEYS", text)
		if _, err := OpenSealed(inner, Seal{Env: "AMBER_TEST_KEYS"}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("keys %q: %v", text, err)
		}
	}
}

// TestFilesAreSealedAnew: with a new key in front everything is still read, plain files of before too; sealing anew
// goes on after it was interrupted at any point, and afterwards the old key is not needed.
func TestFilesAreSealedAnew(t *testing.T) {
	inner, err := MakeDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	first, second := newKey(t), newKey(t)
	want := map[string]string{"plain": "one", "a/b": strings.Repeat("two ", 50_000), "c": ""}
	if err := put(t, inner, "plain", want["plain"]); err != nil {
		t.Fatal(err)
	}
	before := sealed(t, inner, first)
	for _, name := range []string{"a/b", "c"} {
		if err := put(t, before, name, want[name]); err != nil {
			t.Fatal(err)
		}
	}
	check := func(when string, st Store) {
		t.Helper()
		list, err := st.List(t.Context(), "")
		if err != nil || len(list) != len(want) {
			t.Errorf("%s: the listing is %+v, %v", when, list, err)
		}
		for name, text := range want {
			if got, err := content(t, st, name); err != nil || string(got) != text {
				t.Errorf("%s: %s is %.20q, %v", when, name, got, err)
			}
			if err := put(t, st, name, "another"); !errors.Is(err, ErrExists) {
				t.Errorf("%s: %s was overwritten: %v", when, name, err)
			}
		}
	}
	check("sealed with the first key", before)
	now := sealed(t, inner, second, first)
	check("with the second key in front", now)
	stale, err := now.Stale(t.Context())
	if err != nil || len(stale) != 3 {
		t.Fatalf("to be sealed anew: %+v, %v", stale, err)
	}
	for _, o := range stale {
		if err := now.RemoveStale(t.Context(), o.Name); err != nil { // nothing was written in its place
			t.Fatal(err)
		}
		if err := now.SealAnew(t.Context(), o.Name); err != nil {
			t.Fatal(err)
		}
	}
	check("interrupted: the new files are there, and the old ones were not removed", now)
	for _, o := range stale {
		if err := errors.Join(now.SealAnew(t.Context(), o.Name), now.RemoveStale(t.Context(), o.Name)); err != nil {
			t.Fatal(err)
		}
	}
	if stale, err := now.Stale(t.Context()); err != nil || len(stale) != 0 {
		t.Errorf("left to be sealed anew: %+v, %v", stale, err)
	}
	check("with the second key alone", sealed(t, inner, second))
}

// coldBucket opens a bucket whose files go cold, in a stand-in whose days are short.
func coldBucket(t *testing.T, day time.Duration) *Objects {
	t.Helper()
	return bucketOf(t, standin.Objects{Buckets: []string{"cellar"}, AccessKey: "ferry", Cold: &standin.Cold{Day: day,
		Wait: map[string]time.Duration{"low": 400 * time.Millisecond, "normal": 200 * time.Millisecond,
			"high": 50 * time.Millisecond}, Price: map[string]float64{"low": 1, "normal": 2, "high": 3}}},
		func(h http.Handler) http.Handler { return h }, Bucket{Class: "COLD"})
}

// TestFilesGoCold: a file that was let go cold is refused until it was retrieved, faster at a higher priority, and
// again when the copy is gone. It can be removed at any time.
func TestFilesGoCold(t *testing.T) {
	for name, open := range map[string]func(*testing.T, Store) Store{
		"plain":  func(_ *testing.T, st Store) Store { return st },
		"sealed": func(t *testing.T, st Store) Store { return sealed(t, st, newKey(t)) },
	} {
		t.Run(name, func(t *testing.T) {
			st := open(t, coldBucket(t, 700*time.Millisecond))
			cold := AsCold(st)
			if cold == nil {
				t.Fatal("the store does not let files go cold")
			}
			for _, file := range []string{"slow", "fast"} {
				if err := put(t, st, file, "amber"); err != nil {
					t.Fatal(err)
				}
				if w, err := cold.Warmth(t.Context(), file); err != nil || w.Cold || !w.Readable() {
					t.Errorf("%s before: %+v, %v", file, w, err)
				}
				for range 2 { // once more does nothing
					if err := cold.Cool(t.Context(), file); err != nil {
						t.Fatal(err)
					}
				}
				if _, err := content(t, st, file); !errors.Is(err, ErrCold) {
					t.Errorf("%s is read: %v", file, err)
				}
				if err := put(t, st, file, "another"); !errors.Is(err, ErrExists) {
					t.Errorf("%s was overwritten: %v", file, err)
				}
			}
			begun := time.Now()
			for file, p := range map[string]Priority{"slow": Low, "fast": High} {
				for range 2 { // it goes on already
					if err := cold.Retrieve(t.Context(), file, p, 1); err != nil {
						t.Fatal(err)
					}
				}
			}
			if w, err := cold.Warmth(t.Context(), "slow"); err != nil || !w.Retrieving || w.Readable() {
				t.Errorf("on its way: %+v, %v", w, err)
			}
			took := map[string]time.Duration{}
			for len(took) < 2 && time.Since(begun) < 5*time.Second {
				for _, file := range []string{"slow", "fast"} {
					if _, err := content(t, st, file); err == nil && took[file] == 0 {
						took[file] = time.Since(begun)
					} else if err != nil && !errors.Is(err, ErrCold) {
						t.Fatal(err)
					}
				}
			}
			if took["fast"] == 0 || took["slow"] < 350*time.Millisecond || took["fast"] >= took["slow"] {
				t.Errorf("they were there after %v", took)
			}
			for time.Since(begun) < 5*time.Second {
				if _, err := content(t, st, "slow"); errors.Is(err, ErrCold) {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			if w, err := cold.Warmth(t.Context(), "slow"); err != nil || w.Readable() || !w.Cold {
				t.Errorf("when the copy is gone: %+v, %v", w, err)
			}
			if err := errors.Join(st.Remove(t.Context(), "slow"),
				st.Remove(context.Background(), "fast")); err != nil {
				t.Error(err)
			}
			if list, err := st.List(t.Context(), ""); err != nil || len(list) != 0 {
				t.Errorf("in the end: %+v, %v", list, err)
			}
		})
	}
}
