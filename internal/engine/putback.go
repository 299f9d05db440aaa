package engine

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// putBackBefore finds out which of the rows that are there already an earlier try of this restore has put back: they count as
// restored. What they held was compared with the archive in the transaction that put them back.
func (q *restoration) putBackBefore(ctx context.Context, src source.Source, t *shape.Table, columns []int, rows *value.Chunk, digests []value.Digest, out *source.RestoreOutcome) error {
	if t.ByAddress() { // a mark tells that some restore put the row back, not which one
		return &RefusedError{Message: "the service stopped while this restore was going on, and the table has no key", Remedy: "rows that were put back stay and are recorded; request it again, and they are skipped"}
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
		keys, places[canonical(key)] = append(keys, key), i
	}
	return src.Related(ctx, source.Query{Selection: source.Selection{Table: t}, On: t.Key, Values: keys, Restored: q.restore.ID}, func(key []value.Value) error {
		if i, ok := places[canonical(key)]; ok {
			q.restore.Restored++
			q.restore.Skipped--
			q.expect.Add(digests[i])
		}
		return nil
	})
}

// ReplacedFile is the name of the file, among those of restores, with the rows that a restore replaced, as they were.
func ReplacedFile(restore string) string { return restore + "-replaced.ndjson" }

// keepReplaced keeps rows that restored ones are about to replace in a file, durably, before they are.
func (q *restoration) keepReplaced(t *shape.Table, columns []int, there *value.Chunk) (err error) {
	q.books.Lock()
	defer q.books.Unlock()
	if q.replaced == nil {
		if err := os.MkdirAll(q.directory, 0o750); err != nil {
			return err
		}
		if q.replaced, err = appendExport(filepath.Join(q.directory, ReplacedFile(q.restore.ID)), q.again); err != nil {
			return err
		}
	}
	q.replaced.columns = columnsAt(t, columns)
	for i := range there.Rows() {
		q.replaced.jsonRow(there.Row(i))
	}
	return q.replaced.sync()
}
