package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// statusSignals are the server's status variables that signals are read from.
var statusSignals = map[string]string{"Threads_running": pace.Active, "Innodb_row_lock_current_waits": pace.Waiting,
	"Innodb_deadlocks": pace.Deadlocks, "Innodb_history_list_length": pace.History}

// Signals asks the server's status, and times a look-up by key. Deadlocks are counted from the server's start. Who
// waits for whom is told to those alone who hold the PROCESS right.
func (s *Source) Signals(ctx context.Context, t *shape.Table) (map[string]float64, error) {
	out := map[string]float64{}
	_, took, err := s.Probe(ctx, pace.FeelLookup, t)
	if err != nil {
		return out, err
	}
	out[pace.Probe] = source.Milliseconds(took)
	names := make([]string, 0, len(statusSignals))
	for name := range statusSignals {
		names = append(names, "'"+name+"'")
	}
	var name string
	var v float64
	err = s.each(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ("+strings.Join(names, ", ")+")", nil,
		[]any{&name, &v}, func() error {
			out[statusSignals[name]] = v
			return nil
		})
	if running, ok := out[pace.Active]; ok {
		// less the one that asks and those that work for us
		out[pace.Active] = max(running-1-float64(s.db.Stats().InUse), 0)
	}
	if blocked, waits := s.blocked(ctx); waits == nil && s.mariadb { // otherwise the right lacks
		out[pace.Blocked] = float64(blocked)
	}
	source.DiskSignal(s.cfg.Disk, out)
	return out, err
}

// blocked counts the sessions that wait for a lock of ours.
func (s *Source) blocked(ctx context.Context) (n int, err error) {
	if !s.mariadb {
		return 0, nil
	}
	var blocking int64
	err = s.each(ctx, "SELECT t.trx_mysql_thread_id FROM information_schema.INNODB_LOCK_WAITS w JOIN "+
		"information_schema.INNODB_TRX t ON t.trx_id = w.blocking_trx_id", nil, []any{&blocking}, func() error {
		if s.isOurs(blocking) {
			n++
		}
		return nil
	})
	return n, err
}

// Probe looks up the row with the greatest key, or commits a change to a row of the leases that stands for no table.
// A new connection has no caches of its own to fill.
func (s *Source) Probe(ctx context.Context, kind pace.FeelKind, t *shape.Table) (begun time.Time,
	took time.Duration, err error) {
	order := strings.ReplaceAll(quoteAll("", t.Key), ", ", " DESC, ")
	lookUp := "SELECT " + quoteAll("", t.Key) + " FROM " + quote(t.Name) + " ORDER BY " + order + " DESC LIMIT 1"
	err = s.conn(ctx, func(c *sql.Conn) error {
		begun = time.Now()
		err := asText(ctx, c, lookUp)
		if took = time.Since(begun); err != nil || took > source.Waking {
			return err
		}
		begun = time.Now()
		if kind == pace.FeelCommit {
			_, err = c.ExecContext(ctx,
				"INSERT INTO ambercellar_lease VALUES ('', NULL, NULL, 0) ON DUPLICATE KEY UPDATE epoch = epoch + 1")
		} else {
			err = asText(ctx, c, lookUp)
		}
		took = time.Since(begun)
		return err
	})
	return begun, took, err
}

// asText asks in one message, where a statement that is prepared for once takes three, and leaves the rows unread.
func asText(ctx context.Context, c *sql.Conn, query string) error {
	rows, err := c.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	return rows.Close()
}

// workloads are the connections of the workload: those of replicas and the server's own threads are none.
const workloads = "FROM information_schema.PROCESSLIST WHERE COMMAND NOT LIKE 'Binlog Dump%' AND " +
	"COMMAND <> 'Daemon' AND COMMAND NOT LIKE 'Slave%'"

// Others counts the connections of others, to any database of the server, that have had a statement within the time
// given. The list of them is whole for those who hold the PROCESS right, and where all are our own.
func (s *Source) Others(ctx context.Context, within time.Duration) (pace.Look, error) {
	out := pace.Look{Span: within}
	idle := "TIME_MS"
	if !s.mariadb { // which tells whole seconds
		out.Span = max(within.Round(time.Second), time.Second)
		idle = "TIME * 1000"
	}
	var id int64
	var ourUser, busy bool
	listed := int64(0)
	err := s.each(ctx, "SELECT ID, USER = SUBSTRING_INDEX(USER(), '@', 1), COMMAND NOT IN ('Sleep', 'Connect') OR "+
		"COMMAND = 'Sleep' AND "+idle+" < "+strconv.FormatInt(out.Span.Milliseconds(), 10)+
		" "+workloads, nil, []any{&id, &ourUser, &busy}, func() error {
		listed++
		if !(ourUser && s.isOurs(id)) && busy {
			out.Busy++
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	var name string
	var n int64
	counted := map[string]int64{}
	err = s.each(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('Threads_connected', 'Connections', 'Questions', "+
		"'Innodb_row_lock_current_waits', 'Com_insert', 'Com_update', 'Com_replace')", nil,
		[]any{&name, &n}, func() error {
			counted[name] = n
			return nil
		})
	out.Busy = max(out.Busy, s.arrivals.Others(s.address, counted["Connections"]))
	asked := source.Asked(s.address)
	out.Ended, out.Counted = counted["Questions"]-asked, true
	out.Changed = counted["Com_insert"] + counted["Com_update"] + counted["Com_replace"] - asked
	if counted["Innodb_row_lock_current_waits"] > 0 {
		if n, failed := s.blocked(ctx); failed == nil {
			out.Blocked = n
		}
	}
	connected := counted["Threads_connected"]
	if connected > listed+1 { // unless some have come between the two questions
		again := int64(0)
		if failed := s.each(ctx, "SELECT COUNT(*) "+workloads, nil, []any{&again}, func() error {
			return nil
		}); failed == nil {
			listed = max(listed, again)
		}
	}
	if connected > listed+1 {
		out.Hidden = fmt.Sprintf("the server has %d connections and shows us %d; GRANT PROCESS ON *.* TO our user",
			connected, listed)
	}
	return out, err
}

// isOurs says whether a connection of the server is one that this program has made.
func (s *Source) isOurs(id int64) bool {
	_, ours := sessions.Load(numbered{s.address, id})
	return ours
}

// rowBased refuses to work where the binary log is written by statement: InnoDB takes no changes then at READ
// COMMITTED, and at any stricter level our deletes would lock the gaps that others insert into.
func (s *Source) rowBased(ctx context.Context) error {
	var log bool
	var format string
	if err := s.db.QueryRowContext(ctx, "SELECT @@log_bin, @@binlog_format").Scan(&log, &format); err != nil {
		return unreachable(err)
	}
	if log && format == "STATEMENT" {
		return source.ErrByStatement
	}
	return nil
}
