package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"ambercellar/internal/standin"
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

// stores runs a test on a store of each kind.
func stores(t *testing.T, fn func(t *testing.T, st Store)) {
	t.Run("directory", func(t *testing.T) {
		root := t.TempDir()
		st, err := MakeDirectory(root)
		if err != nil {
			t.Fatal(err)
		}
		fn(t, st)
		filepath.WalkDir(root, func(path string, _ fs.DirEntry, _ error) error {
			if strings.HasSuffix(path, partial) {
				t.Errorf("%s was left", path)
			}
			return nil
		})
	})
	t.Run("bucket", func(t *testing.T) { fn(t, bucket(t, func(h http.Handler) http.Handler { return h }, Bucket{})) })
	t.Run("sealed directory", func(t *testing.T) {
		st, err := MakeDirectory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		fn(t, sealed(t, st, newKey(t)))
	})
	t.Run("sealed bucket", func(t *testing.T) {
		fn(t, sealed(t, bucket(t, func(h http.Handler) http.Handler { return h }, Bucket{}), newKey(t)))
	})
	t.Run("prefix", func(t *testing.T) {
		fn(t, bucket(t, func(h http.Handler) http.Handler { return h }, Bucket{Prefix: "archive/harbour"}))
	})
}

// bucket opens a bucket of a stand-in behind a handler.
func bucket(t *testing.T, front func(http.Handler) http.Handler, b Bucket) *Objects {
	t.Helper()
	return bucketOf(t, standin.Objects{Buckets: []string{"cellar"}, AccessKey: "ferry"}, front, b)
}

func bucketOf(t *testing.T, o standin.Objects, front func(http.Handler) http.Handler, b Bucket) *Objects {
	t.Helper()
	t.Setenv("AWS_ACCESS_KEY_ID", "ferry")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "not-needed")
	h, err := o.Handler()
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(front(h))
	t.Cleanup(server.Close)
	b.Endpoint, b.Name = server.URL, "cellar"
	st, err := OpenBucket(b)
	if err != nil {
		t.Fatal(err)
	}
	return st
}

func TestAFileIsThereWholeOrNotAtAll(t *testing.T) { stores(t, wholeOrNotAtAll) }

func wholeOrNotAtAll(t *testing.T, st Store) {
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
	if list, err := st.List(t.Context(), ""); err != nil || len(list) != 0 {
		t.Errorf("an aborted file leaves %v, %v", list, err)
	}
	if err := put(t, st, "a/b/one", "whole"); err != nil {
		t.Fatal(err)
	}
	list, err := st.List(t.Context(), "a/")
	if err != nil || len(list) != 1 || list[0].Name != "a/b/one" || list[0].Size != 5 {
		t.Errorf("the store lists %v, %v", list, err)
	}
}

func TestNothingIsOverwritten(t *testing.T) { stores(t, nothingOverwritten) }

