package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// expressions lists columns as their values are read.
func expressions(t *shape.Table, prefix string, columns []int) string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = readable(&t.Columns[c], prefix+quote(t.Columns[c].Name))
	}
	return strings.Join(names, ", ")
}

// readable writes an expression of a column's value as decode expects it. The server shows index 0 of an enumeration,
// its error value, as the empty text, which can be a label too; so it is read as a byte that no label has. Their order
// is that of the bytes then, as for text.
func readable(c *shape.Column, name string) string {
	if !enumeration(c) {
		return name
	}
	return fmt.Sprintf("IF(%s + 0 = 0, x'%x', CAST(CONVERT(%s USING utf8mb4) AS BINARY))", name, noLabel, name)
}

// sliceQuery reads a slice: the columns, then age and key. The position is written out column by column, since the
// server reads a comparison of rows as a condition for the whole table.
func (s *Source) sliceQuery(ctx context.Context, req source.SliceRequest, d *dialect) (string, error) {
	where, position, order, err := s.next(ctx, req.Selection, req.After, d, req.AnyOrder)
	if err != nil {
		return "", err
	}
	list := strings.Join(position, ", ")
	for _, r := range slices.Backward(req.Include) {
		list = d.name(r) + ", " + list
	}
	if len(req.Columns) > 0 {
		list = expressions(req.Table, "t.", req.Columns) + ", " + list
	}
	return fmt.Sprintf("SELECT %s FROM %s t WHERE %s ORDER BY %s LIMIT %d", list, from(req.Table), where, order,
		req.MaxRows), nil
}

// next writes the condition of a selection's rows behind a position, the expressions of that (age and key), and their
// order: that of the key alone where the age orders nothing, or is not to, since it is the one in which rows lie.
func (s *Source) next(ctx context.Context, sel source.Selection, after []value.Value, d *dialect,
	anyOrder bool) (where string, position []string, order string, err error) {
	position = []string{d.column()}
	for _, k := range sel.Table.Key {
		column, _ := sel.Table.Column(k)
		position = append(position, readable(column, d.prefix+quote(k)))
	}
	first := 0
	if sel.Empties() || anyOrder {
		first = 1
	}
	if where, err = s.Leaves(ctx, sel, d); err != nil {
		return "", nil, "", err
	}
	if after != nil {
		bound := func(i int) string { return d.place(i, after[i]) }
		last := len(position) - 1
		beyond := fmt.Sprintf("%s > %s", position[last], bound(last))
		for i := last - 1; i >= first; i-- {
			name := position[i]
			beyond = fmt.Sprintf("%s > %s OR %s = %s AND (%s)", name, bound(i), name, bound(i), beyond)
		}
		where += fmt.Sprintf(" AND %s >= %s AND (%s)", position[first], bound(first), beyond)
	}
	return where, position, strings.Join(position[first:], ", "), nil
}

// place writes the value of a position as its expression is compared with it.
func (d *dialect) place(i int, v value.Value) string {
	if !enumeration(positionOf(d.sel)[i]) {
		return typed(d.Bind(encode(v)), v)
	}
	if v.Kind == value.Int {
		v = value.Value{Kind: value.Bytes, B: []byte(noLabel)}
	}
	return "CAST(" + d.Bind(encode(v)) + " AS BINARY)"
}

// positionOf are the columns of a position: age and key.
func positionOf(sel source.Selection) []*shape.Column {
	age, _ := sel.AgeColumn()
	out := []*shape.Column{age}
	for _, k := range sel.Table.KeyPositions() {
		out = append(out, &sel.Table.Columns[k])
	}
	return out
}

// ReadSlice reads one slice in order of (age, key), without locks: as one consistent read, or as one for each spurt.
func (s *Source) ReadSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	shapes := append(slices.Clone(req.Shapes()), positionOf(req.Selection)...)
	slice := bykey.NewSlicer(req, func(v driver.Value, i int, keep func([]byte) []byte) (value.Value, error) {
		return decode(v, shapes[i], keep)
	}, sink)
	err := s.conn(ctx, func(c *sql.Conn) error {
		if err := s.readSpurts(ctx, &statements{conn: c, keeps: req.Spurts != nil}, req, slice); err != nil {
			return err
		}
		return s.unaltered(ctx, c, req.Table)
	})
	full := errors.Is(err, bykey.ErrFull)
	if err != nil && !full {
		return nil, fmt.Errorf("table %s: reading a slice: %w", req.Table.Name, gone(err))
	}
	return slice.End(full)
}

