package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

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
		probe := "SELECT " + quoteAll("t.", t.Key) + " FROM " + table(t) + " t ORDER BY " + descending(t.Key) +
			" LIMIT 1"
		if t.ByAddress() {
			probe = "SELECT 1 FROM " + table(t) + " LIMIT 1"
		}
		if _, err := c.Exec(ctx, probe); err != nil {
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
				(SELECT sum(pg_stat_get_dead_tuples(relid)) FROM (SELECT relid FROM pg_partition_tree($1::regclass)
					UNION SELECT $1::regclass) p)::float8
			FROM told`, table(t)).Scan(&active, &waiting, &blocked, &delay, &held, &dead)
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

// Others counts the sessions of others, in any database of the server, that have had a statement within the time given.
// Whose state is not told to us may be at work; not even the kind of their process is told then.
func (s *Source) Others(ctx context.Context, within time.Duration) (pace.Look, error) {
	out := pace.Look{Span: within}
	var hidden int
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		var sessions *int64 // not counted before PostgreSQL 14
		err := c.QueryRow(ctx,
			`SELECT count(*) FILTER (WHERE state IN ('active', 'fastpath function call')
					OR state_change > clock_timestamp() - $1 * interval '1 second'),
				count(*) FILTER (WHERE coalesce(state, 'disabled') = 'disabled'),
				(SELECT sum((to_jsonb(d)->>'sessions')::bigint)::bigint FROM pg_stat_database d)
			FROM pg_stat_activity
			WHERE (backend_type = 'client backend'
					OR backend_type IS NULL AND usesysid IS NOT NULL AND datid IS NOT NULL)
				AND application_name <> 'ambercellar'`,
			within.Seconds()).Scan(&out.Busy, &hidden, &sessions)
		if err == nil && sessions != nil {
			out.Busy = max(out.Busy, s.arrivals.Others(serverOf(c.Conn()), *sessions))
		}
		return err
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

func descending(names []string) (out string) {
	for i, n := range names {
		if i > 0 {
			out += ", "
		}
		out += "t." + quote(n) + " DESC"
	}
	return out
}
