package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Part is a partition as a table: here it is one, attached or not.
func (s *Source) Part(t *shape.Table, partition string, _ bool) *shape.Table {
	out := *t
	for _, p := range t.Partitions {
		if p.Name == partition {
			out.Schema = p.Schema
		}
	}
	out.Base, out.Part = partition, partition
	return &out
}

// Where a partition stands.
const (
	attached = "attached"
	pending  = "pending" // a detach has begun and is not finished: readers do not see it any more
	aside    = "aside"
	gone     = "gone"
)

const partState = `SELECT CASE WHEN c.oid IS NULL THEN 'gone' WHEN i.inhrelid IS NULL THEN 'aside'
	WHEN to_jsonb(i) ->> 'inhdetachpending' = 'true' THEN 'pending' ELSE 'attached' END
	FROM (SELECT to_regclass($1) AS oid) c LEFT JOIN pg_inherits i ON i.inhrelid = c.oid`

func (s *Source) partState(ctx context.Context, d departure) (state string, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error { return c.QueryRow(ctx, partState, d.name()).Scan(&state) })
	return state, err
}

// departure is a row of the journal.
type departure struct {
	source.Departure
	schema, bounds string
	checks         []string // constraints that the partition had before: detaching adds one
}

func (d departure) name() string { return quote(d.schema) + "." + quote(d.Partition) }

func (s *Source) departures(ctx context.Context, where string, values ...any) (out []departure, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		rows, err := c.Query(ctx, "SELECT table_name, partition, run, schema_name, bounds, checks FROM "+
			"ambercellar.departure WHERE "+where+" ORDER BY partition", values...)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (d departure, err error) {
			err = row.Scan(&d.Table, &d.Partition, &d.Run, &d.schema, &d.bounds, &d.checks)
			return d, err
		})
		return err
	})
	if n := code(err); n == undefinedTable || n == undefinedSchema {
		return nil, nil
	}
	return out, err
}

// Departures lists partitions on their way out.
func (s *Source) Departures(ctx context.Context, table string) ([]source.Departure, error) {
	list, err := s.departures(ctx, "table_name = $1", table)
	out := make([]source.Departure, len(list))
	for i, d := range list {
		state, failed := s.partState(ctx, d)
		err = errors.Join(err, failed)
		out[i], out[i].Aside = d.Departure, state == aside
	}
	return out, err
}

func (s *Source) departure(ctx context.Context, t *shape.Table, partition string) (departure, error) {
	list, err := s.departures(ctx, "table_name = $1 AND partition = $2", t.Name, partition)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("the journal knows of no way out of partition %s", partition)
	}
	if err != nil {
		return departure{}, err
	}
	return list[0], nil
}

// partLock is how long the statements that take a partition out or put it back wait for others: while they wait for
// the partitioned table, only other changes of its structure wait behind them.
const partLock = "1s"

// Detach detaches a partition beside readers and writers of the others, and finishes a detach that was cut off.
func (s *Source) Detach(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	err := s.transaction(ctx, func(tx pgx.Tx) error {
		if err := lockLease(ctx, tx.Conn().PgConn(), l); err != nil {
			return err
		}
		_, err := tx.Exec(ctx,
			`INSERT INTO ambercellar.departure SELECT $1, c.relname, $3, n.nspname, pg_get_expr(c.relpartbound, c.oid),
				ARRAY(SELECT conname::text FROM pg_constraint WHERE conrelid = c.oid)
			FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_namespace n ON n.oid = c.relnamespace
				WHERE i.inhparent = $4::regclass AND c.relname = $2 ON CONFLICT DO NOTHING`,
			t.Name, partition, l.Run, table(t))
		return err
	})
	if err != nil {
		return err
	}
	d, err := s.departure(ctx, t, partition)
	if err != nil {
		return err
	}
	state, err := s.partState(ctx, d)
	if err != nil || state == aside {
		return err
	}
	how := " CONCURRENTLY"
	if state == pending {
		how = " FINALIZE"
	}
	return s.alter(ctx, "ALTER TABLE "+table(t)+" DETACH PARTITION "+d.name()+how)
}

// alter sends a statement that changes the structure of a table, and waits shortly for others.
func (s *Source) alter(ctx context.Context, statement string) error {
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		if _, err := c.Exec(ctx, "SET lock_timeout = '"+partLock+"'"); err != nil {
			return err
		}
		defer c.Exec(context.WithoutCancel(ctx), "RESET lock_timeout")
		_, err := c.Exec(ctx, statement)
		return err
	})
	return busyOrWhole(err)
}

