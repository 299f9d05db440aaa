package standin

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Cold is how the stand-in's cold storage behaves. An object that was put, or copied onto itself, with a cold storage
// class cannot be read before a retrieval was asked for and its time has passed; the retrieved copy goes away again.
type Cold struct {
	Wait  map[string]time.Duration // by priority (low, normal, high): from asking to reading
	Price map[string]float64       // by priority: of a GiB
	Day   time.Duration            // how long a day is, so that copies can be seen going away
}

// UsualCold has short waits, so that a demonstration need not last a night.
var UsualCold = Cold{
	Wait:  map[string]time.Duration{"low": 30 * time.Second, "normal": 8 * time.Second, "high": time.Second},
	Price: map[string]float64{"low": 0.002, "normal": 0.01, "high": 0.03},
	Day:   24 * time.Hour,
}

// priorities are what the protocol calls them.
var priorities = map[string]string{"Bulk": "low", "Standard": "normal", "Expedited": "high"}

// kept is what is known of a cold object.
type kept struct {
	Class string    `json:"class"`
	Ready time.Time `json:"ready,omitzero"` // the retrieved copy is there from then
	Until time.Time `json:"until,omitzero"` // to then
}

func (k kept) readable(now time.Time) bool {
	return !k.Ready.IsZero() && !now.Before(k.Ready) && now.Before(k.Until)
}

// Charged is one retrieval on the stand-in's bill.
type Charged struct {
	Object   string    `json:"object"`
	Priority string    `json:"priority"`
	Bytes    int64     `json:"bytes"`
	Price    float64   `json:"price"`
	At       time.Time `json:"at"`
}

// coldRoom stands before the objects.
type coldRoom struct {
	how   Cold
	inner http.Handler
	file  string // that keeps what is cold; empty: nothing does

	mu   sync.Mutex
	cold map[string]kept
	bill []Charged
}

const classHeader = "X-Amz-Storage-Class"

// BillPath is where the stand-in tells what retrievals have cost, as JSON.
const BillPath = "/-/bill"

func newColdRoom(how Cold, inner http.Handler, directory string) (*coldRoom, error) {
	c := &coldRoom{how: how, inner: inner, cold: map[string]kept{}}
	if directory == "" {
		return c, nil
	}
	c.file = filepath.Join(directory, ".cold.json")
	b, err := os.ReadFile(c.file)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &c.cold)
	}
	return c, err
}

func (c *coldRoom) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	key := strings.Trim(r.URL.Path, "/")
	c.mu.Lock()
	k, cold := c.cold[key]
	c.mu.Unlock()
	now := time.Now()
	switch _, asks := r.URL.Query()["restore"]; {
	case r.URL.Path == BillPath:
		c.mu.Lock()
		defer c.mu.Unlock()
		json.NewEncoder(w).Encode(append([]Charged{}, c.bill...))
	case r.Method == http.MethodPost && asks:
		c.retrieve(w, r, key, k, cold)
	case r.Method == http.MethodGet && cold && !k.readable(now):
		refuse(w, http.StatusForbidden, "InvalidObjectState",
			"The object is in cold storage; ask for its retrieval first.")
	case r.Method == http.MethodHead && cold:
		w.Header().Set(classHeader, k.Class)
		switch {
		case k.Ready.IsZero() || !now.Before(k.Until):
		case now.Before(k.Ready):
			w.Header().Set("X-Amz-Restore", `ongoing-request="true"`)
		default:
			w.Header().Set("X-Amz-Restore", fmt.Sprintf(`ongoing-request="false", expiry-date="%s"`,
				k.Until.UTC().Format(http.TimeFormat)))
		}
		c.inner.ServeHTTP(w, r)
	case r.Method == http.MethodPut && r.URL.Query().Get("uploadId") == "":
		c.put(w, r, key, now)
	case r.Method == http.MethodDelete && cold && r.URL.Query().Get("uploadId") == "" &&
		r.URL.Query().Get("versionId") == "":
		c.inner.ServeHTTP(w, r)
		c.keep(key, kept{})
	default:
		c.inner.ServeHTTP(w, r)
	}
}

