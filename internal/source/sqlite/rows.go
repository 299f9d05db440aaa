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
	"ambercellar/internal/source/bykey"
)

// expressions selects columns so that their values come by storage class.
func expressions(t *shape.Table, prefix string, columns []int) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = "+" + prefix + quote(t.At(c).Name)
	}
	return strings.Join(out, ", ")
}

// ReadSlice reads one slice in order of (age, key).
func (s *Source) ReadSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	d := newDialect(req.Selection, "t.")
	query, err := s.sliceQuery(ctx, req, d)
	if err != nil {
		return nil, err
	}
	query, args := d.Finish(query, nil)
	conn, err := s.read.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	slice := bykey.NewSlicer(req, func(v driver.Value, _ int, keep func([]byte) []byte) (value.Value, error) {
		return toValue(v, keep)
	}, sink)
	err = eachRow(ctx, conn, query, args, slice.Row)
	full := errors.Is(err, bykey.ErrFull)
	if err != nil && !full {
		return nil, err
	}
	if err := unaltered(ctx, conn, req.Table); err != nil {
		return nil, err
	}
	return slice.End(full)
}

// sliceQuery reads a slice: the columns, then age and key.
func (s *Source) sliceQuery(ctx context.Context, req source.SliceRequest, d *dialect) (string, error) {
	t := req.Table
	where, err := s.leaves(ctx, req.Selection, d)
	if err != nil {
		return "", err
	}
	order, position := d.column()+", "+quoteAll("t.", t.Key), req.After
	if req.Empties() {
		order, position = quoteAll("t.", t.Key), req.After[min(1, len(req.After)):]
	}
	if req.After != nil {
		after, err := fromValues(position)
		if err != nil {
			return "", err
		}
		bounds := make([]string, len(after))
		for i, v := range after {
			bounds[i] = d.Bind(v)
		}
		where += " AND (" + order + ") > (" + strings.Join(bounds, ", ") + ")"
	}
	list := "+" + d.column() + ", " + expressions(t, "t.", t.KeyPositions())
	for _, r := range slices.Backward(req.Include) {
		list = "+" + d.name(r) + ", " + list
	}
	if len(req.Columns) > 0 {
		list = expressions(t, "t.", req.Columns) + ", " + list
	}
	return fmt.Sprintf("SELECT %s FROM %s t WHERE %s ORDER BY %s LIMIT %d", list, quote(t.Name), where, order,
		req.MaxRows), nil
}

// Locate needs only the keys: the content is compared when a batch deletes.
func (s *Source) Locate(_ context.Context, sel source.Selection, keys [][]value.Value,
	_ []value.Digest) (source.Locators, error) {
	return bykey.Of(sel.Table, keys), nil
}

// maxBound is how many values one statement binds at the most; SQLite's own limit is 32,766.
const maxBound = 4000

// among is a query on the rows whose columns, the key's mostly, have one of some values: the text before the condition
// that they do, and the text after it.
type among struct {
	*dialect
	columns       []string
	before, after string
}

// each runs the query once for each group of values.
func (q among) each(ctx context.Context, conn *sql.Conn, keys [][]value.Value, fn func([]driver.Value) error) error {
	d, columns := q.dialect, q.columns
	group := max(maxBound/len(columns), 1)
	one := "(?" + strings.Repeat(", ?", len(columns)-1) + ")"
	for len(keys) > 0 {
		condition, bound := "", []any(nil)
		n, apart := bykey.Consecutive(keys)
		if n > 0 && d.ranges {
			condition, bound = quote(columns[0])+" BETWEEN ? AND ?", []any{keys[0][0].N, keys[n-1][0].N}
		} else {
			if n = min(group, len(keys)); apart > 0 && d.ranges {
				n = min(n, apart)
			}
			bound = make([]any, 0, n*len(columns))
			for _, k := range keys[:n] {
				vs, err := fromValues(k)
				if err != nil {
					return err
				}
				bound = append(bound, vs...)
			}
			condition = "(" + quoteAll("", columns) + ") IN (VALUES " + one + strings.Repeat(", "+one, n-1) + ")"
		}
		first, args := d.Finish(q.before, nil)
		last, rest := d.Finish(q.after, nil)
		args = append(append(args, bound...), rest...)
		if err := eachRow(ctx, conn, first+condition+last, args, fn); err != nil {
			return err
		}
		keys = keys[n:]
	}
	return nil
}

