// Package postgres is the source for PostgreSQL, through pgx. It reads with binary COPY and finds a row again by its
// partition, address and version, with the key beside them. All SQL for PostgreSQL stands here.
package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/value"
	"ambercellar/internal/silence"
	"ambercellar/internal/source"
	"ambercellar/internal/source/sqlbase"
)

// Source is a PostgreSQL database.
type Source struct {
	sqlbase.Base
	cfg      source.Config
	pool     pool
	arrivals source.Arrivals
	tied     sync.Map // tables that turned out to have many rows of one age
	ages     sync.Map // agesKnown by table and column

	making sync.Mutex // of records of restored rows
}

// session is what every session of ours is set to, so that values, names and rights mean the same whatever the
// server's defaults: row_security off makes a query fail rather than hide rows, and the time-outs see to it that a
// dead host leaves no locks behind.
var session = map[string]string{
	"application_name":                    "ambercellar",
	"search_path":                         "pg_catalog",
	"client_encoding":                     "UTF8",
	"DateStyle":                           "ISO, YMD",
	"IntervalStyle":                       "postgres",
	"TimeZone":                            "UTC",
	"extra_float_digits":                  "1",
	"lc_monetary":                         "C",
	"bytea_output":                        "hex",
	"standard_conforming_strings":         "on",
	"row_security":                        "off",
	"default_transaction_isolation":       "read committed",
	"lock_timeout":                        "2s", // whoever waits does not say so: a run says it, and tries again
	"idle_in_transaction_session_timeout": "60s",
	"tcp_keepalives_idle":                 "30",
	"tcp_keepalives_interval":             "10",
	"tcp_keepalives_count":                "3",
	"tcp_user_timeout":                    "60000",
	// A batch is found by row addresses; these keep the planner from reading the whole table for it.
	"enable_hashjoin":  "off",
	"enable_mergejoin": "off",
	"jit":              "off",
}

// Open prepares the connections to cfg.Address; the first is made when it is needed.
func Open(_ context.Context, cfg source.Config) (*Source, error) {
	pc, err := poolConfig(cfg)
	if err != nil {
		return nil, source.Of(cfg.Name, err)
	}
	p, err := pgxpool.NewWithConfig(context.Background(), pc)
	if err != nil {
		return nil, source.Of(cfg.Name, err)
	}
	s := &Source{cfg: cfg, pool: pool{p}}
	s.Base = s.base()
	return s, nil
}

// base is how PostgreSQL does what all engines do alike.
func (s *Source) base() sqlbase.Base {
	return sqlbase.Base{
		Names: sqlbase.Names{Quote: quote, Number: numbered, Journal: journalSchemaName + ".",
			Upsert: sqlbase.OnConflict, From: table, Restored: restoredTable, Restore: "restore"},
		Sender: sqlbase.Sender{Exec: s.exec, Each: s.each, Count: s.counting, There: s.recorded},
		Ages: sqlbase.Ages{
			Dialect: func(sel source.Selection) sqlbase.Dialect { return newDialect(sel) },
			Beside: func(d sqlbase.Dialect, sel source.Selection) source.Dialect {
				return &dialect{Binder: d.(*dialect).Binder, sel: sel, age: sel.Age, prefix: "t."}
			},
			Column: func(d sqlbase.Dialect) string { return d.(*dialect).column() },
			Shown: func(sel source.Selection, d sqlbase.Dialect) string {
				c, _ := sel.AgeColumn()
				return iso(d.(*dialect).column(), c)
			},
			Text: func(sel source.Selection, expression string) string {
				c, _ := sel.AgeColumn()
				return iso(expression, c)
			},
			First: s.firstAge},
	}
}

// firstAge reads the age that a query selects, as text; false: there is none.
func (s *Source) firstAge(ctx context.Context, sel source.Selection, query string, args []any) (at time.Time, ok bool,
	err error) {
	var text string
	err = s.counting(ctx, query, args, []any{&text}, func() error {
		v := value.OfText(text)
		if sel.Age.Unit != "" {
			v = value.Value{Kind: value.Int}
			fmt.Sscan(text, &v.N)
		}
		at, ok = sel.Age.Instant(v)
		return nil
	})
	return at, ok, err
}

