package postgres

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Restore puts rows back. They are copied straight into the table, and only where the key of one is taken does all of
// it happen once more through a temporary table of the same types, with a skip for conflicts on the key alone. In both
// ways what the table then holds is read to compute its digest.
func (s *Source) Restore(ctx context.Context, req source.RestoreRequest) (out *source.RestoreOutcome, err error) {
	if err := s.makeRestored(ctx, req.Table); err != nil {
		return nil, err
	}
	if req.Table.ByAddress() {
		out, err = s.restoring(ctx, req, func(r *restoring) error { return r.keyless(ctx) })
	} else {
		out, err = s.restoring(ctx, req, func(r *restoring) error { return r.copyIn(ctx) })
		if c := code(err); c == uniqueViolation || c == notSupported || errors.Is(err, errStage) {
			out, err = s.restoring(ctx, req, func(r *restoring) error { return r.stageIn(ctx) })
		}
	}
	if err != nil {
		return nil, fmt.Errorf("table %s: rows cannot be put back: %w", req.Table.Name, err)
	}
	return out, nil
}

// makeRestored makes the record of a table's restored rows where there is none, in a transaction of its own: of two
// that make it at the same time, the server fails one.
func (s *Source) makeRestored(ctx context.Context, t *shape.Table) error {
	s.making.Lock()
	defer s.making.Unlock()
	statement := "CREATE TABLE IF NOT EXISTS " + restoredTable(t) +
		" (restore text NOT NULL, segment text, ordinal bigint, PRIMARY KEY (segment, ordinal))"
	if !t.ByAddress() {
		statement = restoredSchema(t)
	}
	create := func() error {
		return s.conn(ctx, func(c *pgxpool.Conn) error { return run(ctx, c.Conn().PgConn(), statement) })
	}
	err := create()
	if code(err) == uniqueViolation { // another service has made it meanwhile
		err = create()
	}
	if err != nil {
		return fmt.Errorf("table %s: the record of restored rows cannot be made: %w", t.Name, err)
	}
	return nil
}

// errStage says that rows do not go straight into the table.
var errStage = errors.New("rows have to go through a temporary table")

// restoring is one try to put rows back, in a transaction of its own.
type restoring struct {
	source.RestoreRequest
	pc  *pgconn.PgConn
	out *source.RestoreOutcome
}

// restoring begins a try and hands it to do.
func (s *Source) restoring(ctx context.Context, req source.RestoreRequest,
	do func(*restoring) error) (*source.RestoreOutcome, error) {
	r := &restoring{RestoreRequest: req, out: &source.RestoreOutcome{Present: make([]bool, req.Rows.Rows())}}
	err := s.transaction(ctx, func(tx pgx.Tx) error {
		r.pc = tx.Conn().PgConn()
		return do(r)
	})
	r.out.Skipped = int64(len(r.out.Present)) - r.out.Inserted
	return r.out, err
}

// copyIn copies rows straight into the table and its record of restored rows.
func (r *restoring) copyIn(ctx context.Context) error {
	t, pc, req := r.Table, r.pc, r.RestoreRequest
	names, _ := insertable(req)
	var rows io.Reader = &copyText{req: req}
	form := ""
	if binaryRows(req) {
		rows, form = &copyBinary{req: req}, " (FORMAT binary)"
	}
	if _, err := pc.CopyFrom(ctx, rows, fmt.Sprintf("COPY %s (%s) FROM STDIN%s", table(t), quoteAll("", names),
		form)); err != nil {
		return err
	}
	at, columns := make([]int, len(t.Key)), make([]*shape.Column, len(t.Key))
	for i, k := range t.Key {
		var column int
		columns[i], column = t.Column(k)
		at[i] = slices.Index(req.Columns, column)
	}
	keys := make([][]value.Value, req.Rows.Rows())
	var marks []byte
	restore := value.OfText(req.Restore)
	for i := range keys {
		keys[i] = make([]value.Value, len(at))
		marks = appendEscaped(marks, restore)
		for j, c := range at {
			keys[i][j] = req.Rows.Row(i)[c]
			marks = appendEscaped(append(marks, '\t'), keys[i][j])
		}
		marks = append(marks, '\n')
	}
	// The planner is not to read the whole table for the rows of one batch.
	if _, err := pc.Exec(ctx, "SET LOCAL enable_seqscan = off; SET LOCAL enable_hashjoin = off; SET LOCAL "+
		"enable_mergejoin = off").ReadAll(); err != nil {
		return err
	}
	arrays, keyNames, on := keyJoin(columns, 1)
	params, types := keyArrays(columns, keys)
	query := fmt.Sprintf("SELECT d.ord, %s FROM unnest(%s) WITH ORDINALITY AS d(%s, ord) JOIN %s t ON %s WHERE "+
		"t.xmin = pg_current_xact_id()::xid",
		strings.Join(expressions(t, req.Columns), ", "), arrays, keyNames, table(t), on)
	if err := r.read(ctx, query, params, types, -1); err != nil {
		return err
	}
	if r.out.Inserted != int64(len(keys)) { // a trigger of the table has kept rows out
		return errStage
	}
	_, err := pc.CopyFrom(ctx, bytes.NewReader(marks), fmt.Sprintf("COPY %s FROM STDIN", restoredTable(t)))
	return err
}

