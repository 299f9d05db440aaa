package postgres

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/source"
)

const journalSchemaName = "ambercellar"

// journalSchema is the journal: who works on a table, what each batch did, the newest link of each table's chain, and
// where runs stand. OFFSET keeps the view from being written through.
const journalSchema = `
CREATE TABLE IF NOT EXISTS ambercellar.lease (
	table_name text PRIMARY KEY, holder text, run text, epoch bigint NOT NULL);
CREATE TABLE IF NOT EXISTS ambercellar.batch (
	run text NOT NULL, segment bigint NOT NULL, batch bigint NOT NULL, table_name text NOT NULL,
		retry boolean NOT NULL,
	row_count bigint NOT NULL, found text NOT NULL, deleted bigint NOT NULL, digest text NOT NULL,
		left_out text NOT NULL,
	first bigint NOT NULL, last bigint NOT NULL, at timestamptz NOT NULL, PRIMARY KEY (run, segment, batch));
CREATE TABLE IF NOT EXISTS ambercellar.chain (
	table_name text PRIMARY KEY, sequence bigint NOT NULL, hash text NOT NULL);
CREATE TABLE IF NOT EXISTS ambercellar.progress (
	table_name text PRIMARY KEY, rule text NOT NULL, run text NOT NULL, action text NOT NULL, state text NOT NULL,
		reason text NOT NULL, pace text NOT NULL,
	cutoff text NOT NULL, due bigint NOT NULL, done bigint NOT NULL, deleted bigint NOT NULL, resumes_at text,
		updated_at text NOT NULL, rule_text text NOT NULL);
CREATE TABLE IF NOT EXISTS ambercellar.departure (
	table_name text, partition text, run text NOT NULL, schema_name text NOT NULL, bounds text NOT NULL,
		checks text[] NOT NULL, PRIMARY KEY (table_name, partition));
CREATE TABLE IF NOT EXISTS ambercellar.origin (id integer PRIMARY KEY, identity text NOT NULL);
CREATE OR REPLACE VIEW ambercellar.runs AS SELECT ` + source.ProgressView + ` FROM ambercellar.progress OFFSET 0;`

// PrepareJournal makes the journal tables where they do not exist.
func (s *Source) PrepareJournal(ctx context.Context) error {
	var schema, tables bool
	err := s.pool.QueryRow(ctx, `SELECT to_regnamespace('ambercellar') IS NOT NULL,
		to_regclass('ambercellar.lease') IS NOT NULL AND to_regclass('ambercellar.batch') IS NOT NULL
			AND to_regclass('ambercellar.chain') IS NOT NULL AND to_regclass('ambercellar.runs') IS NOT NULL
			AND to_regclass('ambercellar.departure') IS NOT NULL AND to_regclass('ambercellar.origin') IS NOT NULL`).
		Scan(&schema, &tables)
	if err == nil && !schema { // making a schema asks for the right to, even where it is there already
		_, err = s.pool.Exec(ctx, "CREATE SCHEMA ambercellar")
	}
	if err == nil && !tables {
		_, err = s.pool.Exec(ctx, journalSchema, pgx.QueryExecModeSimpleProtocol)
	}
	if err == nil && !tables {
		_, err = s.pool.Exec(ctx, "INSERT INTO ambercellar.origin VALUES (1, $1) ON CONFLICT DO NOTHING", rand.Text())
	}
	if err != nil {
		return source.Of(s.cfg.Name, fmt.Errorf(
			"the journal tables cannot be made: %w; `ambercellar source check %s` names the right that is missing",
			err, s.cfg.Name))
	}
	return nil
}

// TakeLease makes holder the only one to work on a table and raises the epoch, which shuts out its own earlier self.
func (s *Source) TakeLease(ctx context.Context, table, holder, run string) (source.Lease, error) {
	l := source.Lease{Table: table, Holder: holder, Run: run, Epoch: 1}
	err := s.transaction(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO ambercellar.lease VALUES ($1, NULL, NULL, 0) ON CONFLICT "+
			"(table_name) DO NOTHING", table); err != nil {
			return err
		}
		var by, of *string
		if err := tx.QueryRow(ctx, "SELECT holder, run, epoch + 1 FROM ambercellar.lease WHERE table_name = $1 FOR "+
			"UPDATE", table).Scan(&by, &of, &l.Epoch); err != nil {
			return err
		}
		if by != nil && *by != holder {
			return &source.HeldError{Table: table, Holder: *by, Run: *of}
		}
		_, err := tx.Exec(ctx, "UPDATE ambercellar.lease SET holder = $2, run = $3, epoch = $4 WHERE table_name = $1",
			table, holder, run, l.Epoch)
		return err
	})
	return l, err
}

