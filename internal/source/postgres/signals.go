package postgres

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// kept has a connection prepare a statement that is asked again and again: planning it takes longer than all the rest,
// and others feel that.
const kept = pgx.QueryExecModeCacheStatement

// Signals asks the server's own statistics, and times a look-up by key. What others' sessions do is told to members of
// pg_read_all_stats alone.
func (s *Source) Signals(ctx context.Context, t *shape.Table) (map[string]float64, error) {
	out := map[string]float64{}
	note := func(name string, v *float64) {
		if v != nil {
			out[name] = *v
		}
	}
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		begun := time.Now()
		if _, err := c.Exec(ctx, lookup(t)); err != nil {
			return err
		}
		out[pace.Probe] = source.Milliseconds(time.Since(begun))
		var active, waiting, blocked, delay, held, dead *float64
		err := c.QueryRow(ctx,
			`WITH s AS (SELECT pid, state, application_name = 'ambercellar' AS ours, wait_event_type = 'Lock' AS waits
				FROM pg_stat_activity WHERE backend_type = 'client backend'),
				told AS (SELECT pg_has_role(current_user, 'pg_read_all_stats', 'member')
					OR current_setting('is_superuser') = 'on' AS yes)
			SELECT CASE WHEN told.yes THEN (SELECT count(*) FROM s WHERE state = 'active' AND NOT ours)::float8 END,
				CASE WHEN told.yes THEN (SELECT count(*) FROM s WHERE waits AND NOT ours)::float8 END,
				CASE WHEN told.yes THEN (SELECT count(*) FROM s WHERE CASE WHEN waits
					AND NOT ours THEN pg_blocking_pids(pid) && (SELECT array_agg(o.pid) FROM s o
					WHERE o.ours) END)::float8 END,
				CASE WHEN told.yes THEN (SELECT max(coalesce(extract(epoch FROM replay_lag), 0))
					FROM pg_stat_replication)::float8 END,
				CASE WHEN NOT pg_is_in_recovery() THEN (SELECT max(pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn))
					FROM pg_replication_slots)::float8 END,
				(SELECT sum(pg_stat_get_dead_tuples(relid)) FROM (SELECT relid FROM
					pg_partition_tree($1::text::regclass) UNION SELECT $1::text::regclass) p)::float8
			FROM told`, kept, table(t)).Scan(&active, &waiting, &blocked, &delay, &held, &dead)
		note(pace.Active, active)
		note(pace.Waiting, waiting)
		note(pace.Blocked, blocked)
		note(pace.Replica, delay)
		note(pace.Slots, held)
		note(pace.Dead, dead)
		return err
	})
	source.DiskSignal(s.cfg.Disk, out)
	return out, err
}

