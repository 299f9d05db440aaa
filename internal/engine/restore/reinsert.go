package restore

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"ambercellar/internal/archive/export"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
)

// reinsertBefore finds out which of the rows that are there already an earlier try of this restore has put back: they
// count as restored. What they held was compared with the archive in the transaction that put them back.
func (q *restoration) reinsertBefore(ctx context.Context, src source.Source, request source.RestoreRequest,
	out *source.RestoreOutcome) error {
	t, columns, rows, digests := request.Table, request.Columns, request.Rows, request.Digests
	if t.ByAddress() { // a mark tells that some restore put the row back, not which one
		return &refuse.Error{Message: "the service stopped while this restore was going on, and the table has no key",
			Remedy: "rows that were put back stay and are recorded; request it again, and they are skipped"}
	}
	at := make([]int, len(t.Key))
	for i, k := range t.Key {
		_, column := t.Column(k)
		at[i] = slices.Index(columns, column)
	}
	var keys [][]value.Value
	places := map[string]int{}
	for i := range rows.Rows() {
		if !out.Present[i] {
			continue
		}
		key := make([]value.Value, len(at))
		for j, c := range at {
			key[j] = rows.Row(i)[c]
		}
		keys, places[shelf.Canonical(key)] = append(keys, key), i
	}
	return src.Related(ctx, source.Query{Selection: source.Selection{Table: t}, On: t.Key, Values: keys,
		Restored: q.restore.ID}, func(key []value.Value) error {
		if i, ok := places[shelf.Canonical(key)]; ok {
			q.restore.Restored++
			q.restore.Skipped--
			q.expect.Add(digests[i])
		}
		return nil
	})
}

// ReplacedFile is the name of the file, among those of restores, with the rows that a restore replaced, as they were.
func ReplacedFile(restore string) string { return restore + "-replaced.ndjson" }

// replacedRows is the file of the rows that a restore replaces: newline-delimited JSON that is only ever appended to
// and complete at every moment. A row stands there before it is replaced, and once, however often its transaction is
// tried.
type replacedRows struct {
	out  *export.File
	seen *search.SeenKeys // lines
	rows int64
}

// openReplaced opens the file of a restore, and learns what earlier tries have written. A line that a kill has cut is
// taken away: its row was not replaced, since that waits for the line.
func (q *restoration) openReplaced(ctx context.Context) (*replacedRows, error) {
	if err := os.MkdirAll(q.directory, 0o700); err != nil {
		return nil, err
	}
	path := filepath.Join(q.directory, ReplacedFile(q.restore.ID))
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the file for what is replaced cannot be made: %w", err)
	}
	x := &replacedRows{out: &export.File{Path: path, Format: "ndjson", File: f, Out: bufio.NewWriterSize(f, 256<<10)}}
	if x.seen, err = search.OpenSeen(q.directory); err == nil {
		err = x.learn(ctx)
	}
	if err == nil {
		err = syncDirectory(q.directory)
	}
	if err != nil {
		x.close()
		return nil, err
	}
	return x, nil
}

// learn reads the lines that are there.
func (x *replacedRows) learn(ctx context.Context) error {
	whole := int64(0)
	for in := bufio.NewReaderSize(x.out.File, 256<<10); ; {
		line, err := in.ReadBytes('\n')
		if err == io.EOF {
			return x.out.File.Truncate(whole)
		} else if err != nil {
			return err
		}
		whole += int64(len(line))
		if _, err := x.seen.Put(ctx, line); err != nil {
			return err
		}
		x.rows++
	}
}

// add writes rows of a table that are not there yet.
func (x *replacedRows) add(ctx context.Context, t *shape.Table, columns []int, rows *value.Chunk) error {
	x.out.Columns = due.ColumnsAt(t, columns)
	for i := range rows.Rows() {
		line := x.out.JsonLine(rows.Row(i))
		fresh, err := x.seen.Put(ctx, line)
		if err == nil && fresh {
			x.rows++
			_, err = x.out.Out.Write(line)
		}
		if err != nil {
			return err
		}
	}
	return x.out.Sync()
}

func (x *replacedRows) close() {
	x.out.File.Close() // each row was synced before it was replaced
	if x.seen != nil {
		x.seen.Close()
	}
}

// keepReplaced keeps rows that restored ones are about to replace in a file, durably, before they are.
func (q *restoration) keepReplaced(ctx context.Context, t *shape.Table, columns []int,
	there *value.Chunk) (err error) {
	q.books.Lock()
	defer q.books.Unlock()
	if q.replaced == nil {
		if q.replaced, err = q.openReplaced(ctx); err != nil {
			return err
		}
	}
	return q.replaced.add(ctx, t, columns, there)
}

func syncDirectory(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
