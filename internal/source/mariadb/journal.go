package mariadb

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// journalSchema is the journal: who works on a table, what each batch did, and the newest link of each table's chain.
var journalSchema = []string{
	"CREATE TABLE IF NOT EXISTS ambercellar_lease (table_name varchar(191) PRIMARY KEY, holder varchar(191), run " +
		"varchar(64), epoch bigint NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
	"CREATE TABLE IF NOT EXISTS ambercellar_batch (run varchar(64) NOT NULL, segment bigint NOT NULL, batch bigint " +
		"NOT NULL, table_name varchar(191) NOT NULL, retry boolean NOT NULL," +
		" row_count bigint NOT NULL, found varchar(100) NOT NULL, deleted bigint NOT NULL, digest varchar(100) NOT " +
		"NULL, left_out longtext NOT NULL," +
		" first bigint NOT NULL, last bigint NOT NULL, at varchar(40) NOT NULL, PRIMARY KEY (run, segment, batch), " +
		"KEY (table_name)) ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
	"CREATE TABLE IF NOT EXISTS ambercellar_chain (table_name varchar(191) PRIMARY KEY, sequence bigint NOT NULL, " +
		"hash varchar(64) NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
	"CREATE TABLE IF NOT EXISTS ambercellar_progress (table_name varchar(191) PRIMARY KEY, rule varchar(100) NOT " +
		"NULL, run varchar(64) NOT NULL, action varchar(20) NOT NULL, state varchar(20) NOT NULL," +
		" reason text NOT NULL, pace varchar(20) NOT NULL, cutoff varchar(40) NOT NULL, due bigint NOT NULL, done " +
		"bigint NOT NULL, deleted bigint NOT NULL, resumes_at varchar(40), updated_at varchar(40) NOT NULL," +
		" rule_text longtext NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
	"CREATE TABLE IF NOT EXISTS ambercellar_origin (id integer PRIMARY KEY, identity varchar(64) NOT NULL) " +
		"ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
	"CREATE TABLE IF NOT EXISTS ambercellar_departure (table_name varchar(191) NOT NULL, partition_name " +
		"varchar(191) NOT NULL, run varchar(64) NOT NULL, aside varchar(64) NOT NULL, state varchar(20) NOT NULL," +
		" detail text NOT NULL, PRIMARY KEY (table_name, partition_name)) ENGINE=InnoDB CHARACTER SET utf8mb4 " +
		"COLLATE utf8mb4_bin",
}

// progressView cannot be written through, as it is no mere part of the table. It asks for a right of its own, and is
// left out without.
const progressView = "CREATE ALGORITHM=TEMPTABLE SQL SECURITY INVOKER VIEW ambercellar_runs AS SELECT " +
	source.ProgressView + " FROM ambercellar_progress"

// PrepareJournal makes the journal tables where they do not exist.
func (s *Source) PrepareJournal(ctx context.Context) error {
	var n int
	err := s.db.QueryRowContext(ctx,
		"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME IN "+
			"('ambercellar_lease', 'ambercellar_batch', 'ambercellar_chain', 'ambercellar_progress', "+
			"'ambercellar_departure', 'ambercellar_origin')", s.database).Scan(&n)
	for _, statement := range journalSchema {
		if err == nil && n < len(journalSchema) {
			_, err = s.db.ExecContext(ctx, statement)
		}
	}
	if err == nil {
		if made, failed := s.holds(ctx, "ambercellar_origin"); failed != nil {
			err = failed
		} else if !made {
			_, err = s.db.ExecContext(ctx,
				"INSERT INTO ambercellar_origin VALUES (1, ?) ON DUPLICATE KEY UPDATE id = id", rand.Text())
		}
	}
	if code(err) == byStatement {
		return source.Of(s.cfg.Name, source.ErrByStatement)
	}
	if err == nil && n < len(journalSchema) {
		s.db.ExecContext(ctx, progressView)
	}
	if err != nil {
		return source.Of(s.cfg.Name, fmt.Errorf(
			"the journal tables cannot be made: %w; `ambercellar source check %s` names the right that is missing",
			unreachable(err), s.cfg.Name))
	}
	return nil
}

// TakeLease makes holder the only one to work on a table and raises the epoch, which shuts out its own earlier self.
func (s *Source) TakeLease(ctx context.Context, table, holder, run string) (source.Lease, error) {
	l := source.Lease{Table: table, Holder: holder, Run: run, Epoch: 1}
	if err := s.rowBased(ctx); err != nil {
		return l, err
	}
	err := s.transaction(ctx, func(c *sql.Conn) error {
		if _, err := c.ExecContext(ctx,
			"INSERT INTO ambercellar_lease VALUES (?, NULL, NULL, 0) ON DUPLICATE KEY UPDATE epoch = epoch",
			table); err != nil {
			return err
		}
		var by, of sql.NullString
		if err := c.QueryRowContext(ctx,
			"SELECT holder, run, epoch + 1 FROM ambercellar_lease WHERE table_name = ? FOR UPDATE", table).Scan(&by,
			&of, &l.Epoch); err != nil {
			return err
		}
		if by.Valid && by.String != holder {
			return &source.HeldError{Table: table, Holder: by.String, Run: of.String}
		}
		_, err := c.ExecContext(ctx, "UPDATE ambercellar_lease SET holder = ?, run = ?, epoch = ? WHERE "+
			"table_name = ?", holder, run, l.Epoch, table)
		return err
	})
	return l, err
}

