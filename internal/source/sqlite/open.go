// Package sqlite is the source for SQLite databases, through the pure-Go driver. The file is never opened except
// through the driver, since closing it anywhere else in the process would drop the locks that SQLite holds on it.
// All SQL for SQLite stands here.
package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	sqlite3 "modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
	"ambercellar/internal/source/sqlbase"
)

// Source is a SQLite database.
type Source struct {
	sqlbase.Base
	cfg    source.Config
	read   *sql.DB // any number of readers
	write  *sql.DB // one connection, whose transactions take the write lock at once
	path   string  // of the file, absolute
	log    logMeter
	blocks bool // not in WAL mode: readers and the writer keep each other waiting
	others others
}

// busyMillis is how long a statement waits for locks of others. Waiting costs them nothing: SQLite polls.
const busyMillis = 2000

// Open opens the database file of cfg.Address, which must exist.
func Open(ctx context.Context, cfg source.Config) (*Source, error) {
	path, err := filepath.Abs(cfg.Address)
	if err != nil {
		return nil, source.Of(cfg.Name, err)
	}
	if st, err := os.Stat(path); err != nil {
		return nil, source.Of(cfg.Name,
			fmt.Errorf("%w: the database file cannot be reached: %w; check the path as the service sees it",
				source.ErrUnreachable, err))
	} else if st.IsDir() {
		return nil, source.Of(cfg.Name, fmt.Errorf("%s is a directory; name the database file in it", path))
	}
	s := &Source{cfg: cfg, path: path}
	s.read = sql.OpenDB(connector(path, ""))
	s.read.SetMaxOpenConns(max(cfg.Connections-1, 2))
	s.write = sql.OpenDB(connector(path, "immediate"))
	s.write.SetMaxOpenConns(1)
	for _, db := range []*sql.DB{s.read, s.write} {
		db.SetConnMaxIdleTime(5 * time.Minute)
	}
	var mode string
	if err := s.read.QueryRowContext(ctx, "PRAGMA journal_mode").Scan(&mode); err != nil {
		s.Close()
		return nil, source.Of(cfg.Name, fmt.Errorf("%s cannot be read as a SQLite database: %w", path, err))
	}
	if err := s.read.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(new(int)); err != nil {
		s.Close()
		return nil, source.Of(cfg.Name, fmt.Errorf("%s cannot be read as a SQLite database: %w", path, err))
	}
	if conn, err := s.write.Conn(ctx); err == nil { // the sooner it has looked, the more it knows of others
		s.others.look(ctx, conn) // what fails here fails later too, and is told then
		conn.Close()
	}
	s.blocks, s.Base = !strings.EqualFold(mode, "wal"), s.base()
	return s, nil
}

// base is how SQLite does what all engines do alike.
func (s *Source) base() sqlbase.Base {
	return sqlbase.Base{
		Names: sqlbase.Names{Quote: quote, Journal: "ambercellar_", Upsert: sqlbase.OnConflict, Restore: "restore",
			From:     func(t *shape.Table) string { return quote(t.Name) },
			Restored: func(t *shape.Table) string { return quote(restoredTable(t)) }},
		Sender: sqlbase.Sender{Each: sqlbase.EachOf(s.read),
			There: func(ctx context.Context, t *shape.Table) (bool,
				error) {
				return s.hasTable(ctx, restoredTable(t))
			},
			Exec: func(ctx context.Context, statement string, args ...any) error {
				return s.immediate(ctx, func(conn *sql.Conn) error {
					_, err := conn.ExecContext(ctx, statement, args...)
					return err
				})
			}},
		Ages: sqlbase.Ages{
			Dialect: func(sel source.Selection) sqlbase.Dialect { return newDialect(sel, "t.") },
			Beside: func(d sqlbase.Dialect, sel source.Selection) source.Dialect {
				return &dialect{Binder: d.(*dialect).Binder, sel: sel, age: sel.Age, prefix: "t."}
			},
			Column: func(d sqlbase.Dialect) string { return d.(*dialect).column() },
			Shown:  func(_ source.Selection, d sqlbase.Dialect) string { return "+" + d.(*dialect).column() },
			First:  s.firstAge},
	}
}

// firstAge reads the age that a query selects; false: there is none.
func (s *Source) firstAge(ctx context.Context, sel source.Selection, query string, args []any) (at time.Time, ok bool,
	err error) {
	var v any
	if err := s.read.QueryRowContext(ctx, query, args...).Scan(&v); errors.Is(err, sql.ErrNoRows) {
		return at, false, nil
	} else if err != nil {
		return at, false, err
	}
	x, err := toValue(v, func(b []byte) []byte { return b })
	if err != nil {
		return at, false, err
	}
	at, ok = sel.Age.Instant(x)
	return at, ok, nil
}

// Of the writing connection: its page cache, and the pages of the write-ahead log from which on a commit copies them
// back into the database.
const cacheKiB, checkpointPages = 40 << 10, 4000

