package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/minio/minio-go/v7"
)

// Cold is a store whose files can be let go cold: they are kept cheaply, and a copy of one has to be retrieved, which
// takes its time and its price, before it can be read for some days.
type Cold interface {
	Store
	// Cool lets a file that is readable go cold.
	Cool(ctx context.Context, name string) error
	// Warmth says whether a file can be read.
	Warmth(ctx context.Context, name string) (Warmth, error)
	// Retrieve asks for a copy of a cold file that stays for so many days; of one that is there already, it stays
	// longer.
	Retrieve(ctx context.Context, name string, p Priority, days int) error
}

// Warmth is whether a file can be read.
type Warmth struct {
	Cold       bool       // it was let go cold
	Retrieving bool       // a copy was asked for, and is not there yet
	Until      *time.Time // a copy is there until then
}

// Readable says whether it can be read.
func (w Warmth) Readable() bool { return !w.Cold || w.Until != nil }

// Priority is how urgent a retrieval is.
type Priority string

const (
	Low    Priority = "low"
	Normal Priority = "normal"
	High   Priority = "high"
)

// Priorities lists them, the least urgent first.
var Priorities = []Priority{Low, Normal, High}

// ErrCold says that a file cannot be read before it was retrieved.
var ErrCold = errors.New("the file is in cold storage, and has to be retrieved before it can be read")

// AsCold returns a store's ability to let files go cold; nil where it has none.
func AsCold(st Store) Cold {
	switch st := st.(type) {
	case *Objects:
		if st.bucket.Class != "" {
			return st
		}
	case *SealedStore:
		if inner := AsCold(st.inner); inner != nil {
			return &coldSealed{SealedStore: st, cold: inner}
		}
	case Cold:
		return st
	}
	return nil
}

// tiers are what the protocol calls the priorities.
var tiers = map[Priority]minio.TierType{Low: minio.TierBulk, Normal: minio.TierStandard, High: minio.TierExpedited}

// Cool has the object store put a file into the bucket's cold class.
func (o *Objects) Cool(ctx context.Context, name string) error {
	key, err := o.key(name)
	if err != nil {
		return err
	}
	before, err := o.client.StatObject(ctx, o.bucket.Name, key, minio.StatObjectOptions{})
	if err != nil {
		return o.told(name, err)
	}
	if o.warmth(before).Cold {
		return nil
	}
	to := minio.CopyDestOptions{Bucket: o.bucket.Name, Object: key, Encryption: o.sse, ReplaceMetadata: true,
		UserMetadata: map[string]string{"X-Amz-Storage-Class": o.bucket.Class}}
	if _, err := o.client.CopyObject(ctx, to, minio.CopySrcOptions{Bucket: o.bucket.Name, Object: key}); err != nil {
		return o.told(name, err)
	}
	after, err := o.client.StatObject(ctx, o.bucket.Name, key, minio.StatObjectOptions{})
	switch {
	case err != nil:
		return o.told(name, err)
	case after.Size != before.Size:
		return fmt.Errorf("%s: %w: %s has %d bytes of it since it went cold, and had %d", name, ErrDamaged, o.bucket,
			after.Size, before.Size)
	case !o.warmth(after).Cold:
		return fmt.Errorf("%s: %s keeps it in its usual class, though it was asked for %s", name, o.bucket,
			o.bucket.Class)
	}
	return o.removeOlder(ctx, name, key)
}

// removeOlder removes the versions of a file but the newest, where the bucket keeps versions: they are in a warm class
// still.
func (o *Objects) removeOlder(ctx context.Context, name, key string) error {
	if versioned, err := o.versioned(ctx); err != nil || !versioned {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for x := range o.client.ListObjects(ctx, o.bucket.Name, minio.ListObjectsOptions{Prefix: key, Recursive: true,
		WithVersions: true}) {
		if x.Err != nil {
			return o.told(name, x.Err)
		}
		if x.Key == key && !x.IsLatest {
			if err := o.client.RemoveObject(ctx, o.bucket.Name, key,
				minio.RemoveObjectOptions{VersionID: x.VersionID}); err != nil {
				return o.told(name, err)
			}
		}
	}
	return nil
}

// Warmth asks the object store.
func (o *Objects) Warmth(ctx context.Context, name string) (Warmth, error) {
	key, err := o.key(name)
	if err != nil {
		return Warmth{}, err
	}
	info, err := o.client.StatObject(ctx, o.bucket.Name, key, minio.StatObjectOptions{})
	if err != nil {
		return Warmth{}, o.told(name, err)
	}
	return o.warmth(info), nil
}

// warmth is what the object store tells of a file. Cold is one in the bucket's cold class.
func (o *Objects) warmth(info minio.ObjectInfo) Warmth {
	class := info.StorageClass
	if class == "" {
		class = info.Metadata.Get("X-Amz-Storage-Class")
	}
	w := Warmth{Cold: class != "" && class == o.bucket.Class}
	if r := info.Restore; w.Cold && r != nil {
		if w.Retrieving = r.OngoingRestore; !w.Retrieving && !r.ExpiryTime.IsZero() {
			w.Until = &r.ExpiryTime
		}
	}
	return w
}

// Retrieve asks the object store for a copy.
func (o *Objects) Retrieve(ctx context.Context, name string, p Priority, days int) error {
	key, err := o.key(name)
	if err != nil {
		return err
	}
	q := minio.RestoreRequest{}
	q.SetDays(days)
	q.SetGlacierJobParameters(minio.GlacierJobParameters{Tier: tiers[p]})
	err = o.client.RestoreObject(ctx, o.bucket.Name, key, "", q)
	if minio.ToErrorResponse(err).Code == "RestoreAlreadyInProgress" {
		return nil
	}
	return o.told(name, err)
}

// coldSealed is a sealed store in a cold one.
type coldSealed struct {
	*SealedStore
	cold Cold
}

// lies is the name under which a file lies in the other store.
func (s *coldSealed) lies(ctx context.Context, name string) (string, error) {
	inner, f, err := s.find(ctx, name)
	if f != nil {
		f.Close()
	}
	if errors.Is(err, ErrCold) {
		err = nil
	}
	return inner, err
}

func (s *coldSealed) Cool(ctx context.Context, name string) error {
	inner, err := s.lies(ctx, name)
	if err != nil {
		return err
	}
	return s.cold.Cool(ctx, inner)
}

func (s *coldSealed) Warmth(ctx context.Context, name string) (Warmth, error) {
	inner, err := s.lies(ctx, name)
	if err != nil {
		return Warmth{}, err
	}
	return s.cold.Warmth(ctx, inner)
}

func (s *coldSealed) Retrieve(ctx context.Context, name string, p Priority, days int) error {
	inner, err := s.lies(ctx, name)
	if err != nil {
		return err
	}
	return s.cold.Retrieve(ctx, inner, p, days)
}
