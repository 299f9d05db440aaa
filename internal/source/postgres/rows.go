package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/pace"
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
	keys     []byte          // row after row, as appendKey writes them
	starts   []int           // where each row's key begins
	given    [][]value.Value // the keys that Locate was given: rows that it did not find have no other
}

func newLocators(t *shape.Table, rows int) *locators {
	l := &locators{leaves: map[uint32]uint32{}, rows: make([]locator, 0, rows), starts: make([]int, 0, rows),
		keys: make([]byte, 0, 16*rows)}
	for _, pos := range t.KeyPositions() {
		l.columns = append(l.columns, t.At(pos))
	}
	return l
}

type locator struct {
	leaf, version uint32 // tableoid and xmin; leaf 0 matches nothing
	address       [6]byte
}

func (l *locators) Len() int { return len(l.starts) }

// rawKey is the key of a row as appendKey wrote it.
func (l *locators) rawKey(i int) []byte {
	if i+1 < len(l.starts) {
		return l.keys[l.starts[i]:l.starts[i+1]]
	}
	return l.keys[l.starts[i]:]
}

// appendKey adds a key's columns as the server sent them: of each its length, 4 bytes big-endian, and its bytes.
func appendKey(dst []byte, fields [][]byte) []byte {
	for _, f := range fields {
		dst = append(binary.BigEndian.AppendUint32(dst, uint32(len(f))), f...)
	}
	return dst
}

// eachKey hands on the columns of a row's key.
func (l *locators) eachKey(i int, fn func(column int, raw []byte)) {
	raw := l.rawKey(i)
	for c := range l.columns {
		n := int(binary.BigEndian.Uint32(raw))
		fn(c, raw[4:4+n:4+n])
		raw = raw[4+n:]
	}
}

// Key returns the key of a row.
func (l *locators) Key(i int) []value.Value {
	if l.given != nil {
		return l.given[i]
	}
	out := make([]value.Value, len(l.columns))
	l.eachKey(i, func(c int, raw []byte) {
		out[c], _ = decode(raw, l.columns[c], func(b []byte) []byte { return b }) // add has seen that it decodes
	})
	return out
}

// Append adds the rows that were read next.
func (l *locators) Append(more source.Locators) error {
	m := more.(*locators)
	if m.identity != l.identity {
		return source.ErrLocators
	}
	for leaf, file := range m.leaves {
		if before, known := l.leaves[leaf]; known && before != file {
			return source.ErrLocators
		}
		l.leaves[leaf] = file
	}
	at := len(l.keys)
	l.rows, l.keys = append(l.rows, m.rows...), append(l.keys, m.keys...)
	for _, start := range m.starts {
		l.starts = append(l.starts, at+start)
	}
	return nil
}