// put lets an object through and keeps its class. One that is cold cannot be copied from.
func (c *coldRoom) put(w http.ResponseWriter, r *http.Request, key string, now time.Time) {
	if from := strings.Trim(r.Header.Get("X-Amz-Copy-Source"), "/"); from != "" {
		c.mu.Lock()
		k, cold := c.cold[from]
		c.mu.Unlock()
		if cold && !k.readable(now) {
			refuse(w, http.StatusForbidden, "InvalidObjectState",
				"The object is in cold storage; ask for its retrieval first.")
			return
		}
	}
	class := r.Header.Get(classHeader)
	// the objects would be copied over themselves while they are read
	if strings.Trim(r.Header.Get("X-Amz-Copy-Source"), "/") == key {
		c.keep(key, kept{Class: class})
		w.Header().Set("Content-Type", "application/xml")
		fmt.Fprintf(w, `<?xml version="1.0" `+
			`encoding="UTF-8"?><CopyObjectResult><ETag>%s</ETag><LastModified>%s</LastModified></CopyObjectResult>`,
			c.head(r, key).Get("ETag"), now.UTC().Format("2006-01-02T15:04:05.000Z"))
		return
	}
	r.Header.Del(classHeader)
	got := &statusWriter{ResponseWriter: w, status: http.StatusOK}
	c.inner.ServeHTTP(got, r)
	if got.status < 300 {
		if class == "STANDARD" { // every other one is cold here
			class = ""
		}
		c.keep(key, kept{Class: class})
	}
}

type statusWriter struct {
	http.ResponseWriter
	status int
}

func (w *statusWriter) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

// retrieve answers who asks for a copy.
func (c *coldRoom) retrieve(w http.ResponseWriter, r *http.Request, key string, k kept, cold bool) {
	var q struct {
		Days int
		Job  struct{ Tier string } `xml:"GlacierJobParameters"`
	}
	now := time.Now()
	switch err := xml.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&q); {
	case err != nil || q.Days < 1:
		refuse(w, http.StatusBadRequest, "MalformedXML", "Days are missing, or it is no request for a retrieval.")
		return
	case !cold:
		refuse(w, http.StatusForbidden, "InvalidObjectState", "The object is not in cold storage.")
		return
	case !k.Ready.IsZero() && now.Before(k.Ready):
		refuse(w, http.StatusConflict, "RestoreAlreadyInProgress", "A retrieval of the object goes on already.")
		return
	}
	priority := priorities[q.Job.Tier]
	if priority == "" {
		priority = "normal"
	}
	days := time.Duration(q.Days) * c.how.Day
	status := http.StatusAccepted
	if k.readable(now) {
		k.Until, status = now.Add(days), http.StatusOK
	} else {
		k.Ready = now.Add(c.how.Wait[priority])
		k.Until = k.Ready.Add(days)
		size := c.size(r, key)
		c.mu.Lock()
		c.bill = append(c.bill, Charged{Object: key, Priority: priority, Bytes: size,
			Price: float64(size) / (1 << 30) * c.how.Price[priority], At: now})
		c.mu.Unlock()
	}
	c.keep(key, k)
	w.WriteHeader(status)
}

// head asks the objects about one.
func (c *coldRoom) head(r *http.Request, key string) http.Header {
	got := &sizeWriter{header: http.Header{}}
	if head, err := http.NewRequestWithContext(r.Context(), http.MethodHead, "/"+key, nil); err == nil {
		c.inner.ServeHTTP(got, head)
	}
	return got.header
}

// size asks the objects how large one is.
func (c *coldRoom) size(r *http.Request, key string) (n int64) {
	fmt.Sscan(c.head(r, key).Get("Content-Length"), &n)
	return n
}

type sizeWriter struct{ header http.Header }

func (w *sizeWriter) Header() http.Header         { return w.header }
func (w *sizeWriter) Write(p []byte) (int, error) { return len(p), nil }
func (w *sizeWriter) WriteHeader(int)             {}

// keep keeps what is known of an object; nothing where it is warm.
func (c *coldRoom) keep(key string, k kept) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if k.Class == "" {
		if _, there := c.cold[key]; !there {
			return
		}
		delete(c.cold, key)
	} else {
		c.cold[key] = k
	}
	if c.file == "" {
		return
	}
	if b, err := json.Marshal(c.cold); err == nil {
		os.WriteFile(c.file, b, 0o640) // a stand-in keeps nothing safe
	}
}
