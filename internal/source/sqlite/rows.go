package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// locators holds the keys of a slice's rows: with the digest of the content, that is all that tells a row in SQLite.
type locators struct {
	width int
	keys  []value.Value
}

func (l *locators) Len() int                { return len(l.keys) / l.width }
func (l *locators) key(i int) []value.Value { return l.keys[i*l.width : (i+1)*l.width] }

// expressions selects columns so that their values come by storage class.
func expressions(t *shape.Table, prefix string, columns []int) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = "+" + prefix + quote(t.Columns[c].Name)
	}
	return strings.Join(out, ", ")
}

const chunkRows, chunkBytes = 1024, 1 << 20

// ReadSlice reads one slice in order of (age, key).
func (s *Source) ReadSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice, error) {
	t := req.Table
	_, agePos := t.Column(req.Age.Column)
	position := append([]int{agePos}, t.KeyPositions()...)
	where, args, err := s.selected(ctx, req.Selection, "t.")
	if err != nil {
		return nil, err
	}
	order := "t." + quote(req.Age.Column) + ", " + quoteAll("t.", t.Key)
	if req.After != nil {
		after, err := fromValues(req.After)
		if err != nil {
			return nil, err
		}
		where += " AND (" + order + ") > (?" + strings.Repeat(", ?", len(t.Key)) + ")"
		args = append(args, after...)
	}
	query := fmt.Sprintf("SELECT %s FROM %s t WHERE %s ORDER BY %s LIMIT %d",
		expressions(t, "t.", append(append([]int{}, req.Columns...), position...)), quote(t.Name), where, order, req.MaxRows)
	conn, err := s.read.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()

	out := &source.Slice{}
	keys := &locators{width: len(t.Key)}
	out.Locators = keys
	chunk := &value.Chunk{Width: len(req.Columns)}
	width, bytes, rows := len(req.Columns), int64(0), 0
	var keyArena value.Chunk
	var last []value.Value
	full := errors.New("full")
	flush := func() error {
		if chunk.Rows() == 0 {
			return nil
		}
		defer chunk.Reset()
		return sink(chunk)
	}
	err = eachRow(ctx, conn, query, args, func(row []driver.Value) error {
		before := chunk.Size()
		for _, v := range row[:width] {
			x, err := toValue(v, chunk.Keep)
			if err != nil {
				return err
			}
			chunk.Values = append(chunk.Values, x)
		}
		last = last[:0]
		for i, v := range row[width:] {
			x, err := toValue(v, keyArena.Keep)
			if err != nil {
				return err
			}
			last = append(last, x)
			if i > 0 {
				keys.keys = append(keys.keys, x)
			}
		}
		rows++
		bytes += int64(chunk.Size()-before) + int64(8*width)
		if chunk.Rows() >= chunkRows || chunk.Size() >= chunkBytes {
			if err := flush(); err != nil {
				return err
			}
		}
		if bytes >= req.MaxBytes {
			return full
		}
		return nil
	})
	if err != nil && err != full {
		return nil, err
	}
	if err := flush(); err != nil {
		return nil, err
	}
	out.More = err == full || rows >= req.MaxRows
	if rows > 0 {
		out.Last = value.CloneRow(last)
	}
	return out, nil
}

// Locate needs only the keys: the content is compared when a batch deletes.
func (s *Source) Locate(_ context.Context, sel source.Selection, keys [][]value.Value, _ []value.Digest) (source.Locators, error) {
	l := &locators{width: len(sel.Table.Key)}
	for _, k := range keys {
		l.keys = append(l.keys, value.CloneRow(k)...)
	}
	return l, nil
}

// maxBound is how many values one statement binds at the most; SQLite's own limit is 32,766.
const maxBound = 4000

// inKeys runs a query once for each group of keys: the text before, the condition that the row's key is among them,
// and the text after it.
func inKeys(ctx context.Context, conn *sql.Conn, t *shape.Table, before, after string, keys [][]value.Value, fn func([]driver.Value) error) error {
	group := max(maxBound/len(t.Key), 1)
	one := "(?" + strings.Repeat(", ?", len(t.Key)-1) + ")"
	for len(keys) > 0 {
		n := min(group, len(keys))
		args := make([]any, 0, n*len(t.Key))
		for _, k := range keys[:n] {
			bound, err := fromValues(k)
			if err != nil {
				return err
			}
			args = append(args, bound...)
		}
		condition := "(" + quoteAll("", t.Key) + ") IN (VALUES " + one + strings.Repeat(", "+one, n-1) + ")"
		if err := eachRow(ctx, conn, before+condition+after, args, fn); err != nil {
			return err
		}
		keys = keys[n:]
	}
	return nil
}

// keyed computes, of rows that hold their columns and then their key, the digest and a text that identifies the key.
type keyed struct {
	hasher  value.Hasher
	row     []value.Value
	columns int
	text    []byte
}

func (k *keyed) read(row []driver.Value) (value.Digest, string, error) {
	k.row = k.row[:0]
	for _, v := range row {
		x, err := toValue(v, func(b []byte) []byte { return b })
		if err != nil {
			return value.Digest{}, "", err
		}
		k.row = append(k.row, x)
	}
	return k.hasher.Row(k.row[:k.columns]), k.key(k.row[k.columns:]), nil
}

