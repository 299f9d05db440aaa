// Package catalog keeps the service's own records: sources, stores, rules and their revisions, plans, runs, segments,
// restores and the audit log, in one SQLite database. It decides nothing: which state may follow which is the one
// rule that it enforces. What it knows of segments can be read again from the stores.
package catalog

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Catalog is the open catalog. It is safe for concurrent use: readers side by side, up to a number, and writers in
// turn.
type Catalog struct {
	db      *reader // for reading alone
	writes  *writer
	Now     func() time.Time // the clock of what is written; time.Now unless set before the first use
	address string           // for a connection of one's own
	access  atomic.Int64     // counts changes of who may come in
}

// Access counts the changes of who may come in: what was read of that holds as long as it stays.
func (c *Catalog) Access() int64 { return c.access.Load() }

// accessChanged is told when somebody may come in who could not before, or the other way round.
func (c *Catalog) accessChanged() { c.access.Add(1) }

// readers is how many read at a time at the most.
const readers = 8

// ErrNotFound says that there is no record of that name.
var ErrNotFound = errors.New("not found")

// NotFoundError says that there is no record of a kind and a name. It is an ErrNotFound.
type NotFoundError struct{ Kind, Name string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("%s %q: %v", e.Kind, e.Name, ErrNotFound) }

func (e *NotFoundError) Is(target error) bool { return target == ErrNotFound }

// Open opens the catalog's file, makes it where it does not exist, and brings its tables up to date. It refuses one of
// a newer version with a NewerError.
func Open(ctx context.Context, path string) (*Catalog, error) {
	q := url.Values{"_pragma": {"busy_timeout(10000)", "journal_mode(wal)", "synchronous(full)", "foreign_keys(1)",
		"secure_delete(1)"}, "_txlock": {"immediate"}}
	if err := private(path); err != nil {
		return nil, fmt.Errorf("catalog %s: %w", path, err)
	}
	c := &Catalog{Now: time.Now, address: fileAddress(path) + "?" + q.Encode()}
	writes, err := sqlx.Open("sqlite", c.address)
	if err != nil {
		return nil, err
	}
	if err := c.upgrade(ctx, writes, path); err != nil {
		writes.Close()
		return nil, unusable(path, err)
	}
	writes.SetMaxOpenConns(1)
	q.Add("_pragma", "query_only(1)")
	db, err := sqlx.Open("sqlite", fileAddress(path)+"?"+q.Encode())
	if err != nil {
		return nil, errors.Join(err, writes.Close())
	}
	db.SetMaxOpenConns(readers)
	db.SetMaxIdleConns(readers)
	c.db, c.writes = &reader{DB: db, prepared: map[string]*sqlx.Stmt{}}, &writer{DB: writes}
	return c, nil
}

// private makes a database's file where it does not exist, and sees to it that nobody but its owner reads it and what
// SQLite keeps beside it.
func private(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	err = errors.Join(f.Chmod(0o600), f.Close())
	for _, ending := range []string{"-wal", "-shm"} { // new ones are made like the file itself
		if one := os.Chmod(path+ending, 0o600); !errors.Is(one, os.ErrNotExist) {
			err = errors.Join(err, one)
		}
	}
	return err
}

func fileAddress(path string) string { return "file:" + (&url.URL{Path: path}).EscapedPath() }

// Close closes the catalog.
func (c *Catalog) Close() error { return errors.Join(c.writes.Close(), c.db.Close()) }

// Time is an instant as the catalog writes it: RFC 3339 in UTC with microseconds, so that text order is time order.
type Time struct{ time.Time }

// At makes a Time.
func At(t time.Time) Time { return Time{t.UTC().Truncate(time.Microsecond)} }

const timeForm = "2006-01-02T15:04:05.000000Z"

func (t Time) Value() (driver.Value, error) { return t.UTC().Format(timeForm), nil }

func (t *Time) Scan(v any) (err error) {
	s, ok := v.(string)
	if !ok {
		return fmt.Errorf("catalog: a time is a %T", v)
	}
	t.Time, err = time.Parse(time.RFC3339Nano, s)
	return err
}

// JSON is a value that the catalog keeps as JSON text.
type JSON[T any] struct{ V T }

func (j JSON[T]) Value() (driver.Value, error) {
	b, err := json.Marshal(j.V)
	return string(b), err
}

func (j *JSON[T]) Scan(v any) error {
	switch s := v.(type) {
	case string:
		return json.Unmarshal([]byte(s), &j.V)
	case []byte:
		return json.Unmarshal(s, &j.V)
	}
	return fmt.Errorf("catalog: JSON is a %T", v)
}

func (j JSON[T]) MarshalJSON() ([]byte, error) { return json.Marshal(j.V) }

func (j *JSON[T]) UnmarshalJSON(b []byte) error { return json.Unmarshal(b, &j.V) }

// get reads one record; kind and name go into the error.
func get[T any](ctx context.Context, q sqlx.QueryerContext, kind, name, query string, args ...any) (*T, error) {
	var out T
	err := sqlx.GetContext(ctx, q, &out, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, &NotFoundError{kind, name}
	}
	if err != nil {
		return nil, fmt.Errorf("%s %q: %w", kind, name, err)
	}
	return &out, nil
}

func list[T any](ctx context.Context, q sqlx.QueryerContext, query string, args ...any) ([]T, error) {
	out := []T{}
	err := sqlx.SelectContext(ctx, q, &out, query, args...)
	return out, err
}

// changed says whether an update found its record as it had to be: ErrState where it changed no row.
func changed(r sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil {
		return err
	} else if n == 0 {
		return fmt.Errorf("it was changed by something else meanwhile: %w", ErrState)
	}
	return nil
}

// transaction runs fn in one transaction.
func (c *Catalog) transaction(ctx context.Context, fn func(*sqlx.Tx) error) error {
	tx, err := c.writes.BeginTxx(ctx, nil)
	if err != nil {
		return noRoom(err)
	}
	if err := fn(tx); err != nil {
		return errors.Join(noRoom(err), tx.Rollback())
	}
	err = tx.Commit()
	c.writes.tell()
	return noRoom(err)
}

// Setting returns a setting of the service, or the empty text.
func (c *Catalog) Setting(ctx context.Context, name string) (v string, err error) {
	err = c.db.GetContext(ctx, &v, "SELECT value FROM setting WHERE name = ?", name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// ChangeSetting keeps a setting that somebody changes, and records what was before, at first as it is usual, and after.
func (c *Catalog) ChangeSetting(ctx context.Context, actor, action, name, usual, v string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		before, err := was(ctx, tx, "SELECT value FROM setting WHERE name = ?", name)
		if err != nil {
			return err
		}
		if before == nothing {
			before = usual
		}
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", name, v); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, action, "", change(before, v))
	})
}

// SetSetting keeps a setting of the service.
func (c *Catalog) SetSetting(ctx context.Context, name, v string) error {
	_, err := c.writes.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", name, v)
	return err
}

// Writable says why the catalog cannot be written, if it cannot.
func (c *Catalog) Writable(ctx context.Context) error {
	tx, err := c.writes.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("the catalog cannot be written: %w", err)
	}
	_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES ('writable', '1')")
	return errors.Join(err, tx.Rollback())
}
