package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

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
		d := &deletion{pc: pc, batch: b, keys: keys}
		err := d.transaction(ctx, false)
		if code(err) == lockNotAvailable || code(err) == foreignKey {
			err = d.transaction(ctx, true)
		}
		out = d.row
		return err
	})
	switch {
	case err == nil:
		return out, nil
	case errors.Is(err, source.ErrLocators), errors.Is(err, source.ErrLeaseLost):
		return nil, err
	case code(err) == lockNotAvailable || code(err) == deadlock || code(err) == serialization:
		return nil, fmt.Errorf("table %s: %w: %w", b.Table.Name, source.ErrBusy, err)
	}
	return nil, fmt.Errorf("table %s: deleting a batch: %w", b.Table.Name, err)
}

// deletion is one try of one batch.
type deletion struct {
	pc    *pgconn.PgConn
	batch source.Batch
	keys  *locators
	row   *source.JournalRow
	gone  map[int]bool
}

// transaction is the delete transaction: journal row, lease, delete, what became of the rest, commit.
func (d *deletion) transaction(ctx context.Context, skipLocked bool) (err error) {
	d.row = source.NewJournalRow(d.batch)
	d.gone = make(map[int]bool, len(d.batch.Ordinals))
	if _, err := d.pc.Exec(ctx, fmt.Sprintf("BEGIN; SET LOCAL lock_timeout = %d", max(d.batch.LockWait.Milliseconds(), 1))).ReadAll(); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			d.pc.Exec(context.WithoutCancel(ctx), "ROLLBACK").ReadAll()
		}
	}()
	if err := insertJournalRow(ctx, d.pc, d.batch.Table.Name, d.row); code(err) == uniqueViolation {
		// An earlier try was committed and its answer got lost.
		if _, err := d.pc.Exec(ctx, "ROLLBACK").ReadAll(); err != nil {
			return err
		}
		rows, err := journal(ctx, d.pc, "run = $1 AND segment = $2::bigint AND batch = $3::bigint", d.row.Run, fmt.Sprint(d.row.Segment), fmt.Sprint(d.row.Batch))
		if err != nil || len(rows) != 1 {
			return errors.Join(errors.New("the journal row of a committed batch cannot be read"), err)
		}
		d.row = &rows[0]
		return nil
	} else if err != nil {
		return err
	}
	if err := lockLease(ctx, d.pc, d.batch.Lease); err != nil {
		return err
	}
	byLeaf := map[uint32][]int{}
	for _, o := range d.batch.Ordinals {
		byLeaf[d.keys.rows[o].leaf] = append(byLeaf[d.keys.rows[o].leaf], o)
	}
	delete(byLeaf, 0)
	leaves := make([]uint32, 0, len(byLeaf))
	for leaf := range byLeaf {
		leaves = append(leaves, leaf)
	}
	slices.Sort(leaves)
	for _, leaf := range leaves {
		if err := d.leaf(ctx, leaf, byLeaf[leaf], skipLocked); err != nil {
			return err
		}
	}
	if err := d.explain(ctx); err != nil {
		return err
	}
	if err := updateJournalRow(ctx, d.pc, d.row); err != nil {
		return err
	}
	_, err = d.pc.Exec(context.WithoutCancel(ctx), "COMMIT").ReadAll()
	return err
}

// leaf deletes the rows that lie in one partition. The condition on the table's file is judged under the lock that
// the statement itself has taken, so that no rewrite can come in between.
func (d *deletion) leaf(ctx context.Context, leaf uint32, ordinals []int, skipLocked bool) error {
	name, err := d.leafName(ctx, leaf)
	if err != nil || name == "" {
		return err // a partition that is gone took its rows along: explain finds out
	}
	if skipLocked {
		query, values := d.query(leaf, name, true)
		free, err := d.addressed(ctx, query, values, ordinals, 1)
		if err != nil {
			return err
		}
		if ordinals = free; len(ordinals) == 0 {
			return nil
		}
		slices.Sort(ordinals)
	}
	query, values := d.query(leaf, name, false)
	deleted, err := d.addressed(ctx, query, values, ordinals, 1+len(d.keys.columns))
	if err != nil {
		return err
	}
	for _, o := range deleted {
		d.gone[o] = true
		d.row.Digest.Add(d.batch.Digests[o])
	}
	d.row.Deleted += len(deleted)
	return nil
}

