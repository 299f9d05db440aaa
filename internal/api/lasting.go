package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"time"

	"ambercellar/internal/catalog"
)

// RequestHeader names a request by an id of its sender's. What such a request asks for goes on when the connection is
// lost: whoever sends the same request again gets the answer, and nothing is done twice.
const RequestHeader = "Ambercellar-Request"

// Times of requests that have an id. Shorter in tests.
var (
	// AbandonedAfter is how long the work of a request goes on that nobody waits for.
	AbandonedAfter = 2 * time.Minute
	// KeptFor is how long an answer is kept.
	KeptFor = 10 * time.Minute
)

// mostLasting is how many requests with an id are known at a time.
const mostLasting = 1000

// mostAnswer is how many bytes of an answer are kept.
const mostAnswer = 64 << 20

var requestID = regexp.MustCompile(`^[0-9A-Za-z-]{8,64}$`)

// lasting carries out requests that have an id apart from the connections that they come over.
type lasting struct {
	next http.Handler
	// whether the sender of a request may come in; who may not any more gets no answer that was kept
	stands func(*http.Request) bool
	mu     sync.Mutex
	all    map[[sha256.Size]byte]*lastingRequest // by sender and id
}

type lastingRequest struct {
	asks    [sha256.Size]byte // of method, path and body
	end     context.CancelFunc
	done    chan struct{} // closed when the answer is there
	answer  *recorded
	waiting int // connections
}

func (l *lasting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	id := r.Header.Get(RequestHeader)
	// rows that are found flow as they are read, and are no answer to keep; nor is who has signed in
	if id == "" || r.Method != http.MethodPost || r.URL.Path == "/api/v1/search/rows" ||
		strings.HasPrefix(r.URL.Path, "/api/v1/session") || l.stands != nil && !l.stands(r) {
		l.next.ServeHTTP(w, r)
		return
	}
	if !requestID.MatchString(id) {
		decline(w, http.StatusBadRequest, "invalid", "The request's id is not one", "the header "+RequestHeader+
			" takes 8 to 64 letters, digits and hyphens")
		return
	}
	sender := senderOf(r, id)
	body, err := io.ReadAll(http.MaxBytesReader(w, &body{ReadCloser: r.Body,
		control: http.NewResponseController(w)}, maxBody))
	if err != nil {
		decline(w, http.StatusBadRequest, "invalid", "The request cannot be read", err.Error())
		return
	}
	asks := sha256.Sum256(append([]byte(r.Method+" "+r.URL.String()+"\n"), body...))
	x, err := l.take(sender, asks, r, body)
	if err != nil {
		decline(w, http.StatusConflict, "conflict", "The request cannot be taken", err.Error())
		return
	}
	select {
	case <-x.done:
		x.answer.sendTo(w)
	case <-r.Context().Done():
	}
	l.left(x)
}

var (
	errOther = errors.New("another request was sent with this id; give each an id of its own")
	errMany  = errors.New("too many requests are under way; try again in a minute")
)

// take returns the request of an id, and begins its work where it is new.
func (l *lasting) take(sender, asks [sha256.Size]byte, r *http.Request, body []byte) (*lastingRequest, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if x := l.all[sender]; x != nil {
		if x.asks != asks {
			return nil, errOther
		}
		x.waiting++
		return x, nil
	}
	if len(l.all) >= mostLasting && !l.forget() {
		return nil, errMany
	}
	ctx, end := context.WithCancel(context.WithoutCancel(r.Context()))
	stop := context.AfterFunc(baseOf(r.Context()), end) // the service stops
	x := &lastingRequest{asks: asks, end: end, done: make(chan struct{}), answer: &recorded{header: http.Header{}},
		waiting: 1}
	if l.all == nil {
		l.all = map[[sha256.Size]byte]*lastingRequest{}
	}
	l.all[sender] = x
	inner := r.Clone(ctx)
	inner.Body = io.NopCloser(bytes.NewReader(body))
	go func() {
		l.carryOut(x, inner)
		stop()
		end()
		close(x.done)
		kept := KeptFor
		if s := x.answer.status; s == http.StatusUnauthorized || s == http.StatusForbidden {
			kept = 0 // it has done nothing, and says nothing that is worth keeping
		}
		time.AfterFunc(kept, func() {
			l.mu.Lock()
			defer l.mu.Unlock()
			delete(l.all, sender)
		})
	}()
	return x, nil
}

// senderOf tells requests of one sender and id from all others.
func senderOf(r *http.Request, id string) [sha256.Size]byte {
	return sha256.Sum256([]byte(r.Header.Get("Authorization") + "\n" + r.Header.Get("Cookie") + "\n" + id))
}

// forget forgets an answer.
func (l *lasting) forget() bool {
	for sender, x := range l.all {
		select {
		case <-x.done:
			delete(l.all, sender)
			return true
		default:
		}
	}
	return false
}

// endRequest ends what a request of the same sender does.
func (l *lasting) endRequest(_ context.Context, r request) (none, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	x := l.all[senderOf(r.Request, r.Param("request"))]
	if x == nil {
		return none{}, fmt.Errorf("no request %s of yours is under way: %w", r.Param("request"),
			catalog.ErrNotFound)
	}
	x.end()
	return none{}, nil
}

// carryOut has a request answered. A handler that breaks off its answer has failed.
func (l *lasting) carryOut(x *lastingRequest, r *http.Request) {
	defer func() {
		if recover() != nil {
			x.answer = &recorded{header: http.Header{}}
			decline(x.answer, http.StatusInternalServerError, "internal", "The service failed",
				"the request could not be answered; the log says more")
		}
	}()
	l.next.ServeHTTP(x.answer, r)
}

// left notes that a connection waits no more. What nobody waits for goes on for a while, and ends then.
func (l *lasting) left(x *lastingRequest) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if x.waiting--; x.waiting > 0 {
		return
	}
	time.AfterFunc(AbandonedAfter, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if x.waiting == 0 {
			x.end()
		}
	})
}

// decline answers with a problem where no handler has been asked yet.
func decline(w http.ResponseWriter, status int, kind, title, detail string) {
	b, _ := json.Marshal(problem(status, kind, title, detail)) // a Problem always marshals
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	w.Write(b)
}

type baseKey struct{}

// WithBase tells a request's context when the service stops.
func WithBase(ctx, base context.Context) context.Context {
	return context.WithValue(ctx, baseKey{}, base)
}

func baseOf(ctx context.Context) context.Context {
	if base, ok := ctx.Value(baseKey{}).(context.Context); ok {
		return base
	}
	return context.Background()
}

// recorded is an answer that is kept.
type recorded struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *recorded) Header() http.Header { return a.header }

func (a *recorded) WriteHeader(status int) {
	if a.status == 0 {
		a.status = status
	}
}

func (a *recorded) Write(b []byte) (int, error) {
	a.WriteHeader(http.StatusOK)
	if a.body.Len()+len(b) > mostAnswer {
		return 0, fmt.Errorf("an answer of more than %d MiB cannot be kept", mostAnswer>>20)
	}
	return a.body.Write(b)
}

// Flush does nothing: the answer is sent as a whole.
func (a *recorded) Flush() {}

func (a *recorded) sendTo(w http.ResponseWriter) {
	for name, values := range a.header {
		w.Header()[name] = values
	}
	w.WriteHeader(max(a.status, http.StatusOK))
	w.Write(a.body.Bytes()) // who has gone meanwhile asks again
}