// Others counts the sessions of others, in any database of the server, that have had a statement within the time given,
// and those that wait for a lock of ours. Whose state is not told to us may be at work; not even the kind of their
// process is told then. Transactions are those of the server's statistics, which sessions bring up to date about once a
// second, less those that this program has sent.
func (s *Source) Others(ctx context.Context, within time.Duration) (pace.Look, error) {
	out := pace.Look{Span: within}
	var hidden int
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		var sessions, ended *int64 // sessions are not counted before PostgreSQL 14
		var changed int64          // transactions that changed something have a number each
		var behind *float64
		arrived := "(SELECT sum(pg_stat_get_db_sessions(oid)) FROM pg_database)"
		if version, _ := strconv.ParseFloat(c.Conn().PgConn().ParameterStatus("server_version"), 64); version < 14 {
			arrived = "NULL"
		}
		err := c.QueryRow(ctx, // the functions themselves: planning the views takes longer than all of it
			`WITH a AS MATERIALIZED (SELECT pid, state, state_change, wait_event_type = 'Lock' AS waits,
					application_name = 'ambercellar' AS ours
				FROM pg_stat_get_activity(NULL)
				WHERE backend_type = 'client backend'
					OR backend_type IS NULL AND usesysid IS NOT NULL AND datid IS NOT NULL)
			SELECT count(*) FILTER (WHERE NOT ours AND (state IN ('active', 'fastpath function call')
					OR state_change > clock_timestamp() - $1 * interval '1 second')),
				count(*) FILTER (WHERE NOT ours AND coalesce(state, 'disabled') = 'disabled'),
				count(*) FILTER (WHERE CASE WHEN waits AND NOT ours THEN pg_blocking_pids(pid) &&
					(SELECT array_agg(o.pid) FROM a o WHERE o.ours) END),
				`+arrived+`::bigint, (SELECT sum(pg_stat_get_db_xact_commit(oid) +
					pg_stat_get_db_xact_rollback(oid)) FROM pg_database)::bigint,
				(SELECT max(extract(epoch FROM replay_lag)) FROM pg_stat_get_wal_senders())::float8,
				txid_snapshot_xmax(txid_current_snapshot())
			FROM a`, kept, within.Seconds()).Scan(&out.Busy, &hidden, &out.Blocked, &sessions, &ended, &behind,
			&changed)
		if err != nil {
			return err
		}
		server := serverOf(c.Conn())
		if sessions != nil {
			out.Busy = max(out.Busy, s.arrivals.Others(server, *sessions))
		}
		if ended != nil {
			asked := source.Asked(server)
			out.Ended, out.Changed, out.Counted = *ended-asked, changed-asked, true
		}
		if behind != nil {
			out.Behind = *behind
		}
		return nil
	})
	if hidden > 0 {
		out.Hidden = fmt.Sprintf(
			"what %d sessions of others do is not told to our role; GRANT pg_read_all_stats TO it "+
				"and leave track_activities on",
			hidden,
		)
	}
	return out, err
}

// Probe looks up the row with the greatest key, or has the server flush the record of a transaction that is a message
// to nobody (PostgreSQL documentation, "System Administration Functions", pg_logical_emit_message).
func (s *Source) Probe(ctx context.Context, kind pace.FeelKind, t *shape.Table) (begun time.Time,
	took time.Duration, err error) {
	lookUp, query := lookup(t), "SELECT pg_logical_emit_message(true, 'ambercellar', '')"
	if kind == pace.FeelLookup {
		query = lookUp
	}
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		if known := c.Conn().PgConn().CustomData(); known[probedKey+string(kind)] != lookUp {
			for _, first := range []string{lookUp, query} {
				if _, err := c.Exec(ctx, first); err != nil {
					return err
				}
			}
			known[probedKey+string(kind)] = lookUp
		}
		begun = time.Now()
		_, err := c.Exec(ctx, lookUp)
		if took = time.Since(begun); err != nil || took > source.Waking {
			return err
		}
		begun = time.Now()
		_, err = c.Exec(ctx, query)
		took = time.Since(begun)
		return err
	})
	return begun, took, err
}

// probedKey, before a kind of probe, is where a connection keeps the look-up with which it has made one.
const probedKey = "ambercellar probe "

// lookup finds one row by its key.
func lookup(t *shape.Table) string {
	if t.ByAddress() {
		return "SELECT 1 FROM " + table(t) + " LIMIT 1"
	}
	return "SELECT " + quoteAll("t.", t.Key) + " FROM " + table(t) + " t ORDER BY " + descending(t.Key) + " LIMIT 1"
}

// ending counts the transactions that a session ends: a statement after which none is open is one.
type ending struct{}

func (ending) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return ctx
}

func (ending) TraceQueryEnd(_ context.Context, c *pgx.Conn, _ pgx.TraceQueryEndData) {
	if c.PgConn().TxStatus() == 'I' {
		source.Asks(serverOf(c))
	}
}

func descending(names []string) (out string) {
	for i, n := range names {
		if i > 0 {
			out += ", "
		}
		out += "t." + quote(n) + " DESC"
	}
	return out
}
