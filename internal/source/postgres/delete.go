package postgres

import (
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

	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// DeleteBatch deletes the rows of a batch whose version is still the one that was read. A plain delete goes first;
// only if it has to wait for locks too long is it tried again without the rows that others have locked.
func (s *Source) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	var out *source.JournalRow
	err := s.conn(ctx, func(c *pgxpool.Conn) error {
		pc := c.Conn().PgConn()
		keys := b.Locators.(*locators)
		if id, _ := pc.CustomData()[identityKey].(string); id != keys.identity {
			return source.ErrLocators
		}
		d := &deletion{pc: pc, batch: b, keys: keys, mark: s.origin()}
		defer s.unmark(ctx, pc)
		err := d.transaction(ctx, byAddress)
		if code(err) == notSupported && b.Spurts != nil { // the statement that is kept is of the table as it was
			err = d.transaction(ctx, byAddress)
		}
		if errors.Is(err, errOther) {
			err = d.transaction(ctx, byVersion)
		}
		if code(err) == lockNotAvailable || code(err) == foreignKey {
			err = d.transaction(ctx, unlocked)
		}
		out = d.row
		return err
	})
	switch {
	case err == nil:
		return out, nil
	case errors.Is(err, source.ErrLocators), errors.Is(err, source.ErrLeaseLost), errors.Is(err, source.ErrReshaped):
		return nil, err
	case code(err) == lockNotAvailable || code(err) == deadlock || code(err) == serialization || code(err) == inUse:
		return nil, fmt.Errorf("table %s: %w: %w", b.Table.Name, source.ErrBusy, err)
	}
	return nil, fmt.Errorf("table %s: deleting a batch: %w", b.Table.Name, err)
}

// way is how a batch finds its rows.
type way int

const (
	// the fastest; what it reports is compared, and the transaction taken back where a row is another
	byAddress way = iota
	byVersion     // by address, version and key, all judged by the server
	unlocked      // the same, of the rows that nobody has locked
	picking       // picks the rows that nobody has locked
)

// errOther says that a row at an address is not the one that was read.
var errOther = errors.New("the server reported another row than was read")

// deletion is one try of one batch.
type deletion struct {
	pc    *pgconn.PgConn
	batch source.Batch
	keys  *locators
	row   *source.JournalRow
	gone  map[int]bool
	mark  string
}

// origin is a statement that marks what the session writes with the replication origin that is configured, so that
// subscribers can leave it out. A session that has it already is left as it is.
func (s *Source) origin() string {
	if s.cfg.Origin == "" {
		return "SELECT 1"
	}
	return "SELECT CASE WHEN NOT pg_replication_origin_session_is_setup() THEN pg_replication_origin_session_setup(" +
		literal(s.cfg.Origin) + ")::text END"
}

// unmark takes the origin from the session, since only one session can have it at a time.
func (s *Source) unmark(ctx context.Context, pc *pgconn.PgConn) {
	if s.cfg.Origin != "" {
		pc.Exec(context.WithoutCancel(ctx),
			"SELECT CASE WHEN pg_replication_origin_session_is_setup() THEN "+
				"pg_replication_origin_session_reset()::text END").ReadAll()
	}
}

// message is a statement that says in the transaction's log whose it is, for change feeds that read messages; it
// writes nothing where no change feed can.
func message(l source.Lease, segment, batch int) string {
	return "SELECT pg_logical_emit_message(true, 'ambercellar', " +
		literal(fmt.Sprintf("run %s, segment %d, batch %d", l.Run, segment, batch)) +
		") WHERE current_setting('wal_level') = 'logical'"
}

// transaction is the delete transaction: journal row, lease, delete, what became of the rest, commit.
func (d *deletion) transaction(ctx context.Context, how way) (err error) {
	d.row = source.NewJournalRow(d.batch)
	d.gone = make(map[int]bool, len(d.batch.Ordinals))
	byLeaf := map[uint32][]int{}
	for _, o := range d.batch.Ordinals {
		byLeaf[d.keys.rows[o].leaf] = append(byLeaf[d.keys.rows[o].leaf], o)
	}
	delete(byLeaf, 0)
	leaves := slices.Sorted(maps.Keys(byLeaf))
	names, named := namesOf(leaves)
	held, lease := leased(d.batch.Lease)
	defer func() {
		if err != nil {
			d.pc.Exec(context.WithoutCancel(ctx), "ROLLBACK").ReadAll()
		}
	}()
	if err := together(ctx, d.pc, step{query: d.mark}, step{query: "BEGIN"},
		step{query: fmt.Sprintf("SET LOCAL lock_timeout = %d", max(d.batch.LockWait.Milliseconds(), 1))},
		step{query: "SET LOCAL enable_seqscan = off"},
		step{query: message(d.batch.Lease, d.batch.Segment, d.batch.Number)}, journalInsert(d.batch.Table.Name, d.row),
		lease, named); code(err) == uniqueViolation {
		// An earlier try was committed and its answer got lost.
		if _, err := d.pc.Exec(ctx, "ROLLBACK").ReadAll(); err != nil {
			return err
		}
		earlier, err := journalRow(ctx, d.pc, d.row)
		if err != nil {
			return err
		}
		d.row = earlier
		return nil
	} else if err != nil {
		return err
	}
	if err := held(); err != nil {
		return err
	}
	for _, leaf := range leaves {
		if name := names[leaf]; name != "" { // a partition that is gone took its rows along: explain finds out
			if err := d.leaf(ctx, leaf, name, byLeaf[leaf], how); err != nil {
				return err
			}
		}
	}
	if err := d.explain(ctx); err != nil {
		return err
	}
	same, sign := sameShape(d.batch.Table)
	if err := together(ctx, d.pc, sign, journalUpdate(d.row)); err != nil {
		return err
	}
	if err := same(); err != nil {
		return err
	}
	d.row.Flushed, err = commit(ctx, d.pc)
	return err
}

