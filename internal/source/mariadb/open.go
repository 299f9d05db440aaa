// Package mariadb is the source for MariaDB and MySQL, through go-sql-driver/mysql. A row is told apart by key and
// content; where the server can, the delete itself returns the content (MariaDB 10.5 or later), elsewhere rows are
// locked, read and then deleted. All SQL for MariaDB and MySQL stands here.
package mariadb

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/silence"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
	"ambercellar/internal/source/sqlbase"
)

// Source is a MariaDB or MySQL database.
type Source struct {
	sqlbase.Base
	cfg       source.Config
	db        *sql.DB
	database  string
	mariadb   bool
	address   string // of the server
	arrivals  source.Arrivals
	returning bool // DELETE … RETURNING is there
	skips     bool // SELECT … FOR UPDATE SKIP LOCKED is there
}

// session is what every session of ours is set to, so that values mean the same whatever the server's defaults. Values
// are taken as they are (restores alone are strict), and zero in an automatic key stays zero. Where the service's
// machine is gone in the middle of a transaction, MariaDB gives its locks back after a minute.
const (
	looseMode  = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"
	strictMode = looseMode + ",STRICT_ALL_TABLES"
	session    = "SET SESSION time_zone = '+00:00', sql_mode = '" + looseMode + "', " + tableWait +
		", innodb_lock_wait_timeout = 1, group_concat_max_len = 1000000, net_write_timeout = 600 " +
		"/*M!100300 , idle_write_transaction_timeout = 60 */"
	isolation = "SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED"
	// tableWait is how many seconds a statement waits for a table that somebody has locked: whoever waits does not say
	// so, so that a run waits for no longer, says it, and tries again.
	tableWait = "lock_wait_timeout = 2"
)

// Open prepares the connections to cfg.Address; the first is made when it is needed.
func Open(ctx context.Context, cfg source.Config) (*Source, error) {
	wrap := func(err error) error { return source.Of(cfg.Name, err) }
	c, err := driverConfig(cfg)
	if err != nil {
		return nil, wrap(err)
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, wrap(err)
	}
	s := &Source{cfg: cfg, database: c.DBName, address: c.Addr}
	s.db = sql.OpenDB(prepared{connector, cfg, c})
	s.db.SetMaxOpenConns(max(cfg.Connections, 3))
	s.db.SetConnMaxIdleTime(5 * time.Minute)
	s.Base = s.base()
	var version string
	if err := s.db.QueryRowContext(ctx, "SELECT version()").Scan(&version); err != nil {
		s.db.Close()
		return nil, wrap(unreachable(err))
	}
	s.mariadb = strings.Contains(strings.ToLower(version), "mariadb")
	major, minor := versionOf(version)
	s.returning = s.mariadb && (major > 10 || major == 10 && minor >= 5)
	s.skips = s.mariadb && (major > 10 || major == 10 && minor >= 6) || !s.mariadb && major >= 8
	return s, nil
}

// base is how MariaDB and MySQL do what all engines do alike.
func (s *Source) base() sqlbase.Base {
	each := sqlbase.EachOf(s.db)
	return sqlbase.Base{
		Names: sqlbase.Names{Quote: quote, Journal: "ambercellar_", Upsert: sqlbase.OnDuplicate, From: from,
			Restore: "restore_id", Restored: func(t *shape.Table) string { return quote(restoredTable(t)) }},
		Sender: sqlbase.Sender{There: s.recorded,
			Each: func(ctx context.Context, query string, args, into []any, row func() error) error {
				return unreachable(each(ctx, query, args, into, row))
			},
			Exec: func(ctx context.Context, statement string, args ...any) error {
				_, err := s.db.ExecContext(ctx, statement, args...)
				return unreachable(err)
			}},
		Ages: sqlbase.Ages{
			Dialect: func(sel source.Selection) sqlbase.Dialect { return newDialect(sel, "t.") },
			Beside: func(d sqlbase.Dialect, sel source.Selection) source.Dialect {
				return &dialect{Binder: d.(*dialect).Binder, sel: sel, age: sel.Age, prefix: "t."}
			},
			Column: func(d sqlbase.Dialect) string { return d.(*dialect).column() },
			Shown:  func(_ source.Selection, d sqlbase.Dialect) string { return d.(*dialect).column() },
			Text: func(sel source.Selection, expression string) string {
				c, _ := sel.AgeColumn()
				return iso(expression, c)
			},
			First: s.firstAge},
	}
}

// firstAge reads the age that a query selects; false: there is none.
func (s *Source) firstAge(ctx context.Context, sel source.Selection, query string, args []any) (at time.Time, ok bool,
	err error) {
	c, _ := sel.AgeColumn()
	err = s.conn(ctx, func(conn *sql.Conn) error {
		return eachRow(ctx, conn, query, args, func(row []driver.Value) error {
			v, err := decode(row[0], c, func(b []byte) []byte { return append([]byte{}, b...) })
			at, ok = sel.Age.Instant(v)
			return err
		})
	})
	return at, ok, err
}