// Fence waits for the lock that every batch holds to its end.
func (s *Source) Fence(ctx context.Context, table string) error {
	err := s.transaction(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "SELECT 1 FROM ambercellar.lease WHERE table_name = $1 FOR UPDATE", table)
		return err
	})
	if n := code(err); n == undefinedTable || n == undefinedSchema { // nothing was ever removed
		return nil
	}
	return err
}

// texts binds texts; the statements cast them.
func texts(vs ...string) (params [][]byte, types []uint32) {
	for _, v := range vs {
		params, types = append(params, []byte(v)), append(types, typeText)
	}
	return params, types
}

func run(ctx context.Context, pc *pgconn.PgConn, query string, values ...string) error {
	params, types := texts(values...)
	return eachRow(ctx, pc, query, params, types, func([][]byte) error { return nil })
}

func lockLease(ctx context.Context, pc *pgconn.PgConn, l source.Lease) error {
	held, asked := leased(l)
	if err := together(ctx, pc, asked); err != nil {
		return err
	}
	return held()
}

// leased is lockLease as a step among others: held tells what it has found.
func leased(l source.Lease) (held func() error, asked step) { return leaseHeld(l, "FOR UPDATE") }

// leaseShared is leased for transactions that go side by side.
func leaseShared(l source.Lease) (held func() error, asked step) { return leaseHeld(l, "FOR SHARE") }

func leaseHeld(l source.Lease, lock string) (held func() error, asked step) {
	found := false
	return func() error {
			if !found {
				return source.ErrLeaseLost
			}
			return nil
		}, step{query: "SELECT 1 FROM ambercellar.lease WHERE table_name = $1 AND holder = $2 AND epoch = " +
			"$3::text::bigint " + lock, values: []string{l.Table, l.Holder, fmt.Sprint(l.Epoch)},
			fixed: true, row: func([][]byte) error {
				found = true
				return nil
			}}
}

func insertJournalRow(ctx context.Context, pc *pgconn.PgConn, table string, r *source.JournalRow) error {
	return together(ctx, pc, journalInsert(table, r))
}

func journalInsert(table string, r *source.JournalRow) step {
	return step{
		query: `INSERT INTO ambercellar.batch VALUES ($1, $2::text::bigint, $3::text::bigint, $4, $5::text::boolean,
			$6::text::bigint, $10, 0, '', '',
		$7::text::bigint, $8::text::bigint, $9::text::timestamptz)`, fixed: true,
		values: []string{r.Run, fmt.Sprint(r.Segment), fmt.Sprint(r.Batch), table, fmt.Sprint(r.Retry),
			fmt.Sprint(r.Rows),
			fmt.Sprint(r.First), fmt.Sprint(r.Last), r.At.Format(time.RFC3339Nano), r.Found.String()}}
}

func updateJournalRow(ctx context.Context, pc *pgconn.PgConn, r *source.JournalRow) error {
	return together(ctx, pc, journalUpdate(r))
}

func journalUpdate(r *source.JournalRow) step {
	return step{query: "UPDATE ambercellar.batch SET deleted = $4::text::bigint, digest = $5, left_out = $6 WHERE " +
		"run = $1 AND segment = $2::text::bigint AND batch = $3::text::bigint", fixed: true,
		values: []string{r.Run, fmt.Sprint(r.Segment), fmt.Sprint(r.Batch), fmt.Sprint(r.Deleted), r.Digest.String(),
			r.LeftOut()}}
}

// journalComplete completes the row of a batch that was not known before it was deleted.
func journalComplete(r *source.JournalRow) step {
	return step{query: "UPDATE ambercellar.batch SET row_count = $4::text::bigint, found = $5, deleted = " +
		"$4::text::bigint, digest = $5, last = $6::text::bigint, left_out = $7 WHERE run = $1 AND segment = " +
		"$2::text::bigint AND batch = $3::text::bigint", fixed: true,
		values: []string{r.Run, fmt.Sprint(r.Segment), fmt.Sprint(r.Batch), fmt.Sprint(r.Deleted), r.Digest.String(),
			fmt.Sprint(r.Last), r.LeftOut()}}
}

