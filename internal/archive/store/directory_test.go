package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

func put(t *testing.T, st Store, name, text string) error {
	t.Helper()
	f, err := st.Create(t.Context(), name)
	if err != nil {
		return err
	}
	if _, err := f.Write([]byte(text)); err != nil {
		t.Fatal(err)
	}
	return f.Commit()
}

func TestAFileIsThereWholeOrNotAtAll(t *testing.T) {
	root := t.TempDir()
	st, err := OpenDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	f, err := st.Create(t.Context(), "a/b/one")
	if err != nil {
		t.Fatal(err)
	}
	f.Write([]byte("half"))
	if list, err := st.List(t.Context(), ""); err != nil || len(list) != 0 {
		t.Errorf("before the commit the store lists %v, %v", list, err)
	}
	if _, err := st.Open(t.Context(), "a/b/one"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("before the commit the file opens: %v", err)
	}
	f.Abort()
	if left, _ := filepath.Glob(filepath.Join(root, "a/b/*")); len(left) != 0 {
		t.Errorf("an aborted file leaves %v", left)
	}
	if err := put(t, st, "a/b/one", "whole"); err != nil {
		t.Fatal(err)
	}
	list, err := st.List(t.Context(), "a/")
	if err != nil || len(list) != 1 || list[0].Name != "a/b/one" || list[0].Size != 5 {
		t.Errorf("the store lists %v, %v", list, err)
	}
}

func TestNothingIsOverwritten(t *testing.T) {
	st, err := OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	a, err := st.Create(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	if err := put(t, st, "x", "first"); err != nil {
		t.Fatal(err)
	}
	a.Write([]byte("second"))
	if err := a.Commit(); !errors.Is(err, ErrExists) {
		t.Errorf("of two writers both committed: %v", err)
	}
	if _, err := st.Create(t.Context(), "x"); !errors.Is(err, ErrExists) {
		t.Errorf("a name that is taken: %v", err)
	}
	r, err := st.Open(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	b := make([]byte, r.Size())
	r.ReadAt(b, 0)
	if string(b) != "first" {
		t.Errorf("the file holds %q", b)
	}
}

func TestNamesStayInsideTheStore(t *testing.T) {
	st, err := OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"../x", "/etc/passwd", "", "a/../../x", "x.partial"} {
		if _, err := st.Create(t.Context(), name); err == nil {
			t.Errorf("%q was taken for a name", name)
		}
	}
}

func TestCheckSaysWhetherTheStoreIsWritable(t *testing.T) {
	root := t.TempDir()
	st, err := OpenDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Check(t.Context()); err != nil || st.Free(t.Context()) <= 0 {
		t.Errorf("a good store: %v, %d bytes free", err, st.Free(t.Context()))
	}
	if err := os.RemoveAll(root); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(root, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := st.Check(t.Context()); err == nil {
		t.Error("a store whose directory became a file passes")
	}
	if _, err := OpenDirectory(filepath.Join(root, "below")); err == nil {
		t.Error("a directory below a file was made")
	}
}
