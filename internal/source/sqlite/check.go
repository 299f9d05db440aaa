package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"ambercellar/internal/source"
)

// errUndo takes a trial transaction back.
var errUndo = errors.New("undo")

// Check connects and reports what the service may do.
func (s *Source) Check(ctx context.Context) (*source.Report, error) {
	r := &source.Report{Engine: "SQLite", TLS: "none: a file",
		Journal: "tables ambercellar_lease, ambercellar_batch and ambercellar_chain in the same file"}
	if err := s.read.QueryRowContext(ctx, "SELECT sqlite_version()").Scan(&r.Version); err != nil {
		return nil, source.Of(s.cfg.Name, err)
	}
	add := func(level source.Level, table, text, remedy string) {
		r.Items = append(r.Items, source.Finding{Level: level, Table: table, Text: text, Remedy: remedy})
	}
	add(source.Good, "", "the file can be read", "")
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		if _, err := conn.ExecContext(ctx, journalSchema); err != nil {
			return err
		}
		return errUndo
	})
	if errors.Is(err, errUndo) {
		add(source.Good, "", "the file can be written and the journal tables can be made (tried and taken back)", "")
	} else {
		add(source.Missing, "", fmt.Sprintf("the journal tables cannot be made: %v", err),
			"give the service's user write access to the file and to its directory")
	}
	if s.blocks {
		add(source.Note, "", "the database is not in WAL mode: readers and the writer keep each other waiting, so "+
			"slices are kept short", "PRAGMA journal_mode = wal;")
	} else {
		add(source.Good, "", "the database is in WAL mode: reading does not keep writers waiting", "")
	}
	tables, err := s.Tables(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		for _, o := range t.Obstacles {
			add(source.Refused, t.Name, o, "")
		}
		for _, n := range t.Notes {
			add(source.Note, t.Name, n, "")
		}
		if len(t.Obstacles) == 0 && len(t.Key) == 0 {
			add(source.Refused, t.Name, "it has no primary key and no unique key without NULLs, so no row can be "+
				"told from another", "add a primary key")
		}
	}
	return r, nil
}
