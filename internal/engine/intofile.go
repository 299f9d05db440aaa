package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/oklog/ulid/v2"
	_ "modernc.org/sqlite" // the driver "sqlite", for the set of keys seen

	"ambercellar/internal/archive"
	"ambercellar/internal/core/value"
)

// intoFile writes rows to a file of the restore's format and counts it afterwards.
func (q *restoration) intoFile(directory string, several bool) (err error) {
	name := fmt.Sprintf("%s.%s", q.restore.ID, q.restore.Format)
	if err := os.MkdirAll(directory, 0o700); err != nil {
		return err
	}
	q.restore.File = name
	w, err := newExport(filepath.Join(directory, name), q.restore.Format)
	if err != nil {
		return err
	}
	if several {
		if q.seen, err = openSeen(directory); err != nil {
			return err
		}
	}
	q.deliver = func(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest, _ []int) error {
		q.books.Lock() // the next segment is being taken up meanwhile
		defer q.books.Unlock()
		keep, kept, err := q.newest(ctx, m, rows, digests)
		if err != nil {
			return err
		}
		for _, d := range kept {
			q.expect.Add(d)
		}
		if err := w.write(m, keep); err != nil {
			return err
		}
		return q.counted(ctx, int64(rows.Rows()), int64(keep.Rows()), int64(rows.Rows()-keep.Rows()))
	}
	q.finish = func(context.Context) (err error) {
		q.restore.FileBytes, err = w.close(q.restore.Restored, q.expect)
		return err
	}
	return nil
}

// newest leaves out rows of which a newer version went to the file before.
func (q *restoration) newest(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest) (*value.Chunk, []value.Digest, error) {
	if q.seen == nil || len(m.Key) == 0 { // without a key each row is one of its own
		return rows, digests, nil
	}
	var positions []int
	for _, k := range m.Key {
		for i, c := range m.Columns {
			if c.Name == k {
				positions = append(positions, i)
			}
		}
	}
	first, err := q.seen.add(ctx, rows, positions)
	if err != nil {
		return nil, nil, err
	}
	out := &value.Chunk{Width: rows.Width}
	var kept []value.Digest
	for i, ok := range first {
		if ok {
			out.Values = append(out.Values, rows.Row(i)...)
			kept = append(kept, digests[i])
		}
	}
	return out, kept, nil
}

// seenKeys remembers which keys have been written, on disk, so that memory does not grow with the restore.
type seenKeys struct {
	db   *sql.DB
	path string
}

func openSeen(directory string) (*seenKeys, error) {
	path := filepath.Join(directory, "seen-"+ulid.Make().String()+".db")
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(off)&_pragma=synchronous(off)")
	if err == nil {
		_, err = db.Exec("CREATE TABLE seen (k BLOB PRIMARY KEY, d BLOB, meant INTEGER) WITHOUT ROWID")
	}
	return &seenKeys{db: db, path: path}, err
}

// add remembers the keys of rows and says which are new.
func (s *seenKeys) add(ctx context.Context, rows *value.Chunk, positions []int) ([]bool, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	insert, err := tx.PrepareContext(ctx, "INSERT INTO seen (k) VALUES (?) ON CONFLICT DO NOTHING")
	if err != nil {
		return nil, err
	}
	out := make([]bool, rows.Rows())
	var key []byte
	for i := range out {
		key = key[:0]
		for _, p := range positions {
			key = rows.Row(i)[p].AppendCanonical(key)
		}
		sum := sha256.Sum256(key)
		res, err := insert.ExecContext(ctx, sum[:16])
		if err != nil {
			return nil, err
		}
		n, err := res.RowsAffected()
		if err != nil {
			return nil, err
		}
		out[i] = n == 1
	}
	return out, tx.Commit()
}

// put remembers one text and says whether it is new.
func (s *seenKeys) put(ctx context.Context, text []byte) (bool, error) {
	sum := sha256.Sum256(text)
	res, err := s.db.ExecContext(ctx, "INSERT INTO seen (k) VALUES (?) ON CONFLICT DO NOTHING", sum[:16])
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// version is a row of one segment: its key, what it holds, and whether it is one of those that are asked for.
type version struct {
	key    []byte
	digest value.Digest
	meant  bool
}

// older remembers versions of rows, the newest first, and says which of them do not count: a newer one is asked for too, or holds
// something else.
func (s *seenKeys) older(ctx context.Context, list []version) ([]bool, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	look, err := tx.PrepareContext(ctx, "SELECT d, meant FROM seen WHERE k = ?")
	if err != nil {
		return nil, err
	}
	keep, err := tx.PrepareContext(ctx, "INSERT OR REPLACE INTO seen VALUES (?, ?, ?)")
	if err != nil {
		return nil, err
	}
	out := make([]bool, len(list))
	for i, v := range list {
		sum := sha256.Sum256(v.key)
		var newer []byte
		var meant bool
		err := look.QueryRowContext(ctx, sum[:16]).Scan(&newer, &meant)
		switch {
		case err == nil:
			out[i] = meant || !bytes.Equal(newer, v.digest[:])
		case !errors.Is(err, sql.ErrNoRows):
			return nil, err
		}
		if errors.Is(err, sql.ErrNoRows) || !out[i] && v.meant {
			if _, err := keep.ExecContext(ctx, sum[:16], v.digest[:], v.meant); err != nil {
				return nil, err
			}
		}
	}
	return out, tx.Commit()
}

func (s *seenKeys) close() {
	s.db.Close()
	os.Remove(s.path)
}
