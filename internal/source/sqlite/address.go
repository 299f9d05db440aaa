package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// address returns the hidden number of a row in a table without key, by a name that no column has taken.
func address(t *shape.Table, withoutRowid bool) []shape.Column {
	if len(t.Key) > 0 || len(t.Obstacles) > 0 || withoutRowid {
		return nil
	}
	for _, name := range []string{"rowid", "_rowid_", "oid"} {
		taken := false
		for _, c := range t.Columns {
			taken = taken || strings.EqualFold(c.Name, name)
		}
		if !taken {
			return []shape.Column{{Name: name, Type: "INTEGER", Kind: value.Int}}
		}
	}
	return nil
}

// restoreKeyless puts rows back into a table without key. Which rows of a segment have been put back stands in the
// record and nowhere else, so it is written in the same transaction, and what it names is not put back again.
func (s *Source) restoreKeyless(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	t := req.Table
	out := &source.RestoreOutcome{Present: make([]bool, req.Rows.Rows())}
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		record := quote(restoredTable(t))
		if _, err := conn.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS "+record+
			" (restore TEXT NOT NULL, segment TEXT, ordinal INTEGER, PRIMARY KEY (segment, ordinal))"); err != nil {
			return err
		}
		mark, err := conn.PrepareContext(ctx, "INSERT INTO "+record+" VALUES (?, ?, ?) ON CONFLICT DO NOTHING")
		if err != nil {
			return err
		}
		defer mark.Close()
		insert, err := conn.PrepareContext(ctx, insertStatement(t, req.Columns))
		if err != nil {
			return err
		}
		defer insert.Close()
		var want value.Set
		var numbers [][]value.Value
		for i, ordinal := range req.Ordinals {
			res, err := mark.ExecContext(ctx, req.Restore, req.Segment, ordinal)
			if err != nil {
				return err
			}
			if fresh, err := res.RowsAffected(); err != nil || fresh == 0 {
				out.Present[i] = true
				out.Skipped++
				continue
			}
			if _, err := insertRow(ctx, insert, t, req.Columns, req.Rows.Row(i)); err != nil {
				return fmt.Errorf("table %s: a row cannot be put back: %w", t.Name, err)
			}
			var number int64
			if err := conn.QueryRowContext(ctx, "SELECT last_insert_rowid()").Scan(&number); err != nil {
				return err
			}
			numbers = append(numbers, []value.Value{{Kind: value.Int, N: number}})
			want.Add(req.Digests[i])
			out.Inserted++
		}
		var hasher value.Hasher
		query := "SELECT " + expressions(t, "t.", req.Columns) + " FROM " + quote(t.Name) + " t WHERE "
		err = among{newDialect(source.Selection{Table: t}, "t."), t.Key, query, ""}.each(ctx, conn, numbers,
			rower(func(row []value.Value) error {
				out.Digest.Add(hasher.Row(row))
				return nil
			}))
		if err == nil && out.Digest != want {
			err = fmt.Errorf("table %s: %w", t.Name, source.ErrAltered)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}
