package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// queryer is a connection or a pool of them.
type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

var counter = regexp.MustCompile(` AUTO_INCREMENT=\d+`)

// signOf reads a table's definition, the foreign keys of this database that refer to it, and its triggers.
func (s *Source) signOf(ctx context.Context, c queryer, t *shape.Table) (string, error) {
	var words []string
	for _, q := range []struct {
		query string
		args  []any
	}{
		{"SHOW CREATE TABLE " + quote(t.Base), nil},
		{"SELECT TABLE_NAME, CONSTRAINT_NAME, DELETE_RULE FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ? AND REFERENCED_TABLE_NAME = ? ORDER BY 1, 2", []any{s.database, t.Base}},
		{"SELECT TRIGGER_NAME, ACTION_TIMING, EVENT_MANIPULATION FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND EVENT_OBJECT_TABLE = ? ORDER BY 1", []any{s.database, t.Base}},
	} {
		rows, err := c.QueryContext(ctx, q.query, q.args...)
		if err != nil {
			return "", err
		}
		columns, err := rows.Columns()
		if err != nil {
			rows.Close()
			return "", err
		}
		raw, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
		for i := range raw {
			into[i] = &raw[i]
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				rows.Close()
				return "", err
			}
			words = append(words, fmt.Sprintf("%s", raw))
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return "", err
		}
	}
	return counter.ReplaceAllString(strings.Join(words, "\n"), ""), nil
}

// unaltered checks, within a transaction that has deleted from a table, that it is shaped as it was described: what would alter
// it, or refer to it, has to wait for that transaction.
func (s *Source) unaltered(ctx context.Context, c *sql.Conn, t *shape.Table) error {
	if t.Sign == nil {
		return nil
	}
	words, err := s.signOf(ctx, c, t)
	if err == nil && !t.Sign.Is(words) {
		err = source.ErrReshaped
	}
	return err
}
