// Package standin has small simulated stand-ins for what the service works with and does not run itself: an
// S3-compatible object store. They are for the demo and for tests, and keep nothing safe.
package standin

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3afero"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// Objects says what a stand-in object store has.
type Objects struct {
	Directory string   // where it keeps objects; empty: in memory
	Buckets   []string // that are made where they do not exist
	AccessKey string   // the id of the only key that is let in, whatever its secret; empty: everyone is
	// for which every version of an object is kept after it was put; 0: nothing is locked, and no versions are kept
	Lock   time.Duration
	Region string // whose signatures are taken; empty: of any
	// by how much its clock is ahead: of a quarter of an hour and more, it does not believe those who ask
	Clock time.Duration
	Quota int64    // bytes that may be put, in all; 0: no end
	Deny  []string // methods of HTTP that the key may not use
	Cold  *Cold    // how objects of a cold storage class behave; nil: as UsualCold says
}

// Handler returns the stand-in as an HTTP handler. Buckets are addressed by path.
func (o Objects) Handler() (http.Handler, error) {
	backend, err := o.backend()
	if err != nil {
		return nil, err
	}
	how := UsualCold
	if o.Cold != nil {
		how = *o.Cold
	}
	var inner http.Handler = gofakes3.New(backend, gofakes3.WithIntegrityCheck(true)).Server()
	if o.Lock > 0 {
		locks, err := newLocks(o.Lock, backend, o.Buckets, inner)
		if err != nil {
			return nil, err
		}
		inner = locks
	}
	cold, err := newColdRoom(how, inner, o.Directory)
	if err != nil {
		return nil, err
	}
	var put atomic.Int64
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if o.refuses(w, r, &put) {
			return
		}
		if size, err := strconv.ParseInt(r.Header.Get("X-Amz-Decoded-Content-Length"), 10, 64); err == nil &&
			strings.HasPrefix(r.Header.Get("X-Amz-Content-Sha256"), "STREAMING-") {
			r.Body = &unframed{in: bufio.NewReader(r.Body), body: r.Body}
			r.ContentLength = size
			r.Header.Set("Content-Length", strconv.FormatInt(size, 10))
			r.Header.Set("X-Amz-Content-Sha256", "UNSIGNED-PAYLOAD")
		}
		cold.ServeHTTP(w, r)
	}), nil
}

// backend keeps the objects: in memory, or in files.
func (o Objects) backend() (gofakes3.Backend, error) {
	var backend gofakes3.Backend = s3mem.New()
	if o.Directory != "" {
		files, err := s3afero.FsPath(o.Directory, s3afero.FsPathCreate)
		if err == nil {
			backend, err = s3afero.MultiBucket(files)
		}
		if err != nil {
			return nil, fmt.Errorf("the stand-in cannot keep objects in %s: %w", o.Directory, err)
		}
	}
	for _, b := range o.Buckets {
		if there, err := backend.BucketExists(b); err != nil || there {
			if err != nil {
				return nil, err
			}
			continue
		}
		if err := backend.CreateBucket(b); err != nil {
			return nil, fmt.Errorf("bucket %s: %w", b, err)
		}
	}
	return backend, nil
}

// refuses answers a request that is not let in, and says so. put counts the bytes that were put.
func (o Objects) refuses(w http.ResponseWriter, r *http.Request, put *atomic.Int64) bool {
	authorization := r.Header.Get("Authorization")
	signed, err := time.Parse("20060102T150405Z", r.Header.Get("X-Amz-Date"))
	scope := strings.Split(authorization, "/")
	switch {
	case err == nil && time.Now().Add(o.Clock).Sub(signed).Abs() > mostSkew:
		refuse(w, http.StatusForbidden, "RequestTimeTooSkewed",
			"The difference between the request time and the current time is too large.")
	case o.Region != "" && len(scope) > 2 && scope[2] != o.Region:
		refuse(w, http.StatusBadRequest, "AuthorizationHeaderMalformed",
			fmt.Sprintf("The region '%s' is wrong; expecting '%s'", scope[2], o.Region), "Region", o.Region)
	case (o.Region != "" || o.Clock != 0) && authorization == "":
		refuse(w, http.StatusForbidden, "AccessDenied", "Requests without a signature are not let in.")
	case slices.Contains(o.Deny, r.Method):
		refuse(w, http.StatusForbidden, "AccessDenied", "Access Denied.")
	case o.Quota > 0 && r.Method == http.MethodPut && put.Add(max(r.ContentLength, 0)) > o.Quota:
		refuse(w, http.StatusForbidden, "QuotaExceeded", "The bucket's quota is used up.")
	case o.AccessKey != "" && !strings.Contains(authorization, "Credential="+o.AccessKey+"/"):
		refuse(w, http.StatusForbidden, "InvalidAccessKeyId", "The access key id is not known here.")
	default:
		return false
	}
	return true
}

// unframed takes the content out of a body of signed chunks: each has its length in hexadecimal and a signature on a
// line before it, and an empty line behind it; the last one is empty.
type unframed struct {
	in   *bufio.Reader
	body io.Closer
	left int64 // of the chunk
	done bool
}

func (u *unframed) Read(p []byte) (int, error) {
	if u.left == 0 && !u.done {
		line, err := u.in.ReadString('\n')
		if err != nil {
			return 0, io.ErrUnexpectedEOF
		}
		length, _, _ := strings.Cut(strings.TrimSpace(line), ";")
		if u.left, err = strconv.ParseInt(length, 16, 64); err != nil || u.left < 0 {
			return 0, fmt.Errorf("%q is no length of a chunk", length)
		}
		u.done = u.left == 0
	}
	if u.done {
		io.Copy(io.Discard, u.in) // what follows the last chunk
		return 0, io.EOF
	}
	n, err := u.in.Read(p[:min(int64(len(p)), u.left)])
	if u.left -= int64(n); u.left == 0 && err == nil {
		_, err = u.in.Discard(2)
	}
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func (u *unframed) Close() error { return u.body.Close() }

// mostSkew is by how much the clock of who asks may differ, as the protocol has it.
const mostSkew = 15 * time.Minute

// refuse answers as the protocol has it, with more elements as pairs of name and value.
func refuse(w http.ResponseWriter, status int, code, message string, more ...string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><Error><Code>%s</Code><Message>%s</Message>`, code, message)
	for i := 0; i+1 < len(more); i += 2 {
		fmt.Fprintf(w, "<%[1]s>%[2]s</%[1]s>", more[i], more[i+1])
	}
	fmt.Fprint(w, "</Error>")
}
