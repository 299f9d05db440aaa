package mariadb

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// from writes a table as it stands behind FROM, or the one partition of it that is to be read.
func from(t *shape.Table) string {
	if t.Part != "" {
		return quote(t.Base) + " PARTITION (" + quote(t.Part) + ")"
	}
	return quote(t.Base)
}

// Part is a partition where it stands, or the table that it was exchanged with.
func (s *Source) Part(t *shape.Table, partition string, aside bool) *shape.Table {
	out := *t
	if aside {
		out.Base = asideName(t.Name, partition)
	} else {
		out.Part = partition
	}
	return &out
}

// asideName is a name that nobody else has reason to use.
func asideName(table, partition string) string {
	sum := sha256.Sum256([]byte(table + "\x00" + partition))
	return "ambercellar_aside_" + hex.EncodeToString(sum[:12])
}

const (
	leaving  = "leaving"
	dropping = "dropping"
	emptying = "emptying"
)

// Departures lists partitions on their way out.
func (s *Source) Departures(ctx context.Context, table string) ([]source.Departure, error) {
	rows, err := s.db.QueryContext(ctx,
		"SELECT partition_name, run, state FROM ambercellar_departure WHERE table_name = ? ORDER BY partition_name",
		table)
	if code(err) == noTable {
		return nil, nil
	} else if err != nil {
		return nil, unreachable(err)
	}
	defer rows.Close()
	var out []source.Departure
	for rows.Next() {
		d, state := source.Departure{Table: table}, ""
		if err := rows.Scan(&d.Partition, &d.Run, &state); err != nil {
			return nil, err
		}
		d.Dropping = state != leaving
		out = append(out, d)
	}
	if err := rows.Err(); err != nil {
		return nil, unreachable(err)
	}
	for i := range out {
		if out[i].Aside, err = s.holds(ctx, quote(asideName(table, out[i].Partition))); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// holds says whether a table is there and has rows.
func (s *Source) holds(ctx context.Context, from string) (bool, error) {
	var one int
	err := s.db.QueryRowContext(ctx, "SELECT 1 FROM "+from+" LIMIT 1").Scan(&one)
	if errors.Is(err, sql.ErrNoRows) || code(err) == noTable {
		return false, nil
	}
	return err == nil, unreachable(err)
}

// alter sends a statement that changes the structure of a table, and fails at once where others are at it: while it
// waited, all others would wait behind it.
func (s *Source) alter(ctx context.Context, table, action string) error {
	statement, wait := "ALTER TABLE "+table+" NOWAIT "+action, ""
	if !s.mariadb {
		statement, wait = "ALTER TABLE "+table+" "+action, "SET SESSION lock_wait_timeout = 1"
	}
	return s.conn(ctx, func(c *sql.Conn) error {
		if wait != "" {
			if _, err := c.ExecContext(ctx, wait); err != nil {
				return err
			}
			defer c.ExecContext(context.WithoutCancel(ctx), "SET SESSION "+tableWait)
		}
		_, err := c.ExecContext(ctx, statement)
		return busyOrWhole(err)
	})
}

// busyOrWhole tells errors that pass from those that say that a statement is not possible here.
func busyOrWhole(err error) error {
	switch n := code(err); {
	case n == lockTimeout, n == deadlock:
		return fmt.Errorf("%w: %w", source.ErrBusy, err)
	case n != 0 && n != shutdown && n != killed && !errors.Is(err, source.ErrUnreachable):
		return fmt.Errorf("%w: %w", source.ErrWhole, err)
	}
	return err
}

// Detach exchanges a partition with an empty table like it. Rows that come for the partition's range from then on find
// it empty, and stay.
func (s *Source) Detach(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	name := asideName(t.Name, partition)
	err := s.transaction(ctx, func(c *sql.Conn) error {
		if err := lockLease(ctx, c, l); err != nil {
			return err
		}
		_, err := c.ExecContext(ctx, "INSERT INTO ambercellar_departure VALUES (?, ?, ?, ?, ?, '') ON DUPLICATE "+
			"KEY UPDATE table_name = table_name", t.Name, partition, l.Run, name, leaving)
		return err
	})
	if err != nil {
		return err
	}
	if out, err := s.holds(ctx, quote(name)); err != nil || out {
		return err
	}
	if _, err := s.db.ExecContext(ctx, "DROP TABLE IF EXISTS "+quote(name)); err != nil {
		return busyOrWhole(unreachable(err))
	}
	if err := s.makeUndivided(ctx, t.Base, name); err != nil {
		return busyOrWhole(unreachable(err))
	}
	return s.alter(ctx, quote(t.Base), "EXCHANGE PARTITION "+quote(partition)+" WITH TABLE "+quote(name))
}

// makeUndivided makes an empty table like a partitioned one, without its partitions. LIKE makes a file for each of
// them, and removing them a file once more, each with a wait for the disk: the table's own definition is taken where it
// can be told what of it to leave out.
func (s *Source) makeUndivided(ctx context.Context, base, name string) error {
	var ignored, text string
	if err := s.db.QueryRowContext(ctx, "SHOW CREATE TABLE "+quote(base)).Scan(&ignored, &text); err != nil {
		return err
	}
	if statement, ok := undivided(text, base, name); ok {
		if _, err := s.db.ExecContext(ctx, statement); err == nil {
			return nil
		}
	}
	for _, statement := range []string{"CREATE TABLE " + quote(name) + " LIKE " + quote(base),
		"ALTER TABLE " + quote(name) + " REMOVE PARTITIONING"} {
		if _, err := s.db.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// undivided is the definition of a partitioned table, as SHOW CREATE TABLE gives it, for a table of another name
// without partitions; false where it is not as expected, or where partitions lie in places of their own. The server
// writes each column and key in a line of its own, then the table's options in one, and then the partitions; within
// texts it writes no line ends.
func undivided(text, base, name string) (statement string, ok bool) {
	columns, ok := strings.CutPrefix(text, "CREATE TABLE "+quote(base)+" (\n")
	if !ok {
		return "", false
	}
	const end = "\n) ENGINE=InnoDB"
	at := strings.Index(columns, end)
	if at < 0 {
		return "", false
	}
	options, partitions, ok := strings.Cut(columns[at+len(end):], "\n")
	if !ok || !strings.HasPrefix(partitions, " PARTITION BY ") && !dated.MatchString(partitions) ||
		strings.Contains(partitions, " DIRECTORY ") || strings.Contains(partitions, " TABLESPACE ") {
		return "", false
	}
	return "CREATE TABLE " + quote(name) + " (\n" + columns[:at] + end + options, true
}

// dated begins what older servers take for a comment.
var dated = regexp.MustCompile(`^/\*!\d+ PARTITION BY `)

// seized is a partition that is aside, under a lock of a session of its own that lets others read it.
type seized struct {
	*Source
	conn      *sql.Conn
	lease     source.Lease
	table     *shape.Table
	partition string
}

// Seize locks a partition that is aside.
func (s *Source) Seize(ctx context.Context, l source.Lease, t *shape.Table, partition string) (source.Seized, error) {
	c, err := s.db.Conn(ctx)
	if err != nil {
		return nil, source.Of(s.cfg.Name, unreachable(err))
	}
	z := &seized{Source: s, conn: c, lease: l, table: t, partition: partition}
	_, err = c.ExecContext(ctx, "LOCK TABLES "+z.name()+" READ")
	if code(err) == noTable { // it was dropped before a crash, and the rest is still to be done
		err = nil
	}
	if err != nil {
		z.Release()
		return nil, busyOrWhole(unreachable(err))
	}
	return z, nil
}

func (z *seized) name() string { return quote(asideName(z.table.Name, z.partition)) }

// Rows counts the partition's rows.
func (z *seized) Rows(ctx context.Context) (n int64, err error) {
	err = z.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+z.name()).Scan(&n)
	return n, gone(unreachable(err))
}

// Drop journals the rows and notes that dropping has begun, in one transaction; then it drops the table, and the
// partition that was exchanged with it, if that is still empty.
func (z *seized) Drop(ctx context.Context, rows []*source.JournalRow) error {
	t := z.table
	err := z.transaction(ctx, func(c *sql.Conn) error {
		if err := lockLease(ctx, c, z.lease); err != nil {
			return err
		}
		for _, r := range rows {
			if err := bykey.InsertJournalRow(ctx, c, t.Name, r); code(err) == duplicate { // before a crash
				continue
			} else if err != nil {
				return err
			}
			if err := bykey.UpdateJournalRow(ctx, c, r); err != nil {
				return err
			}
		}
		_, err := c.ExecContext(ctx, "UPDATE ambercellar_departure SET state = ? WHERE table_name = ? AND "+
			"partition_name = ?", dropping, t.Name, z.partition)
		return err
	})
	if err != nil {
		return err
	}
	if err := z.drop(context.WithoutCancel(ctx)); err != nil {
		return busyOrWhole(unreachable(err))
	}
	if err := z.dropEmpty(context.WithoutCancel(ctx)); err != nil && !errors.Is(err, source.ErrBusy) &&
		!errors.Is(err, source.ErrWhole) {
		return err // otherwise an empty partition stays, which harms nobody
	}
	_, err = z.db.ExecContext(context.WithoutCancel(ctx),
		"DELETE FROM ambercellar_departure WHERE table_name = ? AND partition_name = ?", t.Name, z.partition)
	return unreachable(err)
}

// drop drops the table that is locked against changes: another session asks for that, and the lock goes only when the
// server has it waiting, so that nobody comes in between.
func (z *seized) drop(ctx context.Context) error {
	return z.Source.conn(ctx, func(c *sql.Conn) error {
		var number int64
		if err := c.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&number); err != nil {
			return err
		}
		done := make(chan error, 1)
		go func() {
			_, err := c.ExecContext(ctx, "DROP TABLE IF EXISTS "+z.name())
			done <- err
		}()
		for range 200 {
			select {
			case err := <-done:
				return err
			case <-time.After(5 * time.Millisecond):
			}
			var waits int
			if err := z.conn.QueryRowContext(ctx,
				"SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE ID = ? AND STATE LIKE 'Waiting for "+
					"table metadata lock%'", number).Scan(&waits); err == nil && waits > 0 {
				break
			}
		}
		_, err := z.conn.ExecContext(ctx, "UNLOCK TABLES")
		return errors.Join(<-done, err)
	})
}

// dropEmpty drops the partition that took the place of the one that left, under a lock under which it is seen to be
// empty.
func (z *seized) dropEmpty(ctx context.Context) error {
	return z.locked(ctx, quote(z.table.Base)+" WRITE", func(c *sql.Conn) error {
		var one int
		err := c.QueryRowContext(ctx, "SELECT 1 FROM "+quote(z.table.Base)+" PARTITION ("+quote(z.partition)+
			") LIMIT 1").Scan(&one)
		if err == nil {
			return nil // rows have come meanwhile, and are dealt with like any
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = c.ExecContext(ctx, "ALTER TABLE "+quote(z.table.Base)+" DROP PARTITION "+quote(z.partition))
		return err
	})
}

// locked runs fn under locks of tables. Where they are not free at once, it tries a few times more.
func (s *Source) locked(ctx context.Context, tables string, fn func(*sql.Conn) error) error {
	var err error
	for try := range 20 {
		if try > 0 {
			time.Sleep(100 * time.Millisecond)
		}
		err = s.conn(ctx, func(c *sql.Conn) error {
			nowait := " NOWAIT"
			if !s.mariadb {
				nowait = ""
				if _, err := c.ExecContext(ctx, "SET SESSION lock_wait_timeout = 1"); err != nil {
					return err
				}
				defer c.ExecContext(context.WithoutCancel(ctx), "SET SESSION "+tableWait)
			}
			if _, err := c.ExecContext(ctx, "LOCK TABLES "+tables+nowait); err != nil {
				return busyOrWhole(err)
			}
			err := fn(c)
			if _, back := c.ExecContext(context.WithoutCancel(ctx), "UNLOCK TABLES"); back != nil {
				c.Raw(func(any) error { return driver.ErrBadConn })
			}
			return busyOrWhole(err)
		})
		if !errors.Is(err, source.ErrBusy) {
			return err
		}
	}
	return err
}

// Release gives the lock back.
func (z *seized) Release() {
	if z.conn == nil {
		return
	}
	if _, err := z.conn.ExecContext(context.Background(), "UNLOCK TABLES"); err != nil {
		z.conn.Raw(func(any) error { return driver.ErrBadConn })
	}
	z.conn.Close()
	z.conn = nil
}

// Return exchanges a partition back. Rows that came for its range meanwhile join it.
func (s *Source) Return(ctx context.Context, l source.Lease, t *shape.Table, partition string) error {
	name := quote(asideName(t.Name, partition))
	out, err := s.holds(ctx, name)
	if err != nil {
		return err
	}
	if out {
		if err := s.transaction(ctx, func(c *sql.Conn) error { return lockLease(ctx, c, l) }); err != nil {
			return err
		}
		var columns []string
		for _, c := range t.Columns {
			if !c.Generated {
				columns = append(columns, c.Name)
			}
		}
		part, list := quote(t.Base)+" PARTITION ("+quote(partition)+")", quoteAll("", columns)
		err := s.locked(ctx, quote(t.Base)+" WRITE, "+name+" WRITE", func(c *sql.Conn) error {
			for _, statement := range []string{"SET autocommit = 0", "INSERT INTO " + name + " (" + list +
				") SELECT " + list + " FROM " + part, "DELETE FROM " + part, "COMMIT"} {
				if _, err := c.ExecContext(ctx, statement); err != nil {
					c.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
					c.ExecContext(context.WithoutCancel(ctx), "SET autocommit = 1")
					return err
				}
			}
			if _, err := c.ExecContext(context.WithoutCancel(ctx), "SET autocommit = 1"); err != nil {
				return err
			}
			_, err := c.ExecContext(ctx, "ALTER TABLE "+quote(t.Base)+" EXCHANGE PARTITION "+quote(partition)+
				" WITH TABLE "+name)
			return err
		})
		if err != nil {
			return err
		}
	}
	var there int
	err = s.db.QueryRowContext(ctx,
		"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?", s.database,
		asideName(t.Name, partition)).Scan(&there)
	if err == nil && there > 0 { // otherwise the right to make and drop it may be what lacked
		_, err = s.db.ExecContext(ctx, "DROP TABLE "+name)
	}
	if err == nil {
		_, err = s.db.ExecContext(ctx, "DELETE FROM ambercellar_departure WHERE table_name = ? AND partition_name = ?",
			t.Name, partition)
	}
	return unreachable(err)
}

// Ahead adds further partitions: behind the newest, or, where a last one takes all other rows, by dividing that, which
// must be empty.
func (s *Source) Ahead(ctx context.Context, t *shape.Table, bounds [][2]time.Time, try bool) (names,
	statements []string, err error) {
	var method, expression string
	if err := s.db.QueryRowContext(ctx,
		"SELECT PARTITION_METHOD, PARTITION_EXPRESSION FROM information_schema.PARTITIONS WHERE TABLE_SCHEMA = ? "+
			"AND TABLE_NAME = ? LIMIT 1", s.database, t.Base).Scan(&method, &expression); err != nil {
		return nil, nil, unreachable(err)
	}
	var newest string
	for _, p := range t.Partitions {
		if p.Name != t.CatchAll {
			newest = p.Name
		}
	}
	var parts []string
	for _, b := range bounds {
		name := source.PartName(t, newest, b[0])
		bound := "'" + b[1].UTC().Format("2006-01-02 15:04:05") + "'"
		if b[1].Equal(b[1].Truncate(24 * time.Hour)) {
			bound = "'" + b[1].UTC().Format(time.DateOnly) + "'"
		}
		if m := dividedBy.FindStringSubmatch(expression); m != nil {
			bound = strings.ToUpper(m[1]) + "(" + bound + ")"
		}
		names = append(names, name)
		parts = append(parts, "PARTITION "+quote(name)+" VALUES LESS THAN ("+bound+")")
	}
	action := "ADD PARTITION (" + strings.Join(parts, ", ") + ")"
	if t.CatchAll != "" {
		most := "MAXVALUE"
		if method == "RANGE COLUMNS" {
			most = "(MAXVALUE)"
		}
		action = "REORGANIZE PARTITION " + quote(t.CatchAll) + " INTO (" + strings.Join(parts, ", ") + ", PARTITION " +
			quote(t.CatchAll) + " VALUES LESS THAN " + most + ")"
	}
	statements = []string{"ALTER TABLE " + quote(t.Base) + " " + action}
	if try {
		return names, statements, nil
	}
	if t.CatchAll != "" {
		if rows, err := s.holds(ctx, quote(t.Base)+" PARTITION ("+quote(t.CatchAll)+")"); err != nil {
			return nil, nil, err
		} else if rows {
			return nil, nil, fmt.Errorf("%w: partition %s, which would be divided, holds rows, and dividing it "+
				"would copy them under a lock", source.ErrWhole, t.CatchAll)
		}
	}
	return names, statements, s.alter(ctx, quote(t.Base), action)
}

// emptyWithin is how long a table may be locked while its rows are counted before they all go.
const emptyWithin = 3 * time.Second

// made is when a table was made, which truncating it changes.
func (s *Source) made(ctx context.Context, t *shape.Table) (at string, err error) {
	err = s.db.QueryRowContext(ctx,
		"SELECT COALESCE(CREATE_TIME, '') FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?",
		s.database, t.Base).Scan(&at)
	return at, unreachable(err)
}

// Emptied tells from when the table was made whether it was truncated after that was noted.
func (s *Source) Emptied(ctx context.Context, l source.Lease, t *shape.Table, segment int) (*source.JournalRow,
	error) {
	var noted, run string
	err := s.db.QueryRowContext(ctx,
		"SELECT detail, run FROM ambercellar_departure WHERE table_name = ? AND partition_name = ''",
		t.Name).Scan(&noted, &run)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	} else if err != nil {
		return nil, unreachable(err)
	}
	at, text, _ := strings.Cut(noted, "|")
	set, err := value.ParseSet(text)
	if err != nil {
		return nil, err
	}
	now, err := s.made(ctx, t)
	if err != nil {
		return nil, err
	}
	if at == now {
		_, err := s.db.ExecContext(ctx,
			"DELETE FROM ambercellar_departure WHERE table_name = ? AND partition_name = ''", t.Name)
		return nil, unreachable(err)
	}
	return s.emptied(ctx, l, t, source.WholeRow(run, segment, set))
}

// Empty truncates a table under a lock. What was found there is noted before, and journalled after: Emptied tells
// after a crash in between whether the table was truncated.
func (s *Source) Empty(ctx context.Context, l source.Lease, t *shape.Table, segment int,
	columns []int) (*source.JournalRow, error) {
	before, err := s.made(ctx, t)
	if err != nil {
		return nil, err
	}
	var young int
	if err := s.db.QueryRowContext(ctx,
		"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND CREATE_TIME "+
			"> NOW() - INTERVAL 3 SECOND", s.database, t.Base).Scan(&young); err != nil {
		return nil, unreachable(err)
	} else if young > 0 {
		return nil, fmt.Errorf("%w: the table was made just now", source.ErrWhole)
	}
	var set value.Set
	err = s.locked(ctx, quote(t.Base)+" WRITE", func(c *sql.Conn) error {
		set = value.Set{}
		timed, cancel := context.WithTimeout(ctx, emptyWithin)
		defer cancel()
		var hasher value.Hasher
		chunk := &value.Chunk{Width: len(columns)}
		err := eachRow(timed, c, "SELECT "+expressions(t, "", columns)+" FROM "+quote(t.Base), nil,
			func(raw []driver.Value) error {
				chunk.Reset()
				for i, v := range raw {
					x, err := decode(v, &t.Columns[columns[i]], chunk.Keep)
					if err != nil {
						return err
					}
					chunk.Values = append(chunk.Values, x)
				}
				set.Add(hasher.Row(chunk.Values))
				return nil
			})
		if timed.Err() != nil && ctx.Err() == nil {
			return fmt.Errorf("%w: counting its rows takes longer than %s, for which nobody else could have read it",
				source.ErrWhole, emptyWithin)
		}
		if err != nil {
			return err
		}
		err = s.transaction(ctx, func(j *sql.Conn) error {
			if err := lockLease(ctx, j, l); err != nil {
				return err
			}
			_, err := j.ExecContext(ctx, "INSERT INTO ambercellar_departure VALUES (?, '', ?, '', ?, ?) ON "+
				"DUPLICATE KEY UPDATE run = VALUES(run), detail = VALUES(detail)", t.Name, l.Run, emptying, before+"|"+
				set.String())
			return err
		})
		if err != nil {
			return err
		}
		_, err = c.ExecContext(context.WithoutCancel(ctx), "TRUNCATE TABLE "+quote(t.Base))
		return err
	})
	if err != nil {
		return nil, err
	}
	return s.emptied(context.WithoutCancel(ctx), l, t, source.WholeRow(l.Run, segment, set))
}

func (s *Source) emptied(ctx context.Context, l source.Lease, t *shape.Table,
	r *source.JournalRow) (*source.JournalRow, error) {
	err := s.transaction(ctx, func(c *sql.Conn) error {
		if err := lockLease(ctx, c, l); err != nil {
			return err
		}
		if err := bykey.InsertJournalRow(ctx, c, t.Name, r); err != nil {
			return err
		}
		if err := bykey.UpdateJournalRow(ctx, c, r); err != nil {
			return err
		}
		_, err := c.ExecContext(ctx, "DELETE FROM ambercellar_departure WHERE table_name = ? AND partition_name = ''",
			t.Name)
		return err
	})
	return r, err
}