func nothingOverwritten(t *testing.T, st Store) {
	a, err := st.Create(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	large, err := st.Create(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := large.Write(make([]byte, partBytes+1)); err != nil {
		t.Fatal(err)
	}
	if err := put(t, st, "x", "first"); err != nil {
		t.Fatal(err)
	}
	if err := large.Commit(); !errors.Is(err, ErrExists) {
		t.Errorf("a large file was put in the place of another: %v", err)
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
		t.Errorf("the file holds %d bytes: %.20q", len(b), b)
	}
}

func TestNamesStayInsideTheStore(t *testing.T) {
	stores(t, func(t *testing.T, st Store) {
		for _, name := range []string{"../x", "/etc/passwd", "", "a/../../x", ".."} {
			if f, err := st.Create(t.Context(), name); err == nil {
				f.Abort()
				t.Errorf("%q was taken for a name", name)
			}
		}
	})
}

// TestLargeFilesGoInParts: a file of several parts arrives as it was, is read at any place, and what is fetched is
// little more than what is read.
func TestLargeFilesGoInParts(t *testing.T) {
	var sent, fetched atomic.Int64
	st := bucket(t, func(h http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPut {
				sent.Add(1)
			}
			c := &counted{ResponseWriter: w}
			h.ServeHTTP(c, r)
			fetched.Add(c.n)
		})
	}, Bucket{})
	text := make([]byte, 2*partBytes+partBytes/2)
	rand.NewChaCha8([32]byte{1}).Read(text)
	f, err := st.Create(t.Context(), "large")
	if err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(text); at += 100_003 {
		if _, err := f.Write(text[at:min(at+100_003, len(text))]); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Commit(); err != nil || sent.Load() != 3 {
		t.Fatalf("%d parts were sent, %v", sent.Load(), err)
	}
	r, err := st.Open(t.Context(), "large")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	got, err := io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
	if err != nil || !bytes.Equal(got, text) {
		t.Fatalf("%d bytes came back, %v", len(got), err)
	}
	fetched.Store(0)
	few := make([]byte, 100)
	for _, at := range []int64{0, 5 << 20, int64(len(text)) - 100, 7} {
		if n, err := r.ReadAt(few, at); n != 100 || !bytes.Equal(few, text[at:at+100]) {
			t.Errorf("at %d: %d bytes, %v", at, n, err)
		}
	}
	if most := int64(4*leastPiece + 1000); fetched.Load() > most {
		t.Errorf("%d bytes were fetched for 400", fetched.Load())
	}
	if n, err := r.ReadAt(few, int64(len(text))-10); n != 10 || err != io.EOF {
		t.Errorf("over the end: %d bytes, %v", n, err)
	}
}

// TestABucketTellsItsHabits: what a bucket does on its own is said, and what of it harms.
func TestABucketTellsItsHabits(t *testing.T) {
	answers := map[string]string{
		"versioning": `<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>`,
		"object-lock": `<ObjectLockConfiguration><ObjectLockEnabled>Enabled</ObjectLockEnabled><Rule>
				<DefaultRetention><Mode>COMPLIANCE</Mode><Days>400</Days></DefaultRetention></Rule>
				</ObjectLockConfiguration>`,
		"lifecycle": `<LifecycleConfiguration>
				<Rule><ID>tidy</ID><Status>Enabled</Status><Filter><Prefix></Prefix></Filter>
				<Expiration><Days>30</Days></Expiration></Rule>
			<Rule><ID>cool</ID><Status>Enabled</Status><Filter><Prefix>amber/</Prefix></Filter>
				<Transition><Days>9</Days><StorageClass>GLACIER</StorageClass></Transition></Rule>
			<Rule><ID>off</ID><Status>Disabled</Status><Filter><Prefix></Prefix></Filter>
				<Expiration><Days>1</Days></Expiration></Rule>
			<Rule><ID>elsewhere</ID><Status>Enabled</Status><Filter><Prefix>logs/</Prefix></Filter>
				<Expiration><Days>1</Days></Expiration></Rule></LifecycleConfiguration>`,
	}
	st := bucket(t, func(h http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			for what, text := range answers {
				if r.URL.Query().Has(what) {
					w.Header().Set("Content-Type", "application/xml")
					io.WriteString(w, text)
					return
				}
			}
			h.ServeHTTP(w, r)
		})
	}, Bucket{Prefix: "amber"})
	list, err := st.Habits(t.Context())
	if err != nil || len(list) != 4 {
		t.Fatalf("%+v, %v", list, err)
	}
	for i, want := range []string{"false the bucket keeps every version",
		"true the bucket locks every file for 400 days (compliance)", "true the bucket's rule \"tidy\" removes files",
		"true the bucket's rule \"cool\" moves files to storage class GLACIER"} {
		if got := fmt.Sprint(list[i].Harms, " ", list[i].Message); !strings.HasPrefix(got, want) {
			t.Errorf("%s, want %s", got, want)
		}
	}
}

