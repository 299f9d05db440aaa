package bykey

import (
	"context"
	"database/sql"
	"time"

	"ambercellar/internal/source"
)

// The journal of engines whose placeholders are question marks.

// Queries is a connection, or a pool of them.
type Queries interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// JournalOf reads the journal of a run, of one segment where that is not negative. columns begins the query, as
// source.ScanJournalRow reads it.
func JournalOf(ctx context.Context, db Queries, columns, run string, segment int) (out []source.JournalRow, err error) {
	rows, err := db.QueryContext(ctx, columns+
		"WHERE run = ? AND (? < 0 OR segment = ?) ORDER BY segment, batch", run, segment, segment)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		r, err := source.ScanJournalRow(rows.Scan)
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
	}
	return out, rows.Err()
}

// InsertJournalRow notes a batch, of which nothing is deleted yet.
func InsertJournalRow(ctx context.Context, db Queries, table string, r *source.JournalRow) error {
	_, err := db.ExecContext(ctx, "INSERT INTO ambercellar_batch VALUES (?, ?, ?, ?, ?, ?, ?, 0, '', '', ?, ?, ?)",
		r.Run, r.Segment, r.Batch, table, r.Retry, r.Rows, r.Found.String(), r.First, r.Last,
		r.At.Format(time.RFC3339Nano))
	return err
}

// UpdateJournalRow notes what was deleted of a batch.
func UpdateJournalRow(ctx context.Context, db Queries, r *source.JournalRow) error {
	_, err := db.ExecContext(ctx, "UPDATE ambercellar_batch SET deleted = ?, digest = ?, left_out = ? WHERE run = ? "+
		"AND segment = ? AND batch = ?", r.Deleted, r.Digest.String(), r.LeftOut(), r.Run, r.Segment, r.Batch)
	return err
}