func connector(path, lock string) driver.Connector {
	q := url.Values{"mode": {"rw"}, "_pragma": {fmt.Sprintf("busy_timeout(%d)", busyMillis), "foreign_keys(1)",
		"recursive_triggers(0)"}}
	// deleting touches index pages all over the file: it keeps more of them, and copies them back less often
	if lock != "" {
		q.Set("_txlock", lock)
		q["_pragma"] = append(q["_pragma"], fmt.Sprintf("cache_size(-%d)", cacheKiB),
			fmt.Sprintf("wal_autocheckpoint(%d)", checkpointPages))
	}
	return dsn{name: "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()}
}

// dsn is a driver.Connector for one data source name.
type dsn struct{ name string }

func (d dsn) Connect(context.Context) (driver.Conn, error) { return d.Driver().Open(d.name) }
func (d dsn) Driver() driver.Driver                        { return &sqlite3.Driver{} }

// Reads says that readers keep writers waiting unless the database is in WAL mode. SQLite has no row versions.
func (s *Source) Reads() source.ReadTraits {
	return source.ReadTraits{BlocksWriters: s.blocks, LooseTypes: true,
		CannotEmpty: "SQLite has no statement that empties a table at once"}
}

// Close closes all connections.
func (s *Source) Close() error { return errors.Join(s.read.Close(), s.write.Close()) }

// quote writes an identifier so that SQLite takes it as nothing else.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// quoteAll quotes names behind a prefix and joins them with commas.
func quoteAll(prefix string, names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = prefix + quote(n)
	}
	return strings.Join(out, ", ")
}

// eachRow runs a query and hands every row on as values by storage class. It goes below database/sql, whose
// conversions cost time and, for columns declared as dates, the value's own form; that is also why every query in
// this package selects expressions (+"column") and never bare columns.
func eachRow(ctx context.Context, conn *sql.Conn, query string, args []any, fn func([]driver.Value) error) error {
	return conn.Raw(func(dc any) error {
		rows, err := dc.(driver.QueryerContext).QueryContext(ctx, query, bykey.Named(args))
		if err != nil {
			return err
		}
		return bykey.EachRow(rows, fn)
	})
}

// toValue turns what the driver returned into a value by its storage class.
func toValue(v driver.Value, keep func([]byte) []byte) (value.Value, error) {
	switch x := v.(type) {
	case nil:
		return value.Value{}, nil
	case int64:
		return value.Of(x), nil
	case float64:
		return value.OfFloat(x), nil
	case string:
		return value.Value{Kind: value.Text, B: keep([]byte(x))}, nil
	case []byte:
		return value.Value{Kind: value.Bytes, B: keep(x)}, nil
	}
	return value.Value{}, fmt.Errorf("the driver returned a %T, which is no storage class of SQLite", v)
}

// fromValue turns a value into what the driver binds with the same storage class.
func fromValue(v value.Value) (any, error) {
	switch v.Kind {
	case value.Null:
		return nil, nil
	case value.Int, value.Bool:
		return v.N, nil
	case value.Float64:
		return v.Float(), nil
	case value.Text:
		return string(v.B), nil
	case value.Bytes:
		if v.B == nil {
			return []byte{}, nil
		}
		return v.B, nil
	}
	return nil, fmt.Errorf("a %s is no storage class of SQLite", v.Kind)
}

func fromValues(vs []value.Value) ([]any, error) {
	out := make([]any, len(vs))
	for i, v := range vs {
		a, err := fromValue(v)
		if err != nil {
			return nil, err
		}
		out[i] = a
	}
	return out, nil
}

// busy says whether an error means that others hold the locks.
func busy(err error) bool {
	var e *sqlite3.Error
	return errors.As(err, &e) && (e.Code()&0xff == lib.SQLITE_BUSY || e.Code()&0xff == lib.SQLITE_LOCKED)
}

// duplicate says whether an error means that a unique key is taken.
func duplicate(err error) bool {
	var e *sqlite3.Error
	return errors.As(err, &e) && (e.Code() == lib.SQLITE_CONSTRAINT_UNIQUE ||
		e.Code() == lib.SQLITE_CONSTRAINT_PRIMARYKEY)
}

// immediate runs fn in a transaction that holds the write lock from its first moment.
func (s *Source) immediate(ctx context.Context, fn func(conn *sql.Conn) error) error {
	conn, err := s.write.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		// One that was interrupted may have begun all the same; where it has not, this fails, and nothing follows from
		// that.
		conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		if busy(err) {
			s.others.came()
			return fmt.Errorf("%w: %w", source.ErrBusy, err)
		}
		return err
	}
	s.others.look(ctx, conn)
	if err := fn(conn); err != nil {
		_, back := conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		return errors.Join(err, back)
	}
	if _, err := conn.ExecContext(context.WithoutCancel(ctx), "COMMIT"); err != nil {
		_, back := conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		if busy(err) {
			s.others.came()
			return fmt.Errorf("%w: %w", source.ErrBusy, err)
		}
		return errors.Join(err, back)
	}
	return nil
}
