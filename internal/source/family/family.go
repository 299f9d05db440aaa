// Package family deletes rows together with the related rows that go along with them: a family leaves whole or not at
// all. It is what all engines share; each hands it functions that speak its SQL within one transaction. A row is what
// was read when its content still is, which is compared under the row's lock, and again with what the delete reports.
package family

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// Operations are what an engine does within one transaction.
type Operations struct {
	// Mark and Undo: what was done since the last Mark can be taken back.
	Mark, Undo func(ctx context.Context) error
	// Rows hands on the rows of a query: its columns, then the key.
	Rows func(ctx context.Context, q source.Query, report bykey.Rower) error
	// Delete deletes the rows of these keys, but for those that any row refers to, and reports each.
	Delete func(ctx context.Context, sel source.Selection, columns []int, keys [][]value.Value,
		report bykey.Rower) error
	// Unlink makes columns NULL in the rows of these keys, and returns how many there were.
	Unlink func(ctx context.Context, sel source.Selection, columns []string, keys [][]value.Value) (int, error)
}

// Journal is how an engine keeps, within the same transaction, what a batch did.
type Journal struct {
	// Insert adds a journal row; it returns true where it stands there already.
	Insert func(table string, r *source.JournalRow) (there bool, err error)
	// Earlier reads the row that stands there: an earlier try was committed and its answer got lost. Nothing follows
	// it.
	Earlier func(r *source.JournalRow) (*source.JournalRow, error)
	Update  func(r *source.JournalRow) error
	Lock    func(l source.Lease) error // and check
	// source.ErrReshaped where a table that the batch deleted from was altered since it was described
	Same func(t *shape.Table) error
}

// Batch carries a batch out: its journal rows first, so that a retry waits for the fate of an earlier try; then the
// leases; then the families. It returns the journal row of the slice, and that of each related table that has rows in
// it, nil for the others. skip leaves families alone of which others have locked a row.
func Batch(ctx context.Context, b source.Batch, skip bool, j Journal, ops Operations) ([]*source.JournalRow, error) {
	rows := begin(b)
	for i, r := range rows {
		if r == nil {
			continue
		}
		there, err := j.Insert(table(b, i).Name, r)
		if there {
			return rows, earlier(rows, j)
		}
		if err != nil {
			return nil, err
		}
	}
	for _, l := range leases(b) {
		if err := j.Lock(l); err != nil {
			return nil, err
		}
	}
	if err := remove(ctx, b, skip, ops, rows); err != nil {
		return nil, err
	}
	for i, r := range rows {
		if r != nil {
			if err := j.Same(table(b, i)); err != nil {
				return nil, err
			}
			if err := j.Update(r); err != nil {
				return nil, err
			}
		}
	}
	return rows, nil
}

// begin makes the journal rows of a batch: the row of the slice, and that of each related table that has rows in it,
// nil for the others.
func begin(b source.Batch) []*source.JournalRow {
	out := []*source.JournalRow{source.NewJournalRow(b)}
	for i := range b.Families {
		k := &b.Families[i]
		part := source.Batch{Lease: k.Lease, Segment: k.Segment, Number: b.Number, Retry: b.Retry,
			Ordinals: ordinals(b, k), Digests: k.Digests}
		part.Lease.Run = b.Lease.Run
		if len(part.Ordinals) == 0 {
			out = append(out, nil)
			continue
		}
		out = append(out, source.NewJournalRow(part))
	}
	return out
}

// ordinals are those of the rows of a related table that go along with the rows of a batch.
func ordinals(b source.Batch, k *source.RelatedBatch) (out []int) {
	for _, root := range b.Ordinals {
		from, to := k.Of(root)
		for o := from; o < to; o++ {
			out = append(out, o)
		}
	}
	return out
}

// fate is what becomes of a row.
type fate byte

const (
	unknown fate = iota
	deleted
	changed
	vanished
	held
	skipped
)