// TestLockedVersionsSayUntilWhenTheyStay: a bucket that locks every version keeps them, and says until when; then all
// of them go.
func TestLockedVersionsSayUntilWhenTheyStay(t *testing.T) {
	plain := bucketOf(t, standin.Objects{Buckets: []string{"cellar"}, AccessKey: "ferry", Lock: 3 * time.Second},
		func(h http.Handler) http.Handler { return h }, Bucket{})
	for name, st := range map[string]Store{"plain": plain, "sealed": sealed(t, plain, newKey(t))} {
		t.Run(name, func(t *testing.T) {
			begun := time.Now()
			if err := put(t, st, name+"/rows", "the first version"); err != nil {
				t.Fatal(err)
			}
			lies := ""
			for x := range plain.client.ListObjects(t.Context(), "cellar",
				minio.ListObjectsOptions{Prefix: name, Recursive: true}) {
				lies = x.Key
			}
			if _, err := plain.client.PutObject(t.Context(), "cellar", lies, strings.NewReader("somebody else's"), 15,
				minio.PutObjectOptions{}); err != nil {
				t.Fatal(err)
			}
			until, err := st.KeptUntil(t.Context(), name+"/rows")
			if err != nil || until.Before(begun.Add(3*time.Second)) || until.After(time.Now().Add(3*time.Second)) {
				t.Errorf("kept until %s, begun at %s, %v", until, begun, err)
			}
			if until, err := st.KeptUntil(t.Context(), name+"/other"); err != nil || !until.IsZero() {
				t.Errorf("a file that is not there is kept until %s, %v", until, err)
			}
			if err := st.Remove(t.Context(), name+"/rows"); err == nil ||
				strings.Count(err.Error(), "is locked until "+until.UTC().Format("2006-01-02 15:04")) != 2 {
				t.Errorf("removing it: %v", err)
			}
			if list, err := st.Habits(t.Context()); err != nil ||
				!strings.Contains(fmt.Sprint(list),
					"the bucket locks every file for 1 days (compliance), that which") {
				t.Errorf("%+v, %v", list, err)
			}
			time.Sleep(time.Until(until) + 50*time.Millisecond)
			if until, err := st.KeptUntil(t.Context(), name+"/rows"); err != nil || until.After(time.Now()) {
				t.Errorf("after the lock it is kept until %s, %v", until, err)
			}
			if err := st.Remove(t.Context(), name+"/rows"); err != nil {
				t.Error(err)
			}
			for x := range plain.client.ListObjects(t.Context(), "cellar",
				minio.ListObjectsOptions{Prefix: name, Recursive: true, WithVersions: true}) {
				t.Errorf("version %s of %s is left", x.VersionID, x.Key)
			}
		})
	}
}

// TestWhatWasBegunIsListedAndTakenAway: a sending in parts that nobody completed is no file, and can be given up.
func TestWhatWasBegunIsListedAndTakenAway(t *testing.T) {
	st := bucket(t, func(h http.Handler) http.Handler { return h }, Bucket{Prefix: "amber"})
	core := minio.Core{Client: st.client}
	id, err := core.NewMultipartUpload(t.Context(), "cellar", "amber/a/b", minio.PutObjectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	list, err := st.Unfinished(t.Context(), "")
	if err != nil || len(list) != 1 || list[0].Name != "a/b" || list[0].ID != id {
		t.Fatalf("%+v, %v", list, err)
	}
	if files, err := st.List(t.Context(), ""); err != nil || len(files) != 0 {
		t.Errorf("%v, %v", files, err)
	}
	for range 2 {
		if err := st.RemoveUnfinished(t.Context(), list[0]); err != nil {
			t.Error(err)
		}
	}
	if list, err := st.Unfinished(t.Context(), ""); err != nil || len(list) != 0 {
		t.Errorf("%+v, %v", list, err)
	}
}

type counted struct {
	http.ResponseWriter
	n int64
}

func (c *counted) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return c.ResponseWriter.Write(p)
}

