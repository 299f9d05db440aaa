// Package silence tells a server, of a database or an object store, that works on something for a long time from one
// that hangs. Both are silent on the connection that waits; the one that works answers on a new one.
package silence

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// How long a connection may wait for an answer before the server is asked whether it is there at all, and how long
// that may take. So a server that hangs is noticed after 20 s.
var quiet, patience atomic.Int64

func init() { Bear(15*time.Second, 5*time.Second) }

// Bear says how long silence is borne from now on, and returns what was the case before. Tests shorten it.
func Bear(quietFor, patientFor time.Duration) (time.Duration, time.Duration) {
	return time.Duration(quiet.Swap(int64(quietFor))), time.Duration(patience.Swap(int64(patientFor)))
}

// A Dialer makes a connection, as net.Dialer does.
type Dialer = func(ctx context.Context, network, address string) (net.Conn, error)

// Watch returns a dialer whose connections fail where their server is silent and is not there by a new connection
// either. The error is a net.Error.
func Watch(dial Dialer, there func(ctx context.Context, network, address string) error) Dialer {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &conn{Conn: c, there: func() error {
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(patience.Load()))
			defer cancel()
			return there(ctx, network, address)
		}}, nil
	}
}

// conn is a connection with deadlines of its own beside those that are set from outside.
type conn struct {
	net.Conn
	there func() error // asks after the server

	mu          sync.Mutex
	read, write time.Time // deadlines from outside; the zero time is none
}

// Error says that a server is silent.
type Error struct {
	After time.Duration // of silence
	// why it is taken to be away; that its own time ran out is not the time of who waits, so it is not unwrapped
	Why error
}

func (e *Error) Error() string {
	return fmt.Sprintf("the server has been silent for %s and does not answer on a new connection: %v",
		e.After.Round(time.Second), e.Why)
}

func (e *Error) Timeout() bool   { return false } // nobody asked for one
func (e *Error) Temporary() bool { return false }

var _ net.Error = (*Error)(nil)

func (c *conn) Read(b []byte) (int, error) {
	return c.patiently(b, &c.read, c.Conn.SetReadDeadline, c.Conn.Read)
}

func (c *conn) Write(b []byte) (int, error) {
	return c.patiently(b, &c.write, c.Conn.SetWriteDeadline, c.Conn.Write)
}

// patiently reads or writes, and asks after the server each time that nothing has moved for a while.
func (c *conn) patiently(b []byte, outer *time.Time, set func(time.Time) error, move func([]byte) (int, error)) (
	moved int, err error) {
	begun := time.Now()
	for {
		c.mu.Lock()
		until, own := *outer, time.Now().Add(time.Duration(quiet.Load()))
		if until.IsZero() || until.After(own) {
			until = own
		}
		err = set(until)
		c.mu.Unlock()
		if err != nil {
			return moved, err
		}
		n, err := move(b[moved:])
		moved += n
		if err == nil || !errors.Is(err, os.ErrDeadlineExceeded) {
			return moved, err
		}
		c.mu.Lock()
		asked := !outer.IsZero() && !time.Now().Before(*outer)
		c.mu.Unlock()
		if asked {
			return moved, err
		}
		if n > 0 {
			continue
		}
		if why := c.there(); why != nil {
			return moved, &Error{time.Since(begun), why}
		}
	}
}

func (c *conn) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.read = t
	return c.Conn.SetReadDeadline(t)
}

func (c *conn) SetWriteDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.write = t
	return c.Conn.SetWriteDeadline(t)
}

func (c *conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// SyscallConn is how a driver finds out that an idle connection was closed by the server.
func (c *conn) SyscallConn() (syscall.RawConn, error) {
	if s, ok := c.Conn.(syscall.Conn); ok {
		return s.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}