// DeleteBatch deletes the rows of a batch under the write lock. The delete returns the rows' content; if any is not
// what was read, the delete is taken back and done again without them.
func (s *Source) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	out := source.NewJournalRow(b)
	var earlier *source.JournalRow
	err := s.immediate(ctx, func(conn *sql.Conn) error {
		if err := keepPages(ctx, conn, b); err != nil {
			return err
		}
		if err := checkLease(ctx, conn, b.Lease); err != nil {
			return err
		}
		if err := bykey.InsertJournalRow(ctx, conn, b.Table.Name, out); duplicate(err) {
			earlier, err = journalRow(ctx, conn, b.Lease.Run, b.Segment, b.Number)
			return err
		} else if err != nil {
			return err
		}
		if err := s.deleteUnchanged(ctx, conn, b, out); err != nil {
			return err
		}
		if err := unaltered(ctx, conn, b.Table); err != nil {
			return err
		}
		return bykey.UpdateJournalRow(ctx, conn, out)
	})
	if err != nil {
		return nil, err
	}
	if earlier != nil { // an earlier try was committed and its answer got lost
		return earlier, nil
	}
	return out, nil
}

// wideRow is how many bytes rows may have, on average, for pages to be kept: those of wide rows hold nothing but their
// content, and never serve again.
const wideRow = 64 << 10

// keepPages sets how many pages the writing connection keeps.
func keepPages(ctx context.Context, conn *sql.Conn, b source.Batch) error {
	n := cacheKiB
	if b.Bytes > wideRow*int64(len(b.Ordinals)) {
		n = 2 << 10
	}
	_, err := conn.ExecContext(ctx, fmt.Sprintf("PRAGMA cache_size = -%d", n))
	return err
}

// deleteQuery and deleteTail are what stands before and behind the keys of a batch's delete.
func deleteQuery(sel source.Selection, _ *dialect) string {
	return "DELETE FROM " + quote(sel.Table.Name) + " AS t WHERE "
}

func deleteTail(sel source.Selection, columns []int, d *dialect) string {
	return sel.Unheld(d) + " RETURNING " + expressions(sel.Table, "",
		append(append([]int{}, columns...), sel.Table.KeyPositions()...))
}

func (s *Source) deleteUnchanged(ctx context.Context, conn *sql.Conn, b source.Batch, out *source.JournalRow) error {
	t := b.Table
	exec := func(ctx context.Context, statement string) error {
		_, err := conn.ExecContext(ctx, statement)
		return err
	}
	query := func(before, after string, d *dialect) func(context.Context, [][]value.Value, bykey.Rower) error {
		return func(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
			return among{d, t.Key, before, after}.each(ctx, conn, keys, rower(report))
		}
	}
	d := newDialect(b.Selection, "t.")
	ranged := newDialect(b.Selection, "t.")
	ranged.ranges = true
	content := "SELECT " + expressions(t, "t.", append(append([]int{}, b.Columns...), t.KeyPositions()...)) +
		" FROM " + quote(t.Name) + " t WHERE "
	remove := query(deleteQuery(b.Selection, ranged), deleteTail(b.Selection, b.Columns, ranged), ranged)
	ops := bykey.Operations{
		Delete: func(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
			if err := exec(ctx, "SAVEPOINT unchanged"); err != nil {
				return err
			}
			return remove(ctx, keys, report)
		},
		Undo: func(ctx context.Context) error {
			if err := exec(ctx, "ROLLBACK TO unchanged"); err != nil {
				return err
			}
			return exec(ctx, "RELEASE unchanged")
		},
		List: func() { ranged.ranges = false },
		Read: query(content, "", d),
	}
	if held := b.Held(d); held != "" {
		ops.Held = query(content, " AND "+held, d)
	}
	return bykey.Delete(ctx, b, ops, out)
}

// rower hands rows on as values.
func rower(report bykey.Rower) func([]driver.Value) error {
	var row []value.Value
	return func(raw []driver.Value) error {
		row = row[:0]
		for _, v := range raw {
			x, err := toValue(v, func(b []byte) []byte { return b })
			if err != nil {
				return err
			}
			row = append(row, x)
		}
		return report(row)
	}
}