// journalRow reads the journal row of a batch that was committed.
func journalRow(ctx context.Context, pc *pgconn.PgConn, r *source.JournalRow) (*source.JournalRow, error) {
	rows, err := journal(ctx, pc, "run = $1 AND segment = $2::bigint AND batch = $3::bigint", r.Run,
		fmt.Sprint(r.Segment), fmt.Sprint(r.Batch))
	if err != nil || len(rows) != 1 {
		return nil, errors.Join(errors.New("the journal row of a committed batch cannot be read"), err)
	}
	return &rows[0], nil
}

// journal reads the journal rows under a condition on text parameters.
func journal(ctx context.Context, pc *pgconn.PgConn, where string, values ...string) ([]source.JournalRow, error) {
	params, types := texts(values...)
	var out []source.JournalRow
	where = strings.NewReplacer("$2::bigint", "$2::text::bigint", "$3::bigint", "$3::text::bigint").Replace(where)
	err := eachRow(ctx, pc,
		`SELECT run, json_build_object('segment', segment, 'batch', batch, 'retry', retry, 'rows', row_count, 'found',
			found, 'deleted', deleted,
		'digest', digest, 'first', first, 'last', last, 'at', at)::text, left_out FROM ambercellar.batch WHERE `+where+
			" ORDER BY segment, batch", params, types, func(f [][]byte) error {
			var r source.JournalRow
			err := json.Unmarshal(f[1], &r)
			r.Run = string(f[0])
			err = errors.Join(err, r.SetLeftOut(string(f[2])))
			if err != nil {
				return fmt.Errorf("a journal row of run %s cannot be read: %w", r.Run, err)
			}
			out = append(out, r)
			return nil
		})
	return out, err
}

// Journal returns the rows of a run, or of one of its segments, in order.
func (s *Source) Journal(ctx context.Context, run string, segment int) (out []source.JournalRow, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		out, err = journal(ctx, c.Conn().PgConn(), "run = $1 AND ($2::bigint < 0 OR segment = $2::bigint)", run,
			fmt.Sprint(segment))
		return err
	})
	return out, err
}

// PruneJournal removes the rows of a closed segment; the newest of the table stays as anchor.
func (s *Source) PruneJournal(ctx context.Context, run string, segment int) error {
	err := s.exec(ctx,
		`DELETE FROM ambercellar.batch b WHERE b.run = $1 AND b.segment = $2 AND (b.run, b.segment, b.batch) <> (
		SELECT n.run, n.segment, n.batch FROM ambercellar.batch n WHERE n.table_name = b.table_name ORDER BY n.at DESC,
			n.segment DESC, n.batch DESC LIMIT 1)`, run, segment)
	return err
}

// Lineage tells which database this is: the journal's own identity, and the system's with its timeline where we may
// see it.
func (s *Source) Lineage(ctx context.Context, table string) (l source.Lineage, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		return c.QueryRow(ctx,
			`SELECT identity, coalesce((SELECT epoch FROM ambercellar.lease WHERE table_name = $1), 0),
				coalesce((SELECT sequence FROM ambercellar.chain WHERE table_name = $1), 0),
			coalesce((SELECT hash FROM ambercellar.chain WHERE table_name = $1), '') FROM ambercellar.origin`,
			table).Scan(&l.Identity, &l.Epoch, &l.Head.Sequence, &l.Head.Hash)
	})
	if n := code(err); errors.Is(err, pgx.ErrNoRows) || n == undefinedTable || n == undefinedSchema {
		return source.Lineage{}, nil
	} else if err != nil {
		return l, err
	}
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		return c.QueryRow(ctx, "SELECT concat('system ', (SELECT system_identifier FROM pg_control_system()), ', "+
			"timeline ', (SELECT timeline_id FROM pg_control_checkpoint()))").Scan(&l.Server)
	})
	if code(err) == denied { // only some may ask that
		err = nil
	}
	return l, err
}
