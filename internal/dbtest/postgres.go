// Package dbtest starts private database servers for tests, in one line, and sees to it that they are gone afterwards.
// A server that is not installed fails the test; it never skips it.
package dbtest

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a running private PostgreSQL server.
type Server struct {
	Port    int
	dir     string
	args    []string
	attr    *syscall.SysProcAttr
	command *exec.Cmd
	done    chan error
}

var shared struct {
	sync.Mutex
	servers   map[int]*Server
	databases int
}

// Main runs a package's tests and stops the server that they shared. Call it from TestMain.
func Main(m *testing.M) int {
	defer func() {
		for _, server := range shared.servers {
			server.Stop()
		}
		for _, server := range sharedMaria.servers {
			server.Stop()
		}
	}()
	return m.Run()
}

// Postgres returns the URL of a new, empty database on a server that the tests of this process share. The package's
// TestMain must call Main.
func Postgres(t testing.TB) string {
	t.Helper()
	return PostgresOn(t, 0)
}

// PostgresOn is Postgres on one of several servers that the tests of this process share, by its number.
func PostgresOn(t testing.TB, number int) string {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	if shared.servers[number] == nil {
		s, err := Start("fsync=off", "max_connections=300")
		if err != nil {
			t.Fatalf("a private PostgreSQL server is needed: %v", err)
		}
		if shared.servers == nil {
			shared.servers = map[int]*Server{}
		}
		shared.servers[number] = s
	}
	server := shared.servers[number]
	shared.databases++
	name := fmt.Sprintf("test%d", shared.databases)
	if err := server.Exec("postgres", "CREATE DATABASE "+name); err != nil {
		t.Fatalf("making a database: %v", err)
	}
	return server.URL(name)
}

// Start starts a server on a free port of the loopback interface, with settings as NAME=VALUE. As root it runs as
// the package's own user, since PostgreSQL refuses to run as root.
func Start(settings ...string) (*Server, error) { return start(nil, settings) }

// StartTLS is Start with a server that takes TLS, with a certificate and key in PEM.
func StartTLS(cert, key []byte, settings ...string) (*Server, error) {
	return start(map[string][]byte{"server.crt": cert, "server.key": key}, append(settings, "ssl=on"))
}

func start(files map[string][]byte, settings []string) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "ambercellar-pg-")
	if err != nil {
		return nil, err
	}
	s := &Server{dir: dir, done: make(chan error, 1)}
	attr := &syscall.SysProcAttr{Pdeathsig: syscall.SIGQUIT}
	if os.Geteuid() == 0 {
		u, err := user.Lookup("postgres")
		if err != nil {
			return nil, fmt.Errorf("the tests run as root, and there is no user postgres to run the server as: %w",
				err)
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		if err := os.Chown(dir, uid, gid); err != nil {
			return nil, err
		}
		attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	data := filepath.Join(dir, "data")
	err = initialise(data, "postgres", "--pgdata=", func(args ...string) *exec.Cmd {
		initdb := exec.Command(filepath.Join(bin, "initdb"), append([]string{"-U", "postgres", "--auth=trust",
			"--no-sync", "-E", "UTF8", "--locale=C.UTF-8"}, args...)...)
		initdb.SysProcAttr, initdb.Dir = attr, dir
		return initdb
	})
	if err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	for name, content := range files {
		path := filepath.Join(data, name)
		err := os.WriteFile(path, content, 0o600)
		if err == nil && attr.Credential != nil {
			err = os.Chown(path, int(attr.Credential.Uid), int(attr.Credential.Gid))
		}
		if err != nil {
			return nil, err
		}
	}
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-p", strconv.Itoa(s.Port), "-c", "listen_addresses=127.0.0.1", "-c",
		"unix_socket_directories=" + dir}
	for _, set := range settings {
		args = append(args, "-c", set)
	}
	s.args, s.attr = append([]string{filepath.Join(bin, "postgres")}, args...), attr
	return s, s.launch()
}

// launch starts the server's process and waits until it answers.
func (s *Server) launch() error {
	var output bytes.Buffer
	s.command = exec.Command(s.args[0], s.args[1:]...)
	s.command.SysProcAttr, s.command.Dir = s.attr, s.dir
	s.command.Stdout, s.command.Stderr = &output, &output
	if err := s.command.Start(); err != nil {
		return err
	}
	go func() { s.done <- s.command.Wait() }()
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		err := s.Exec("postgres", "SELECT 1")
		if err == nil {
			return nil
		}
		select {
		case <-s.done:
			return fmt.Errorf("the server ended at once:\n%s", output.String())
		default:
		}
		if time.Now().After(deadline) {
			s.Stop()
			return fmt.Errorf("the server does not answer: %w\n%s", err, output.String())
		}
	}
}

// Restart kills the server as a crash would, and starts it again on the same data and port.
func (s *Server) Restart() error {
	s.command.Process.Signal(syscall.SIGQUIT) // immediate shutdown: the next start recovers from its log
	<-s.done
	return s.launch()
}

// Data is the directory of the server's files.
func (s *Server) Data() string { return filepath.Join(s.dir, "data") }

// URL is the address of a database of the server, for its superuser.
func (s *Server) URL(database string) string {
	return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/%s?sslmode=disable", s.Port, database)
}

// Exec runs statements in a database.
func (s *Server) Exec(database, statements string) error { return Exec(s.URL(database), statements) }

// Exec runs statements at a URL.
func Exec(url, statements string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.PgConn().Exec(ctx, statements).ReadAll()
	return err
}

// Stop ends the server and removes its files.
func (s *Server) Stop() {
	s.command.Process.Signal(syscall.SIGINT) // fast shutdown
	select {
	case <-s.done:
	case <-time.After(10 * time.Second):
		s.command.Process.Signal(syscall.SIGQUIT)
		<-s.done
	}
	os.RemoveAll(s.dir)
}

func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if p, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(p), nil
		}
		return "", fmt.Errorf("no PostgreSQL server is installed; on Debian: apt-get install postgresql")
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
