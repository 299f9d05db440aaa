package dbtest

import (
	"io"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Relay passes connections on to a server, for as long as a test wants.
type Relay struct {
	Address string       // where it listens
	Frozen  atomic.Bool  // it accepts, and nothing comes through
	to      atomic.Value // the server's address; empty: it is away
	cut     atomic.Bool
	mu      sync.Mutex
	open    map[net.Conn]bool
}

// NewRelay starts a relay to a server's HOST:PORT. It ends with the test.
func NewRelay(t testing.TB, server string) *Relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	r := &Relay{Address: l.Addr().String(), open: map[net.Conn]bool{}}
	r.To(server)
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go r.serve(near)
		}
	}()
	return r
}

// To sends connections that are made from now on to another server; empty: to none.
func (r *Relay) To(server string) { r.to.Store(server) }

// Cut ends all connections, and every new one, until it is told otherwise.
func (r *Relay) Cut(away bool) {
	r.cut.Store(away)
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.open {
		if away {
			c.Close()
		}
	}
}

func (r *Relay) serve(near net.Conn) {
	r.mu.Lock()
	r.open[near] = true
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		delete(r.open, near)
		r.mu.Unlock()
		near.Close()
	}()
	if r.cut.Load() {
		return
	}
	r.wait()
	far, err := net.Dial("tcp", r.to.Load().(string))
	if err != nil {
		return
	}
	defer far.Close()
	go func() {
		defer far.Close() // whoever reads from it ends, too
		io.Copy(thawed{far, r}, near)
	}()
	io.Copy(thawed{near, r}, far)
}

func (r *Relay) wait() {
	for r.Frozen.Load() {
		time.Sleep(10 * time.Millisecond)
	}
}

// thawed is a connection that is written to while the relay is not frozen.
type thawed struct {
	to io.Writer
	r  *Relay
}

func (w thawed) Write(b []byte) (int, error) {
	w.r.wait()
	return w.to.Write(b)
}