// Arrange returns the locators of these rows in this order.
func (l *locators) Arrange(ordinals []int) source.Locators {
	out := &locators{identity: l.identity, leaves: maps.Clone(l.leaves), columns: l.columns}
	for _, o := range ordinals {
		out.starts = append(out.starts, len(out.keys))
		if o < 0 { // leaf 0 and an address that no row has
			out.rows = append(out.rows, locator{})
			for _, c := range l.columns {
				out.keys = appendKey(out.keys, [][]byte{[]byte(nowhere[c.Type])})
			}
			continue
		}
		out.rows = append(out.rows, l.rows[o])
		out.keys = append(out.keys, l.rawKey(o)...)
	}
	return out
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

// add takes a row's locator.
func (l *locators) add(at locator, key func(column int) []byte) error {
	if n := len(l.rows); n == 0 || l.rows[n-1].leaf != at.leaf {
		l.leaves[at.leaf] = 0
	}
	l.rows = append(l.rows, at)
	l.starts = append(l.starts, len(l.keys))
	for i, c := range l.columns {
		raw := key(i)
		if len(raw) == 0 && c.Kind != value.Text && c.Kind != value.Bytes {
			return fmt.Errorf("column %q of the key has no value", c.Name)
		}
		l.keys = append(binary.BigEndian.AppendUint32(l.keys, uint32(len(raw))), raw...)
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
		out[i] = expression(t.At(c))
	}
	return out
}

const chunkRows, chunkBytes = 256, 1 << 20

// ReadSlice reads one slice through binary COPY. Where few rows share an age, they are read in order of the age alone,
// which an index gives without sorting, and all rows of the last age together; otherwise in order of age and key.
func (s *Source) ReadSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	t := req.Table
	ageColumn, _ := req.AgeColumn()
	columns := req.Shapes()
	r := &sliceReader{keys: newLocators(t, min(req.MaxRows, 1<<17)), columns: columns,
		chunk: &value.Chunk{Width: len(columns)}, sink: sink, maxBytes: req.MaxBytes, maxRows: req.MaxRows}
	ageAlone, err := s.agesDiffer(ctx, req)
	if err != nil {
		return nil, fmt.Errorf("table %s: %w", t.Name, err)
	}
	r.ageAlone = ageAlone
	d := newDialect(req.Selection)
	query, err := s.sliceQuery(ctx, req, d, r)
	if err != nil {
		return nil, err
	}
	query, values := d.Finish(query, setting)
	out := &source.Slice{Locators: r.keys}
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		pc := c.Conn().PgConn()
		r.keys.identity, _ = pc.CustomData()[identityKey].(string)
		begin := "BEGIN TRANSACTION READ ONLY; " + bindSettings(values)
		if req.Spurts != nil {
			if out.More, err = r.fetch(ctx, pc, begin, query, req.Spurts); err != nil {
				return errors.Join(err, run(context.WithoutCancel(ctx), pc, "ROLLBACK"))
			}
		} else if _, err := pc.CopyTo(ctx, &copyReader{row: r.row}, begin+"COPY ("+query+
			") TO STDOUT (FORMAT binary)"); err != nil {
			c.Conn().Close(context.WithoutCancel(ctx)) // whatever else it would send is not wanted
			return err
		}
		if err := source.Rest(ctx, req.Spurts.Break()); err != nil {
			return errors.Join(err, run(context.WithoutCancel(ctx), pc, "ROLLBACK"))
		}
		same, sign := sameShape(t) // it and the files, under the lock that reading has taken
		if err := together(ctx, pc, files(r.keys), sign, step{query: "COMMIT"}); err != nil {
			return errors.Join(err, run(context.WithoutCancel(ctx), pc, "ROLLBACK"))
		}
		return same()
	})
	if errors.Is(err, errTies) {
		s.tied.Store(t.Name, true)
	}
	if errors.Is(err, errFull) { // the stream was cut off, and the addresses may belong to a rewritten file: find out
		err = s.conn(ctx, func(c *pgxpool.Conn) error { return together(ctx, c.Conn().PgConn(), files(r.keys)) })
		out.More = true
	}
	if err == nil {
		err = r.flush()
	}
	if err != nil {
		return nil, fmt.Errorf("table %s: reading a slice: %w", t.Name, err)
	}
	out.More = out.More || r.keys.Len() >= req.MaxRows
	if n := r.keys.Len(); n > 0 {
		if out.First, err = r.position(0, r.firstAge, ageColumn); err == nil {
			out.Last, err = r.position(n-1, r.lastAge, ageColumn)
		}
		if err != nil {
			return nil, err
		}
		if out.Next = out.Last; r.ageAlone {
			out.Next = out.Last[:1]
		}
	}
	return out, nil
}

var (
	errFull = errors.New("full")
	errTies = errors.New("many rows have the same age")
)

// sliceReader takes in the rows of a slice as they arrive.
type sliceReader struct {
	keys              *locators
	columns           []*shape.Column
	chunk             *value.Chunk
	sink              func(*value.Chunk) error
	keyAt, at         []int // of each column of the key, and of each column read: its field
	ageAt             int
	ageAlone          bool // all rows of the last age are read
	bytes, maxBytes   int64
	maxRows           int
	firstAge, lastAge []byte // in binary form
}

// position is the age and key of a row.
func (r *sliceReader) position(row int, age []byte, c *shape.Column) ([]value.Value, error) {
	v, err := decode(age, c, func(b []byte) []byte { return b })
	return append([]value.Value{v}, value.CloneRow(r.keys.Key(row))...), err
}

func (r *sliceReader) flush() error {
	if r.chunk.Rows() == 0 {
		return nil
	}
	defer r.chunk.Reset()
	return r.sink(r.chunk)
}

func (r *sliceReader) row(fields [][]byte) error {
	age := fields[r.ageAt]
	if r.ageAlone && r.keys.Len() > 0 {
		if full := r.bytes >= r.maxBytes; full && string(age) != string(r.lastAge) {
			return errFull
		}
		if r.keys.Len() > r.maxRows+tiesRows || r.bytes > 2*r.maxBytes {
			return errTies
		}
	}
	at, err := parseLocator(fields)
	if err != nil {
		return err
	}
	if err := r.keys.add(at, func(c int) []byte { return fields[r.keyAt[c]] }); err != nil {
		return err
	}
	if age == nil {
		r.lastAge = nil
	} else {
		r.lastAge = append(r.lastAge[:0], age...)
	}
	if r.keys.Len() == 1 {
		r.firstAge = bytes.Clone(age)
	}
	for i, f := range r.at {
		raw := fields[f]
		v, err := decode(raw, r.columns[i], r.chunk.Keep)
		if err != nil {
			return err
		}
		r.chunk.Values = append(r.chunk.Values, v)
		r.bytes += int64(len(raw)) + 4
	}
	if r.chunk.Rows() >= chunkRows || r.chunk.Size() >= chunkBytes {
		if err := r.flush(); err != nil {
			return err
		}
	}
	if !r.ageAlone && r.bytes >= r.maxBytes {
		return errFull
	}
	return nil
}