// TestABucketSaysWhatIsWrong: a bucket that is not there, credentials that are not known, an object store that is not
// there, and one that breaks off are each told apart, and leave nothing behind.
func TestABucketSaysWhatIsWrong(t *testing.T) {
	var broken atomic.Bool
	st := bucket(t, func(h http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if broken.Load() && r.Method == http.MethodPut {
				io.CopyN(io.Discard, r.Body, 100)
				panic(http.ErrAbortHandler)
			}
			h.ServeHTTP(w, r)
		})
	}, Bucket{})
	other, err := OpenBucket(Bucket{Endpoint: st.bucket.Endpoint, Name: "attic"})
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Check(t.Context()); err == nil || !strings.Contains(err.Error(), "there is no bucket attic") {
		t.Errorf("no bucket: %v", err)
	}
	keys := filepath.Join(t.TempDir(), "keys")
	if err := os.WriteFile(keys, []byte(
		"[default]\naws_access_key_id = stranger\naws_secret_access_key = x\n[ferry]\naws_access_key_id = "+
			"ferry\naws_secret_access_key = x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b := st.bucket
	b.Credentials = keys
	stranger, err := OpenBucket(b)
	if err != nil {
		t.Fatal(err)
	}
	if err := stranger.Check(t.Context()); err == nil || !strings.Contains(err.Error(), "check the credentials") {
		t.Errorf("unknown credentials: %v", err)
	}
	b.Profile = "ferry"
	known, err := OpenBucket(b)
	if err != nil {
		t.Fatal(err)
	}
	if err := known.Check(t.Context()); err != nil {
		t.Errorf("credentials of another section: %v", err)
	}
	broken.Store(true)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second) // it is tried again and again
	defer cancel()
	f, err := st.Create(ctx, "half")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Write(make([]byte, 1000)); err != nil {
		t.Fatal(err)
	}
	if err := f.Commit(); err == nil {
		t.Error("a file that broke off was committed")
	}
	broken.Store(false)
	if list, err := st.List(t.Context(), ""); err != nil || len(list) != 0 {
		t.Errorf("there is %v, %v", list, err)
	}
	for field, b := range map[string]Bucket{"endpoint": {Endpoint: "ftp://x", Name: "cellar"},
		"bucket": {Endpoint: "http://x", Name: "a"}, "prefix": {Endpoint: "http://x", Name: "cellar", Prefix: "../x"},
		"style":      {Endpoint: "http://x", Name: "cellar", Style: "odd"},
		"encryption": {Endpoint: "http://x", Name: "cellar", Encryption: "odd"},
		"key_id":     {Endpoint: "http://x", Name: "cellar", Encryption: "aws:kms"}} {
		if got, _ := b.Problem(); got != field {
			t.Errorf("%+v: the field that is named is %q", b, got)
		}
	}
}

// TestWhatABucketIsToldGoesWithTheFile: the key that the object store encrypts with is asked for with each file.
func TestWhatABucketIsToldGoesWithTheFile(t *testing.T) {
	var mu sync.Mutex
	asked := map[string]bool{}
	st := bucket(t, func(h http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			asked[r.Method+" "+r.Header.Get("X-Amz-Server-Side-Encryption")+" "+
				r.Header.Get("X-Amz-Server-Side-Encryption-Aws-Kms-Key-Id")+" "+r.Header.Get("If-None-Match")] = true
			mu.Unlock()
			h.ServeHTTP(w, r)
		})
	}, Bucket{Encryption: "aws:kms", KeyID: "pier-7"})
	if err := put(t, st, "x", "text"); err != nil {
		t.Fatal(err)
	}
	if !asked["PUT aws:kms pier-7 *"] {
		t.Errorf("the object store was asked %v", asked)
	}
}

func TestCheckSaysWhetherTheStoreIsWritable(t *testing.T) {
	root := t.TempDir()
	st, err := MakeDirectory(root)
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
	if _, err := MakeDirectory(filepath.Join(root, "below")); err == nil {
		t.Error("a directory below a file was made")
	}
}
