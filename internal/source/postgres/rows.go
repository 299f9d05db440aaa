package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// locators tells of each row of a slice: the partition it lies in, its address and version there, and its key, all
// in the server's binary form.
type locators struct {
	identity string            // of the server's start that the addresses belong to
	leaves   map[uint32]uint32 // partition → its file, which a rewrite of the table replaces
	rows     []locator
	columns  []*shape.Column // of the key
	keys     []value.Value   // len(columns) a row
	arena    value.Chunk
}

func newLocators(t *shape.Table) *locators {
	l := &locators{leaves: map[uint32]uint32{}}
	for _, pos := range t.KeyPositions() {
		l.columns = append(l.columns, &t.Columns[pos])
	}
	return l
}

type locator struct {
	leaf, version uint32 // tableoid and xmin; leaf 0 matches nothing
	address       [6]byte
}

func (l *locators) Len() int { return len(l.rows) }

// Key returns the key of a row.
func (l *locators) Key(i int) []value.Value {
	return l.keys[i*len(l.columns) : (i+1)*len(l.columns)]
}

// parseLocator takes a row's address out of its first fields: tableoid, ctid, xmin.
func parseLocator(fields [][]byte) (at locator, err error) {
	if len(fields) < 3 || len(fields[0]) != 4 || len(fields[1]) != 6 || len(fields[2]) != 4 {
		return at, errors.New("the server sent a row without its address")
	}
	at = locator{leaf: binary.BigEndian.Uint32(fields[0]), version: binary.BigEndian.Uint32(fields[2])}
	copy(at.address[:], fields[1])
	return at, nil
}

// add takes the locator and key out of the first fields of a row: tableoid, ctid, xmin, then the key's columns.
func (l *locators) add(fields [][]byte) error {
	at, err := parseLocator(fields)
	if err != nil {
		return err
	}
	l.rows = append(l.rows, at)
	l.leaves[at.leaf] = 0
	for i, c := range l.columns {
		k, err := decode(fields[3+i], c, l.arena.Keep)
		if err != nil {
			return err
		}
		l.keys = append(l.keys, k)
	}
	return nil
}

// expression selects a column in a form that decode understands.
func expression(c *shape.Column) string {
	if c.AsText {
		return "t." + quote(c.Name) + "::text"
	}
	return "t." + quote(c.Name)
}

func expressions(t *shape.Table, columns []int) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = expression(&t.Columns[c])
	}
	return out
}

const chunkRows, chunkBytes = 1024, 1 << 20

// ReadSlice reads one slice through binary COPY.
func (s *Source) ReadSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice, error) {
	t := req.Table
	ageColumn, _ := req.AgeColumn()
	keyPos := t.KeyPositions()
	d := newDialect(req.Selection)
	query, err := s.sliceQuery(ctx, req, d)
	if err != nil {
		return nil, err
	}
	query, values := d.Finish(query, setting)

	keys := newLocators(t)
	out := &source.Slice{Locators: keys}
	columns := req.Shapes()
	chunk := &value.Chunk{Width: len(columns)}
	bytes := int64(0)
	full := errors.New("full")
	var lastAge []byte // of the newest row, in binary form
	flush := func() error {
		if chunk.Rows() == 0 {
			return nil
		}
		defer chunk.Reset()
		return sink(chunk)
	}
	reader := &copyReader{row: func(fields [][]byte) error {
		if err := keys.add(fields); err != nil {
			return err
		}
		at := 3 + len(keyPos)
		lastAge = append(lastAge[:0], fields[at]...)
		if out.First == nil {
			v, err := decode(lastAge, ageColumn, func(b []byte) []byte { return append([]byte{}, b...) })
			if err != nil {
				return err
			}
			out.First = append([]value.Value{v}, value.CloneRow(keys.Key(0))...)
		}
		for i, raw := range fields[at+1:] {
			v, err := decode(raw, columns[i], chunk.Keep)
			if err != nil {
				return err
			}
			chunk.Values = append(chunk.Values, v)
			bytes += int64(len(raw)) + 4
		}
		if chunk.Rows() >= chunkRows || chunk.Size() >= chunkBytes {
			if err := flush(); err != nil {
				return err
			}
		}
		if bytes >= req.MaxBytes {
			return full
		}
		return nil
	}}
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		keys.identity, _ = c.Conn().PgConn().CustomData()[identityKey].(string)
		if _, err := c.Conn().PgConn().Exec(ctx, "BEGIN TRANSACTION READ ONLY").ReadAll(); err != nil {
			return err
		}
		if err := bindSettings(ctx, c.Conn().PgConn(), values); err != nil {
			return errors.Join(err, run(context.WithoutCancel(ctx), c.Conn().PgConn(), "ROLLBACK"))
		}
		if _, err := c.Conn().PgConn().CopyTo(ctx, reader, query); err != nil {
			c.Conn().Close(context.WithoutCancel(ctx)) // whatever else it would send is not wanted
			return err
		}
		if err := files(ctx, c.Conn().PgConn(), keys); err != nil { // under the lock that reading has taken
			return err
		}
		_, err := c.Conn().PgConn().Exec(ctx, "COMMIT").ReadAll()
		return err
	})
	if errors.Is(err, full) { // the stream was cut off, and the addresses may belong to a rewritten file: find out
		err = s.conn(ctx, func(c *pgxpool.Conn) error { return files(ctx, c.Conn().PgConn(), keys) })
		out.More = true
	}
	if err != nil {
		return nil, fmt.Errorf("table %s: reading a slice: %w", t.Name, err)
	}
	if err := flush(); err != nil {
		return nil, err
	}
	out.More = out.More || keys.Len() >= req.MaxRows
	if n := keys.Len(); n > 0 {
		v, err := decode(lastAge, ageColumn, func(b []byte) []byte { return b })
		if err != nil {
			return nil, err
		}
		out.Last = append([]value.Value{v}, value.CloneRow(keys.Key(n-1))...)
	}
	return out, nil
}