// read reads rows that were put back, each behind its place among them counted from base.
func (r *restoring) read(ctx context.Context, query string, params [][]byte, types []uint32, base int) error {
	req, out := r.RestoreRequest, r.out
	row := make([]value.Value, len(req.Columns))
	var hasher value.Hasher
	var kept []byte
	keep := func(b []byte) []byte {
		from := len(kept)
		kept = append(kept, b...)
		return kept[from:len(kept):len(kept)]
	}
	return eachRow(ctx, r.pc, query, params, types, func(f [][]byte) error {
		i := int(binary.BigEndian.Uint64(f[0])) + base
		kept = kept[:0]
		for j, c := range req.Columns {
			v, err := decode(f[1+j], req.Table.At(c), keep)
			if err != nil {
				return err
			}
			row[j] = v
		}
		d := hasher.Row(row)
		if i < 0 || i >= len(req.Digests) || d != req.Digests[i] {
			return source.ErrAltered
		}
		out.Digest.Add(d)
		out.Present[i] = false
		out.Inserted++
		return nil
	})
}

// stageIn puts rows back through a temporary table.
func (r *restoring) stageIn(ctx context.Context) error {
	t, pc, req := r.Table, r.pc, r.RestoreRequest
	for i := range r.out.Present {
		r.out.Present[i] = true
	}
	names, all := insertable(req)
	on := make([]string, len(t.Key))
	for i, k := range t.Key {
		on[i] = fmt.Sprintf("t.%s = n.%s", quote(k), quote(k))
	}
	joined := fmt.Sprintf("FROM pg_temp.ambercellar_in n JOIN %s t ON %s", table(t), strings.Join(on, " AND "))
	// Rows of this transaction that stand under one of our keys: what has been inserted or replaced, and nothing else.
	ours := joined + " WHERE t.xmin = pg_current_xact_id()::xid"
	if err := run(ctx, pc, fmt.Sprintf(
		"CREATE TEMP TABLE ambercellar_in ON COMMIT DROP AS SELECT 0::bigint AS ambercellar_ord, %s FROM %s WITH "+
			"NO DATA", quoteAll("", all), table(t))); err != nil {
		return err
	}
	if _, err := pc.CopyFrom(ctx, &copyText{req: req, staged: true},
		fmt.Sprintf("COPY pg_temp.ambercellar_in (ambercellar_ord, %s) FROM STDIN", quoteAll("", all))); err != nil {
		return err
	}
	if req.Replace != nil {
		if err := r.replace(ctx, names, joined, strings.Join(on, " AND ")); err != nil {
			return err
		}
	}
	if err := run(ctx, pc, fmt.Sprintf(
		"INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE SELECT %s FROM pg_temp.ambercellar_in ORDER BY "+
			"ambercellar_ord ON CONFLICT (%s) DO NOTHING",
		table(t), quoteAll("", names), quoteAll("", names), quoteAll("", t.Key))); err != nil {
		return err
	}
	query := fmt.Sprintf("SELECT n.ambercellar_ord, %s %s", strings.Join(expressions(t, req.Columns), ", "), ours)
	if err := r.read(ctx, query, nil, nil, 0); err != nil {
		return err
	}
	return run(ctx, pc, fmt.Sprintf(
		"INSERT INTO %s SELECT $1, %s %s ON CONFLICT (%s) DO UPDATE SET restore = excluded.restore",
		restoredTable(t), quoteAll("t.", t.Key), ours, restoredKey(t)), req.Restore)
}

// replace puts the restored rows in the place of those that are there under their keys and are others. Columns that
// the server computes, and those of the key, are left as they are.
func (r *restoring) replace(ctx context.Context, names []string, joined, on string) error {
	t, pc, req := r.Table, r.pc, r.RestoreRequest
	there := &value.Chunk{Width: len(req.Columns)}
	ordinals := newArray(typeInt8, len(req.Digests), 8)
	var hasher value.Hasher
	err := eachRow(ctx, pc, fmt.Sprintf("SELECT n.ambercellar_ord, %s %s FOR UPDATE OF t",
		strings.Join(expressions(t, req.Columns), ", "), joined), nil, nil, func(f [][]byte) error {
		i := binary.BigEndian.Uint64(f[0])
		row := make([]value.Value, len(req.Columns))
		for j, c := range req.Columns {
			v, err := decode(f[1+j], t.At(c), there.Keep)
			if err != nil {
				return err
			}
			row[j] = v
		}
		if hasher.Row(row) == req.Digests[i] {
			return nil
		}
		there.Values = append(there.Values, row...)
		ordinals = appendElement(ordinals, f[0])
		return nil
	})
	if err != nil || there.Rows() == 0 {
		return err
	}
	if err := req.Replace(there); err != nil {
		return err
	}
	r.out.Replaced = int64(there.Rows())
	var sets []string
	for _, n := range names {
		if !slices.Contains(t.Key, n) {
			sets = append(sets, fmt.Sprintf("%s = n.%s", quote(n), quote(n)))
		}
	}
	if len(sets) == 0 {
		return nil
	}
	binary.BigEndian.PutUint32(ordinals[12:], uint32(there.Rows()))
	return eachRow(ctx, pc, fmt.Sprintf(
		"UPDATE %s AS t SET %s FROM pg_temp.ambercellar_in n WHERE %s AND n.ambercellar_ord = ANY($1::bigint[])",
		table(t), strings.Join(sets, ", "), on),
		[][]byte{ordinals}, []uint32{arrayInt8}, func([][]byte) error { return nil })
}