// each reads the rows of a query.
func (s *Source) each(ctx context.Context, query string, args, into []any, row func() error) error {
	return s.conn(ctx, func(c *pgxpool.Conn) error {
		rows, err := c.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		_, err = pgx.ForEachRow(rows, into, row)
		return err
	})
}

func poolConfig(cfg source.Config) (*pgxpool.Config, error) {
	u, err := url.Parse(cfg.Address)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return nil, errors.New("the address must be a URL like postgres://user@host:5432/database")
	}
	q := u.Query()
	if _, has := u.User.Password(); has || q.Has("password") || q.Has("sslpassword") {
		return nil, errors.New("the address holds a password, which is never stored; name an environment variable " +
			"or a file for it (-password-env, -password-file)")
	}
	for _, name := range []string{"passfile", "service", "servicefile", "sslkey", "sslcert", "require_auth"} {
		if q.Has(name) {
			return nil, fmt.Errorf("the address must not have %s; TLS is chosen by -tls and -tls-ca, and a "+
				"password by -password-env or -password-file", name)
		}
	}
	local := false
	switch cfg.TLS {
	case "off":
		q.Set("sslmode", "disable")
	case "require":
		q.Set("sslmode", "require")
	case "verify":
		q.Set("sslmode", "verify-full")
	case "":
		q.Set("sslmode", "verify-full")
		if local = source.OnThisMachine(cmp.Or(q.Get("host"), u.Hostname())); local {
			q.Set("sslmode", "disable")
		}
	default:
		return nil, fmt.Errorf("tls %q is none of verify, require and off", cfg.TLS)
	}
	if cfg.TLSCA != "" {
		q.Set("sslrootcert", cfg.TLSCA)
	}
	u.RawQuery = q.Encode()
	pc, err := pgxpool.ParseConfig(u.String())
	if err != nil {
		return nil, fmt.Errorf("the address cannot be used: %w", err)
	}
	pc.ConnConfig.Password = "" // never from the service's own PGPASSWORD
	pc.MaxConns = int32(max(cfg.Connections, 3))
	pc.ConnConfig.ConnectTimeout = 10e9
	pc.ConnConfig.DefaultQueryExecMode = pgx.QueryExecModeExec
	dial := pc.ConnConfig.DialFunc
	if local {
		dial = source.LocalOnly(dial)
	}
	if q.Get("sslmode") == "disable" {
		pc.ConnConfig.RequireAuth = "!password"
	}
	pc.ConnConfig.DialFunc = silence.Watch(dial, answers)
	for k, v := range session {
		pc.ConnConfig.RuntimeParams[k] = v
	}
	pc.BeforeConnect = func(_ context.Context, c *pgx.ConnConfig) (err error) {
		c.Password, err = cfg.Password()
		return err
	}
	pc.ConnConfig.Tracer = ending{}
	pc.AfterConnect = func(ctx context.Context, c *pgx.Conn) error {
		source.Connects(serverOf(c))
		id, err := serverIdentity(ctx, c)
		c.PgConn().CustomData()[identityKey] = id
		return err
	}
	return pc, nil
}

// answers asks a server whether it would encrypt, which it answers before anything else (PostgreSQL documentation,
// "SSL Session Encryption").
func answers(ctx context.Context, network, address string) error {
	c, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return err
	}
	defer c.Close()
	if until, ok := ctx.Deadline(); ok {
		c.SetDeadline(until)
	}
	if _, err := c.Write([]byte{0, 0, 0, 8, 4, 210, 22, 47}); err != nil {
		return err
	}
	_, err = io.ReadFull(c, make([]byte, 1))
	return err
}

// serverOf is the address of the server that a connection leads to.
func serverOf(c *pgx.Conn) string {
	return net.JoinHostPort(c.Config().Host, fmt.Sprint(c.Config().Port))
}

const identityKey = "identity"

// serverIdentity tells one start of one server from every other. Row addresses and versions mean something only as
// long as it stays the same.
func serverIdentity(ctx context.Context, c *pgx.Conn) (id string, err error) {
	err = c.QueryRow(ctx,
		`SELECT concat_ws(' ', (SELECT system_identifier FROM pg_control_system()), (SELECT timeline_id
			FROM pg_control_checkpoint()),
		extract(epoch FROM pg_postmaster_start_time()), pg_is_in_recovery(), (SELECT oid FROM pg_database
			WHERE datname = current_database()))`).Scan(&id)
	if err != nil && code(err) == denied {
		err = c.QueryRow(ctx, `SELECT concat_ws(' ', extract(epoch FROM pg_postmaster_start_time()), `+
			`pg_is_in_recovery(), (SELECT oid FROM pg_database WHERE datname = current_database()))`).Scan(&id)
	}
	return id, err
}

