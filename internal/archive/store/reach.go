package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"ambercellar/internal/silence"
)

// ErrUnreachable says that nothing answers at a store's place, or that it cannot answer now. It may again; what is
// there is not known meanwhile.
var ErrUnreachable = errors.New("the store does not answer")

// ErrFull says that a store takes nothing more: its quota is used up, or its disks are full.
var ErrFull = errors.New("the store is full")

// ErrForbidden says that a store does not let the service do something.
var ErrForbidden = errors.New("the store does not allow it")

// ErrMisspoken says that a store is not spoken to as it wants to be: a wrong region, clock or style of address.
var ErrMisspoken = errors.New("the store does not take requests that are made like this")

// Away says of an error that the store may be back later, so that whoever needs it waits.
func Away(err error) bool { return errors.Is(err, ErrUnreachable) || errors.Is(err, ErrAway) }

// spare is how long an object store that hangs is left alone before the next request tries it again.
var spare = 5 * time.Second // shorter in tests

// wire speaks to an object store. A server that is silent is asked by another connection whether it is there at all;
// one that is not fails requests at once for a while, so that nobody waits for each of them anew.
type wire struct {
	*http.Transport
	mu    sync.Mutex
	hangs error
	until time.Time
}

// newWire watches the connections of a transport to an endpoint.
func newWire(t *http.Transport, endpoint string) *wire {
	plain := t.Clone()
	plain.DisableKeepAlives = true
	t.DialContext = silence.Watch(t.DialContext, func(ctx context.Context, _, _ string) error {
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, endpoint, nil)
		if err != nil {
			return err
		}
		answer, err := plain.RoundTrip(q) // any answer will do
		if err == nil {
			answer.Body.Close()
		}
		return err
	})
	t.ResponseHeaderTimeout = 0 // by that
	return &wire{Transport: t}
}

func (w *wire) RoundTrip(q *http.Request) (*http.Response, error) {
	w.mu.Lock()
	hangs := w.hangs
	if !time.Now().Before(w.until) {
		hangs = nil
	}
	w.mu.Unlock()
	if hangs != nil {
		if q.Body != nil {
			q.Body.Close()
		}
		return nil, hangs
	}
	answer, err := w.Transport.RoundTrip(q)
	if w.note(err); err == nil {
		answer.Body = &noted{answer.Body, w}
	}
	return answer, err
}

func (w *wire) note(err error) {
	var silent *silence.Error
	if errors.As(err, &silent) {
		w.mu.Lock()
		w.hangs, w.until = err, time.Now().Add(spare)
		w.mu.Unlock()
	}
}

// noted is a body whose server may fall silent in the middle.
type noted struct {
	io.ReadCloser
	wire *wire
}

func (n *noted) Read(p []byte) (int, error) {
	k, err := n.ReadCloser.Read(p)
	n.wire.note(err)
	return k, err
}

// unanswered says whether a request came to no answer at all, for another reason than that its context ended.
func unanswered(err error) bool {
	var network net.Error
	return errors.As(err, &network) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) ||
		errors.Is(err, net.ErrClosed)
}

// How long a file system may take for one step before it is taken to hang, as that of a server that is gone does:
// steps that move no data, and those that bring data to a disk.
var patience, longPatience = 20 * time.Second, 3 * time.Minute

// hung counts the steps that a file system has not come back from. While there is one, others are not begun: each
// would hold a thread.
type hung struct{ steps atomic.Int64 }

// A step is pending until it has come back, or nobody waits for it any more.
const (
	pending = iota
	back
	left
)

// within does one step of a file system that may hang. What comes back when nobody waits for it any more is dropped by
// late, before any other step is begun where it took too long.
func within[T any](ctx context.Context, h *hung, limit time.Duration, where string, step func() (T, error),
	late func(T)) (out T, err error) {
	if err := ctx.Err(); err != nil {
		return out, err
	}
	if h.steps.Load() > 0 {
		return out, fmt.Errorf("%w: %s hangs", ErrUnreachable, where)
	}
	var state atomic.Int32
	var counted atomic.Bool
	var got T
	var failed error
	done := make(chan struct{})
	go func() {
		got, failed = step()
		if state.CompareAndSwap(pending, back) {
			close(done)
			return
		}
		if failed == nil && late != nil {
			late(got)
		}
		if counted.Load() {
			h.steps.Add(-1)
		}
	}()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	var why error
	select {
	case <-done:
		return got, failed
	case <-ctx.Done():
		why = context.Cause(ctx)
	case <-timer.C:
		why = fmt.Errorf("%w: %s has not come back for %s", ErrUnreachable, where, limit)
	}
	if errors.Is(why, ErrUnreachable) {
		h.steps.Add(1)
		counted.Store(true)
	}
	if !state.CompareAndSwap(pending, left) { // at the last moment
		if counted.Load() {
			h.steps.Add(-1)
		}
		<-done
		return got, failed
	}
	return out, why
}