// leaf deletes the rows that lie in one partition. The condition on the table's file is judged under the lock that
// the statement itself has taken, so that no rewrite can come in between.
func (d *deletion) leaf(ctx context.Context, leaf uint32, name string, ordinals []int, how way) error {
	if how == unlocked {
		query, values := d.query(leaf, name, picking)
		free, err := d.addressed(ctx, query, values, ordinals, picking)
		if err != nil {
			return err
		}
		if ordinals = free; len(ordinals) == 0 {
			return nil
		}
		slices.Sort(ordinals)
	}
	query, values := d.query(leaf, name, how)
	for len(ordinals) > 0 {
		if err := source.Rest(ctx, d.batch.Spurts.Break()); err != nil {
			return err
		}
		n, begun := min(d.batch.Spurts.Rows(), len(ordinals)), time.Now()
		deleted, err := d.addressed(ctx, query, values, ordinals[:n], how)
		if err != nil {
			return err
		}
		for _, o := range deleted {
			d.gone[o] = true
			d.row.Digest.Add(d.batch.Digests[o])
		}
		d.row.Deleted += len(deleted)
		d.batch.Spurts.Done(n, time.Since(begun))
		ordinals = ordinals[n:]
	}
	return source.Rest(ctx, d.batch.Spurts.Break())
}

// query deletes rows of one partition, or picks those that nobody has locked. It returns the values that are bound
// behind the arrays of addresses, versions and keys.
func (d *deletion) query(leaf uint32, name string, how way) (string, []any) {
	file := fmt.Sprintf("pg_relation_filenode(%d) = %d", leaf, d.keys.leaves[leaf])
	bound := 2 + len(d.keys.columns)
	var query string
	if how == byAddress {
		bound = 1
		query = fmt.Sprintf("DELETE FROM ONLY %s AS t WHERE t.ctid = ANY($1::tid[]) AND %s", name, file)
	} else {
		arrays, names, on := keyJoin(d.keys.columns, 3)
		match := fmt.Sprintf("t.ctid = d.tid AND t.xmin = d.ver AND %s AND %s", on, file)
		from := fmt.Sprintf("unnest($1::tid[], $2::xid[], %s) AS d(tid, ver, %s)", arrays, names)
		if how == picking {
			return fmt.Sprintf("SELECT t.ctid FROM %s JOIN ONLY %s t ON %s FOR UPDATE OF t SKIP LOCKED", from, name,
				match), nil
		}
		query = fmt.Sprintf("DELETE FROM ONLY %s AS t USING %s WHERE %s", name, from, match)
	}
	w := newDialect(d.batch.Selection)
	for _, r := range d.batch.Referenced(w) {
		query += " AND NOT " + r
	}
	if held := d.batch.Held(w); held != "" {
		query += " AND NOT " + held
	}
	if rejudged := d.batch.Rejudged(w); rejudged != "" {
		query += " AND " + rejudged
	}
	list := append([]string{"t.ctid", "t.xmin"}, expressions(d.batch.Table, d.batch.Table.KeyPositions())...)
	return w.Finish(query+" RETURNING "+strings.Join(list, ", "), func(n int) string { return numbered(bound + n) })
}

