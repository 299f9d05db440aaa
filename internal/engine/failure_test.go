package engine

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

// The failure matrix goes through the scenes of the crash matrix; at one of a scene's points something that the
// process needs fails. It goes on by itself, or gives up with a reason and is taken up when all works again; then
// every row is counted.

// server is a database server of one engine that a test has to itself.
type server struct {
	engine    string
	port      int
	address   func(database string) string
	restart   func() error
	databases int
}

func newServer(t *testing.T, engine string) *server {
	t.Helper()
	switch engine {
	case "postgres":
		s, err := dbtest.Start("fsync=off")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Stop)
		return &server{engine: engine, port: s.Port, address: s.URL, restart: s.Restart}
	case "mariadb":
		s, err := dbtest.StartMariaDB("innodb-flush-log-at-trx-commit=2", "innodb-flush-method=nosync",
			"innodb-buffer-pool-size=64M")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Stop)
		return &server{engine: engine, port: s.Port, address: s.URL, restart: s.Restart}
	}
	return &server{engine: engine}
}

// harbour is a new, empty database of the server.
func (s *server) harbour(t *testing.T) *harbour {
	t.Helper()
	s.databases++
	name := fmt.Sprintf("failure%d", s.databases)
	var err error
	switch s.engine {
	case "postgres":
		err = dbtest.Exec(s.address("postgres"), "CREATE DATABASE "+name)
	case "mariadb":
		err = dbtest.ExecMariaDB(s.address("mysql"), "CREATE DATABASE "+name+" CHARACTER SET utf8mb4")
	default:
		return newHarbour(t, s.engine)
	}
	if err != nil {
		t.Fatal(err)
	}
	h := newHarbourAt(t, s.engine, s.address(name))
	h.db.SetMaxIdleConns(-1) // none that a restart of the server has ended
	h.dir = t.TempDir()
	return h
}

// relay hands connections on to a server, and can cut them all.
type relay struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
}

func newRelay(t *testing.T, port int) *relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	r := &relay{Listener: l}
	t.Cleanup(func() { l.Close(); r.cut() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				in.Close()
				continue
			}
			r.mu.Lock()
			r.conns = append(r.conns, in, out)
			r.mu.Unlock()
			go func() { io.Copy(out, in); out.Close() }()
			go func() { io.Copy(in, out); in.Close() }()
		}
	}()
	return r
}

func (r *relay) cut() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.conns {
		c.(*net.TCPConn).SetLinger(0) // with a reset, as a broken line has it
		c.Close()
	}
	r.conns = nil
}

// trouble is what fails.
type trouble struct {
	name, engines string
	strike        func(k *killer, s *server, r *relay) error
}

var troubles = []trouble{
	{"the database is killed", "postgres mariadb", func(_ *killer, s *server, _ *relay) error { return s.restart() }},
	{"the connections are cut", "postgres mariadb", func(_ *killer, _ *server, r *relay) error {
		r.cut()
		return nil
	}},
	{"the store does not answer", "sqlite postgres mariadb",
		func(k *killer, _ *server, _ *relay) error { k.broken.Store(true); return nil }},
	{"the store is full", "sqlite postgres mariadb", func(k *killer, _ *server, _ *relay) error {
		k.full.Store(true)
		return nil
	}},
}

func TestFailureMatrix(t *testing.T) {
	t.Parallel()
	full := os.Getenv("AMBERCELLAR_MATRIX") == "full"
	servers := map[string]*server{}
	for _, x := range troubles {
		for _, engine := range strings.Fields(x.engines) {
			if servers[engine] == nil {
				servers[engine] = newServer(t, engine)
			}
			t.Run(x.name+" "+engine, func(t *testing.T) {
				done, some, draw := 0, 2, seeded(t)
				for _, i := range draw.Perm(len(scenes)) {
					s := &scenes[i]
					if !slices.Contains(strings.Fields(s.engines), engine) || s.meddle != "" {
						continue
					}
					points := s.fail(t, &x, servers[engine], 0)
					if points == 0 {
						t.Fatalf("%s: the process came through no point at all, so there is nothing to fail at",
							s.name)
					}
					first := 1 + draw.Int64N(points)
					last := first
					if full {
						first, last = 1, points
					}
					for at := first; at <= last; at++ {
						s.fail(t, &x, servers[engine], at)
						done++
					}
					if some--; some == 0 && !full {
						break
					}
				}
				t.Logf("failed at %d points", done)
			})
		}
	}
}

// fail plays a scene in which something fails at a point, and counts. It returns how many points there were.
func (s *scene) fail(t *testing.T, x *trouble, on *server, at int64) int64 {
	t.Helper()
	h := on.harbour(t)
	defer h.drop()
	s.prepare(t, h)
	b := h.serve(t, nil)
	before := s.rows(t, b)
	content := ""
	if s.restore {
		content = h.words(t, h.allScans())
	}
	run := s.start(t, h, b)
	b.close()

	direct := h.address
	var line *relay
	if on.port != 0 {
		line = newRelay(t, on.port)
		h.address = strings.Replace(direct, fmt.Sprintf(":%d/", on.port),
			fmt.Sprintf(":%d/", line.Addr().(*net.TCPAddr).Port), 1)
	}
	k := &killer{}
	k.at.Store(at)
	var striking sync.WaitGroup
	k.strike = func() {
		strike := func() {
			if err := x.strike(k, on, line); err != nil {
				t.Error(err)
			}
		}
		if k.n.Load()%2 == 0 {
			strike()
			return
		}
		striking.Go(func() { // while the call behind the point goes on
			time.Sleep(time.Duration(rand.IntN(2000)) * time.Microsecond)
			strike()
		})
	}
	b = h.serve(t, func(src source.Source) source.Source { return newFatal(src, k) })
	b.Engine.Store = func(context.Context, string) (store.Store, error) { return &fatalStore{b.store, k}, nil }
	clock := b.Engine.Now
	b.Engine.Now = func() time.Time { k.point("clock read"); return clock() }
	err := s.work(t, b, run)
	striking.Wait()
	points := k.n.Load()
	b.close()
	h.address = direct
	where := fmt.Sprintf("%s, %s, at point %d", s.name, x.name, at)
	again := h.serve(t, nil)
	defer again.close()
	if err != nil {
		if at == 0 {
			t.Fatalf("%s: %v", where, err)
		}
		if err := s.work(t, again, run); err != nil {
			t.Fatalf("%s: taken up again: %v", where, err)
		}
	}
	s.account(t, again, h, run, before, where)
	if s.restore && h.words(t, h.allScans()) != content {
		t.Errorf("%s: what was restored is not what there was", where)
	}
	return points
}
