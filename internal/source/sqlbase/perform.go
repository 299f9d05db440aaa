package sqlbase

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/source"
)

// Perform sends a statement of an administrator's on a connection of its own. before are sent before it; changed asks
// how many rows it changed.
func Perform(ctx context.Context, db *sql.DB, before []string, statement, changed string) (a *source.Answer,
	err error) {
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	defer conn.Raw(func(any) error { return driver.ErrBadConn }) // whatever the statement made of the session ends
	for _, s := range before {
		if _, err := conn.ExecContext(ctx, s); err != nil {
			return nil, err
		}
	}
	rows, err := conn.QueryContext(ctx, statement)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	a = &source.Answer{}
	if a.Columns, err = rows.Columns(); err != nil {
		return nil, err
	}
	values, into := make([]any, len(a.Columns)), make([]any, len(a.Columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = Text(v)
		}
		a.Add(row)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(a.Columns) > 0 {
		return a, err
	}
	if err := conn.QueryRowContext(ctx, changed).Scan(&a.Changed); err != nil {
		a.Changed = -1
	}
	return a, nil
}

// Text writes a value that a driver returned.
func Text(v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case []byte:
		return string(v)
	case time.Time:
		return v.UTC().Format(time.RFC3339Nano)
	}
	return fmt.Sprint(v)
}