// addressed runs a statement over ordinals of one partition and returns those whose address came back. Where the
// statement deletes, version and key of each must be those that were read.
func (d *deletion) addressed(ctx context.Context, query string, values []any, ordinals []int, how way) ([]int, error) {
	byAddressOf := make(map[[6]byte]int, len(ordinals))
	tids := newArray(typeTID, len(ordinals), 6)
	for _, o := range ordinals {
		at := &d.keys.rows[o]
		tids = appendElement(tids, at.address[:])
		byAddressOf[at.address] = o
	}
	params, types := [][]byte{tids}, []uint32{arrayTID}
	if how != byAddress {
		versions := newArray(typeXID, len(ordinals), 4)
		keys := make([][]value.Value, len(ordinals))
		for i, o := range ordinals {
			versions = appendElement(versions, binary.BigEndian.AppendUint32(nil, d.keys.rows[o].version))
			keys[i] = d.keys.Key(o)
		}
		keyParams, keyTypes := keyArrays(d.keys.columns, keys)
		params, types = append(append(params, versions), keyParams...), append(append(types, arrayXID), keyTypes...)
	}
	more, moreTypes := bindTexts(values)
	params, types = append(params, more...), append(types, moreTypes...)
	out := make([]int, 0, len(ordinals))
	var key []byte
	each := eachRow
	if d.batch.Spurts != nil {
		each = eachRowAgain
	}
	err := each(ctx, d.pc, query, params, types, func(f [][]byte) error {
		if len(f) == 0 || len(f[0]) != 6 {
			return errOther
		}
		o, ok := byAddressOf[[6]byte(f[0])]
		if !ok {
			return errOther
		}
		if how != picking {
			if len(f) != 2+len(d.keys.columns) || len(f[1]) != 4 ||
				binary.BigEndian.Uint32(f[1]) != d.keys.rows[o].version {
				return errOther
			}
			if key = appendKey(key[:0], f[2:]); string(key) != string(d.keys.rawKey(o)) {
				return errOther
			}
		}
		out = append(out, o)
		return nil
	})
	return out, err
}

// namesOf finds the qualified names of partitions; one that is gone has none.
func namesOf(leaves []uint32) (map[uint32]string, step) {
	names := map[uint32]string{}
	list := strings.NewReplacer("[", "{", "]", "}", " ", ",").Replace(fmt.Sprint(leaves))
	return names, step{query: "SELECT c.oid, quote_ident(n.nspname) || '.' || quote_ident(c.relname) FROM pg_class " +
		"c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = ANY($1::text::oid[])",
		values: []string{list}, fixed: true, row: func(f [][]byte) error {
			if len(f[0]) != 4 {
				return errors.New("the server sent a partition's number in another form than was asked for")
			}
			names[binary.BigEndian.Uint32(f[0])] = string(f[1])
			return nil
		}}
}

// explain says of each row that was not deleted why it stays.
func (d *deletion) explain(ctx context.Context) error {
	if len(d.gone) == len(d.batch.Ordinals) {
		return nil
	}
	var left []int
	var keys [][]value.Value
	for _, o := range d.batch.Ordinals {
		if !d.gone[o] {
			left, keys = append(left, o), append(keys, d.keys.Key(o))
		}
	}
	for leaf, file := range d.keys.leaves {
		now := &locators{leaves: map[uint32]uint32{leaf: 0}}
		if err := together(ctx, d.pc, files(now)); err != nil {
			return err
		}
		if leaf != 0 && now.leaves[leaf] != 0 && now.leaves[leaf] != file {
			return source.ErrLocators
		}
	}
	arrays, names, on := keyJoin(d.keys.columns, 1)
	params, types := keyArrays(d.keys.columns, keys)
	query := fmt.Sprintf("SELECT d.ord, t.tableoid, t.ctid, t.xmin FROM unnest(%s) WITH ORDINALITY AS d(%s, ord) "+
		"JOIN %s t ON %s", arrays, names, table(d.batch.Table), on)
	found := make(map[int]locator, len(left))
	err := eachRow(ctx, d.pc, query, params, types, func(f [][]byte) error {
		at, err := parseLocator(f[1:])
		found[left[binary.BigEndian.Uint64(f[0])-1]] = at
		return err
	})
	if err != nil {
		return err
	}
	held, err := d.held(ctx, left, keys)
	if err != nil {
		return err
	}
	for _, o := range left {
		at, present := found[o]
		switch {
		case !present:
			d.row.Vanished = append(d.row.Vanished, o)
		case at == d.keys.rows[o] && held[o]:
			d.row.Held = append(d.row.Held, o)
		case at == d.keys.rows[o]: // the same version still: others have locked it, or another table refers to it
			d.row.Skipped = append(d.row.Skipped, o)
		default:
			d.row.Changed = append(d.row.Changed, o)
		}
	}
	return nil
}

// held returns which of the rows a hold is true for.
func (d *deletion) held(ctx context.Context, ordinals []int, keys [][]value.Value) (map[int]bool, error) {
	w := newDialect(d.batch.Selection)
	condition := d.batch.Held(w)
	if condition == "" {
		return nil, nil
	}
	out := map[int]bool{}
	arrays, names, on := keyJoin(d.keys.columns, 1)
	params, types := keyArrays(d.keys.columns, keys)
	query, values := w.Finish(fmt.Sprintf(
		"SELECT d.ord FROM unnest(%s) WITH ORDINALITY AS d(%s, ord) JOIN %s t ON %s WHERE %s", arrays, names,
		table(d.batch.Table), on, condition),
		func(n int) string { return numbered(len(d.keys.columns) + n) })
	more, moreTypes := bindTexts(values)
	err := eachRow(ctx, d.pc, query, append(params, more...), append(types, moreTypes...), func(f [][]byte) error {
		out[ordinals[binary.BigEndian.Uint64(f[0])-1]] = true
		return nil
	})
	return out, err
}

// bindTexts binds values that conditions have collected; they are texts.
func bindTexts(values []any) ([][]byte, []uint32) {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = v.(string)
	}
	return texts(out...)
}