func (k *keyed) key(vs []value.Value) string {
	k.text = k.text[:0]
	for _, v := range vs {
		k.text = v.AppendCanonical(k.text)
	}
	return string(k.text)
}

// DeleteBatch deletes the rows of a batch under the write lock. The delete returns the rows' content; if any is not
// what was read, the delete is taken back and done again without them.
func (s *Source) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	out := source.NewJournalRow(b)
	var earlier *source.JournalRow
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		if err := checkLease(ctx, conn, b.Lease); err != nil {
			return err
		}
		if err := insertJournalRow(ctx, conn, b, out); duplicate(err) {
			earlier, err = journalRow(ctx, conn, b.Lease.Run, b.Segment, b.Number)
			return err
		} else if err != nil {
			return err
		}
		if err := s.deleteUnchanged(ctx, conn, b, out); err != nil {
			return err
		}
		return updateJournalRow(ctx, conn, out)
	})
	if err != nil {
		return nil, err
	}
	if earlier != nil { // an earlier try was committed and its answer got lost
		return earlier, nil
	}
	return out, nil
}

func (s *Source) deleteUnchanged(ctx context.Context, conn *sql.Conn, b source.Batch, out *source.JournalRow) error {
	t := b.Table
	keys := b.Locators.(*locators)
	read := &keyed{columns: len(b.Columns)}
	ordinals := make(map[string]int, len(b.Ordinals))
	wanted := make([][]value.Value, len(b.Ordinals))
	for i, o := range b.Ordinals {
		wanted[i] = keys.key(o)
		ordinals[read.key(wanted[i])] = o
	}
	content := expressions(t, "t.", append(append([]int{}, b.Columns...), t.KeyPositions()...))
	unreferenced := ""
	for _, r := range referenced(t, "t.") {
		unreferenced += " AND NOT " + r
	}
	returning := " RETURNING " + expressions(t, "", append(append([]int{}, b.Columns...), t.KeyPositions()...))

	changed := map[int]bool{}
	gone := map[int]bool{}
	for {
		if _, err := conn.ExecContext(ctx, "SAVEPOINT unchanged"); err != nil {
			return err
		}
		var digest value.Set
		fresh, strange := 0, false
		clear(gone)
		err := inKeys(ctx, conn, t, "DELETE FROM "+quote(t.Name)+" AS t WHERE ", unreferenced+returning, wanted, func(row []driver.Value) error {
			d, key, err := read.read(row)
			if err != nil {
				return err
			}
			o, ok := ordinals[key]
			if !ok { // its key is another one that the column's collation takes for equal
				strange = true
				return nil
			}
			if d != b.Digests[o] {
				changed[o], fresh = true, fresh+1
				return nil
			}
			gone[o] = true
			digest.Add(d)
			return nil
		})
		if err != nil {
			return err
		}
		if fresh == 0 && !strange {
			out.Deleted, out.Digest = len(gone), digest
			if _, err := conn.ExecContext(ctx, "RELEASE unchanged"); err != nil {
				return err
			}
			break
		}
		if _, err := conn.ExecContext(ctx, "ROLLBACK TO unchanged"); err != nil {
			return err
		}
		wanted = wanted[:0]
		for _, o := range b.Ordinals {
			if !changed[o] {
				wanted = append(wanted, keys.key(o))
			}
		}
		if strange {
			if wanted, err = exactly(ctx, conn, t, wanted); err != nil {
				return err
			}
		}
	}
	return s.explain(ctx, conn, b, out, content, ordinals, gone)
}

// exactly returns those keys that rows of the table have bit by bit, whatever the columns' collation.
func exactly(ctx context.Context, conn *sql.Conn, t *shape.Table, keys [][]value.Value) ([][]value.Value, error) {
	read := &keyed{}
	there := map[string]bool{}
	query := "SELECT " + expressions(t, "t.", t.KeyPositions()) + " FROM " + quote(t.Name) + " t WHERE "
	if err := inKeys(ctx, conn, t, query, "", keys, func(row []driver.Value) error {
		_, key, err := read.read(row)
		there[key] = true
		return err
	}); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(keys, func(k []value.Value) bool { return !there[read.key(k)] }), nil
}

