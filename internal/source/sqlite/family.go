package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
	"ambercellar/internal/source/family"
)

// DeleteFamilies deletes rows and what goes along with them under the write lock.
func (s *Source) DeleteFamilies(ctx context.Context, b source.Batch) ([]*source.JournalRow, error) {
	var rows []*source.JournalRow
	err := s.immediate(ctx, func(conn *sql.Conn) (err error) {
		rows, err = family.Batch(ctx, b, false, family.Journal{
			Insert: func(table string, r *source.JournalRow) (bool, error) {
				err := bykey.InsertJournalRow(ctx, conn, table, r)
				return duplicate(err), err
			},
			Earlier: func(r *source.JournalRow) (*source.JournalRow, error) {
				return journalRow(ctx, conn, r.Run, r.Segment, r.Batch)
			},
			Update: func(r *source.JournalRow) error { return bykey.UpdateJournalRow(ctx, conn, r) },
			Lock:   func(l source.Lease) error { return checkLease(ctx, conn, l) },
			Same:   func(t *shape.Table) error { return unaltered(ctx, conn, t) },
		}, operations(conn))
		return err
	})
	return rows, err
}

func operations(conn *sql.Conn) family.Operations {
	exec := func(ctx context.Context, statements ...string) error {
		for _, statement := range statements {
			if _, err := conn.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		return nil
	}
	return family.Operations{
		Mark: func(ctx context.Context) error { return exec(ctx, "SAVEPOINT unchanged") },
		Undo: func(ctx context.Context) error { return exec(ctx, "ROLLBACK TO unchanged", "RELEASE unchanged") },
		Rows: func(ctx context.Context, q source.Query, report bykey.Rower) error {
			return queryRows(ctx, conn, q, report)
		},
		Delete: func(ctx context.Context, sel source.Selection, columns []int, keys [][]value.Value,
			report bykey.Rower) error {
			d := newDialect(sel, "t.")
			return among{d, sel.Table.Key, deleteQuery(sel, d),
				deleteTail(source.Selection{Table: sel.Table}, columns, d)}.each(ctx, conn, keys, rower(report))
		},
		Unlink: func(ctx context.Context, sel source.Selection, columns []string, keys [][]value.Value) (n int,
			err error) {
			unlink := among{newDialect(sel, ""), sel.Table.Key, unlinkText(sel.Table, columns), " RETURNING 1"}
			err = unlink.each(ctx, conn, keys, rower(func([]value.Value) error { n++; return nil }))
			return n, err
		},
	}
}

// unlinkText is what stands before the condition on the keys.
func unlinkText(t *shape.Table, columns []string) string {
	return "UPDATE " + quote(t.Name) + " SET " + family.Nulls(columns, quote) + " WHERE "
}

// queryRows hands on the rows of a query. Locks need no taking: who writes has them all.
func queryRows(ctx context.Context, conn *sql.Conn, q source.Query, report bykey.Rower) error {
	d := newDialect(q.Selection, "t.")
	tail := ""
	if q.Condition != nil {
		condition := q.Condition(d)
		if condition == "" {
			return nil
		}
		tail = " AND (" + condition + ")"
	}
	columns := append(append([]int{}, q.Columns...), q.Table.KeyPositions()...)
	rows := among{d, q.On, "SELECT " + expressions(q.Table, "t.", columns) + " FROM " + quote(q.Table.Name) +
		" t WHERE ", tail}
	return rows.each(ctx, conn, q.Values, rower(report))
}

// Related hands on the rows of a query, without locks.
func (s *Source) Related(ctx context.Context, q source.Query, report func([]value.Value) error) error {
	if q.Restored != "" {
		text, err := s.RestoredCondition(ctx, q.Table, "t.")
		if err != nil || text == "" {
			return err
		}
		text = strings.TrimSuffix(text, ")") + " AND r.restore = " + "'" + strings.ReplaceAll(q.Restored, "'", "''") +
			"')"
		q.Condition = func(source.Dialect) string { return text }
	}
	conn, err := s.read.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := queryRows(ctx, conn, q, report); err != nil {
		return fmt.Errorf("table %s: reading related rows: %w", q.Table.Name, err)
	}
	return nil
}