// sliceQuery reads a slice: the locators, the age, and the columns.
func (s *Source) sliceQuery(ctx context.Context, req source.SliceRequest, d *dialect) (string, error) {
	t := req.Table
	age, _ := req.AgeColumn()
	where, err := s.selected(ctx, req.Selection, d)
	if err != nil {
		return "", err
	}
	order := quoteAll("t.", t.Key)
	if !req.Empties() {
		order = d.column() + ", " + order
	}
	if req.After != nil {
		var bounds []string
		if !req.Empties() {
			bounds = append(bounds, constant(req.After[0], age))
		}
		for i, k := range t.Key {
			c, _ := t.Column(k)
			bounds = append(bounds, constant(req.After[i+1], c))
		}
		where += " AND (" + order + ") > (" + strings.Join(bounds, ", ") + ")"
	}
	list := append([]string{"t.tableoid", "t.ctid", "t.xmin"}, expressions(t, t.KeyPositions())...)
	list = append(append(list, d.column()), expressions(t, req.Columns)...)
	for _, r := range req.Include {
		if list = append(list, d.name(r)); r.Column.AsText {
			list[len(list)-1] += "::text"
		}
	}
	return fmt.Sprintf("COPY (SELECT %s FROM %s t WHERE %s ORDER BY %s LIMIT %d) TO STDOUT (FORMAT binary)",
		strings.Join(list, ", "), table(t), where, order, req.MaxRows), nil
}

// files notes the file that each partition's rows lie in.
func files(ctx context.Context, c *pgconn.PgConn, l *locators) error {
	for leaf := range l.leaves {
		res := c.ExecParams(ctx, "SELECT pg_relation_filenode($1::oid)::text", [][]byte{[]byte(fmt.Sprint(leaf))}, nil, nil, nil).Read()
		if res.Err != nil {
			return res.Err
		}
		var file uint32
		if len(res.Rows) == 1 && res.Rows[0][0] != nil {
			fmt.Sscan(string(res.Rows[0][0]), &file)
		}
		l.leaves[leaf] = file
	}
	return nil
}

// array writes values in the server's binary form of a one-dimensional array (array_recv).
func array(elem uint32, values [][]byte) []byte {
	size := 20
	for _, v := range values {
		size += 4 + len(v)
	}
	out := make([]byte, 0, size)
	out = binary.BigEndian.AppendUint32(out, 1)
	out = binary.BigEndian.AppendUint32(out, 0)
	out = binary.BigEndian.AppendUint32(out, elem)
	out = binary.BigEndian.AppendUint32(out, uint32(len(values)))
	out = binary.BigEndian.AppendUint32(out, 1)
	for _, v := range values {
		out = binary.BigEndian.AppendUint32(out, uint32(len(v)))
		out = append(out, v...)
	}
	return out
}