// At most so many rows may share an age, on average, for reading in order of the age alone; and of the last one so
// many may come beyond the size of a slice.
const sharedAge, tiesRows = 4, 10_000

// agesHold is for how long it is taken for granted whether few rows share an age: asking takes as long as reading some
// hundred rows.
const agesHold = time.Minute

type agesKnown struct {
	differ bool
	at     time.Time
}

// agesDiffer says whether few rows share an age, by the statistics that the server keeps.
func (s *Source) agesDiffer(ctx context.Context, req source.SliceRequest) (differ bool, err error) {
	if _, tied := s.tied.Load(req.Table.Name); tied || req.Age.Join != "" || req.Empties() ||
		req.MaxRows < sliceAlone || len(req.After) > 1 {
		return false, nil
	}
	key := [2]string{req.Table.Name, req.Age.Column}
	if known, ok := s.ages.Load(key); ok && time.Since(known.(agesKnown).at) < agesHold {
		return known.(agesKnown).differ, nil
	}
	defer func() {
		if err == nil {
			s.ages.Store(key, agesKnown{differ, time.Now()})
		}
	}()
	err = s.pool.QueryRow(ctx,
		`SELECT current_setting('server_version_num')::int >= 130000 AND coalesce((SELECT bool_and(CASE
			WHEN s.n_distinct < 0 THEN s.n_distinct <= -1.0 / $2::float8
		ELSE s.n_distinct > 0 AND s.n_distinct >= c.reltuples / $2::float8 END) FROM pg_stats s JOIN pg_class c
			ON c.oid = $1::regclass
		WHERE s.schemaname = (SELECT nspname FROM pg_namespace WHERE oid = c.relnamespace) AND s.tablename = c.relname
			AND s.attname = $3), false)`,
		table(req.Table), sharedAge, req.Age.Column).Scan(&differ)
	return differ, err
}

// sliceAlone is the size of a slice from which on reading it in order of the age alone pays.
const sliceAlone = 1000

// sliceQuery reads a slice: the locators, the age, the key and the columns, each expression once.
func (s *Source) sliceQuery(ctx context.Context, req source.SliceRequest, d *dialect, r *sliceReader) (string, error) {
	t := req.Table
	age, _ := req.AgeColumn()
	where, err := s.Leaves(ctx, req.Selection, d)
	if err != nil {
		return "", err
	}
	order := quoteAll("t.", t.Key)
	switch {
	case r.ageAlone:
		order = d.column()
	case !req.Empties():
		order = d.column() + ", " + order
	}
	if req.After != nil {
		var bounds []string
		columns := order
		if !req.Empties() {
			bounds = append(bounds, constant(req.After[0], age))
		}
		for i, v := range req.After[1:] {
			bounds = append(bounds, constant(v, r.keys.columns[i]))
		}
		if len(req.After) == 1 { // all rows of that age have been read
			columns = d.column()
		}
		where += " AND (" + columns + ") > (" + strings.Join(bounds, ", ") + ")"
	}
	list := []string{"t.tableoid", "t.ctid", "t.xmin"}
	field := func(expression string) int {
		if i := slices.Index(list, expression); i >= 0 {
			return i
		}
		list = append(list, expression)
		return len(list) - 1
	}
	r.ageAt = field(d.column())
	for _, e := range expressions(t, t.KeyPositions()) {
		r.keyAt = append(r.keyAt, field(e))
	}
	for _, e := range expressions(t, req.Columns) {
		r.at = append(r.at, field(e))
	}
	for _, i := range req.Include {
		e := d.name(i)
		if i.Column.AsText {
			e += "::text"
		}
		r.at = append(r.at, field(e))
	}
	limit := fmt.Sprintf("LIMIT %d", req.MaxRows)
	if r.ageAlone {
		limit = fmt.Sprintf("FETCH FIRST %d ROWS WITH TIES", req.MaxRows)
	}
	return fmt.Sprintf("SELECT %s FROM %s t WHERE %s ORDER BY %s %s", strings.Join(list, ", "), table(t), where, order,
		limit), nil
}

