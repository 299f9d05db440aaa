package store

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/encrypt"
	"github.com/oklog/ulid/v2"
)

// Bucket says where the bucket of an S3-compatible object store is, and how it is spoken to.
type Bucket struct {
	Endpoint string `json:"endpoint,omitempty"` // http://HOST:PORT or https://HOST
	Name     string `json:"name,omitempty"`     // of the bucket
	Prefix   string `json:"prefix,omitempty"`   // of the names of all files
	Region   string `json:"region,omitempty"`   // empty: us-east-1
	Style    string `json:"style,omitempty"`    // how the bucket is addressed: path or host; empty: path
	// an INI file with aws_access_key_id and aws_secret_access_key; empty: the environment
	Credentials string `json:"credentials_file,omitempty"`
	Profile     string `json:"profile,omitempty"` // section of that file; empty: default
	// PEM file of the authority that signed the server's certificate; empty: the system's
	CA string `json:"ca_file,omitempty"`
	// by the object store: AES256, or aws:kms; empty: as the bucket has it
	Encryption string `json:"encryption,omitempty"`
	KeyID      string `json:"key_id,omitempty"` // of the key for aws:kms
	// storage class into which files are let go cold, as the object store calls it: one whose files have to be
	// retrieved before they are read; empty: they stay warm
	Class string `json:"class,omitempty"`
}

// String is the bucket's address.
func (b Bucket) String() string {
	return strings.TrimRight(b.Endpoint, "/") + "/" + path.Join(b.Name, b.Prefix)
}

// Problem says which field cannot be right, and why; both are empty where there is nothing to say.
func (b Bucket) Problem() (field, message string) {
	u, err := url.Parse(b.Endpoint)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" ||
		u.RawQuery != "" || u.User != nil:
		return "endpoint", fmt.Sprintf("%q is no endpoint; write one like https://objects.example:9000", b.Endpoint)
	case len(b.Name) < 3 || strings.ContainsAny(b.Name, "/ "):
		return "bucket", fmt.Sprintf("%q is no name of a bucket", b.Name)
	case strings.HasPrefix(b.Prefix, "/") || strings.Contains(b.Prefix, "..") || strings.Contains(b.Prefix, "//"):
		return "prefix", fmt.Sprintf("%q is no prefix; write one like archive/harbour", b.Prefix)
	case !slices.Contains([]string{"", "path", "host"}, b.Style):
		return "style", fmt.Sprintf("%q is none of path and host", b.Style)
	case !slices.Contains([]string{"", "AES256", "aws:kms"}, b.Encryption):
		return "encryption", fmt.Sprintf("%q is none of AES256 and aws:kms", b.Encryption)
	case b.Encryption == "aws:kms" && b.KeyID == "":
		return "key_id", "aws:kms needs the id of a key"
	}
	return "", ""
}

// Objects is a store in a bucket.
type Objects struct {
	bucket Bucket
	region string // that requests are signed for
	client *minio.Client
	sse    encrypt.ServerSide
}

