package search

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"os"
	"path/filepath"

	"github.com/oklog/ulid/v2"
	_ "modernc.org/sqlite" // the driver "sqlite", for the set of keys seen

	"ambercellar/internal/core/value"
)

// SeenKeys remembers which keys have been written, on disk, so that memory does not grow with the restore.
type SeenKeys struct {
	db   *sql.DB
	path string
}

func OpenSeen(directory string) (*SeenKeys, error) {
	path := filepath.Join(directory, "seen-"+ulid.Make().String()+".db")
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(off)&_pragma=synchronous(off)")
	if err == nil {
		_, err = db.Exec("CREATE TABLE seen (k BLOB PRIMARY KEY, d BLOB, meant INTEGER) WITHOUT ROWID")
	}
	return &SeenKeys{db: db, path: path}, err
}

// Add remembers the keys of rows and says which are new.
func (s *SeenKeys) Add(ctx context.Context, rows *value.Chunk, positions []int) ([]bool, error) {
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

// Put remembers one text and says whether it is new.
func (s *SeenKeys) Put(ctx context.Context, text []byte) (bool, error) {
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

// older remembers versions of rows, the newest first, and says which of them do not count: a newer one is asked for
// too, or holds something else.
func (s *SeenKeys) older(ctx context.Context, list []version) ([]bool, error) {
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

func (s *SeenKeys) Close() {
	s.db.Close()
	os.Remove(s.path)
}