// member is one table of the families of a batch.
type member struct {
	sel     source.Selection
	related *source.RelatedBatch // nil: the table of the slice
	columns []int
	key     func(ordinal int) []value.Value
	digests []value.Digest
	all     []int          // ordinals in the batch
	byKey   map[string]int // of those
	fate    map[int]fate
	set     value.Set // of what was deleted or unlinked
	count   int
	read    bykey.Reader
	locked  map[int][]value.Value // rows as they were found under their locks, in this attempt
}

func (m *member) root(ordinal int) int {
	if m.related == nil {
		return ordinal
	}
	return m.related.Roots[ordinal]
}

// deletion is the work of one batch.
type deletion struct {
	batch   source.Batch
	ops     Operations
	skip    bool // leave families alone of which others have locked a row
	members []*member
	out     map[int]fate // of families that stay: held, or skipped
}

// remove deletes the families of a batch that are whole and unchanged, and says in rows what became of each row.
func remove(ctx context.Context, b source.Batch, skip bool, ops Operations, rows []*source.JournalRow) error {
	root := &member{sel: b.Selection, columns: b.Columns, key: b.Locators.Key, digests: b.Digests, all: b.Ordinals}
	root.sel.Related = nil
	d := &deletion{batch: b, ops: ops, skip: skip, members: []*member{root}, out: map[int]fate{}}
	for i := range b.Families {
		k := &b.Families[i]
		d.members = append(d.members, &member{sel: k.Selection, related: k, columns: k.Columns,
			key: func(o int) []value.Value { return k.Keys[o] }, digests: k.Digests, all: ordinals(b, k)})
	}
	for _, m := range d.members {
		m.byKey, m.fate, m.read.Columns = make(map[string]int, len(m.all)), make(map[int]fate, len(m.all)),
			len(m.columns)
		for _, o := range m.all {
			m.byKey[m.read.Key(m.key(o))] = o
		}
	}
	for {
		if err := ops.Mark(ctx); err != nil {
			return err
		}
		again, err := d.attempt(ctx)
		if err != nil {
			return err
		}
		if !again {
			break
		}
		if err := ops.Undo(ctx); err != nil {
			return err
		}
	}
	return d.explain(ctx, rows)
}

// stays marks a family that cannot leave now.
func (d *deletion) stays(root int, why fate) {
	if d.out[root] != skipped { // what may pass later is tried again
		d.out[root] = why
	}
}

// attempt locks and compares the families that are still in the batch, level by level, and deletes those that are
// whole, the lowest level first. It returns true if a delete did not report all that it should have: then it is to be
// taken back.
func (d *deletion) attempt(ctx context.Context) (again bool, err error) {
	for _, m := range d.members {
		m.locked, m.set, m.count = map[int][]value.Value{}, value.Set{}, 0
		for _, o := range m.all {
			if d.out[m.root(o)] == unknown {
				delete(m.fate, o)
			}
		}
	}
	if err := d.lockRoots(ctx); err != nil {
		return false, err
	}
	for i := range d.members[1:] {
		if err := d.lockRelated(ctx, i+1); err != nil {
			return false, err
		}
	}
	for _, m := range slices.Backward(d.members) {
		if again, err := d.remove(ctx, m); err != nil || again {
			return again, err
		}
	}
	return false, nil
}

func (d *deletion) lock() source.Lock {
	if d.skip {
		return source.LockFree
	}
	return source.LockRows
}