// OpenBucket makes a store of a bucket. It does not speak to it yet.
func OpenBucket(b Bucket) (*Objects, error) {
	if field, message := b.Problem(); field != "" {
		return nil, fmt.Errorf("%s: %s", field, message)
	}
	u, err := url.Parse(b.Endpoint)
	if err != nil {
		return nil, err
	}
	transport, err := minio.DefaultTransport(u.Scheme == "https")
	if err != nil {
		return nil, err
	}
	if b.CA != "" {
		pem, err := os.ReadFile(b.CA)
		if err != nil {
			return nil, err
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", b.CA)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	style := minio.BucketLookupPath
	if b.Style == "host" {
		style = minio.BucketLookupDNS
	}
	region := b.Region
	if region == "" {
		region = "us-east-1"
	}
	o := &Objects{bucket: b, region: region}
	switch b.Encryption {
	case "AES256":
		o.sse = encrypt.NewSSE()
	case "aws:kms":
		if o.sse, err = encrypt.NewSSEKMS(b.KeyID, nil); err != nil {
			return nil, err
		}
	}
	who := credentials.NewEnvAWS()
	if b.Credentials != "" {
		who = credentials.NewFileAWSCredentials(b.Credentials, b.Profile)
	}
	o.client, err = minio.New(u.Host, &minio.Options{Creds: who, Secure: u.Scheme == "https", Region: region,
		BucketLookup: style, Transport: newWire(transport, b.Endpoint), MaxRetries: blips})
	return o, err
}

// blips is how often a request is made at the most, within a second or two; who needs the store for longer waits for
// it by itself.
const blips = 4

func (o *Objects) key(name string) (string, error) {
	if name == "" || strings.HasPrefix(name, "/") || path.Clean(name) != name || strings.HasPrefix(name, "..") {
		return "", fmt.Errorf("%q is no name for a file of a store", name)
	}
	return path.Join(o.bucket.Prefix, name), nil
}

// answers of object stores that are told in words of our own. What is not here is told as it came.
var answers = map[string]struct {
	kind error
	tell func(o *Objects, r minio.ErrorResponse) string
}{
	"RequestTimeTooSkewed": {ErrMisspoken, func(o *Objects, r minio.ErrorResponse) string {
		return "it does not believe this machine's clock (" + r.Message + "); set the clock right, here or there"
	}},
	"AuthorizationHeaderMalformed": {ErrMisspoken, wrongRegion},
	"InvalidRegion":                {ErrMisspoken, wrongRegion},
	"PermanentRedirect":            {ErrMisspoken, wrongPlace},
	"IncorrectEndpoint":            {ErrMisspoken, wrongPlace},
	"TemporaryRedirect":            {ErrMisspoken, wrongPlace},
	"InvalidBucketName":            {ErrMisspoken, wrongStyle},
	"MethodNotAllowed":             {ErrMisspoken, wrongStyle},
	"NoSuchBucket": {ErrMisspoken, func(o *Objects, _ minio.ErrorResponse) string {
		return fmt.Sprintf("there is no bucket %s; make it, mend the store's address, or address buckets in the "+
			"other style (-style host or path)", o.bucket.Name)
	}},
	"QuotaExceeded":                  {ErrFull, full},
	"XMinioAdminBucketQuotaExceeded": {ErrFull, full},
	"XMinioStorageFull":              {ErrFull, full},
	"InsufficientStorage":            {ErrFull, full},
	"ServiceQuotaExceeded":           {ErrFull, full},
	"EntityTooLarge": {ErrFull,
		func(*Objects, minio.ErrorResponse) string { return "it takes no files of this size" }},
}

func wrongRegion(o *Objects, r minio.ErrorResponse) string {
	if r.Region != "" {
		return fmt.Sprintf("bucket %s is in region %s; add the store with -region %s", o.bucket.Name, r.Region,
			r.Region)
	}
	return fmt.Sprintf("bucket %s is in another region (%s); add the store with its -region", o.bucket.Name, r.Message)
}

func wrongPlace(o *Objects, r minio.ErrorResponse) string {
	return fmt.Sprintf("bucket %s is spoken to at another endpoint, or in the other style (%s); mend -endpoint, "+
		"-region or -style", o.bucket.Name, r.Message)
}

func wrongStyle(o *Objects, r minio.ErrorResponse) string {
	other := "host"
	if o.bucket.Style == "host" {
		other = "path"
	}
	return fmt.Sprintf("it finds no bucket in the request (%s); perhaps it wants buckets addressed in the other "+
		"style (-style %s)", r.Message, other)
}

func full(o *Objects, r minio.ErrorResponse) string {
	return fmt.Sprintf("bucket %s takes nothing more (%s); raise its quota, or make room", o.bucket.Name, r.Message)
}

// told turns what the object store answers into what a store says.
func (o *Objects) told(name string, err error) error {
	if err == nil {
		return nil
	}
	var r minio.ErrorResponse
	if !errors.As(err, &r) {
		switch {
		case errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded):
			return fmt.Errorf("%s: %w", o.bucket, err)
		case o.bucket.Style == "host" && isNotFound(err):
			return fmt.Errorf("%w: there is no machine of the name %s.%s; if the object store addresses buckets by "+
				"path, add the store with -style path: %w", ErrUnreachable, o.bucket.Name,
				strings.TrimPrefix(strings.TrimPrefix(o.bucket.Endpoint, "https://"), "http://"), err)
		case errors.As(err, new(*tls.CertificateVerificationError)):
			return fmt.Errorf("%s: %w: its certificate is not believed: %w; name the authority that signed it "+
				"(-ca-file)", o.bucket.Endpoint, ErrMisspoken, err)
		case unanswered(err):
			return fmt.Errorf("%w: %s: %w", ErrUnreachable, o.bucket, err)
		}
		return fmt.Errorf("%s: %w", o.bucket, err)
	}
	if said, ok := answers[r.Code]; ok {
		return fmt.Errorf("%s: %w: %s", o.bucket.Endpoint, said.kind, said.tell(o, r))
	}
	switch {
	case r.Code == "NoSuchKey" || r.Code == "NoSuchObject" || r.Code == "NotFound" && r.BucketName == "" ||
		r.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	case r.Code == "InvalidObjectState":
		return fmt.Errorf("%s: %w", name, ErrCold)
	case r.StatusCode == http.StatusPreconditionFailed:
		return fmt.Errorf("%s: %w", name, ErrExists)
	case r.StatusCode == http.StatusInsufficientStorage:
		return fmt.Errorf("%s: %w: %s", o.bucket.Endpoint, ErrFull, full(o, r))
	case r.StatusCode == http.StatusMovedPermanently || r.StatusCode == http.StatusTemporaryRedirect:
		return fmt.Errorf("%s: %w: %s", o.bucket.Endpoint, ErrMisspoken, wrongPlace(o, r))
	case r.StatusCode == http.StatusBadRequest && r.Region != "" && r.Region != o.region:
		return fmt.Errorf("%s: %w: %s", o.bucket.Endpoint, ErrMisspoken, wrongRegion(o, r))
	case r.StatusCode == http.StatusForbidden || r.StatusCode == http.StatusUnauthorized || r.Code == "AccessDenied" ||
		r.Code == "InvalidAccessKeyId" || r.Code == "SignatureDoesNotMatch" || r.Code == "ExpiredToken":
		return fmt.Errorf("%s: %w (%s: %s); check the credentials and what they may do in bucket %s: write, read, "+
			"list and remove files", o.bucket.Endpoint, ErrForbidden, r.Code, r.Message, o.bucket.Name)
	case r.StatusCode >= http.StatusInternalServerError || r.StatusCode == http.StatusTooManyRequests ||
		r.StatusCode == http.StatusRequestTimeout:
		return fmt.Errorf("%w: %s: %w", ErrUnreachable, o.bucket, err)
	}
	return fmt.Errorf("%s: %w", o.bucket, err)
}

// isNotFound says whether a name leads to no machine.
func isNotFound(err error) bool {
	var dns *net.DNSError
	return errors.As(err, &dns) && dns.IsNotFound
}

// partBytes is the size of one part of a file that is sent in parts; each is in memory while it is sent. A file has
// 10,000 parts at the most, so 80 GiB.
const partBytes = 8 << 20

// Create begins a file. It is sent in parts while it is written, and there when all have arrived.
func (o *Objects) Create(ctx context.Context, name string) (File, error) {
	key, err := o.key(name)
	if err != nil {
		return nil, err
	}
	if err := o.free(ctx, name, key); err != nil {
		return nil, err
	}
	return &objectFile{objects: o, ctx: ctx, name: name, key: key}, nil
}

// stat asks after a file. An object store answers that without a word on why it will not; what asks in another way is
// told.
func (o *Objects) stat(ctx context.Context, key string) (minio.ObjectInfo, error) {
	info, err := o.client.StatObject(ctx, o.bucket.Name, key, minio.StatObjectOptions{})
	var r minio.ErrorResponse
	if !errors.As(err, &r) || r.StatusCode == http.StatusNotFound || r.StatusCode < 300 || r.StatusCode >= 500 {
		return info, err
	}
	asking, cancel := context.WithCancel(ctx)
	defer cancel()
	for x := range o.client.ListObjects(asking, o.bucket.Name, minio.ListObjectsOptions{Prefix: o.own(), MaxKeys: 1}) {
		if x.Err != nil && errors.As(x.Err, &r) {
			return info, x.Err
		}
		//lint:ignore SA4004 the first answer tells
		break
	}
	return info, err
}

// free says whether a name is free; ErrExists where it is not.
func (o *Objects) free(ctx context.Context, name, key string) error {
	if _, err := o.stat(ctx, key); err == nil {
		return fmt.Errorf("%s: %w", name, ErrExists)
	} else if err := o.told(name, err); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// objectFile keeps what is written until it is more than one part; from then on, parts are sent while the file is
// written.
type objectFile struct {
	objects   *Objects
	ctx       context.Context
	name, key string
	begun     []byte
	written   int64
	pipe      *io.PipeWriter // once it is more than a part
	done      chan struct{}
	err       error // once done
}

// put sends the file, of a size that may be unknown (-1).
func (f *objectFile) put(r io.Reader, size int64) error {
	o := f.objects
	options := minio.PutObjectOptions{ContentType: "application/octet-stream", PartSize: partBytes,
		ServerSideEncryption: o.sse, SendContentMd5: true}
	options.SetMatchETagExcept("*") // nothing is overwritten, whoever wrote it meanwhile
	info, err := o.client.PutObject(f.ctx, o.bucket.Name, f.key, r, size, options)
	if err = o.told(f.name, err); err == nil && info.Size != f.written {
		err = fmt.Errorf("%s: %s has kept %d bytes of %d", f.name, o.bucket, info.Size, f.written)
	}
	return err
}

func (f *objectFile) Write(p []byte) (int, error) {
	if f.pipe == nil && len(f.begun)+len(p) <= partBytes {
		f.begun = append(f.begun, p...)
		f.written += int64(len(p))
		return len(p), nil
	}
	if f.pipe == nil {
		if err := f.send(); err != nil {
			return 0, err
		}
	}
	n, err := f.pipe.Write(p)
	f.written += int64(n)
	return n, f.why(err)
}

// send begins to send parts, with what was kept.
func (f *objectFile) send() error {
	r, w := io.Pipe()
	f.pipe, f.done = w, make(chan struct{})
	go func() {
		defer close(f.done)
		f.err = f.put(r, -1)
		r.CloseWithError(io.ErrClosedPipe) // whoever still writes hears of it
	}()
	_, err := w.Write(f.begun)
	f.begun = nil
	return f.why(err)
}

// why is the reason for which writing to the pipe failed.
func (f *objectFile) why(err error) error {
	if err == nil {
		return nil
	}
	<-f.done
	return errors.Join(f.err, err)
}

func (f *objectFile) Commit() error {
	if f.pipe == nil {
		return f.put(bytes.NewReader(f.begun), f.written)
	}
	// The library hands the condition on only with files of one part. Names are never used twice, so a look must do
	// here.
	if err := f.objects.free(f.ctx, f.name, f.key); err != nil {
		f.Abort()
		return err
	}
	f.pipe.Close()
	<-f.done
	return f.err
}

var errAborted = errors.New("the file was given up")

func (f *objectFile) Abort() {
	if f.pipe != nil {
		f.pipe.CloseWithError(errAborted)
		<-f.done
	}
}

// Open opens a file for reading.
func (o *Objects) Open(ctx context.Context, name string) (Reader, error) {
	key, err := o.key(name)
	if err != nil {
		return nil, err
	}
	info, err := o.stat(ctx, key)
	if err != nil {
		return nil, o.told(name, err)
	}
	if !o.warmth(info).Readable() {
		return nil, fmt.Errorf("%s: %w", name, ErrCold)
	}
	return &objectReader{objects: o, ctx: ctx, name: name, key: key, etag: info.ETag, size: info.Size}, nil
}

// objectReader fetches what is read in pieces, which grow while they are read one after the other.
type objectReader struct {
	objects   *Objects
	ctx       context.Context
	name, key string
	etag      string
	size      int64

	mu    sync.Mutex
	piece []byte
	from  int64
	ahead int
}

// The least and the most that is fetched at a time, unless more is asked for.
const leastPiece, mostPiece = 32 << 10, 4 << 20

func (r *objectReader) Size() int64 { return r.size }

func (r *objectReader) ReadAt(p []byte, at int64) (n int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for n < len(p) {
		if at+int64(n) >= r.size {
			return n, io.EOF
		}
		if i := at + int64(n) - r.from; i >= 0 && i < int64(len(r.piece)) {
			n += copy(p[n:], r.piece[i:])
			continue
		}
		if err := r.fetch(at+int64(n), len(p)-n); err != nil {
			return n, err
		}
	}
	return n, nil
}

// fetch gets the piece that begins at a place.
func (r *objectReader) fetch(at int64, want int) error {
	if at == r.from+int64(len(r.piece)) && len(r.piece) > 0 {
		r.ahead = min(r.ahead*4, mostPiece)
	} else {
		r.ahead = leastPiece
	}
	n := min(int64(max(want, r.ahead)), r.size-at)
	options := minio.GetObjectOptions{}
	if err := options.SetRange(at, at+n-1); err != nil {
		return err
	}
	if err := options.SetMatchETag(r.etag); err != nil {
		return err
	}
	core := minio.Core{Client: r.objects.client}
	body, _, _, err := core.GetObject(r.ctx, r.objects.bucket.Name, r.key, options)
	if err != nil {
		return r.objects.told(r.name, err)
	}
	defer body.Close()
	if int64(cap(r.piece)) < n {
		r.piece = make([]byte, n)
	}
	r.piece, r.from = r.piece[:n], at
	if _, err := io.ReadFull(body, r.piece); err != nil {
		r.piece = r.piece[:0]
		if r.ctx.Err() != nil {
			return context.Cause(r.ctx)
		}
		return fmt.Errorf("%s: %w: %s broke off: %w", r.name, ErrUnreachable, r.objects.bucket, err)
	}
	return nil
}

func (r *objectReader) Close() error { return nil }

// List lists the bucket, page by page.
func (o *Objects) List(ctx context.Context, prefix string) ([]Object, error) {
	return sorted(o.Each(ctx, prefix))
}

// Each asks for a thousand at a time.
func (o *Objects) Each(ctx context.Context, prefix string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		own := o.own()
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		for x := range o.client.ListObjects(ctx, o.bucket.Name, minio.ListObjectsOptions{Prefix: own + prefix,
			Recursive: true}) {
			if x.Err != nil {
				yield(Object{}, o.told(prefix, x.Err))
				return
			}
			if !yield(Object{Name: strings.TrimPrefix(x.Key, own), Size: x.Size, Modified: x.LastModified}, nil) {
				return
			}
		}
	}
}

// Unfinished lists the sendings in parts that were never completed.
func (o *Objects) Unfinished(ctx context.Context, prefix string) ([]Unfinished, error) {
	own := o.own()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var out []Unfinished
	for x := range o.client.ListIncompleteUploads(ctx, o.bucket.Name, own+prefix, true) {
		if minio.ToErrorResponse(x.Err).Code == "NoSuchUpload" { // there is none
			break
		}
		if x.Err != nil {
			return nil, o.told("", x.Err)
		}
		out = append(out, Unfinished{Object{Name: strings.TrimPrefix(x.Key, own), Size: x.Size, Modified: x.Initiated},
			x.UploadID})
	}
	return out, nil
}

// RemoveUnfinished gives the sending up.
func (o *Objects) RemoveUnfinished(ctx context.Context, u Unfinished) error {
	key, err := o.key(u.Name)
	if err != nil {
		return err
	}
	core := minio.Core{Client: o.client}
	err = o.told(u.Name, core.AbortMultipartUpload(ctx, o.bucket.Name, key, u.ID))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// own is what the names of all files begin with in the bucket.
func (o *Objects) own() string {
	if o.bucket.Prefix == "" {
		return ""
	}
	return strings.TrimRight(o.bucket.Prefix, "/") + "/"
}

// Remove removes a file, and every version of it where the bucket keeps versions.
func (o *Objects) Remove(ctx context.Context, name string) error {
	key, err := o.key(name)
	if err != nil {
		return err
	}
	versioned, err := o.versioned(ctx)
	if err != nil {
		return err
	}
	if !versioned {
		err := o.told(name, o.client.RemoveObject(ctx, o.bucket.Name, key, minio.RemoveObjectOptions{}))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var kept error
	for x := range o.client.ListObjects(ctx, o.bucket.Name, minio.ListObjectsOptions{Prefix: key, Recursive: true,
		WithVersions: true}) {
		if x.Err != nil {
			return o.told(name, x.Err)
		}
		if x.Key != key {
			continue
		}
		if err := o.client.RemoveObject(ctx, o.bucket.Name, key,
			minio.RemoveObjectOptions{VersionID: x.VersionID}); err != nil {
			until, asked := o.lockedUntil(ctx, key, x.VersionID)
			if err = o.told(name, err); asked == nil && !until.IsZero() {
				err = fmt.Errorf("%s: version %s is locked until %s, and cannot be destroyed before that: %w", name,
					x.VersionID, until.UTC().Format("2006-01-02 15:04:05 UTC"), err)
			}
			kept = errors.Join(kept, err) // the others go all the same
		}
	}
	return kept
}

// versioned says whether the bucket keeps, or has kept, more than one version of a file. Where it does not tell,
// nothing may be removed: a version that nobody sees would stay, and be taken for destroyed.
func (o *Objects) versioned(ctx context.Context) (bool, error) {
	v, err := o.client.GetBucketVersioning(ctx, o.bucket.Name)
	if r := minio.ToErrorResponse(err); r.Code == "NotImplemented" || r.StatusCode == http.StatusNotImplemented {
		return false, nil // it knows no versions at all
	}
	if err != nil {
		return false, fmt.Errorf("bucket %s does not tell whether it keeps versions of files, so nothing is "+
			"removed from it; let the service ask (s3:GetBucketVersioning): %w", o.bucket.Name, o.told("", err))
	}
	return v.Enabled() || v.Suspended(), nil
}

// lockedUntil says until when a version of a file cannot be removed; the zero time where no lock keeps it.
func (o *Objects) lockedUntil(ctx context.Context, key, version string) (time.Time, error) {
	_, until, err := o.client.GetObjectRetention(ctx, o.bucket.Name, key, version)
	switch code := minio.ToErrorResponse(err).Code; {
	// the last of a mark that it was removed
	case code == "NoSuchObjectLockConfiguration" || code == "ObjectLockConfigurationNotFoundError" ||
		code == "MethodNotAllowed":
		return time.Time{}, nil
	case err != nil || until == nil:
		return time.Time{}, err
	}
	return *until, nil
}

// KeptUntil asks for the lock of every version of a file, where the bucket locks any.
func (o *Objects) KeptUntil(ctx context.Context, name string) (until time.Time, err error) {
	key, err := o.key(name)
	if err != nil {
		return until, err
	}
	if locks, _, _, _, err := o.client.GetObjectLockConfig(ctx, o.bucket.Name); err != nil || locks != "Enabled" {
		return until, nil // what does not tell is found out when it refuses
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for x := range o.client.ListObjects(ctx, o.bucket.Name, minio.ListObjectsOptions{Prefix: key, Recursive: true,
		WithVersions: true}) {
		if x.Err != nil {
			return until, o.told(name, x.Err)
		}
		if x.Key != key || x.IsDeleteMarker {
			continue
		}
		one, err := o.lockedUntil(ctx, key, x.VersionID)
		if err != nil {
			return until, o.told(name, err)
		}
		if one.After(until) {
			until = one
		}
	}
	return until, nil
}

// Check tries the store out.
func (o *Objects) Check(ctx context.Context) error {
	return tryOut(ctx, o, o.bucket.String())
}

// Habits asks the bucket for its versioning, its object lock, and its rules for ageing files. What it does not tell is
// said.
func (o *Objects) Habits(ctx context.Context) ([]Habit, error) {
	out := []Habit{}
	untold := func(what string, err error) {
		out = append(out, Habit{false, fmt.Sprintf("the bucket does not tell its %s (%v)", what,
			minio.ToErrorResponse(err).Code)})
	}
	versions, err := o.client.GetBucketVersioning(ctx, o.bucket.Name)
	switch {
	case err != nil:
		untold("versioning", err)
	case versions.Enabled():
		out = append(out, Habit{false, "the bucket keeps every version of a file; a disposal removes all of them"})
	case versions.Suspended():
		out = append(out, Habit{false, "the bucket kept versions of files for a time; a disposal removes all of them"})
	}
	_, mode, days, unit, err := o.client.GetObjectLockConfig(ctx, o.bucket.Name)
	switch code := minio.ToErrorResponse(err).Code; {
	case code == "ObjectLockConfigurationNotFoundError" || err == nil && mode == nil:
	case err != nil:
		untold("object lock", err)
	case days != nil && unit != nil:
		out = append(out, Habit{true, fmt.Sprintf(
			"the bucket locks every file for %d %s (%s), that which tried it out among them: nothing can be "+
				"disposed of before that, whatever a rule says", *days, strings.ToLower(string(*unit)),
			strings.ToLower(string(*mode)))})
	}
	rules, err := o.client.GetBucketLifecycle(ctx, o.bucket.Name)
	if code := minio.ToErrorResponse(err).Code; err != nil && code != "NoSuchLifecycleConfiguration" {
		untold("rules for ageing files", err)
	}
	if err != nil {
		return out, ctx.Err()
	}
	for _, r := range rules.Rules {
		about := r.Prefix
		if about == "" {
			about = r.RuleFilter.Prefix
		}
		if own := o.own(); r.Status != "Enabled" || !strings.HasPrefix(own, about) && !strings.HasPrefix(about, own) {
			continue
		}
		name := fmt.Sprintf("the bucket's rule %q", r.ID)
		if !r.Expiration.IsDaysNull() || !r.Expiration.IsDateNull() {
			out = append(out, Habit{true, fmt.Sprintf(
				"%s removes files of its own accord (after %d days): segments would vanish; take it away, or keep "+
					"it from %s", name, r.Expiration.Days, o.bucket)})
		}
		if !r.Transition.IsDaysNull() || !r.Transition.IsDateNull() {
			out = append(out, Habit{true, fmt.Sprintf(
				"%s moves files to storage class %s (after %d days): they may have to be retrieved before they can "+
					"be read; keep it from %s", name, r.Transition.StorageClass, r.Transition.Days, o.bucket)})
		}
	}
	return out, nil
}

// Free is not known of an object store.
func (o *Objects) Free(context.Context) int64 { return -1 }

// tryOut writes a small file, reads it back, finds it in the listing, and removes it.
func tryOut(ctx context.Context, st Store, where string) error {
	name, text := "check-"+ulid.Make().String(), "amber"
	f, err := st.Create(ctx, name)
	if err != nil {
		return fmt.Errorf("%s is not writable: %w", where, err)
	}
	_, err = f.Write([]byte(text))
	if err = errors.Join(err, f.Commit()); err != nil {
		return fmt.Errorf("%s is not writable: %w", where, err)
	}
	r, err := st.Open(ctx, name)
	if err != nil {
		return fmt.Errorf("%s: a file that was written cannot be opened: %w", where, err)
	}
	got, err := io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
	r.Close()
	if err == nil && string(got) != text {
		err = fmt.Errorf("%q was written and %q read back", text, got)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", where, err)
	}
	if list, err := st.List(ctx, name); err != nil || len(list) != 1 {
		return errors.Join(err, fmt.Errorf("%s: the listing does not show a file that was written", where))
	}
	if err := st.Remove(ctx, name); err != nil {
		if until, asked := st.KeptUntil(ctx, name); asked == nil && until.After(time.Now()) { // a habit of the place
			return nil
		}
		return fmt.Errorf("%s: a file cannot be removed: %w", where, err)
	}
	if r, err := st.Open(ctx, name); err == nil {
		r.Close()
		return fmt.Errorf("%s: a file that was removed is still there", where)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", where, err)
	}
	return nil
}
