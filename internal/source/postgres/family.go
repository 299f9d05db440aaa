package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
	"ambercellar/internal/source/family"
)

// DeleteFamilies deletes rows and what goes along with them. Their content is compared under their locks, so that
// addresses and versions are not needed.
func (s *Source) DeleteFamilies(ctx context.Context, b source.Batch) (rows []*source.JournalRow, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		defer s.unmark(ctx, c.Conn().PgConn())
		rows, err = s.families(ctx, c.Conn().PgConn(), b, false)
		if code(err) == lockNotAvailable || code(err) == foreignKey {
			rows, err = s.families(ctx, c.Conn().PgConn(), b, true)
		}
		return err
	})
	switch {
	case err == nil, errors.Is(err, source.ErrLeaseLost), errors.Is(err, source.ErrReshaped):
		return rows, err
	case code(err) == lockNotAvailable || code(err) == deadlock || code(err) == serialization ||
		code(err) == foreignKey || code(err) == inUse:
		return nil, fmt.Errorf("table %s: %w: %w", b.Table.Name, source.ErrBusy, err)
	}
	return nil, fmt.Errorf("table %s: deleting a batch: %w", b.Table.Name, err)
}

func (s *Source) families(ctx context.Context, pc *pgconn.PgConn, b source.Batch,
	skip bool) (rows []*source.JournalRow, err error) {
	if _, err := pc.Exec(ctx, s.origin()+fmt.Sprintf("; BEGIN; SET LOCAL lock_timeout = %d; ",
		max(b.LockWait.Milliseconds(), 1))+message(b.Lease, b.Segment, b.Number)).ReadAll(); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			pc.Exec(context.WithoutCancel(ctx), "ROLLBACK").ReadAll()
		}
	}()
	committed := false
	rows, err = family.Batch(ctx, b, skip, family.Journal{
		Insert: func(table string, r *source.JournalRow) (bool, error) {
			err := insertJournalRow(ctx, pc, table, r)
			return code(err) == uniqueViolation, err
		},
		Earlier: func(r *source.JournalRow) (*source.JournalRow, error) {
			if !committed { // the insert that failed has spoiled the transaction
				if _, err := pc.Exec(ctx, "ROLLBACK").ReadAll(); err != nil {
					return nil, err
				}
				committed = true
			}
			return journalRow(ctx, pc, r)
		},
		Update: func(r *source.JournalRow) error { return updateJournalRow(ctx, pc, r) },
		Lock:   func(l source.Lease) error { return lockLease(ctx, pc, l) },
		Same:   func(t *shape.Table) error { return unaltered(ctx, pc, t) },
	}, operations(pc))
	if err != nil || committed {
		return rows, err
	}
	flushed, err := commit(ctx, pc)
	for _, r := range rows {
		if r != nil {
			r.Flushed = flushed
		}
	}
	return rows, err
}

func operations(pc *pgconn.PgConn) family.Operations {
	plain := func(statement string) func(context.Context) error {
		return func(ctx context.Context) error {
			_, err := pc.Exec(ctx, statement).ReadAll()
			return err
		}
	}
	return family.Operations{
		Mark: plain("SAVEPOINT unchanged"), Undo: plain("ROLLBACK TO SAVEPOINT unchanged"),
		Rows: func(ctx context.Context, q source.Query, report bykey.Rower) error {
			return queryRows(ctx, pc, q, report)
		},
		Delete: func(ctx context.Context, sel source.Selection, columns []int, keys [][]value.Value,
			report bykey.Rower) error {
			d := newDialect(sel)
			columns = reported(sel.Table, columns)
			around := deleteText(sel, expressions(sel.Table, columns), d)
			return among(ctx, pc, grouped{d, sel.Table, sel.Table.Key, around}, keys,
				rower(sel.Table, columns, report))
		},
		Unlink: func(ctx context.Context, sel source.Selection, columns []string, keys [][]value.Value) (n int,
			err error) {
			around := unlinkText(sel, columns)
			err = among(ctx, pc, grouped{newDialect(sel), sel.Table, sel.Table.Key, around}, keys,
				func([][]byte) error { n++; return nil })
			return n, err
		},
	}
}

// frame is what stands before the values of a statement, between them and the condition that joins them, and behind
// that.
type frame struct{ head, middle, tail string }

