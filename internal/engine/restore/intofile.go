package restore

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	_ "modernc.org/sqlite" // the driver "sqlite", for the set of keys seen

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/export"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/search"
)

// intoFile writes rows to a file of the restore's format and counts it afterwards.
func (q *restoration) intoFile(directory string, several bool) (err error) {
	name := fmt.Sprintf("%s.%s", q.restore.ID, q.restore.Format)
	if err := os.MkdirAll(directory, 0o700); err != nil {
		return err
	}
	q.restore.File = name
	w, err := export.New(filepath.Join(directory, name), q.restore.Format)
	if err != nil {
		return err
	}
	if several {
		if q.seen, err = search.OpenSeen(directory); err != nil {
			return err
		}
	}
	q.deliver = func(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest,
		_ []int) error {
		q.books.Lock() // the next segment is being taken up meanwhile
		defer q.books.Unlock()
		keep, kept, err := q.newest(ctx, m, rows, digests)
		if err != nil {
			return err
		}
		for _, d := range kept {
			q.expect.Add(d)
		}
		if err := w.Write(m, keep); err != nil {
			var mixed *export.MixedError
			if errors.As(err, &mixed) {
				return &refuse.Error{Message: mixed.Error(), Remedy: "restore its run or segment to a file of its own"}
			}
			return err
		}
		return q.counted(ctx, int64(rows.Rows()), int64(keep.Rows()), int64(rows.Rows()-keep.Rows()))
	}
	q.finish = func(context.Context) (err error) {
		q.restore.FileBytes, err = w.Close(q.restore.Restored, q.expect)
		if errors.Is(err, export.ErrDiffers) {
			return fmt.Errorf("%w: %w", refuse.ErrBooks, err)
		}
		return err
	}
	return nil
}

// newest leaves out rows of which a newer version went to the file before.
func (q *restoration) newest(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest) (
	*value.Chunk, []value.Digest, error) {
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
	first, err := q.seen.Add(ctx, rows, positions)
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
