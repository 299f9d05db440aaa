package silence

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync/atomic"
	"testing"
	"time"
)

// server answers each connection with a greeting, and then with what is told, until it hangs: from then on it accepts
// and says nothing.
func server(t *testing.T, hangs *atomic.Bool) (address string, say chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	say = make(chan string)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if !hangs.Load() {
					io.WriteString(c, "hello")
				}
				for text := range say {
					io.WriteString(c, text)
				}
			}()
		}
	}()
	t.Cleanup(func() { close(say) })
	return l.Addr().String(), say
}

func greeting(c net.Conn) error {
	_, err := io.ReadFull(c, make([]byte, 5))
	return err
}

func TestAServerThatWorksIsWaitedForAndOneThatHangsIsNot(t *testing.T) {
	const Quiet, Patience = 50 * time.Millisecond, 200 * time.Millisecond
	before, patient := Bear(Quiet, Patience)
	t.Cleanup(func() { Bear(before, patient) })
	var hangs atomic.Bool
	address, say := server(t, &hangs)
	var net0 net.Dialer
	c, err := Watch(net0.DialContext, func(ctx context.Context, network, address string) error {
		c, err := net0.DialContext(ctx, network, address)
		if err != nil {
			return err
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(Patience))
		return greeting(c)
	})(context.Background(), "tcp", address)
	if err == nil {
		err = greeting(c)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	go func() {
		time.Sleep(6 * Quiet)
		say <- "done"
	}()
	b := make([]byte, 4)
	if _, err := io.ReadFull(c, b); err != nil || string(b) != "done" {
		t.Fatalf("a server that worked for long: %q, %v", b, err)
	}

	// Deadlines from outside hold, also when they are set while somebody reads.
	c.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
	if _, err := c.Read(b); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a deadline from outside: %v", err)
	}
	c.SetReadDeadline(time.Time{})
	stopped := make(chan error)
	go func() {
		_, err := c.Read(b)
		stopped <- err
	}()
	time.Sleep(2 * Quiet)
	c.SetDeadline(time.Unix(1, 0))
	if err := <-stopped; !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a deadline that was set meanwhile: %v", err)
	}
	c.SetDeadline(time.Time{})

	hangs.Store(true)
	begun := time.Now()
	_, err = c.Read(b)
	var silent *Error
	var network net.Error
	if !errors.As(err, &silent) || !errors.As(err, &network) || network.Timeout() {
		t.Errorf("a server that hangs: %v", err)
	}
	if took := time.Since(begun); took < Quiet || took > 10*time.Second {
		t.Errorf("it was noticed after %s", took)
	}
}
