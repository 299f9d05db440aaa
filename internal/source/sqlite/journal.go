package sqlite

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"

	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// journalSchema is the journal: who works on a table, what each batch did, and the newest link of each table's chain.
const journalSchema = `
CREATE TABLE IF NOT EXISTS ambercellar_lease (
	table_name TEXT PRIMARY KEY, holder TEXT, run TEXT, epoch INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS ambercellar_batch (
	run TEXT NOT NULL, segment INTEGER NOT NULL, batch INTEGER NOT NULL, table_name TEXT NOT NULL,
		retry INTEGER NOT NULL,
	row_count INTEGER NOT NULL, found TEXT NOT NULL, deleted INTEGER NOT NULL, digest TEXT NOT NULL,
		left_out TEXT NOT NULL,
	first INTEGER NOT NULL, last INTEGER NOT NULL, at TEXT NOT NULL, PRIMARY KEY (run, segment, batch));
CREATE TABLE IF NOT EXISTS ambercellar_chain (
	table_name TEXT PRIMARY KEY, sequence INTEGER NOT NULL, hash TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS ambercellar_progress (
	table_name TEXT PRIMARY KEY, rule TEXT NOT NULL, run TEXT NOT NULL, action TEXT NOT NULL, state TEXT NOT NULL,
		reason TEXT NOT NULL, pace TEXT NOT NULL,
	cutoff TEXT NOT NULL, due INTEGER NOT NULL, done INTEGER NOT NULL, deleted INTEGER NOT NULL, resumes_at TEXT,
		updated_at TEXT NOT NULL, rule_text TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS ambercellar_origin (id INTEGER PRIMARY KEY, identity TEXT NOT NULL);
CREATE VIEW IF NOT EXISTS ambercellar_runs AS SELECT ` + source.ProgressView + ` FROM ambercellar_progress;`

// PrepareJournal makes the journal tables where they do not exist.
func (s *Source) PrepareJournal(ctx context.Context) error {
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		_, err := conn.ExecContext(ctx, journalSchema)
		if err == nil {
			_, err = conn.ExecContext(ctx, "INSERT INTO ambercellar_origin VALUES (1, ?) ON CONFLICT DO NOTHING",
				rand.Text())
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("source %s: the journal tables cannot be made: %w", s.cfg.Name, err)
	}
	return nil
}

// TakeLease makes holder the only one to work on a table and raises the epoch, which shuts out its own earlier self.
func (s *Source) TakeLease(ctx context.Context, table, holder, run string) (source.Lease, error) {
	l := source.Lease{Table: table, Holder: holder, Run: run, Epoch: 1}
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		var by, of sql.NullString
		err := conn.QueryRowContext(ctx, "SELECT holder, run, epoch + 1 FROM ambercellar_lease WHERE table_name = ?",
			table).Scan(&by, &of, &l.Epoch)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if by.Valid && by.String != holder {
			return &source.HeldError{Table: table, Holder: by.String, Run: of.String}
		}
		_, err = conn.ExecContext(ctx, "INSERT OR REPLACE INTO ambercellar_lease VALUES (?, ?, ?, ?)", table, holder,
			run, l.Epoch)
		return err
	})
	return l, err
}

func checkLease(ctx context.Context, conn *sql.Conn, l source.Lease) error {
	var epoch int64
	err := conn.QueryRowContext(ctx, "SELECT epoch FROM ambercellar_lease WHERE table_name = ? AND holder = ?",
		l.Table, l.Holder).Scan(&epoch)
	if errors.Is(err, sql.ErrNoRows) || err == nil && epoch != l.Epoch {
		return source.ErrLeaseLost
	}
	return err
}

const journalColumns = "SELECT +run, +segment, +batch, +retry, +row_count, +found, +deleted, +digest, +left_out, " +
	"+first, +last, +at FROM ambercellar_batch "

func journalRow(ctx context.Context, conn *sql.Conn, run string, segment, batch int) (*source.JournalRow, error) {
	return source.ScanJournalRow(conn.QueryRowContext(ctx, journalColumns+
		"WHERE run = ? AND segment = ? AND batch = ?", run, segment, batch).Scan)
}

// Journal returns the rows of a run, of one segment where that is not negative.
func (s *Source) Journal(ctx context.Context, run string, segment int) ([]source.JournalRow, error) {
	return bykey.JournalOf(ctx, s.read, journalColumns, run, segment)
}

// PruneJournal removes the rows of a closed segment; the newest of the table stays as anchor.
func (s *Source) PruneJournal(ctx context.Context, run string, segment int) error {
	return s.immediate(ctx, func(conn *sql.Conn) error {
		_, err := conn.ExecContext(ctx, `DELETE FROM ambercellar_batch WHERE run = ?1 AND segment = ?2 AND rowid <> (
			SELECT n.rowid FROM ambercellar_batch n WHERE n.table_name = ambercellar_batch.table_name
				ORDER BY n.at DESC, n.segment DESC, n.batch DESC LIMIT 1)`, run, segment)
		return err
	})
}

// Lineage tells which database this is.
func (s *Source) Lineage(ctx context.Context, table string) (l source.Lineage, err error) {
	if there, err := s.hasTable(ctx, "ambercellar_origin"); err != nil || !there {
		return source.Lineage{}, err
	}
	err = s.read.QueryRowContext(ctx,
		`SELECT identity, coalesce((SELECT epoch FROM ambercellar_lease WHERE table_name = ?1), 0),
			coalesce((SELECT sequence FROM ambercellar_chain WHERE table_name = ?1), 0),
		coalesce((SELECT hash FROM ambercellar_chain WHERE table_name = ?1), '') FROM ambercellar_origin`,
		table).Scan(&l.Identity, &l.Epoch, &l.Head.Sequence, &l.Head.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return source.Lineage{}, nil
	}
	return l, err
}

// Fence waits for the lock that every batch holds to its end: there is one for the whole file.
func (s *Source) Fence(ctx context.Context, _ string) error {
	return s.immediate(ctx, func(*sql.Conn) error { return nil })
}
