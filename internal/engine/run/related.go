package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
	"ambercellar/internal/source/family"
)

// tables are the names of the tables that a pass works on: its own first.
func (p *Pass) tables() []string {
	out := []string{p.table.Name}
	for _, k := range p.related {
		out = append(out, k.table.Name)
	}
	return out
}

// equipRelated makes the passes of the related tables, which go along with those of the pass.
func (r *Execution) equipRelated(ctx context.Context, p *Pass, e rule.Clause) error {
	for i, k := range p.sel.Related {
		x := &Pass{clause: p.clause, then: k.Then, sel: k.Selection, table: k.Table,
			columns: due.Readable(k.Table, nil), relation: &p.sel.Related[i],
			filing: filingOf(e.Archive)}
		if k.Then == rule.ThenArchive {
			x.name = e.Archive.Store
			var err error
			if x.store, err = r.Store(ctx, x.name); err != nil {
				return err
			}
		}
		p.related = append(p.related, x)
	}
	return nil
}

// Of so many rows at first, and between these bounds, a slice with related rows consists: it is made so that all its
// rows together are about familyTarget.
const (
	familyFirst  = 1_000
	familyTarget = 100_000
)

// relatedRows is what is known of the rows of a work that others refer to, and of what they go along with.
type relatedRows struct {
	keys  [][]value.Value
	roots []int // by row: the row of the slice that it goes along with; nil for the slice's own rows
	// by position of a related table: what its rows refer to, by row; nil where that is NULL
	refs map[int][][]value.Value
}

func (k *relatedRows) root(row int) int {
	if k.roots == nil {
		return row
	}
	return k.roots[row]
}

// refer prepares to note, of each row with these columns, what related tables refer to. at is the position of the
// work's own table among the related ones, -1 for the slice itself.
func (w *Work) refer(at int, columns []shape.Column, related []*Pass) func(row []value.Value) {
	w.refs = map[int][][]value.Value{}
	t := &shape.Table{TableForm: shape.TableForm{Columns: columns}}
	all := due.Readable(t, nil)
	type reference struct {
		related int
		pick    func([]value.Value) []value.Value
	}
	var list []reference
	for i, k := range related {
		if k.relation.Parent == at {
			list = append(list, reference{i, family.Referred(t, all, *k.relation)})
		}
	}
	return func(row []value.Value) {
		for _, x := range list {
			w.refs[x.related] = append(w.refs[x.related], x.pick(row))
		}
	}
}

// above is the work that a related table's rows refer to.
func (w *Work) above(k *Pass) *Work {
	if k.relation.Parent < 0 {
		return w
	}
	return w.related[k.relation.Parent]
}

// readRelatedOf reads what goes along with a slice, table by table, and stores what is to be archived.
func (r *Execution) readRelatedOf(ctx context.Context, w *Work) error {
	rows := len(w.Digests)
	w.related = nil
	for i, k := range w.pass.related {
		x := &Work{number: w.number + 1 + i, pass: k}
		w.related = append(w.related, x)
		if err := r.readRelated(ctx, w, x, i, nil); err != nil {
			return err
		}
		rows += len(x.Digests)
	}
	if len(w.Digests) > 0 {
		r.family = min(max(len(w.Digests)*familyTarget/rows, 1), due.SliceRows)
	}
	return nil
}

