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
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/search"
)

// fileTarget writes rows to a file of the restore's format.
type fileTarget struct {
	*restoration
	file *export.File
}

// openFile begins the file. several says that the rows come from more than one segment.
func (q *restoration) openFile(directory string, several bool) (target, error) {
	q.restore.File = ExportedFile(q.restore)
	if err := os.MkdirAll(directory, 0o700); err != nil {
		return nil, err
	}
	w, err := export.New(filepath.Join(directory, q.restore.File), q.restore.Format)
	if err != nil {
		return nil, err
	}
	if several {
		if q.seen, err = search.OpenSeen(directory); err != nil {
			return nil, err
		}
	}
	return &fileTarget{q, w}, nil
}

func (x *fileTarget) deliver(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest,
	_ []int) error {
	x.books.Lock() // the next segment is being taken up meanwhile
	defer x.books.Unlock()
	keep, kept, err := x.newest(ctx, m, rows, digests)
	if err != nil {
		return err
	}
	for _, d := range kept {
		x.expect.Add(d)
	}
	if err := x.file.Write(m, keep); err != nil {
		var mixed *export.MixedError
		if errors.As(err, &mixed) {
			return &refuse.Error{Message: mixed.Error(), Remedy: "restore its run or segment to a file of its own"}
		}
		return err
	}
	return x.counted(ctx, int64(rows.Rows()), int64(keep.Rows()), int64(rows.Rows()-keep.Rows()))
}

// finish reads the file back and counts it.
func (x *fileTarget) finish(context.Context) (err error) {
	x.restore.FileBytes, err = x.file.Close(x.restore.Restored, x.expect)
	if errors.Is(err, export.ErrDiffers) {
		return fmt.Errorf("%w: %w", refuse.ErrBooks, err)
	}
	return err
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

// ExportedFile is the name of the file that an export writes.
func ExportedFile(r *catalog.Restore) string { return r.ID + "." + r.Format }
