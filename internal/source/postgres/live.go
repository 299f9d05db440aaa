package postgres

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// LiveRows reads journal and rows in one transaction at the level REPEATABLE READ, all of whose statements see the
// same.
func (s *Source) LiveRows(ctx context.Context, q source.LiveQuery) (n int64, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		pc := c.Conn().PgConn()
		if _, err := pc.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET LOCAL "+
			"enable_hashjoin = on").ReadAll(); err != nil {
			return err
		}
		defer func() { pc.Exec(context.WithoutCancel(ctx), "ROLLBACK").ReadAll() }() // it has changed nothing
		var there bool
		if err := eachRow(ctx, pc, "SELECT to_regclass('ambercellar.batch') IS NOT NULL", nil, nil,
			func(f [][]byte) error {
				there = len(f[0]) == 1 && (f[0][0] == 't' || f[0][0] == 1)
				return nil
			}); err != nil {
			return err
		}
		var rows []source.JournalRow
		for _, run := range q.Runs {
			if !there {
				break
			}
			some, err := journal(ctx, pc, "run = $1", run)
			if err != nil {
				return err
			}
			rows = append(rows, some...)
		}
		if q.Journal != nil {
			if err := q.Journal(rows); err != nil {
				return err
			}
		}
		d, where := newDialect(source.Selection{Table: q.Table}), "true"
		if q.Filter != nil {
			where = source.Condition(d, q.Filter, false)
		}
		if q.Row == nil {
			text, args := d.Finish(fmt.Sprintf("SELECT count(*)::text FROM (SELECT 1 FROM %s t WHERE %s LIMIT %d) x",
				table(q.Table), where, q.Limit), numbered)
			params, types := bindTexts(args)
			return eachRow(ctx, pc, text, params, types,
				func(f [][]byte) (err error) { n, err = strconv.ParseInt(string(f[0]), 10, 64); return err })
		}
		text, args := d.Finish(fmt.Sprintf("SELECT %s FROM %s t WHERE %s LIMIT %d",
			strings.Join(expressions(q.Table, q.Columns), ", "), table(q.Table), where, q.Limit), numbered)
		params, types := bindTexts(args)
		return eachRow(ctx, pc, text, params, types,
			rower(q.Table, q.Columns, func(row []value.Value) error { n++; return q.Row(row) }))
	})
	return n, err
}