// readRelated reads the rows of one related table that go along with those of its parent for which wanted, where it is
// not nil, is true.
func (r *Execution) readRelated(ctx context.Context, w, x *Work, at int, wanted func(root int) bool) error {
	k := x.pass
	above := w.above(k)
	values := above.refs[at]
	if wanted != nil {
		values = slices.Clone(values)
		for row := range values {
			if !wanted(above.root(row)) {
				values[row] = nil
			}
		}
	}
	columns := due.ColumnsAt(k.table, k.columns)
	note := x.refer(at, columns, w.pass.related)
	for range x.Digests { // rows that are done with
		note(make([]value.Value, len(columns)))
	}
	if x.roots == nil {
		x.roots = []int{}
	}
	var hasher value.Hasher
	copied := &relatedCopy{pass: k, chunk: value.Chunk{Width: len(columns)}}
	defer copied.abort()
	err := family.Read(ctx, r.source, *k.relation, k.columns, values, func(above int, row []value.Value) error {
		content := row[:len(columns)]
		x.Digests = append(x.Digests, hasher.Row(content))
		x.set.Add(x.Digests[len(x.Digests)-1])
		x.keys = append(x.keys, row[len(columns):])
		x.roots = append(x.roots, w.above(k).root(above))
		note(content)
		if k.store == nil {
			return ctx.Err()
		}
		if copied.draft == nil {
			x.manifest = r.manifestOf(k, x.number)
			x.manifest.GoesWith = &archive.GoesWith{Table: w.above(k).pass.table.Name, On: k.relation.On}
			if w.manifest != nil {
				x.manifest.GoesWith.Segment = w.manifest.Segment
			}
			x.manifest.Name()
			if err := copied.begin(ctx, x.manifest); err != nil {
				return err
			}
		}
		return errors.Join(copied.add(content), ctx.Err())
	})
	if err == nil {
		err = copied.flush()
	}
	if err != nil || copied.draft == nil {
		return err
	}
	x.manifest.Digest = x.set
	if err := r.begin(ctx, x); err != nil {
		return err
	}
	if err := copied.draft.Commit(); err != nil {
		return errors.Join(fmt.Errorf("store %s: %w", k.name, err), r.discard(context.WithoutCancel(ctx), x))
	}
	return nil
}

// relatedCopy writes the segment of a related table's rows, if there are any.
type relatedCopy struct {
	pass  *Pass
	draft *archive.Draft // nil before the first row
	chunk value.Chunk
}

func (c *relatedCopy) begin(ctx context.Context, m *archive.Manifest) (err error) {
	if c.draft, err = archive.Create(ctx, c.pass.store, m); err != nil {
		return fmt.Errorf("store %s: %w", c.pass.name, err)
	}
	return nil
}

// add takes a row, which is valid only during the call.
func (c *relatedCopy) add(row []value.Value) error {
	for _, v := range row {
		if v.B != nil {
			v.B = c.chunk.Keep(v.B)
		}
		c.chunk.Values = append(c.chunk.Values, v)
	}
	if c.chunk.Rows() >= 1024 || c.chunk.Size() >= 1<<20 {
		return c.flush()
	}
	return nil
}

func (c *relatedCopy) flush() error {
	if c.chunk.Rows() == 0 || c.draft == nil {
		return nil
	}
	defer c.chunk.Reset()
	if err := c.draft.Write(&c.chunk); err != nil {
		return fmt.Errorf("store %s: writing a segment: %w", c.pass.name, err)
	}
	return nil
}

// abort takes back what is not committed.
func (c *relatedCopy) abort() {
	if c.draft != nil {
		c.draft.Abort()
	}
}

// begin notes in the catalog that a segment is being written.
func (r *Execution) begin(ctx context.Context, w *Work) error {
	m := w.manifest
	w.segment = &catalog.Segment{SegmentOrigin: catalog.SegmentOrigin{ID: m.Segment, Run: r.Run.ID, Number: w.number,
		Clause: w.pass.clause, Source: m.Source, Table: m.Table, Part: w.pass.partition, Store: w.pass.name,
		Stem: m.Stem, State: catalog.SegmentWriting, CreatedAt: catalog.At(r.Now()), Rule: r.Run.Rule}}
	return r.Catalog.AddSegment(ctx, w.segment)
}

// families is what a batch of the slice takes along.
func (w *Work) families(r *Execution, sel source.Selection) []source.RelatedBatch {
	out := make([]source.RelatedBatch, len(w.related))
	for i, x := range w.related {
		out[i] = source.RelatedBatch{Related: sel.Related[i], Lease: r.leases[x.pass.table.Name], Segment: x.number,
			Columns: x.pass.columns, Keys: x.keys, Digests: x.Digests, Roots: x.roots}
	}
	return out
}