// query deletes rows of one partition by address, version and key, or with lock picks those that nobody has locked. It
// returns the values that are bound behind the arrays of addresses, versions and keys.
func (d *deletion) query(leaf uint32, name string, lock bool) (string, []any) {
	arrays, names, on := keyJoin(d.keys.columns, 3)
	match := fmt.Sprintf("t.ctid = d.tid AND t.xmin = d.ver AND %s AND pg_relation_filenode(%d) = %d", on, leaf, d.keys.leaves[leaf])
	from := fmt.Sprintf("unnest($1::tid[], $2::xid[], %s) AS d(tid, ver, %s)", arrays, names)
	if lock {
		return fmt.Sprintf("SELECT t.ctid FROM %s JOIN ONLY %s t ON %s FOR UPDATE OF t SKIP LOCKED", from, name, match), nil
	}
	query := fmt.Sprintf("DELETE FROM ONLY %s AS t USING %s WHERE %s", name, from, match)
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
	keys := make([]string, len(d.keys.columns))
	for i, c := range d.keys.columns {
		keys[i] = expression(c)
	}
	return w.Finish(query+" RETURNING t.ctid, "+strings.Join(keys, ", "), func(n int) string { return numbered(2 + len(keys) + n) })
}

// addressed runs a statement over ordinals of one partition and returns those whose address, and key where the
// statement returns it, came back.
func (d *deletion) addressed(ctx context.Context, query string, values []any, ordinals []int, fields int) ([]int, error) {
	tids, versions := make([][]byte, len(ordinals)), make([][]byte, len(ordinals))
	keys := make([][]value.Value, len(ordinals))
	byAddress := make(map[[6]byte]int, len(ordinals))
	for i, o := range ordinals {
		at := &d.keys.rows[o]
		tids[i] = at.address[:]
		versions[i] = binary.BigEndian.AppendUint32(nil, at.version)
		keys[i] = d.keys.Key(o)
		byAddress[at.address] = o
	}
	keyParams, keyTypes := keyArrays(d.keys.columns, keys)
	params := append([][]byte{array(typeTID, tids), array(typeXID, versions)}, keyParams...)
	types := append([]uint32{arrayTID, arrayXID}, keyTypes...)
	more, moreTypes := bindTexts(values)
	params, types = append(params, more...), append(types, moreTypes...)
	out := make([]int, 0, len(ordinals))
	var mine, theirs []byte
	err := eachRow(ctx, d.pc, query, params, types, func(f [][]byte) error {
		o, ok := byAddress[[6]byte(f[0])]
		if !ok || len(f) != fields {
			return errors.New("the server reported a row that was not asked for")
		}
		for i, raw := range f[1:] {
			v, err := decode(raw, d.keys.columns[i], func(b []byte) []byte { return b })
			if err != nil {
				return err
			}
			mine, theirs = d.keys.Key(o)[i].AppendCanonical(mine[:0]), v.AppendCanonical(theirs[:0])
			if string(mine) != string(theirs) {
				return errors.New("the server reported a row under another key than was read")
			}
		}
		out = append(out, o)
		return nil
	})
	return out, err
}

func (d *deletion) leafName(ctx context.Context, leaf uint32) (name string, err error) {
	err = eachRow(ctx, d.pc, "SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1::text::oid",
		[][]byte{[]byte(fmt.Sprint(leaf))}, []uint32{typeText}, func(f [][]byte) error {
			name = string(f[0])
			return nil
		})
	return name, err
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
		if err := files(ctx, d.pc, now); err != nil {
			return err
		}
		if leaf != 0 && now.leaves[leaf] != 0 && now.leaves[leaf] != file {
			return source.ErrLocators
		}
	}
	arrays, names, on := keyJoin(d.keys.columns, 1)
	params, types := keyArrays(d.keys.columns, keys)
	query := fmt.Sprintf("SELECT d.ord, t.tableoid, t.ctid, t.xmin FROM unnest(%s) WITH ORDINALITY AS d(%s, ord) JOIN %s t ON %s", arrays, names, table(d.batch.Table), on)
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
	query, values := w.Finish(fmt.Sprintf("SELECT d.ord FROM unnest(%s) WITH ORDINALITY AS d(%s, ord) JOIN %s t ON %s WHERE %s", arrays, names, table(d.batch.Table), on, condition),
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