var versionForm = regexp.MustCompile(`^(?:5\.5\.5-)?(\d+)\.(\d+)`)

func versionOf(s string) (major, minor int) {
	if m := versionForm.FindStringSubmatch(s); m != nil {
		major, _ = strconv.Atoi(m[1])
		minor, _ = strconv.Atoi(m[2])
	}
	return major, minor
}

func driverConfig(cfg source.Config) (*mysql.Config, error) {
	u, err := url.Parse(cfg.Address)
	if err != nil || u.Scheme != "mysql" && u.Scheme != "mariadb" || strings.Trim(u.Path, "/") == "" {
		return nil, errors.New("the address must be a URL like mariadb://user@host:3306/database")
	}
	if _, has := u.User.Password(); has || u.Query().Has("password") {
		return nil, errors.New("the address holds a password, which is never stored; name an environment variable " +
			"or a file for it (-password-env, -password-file)")
	}
	c := mysql.NewConfig()
	c.User, c.DBName, c.Net, c.Addr = u.User.Username(), strings.Trim(u.Path, "/"), "tcp", u.Host
	if socket := u.Query().Get("socket"); socket != "" {
		c.Net, c.Addr = "unix", socket
	} else if u.Port() == "" {
		c.Addr = net.JoinHostPort(u.Hostname(), "3306")
	}
	if _, err := strconv.ParseUint(cfg.Origin, 10, 32); cfg.Origin != "" && err != nil {
		return nil, fmt.Errorf("origin %q is no number for gtid_domain_id", cfg.Origin)
	}
	c.Collation, c.Timeout = "utf8mb4_bin", 10*time.Second
	c.ConnectionAttributes = "program_name:ambercellar"
	c.Logger = silent{}
	c.MaxAllowedPacket = 1<<30 - 1 // what is too long for the server, the server itself refuses
	mode := cfg.TLS
	if mode == "" {
		mode = "verify"
		if c.Net == "unix" || source.OnThisMachine(u.Hostname()) {
			mode = "off"
			c.DialFunc = source.LocalOnly((&net.Dialer{Timeout: c.Timeout, KeepAlive: 30 * time.Second}).DialContext)
		}
	}
	switch mode {
	case "off":
	case "require":
		c.TLS = &tls.Config{InsecureSkipVerify: true}
	case "verify":
		c.TLS = &tls.Config{ServerName: u.Hostname()}
		if cfg.TLSCA != "" {
			pem, err := os.ReadFile(cfg.TLSCA)
			if err != nil {
				return nil, fmt.Errorf("the file of certificates cannot be read: %w", err)
			}
			c.TLS.RootCAs = x509.NewCertPool()
			if !c.TLS.RootCAs.AppendCertsFromPEM(pem) {
				return nil, fmt.Errorf("the file %s holds no certificate", cfg.TLSCA)
			}
		}
	default:
		return nil, fmt.Errorf("tls %q is none of verify, require and off", mode)
	}
	return c, nil
}

// silent keeps the driver from writing to the service's standard error; what it has to say comes back as errors.
type silent struct{}

func (silent) Print(...any) {}

// prepared is a connector that looks the password up anew and sets every session up.
type prepared struct {
	driver.Connector
	cfg    source.Config
	config *mysql.Config
}

// sessions are the connections that this program has ever made, of all sources: numbered.
var sessions sync.Map

// numbered is a connection, by the address of its server and its number there.
type numbered struct {
	address string
	id      int64
}

func (p prepared) Connect(ctx context.Context) (driver.Conn, error) {
	c := p.config.Clone()
	var err error
	if c.Passwd, err = p.cfg.Password(); err != nil {
		return nil, err
	}
	plain := c.Clone()
	if plain.DialFunc == nil {
		plain.DialFunc = (&net.Dialer{Timeout: c.Timeout, KeepAlive: 30 * time.Second}).DialContext
	}
	c.DialFunc = silence.Watch(plain.DialFunc,
		func(ctx context.Context, _, _ string) error { return signsIn(ctx, plain) })
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	source.Connects(p.config.Addr)
	conn, err := connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	statements := []string{session, isolation}
	if p.cfg.Origin != "" {
		statements = append(statements, "SET SESSION gtid_domain_id = "+p.cfg.Origin)
	}
	for _, statement := range statements {
		if _, err := conn.(driver.ExecerContext).ExecContext(ctx, statement, nil); err != nil {
			conn.Close()
			return nil, err
		}
	}
	if rows, err := conn.(driver.QueryerContext).QueryContext(ctx, "SELECT CONNECTION_ID()", nil); err == nil {
		number := make([]driver.Value, 1)
		if rows.Next(number) == nil {
			text := fmt.Sprint(number[0])
			if b, ok := number[0].([]byte); ok {
				text = string(b)
			}
			if n, err := strconv.ParseInt(text, 10, 64); err == nil {
				sessions.Store(numbered{p.config.Addr, n}, true)
			}
		}
		rows.Close()
	}
	if whole, ok := conn.(connection); ok {
		return counting{whole, p.config.Addr}, nil
	}
	return conn, nil
}