// Fence waits for the lock that every batch holds to its end.
func (s *Source) Fence(ctx context.Context, table string) error {
	err := s.transaction(ctx, func(c *sql.Conn) error {
		var epoch int64
		return c.QueryRowContext(ctx, "SELECT epoch FROM ambercellar_lease WHERE table_name = ? FOR UPDATE",
			table).Scan(&epoch)
	})
	if code(err) == noTable || errors.Is(err, sql.ErrNoRows) { // nothing was ever removed
		return nil
	}
	return err
}

// lockLease keeps the lease of a table to one transaction; shareLease lets others of the same holder work beside it.
func lockLease(ctx context.Context, c *sql.Conn, l source.Lease) error {
	return holdLease(ctx, c, l, "FOR UPDATE")
}

func shareLease(ctx context.Context, c *sql.Conn, l source.Lease) error {
	return holdLease(ctx, c, l, "LOCK IN SHARE MODE")
}

func holdLease(ctx context.Context, c *sql.Conn, l source.Lease, lock string) error {
	var one int
	err := c.QueryRowContext(ctx, "SELECT 1 FROM ambercellar_lease WHERE table_name = ? AND holder = ? AND epoch = ? "+
		lock, l.Table, l.Holder, l.Epoch).Scan(&one)
	if errors.Is(err, sql.ErrNoRows) {
		return source.ErrLeaseLost
	}
	return err
}

// completeJournalRow is bykey.UpdateJournalRow for a batch whose rows were not known when it began.
func completeJournalRow(ctx context.Context, c *sql.Conn, r *source.JournalRow) error {
	_, err := c.ExecContext(ctx, "UPDATE ambercellar_batch SET row_count = ?, found = ?, last = ? WHERE run = ? "+
		"AND segment = ? AND batch = ?", r.Rows, r.Found.String(), r.Last, r.Run, r.Segment, r.Batch)
	if err == nil {
		err = bykey.UpdateJournalRow(ctx, c, r)
	}
	return err
}

const journalColumns = "SELECT run, segment, batch, retry, row_count, found, deleted, digest, left_out, first, " +
	"last, at FROM ambercellar_batch "

func journalRow(ctx context.Context, c *sql.Conn, run string, segment, batch int) (*source.JournalRow, error) {
	return source.ScanJournalRow(c.QueryRowContext(ctx, journalColumns+"WHERE run = ? AND segment = ? AND batch = ?",
		run, segment, batch).Scan)
}

// Journal returns the rows of a run, of one segment where that is not negative.
func (s *Source) Journal(ctx context.Context, run string, segment int) ([]source.JournalRow, error) {
	out, err := bykey.JournalOf(ctx, s.db, journalColumns, run, segment)
	return out, unreachable(err)
}

// PruneJournal removes the rows of a closed segment; the newest of the table stays as anchor.
func (s *Source) PruneJournal(ctx context.Context, run string, segment int) error {
	var table string
	err := s.db.QueryRowContext(ctx, "SELECT table_name FROM ambercellar_batch WHERE run = ? AND segment = ? LIMIT 1",
		run, segment).Scan(&table)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	} else if err != nil {
		return unreachable(err)
	}
	var newest string
	var number, batch int
	if err := s.db.QueryRowContext(ctx,
		"SELECT run, segment, batch FROM ambercellar_batch WHERE table_name = ? ORDER BY at DESC, segment DESC, "+
			"batch DESC LIMIT 1", table).Scan(&newest, &number, &batch); err != nil {
		return unreachable(err)
	}
	_, err = s.db.ExecContext(ctx,
		"DELETE FROM ambercellar_batch WHERE run = ? AND segment = ? AND NOT (run = ? AND segment = ? AND batch = ?)",
		run, segment, newest, number, batch)
	return unreachable(err)
}

// Lineage tells which database this is: the journal's own identity, and the server's name and number.
func (s *Source) Lineage(ctx context.Context, table string) (l source.Lineage, err error) {
	err = s.db.QueryRowContext(ctx,
		`SELECT identity, COALESCE((SELECT epoch FROM ambercellar_lease WHERE table_name = ?), 0),
			COALESCE((SELECT sequence FROM ambercellar_chain WHERE table_name = ?), 0),
		COALESCE((SELECT hash FROM ambercellar_chain WHERE table_name = ?), ''), CONCAT(@@hostname, ', port ', @@port,
			', server_id ', @@server_id) FROM ambercellar_origin`, table, table, table).
		Scan(&l.Identity, &l.Epoch, &l.Head.Sequence, &l.Head.Hash, &l.Server)
	if errors.Is(err, sql.ErrNoRows) || code(err) == noTable {
		return source.Lineage{}, nil
	}
	return l, unreachable(err)
}

// restoredTable names the table that records the restored rows of t.
func restoredTable(t *shape.Table) string {
	sum := sha256.Sum256([]byte(t.Name))
	return "ambercellar_restored_" + hex.EncodeToString(sum[:6])
}

// recorded says whether any row of t is recorded as restored.
func (s *Source) recorded(ctx context.Context, t *shape.Table) (bool, error) {
	var n int
	err := s.db.QueryRowContext(ctx,
		"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?", s.database,
		restoredTable(t)).Scan(&n)
	return n > 0, unreachable(err)
}