// insertable returns the columns that are written, and all that the rows have.
func insertable(req source.RestoreRequest) (names, all []string) {
	for _, i := range req.Columns {
		c := &req.Table.Columns[i]
		if all = append(all, c.Name); !c.Generated {
			names = append(names, c.Name)
		}
	}
	return names, all
}

func restoredKey(t *shape.Table) string {
	keys := make([]string, len(t.Key))
	for i := range t.Key {
		keys[i] = fmt.Sprintf("k%d", i+1)
	}
	return strings.Join(keys, ", ")
}

// restoredSchema makes the record of restored rows, with key columns of the table's own types.
func restoredSchema(t *shape.Table) string {
	columns := []string{"restore text NOT NULL"}
	for i, k := range t.Key {
		c, _ := t.Column(k)
		columns = append(columns, fmt.Sprintf("k%d %s", i+1, c.Type))
	}
	return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (%s, PRIMARY KEY (%s))", restoredTable(t),
		strings.Join(columns, ", "), restoredKey(t))
}

// copyText writes rows in COPY's text format, as they are asked for: each with its ordinal in front and all of its
// columns, or those alone that can be written.
type copyText struct {
	req    source.RestoreRequest
	staged bool
	next   int
	buf    []byte
	left   []byte // of buf
}

func (c *copyText) Read(p []byte) (n int, err error) {
	for len(c.left) == 0 {
		if c.next >= c.req.Rows.Rows() {
			return 0, io.EOF
		}
		c.buf = c.buf[:0]
		for ; c.next < c.req.Rows.Rows() && len(c.buf) < 64<<10; c.next++ {
			c.row()
		}
		c.left = c.buf
	}
	n = copy(p, c.left)
	c.left = c.left[n:]
	return n, nil
}

func (c *copyText) row() {
	first := true
	if c.staged {
		c.buf, first = strconv.AppendInt(c.buf, int64(c.next), 10), false
	}
	for j, v := range c.req.Rows.Row(c.next) {
		if !c.staged && c.req.Table.Columns[c.req.Columns[j]].Generated {
			continue
		}
		if !first {
			c.buf = append(c.buf, '\t')
		}
		if first = false; v.Kind == value.Null {
			c.buf = append(c.buf, '\\', 'N')
			continue
		}
		c.buf = appendEscaped(c.buf, v)
	}
	c.buf = append(c.buf, '\n')
}

// appendEscaped appends a value as COPY's text format has it.
func appendEscaped(dst []byte, v value.Value) []byte {
	if v.Kind == value.Int {
		return strconv.AppendInt(dst, v.N, 10)
	}
	text := input(v)
	for i := range len(text) {
		switch b := text[i]; b {
		case '\\':
			dst = append(dst, '\\', '\\')
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			dst = append(dst, b)
		}
	}
	return dst
}

// MakeTable makes a table without what computes or checks values: rows come as they were.
func (s *Source) MakeTable(ctx context.Context, name string, columns []shape.Column, key []string) error {
	parts := make([]string, len(columns), len(columns)+1)
	for i, c := range columns {
		if err := shape.CheckType(c.Type); err != nil || c.Type == "" {
			return fmt.Errorf("column %q: %w", c.Name, cmp.Or(err, errors.New("it has no type")))
		}
		parts[i] = quote(c.Name) + " " + c.Type
	}
	if len(key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+quoteAll("", key)+")")
	}
	schema, base, ok := strings.Cut(name, ".")
	if !ok {
		schema, base = "public", name
	}
	_, err := s.pool.Exec(ctx, fmt.Sprintf("CREATE TABLE %s.%s (%s)", quote(schema), quote(base),
		strings.Join(parts, ", ")))
	return err
}

// MoveSequences moves the sequences of serial and identity columns on.
func (s *Source) MoveSequences(ctx context.Context, t *shape.Table) error {
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Kind != value.Int {
			continue
		}
		_, err := s.pool.Exec(ctx, fmt.Sprintf(
			`SELECT setval(s.q, s.top) FROM (SELECT pg_get_serial_sequence($1, $2)::regclass AS q, (SELECT max(%s)
				FROM %s) AS top) s
			WHERE s.q IS NOT NULL AND s.top > coalesce(pg_sequence_last_value(s.q), 0)`, quote(c.Name), table(t)),
			table(t), c.Name)
		if err != nil {
			return fmt.Errorf("table %s: the sequence of column %q cannot be moved on: %w", t.Name, c.Name, err)
		}
	}
	return nil
}