// busyOrWhole tells errors that pass from those that say that a statement is not possible here.
func busyOrWhole(err error) error {
	switch n := code(err); {
	case n == lockNotAvailable, n == deadlock, n == serialization, n == queryCanceled, n == inUse:
		return fmt.Errorf("%w: %w", source.ErrBusy, err)
	case n != "" && !errors.Is(err, source.ErrUnreachable):
		return fmt.Errorf("%w: %w", source.ErrWhole, err)
	}
	return err
}

// seized is a partition under a lock that a transaction of its own holds.
type seized struct {
	*Source
	conn  *pgxpool.Conn
	d     departure
	lease source.Lease
}

// Seize locks a partition that is aside, so that it can be read by others and changed by nobody.
func (s *Source) Seize(ctx context.Context, l source.Lease, t *shape.Table, partition string) (source.Seized, error) {
	d, err := s.departure(ctx, t, partition)
	if err != nil {
		return nil, err
	}
	c, err := s.pool.Acquire(ctx)
	if err != nil {
		return nil, source.Of(s.cfg.Name, err)
	}
	z := &seized{Source: s, conn: c, d: d, lease: l}
	if _, err = c.Exec(ctx, "BEGIN"); err == nil {
		_, err = c.Exec(ctx, "SET LOCAL idle_in_transaction_session_timeout = 0")
	}
	if err == nil {
		_, err = c.Exec(ctx, "SET LOCAL lock_timeout = '"+partLock+"'")
	}
	if err == nil {
		_, err = c.Exec(ctx, "LOCK TABLE "+d.name()+" IN EXCLUSIVE MODE")
	}
	if err != nil {
		z.Release()
		return nil, busyOrWhole(z.pool.marked(err))
	}
	return z, nil
}

// Rows counts the partition's rows.
func (z *seized) Rows(ctx context.Context) (n int64, err error) {
	err = z.conn.QueryRow(ctx, "SELECT count(*) FROM "+z.d.name()).Scan(&n)
	return n, z.pool.marked(err)
}

// Drop drops the partition and journals its rows in the transaction that holds the lock.
func (z *seized) Drop(ctx context.Context, rows []*source.JournalRow) error {
	pc := z.conn.Conn().PgConn()
	if err := lockLease(ctx, pc, z.lease); err != nil { // not before: who places a hold waits for its end
		return z.pool.marked(err)
	}
	for _, r := range rows {
		if err := insertJournalRow(ctx, pc, z.d.Table, r); err != nil {
			return z.pool.marked(err)
		}
		if err := updateJournalRow(ctx, pc, r); err != nil {
			return z.pool.marked(err)
		}
	}
	for _, statement := range []string{"DELETE FROM ambercellar.departure WHERE table_name = " + literal(z.d.Table) +
		" AND partition = " + literal(z.d.Partition), "DROP TABLE " + z.d.name()} {
		if _, err := z.conn.Exec(ctx, statement); err != nil {
			return busyOrWhole(z.pool.marked(err))
		}
	}
	_, err := z.conn.Exec(context.WithoutCancel(ctx), "COMMIT")
	return z.pool.marked(err)
}

// Release ends the transaction.
func (z *seized) Release() {
	if z.conn == nil {
		return
	}
	ctx := context.Background()
	if _, err := z.conn.Exec(ctx, "ROLLBACK"); err != nil { // a session that cannot roll back holds locks: it must go
		z.conn.Conn().Close(ctx)
	}
	z.conn.Release()
	z.conn = nil
}

