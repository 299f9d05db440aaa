package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// LiveRows reads journal and rows in one transaction with a consistent snapshot.
func (s *Source) LiveRows(ctx context.Context, q source.LiveQuery) (n int64, err error) {
	err = s.conn(ctx, func(conn *sql.Conn) error {
		for _, statement := range []string{"SET TRANSACTION ISOLATION LEVEL REPEATABLE READ",
			"START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"} {
			if _, err := conn.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") // it has changed nothing
		journal, err := journalOf(ctx, conn, q.Runs)
		if err == nil && q.Journal != nil {
			err = q.Journal(journal)
		}
		if err != nil {
			return err
		}
		d, where := newDialect(source.Selection{Table: q.Table}, "t."), "1 = 1"
		if q.Filter != nil {
			where = source.Condition(d, q.Filter, false)
		}
		if q.Row == nil {
			text, args := d.Finish(fmt.Sprintf("SELECT COUNT(*) FROM (SELECT 1 FROM %s t WHERE %s LIMIT %d) x",
				from(q.Table), where, q.Limit), nil)
			return conn.QueryRowContext(ctx, text, args...).Scan(&n)
		}
		text, args := d.Finish(fmt.Sprintf("SELECT %s FROM %s t WHERE %s LIMIT %d",
			expressions(q.Table, "t.", q.Columns), from(q.Table), where, q.Limit), nil)
		row := make([]value.Value, len(q.Columns))
		return eachRow(ctx, conn, text, args, func(raw []driver.Value) (err error) {
			for i, v := range raw {
				if row[i], err = decode(v, &q.Table.Columns[q.Columns[i]],
					func(b []byte) []byte { return b }); err != nil {
					return err
				}
			}
			n++
			return q.Row(row)
		})
	})
	return n, err
}

// journalOf reads the journal of runs; none where it was never made.
func journalOf(ctx context.Context, conn *sql.Conn, runs []string) (out []source.JournalRow, err error) {
	for _, run := range runs {
		rows, err := bykey.JournalOf(ctx, conn, journalColumns, run, -1)
		if code(err) == noTable {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}
