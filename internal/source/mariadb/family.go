package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
	"ambercellar/internal/source/family"
)

// DeleteFamilies deletes rows and what goes along with them. As in DeleteBatch, locks of others are not waited for at
// first, and then their families are left alone.
func (s *Source) DeleteFamilies(ctx context.Context, b source.Batch) ([]*source.JournalRow, error) {
	rows, err := s.deleteFamilies(ctx, b, false)
	if errors.Is(err, source.ErrBusy) && s.skips {
		rows, err = s.deleteFamilies(ctx, b, true)
	}
	return rows, err
}

func (s *Source) deleteFamilies(ctx context.Context, b source.Batch, skip bool) (rows []*source.JournalRow,
	err error) {
	flushed, err := s.flushed(ctx, func(c *sql.Conn) error {
		done, err := s.atOnce(ctx, c, skip)
		if err != nil {
			return err
		}
		defer done()
		rows, err = family.Batch(ctx, b, skip, family.Journal{
			Insert: func(table string, r *source.JournalRow) (bool, error) {
				err := bykey.InsertJournalRow(ctx, c, table, r)
				return code(err) == duplicate, err
			},
			Earlier: func(r *source.JournalRow) (*source.JournalRow, error) {
				return journalRow(ctx, c, r.Run, r.Segment, r.Batch)
			},
			Update: func(r *source.JournalRow) error { return bykey.UpdateJournalRow(ctx, c, r) },
			Lock:   func(l source.Lease) error { return lockLease(ctx, c, l) },
			Same:   func(t *shape.Table) error { return s.unaltered(ctx, c, t) },
		}, s.familyOperations(c, b, skip))
		return err
	})
	for _, r := range rows {
		if r != nil {
			r.Flushed = flushed
		}
	}
	switch {
	case code(err) == referred: // a row that refers to one of ours came in between
		return nil, fmt.Errorf("table %s: %w: %w", b.Table.Name, source.ErrBusy, err)
	case err != nil && !errors.Is(err, source.ErrLeaseLost) && !errors.Is(err, source.ErrReshaped):
		return nil, fmt.Errorf("table %s: deleting a batch: %w", b.Table.Name, err)
	}
	return rows, err
}

func (s *Source) familyOperations(c *sql.Conn, b source.Batch, skip bool) family.Operations {
	plain := func(statement string) func(context.Context) error {
		return func(ctx context.Context) error {
			_, err := c.ExecContext(ctx, statement)
			return err
		}
	}
	// part does work on the rows of one table as a batch of that table would.
	part := func(sel source.Selection, columns []int) *batchWork {
		return s.work(c, source.Batch{Selection: source.Selection{Table: sel.Table}, Columns: columns,
			LockWait: b.LockWait}, skip)
	}
	return family.Operations{
		Mark: plain("SAVEPOINT unchanged"), Undo: plain("ROLLBACK TO SAVEPOINT unchanged"),
		Rows: func(ctx context.Context, q source.Query, report bykey.Rower) error {
			return queryRows(ctx, c, q, skip, report)
		},
		Delete: func(ctx context.Context, sel source.Selection, columns []int, keys [][]value.Value,
			report bykey.Rower) error {
			if w := part(sel, columns); s.returning {
				return w.deleteReturning(ctx, keys, report)
			} else {
				return w.lockAndDelete(ctx, keys, report)
			}
		},
		Unlink: func(ctx context.Context, sel source.Selection, columns []string, keys [][]value.Value) (n int,
			err error) {
			err = part(sel, nil).groups(ctx, true, keys, func(group [][]value.Value) error {
				in, args := amongKeys(sel.Table, "", group)
				res, err := c.ExecContext(ctx, unlinkText(sel.Table, columns)+in, args...)
				if err != nil {
					return err
				}
				count, err := res.RowsAffected()
				n += int(count)
				return err
			})
			return n, err
		},
	}
}

// unlinkText is what stands before the condition on the keys.
func unlinkText(t *shape.Table, columns []string) string {
	return "UPDATE " + quote(t.Name) + " SET " + family.Nulls(columns, quote) + " WHERE "
}

// queryRows hands on the rows of a query. Statements that lock take one value each where others have locked rows, as
// in batchWork.groups.
func queryRows(ctx context.Context, c *sql.Conn, q source.Query, single bool, report bykey.Rower) error {
	t, d := q.Table, newDialect(q.Selection, "t.")
	tail := ""
	if q.Condition != nil {
		condition := q.Condition(d)
		if condition == "" {
			return nil
		}
		tail = " AND (" + condition + ")"
	}
	size := max(maxBound/len(q.On), 1)
	switch q.Lock {
	case source.LockRows:
		tail += " FOR UPDATE"
	case source.LockFree:
		tail += " FOR UPDATE SKIP LOCKED"
	}
	if q.Lock != source.NoLock && single {
		size = 1
	}
	tail, more := d.Finish(tail, nil)
	columns := append(append([]int{}, q.Columns...), t.KeyPositions()...)
	row := make([]value.Value, len(columns))
	for values := q.Values; len(values) > 0; {
		n := min(size, len(values))
		in, args := among(q.On, "t.", values[:n])
		err := eachRow(ctx, c, "SELECT "+expressions(t, "t.", columns)+" FROM "+quote(t.Name)+" t WHERE "+in+tail,
			append(args, more...), func(raw []driver.Value) (err error) {
				for i, v := range raw {
					if row[i], err = decode(v, &t.Columns[columns[i]],
						func(b []byte) []byte { return b }); err != nil {
						return err
					}
				}
				return report(row)
			})
		if err != nil {
			return err
		}
		values = values[n:]
	}
	return nil
}

// Related hands on the rows of a query, without locks.
func (s *Source) Related(ctx context.Context, q source.Query, report func([]value.Value) error) error {
	if q.Restored != "" {
		text, err := s.RestoredCondition(ctx, q.Table, "t.")
		if err != nil || text == "" {
			return err
		}
		text = strings.TrimSuffix(text, ")") + " AND r.restore_id = " + "'" +
			strings.ReplaceAll(q.Restored, "'", "''") + "')"
		q.Condition = func(source.Dialect) string { return text }
	}
	err := s.conn(ctx, func(c *sql.Conn) error { return queryRows(ctx, c, q, false, report) })
	if err != nil {
		return fmt.Errorf("table %s: reading related rows: %w", q.Table.Name, err)
	}
	return nil
}
