package sqlite

import (
	"context"
	"database/sql"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// signQuery is the definition of a table with its indexes and triggers, and those of all tables that refer to any.
const signQuery = `SELECT coalesce(group_concat(sql, char(10)), '') FROM (SELECT sql FROM sqlite_schema WHERE ` +
	`tbl_name = ? COLLATE NOCASE OR type = 'table' AND sql LIKE '%references%' ORDER BY type, name)`

// unaltered checks, under the write lock, that a table is shaped as it was described.
func unaltered(ctx context.Context, conn *sql.Conn, t *shape.Table) error {
	if t.Sign == nil {
		return nil
	}
	var words string
	err := conn.QueryRowContext(ctx, signQuery, t.Base).Scan(&words)
	if err == nil && !t.Sign.Is(words) {
		err = source.ErrReshaped
	}
	return err
}

// sign reads the words of a table that is about to be described.
func (s *Source) sign(ctx context.Context, table string) (*shape.Sign, error) {
	var words string
	if err := s.read.QueryRowContext(ctx, signQuery, table).Scan(&words); err != nil {
		return nil, err
	}
	return shape.NewSign(words), nil
}