// together counts the rows of the slice at these ordinals, and those that go along with them.
func (w *Work) together(ordinals []int) int {
	n := len(ordinals)
	for _, x := range w.related {
		k := source.RelatedBatch{Roots: x.roots}
		for _, o := range ordinals {
			from, to := k.Of(o)
			n += to - from
		}
	}
	return n
}

// nextBatch returns how many of the ordinals are the next batch: families that together have about so many rows.
func (w *Work) nextBatch(todo []int, rows int) int {
	n := min(rows, len(todo))
	for len(w.related) > 0 && n > 1 && w.together(todo[:n]) > rows {
		n = max(1, min(n-1, n*rows/w.together(todo[:n])))
	}
	return n
}

// closeRelated closes the segments of the rows that went along with a slice. undone are rows of the slice that no
// batch will cover.
func (r *Execution) closeRelated(ctx context.Context, w *Work, undone []int) error {
	for _, x := range w.related {
		// the latter by an earlier execution, which came no further
		if x.segment == nil || x.segment.State == catalog.SegmentClosed {
			continue
		}
		journal, err := r.journalOf(ctx, x.number)
		if err != nil {
			return err
		}
		var left []int
		k := source.RelatedBatch{Roots: x.roots}
		for _, root := range undone {
			from, to := k.Of(root)
			for o := from; o < to; o++ {
				left = append(left, o)
			}
		}
		if err := r.closingOfRelated(ctx, x, journal, left); err != nil {
			return err
		}
	}
	return nil
}

func (r *Execution) closingOfRelated(ctx context.Context, x *Work, journal []source.JournalRow, undone []int) error {
	books, err := ClosingOf(x, journal, undone)
	if err != nil {
		return fmt.Errorf("run %s, slice %d, table %s: %w", r.Run.ID, x.number, x.pass.table.Name, err)
	}
	if err := r.closeSegment(ctx, x, books); err != nil {
		return err
	}
	r.addUp(x.pass, numbers(books))
	if !r.copies(x.pass.clause) {
		r.Run.RawBytes += x.segment.RawBytes
		r.Run.FileBytes += x.segment.FileBytes
	}
	return nil
}

// closeOpenRelated closes segments of related tables as they are: rows that no batch has covered count as skipped.
// wanted says which of them.
func (r *Execution) closeOpenRelated(ctx context.Context, segments []catalog.Segment,
	wanted func(s *catalog.Segment) bool) error {
	for i := range segments {
		s := &segments[i]
		if s.Table == r.table.Name || s.State != catalog.SegmentOpen || !wanted(s) {
			continue
		}
		p, err := r.passOf(s.Clause, s.Table)
		if err != nil {
			return err
		}
		x, err := r.stored(ctx, s, p)
		if err != nil {
			return err
		}
		journal, err := r.source.Journal(ctx, r.Run.ID, s.Number)
		if err != nil {
			return err
		}
		undone, _ := remaining(x, journal)
		if err := r.closingOfRelated(ctx, x, journal, undone); err != nil {
			return err
		}
	}
	return nil
}