// Restore puts rows back and reads them again from the table to compute their digest.
func (s *Source) Restore(ctx context.Context, req source.RestoreRequest) (*source.RestoreOutcome, error) {
	t := req.Table
	if t.ByAddress() {
		return s.restoreKeyless(ctx, req)
	}
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
		record, err := conn.PrepareContext(ctx, "INSERT OR REPLACE INTO "+quote(restoredTable(t))+" VALUES (?"+
			strings.Repeat(", ?", len(t.Key))+")")
		if err != nil {
			return err
		}
		defer record.Close()
		var keys [][]value.Value
		ordinals := map[string]int{}
		read := &bykey.Reader{Columns: len(req.Columns)}
		for i := range req.Rows.Rows() {
			row := req.Rows.Row(i)
			inserted, err := insertRow(ctx, insert, t, req.Columns, row)
			if err == nil && !inserted && req.Replace != nil {
				inserted, err = replaceRow(ctx, conn, req, row, req.Digests[i])
				if inserted {
					out.Replaced++
				}
			}
			if err != nil {
				return fmt.Errorf("table %s: a row cannot be put back: %w", t.Name, err)
			}
			if out.Present[i] = !inserted; !inserted {
				out.Skipped++
				continue
			}
			key := bykey.KeyOf(t, req.Columns, row)
			bound, err := fromValues(key)
			if err != nil {
				return err
			}
			if _, err := record.ExecContext(ctx, append([]any{req.Restore}, bound...)...); err != nil {
				return err
			}
			keys = append(keys, key)
			ordinals[read.Key(key)] = i
			out.Inserted++
		}
		query := "SELECT " + expressions(t, "t.", append(append([]int{}, req.Columns...), t.KeyPositions()...)) +
			" FROM " + quote(t.Name) + " t WHERE "
		return among{newDialect(source.Selection{Table: t}, "t."), t.Key, query, ""}.each(ctx, conn, keys,
			func(raw []driver.Value) error {
				row := make([]value.Value, len(raw))
				for i, v := range raw {
					var err error
					if row[i], err = toValue(v, func(b []byte) []byte { return b }); err != nil {
						return err
					}
				}
				d, key := read.Row(row)
				if d != req.Digests[ordinals[key]] {
					return fmt.Errorf("table %s: %w", t.Name, source.ErrAltered)
				}
				out.Digest.Add(d)
				return nil
			})
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// replaceRow gives the row that is there under the key of another the restored values, unless it has them; that of the
// key, and what the database computes, stay. It says whether it did.
func replaceRow(ctx context.Context, conn *sql.Conn, req source.RestoreRequest, row []value.Value,
	digest value.Digest) (bool, error) {
	t := req.Table
	key := bykey.KeyOf(t, req.Columns, row)
	there := &value.Chunk{Width: len(req.Columns)}
	query := "SELECT " + expressions(t, "t.", req.Columns) + " FROM " + quote(t.Name) + " t WHERE "
	err := among{newDialect(source.Selection{Table: t}, "t."), t.Key, query, ""}.each(ctx, conn, [][]value.Value{key},
		func(raw []driver.Value) error {
			for _, v := range raw {
				x, err := toValue(v, there.Keep)
				if err != nil {
					return err
				}
				there.Values = append(there.Values, x)
			}
			return nil
		})
	var hasher value.Hasher
	if err != nil || there.Rows() != 1 || hasher.Row(there.Row(0)) == digest {
		return false, err
	}
	if err := req.Replace(there); err != nil {
		return false, err
	}
	var sets []string
	var values []value.Value
	for j, v := range row {
		if c := t.Columns[req.Columns[j]]; !c.Generated && !slices.Contains(t.Key, c.Name) {
			sets, values = append(sets, quote(c.Name)+" = ?"), append(values, v)
		}
	}
	if len(sets) == 0 {
		return true, nil
	}
	on := make([]string, len(key))
	for i := range key {
		on[i] = quote(t.Key[i]) + " = ?"
	}
	args, err := fromValues(append(values, key...))
	if err != nil {
		return false, err
	}
	_, err = conn.ExecContext(ctx, fmt.Sprintf("UPDATE OR ABORT %s SET %s WHERE %s", quote(t.Name),
		strings.Join(sets, ", "), strings.Join(on, " AND ")), args...)
	return true, err
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
	skip := ""
	if !t.ByAddress() {
		skip = " ON CONFLICT (" + quoteAll("", t.Key) + ") DO NOTHING"
	}
	return fmt.Sprintf("INSERT OR ABORT INTO %s (%s) VALUES (?%s)%s", quote(t.Name), quoteAll("", names),
		strings.Repeat(", ?", len(names)-1), skip)
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

// MakeTable makes a table without what computes or checks values: rows come as they were.
func (s *Source) MakeTable(ctx context.Context, name string, columns []shape.Column, key []string) error {
	parts := make([]string, len(columns), len(columns)+1)
	for i, c := range columns {
		if err := shape.CheckType(c.Type); err != nil {
			return fmt.Errorf("column %q: %w", c.Name, err)
		}
		parts[i] = quote(c.Name) + " " + c.Type
	}
	if len(key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+quoteAll("", key)+")")
	}
	return s.immediate(ctx, func(conn *sql.Conn) error {
		_, err := conn.ExecContext(ctx, fmt.Sprintf("CREATE TABLE %s (%s)", quote(name), strings.Join(parts, ", ")))
		return err
	})
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
	_, err := conn.ExecContext(ctx, fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (%s, PRIMARY KEY (%s))",
		quote(restoredTable(t)), strings.Join(columns, ", "), strings.Join(keys, ", ")))
	return err
}