// lockRoots locks the rows of the slice and finds out which are still what was read and may go.
func (d *deletion) lockRoots(ctx context.Context) error {
	m := d.members[0]
	var keys [][]value.Value
	for _, o := range m.all {
		if d.out[o] == unknown {
			keys = append(keys, m.key(o))
		}
	}
	query := source.Query{Selection: m.sel, Columns: m.columns, On: m.sel.Table.Key, Values: keys, Lock: d.lock()}
	if err := d.ops.Rows(ctx, query, func(row []value.Value) error {
		digest, key := m.read.Row(row)
		o, ok := m.byKey[key]
		switch {
		case !ok: // another key that the column's collation takes for equal
		case digest != m.digests[o]:
			m.fate[o] = changed
			d.stays(o, held)
		default:
			m.locked[o] = value.CloneRow(row)
		}
		return nil
	}); err != nil {
		return err
	}
	var missing [][]value.Value
	for _, o := range m.all {
		if m.locked[o] == nil && d.out[o] == unknown {
			missing = append(missing, m.key(o))
			m.fate[o] = vanished
			d.stays(o, held)
		}
	}
	if d.skip { // those that are there all the same are locked by others
		if err := d.ops.Rows(ctx, source.Query{Selection: m.sel, Columns: m.columns, On: m.sel.Table.Key,
			Values: missing}, func(row []value.Value) error {
			_, key := m.read.Row(row)
			if o, ok := m.byKey[key]; ok {
				d.stays(o, skipped)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return d.withhold(ctx, m, query, m.sel.Held, func(dialect source.Dialect) string {
		if c := m.sel.Rejudged(dialect); c != "" {
			return "NOT (" + c + ")"
		}
		return ""
	})
}

// withhold takes families out of the batch of which a row satisfies one of the conditions; the first is for good, the
// second for now.
func (d *deletion) withhold(ctx context.Context, m *member, query source.Query,
	conditions ...func(source.Dialect) string) error {
	query.Lock = source.NoLock
	for i, condition := range conditions {
		query.Condition = condition
		why := []fate{held, skipped}[i]
		err := d.ops.Rows(ctx, query, func(row []value.Value) error {
			_, key := m.read.Row(row)
			if o, ok := m.byKey[key]; ok && m.locked[o] != nil {
				m.fate[o] = why
				d.stays(m.root(o), why)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// lockRelated locks the rows that refer to those of the table above which are still in the batch. Rows that were not
// read, or are not what was read, keep their family.
func (d *deletion) lockRelated(ctx context.Context, at int) error {
	m := d.members[at]
	above := d.members[m.related.Parent+1]
	theirs := positions(above, m.related.TheirColumns())
	var values [][]value.Value
	roots := map[string]int{}
	var text bykey.Reader
	for o, row := range above.locked {
		if root := above.root(o); d.out[root] == unknown {
			if v, ok := pick(row, theirs); ok {
				values = append(values, v)
				roots[text.Key(v)] = root
			}
		}
	}
	ours := positions(m, m.related.OurColumns())
	query := source.Query{Selection: m.sel, Columns: m.columns, On: m.related.OurColumns(), Values: values,
		Lock: d.lock()}
	seen := map[int]bool{}
	each := func(locking bool) bykey.Rower {
		return func(row []value.Value) error {
			v, _ := pick(row, ours)
			root, ok := roots[text.Key(v)]
			if !ok { // another spelling of the reference; if a key ties it, the row above it will not be deleted
				return nil
			}
			digest, key := m.read.Row(row)
			o, known := m.byKey[key]
			switch {
			case !known: // it came since the family was read
				d.stays(root, held)
			case m.root(o) != root: // it moved from one family to another
				m.fate[o] = changed
				d.stays(root, held)
				d.stays(m.root(o), held)
			case digest != m.digests[o]:
				m.fate[o] = changed
				d.stays(root, held)
			case locking:
				m.locked[o] = value.CloneRow(row)
			case m.locked[o] == nil: // there, and others have locked it
				d.stays(root, skipped)
			}
			if known {
				seen[o] = true
			}
			return nil
		}
	}
	if err := d.ops.Rows(ctx, query, each(true)); err != nil {
		return err
	}
	if d.skip {
		query.Lock = source.NoLock
		if err := d.ops.Rows(ctx, query, each(false)); err != nil {
			return err
		}
	}
	if err := d.moved(ctx, m, seen); err != nil {
		return err
	}
	return d.withhold(ctx, m, query, m.related.Kept)
}

// moved finds out what has become of rows that were read and refer to their parent no more: one that is there refers
// to another now, and keeps its family; one that is gone keeps nothing.
func (d *deletion) moved(ctx context.Context, m *member, seen map[int]bool) error {
	var missing [][]value.Value
	for _, o := range m.all {
		if !seen[o] && d.out[m.root(o)] == unknown {
			m.fate[o] = vanished
			missing = append(missing, m.key(o))
		}
	}
	if len(missing) == 0 {
		return nil
	}
	return d.ops.Rows(ctx, source.Query{Selection: m.sel, Columns: m.columns, On: m.sel.Table.Key, Values: missing},
		func(row []value.Value) error {
			_, key := m.read.Row(row)
			if o, ok := m.byKey[key]; ok {
				m.fate[o] = changed
				d.stays(m.root(o), held)
			}
			return nil
		})
}

// remove deletes or unlinks the rows of one table whose families are whole.
func (d *deletion) remove(ctx context.Context, m *member) (again bool, err error) {
	var keys [][]value.Value
	leaving := map[int]bool{}
	for _, o := range m.all {
		if m.locked[o] != nil && d.out[m.root(o)] == unknown {
			keys = append(keys, m.key(o))
			leaving[o] = true
		}
	}
	if len(keys) == 0 {
		return false, nil
	}
	if m.related != nil && m.related.Then == rule.ThenUnlink {
		n, err := d.ops.Unlink(ctx, m.sel, m.related.OurColumns(), keys)
		if err == nil && n != len(keys) {
			err = fmt.Errorf("table %s: %d rows were locked and %d unlinked", m.sel.Table.Name, len(keys), n)
		}
		for o := range leaving {
			m.set.Add(m.digests[o])
		}
		m.count = n
		return false, err
	}
	err = d.ops.Delete(ctx, m.sel, m.columns, keys, func(row []value.Value) error {
		digest, key := m.read.Row(row)
		o, ok := m.byKey[key]
		if !ok || !leaving[o] || digest != m.digests[o] {
			return fmt.Errorf("table %s: a delete reported a row that is not what was locked", m.sel.Table.Name)
		}
		delete(leaving, o)
		m.set.Add(digest)
		m.count++
		return nil
	})
	for o := range leaving { // others refer to it
		d.stays(m.root(o), skipped)
		again = true
	}
	return again, err
}

// explain says of each row what became of it.
func (d *deletion) explain(ctx context.Context, rows []*source.JournalRow) error {
	for i, m := range d.members {
		if rows[i] == nil {
			continue
		}
		if err := d.stayed(ctx, m); err != nil {
			return err
		}
		out := rows[i]
		out.Deleted, out.Digest = m.count, m.set
		for _, o := range m.all {
			switch m.fate[o] {
			case changed:
				out.Changed = append(out.Changed, o)
			case vanished:
				out.Vanished = append(out.Vanished, o)
			case held:
				out.Held = append(out.Held, o)
			case skipped:
				out.Skipped = append(out.Skipped, o)
			}
		}
	}
	return nil
}

// stayed settles the rows of families that stay: what became of a row itself, or that it is kept with its family.
func (d *deletion) stayed(ctx context.Context, m *member) error {
	var open [][]value.Value
	for _, o := range m.all {
		switch why := d.out[m.root(o)]; {
		case why == skipped: // the whole family is tried again
			m.fate[o] = skipped
		case m.fate[o] != unknown:
		case why == unknown:
			m.fate[o] = deleted
		case m.related == nil:
			m.fate[o] = held
		default:
			m.fate[o] = vanished
			open = append(open, m.key(o))
		}
	}
	return d.ops.Rows(ctx, source.Query{Selection: m.sel, Columns: m.columns, On: m.sel.Table.Key, Values: open},
		func(row []value.Value) error {
			digest, key := m.read.Row(row)
			if o, ok := m.byKey[key]; ok && digest == m.digests[o] {
				m.fate[o] = held
			} else if ok {
				m.fate[o] = changed
			}
			return nil
		})
}

// positions returns where columns stand in a member's rows.
func positions(m *member, names []string) []int {
	out := make([]int, len(names))
	for i, name := range names {
		_, at := m.sel.Table.Column(name)
		out[i] = slices.Index(m.columns, at)
		if out[i] < 0 {
			out[i] = len(m.columns) + slices.Index(m.sel.Table.Key, name)
		}
	}
	return out
}

// pick returns the values at positions, and whether none is NULL.
func pick(row []value.Value, at []int) ([]value.Value, bool) {
	out := make([]value.Value, len(at))
	for i, p := range at {
		if row[p].Kind == value.Null {
			return nil, false
		}
		out[i] = row[p]
	}
	return out, true
}

// table returns the table of a batch's journal row at a position of what begin returns.
func table(b source.Batch, i int) *shape.Table {
	if i == 0 {
		return b.Table
	}
	return b.Families[i-1].Table
}

// leases returns the leases of a batch's tables, in one order for everybody.
func leases(b source.Batch) []source.Lease {
	out := []source.Lease{b.Lease}
	for _, k := range b.Families {
		out = append(out, k.Lease)
	}
	slices.SortFunc(out, func(a, b source.Lease) int { return strings.Compare(a.Table, b.Table) })
	return out
}

// earlier replaces journal rows by those that an earlier try of the batch has committed.
func earlier(rows []*source.JournalRow, j Journal) error {
	for i, r := range rows {
		if r == nil {
			continue
		}
		found, err := j.Earlier(r)
		if err != nil {
			return fmt.Errorf("the journal row of a committed batch cannot be read: %w", err)
		}
		rows[i] = found
	}
	return nil
}

// readGroup is of how many rows at a time the related rows are looked up, and held in memory.
const readGroup = 500

// Read reads the rows of a related table that go along with rows of the table above it, and hands them on in the order
// of those, and of their keys among the same. values holds the referred columns of the rows above, nil where one is
// NULL.
func Read(ctx context.Context, s source.Source, k source.Related, columns []int, values [][]value.Value,
	sink func(above int, row []value.Value) error) error {
	type found struct {
		above int
		key   []value.Value
		row   []value.Value
	}
	m := &member{sel: k.Selection, columns: columns}
	ours := positions(m, k.OurColumns())
	var text bykey.Reader
	for from := 0; from < len(values); from += readGroup {
		group := values[from:min(from+readGroup, len(values))]
		above := make(map[string]int, len(group))
		var bound [][]value.Value
		for i, v := range group {
			if v != nil {
				above[text.Key(v)] = from + i
				bound = append(bound, v)
			}
		}
		var rows []found
		err := s.Related(ctx, source.Query{Selection: source.Selection{Table: k.Table}, Columns: columns,
			On: k.OurColumns(), Values: bound}, func(row []value.Value) error {
			v, ok := pick(row, ours)
			if at, known := above[text.Key(v)]; ok && known { // not another spelling of the reference
				own := value.CloneRow(row)
				rows = append(rows, found{at, own[len(columns):], own[:len(columns)]})
			}
			return nil
		})
		if err != nil {
			return err
		}
		slices.SortFunc(rows, func(a, b found) int {
			if a.above != b.above {
				return a.above - b.above
			}
			return slices.CompareFunc(a.key, b.key, func(x, y value.Value) int {
				if x.Kind == value.Int && y.Kind == value.Int {
					return cmp.Compare(x.N, y.N)
				}
				return bytes.Compare(x.AppendCanonical(nil), y.AppendCanonical(nil))
			})
		})
		for _, r := range rows {
			if err := sink(r.above, append(r.row, r.key...)); err != nil {
				return err
			}
		}
	}
	return nil
}

// Referred returns, of rows of a table, the values of the columns that a related table refers to; nil where one is
// NULL.
func Referred(t *shape.Table, columns []int, k source.Related) func(row []value.Value) []value.Value {
	at := positions(&member{sel: source.Selection{Table: t}, columns: columns}, k.TheirColumns())
	return func(row []value.Value) []value.Value {
		v, ok := pick(row, at)
		if !ok {
			return nil
		}
		return value.CloneRow(v)
	}
}

// Nulls writes the assignments of an unlinking.
func Nulls(columns []string, quote func(string) string) string {
	set := make([]string, len(columns))
	for i, name := range columns {
		set[i] = quote(name) + " = NULL"
	}
	return strings.Join(set, ", ")
}