// Return attaches a partition again with the bounds that it had. The constraint that detaching added tells the server
// that it need not look at the rows, and goes afterwards.
func (s *Source) Return(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	d, err := s.departure(ctx, t, partition)
	if err != nil {
		return err
	}
	state, err := s.partState(ctx, d)
	if err != nil {
		return err
	}
	if state == pending {
		if err := s.alter(ctx, "ALTER TABLE "+table(t)+" DETACH PARTITION "+d.name()+" FINALIZE"); err != nil {
			return err
		}
		state = aside
	}
	err = s.transaction(ctx, func(tx pgx.Tx) error {
		if err := lockLease(ctx, tx.Conn().PgConn(), l); err != nil {
			return err
		}
		if state == aside {
			if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '"+partLock+"'"); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "ALTER TABLE "+table(t)+" ATTACH PARTITION "+d.name()+" "+d.bounds); err != nil {
				return err
			}
			rows, err := tx.Query(ctx, "SELECT conname::text FROM pg_constraint WHERE conrelid = $1::regclass AND "+
				"contype = 'c' AND coninhcount = 0", d.name())
			if err != nil {
				return err
			}
			names, err := pgx.CollectRows(rows, pgx.RowTo[string])
			if err != nil {
				return err
			}
			for _, name := range names {
				if slices.Contains(d.checks, name) {
					continue
				}
				if _, err := tx.Exec(ctx, "ALTER TABLE "+d.name()+" DROP CONSTRAINT "+quote(name)); err != nil {
					return err
				}
			}
		}
		_, err := tx.Exec(ctx, "DELETE FROM ambercellar.departure WHERE table_name = $1 AND partition = $2", d.Table,
			partition)
		return err
	})
	return busyOrWhole(err)
}

// Ahead makes further partitions: each as a table of its own like the partitioned one, which is then attached, since
// that keeps nobody out of the others.
func (s *Source) Ahead(ctx context.Context, t *shape.Table, bounds [][2]time.Time, try bool) (names,
	statements []string, err error) {
	last := t.Partitions[len(t.Partitions)-1]
	column, _ := t.Column(last.Column)
	layout := time.DateOnly
	if column.Kind != value.Date {
		layout = "2006-01-02 15:04:05Z07:00"
	}
	for _, b := range bounds {
		name := source.PartName(t, last.Name, b[0])
		full := quote(last.Schema) + "." + quote(name)
		names = append(names, name)
		statements = append(statements,
			fmt.Sprintf("CREATE TABLE %s (LIKE %s INCLUDING DEFAULTS INCLUDING CONSTRAINTS INCLUDING STORAGE "+
				"INCLUDING GENERATED); ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM (%s) TO (%s)",
				full, table(t), table(t), full, literal(b[0].Format(layout)), literal(b[1].Format(layout))))
	}
	if try {
		return names, statements, nil
	}
	err = s.transaction(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '"+partLock+"'"); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, strings.Join(statements, ";\n"), pgx.QueryExecModeSimpleProtocol)
		return err
	})
	return names, statements, busyOrWhole(err)
}

// emptying is how long a table may be locked while its rows are counted before they all go.
const emptying = "3s"

// Empty truncates a table under a lock, in one transaction with what it found there.
func (s *Source) Empty(ctx context.Context, l source.Lease, t *shape.Table, segment int,
	columns []int) (out *source.JournalRow, err error) {
	err = s.transaction(ctx, func(tx pgx.Tx) error {
		pc := tx.Conn().PgConn()
		if err := lockLease(ctx, pc, l); err != nil {
			return err
		}
		for _, statement := range []string{"SET LOCAL lock_timeout = '100ms'", "LOCK TABLE " + table(t) +
			" IN ACCESS EXCLUSIVE MODE", "SET LOCAL statement_timeout = '" + emptying + "'"} {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return err
			}
		}
		shapes, chunk := make([]*shape.Column, len(columns)), &value.Chunk{Width: len(columns)}
		for i, c := range columns {
			shapes[i] = &t.Columns[c]
		}
		var set value.Set
		var hasher value.Hasher
		err := eachRow(ctx, pc, "SELECT "+strings.Join(expressions(t, columns), ", ")+" FROM "+table(t)+" t", nil, nil,
			func(raw [][]byte) error {
				chunk.Reset()
				for i, f := range raw {
					v, err := decode(f, shapes[i], chunk.Keep)
					if err != nil {
						return err
					}
					chunk.Values = append(chunk.Values, v)
				}
				set.Add(hasher.Row(chunk.Values))
				return nil
			})
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "TRUNCATE TABLE "+table(t)); err != nil {
			return err
		}
		out = source.WholeRow(l.Run, segment, set)
		if err := insertJournalRow(ctx, pc, t.Name, out); err != nil {
			return err
		}
		return updateJournalRow(ctx, pc, out)
	})
	if code(err) == queryCanceled {
		return nil, fmt.Errorf("%w: counting its rows takes longer than %s, for which nobody else could have read it",
			source.ErrWhole, emptying)
	}
	return out, busyOrWhole(err)
}

// Emptied has nothing to find out: the journal row is of the transaction that empties.
func (s *Source) Emptied(context.Context, source.Lease, *shape.Table, int) (*source.JournalRow, error) {
	return nil, nil
}
