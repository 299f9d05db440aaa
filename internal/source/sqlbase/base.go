// Package sqlbase is what sources that speak SQL do alike: who works on a table and where its newest run stands, which
// of its rows were restored, and counting. A source embeds a Base and tells it how statements are sent and how names
// are written.
package sqlbase

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// Dialect writes the conditions of one statement, whose values it gathers.
type Dialect interface {
	source.Dialect
	Finish(text string, placeholder func(n int) string) (string, []any)
}

// Names is how an engine writes what statements name.
type Names struct {
	Quote func(name string) string
	// Number is a placeholder, from 1; nil: question marks.
	Number func(n int) string
	// From is a table, or the one partition of it that is read, as FROM names it.
	From func(t *shape.Table) string
	// Journal stands before the names of the journal's tables.
	Journal string
	// Restored is the table that records the restored rows of t, and Restore its column that names the restore.
	Restored func(t *shape.Table) string
	Restore  string
	// Upsert is what follows VALUES (…) so that a row of that key is replaced: in these columns.
	Upsert func(key string, columns ...string) string
}

// Sender is how an engine sends statements.
type Sender struct {
	Exec func(ctx context.Context, statement string, args ...any) error
	// Each reads the rows of a query into variables, one after the other, and calls row for each.
	Each Each
	// Count is Each for queries that read much; nil: Each.
	Count Each
	// There says whether a table of restored rows, as Restored names it, is there.
	There func(ctx context.Context, t *shape.Table) (bool, error)
}

// Each reads the rows of a query.
type Each func(ctx context.Context, query string, args, into []any, row func() error) error

// Ages is how an engine writes and reads a table's age.
type Ages struct {
	// Dialect begins a statement on the rows of a selection, called t; Beside is the dialect of another selection in
	// the same statement.
	Dialect func(sel source.Selection) Dialect
	Beside  func(d Dialect, sel source.Selection) source.Dialect
	// Column is the age, and Shown what First reads of it; Text writes an expression of it as text, where Tally is the
	// Base's.
	Column func(d Dialect) string
	Shown  func(sel source.Selection, d Dialect) string
	Text   func(sel source.Selection, expression string) string
	// First reads the age that a query selects; false: there is none.
	First func(ctx context.Context, sel source.Selection, query string, args []any) (at time.Time, ok bool, err error)
}

// Base does what engines do alike.
type Base struct {
	Names
	Sender
	Ages
}

// written writes placeholders as the engine does. Statements of this package have NUL for them, which no name can hold:
// a question mark can stand in the name of a table or a column.
func (b *Base) written(statement string) string {
	var out strings.Builder
	n := 0
	for _, c := range statement {
		switch {
		case c != 0:
			out.WriteRune(c)
		case b.Number == nil:
			out.WriteByte('?')
		default:
			n++
			out.WriteString(b.Number(n))
		}
	}
	return out.String()
}

func (b *Base) exec(ctx context.Context, statement string, args ...any) error {
	return b.Exec(ctx, b.written(statement), args...)
}

// one reads the one row of a query, if there is one.
func (b *Base) one(ctx context.Context, query string, args []any, into ...any) error {
	return b.Each(ctx, b.written(query), args, into, func() error { return nil })
}

// count reads the one row of a query that a dialect has finished.
func (b *Base) count(ctx context.Context, query string, args []any, into ...any) error {
	return b.counting(ctx, query, args, into, func() error { return nil })
}

func (b *Base) counting(ctx context.Context, query string, args, into []any, row func() error) error {
	if b.Count != nil {
		return b.Count(ctx, query, args, into, row)
	}
	return b.Each(ctx, query, args, into, row)
}

// Queryer is a connection, or a pool of them.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// EachOf is Each of a driver of database/sql.
func EachOf(db Queryer) Each {
	return func(ctx context.Context, query string, args, into []any, row func() error) error {
		rows, err := db.QueryContext(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				return err
			}
			if err := row(); err != nil {
				return err
			}
		}
		return rows.Err()
	}
}

// OnConflict is Upsert in the words of SQLite and PostgreSQL.
func OnConflict(key string, columns ...string) string {
	return " ON CONFLICT (" + key + ") DO UPDATE SET " + sets(columns, "excluded.", "")
}

// OnDuplicate is Upsert in the words of MariaDB and MySQL, for a table with one key.
func OnDuplicate(_ string, columns ...string) string {
	return " ON DUPLICATE KEY UPDATE " + sets(columns, "VALUES(", ")")
}

func sets(columns []string, before, behind string) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c + " = " + before + c + behind
	}
	return strings.Join(out, ", ")
}

// onKey is the condition that a row of t, called by prefix, is the one that a record, called r, names.
func (b *Base) onKey(t *shape.Table, prefix string) string {
	parts := make([]string, len(t.Key))
	for i, k := range t.Key {
		parts[i] = fmt.Sprintf("r.k%d = %s%s", i+1, prefix, b.Quote(k))
	}
	return strings.Join(parts, " AND ")
}