// fetch reads a slice's rows through a cursor in spurts, in a transaction that it leaves open, and says whether it
// ended since the slice was full.
func (r *sliceReader) fetch(ctx context.Context, pc *pgconn.PgConn, begin, query string, in *pace.Spurts) (full bool,
	err error) {
	// planned as if all rows were wanted, since they are
	if _, err := pc.Exec(ctx, begin+"SET LOCAL cursor_tuple_fraction = 1; DECLARE ambercellar NO SCROLL CURSOR FOR "+
		query).ReadAll(); err != nil {
		return false, err
	}
	for {
		if err := source.Rest(ctx, in.Break()); err != nil {
			return false, err
		}
		rows, begun := in.Rows(), time.Now()
		got := 0
		err = eachRow(ctx, pc, fmt.Sprintf("FETCH %d FROM ambercellar", rows), nil, nil, func(f [][]byte) error {
			got++
			return r.row(f)
		})
		switch {
		case errors.Is(err, errFull):
			return true, nil
		case err != nil || got < rows || !r.ageAlone && r.keys.Len() >= r.maxRows:
			return false, err
		}
		in.Done(got, time.Since(begun))
	}
}

// files notes the file that each partition's rows lie in; 0: it has none.
func files(l *locators) step {
	var list []string
	for leaf := range l.leaves {
		list = append(list, fmt.Sprint(leaf))
		l.leaves[leaf] = 0
	}
	return step{query: "SELECT l, pg_relation_filenode(l) FROM unnest($1::text::oid[]) l",
		values: []string{"{" + strings.Join(list, ",") + "}"}, fixed: true, row: func(raw [][]byte) error {
			if len(raw[0]) != 4 || raw[1] != nil && len(raw[1]) != 4 {
				return errors.New("the server sent a table's file in another form than was asked for")
			}
			if raw[1] != nil {
				l.leaves[binary.BigEndian.Uint32(raw[0])] = binary.BigEndian.Uint32(raw[1])
			}
			return nil
		}}
}

// newArray begins the server's binary form of a one-dimensional array (array_recv) of n elements of so many bytes;
// appendElement adds each.
func newArray(elem uint32, n, size int) []byte {
	out := make([]byte, 0, 20+n*(4+size))
	for _, head := range []uint32{1, 0, elem, uint32(n), 1} {
		out = binary.BigEndian.AppendUint32(out, head)
	}
	return out
}

func appendElement(dst, v []byte) []byte {
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(v))), v...)
}

// OIDs of built-in types and of their arrays.
const (
	typeInt8, arrayInt8 = 20, 1016
	typeText, arrayText = 25, 1009
	typeOID, arrayOID   = 26, 1028
	typeTID, arrayTID   = 27, 1010
	typeXID, arrayXID   = 28, 1011
)

// locateGroup is how many keys one statement looks up.
const locateGroup = 2000

// wholeKey says whether a key column's values travel as whole numbers; all others travel as text.
func wholeKey(c *shape.Column) bool {
	return c.Kind == value.Int && slices.Contains([]string{"bigint", "integer", "smallint"}, c.Type)
}

// keyArrays writes keys as one array a column, to be bound as $1, $2 … behind unnest.
func keyArrays(columns []*shape.Column, keys [][]value.Value) (params [][]byte, types []uint32) {
	for i, c := range columns {
		if wholeKey(c) {
			numbers := newArray(typeInt8, len(keys), 8)
			for _, k := range keys {
				numbers = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(numbers, 8), uint64(k[i].N))
			}
			params, types = append(params, numbers), append(types, arrayInt8)
			continue
		}
		texts := newArray(typeText, len(keys), 16)
		for _, k := range keys {
			texts = appendElement(texts, []byte(input(k[i])))
		}
		params, types = append(params, texts), append(types, arrayText)
	}
	return params, types
}

// keyJoin returns the pieces of a join of t with keys bound from parameter first on: the arrays, the names of their
// columns, and the condition.
func keyJoin(columns []*shape.Column, first int) (arrays, names, on string) {
	var a, n, o []string
	for i, c := range columns {
		n = append(n, fmt.Sprintf("k%d", i+1))
		if wholeKey(c) {
			a = append(a, fmt.Sprintf("$%d::bigint[]", first+i))
			o = append(o, fmt.Sprintf("t.%s = d.k%d", quote(c.Name), i+1))
			continue
		}
		a = append(a, fmt.Sprintf("$%d::text[]", first+i))
		o = append(o, fmt.Sprintf("t.%s = d.k%d::%s", quote(c.Name), i+1, baseType(c)))
	}
	return strings.Join(a, ", "), strings.Join(n, ", "), strings.Join(o, " AND ")
}