// gentle has long rests: of what is written while a batch or a piece goes on, more is late here than elsewhere, and
// batches have many hundred rows all the same.
var gentle = pace.Profile{Rest: 59, ReadRest: 39, Spurt: 16}

// Reads says that readers disturb no writer and that a row's version tells of every change.
func (s *Source) Reads() source.ReadTraits {
	return source.ReadTraits{Gentle: gentle, RowVersions: true, ParallelWrites: true, ReadsGently: true,
		EmptyingDoes: "sequences go on where they are; subscribers are told of it only where their publication " +
			"sends truncations, and a reader with an older snapshot sees the table empty"}
}

// Close closes all connections.
func (s *Source) Close() error {
	s.pool.Close()
	return nil
}

// code returns the SQLSTATE of an error, or the empty text.
func code(err error) string {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return e.Code
	}
	return ""
}

// SQLSTATEs (PostgreSQL documentation, appendix A) that decisions hang on.
const (
	lockNotAvailable = "55P03"
	uniqueViolation  = "23505"
	foreignKey       = "23503"
	deadlock         = "40P01"
	serialization    = "40001"
	queryCanceled    = "57014"
	// by another session: a replication origin, or a table whose partition is being detached
	inUse           = "55006"
	notSupported    = "0A000" // COPY into a view, or where policies say which rows may be written
	undefinedTable  = "42P01"
	denied          = "42501"
	undefinedSchema = "3F000"
)

// conn lends a connection to fn.
func (s *Source) conn(ctx context.Context, fn func(*pgxpool.Conn) error) error {
	c, err := s.pool.Acquire(ctx)
	if err != nil {
		return source.Of(s.cfg.Name, err)
	}
	defer c.Release()
	return s.pool.marked(fn(c))
}

// unreachable marks errors that say that the server, or the way to it, is gone: no SQLSTATE at all from a broken
// connection, or one of the classes 08 and 57P; and those that say that a right is missing.
func unreachable(err error) error {
	var closed *pgconn.ConnectError
	var network net.Error
	state := code(err)
	switch {
	case err == nil || errors.Is(err, context.Canceled) || errors.Is(err, source.ErrUnreachable):
		return err
	case state == "" && (errors.As(err, &closed) || errors.As(err, &network) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, io.EOF) || errors.Is(err, pgconn.ErrConnClosed)),
		strings.HasPrefix(state, "08"), strings.HasPrefix(state, "57P"):
		return fmt.Errorf("%w: %w", source.ErrUnreachable, err)
	case state == lockNotAvailable && !errors.Is(err, source.ErrBusy):
		return fmt.Errorf("%w: %w", source.ErrBusy, err)
	case state == denied && !errors.Is(err, source.ErrDenied):
		return fmt.Errorf("%w: %w", source.ErrDenied, err)
	}
	return err
}

// transaction runs fn between BEGIN and COMMIT.
func (s *Source) transaction(ctx context.Context, fn func(pgx.Tx) error) error {
	err := s.conn(ctx, func(c *pgxpool.Conn) error { return pgx.BeginFunc(ctx, c, fn) })
	if code(err) == lockNotAvailable || code(err) == deadlock || code(err) == serialization {
		return fmt.Errorf("%w: %w", source.ErrBusy, err)
	}
	return err
}

// exec runs one statement on any connection.
func (s *Source) exec(ctx context.Context, statement string, args ...any) error {
	return s.conn(ctx, func(c *pgxpool.Conn) error {
		_, err := c.Exec(ctx, statement, args...)
		return err
	})
}

// commit ends a transaction, and returns how long that took: of what a commit does, waiting for the log's disk takes
// longest.
func commit(ctx context.Context, pc *pgconn.PgConn) (time.Duration, error) {
	begun := time.Now()
	_, err := pc.Exec(context.WithoutCancel(ctx), "COMMIT").ReadAll()
	return time.Since(begun), err
}
