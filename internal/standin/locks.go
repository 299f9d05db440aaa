package standin

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/johannesboyne/gofakes3"
)

// locks stand before objects of which every version is kept, and cannot be removed for a time after it was put.
type locks struct {
	how   time.Duration
	inner http.Handler

	mu    sync.Mutex
	until map[string]time.Time // by bucket, object and version
}

// newLocks has a backend keep versions, and locks them.
func newLocks(how time.Duration, backend gofakes3.Backend, buckets []string, inner http.Handler) (*locks, error) {
	versioned, ok := backend.(gofakes3.VersionedBackend)
	if !ok {
		return nil, fmt.Errorf("the stand-in locks objects only where it keeps them in memory; leave the " +
			"directory out")
	}
	for _, b := range buckets {
		if err := versioned.SetVersioningConfiguration(b,
			gofakes3.VersioningConfiguration{Status: gofakes3.VersioningEnabled}); err != nil {
			return nil, fmt.Errorf("bucket %s: %w", b, err)
		}
	}
	return &locks{how: how, inner: inner, until: map[string]time.Time{}}, nil
}

func (l *locks) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	object := strings.Trim(r.URL.Path, "/")
	version := q.Get("versionId")
	l.mu.Lock()
	until, locked := l.until[object+"\x00"+version]
	l.mu.Unlock()
	switch {
	case r.Method == http.MethodGet && q.Has("object-lock"):
		answer(w, fmt.Sprintf(
			`<ObjectLockConfiguration><ObjectLockEnabled>Enabled</ObjectLockEnabled>`+
				`<Rule><DefaultRetention><Mode>COMPLIANCE</Mode><Days>%d</Days></DefaultRetention></Rule>`+
				`</ObjectLockConfiguration>`,
			max(1, int(l.how.Hours()/24))))
	case r.Method == http.MethodGet && q.Has("retention") && locked:
		answer(w, fmt.Sprintf(`<Retention><Mode>COMPLIANCE</Mode><RetainUntilDate>%s</RetainUntilDate></Retention>`,
			until.UTC().Format(time.RFC3339Nano)))
	case r.Method == http.MethodGet && q.Has("retention"):
		refuse(w, http.StatusNotFound, "NoSuchObjectLockConfiguration", "The object has no lock.")
	case r.Method == http.MethodDelete && version != "" && time.Now().Before(until):
		refuse(w, http.StatusForbidden, "AccessDenied", "The version is locked.")
	default:
		l.inner.ServeHTTP(w, r)
		if v := w.Header().Get("X-Amz-Version-Id"); v != "" &&
			(r.Method == http.MethodPut || r.Method == http.MethodPost) {
			l.mu.Lock()
			l.until[object+"\x00"+v] = time.Now().Add(l.how)
			l.mu.Unlock()
		}
	}
}

func answer(w http.ResponseWriter, xml string) {
	w.Header().Set("Content-Type", "application/xml")
	fmt.Fprint(w, `<?xml version="1.0" encoding="UTF-8"?>`, xml)
}