// explain says of each row that was not deleted why it stays.
func (s *Source) explain(ctx context.Context, conn *sql.Conn, b source.Batch, out *source.JournalRow, content string, ordinals map[string]int, gone map[int]bool) error {
	if len(gone) == len(b.Ordinals) {
		return nil
	}
	var left [][]value.Value
	for _, o := range b.Ordinals {
		if !gone[o] {
			left = append(left, b.Locators.(*locators).key(o))
		}
	}
	same := map[int]bool{}
	present := map[int]bool{}
	read := &keyed{columns: len(b.Columns)}
	err := inKeys(ctx, conn, b.Table, "SELECT "+content+" FROM "+quote(b.Table.Name)+" t WHERE ", "", left, func(row []driver.Value) error {
		d, key, err := read.read(row)
		if err != nil {
			return err
		}
		if o, ok := ordinals[key]; ok {
			present[o], same[o] = true, d == b.Digests[o]
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, o := range b.Ordinals {
		switch {
		case gone[o]:
		case !present[o]:
			out.Vanished = append(out.Vanished, o)
		case same[o]: // unchanged, so it is another table that refers to it
			out.Skipped = append(out.Skipped, o)
		default:
			out.Changed = append(out.Changed, o)
		}
	}
	return nil
}

// Restore puts rows back and reads them again from the table to compute their digest.
func (s *Source) Restore(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	t := req.Table
	out := &source.RestoreOutcome{Present: make([]bool, req.Rows.Rows())}
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		if err := makeRestoredTable(ctx, conn, t); err != nil {
			return err
		}
		insert, err := conn.PrepareContext(ctx, insertStatement(t, req.Columns))
		if err != nil {
			return err
		}
		defer insert.Close()
		record, err := conn.PrepareContext(ctx, "INSERT OR REPLACE INTO "+quote(restoredTable(t))+" VALUES (?"+strings.Repeat(", ?", len(t.Key))+")")
		if err != nil {
			return err
		}
		defer record.Close()
		var keys [][]value.Value
		ordinals := map[string]int{}
		read := &keyed{columns: len(req.Columns)}
		for i := range req.Rows.Rows() {
			row := req.Rows.Row(i)
			inserted, err := insertRow(ctx, insert, t, req.Columns, row)
			if err != nil {
				return fmt.Errorf("table %s: a row cannot be put back: %w", t.Name, err)
			}
			if out.Present[i] = !inserted; !inserted {
				out.Skipped++
				continue
			}
			key := keyOf(t, req.Columns, row)
			bound, err := fromValues(key)
			if err != nil {
				return err
			}
			if _, err := record.ExecContext(ctx, append([]any{req.Restore}, bound...)...); err != nil {
				return err
			}
			keys = append(keys, key)
			ordinals[read.key(key)] = i
			out.Inserted++
		}
		query := "SELECT " + expressions(t, "t.", append(append([]int{}, req.Columns...), t.KeyPositions()...)) + " FROM " + quote(t.Name) + " t WHERE "
		return inKeys(ctx, conn, t, query, "", keys, func(row []driver.Value) error {
			d, key, err := read.read(row)
			if err == nil && d != req.Digests[ordinals[key]] {
				err = fmt.Errorf("table %s: %w", t.Name, source.ErrAltered)
			}
			out.Digest.Add(d)
			return err
		})
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func keyOf(t *shape.Table, columns []int, row []value.Value) []value.Value {
	key := make([]value.Value, 0, len(t.Key))
	for _, k := range t.KeyPositions() {
		for i, c := range columns {
			if c == k {
				key = append(key, row[i])
			}
		}
	}
	return key
}

// insertStatement skips a row only for a conflict on the key. OR ABORT overrides conflict clauses of the table's own
// definition, which could otherwise replace or ignore rows in silence.
func insertStatement(t *shape.Table, columns []int) string {
	var names []string
	for _, c := range columns {
		if !t.Columns[c].Generated {
			names = append(names, t.Columns[c].Name)
		}
	}
	return fmt.Sprintf("INSERT OR ABORT INTO %s (%s) VALUES (?%s) ON CONFLICT (%s) DO NOTHING",
		quote(t.Name), quoteAll("", names), strings.Repeat(", ?", len(names)-1), quoteAll("", t.Key))
}

func insertRow(ctx context.Context, insert *sql.Stmt, t *shape.Table, columns []int, row []value.Value) (bool, error) {
	args := make([]any, 0, len(row))
	for i, v := range row {
		if t.Columns[columns[i]].Generated {
			continue
		}
		a, err := fromValue(v)
		if err != nil {
			return false, fmt.Errorf("column %q: %w", t.Columns[columns[i]].Name, err)
		}
		args = append(args, a)
	}
	res, err := insert.ExecContext(ctx, args...)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// makeRestoredTable makes the record of restored rows, with key columns typed like the table's own so that the
// comparison uses the record's index.
func makeRestoredTable(ctx context.Context, conn *sql.Conn, t *shape.Table) error {
	columns := []string{"restore TEXT NOT NULL"}
	keys := make([]string, len(t.Key))
	for i, k := range t.Key {
		c, _ := t.Column(k)
		keys[i] = fmt.Sprintf("k%d", i+1)
		columns = append(columns, keys[i]+" "+c.Type)
	}
	_, err := conn.ExecContext(ctx, fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (%s, PRIMARY KEY (%s))", quote(restoredTable(t)), strings.Join(columns, ", "), strings.Join(keys, ", ")))
	return err
}

// RestoredCount returns how many rows are recorded for a restore.
func (s *Source) RestoredCount(ctx context.Context, t *shape.Table, restore string) (n int64, err error) {
	if found, err := s.restored(ctx, t, ""); err != nil || found == "" {
		return 0, err
	}
	err = s.read.QueryRowContext(ctx, "SELECT count(*) FROM "+quote(restoredTable(t))+" WHERE restore = ?", restore).Scan(&n)
	return n, err
}