// OIDs of built-in types and of their arrays.
const (
	typeText, arrayText = 25, 1009
	typeTID, arrayTID   = 27, 1010
	typeXID, arrayXID   = 28, 1011
)

// locateGroup is how many keys one statement looks up.
const locateGroup = 2000

// keyArrays writes keys as one text array a column, to be bound as $1, $2 … behind unnest.
func keyArrays(columns []*shape.Column, keys [][]value.Value) (params [][]byte, types []uint32) {
	for i := range columns {
		texts := make([][]byte, len(keys))
		for j, k := range keys {
			texts[j] = []byte(input(k[i]))
		}
		params, types = append(params, array(typeText, texts)), append(types, arrayText)
	}
	return params, types
}

// keyJoin returns the pieces of a join of t with keys bound from parameter first on: the arrays, the names of their
// columns, and the condition.
func keyJoin(columns []*shape.Column, first int) (arrays, names, on string) {
	var a, n, o []string
	for i, c := range columns {
		a = append(a, fmt.Sprintf("$%d::text[]", first+i))
		n = append(n, fmt.Sprintf("k%d", i+1))
		o = append(o, fmt.Sprintf("t.%s = d.k%d::%s", quote(c.Name), i+1, baseType(c)))
	}
	return strings.Join(a, ", "), strings.Join(n, ", "), strings.Join(o, " AND ")
}

// Locate finds rows by key and keeps the addresses of those whose content is the same as before.
func (s *Source) Locate(ctx context.Context, sel source.Selection, keys [][]value.Value, digests []value.Digest) (source.Locators, error) {
	t := sel.Table
	out := newLocators(t)
	out.rows = make([]locator, len(keys))
	for _, k := range keys {
		out.keys = append(out.keys, value.CloneRow(k)...)
	}
	all := make([]int, len(t.Columns))
	for i := range all {
		all[i] = i
	}
	arrays, names, on := keyJoin(out.columns, 1)
	query := fmt.Sprintf("SELECT d.ord, t.tableoid, t.ctid, t.xmin, %s FROM unnest(%s) WITH ORDINALITY AS d(%s, ord) JOIN %s t ON %s",
		strings.Join(expressions(t, all), ", "), arrays, names, table(t), on)
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		pc := c.Conn().PgConn()
		out.identity, _ = pc.CustomData()[identityKey].(string)
		for from := 0; from < len(keys); from += locateGroup {
			group := keys[from:min(from+locateGroup, len(keys))]
			params, types := keyArrays(out.columns, group)
			err := eachRow(ctx, pc, query, params, types, func(f [][]byte) error {
				ord := from + int(binary.BigEndian.Uint64(f[0])) - 1
				d, err := rowDigest(t, all, f[4:])
				if err != nil || d != digests[ord] {
					return err
				}
				out.rows[ord], err = parseLocator(f[1:])
				out.leaves[out.rows[ord].leaf] = 0
				return err
			})
			if err != nil {
				return err
			}
		}
		return files(ctx, pc, out)
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: locating rows: %w", t.Name, err)
	}
	return out, nil
}

// rowDigest computes the digest of a row in binary form.
func rowDigest(t *shape.Table, columns []int, fields [][]byte) (value.Digest, error) {
	var hasher value.Hasher
	row := make([]value.Value, len(columns))
	for i, c := range columns {
		v, err := decode(fields[i], &t.Columns[c], func(b []byte) []byte { return append([]byte{}, b...) })
		if err != nil {
			return value.Digest{}, err
		}
		row[i] = v
	}
	return hasher.Row(row), nil
}

// eachRow runs one statement with bound values in binary form and hands on each row in binary form.
func eachRow(ctx context.Context, c *pgconn.PgConn, query string, params [][]byte, types []uint32, fn func([][]byte) error) error {
	formats := make([]int16, len(params))
	for i, t := range types {
		if t != 0 {
			formats[i] = 1
		}
	}
	res := c.ExecParams(ctx, query, params, types, formats, []int16{1})
	var failed error
	for res.NextRow() {
		if failed == nil {
			failed = fn(res.Values())
		}
	}
	_, err := res.Close()
	return errors.Join(err, failed)
}