// signsIn says whether a server answers on a new connection. Whoever leaves before signing in counts as a fault there,
// so this does; a refusal is an answer too.
func signsIn(ctx context.Context, c *mysql.Config) error {
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return err
	}
	source.Connects(c.Addr)
	conn, err := connector.Connect(ctx)
	if code(err) != 0 {
		return nil
	} else if err != nil {
		return err
	}
	return conn.Close()
}

// gentleRows is the most rows of a batch at the gentle pace: of two transactions that lock each other out InnoDB gives
// up the lighter one, and that should be ours.
const gentleRows = 200

// Reads says that readers disturb no writer; there are no row versions to be had.
func (s *Source) Reads() source.ReadTraits {
	return source.ReadTraits{Gentle: pace.Profile{Rows: gentleRows, Spurt: 4, Find: 16},
		EmptyingDoes: "it sets the table's automatic key back to 1, and replicas and change feeds see one " +
			"statement, no deleted rows"}
}

// Close closes all connections.
func (s *Source) Close() error { return s.db.Close() }

// Numbers of server errors (MariaDB documentation, "MariaDB Error Codes") that decisions hang on.
const (
	duplicate   = 1062
	lockTimeout = 1205
	deadlock    = 1213
	referred    = 1451
	shutdown    = 1053
	killed      = 1927
	noTable     = 1146
	byStatement = 1665
)

// denied are the errors that say that a right is missing: to a database, table, column, administrative statement or
// routine.
var denied = []uint16{1044, 1142, 1143, 1227, 1370}

func code(err error) uint16 {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}

// unreachable marks errors that say that the server, or the way to it, is gone, and those that say that a right is
// missing.
func unreachable(err error) error {
	var network net.Error
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF), errors.As(err, &network) && code(err) == 0,
		code(err) == shutdown, code(err) == killed:
		return fmt.Errorf("%w: %w", source.ErrUnreachable, err)
	case code(err) == lockTimeout && !errors.Is(err, source.ErrBusy):
		return fmt.Errorf("%w: %w", source.ErrBusy, err)
	case slices.Contains(denied, code(err)) && !errors.Is(err, source.ErrDenied):
		return fmt.Errorf("%w: %w", source.ErrDenied, err)
	}
	return err
}

// gone marks an error that says that there is no such table.
func gone(err error) error {
	if code(err) == noTable {
		return fmt.Errorf("%w: %w", source.ErrNoTable, err)
	}
	return err
}

// conn lends a connection to fn.
func (s *Source) conn(ctx context.Context, fn func(*sql.Conn) error) error {
	c, err := s.db.Conn(ctx)
	if err != nil {
		return source.Of(s.cfg.Name, unreachable(err))
	}
	defer c.Close()
	return unreachable(fn(c))
}

// transaction runs fn between START TRANSACTION and COMMIT.
func (s *Source) transaction(ctx context.Context, fn func(*sql.Conn) error) error {
	_, err := s.flushed(ctx, fn)
	return err
}

// flushed is transaction that returns how long COMMIT took: of what that does, waiting for the disk of the logs takes
// longest.
func (s *Source) flushed(ctx context.Context, fn func(*sql.Conn) error) (took time.Duration, err error) {
	err = s.conn(ctx, func(c *sql.Conn) error {
		if _, err := c.ExecContext(ctx, "START TRANSACTION"); err != nil {
			return err
		}
		if err := fn(c); err != nil {
			_, back := c.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
			if back != nil { // a session that cannot roll back holds locks: it must go
				c.Raw(func(any) error { return driver.ErrBadConn })
			}
			if n := code(err); n == lockTimeout || n == deadlock {
				return fmt.Errorf("%w: %w", source.ErrBusy, err)
			}
			return err
		}
		begun := time.Now()
		_, err := c.ExecContext(context.WithoutCancel(ctx), "COMMIT")
		took = time.Since(begun)
		return err
	})
	return took, err
}

// eachRow runs a query through the binary protocol, in which values keep their types, and hands on each row. The bytes
// are valid during the call only.
func eachRow(ctx context.Context, c *sql.Conn, query string, args []any, fn func([]driver.Value) error) error {
	return c.Raw(func(dc any) error {
		stmt, err := dc.(driver.ConnPrepareContext).PrepareContext(ctx, query)
		if err != nil {
			return err
		}
		defer stmt.Close()
		return rowsOf(ctx, stmt, args, fn)
	})
}

// rowsOf runs a prepared statement, and hands on each row.
func rowsOf(ctx context.Context, stmt driver.Stmt, args []any, fn func([]driver.Value) error) error {
	rows, err := stmt.(driver.StmtQueryContext).QueryContext(ctx, bykey.Named(args))
	if err != nil {
		return err
	}
	return bykey.EachRow(rows, fn)
}

// quote writes an identifier so that the server takes it as nothing else.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func quoteAll(prefix string, names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = prefix + quote(n)
	}
	return strings.Join(out, ", ")
}