// readSpurts reads the rows of a slice: in one query, or in the request's spurts, each in one of its own.
func (s *Source) readSpurts(ctx context.Context, c *statements, req source.SliceRequest, slice *bykey.Slicer) error {
	defer c.forget()
	for left := req.MaxRows; ; {
		req.MaxRows = min(left, req.Spurts.Rows())
		d := newDialect(req.Selection, "t.")
		query, err := s.sliceQuery(ctx, req, d)
		if err != nil {
			return err
		}
		query, args := d.Finish(query, nil)
		if err := source.Rest(ctx, req.Spurts.Break()); err != nil {
			return err
		}
		before, begun := slice.Rows(), time.Now()
		if err := c.each(ctx, query, args, slice.Row); err != nil {
			return err
		}
		got := slice.Rows() - before
		req.Spurts.Done(got, time.Since(begun))
		if left -= got; left <= 0 || got < req.MaxRows {
			return nil
		}
		req.After = slice.Position()
	}
}

// Locate needs only the keys: the content is compared when a batch deletes.
func (s *Source) Locate(_ context.Context, sel source.Selection, keys [][]value.Value,
	_ []value.Digest) (source.Locators, error) {
	return bykey.Of(sel.Table, keys), nil
}

// maxBound is how many values one statement binds at the most; the server's own limit is 65,535.
const maxBound = 4000

// among writes the condition that the values of columns, behind prefix, are among those given: a row's key, mostly.
// Values of one kind each are listed together: beside a number, the server would compare labels of an enumeration as
// numbers too.
func among(columns []string, prefix string, keys [][]value.Value) (string, []any) {
	args := make([]any, 0, len(keys)*len(columns))
	list := quoteAll(prefix, columns)
	if len(columns) > 1 {
		list = "(" + list + ")"
	}
	kinds := func(k []value.Value) (out string) {
		for _, v := range k {
			out += string(rune('a' + v.Kind))
		}
		return out
	}
	var conditions []string
	for _, kind := range distinct(keys, kinds) {
		var parts []string
		for _, k := range keys {
			if kinds(k) != kind {
				continue
			}
			marks := make([]string, len(k))
			for j, v := range k {
				marks[j] = typed("?", v)
				args = append(args, encode(v))
			}
			part := strings.Join(marks, ", ")
			if len(k) > 1 {
				part = "(" + part + ")"
			}
			parts = append(parts, part)
		}
		conditions = append(conditions, list+" IN ("+strings.Join(parts, ", ")+")")
	}
	if len(conditions) == 1 {
		return conditions[0], args
	}
	return "(" + strings.Join(conditions, " OR ") + ")", args
}