// Locate finds rows by key and keeps the addresses of those whose content is the same as before.
func (s *Source) Locate(ctx context.Context, sel source.Selection, keys [][]value.Value, digests []value.Digest) (
	source.Locators, error) {
	t := sel.Table
	out := newLocators(t, len(keys))
	out.given = keys
	out.rows, out.starts = out.rows[:len(keys)], out.starts[:len(keys)]
	raws := make([][]byte, len(keys)) // keys as the server sends them
	all := make([]int, len(t.Columns))
	for i := range all {
		all[i] = i
	}
	arrays, names, on := keyJoin(out.columns, 1)
	query := fmt.Sprintf("SELECT d.ord, t.tableoid, t.ctid, t.xmin, %s, %s FROM unnest(%s) WITH ORDINALITY AS "+
		"d(%s, ord) JOIN %s t ON %s",
		strings.Join(expressions(t, t.KeyPositions()), ", "), strings.Join(expressions(t, all), ", "), arrays, names,
		table(t), on)
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		pc := c.Conn().PgConn()
		out.identity, _ = pc.CustomData()[identityKey].(string)
		for from := 0; from < len(keys); from += locateGroup {
			group := keys[from:min(from+locateGroup, len(keys))]
			params, types := keyArrays(out.columns, group)
			err := eachRow(ctx, pc, query, params, types, func(f [][]byte) error {
				ord := from + int(binary.BigEndian.Uint64(f[0])) - 1
				d, err := rowDigest(t, all, f[4+len(out.columns):])
				if err != nil || d != digests[ord] {
					return err
				}
				raws[ord] = appendKey(nil, f[4:4+len(out.columns)])
				out.rows[ord], err = parseLocator(f[1:])
				out.leaves[out.rows[ord].leaf] = 0
				return err
			})
			if err != nil {
				return err
			}
		}
		return together(ctx, pc, files(out))
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: locating rows: %w", t.Name, err)
	}
	for i, raw := range raws {
		out.starts[i] = len(out.keys)
		out.keys = append(out.keys, raw...)
	}
	return out, nil
}

// rowDigest computes the digest of a row in binary form.
func rowDigest(t *shape.Table, columns []int, fields [][]byte) (value.Digest, error) {
	var hasher value.Hasher
	row := make([]value.Value, len(columns))
	for i, c := range columns {
		v, err := decode(fields[i], t.At(c), func(b []byte) []byte { return append([]byte{}, b...) })
		if err != nil {
			return value.Digest{}, err
		}
		row[i] = v
	}
	return hasher.Row(row), nil
}

// eachRow runs one statement with bound values in binary form and hands on each row in binary form.
func eachRow(ctx context.Context, c *pgconn.PgConn, query string, params [][]byte, types []uint32,
	fn func([][]byte) error) error {
	return rowsOf(c.ExecParams(ctx, query, params, types, binaryOf(types), []int16{1}), fn)
}

// binaryOf says which parameters are in binary form: those whose type is given.
func binaryOf(types []uint32) []int16 {
	formats := make([]int16, len(types))
	for i, t := range types {
		if t != 0 {
			formats[i] = 1
		}
	}
	return formats
}

// spurtStatement is the name of the statement that a connection keeps for the spurts of one batch after another.
const spurtStatement = "ambercellar_spurt"

// eachRowAgain is eachRow for a statement that comes again and again: the server keeps it while its text stays the
// same.
func eachRowAgain(ctx context.Context, c *pgconn.PgConn, query string, params [][]byte, types []uint32,
	fn func([][]byte) error) error {
	if kept, _ := c.CustomData()[spurtStatement].(string); kept != query {
		delete(c.CustomData(), spurtStatement)
		if kept != "" {
			if err := c.Deallocate(ctx, spurtStatement); err != nil {
				return err
			}
		}
		if _, err := c.Prepare(ctx, spurtStatement, query, types); err != nil {
			return err
		}
		c.CustomData()[spurtStatement] = query
	}
	err := rowsOf(c.ExecPrepared(ctx, spurtStatement, params, binaryOf(types), []int16{1}), fn)
	if code(err) == notSupported { // the table was altered, and the statement returns other types: not the next time
		c.CustomData()[spurtStatement] = "outdated"
	}
	return err
}

func rowsOf(res *pgconn.ResultReader, fn func([][]byte) error) error {
	var failed error
	for res.NextRow() {
		if failed == nil {
			failed = fn(res.Values())
		}
	}
	_, err := res.Close()
	return errors.Join(err, failed)
}
