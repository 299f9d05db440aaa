package dbtest

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
)

// MariaServer is a running private MariaDB server, whose superuser root has no password.
type MariaServer struct {
	Port    int
	dir     string
	args    []string
	command *exec.Cmd
	done    chan error
}

var sharedMaria struct {
	sync.Mutex
	servers   map[int]*MariaServer
	databases int
}

// MariaDB returns the URL of a new, empty database on a server that the tests of this process share. The package's
// TestMain must call Main.
func MariaDB(t testing.TB) string {
	t.Helper()
	return MariaDBOn(t, 0)
}

// MariaDBOn is MariaDB on one of several servers that the tests of this process share, by its number.
func MariaDBOn(t testing.TB, number int) string {
	t.Helper()
	sharedMaria.Lock()
	defer sharedMaria.Unlock()
	if sharedMaria.servers[number] == nil {
		s, err := StartMariaDB("innodb-flush-log-at-trx-commit=0", "innodb-flush-method=nosync", "sync-frm=0",
			"innodb-buffer-pool-size=256M", "max-connections=300", "max-allowed-packet=256M")
		if err != nil {
			t.Fatalf("a private MariaDB server is needed: %v", err)
		}
		if sharedMaria.servers == nil {
			sharedMaria.servers = map[int]*MariaServer{}
		}
		sharedMaria.servers[number] = s
	}
	server := sharedMaria.servers[number]
	sharedMaria.databases++
	name := fmt.Sprintf("test%d", sharedMaria.databases)
	if err := ExecMariaDB(server.URL("mysql"), "CREATE DATABASE "+name+
		" CHARACTER SET utf8mb4"); err != nil {
		t.Fatalf("making a database: %v", err)
	}
	return server.URL(name)
}

// StartMariaDB starts a server on a free port of the loopback interface, with settings as NAME=VALUE.
func StartMariaDB(settings ...string) (*MariaServer, error) {
	install, err := exec.LookPath("mariadb-install-db")
	if err != nil {
		return nil, fmt.Errorf("no MariaDB server is installed; on Debian: apt-get install mariadb-server")
	}
	daemon := "/usr/sbin/mariadbd"
	if found, err := exec.LookPath("mariadbd"); err == nil {
		daemon = found
	}
	dir, err := os.MkdirTemp("", "ambercellar-maria-")
	if err != nil {
		return nil, err
	}
	s := &MariaServer{dir: dir, done: make(chan error, 1)}
	data := filepath.Join(dir, "data")
	user := "--user=" + strconv.Itoa(os.Geteuid())
	if os.Geteuid() == 0 {
		user = "--user=root"
	}
	err = initialise(data, "mariadb", "--datadir=", func(args ...string) *exec.Cmd {
		return exec.Command(install, append([]string{"--no-defaults", user, "--auth-root-authentication-method=normal",
			"--skip-test-db", "--innodb-flush-log-at-trx-commit=0"}, args...)...)
	})
	if err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	temporary := filepath.Join(dir, "tmp") // its own: a server that starts removes all temporary tables that it finds
	if err := os.Mkdir(temporary, 0o700); err != nil {
		return nil, err
	}
	s.args = []string{daemon, "--no-defaults", user, "--datadir=" + data, "--tmpdir=" + temporary, "--port=" +
		strconv.Itoa(s.Port), "--bind-address=127.0.0.1",
		"--socket=" + filepath.Join(dir, "s"), "--pid-file=" + filepath.Join(dir, "pid"), "--skip-name-resolve"}
	for _, set := range settings {
		s.args = append(s.args, "--"+set)
	}
	return s, s.launch()
}

func (s *MariaServer) launch() error {
	var output bytes.Buffer
	s.command = exec.Command(s.args[0], s.args[1:]...)
	s.command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	s.command.Stdout, s.command.Stderr = &output, &output
	if err := s.command.Start(); err != nil {
		return err
	}
	go func() { s.done <- s.command.Wait() }()
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		err := ExecMariaDB(s.URL("mysql"), "SELECT 1")
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
func (s *MariaServer) Restart() error {
	s.command.Process.Kill()
	<-s.done
	return s.launch()
}

// Data is the directory of the server's files.
func (s *MariaServer) Data() string { return filepath.Join(s.dir, "data") }

// While stops the server, calls fn, which may exchange its files, and starts the server again.
func (s *MariaServer) While(fn func() error) error {
	s.command.Process.Signal(syscall.SIGTERM)
	<-s.done
	return errors.Join(fn(), s.launch())
}

// URL is the address of a database of the server, for its superuser.
func (s *MariaServer) URL(database string) string {
	return fmt.Sprintf("mariadb://root@127.0.0.1:%d/%s", s.Port, database)
}

// Stop ends the server and removes its files.
func (s *MariaServer) Stop() {
	s.command.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		s.command.Process.Kill()
		<-s.done
	}
	os.RemoveAll(s.dir)
}

// OpenMariaDB opens a URL for tests: several statements at once, names in double quotes, backslashes as they stand,
// all times in UTC, and dates that are none taken as they are.
func OpenMariaDB(address string) (*sql.DB, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName, c.MultiStatements = u.User.Username(), "tcp", u.Host, strings.Trim(u.Path, "/"),
		true
	c.Logger = quiet{}
	c.Params = map[string]string{
		"sql_mode":  "'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,PIPES_AS_CONCAT'",
		"time_zone": "'+00:00'", "max_recursive_iterations": "10000000", "group_concat_max_len": "1000000000"}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

type quiet struct{}

func (quiet) Print(...any) {}

// ExecMariaDB runs statements at a URL.
func ExecMariaDB(address, statements string) error {
	db, err := OpenMariaDB(address)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(statements)
	return err
}