// distinct lists what the keys are, each once.
func distinct(keys [][]value.Value, of func([]value.Value) string) []string {
	var out []string
	for _, k := range keys {
		if x := of(k); !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

// amongKeys is among for a table's key. Consecutive whole numbers are named by their first and last: a column that
// holds them holds nothing in between.
func amongKeys(t *shape.Table, prefix string, keys [][]value.Value) (string, []any) {
	if n, _ := bykey.Consecutive(keys); n > 0 && n == len(keys) {
		return prefix + quote(t.Key[0]) + " BETWEEN ? AND ?", []any{keys[0][0].N, keys[n-1][0].N}
	}
	return among(t.Key, prefix, keys)
}

// batchWork is one delete transaction.
type batchWork struct {
	*Source
	conn *sql.Conn
	b    source.Batch
	skip bool // leave out rows that others have locked
	kept statements
}

// work is what a batch does on a connection.
func (s *Source) work(c *sql.Conn, b source.Batch, skip bool) *batchWork {
	return &batchWork{Source: s, conn: c, b: b, skip: skip, kept: statements{conn: c, keeps: b.Spurts != nil}}
}

// statements runs statements on a connection. Beside others, where a transaction or a piece goes in spurts, it prepares
// what the next spurts repeat but once, and keeps that until forget.
type statements struct {
	conn  *sql.Conn
	keeps bool
	of    map[string]driver.Stmt
}

// mostKept is how many statements are kept at the most.
const mostKept = 8

// each is eachRow.
func (s *statements) each(ctx context.Context, query string, args []any, fn func([]driver.Value) error) error {
	if !s.keeps || s.of[query] == nil && len(s.of) >= mostKept {
		return eachRow(ctx, s.conn, query, args, fn)
	}
	return s.conn.Raw(func(dc any) error {
		if s.of[query] == nil {
			stmt, err := dc.(driver.ConnPrepareContext).PrepareContext(ctx, query)
			if err != nil {
				return err
			}
			if s.of == nil {
				s.of = map[string]driver.Stmt{}
			}
			s.of[query] = stmt
		}
		return rowsOf(ctx, s.of[query], args, fn)
	})
}

// forget closes what is kept.
func (s *statements) forget() {
	if len(s.of) == 0 {
		return
	}
	s.conn.Raw(func(any) error {
		for _, stmt := range s.of {
			stmt.Close() // where that fails the connection is gone, and they with it
		}
		return nil
	})
}

// DeleteBatch deletes the rows of a batch. A plain delete that does not wait for locks goes first; only if it meets
// some is it tried again without the rows that others have locked.
func (s *Source) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	row, err := s.deleteBatch(ctx, b, false)
	if errors.Is(err, source.ErrBusy) && s.skips {
		row, err = s.deleteBatch(ctx, b, true)
	}
	return row, err
}

func (s *Source) deleteBatch(ctx context.Context, b source.Batch, skip bool) (*source.JournalRow, error) {
	out := source.NewJournalRow(b)
	var earlier *source.JournalRow
	flushed, err := s.flushed(ctx, func(c *sql.Conn) error {
		done, err := s.atOnce(ctx, c, skip)
		if err != nil {
			return err
		}
		defer done()
		if err := bykey.InsertJournalRow(ctx, c, b.Table.Name, out); code(err) == duplicate {
			earlier, err = journalRow(ctx, c, b.Lease.Run, b.Segment, b.Number)
			return err
		} else if err != nil {
			return err
		}
		if err := lockLease(ctx, c, b.Lease); err != nil {
			return err
		}
		w := s.work(c, b, skip)
		defer w.kept.forget()
		if err := bykey.Delete(ctx, b, w.operations(), out); err != nil {
			return err
		}
		if err := s.unaltered(ctx, c, b.Table); err != nil {
			return err
		}
		return bykey.UpdateJournalRow(ctx, c, out)
	})
	out.Flushed = flushed
	switch {
	case code(err) == referred: // a row that refers to one of ours came in between
		return nil, fmt.Errorf("table %s: %w: %w", b.Table.Name, source.ErrBusy, err)
	case err != nil && !errors.Is(err, source.ErrLeaseLost) && !errors.Is(err, source.ErrReshaped):
		return nil, fmt.Errorf("table %s: deleting a batch: %w", b.Table.Name, err)
	case err != nil:
		return nil, err
	case earlier != nil: // an earlier try was committed and its answer got lost
		return earlier, nil
	}
	return out, nil
}

// atOnce makes a lock that is not free fail at once, until the function that it returns is called. MySQL waits no less
// than a second, and SKIP LOCKED, where locked rows are left out, fails without any waiting.
func (s *Source) atOnce(ctx context.Context, c *sql.Conn, skip bool) (func(), error) {
	if !s.mariadb || skip {
		return func() {}, nil
	}
	_, err := c.ExecContext(ctx, "SET SESSION innodb_lock_wait_timeout = 0")
	return func() { c.ExecContext(context.WithoutCancel(ctx), "SET SESSION innodb_lock_wait_timeout = 1") }, err
}

func (w *batchWork) operations() bykey.Operations {
	d := newDialect(w.b.Selection, "t.")
	ops := bykey.Operations{
		Delete: func(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
			if err := w.exec(ctx, "SAVEPOINT unchanged"); err != nil {
				return err
			}
			if w.skip {
				var err error
				if keys, err = w.free(ctx, keys); err != nil {
					return err
				}
			}
			if w.returning {
				return w.deleteReturning(ctx, keys, report)
			}
			return w.lockAndDelete(ctx, keys, report)
		},
		Undo: func(ctx context.Context) error { return w.exec(ctx, "ROLLBACK TO SAVEPOINT unchanged") },
		Read: func(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
			return w.read(ctx, keys, d, "", "", report)
		},
	}
	if held := w.b.Held(d); held != "" {
		ops.Held = func(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
			return w.read(ctx, keys, d, " AND "+held, "", report)
		}
	}
	return ops
}

func (w *batchWork) exec(ctx context.Context, statement string, args ...any) error {
	_, err := w.conn.ExecContext(ctx, statement, args...)
	return err
}

// columns of a batch's rows as they are reported: those that the digests cover, and the key.
func (w *batchWork) columns() []int {
	return append(append([]int{}, w.b.Columns...), w.b.Table.KeyPositions()...)
}

// groups calls fn for groups of keys that fit into one statement. Statements that lock take one key each where others
// have locked rows: the optimizer may read a small table as a whole for a list of keys, and would wait for every row.
// Otherwise they go in the batch's spurts, if it has any.
func (w *batchWork) groups(ctx context.Context, locks bool, keys [][]value.Value,
	fn func([][]value.Value) error) error {
	size := max(maxBound/len(w.b.Table.Key), 1)
	if locks && w.skip {
		size = 1
	}
	spurts := w.b.Spurts
	if !locks || w.skip {
		spurts = nil
	}
	for len(keys) > 0 {
		n, before := bykey.Consecutive(keys)
		if n == 0 || size == 1 {
			n = min(size, max(before, 1), len(keys))
		}
		n = min(n, spurts.Rows())
		if err := source.Rest(ctx, spurts.Break()); err != nil {
			return err
		}
		begun := time.Now()
		if err := fn(keys[:n]); err != nil {
			return err
		}
		spurts.Done(n, time.Since(begun))
		keys = keys[n:]
	}
	return source.Rest(ctx, spurts.Break())
}

// reporting hands on rows that hold the batch's columns and key.
func (w *batchWork) reporting(ctx context.Context, query string, args []any, report bykey.Rower) error {
	columns := w.columns()
	row := make([]value.Value, len(columns))
	return w.kept.each(ctx, query, args, func(raw []driver.Value) (err error) {
		for i, v := range raw {
			if row[i], err = decode(v, &w.b.Table.Columns[columns[i]],
				func(b []byte) []byte { return b }); err != nil {
				return err
			}
		}
		return report(row)
	})
}

func (w *batchWork) read(ctx context.Context, keys [][]value.Value, d *dialect, condition, lock string,
	report bykey.Rower) error {
	t := w.b.Table
	condition, more := d.Finish(condition, nil)
	return w.groups(ctx, strings.HasSuffix(lock, "FOR UPDATE"), keys, func(group [][]value.Value) error {
		in, args := amongKeys(t, "t.", group)
		query := "SELECT " + expressions(t, "t.", w.columns()) + " FROM " + quote(t.Name) + " t WHERE " + in +
			condition + lock
		return w.reporting(ctx, query, append(args, more...), report)
	})
}

// free returns the keys of rows that nobody has locked, and locks them.
func (w *batchWork) free(ctx context.Context, keys [][]value.Value) ([][]value.Value, error) {
	there := map[string]bool{}
	read := &bykey.Reader{Columns: len(w.b.Columns)}
	err := w.read(ctx, keys, newDialect(w.b.Selection, "t."), "", " FOR UPDATE SKIP LOCKED",
		func(row []value.Value) error {
			_, key := read.Row(row)
			there[key] = true
			return nil
		})
	var out [][]value.Value
	for _, k := range keys {
		if there[read.Key(k)] {
			out = append(out, k)
		}
	}
	return out, err
}

func (w *batchWork) deleteReturning(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
	t := w.b.Table
	prefix := quote(t.Name) + "."
	d := newDialect(w.b.Selection, prefix)
	condition, more := d.Finish(w.b.Selection.Unheld(d), nil)
	return w.groups(ctx, true, keys, func(group [][]value.Value) error {
		in, args := amongKeys(t, prefix, group)
		return w.reporting(ctx, w.mark()+"DELETE FROM "+quote(t.Name)+" WHERE "+in+condition+" RETURNING "+
			expressions(t, "", w.columns()), append(args, more...), report)
	})
}

// mark is a comment that says whose statement it is, for those who read the binary log: with its rows, that keeps the
// text.
func (w *batchWork) mark() string { return mark(w.b.Lease.Run, w.b.Segment, w.b.Number) }

func mark(run string, segment, batch int) string {
	return fmt.Sprintf("/* ambercellar: run %s, segment %d, batch %d */ ", run, segment, batch)
}

// lockAndDelete is for servers whose delete returns nothing: what is locked and read is what is then deleted.
func (w *batchWork) lockAndDelete(ctx context.Context, keys [][]value.Value, report bykey.Rower) error {
	t := w.b.Table
	d := newDialect(w.b.Selection, "t.")
	var locked [][]value.Value
	err := w.read(ctx, keys, d, w.b.Selection.Unheld(d), " FOR UPDATE", func(row []value.Value) error {
		locked = append(locked, value.CloneRow(row[len(w.b.Columns):]))
		return report(row)
	})
	if err != nil {
		return err
	}
	return w.groups(ctx, true, locked, func(group [][]value.Value) error {
		in, args := amongKeys(t, quote(t.Name)+".", group)
		res, err := w.conn.ExecContext(ctx, w.mark()+"DELETE FROM "+quote(t.Name)+" WHERE "+in, args...)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n != int64(len(group)) {
			return errors.Join(err, fmt.Errorf("%d rows were locked and %d deleted", len(group), n))
		}
		return nil
	})
}
