package mariadb

import (
	"context"
	"database/sql"
	"errors"
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

// literal writes text as a constant; what is asked of information_schema goes fast only so.
func literal(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'"
}

// signOf reads a table's definition, and the foreign keys of this database that refer to it. It is asked with every
// batch, so it is short.
func (s *Source) signOf(ctx context.Context, c queryer, t *shape.Table) (string, error) {
	var words []string
	for _, query := range []string{"SHOW CREATE TABLE " + quote(t.Base),
		"SELECT TABLE_NAME, CONSTRAINT_NAME, DELETE_RULE FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE " +
			"CONSTRAINT_SCHEMA = " + literal(s.database) + " AND REFERENCED_TABLE_NAME = " + literal(t.Base) +
			" ORDER BY 1, 2"} {
		rows, err := c.QueryContext(ctx, query)
		if err != nil {
			return "", err
		}
		columns, err := rows.Columns()
		raw, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
		for i := range raw {
			into[i] = &raw[i]
		}
		for err == nil && rows.Next() {
			if err = rows.Scan(into...); err == nil {
				words = append(words, fmt.Sprintf("%s", raw))
			}
		}
		rows.Close()
		if err = errors.Join(err, rows.Err()); err != nil {
			return "", err
		}
	}
	return counter.ReplaceAllString(strings.Join(words, "\n"), ""), nil
}

// unaltered checks, within a transaction that has deleted from a table, that it is shaped as it was described: what
// would alter it, or refer to it, has to wait for that transaction.
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