// tallyRelated makes, from the journal, the books of related rows that are not archived, in the slice of a number.
// They are added up by the function that it returns, which cannot fail: that happens once, when the slice itself
// counts as done.
func (r *Execution) tallyRelated(ctx context.Context, p *Pass, number int) (func(), error) {
	sums := map[*Pass]*books{}
	for i, k := range p.related {
		if k.store != nil {
			continue
		}
		err := r.retry(ctx, func() error {
			journal, err := r.source.Journal(ctx, r.Run.ID, number+1+i)
			sums[k] = tally(journal)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return func() {
		for k, b := range sums {
			r.addUp(k, b)
		}
		r.Run.Slices = max(r.Run.Slices, number+len(p.related))
	}, nil
}

// tally makes the books of rows that are not archived from their journal alone.
func tally(journal []source.JournalRow) *books {
	out := &books{}
	for _, row := range journal {
		out.deleted += int64(row.Deleted)
		out.digest.Merge(row.Digest)
		out.left.Merge(row.Found)
		out.left.Subtract(row.Digest)
		out.changed += int64(len(row.Changed))
		out.vanished += int64(len(row.Vanished))
		out.held += int64(len(row.Held))
		out.skipped += int64(len(row.Skipped))
		if row.Retry {
			out.skipped -= int64(row.Rows)
		}
	}
	return out
}

// reopenRelated finds, for a slice that is taken up again, what goes along with its rows: archived rows from their
// segments, others from the table, as far as their families are still to be deleted.
func (r *Execution) reopenRelated(ctx context.Context, w *Work, segments []catalog.Segment,
	journal []source.JournalRow) error {
	todo, _ := remaining(w, journal)
	waiting := map[int]bool{}
	for _, o := range todo {
		waiting[o] = true
	}
	w.related = nil
	for i, k := range w.pass.related {
		number := w.number + 1 + i
		x := &Work{number: number, pass: k}
		x.roots = []int{}
		at := slices.IndexFunc(segments, func(s catalog.Segment) bool {
			return s.Number == number &&
				s.State != catalog.SegmentAbandoned
		})
		if at >= 0 {
			stored, err := r.stored(ctx, &segments[at], k)
			if err != nil {
				return err
			}
			x = stored
			if err := x.tie(w, i); err != nil {
				return err
			}
		}
		w.related = append(w.related, x)
		if k.store != nil {
			continue
		}
		rows, err := r.source.Journal(ctx, r.Run.ID, number)
		if err != nil {
			return err
		}
		for _, row := range rows { // ordinals that are spent
			for len(x.Digests) <= row.Last {
				x.Digests, x.keys, x.roots = append(x.Digests, value.Digest{}), append(x.keys, nil),
					append(x.roots, -1)
			}
		}
		if err := r.readRelated(ctx, w, x, i, func(root int) bool { return waiting[root] }); err != nil {
			return err
		}
	}
	return nil
}

// tie finds out which row of the slice each archived related row goes along with.
func (w *Work) tie(root *Work, at int) error {
	above := root.above(w.pass)
	rows := map[string]int{}
	for row, v := range above.refs[at] {
		if v != nil {
			rows[shelf.Canonical(v)] = above.root(row)
		}
	}
	w.roots = make([]int, len(w.Digests))
	for i, v := range w.refers {
		o, ok := rows[shelf.Canonical(v)]
		if !ok {
			return fmt.Errorf("segment %s: %w: row %d goes along with none of its parent's rows", w.manifest.Segment,
				archive.ErrDamaged, i)
		}
		w.roots[i] = o
	}
	if !slices.IsSorted(w.roots) {
		return fmt.Errorf("segment %s: %w: its rows are not in the order of those that they go along with",
			w.manifest.Segment, archive.ErrDamaged)
	}
	return nil
}

// stored reads a segment again from its store, in place of what it was made from.
func (r *Execution) stored(ctx context.Context, s *catalog.Segment, p *Pass) (*Work, error) {
	m, _, err := archive.LoadManifest(ctx, p.store, s.Stem)
	if err != nil {
		return nil, err
	}
	w := &Work{number: s.Number, pass: p, segment: s, archived: archived{manifest: m}}
	return w, r.contents(ctx, w)
}

// gates are those of all tables of a pass, held for reading until the function that it returns is called.
func (r *Execution) gates(p *Pass) func() {
	var held []*sync.RWMutex
	for _, name := range slices.Sorted(slices.Values(p.tables())) {
		g := r.tables.Gate(r.Run.Source, name)
		g.RLock()
		held = append(held, g)
	}
	return func() {
		for _, g := range held {
			g.RUnlock()
		}
	}
}
