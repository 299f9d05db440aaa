package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// LiveRows reads journal and rows in one transaction, whose first statement fixes what all of them see.
func (s *Source) LiveRows(ctx context.Context, q source.LiveQuery) (n int64, err error) {
	conn, err := s.read.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return 0, err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") // it has changed nothing
	journal, err := s.journalOf(ctx, conn, q.Runs)
	if err == nil && q.Journal != nil {
		err = q.Journal(journal)
	}
	if err != nil {
		return 0, err
	}
	d, where := newDialect(source.Selection{Table: q.Table}, "t."), "TRUE"
	if q.Filter != nil {
		where = source.Condition(d, q.Filter, false)
	}
	if q.Row == nil {
		text, args := d.Finish(fmt.Sprintf("SELECT count(*) FROM (SELECT 1 FROM %s t WHERE %s LIMIT %d)",
			quote(q.Table.Name), where, q.Limit), nil)
		return n, conn.QueryRowContext(ctx, text, args...).Scan(&n)
	}
	text, args := d.Finish(fmt.Sprintf("SELECT %s FROM %s t WHERE %s LIMIT %d", expressions(q.Table, "t.", q.Columns),
		quote(q.Table.Name), where, q.Limit), nil)
	row := make([]value.Value, len(q.Columns))
	err = eachRow(ctx, conn, text, args, func(raw []driver.Value) (err error) {
		for i, v := range raw {
			if row[i], err = toValue(v, func(b []byte) []byte { return b }); err != nil {
				return err
			}
		}
		n++
		return q.Row(row)
	})
	return n, err
}

// journalOf reads the journal of runs; none where it was never made.
func (s *Source) journalOf(ctx context.Context, conn *sql.Conn, runs []string) (out []source.JournalRow, err error) {
	var there bool
	if err := conn.QueryRowContext(ctx,
		"SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = 'ambercellar_batch')").Scan(
		&there); err != nil || !there {
		return nil, err
	}
	for _, run := range runs {
		rows, err := bykey.JournalOf(ctx, conn, journalColumns, run, -1)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}