func deleteText(sel source.Selection, returning []string, d *dialect) frame {
	tail := ""
	for _, r := range sel.Referenced(d) {
		tail += " AND NOT " + r
	}
	return frame{"DELETE FROM " + table(sel.Table) + " AS t USING ", " WHERE ", tail + " RETURNING " +
		strings.Join(returning, ", ")}
}

func unlinkText(sel source.Selection, columns []string) frame {
	return frame{"UPDATE " + table(sel.Table) + " AS t SET " + family.Nulls(columns, quote) + " FROM ", " WHERE ",
		" RETURNING 1"}
}

func rowsText(t *shape.Table, columns []string, only func(source.Dialect) string, lock source.Lock,
	d *dialect) frame {
	tail := ""
	if only != nil {
		tail = " WHERE " + only(d)
	}
	if lock != source.NoLock {
		tail += " FOR UPDATE OF t"
	}
	if lock == source.LockFree {
		tail += " SKIP LOCKED"
	}
	return frame{"SELECT " + strings.Join(columns, ", ") + " FROM " + table(t) + " t JOIN ", " ON ", tail}
}

// reported are the columns of a row as family and Related hand it on: those asked for, then the key.
func reported(t *shape.Table, columns []int) []int {
	return append(append([]int{}, columns...), t.KeyPositions()...)
}

func rower(t *shape.Table, columns []int, report bykey.Rower) func([][]byte) error {
	row := make([]value.Value, len(columns))
	return func(f [][]byte) (err error) {
		for i, raw := range f {
			if row[i], err = decode(raw, &t.Columns[columns[i]], func(b []byte) []byte { return b }); err != nil {
				return err
			}
		}
		return report(row)
	}
}

// queryRows hands on the rows of a query.
func queryRows(ctx context.Context, pc *pgconn.PgConn, q source.Query, report bykey.Rower) error {
	d := newDialect(q.Selection)
	if q.Condition != nil && q.Condition(newDialect(q.Selection)) == "" {
		return nil
	}
	columns := reported(q.Table, q.Columns)
	around := rowsText(q.Table, expressions(q.Table, columns), q.Condition, q.Lock, d)
	return among(ctx, pc, grouped{d, q.Table, q.On, around}, q.Values, rower(q.Table, columns, report))
}

// grouped is a statement for the rows of a table that have certain values in certain columns.
type grouped struct {
	d     *dialect
	table *shape.Table
	on    []string
	frame
}

// text puts the statement together: head, values of columns of t as a table, middle, the condition that joins them
// with t, tail.
func (g grouped) text() (string, []*shape.Column) {
	columns := make([]*shape.Column, len(g.on))
	join := make([]string, len(g.on))
	for i, name := range g.on {
		columns[i], _ = g.table.Column(name)
		cast := baseType(columns[i])
		if columns[i].Kind == value.Int {
			cast = "bigint" // the other side of a reference may hold larger numbers
		}
		join[i] = fmt.Sprintf("t.%s = d.k%d::%s", quote(name), i+1, cast)
	}
	arrays, names, _ := keyJoin(columns, 1)
	return fmt.Sprintf("%sunnest(%s) AS d(%s)%s%s%s", g.head, arrays, names, g.middle, strings.Join(join, " AND "),
		g.tail), columns
}

// among runs a statement for groups of values.
func among(ctx context.Context, pc *pgconn.PgConn, g grouped, values [][]value.Value,
	fn func([][]byte) error) error {
	text, columns := g.text()
	text, bound := g.d.Finish(text, func(n int) string { return numbered(len(g.on) + n) })
	more, moreTypes := bindTexts(bound)
	for len(values) > 0 {
		n := min(locateGroup, len(values))
		params, types := keyArrays(columns, values[:n])
		if err := eachRow(ctx, pc, text, append(params, more...), append(types, moreTypes...), fn); err != nil {
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
		text = strings.TrimSuffix(text, ")") + " AND r.restore = " + literal(q.Restored) + ")"
		q.Condition = func(source.Dialect) string { return text }
	}
	err := s.conn(ctx, func(c *pgxpool.Conn) error { return queryRows(ctx, c.Conn().PgConn(), q, report) })
	if err != nil {
		return fmt.Errorf("table %s: reading related rows: %w", q.Table.Name, err)
	}
	return nil
}
