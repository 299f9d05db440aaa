package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
	"ambercellar/internal/source/family"
)

// relatedTo describes the tables that a rule names as related, by the name that it gives; those that are not there are
// left out.
func relatedTo(ctx context.Context, src source.Source, r *rule.Rule) (joinedTables, error) {
	out := joinedTables{}
	for _, x := range r.Relations() {
		t, err := src.Table(ctx, x.Table)
		if errors.Is(err, source.ErrNoTable) {
			continue
		} else if err != nil {
			return nil, err
		}
		out[x.Table] = t
	}
	return out, nil
}

// pinRelated looks up the enabled rules of the tables related to a rule's, with their cutoffs at now.
func (e *Engine) pinRelated(ctx context.Context, r *rule.Rule, related joinedTables, now time.Time) ([]catalog.PinnedRule, error) {
	out := []catalog.PinnedRule{}
	if len(r.Relations()) == 0 {
		return out, nil
	}
	rules, err := e.Catalog.Rules(ctx)
	if err != nil {
		return nil, err
	}
	keeps, err := e.keeps(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range r.Relations() {
		own := related[x.Table]
		if own == nil {
			continue // whoever binds it says so
		}
		for i := range rules {
			body := &rules[i].Body.V
			if rules[i].Source != r.Source || rules[i].Table != own.Name || body.Off {
				continue
			}
			cutoffs, err := body.Cutoffs(now, resolver(keeps, own))
			if err != nil {
				return nil, unjudged(body, own, err)
			}
			p := catalog.PinnedRule{Table: own.Name, Rule: rules[i].Name, Revision: rules[i].Revision}
			for _, c := range cutoffs {
				pinned := catalog.PinnedCutoff{Never: c.Never, All: c.All}
				if !c.At.IsZero() {
					at := catalog.Time{Time: c.At}
					pinned.At = &at
				}
				p.Cutoffs = append(p.Cutoffs, pinned)
			}
			out = append(out, p)
		}
	}
	return out, nil
}

func unjudged(body *rule.Rule, own *shape.Table, err error) error {
	return &refuse.Error{Field: "related", Message: fmt.Sprintf("the rule %s of the related table %s cannot be judged: %v", body.Name, own.Name, err), Remedy: "mend that rule"}
}

// kinOf makes the related tables of a rule's selection. A related table that had an enabled rule of its own when the plan was made keeps what
// that rule kept then; holds are not filled in.
func (e *Engine) kinOf(ctx context.Context, src source.Source, r *rule.Rule, t *shape.Table, related joinedTables, pinned []catalog.PinnedRule) ([]source.Kin, error) {
	var out []source.Kin
	for _, x := range r.Relations() {
		own, above := related[x.Table], t
		if own == nil {
			return nil, &refuse.Error{Field: "related", Message: fmt.Sprintf("there is no table %q any more", x.Table), Remedy: "change the rule"}
		}
		if x.Parent >= 0 {
			above = out[x.Parent].Table
		}
		on, err := x.Pairs(own, above)
		if err != nil {
			return nil, &refuse.Error{Field: "related", Message: err.Error(), Remedy: "change the rule"}
		}
		k := source.Kin{Selection: source.Selection{Table: own}, Parent: x.Parent, On: on, Then: x.Then}
		for i := range pinned {
			if pinned[i].Table == own.Name {
				if err := e.judgeKin(ctx, src, &k, &pinned[i]); err != nil {
					return nil, err
				}
			}
		}
		out = append(out, k)
	}
	return out, nil
}

// judgeKin gives a related table the terms of its pinned rule.
func (e *Engine) judgeKin(ctx context.Context, src source.Source, k *source.Kin, p *catalog.PinnedRule) error {
	body, _, err := e.revision(ctx, p.Rule, p.Revision)
	if err != nil {
		return err
	}
	joined, err := joinedBy(ctx, src, body)
	if err != nil {
		return err
	}
	cutoffs := make([]rule.Cutoff, len(p.Cutoffs))
	for i, c := range p.Cutoffs {
		cutoffs[i] = rule.Cutoff{Never: c.Never, All: c.All}
		if c.At != nil {
			cutoffs[i].At = c.At.Time
		}
	}
	if k.Terms, err = body.Terms(cutoffs, body.Scope(k.Table, joined)); err != nil {
		return unjudged(body, k.Table, err)
	}
	k.Age, k.Joins = body.Age, joinsOf(body, joined)
	return nil
}

// revision reads a revision of a rule, and its text as it was applied.
func (e *Engine) revision(ctx context.Context, name string, revision int) (*rule.Rule, string, error) {
	revisions, err := e.Catalog.Revisions(ctx, name)
	if err != nil {
		return nil, "", err
	}
	for _, v := range revisions {
		if v.Revision != revision {
			continue
		}
		if docs, _ := rule.Parse("", []byte(v.Text)); len(docs) == 1 {
			return &docs[0].Rule, v.Text, nil
		}
	}
	return nil, "", fmt.Errorf("revision %d of rule %s cannot be read", revision, name)
}

// withHolds fills in the holds that stand on a selection's table and on those related to it.
func (e *Engine) withHolds(ctx context.Context, sourceName string, sel source.Selection) (source.Selection, error) {
	var err error
	if sel.Holds, err = e.holdsOn(ctx, sourceName, sel.Table); err != nil {
		return sel, err
	}
	sel.Kin = slices.Clone(sel.Kin)
	for i := range sel.Kin {
		if sel.Kin[i].Holds, err = e.holdsOn(ctx, sourceName, sel.Kin[i].Table); err != nil {
			return sel, err
		}
	}
	return sel, nil
}

// relationText says by which columns a related table refers to the one above it.
func relationText(k source.Kin) string {
	parts := make([]string, len(k.On))
	for i, pair := range k.On {
		parts[i] = pair[0] + " = " + pair[1]
	}
	return strings.Join(parts, ", ")
}

// claim makes this execution the only one of the service on the tables of a run, and returns how to give them back.
func (e *Engine) claim(ctx context.Context, sourceName string, tables []string) (func(), error) {
	var taken []chan struct{}
	release := func() {
		for _, c := range taken {
			<-c
		}
	}
	tables = slices.Compact(slices.Sorted(slices.Values(tables)))
	for _, name := range tables {
		c, _ := e.claims.LoadOrStore(sourceName+"\x00"+name, make(chan struct{}, 1))
		select {
		case c.(chan struct{}) <- struct{}{}:
			taken = append(taken, c.(chan struct{}))
		case <-ctx.Done():
			release()
			return nil, context.Cause(ctx)
		}
	}
	return release, nil
}

// tryClaim claims a table if nobody works on it; nil: somebody does.
func (e *Engine) tryClaim(sourceName, table string) (release func()) {
	x, _ := e.claims.LoadOrStore(sourceName+"\x00"+table, make(chan struct{}, 1))
	c := x.(chan struct{})
	select {
	case c <- struct{}{}:
		return func() { <-c }
	default:
		return nil
	}
}

// tables are the names of the tables that a pass works on: its own first.
func (p *pass) tables() []string {
	out := []string{p.table.Name}
	for _, k := range p.kin {
		out = append(out, k.table.Name)
	}
	return out
}

// equipKin makes the passes of the related tables, which go along with those of the pass.
func (r *runner) equipKin(ctx context.Context, p *pass, e rule.Clause) error {
	for i, k := range p.sel.Kin {
		x := &pass{clause: p.clause, then: k.Then, sel: k.Selection, table: k.Table, columns: readable(k.Table, nil), relation: &p.sel.Kin[i], keep: e.Archive.Keep, keepFrom: e.Archive.From,
			second: e.Archive.Second, coldStore: e.Archive.ColdStore, coldAfter: e.Archive.ColdAfter}
		if k.Then == rule.ThenArchive {
			x.name = e.Archive.Store
			var err error
			if x.store, err = r.Store(ctx, x.name); err != nil {
				return err
			}
		}
		p.kin = append(p.kin, x)
	}
	return nil
}

// Of so many rows at first, and between these bounds, a slice with related rows consists: it is made so that all its rows
// together are about familyTarget.
const (
	familyFirst  = 1_000
	familyTarget = 100_000
)

// kinRows is what is known of the rows of a work that others refer to, and of what they go along with.
type kinRows struct {
	keys  [][]value.Value
	roots []int                   // by row: the row of the slice that it goes along with; nil for the slice's own rows
	refs  map[int][][]value.Value // by position of a related table: what its rows refer to, by row; nil where that is NULL
}

func (k *kinRows) root(row int) int {
	if k.roots == nil {
		return row
	}
	return k.roots[row]
}

// refer prepares to note, of each row with these columns, what related tables refer to. at is the position of the work's
// own table among the related ones, -1 for the slice itself.
func (w *work) refer(at int, columns []shape.Column, kin []*pass) func(row []value.Value) {
	w.refs = map[int][][]value.Value{}
	t := &shape.Table{Columns: columns}
	all := readable(t, nil)
	type reference struct {
		kin  int
		pick func([]value.Value) []value.Value
	}
	var list []reference
	for i, k := range kin {
		if k.relation.Parent == at {
			list = append(list, reference{i, family.Referred(t, all, *k.relation)})
		}
	}
	return func(row []value.Value) {
		for _, x := range list {
			w.refs[x.kin] = append(w.refs[x.kin], x.pick(row))
		}
	}
}

// above is the work that a related table's rows refer to.
func (w *work) above(k *pass) *work {
	if k.relation.Parent < 0 {
		return w
	}
	return w.kin[k.relation.Parent]
}

// readKin reads what goes along with a slice, table by table, and stores what is to be archived.
func (r *runner) readKin(ctx context.Context, w *work) error {
	rows := len(w.digests)
	w.kin = nil
	for i, k := range w.pass.kin {
		x := &work{number: w.number + 1 + i, pass: k}
		w.kin = append(w.kin, x)
		if err := r.readRelated(ctx, w, x, i, nil); err != nil {
			return err
		}
		rows += len(x.digests)
	}
	if len(w.digests) > 0 {
		r.family = min(max(len(w.digests)*familyTarget/rows, 1), sliceRows)
	}
	return nil
}

// readRelated reads the rows of one related table that go along with those of its parent for which wanted, where it is not
// nil, is true.
func (r *runner) readRelated(ctx context.Context, w, x *work, at int, wanted func(root int) bool) error {
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
	columns := columnsAt(k.table, k.columns)
	note := x.refer(at, columns, w.pass.kin)
	for range x.digests { // rows that are done with
		note(make([]value.Value, len(columns)))
	}
	if x.roots == nil {
		x.roots = []int{}
	}
	var hasher value.Hasher
	var draft *archive.Draft
	defer func() {
		if draft != nil {
			draft.Abort()
		}
	}()
	chunk := &value.Chunk{Width: len(columns)}
	flush := func() error {
		if chunk.Rows() == 0 || draft == nil {
			return nil
		}
		defer chunk.Reset()
		if err := draft.Write(chunk); err != nil {
			return fmt.Errorf("store %s: writing a segment: %w", k.name, err)
		}
		return nil
	}
	err := family.Read(ctx, r.source, *k.relation, k.columns, values, func(above int, row []value.Value) error {
		content := row[:len(columns)]
		x.digests = append(x.digests, hasher.Row(content))
		x.set.Add(x.digests[len(x.digests)-1])
		x.keys = append(x.keys, row[len(columns):])
		x.roots = append(x.roots, w.above(k).root(above))
		note(content)
		if k.store == nil {
			return ctx.Err()
		}
		if draft == nil {
			x.manifest = r.manifestOf(k, x.number)
			x.manifest.GoesWith = &archive.GoesWith{Table: w.above(k).pass.table.Name, On: k.relation.On}
			if w.manifest != nil {
				x.manifest.GoesWith.Segment = w.manifest.Segment
			}
			x.manifest.Name()
			var err error
			if draft, err = archive.Create(ctx, k.store, x.manifest); err != nil {
				return fmt.Errorf("store %s: %w", k.name, err)
			}
		}
		for _, v := range content {
			if v.B != nil {
				v.B = chunk.Keep(v.B)
			}
			chunk.Values = append(chunk.Values, v)
		}
		if chunk.Rows() >= 1024 || chunk.Size() >= 1<<20 {
			return errors.Join(flush(), ctx.Err())
		}
		return ctx.Err()
	})
	if err == nil {
		err = flush()
	}
	if err != nil || draft == nil {
		return err
	}
	x.manifest.Digest = x.set
	if err := r.begin(ctx, x); err != nil {
		return err
	}
	if err := draft.Commit(); err != nil {
		return errors.Join(fmt.Errorf("store %s: %w", k.name, err), r.discard(context.WithoutCancel(ctx), x))
	}
	return nil
}

// begin notes in the catalog that a segment is being written.
func (r *runner) begin(ctx context.Context, w *work) error {
	m := w.manifest
	w.segment = &catalog.Segment{ID: m.Segment, Run: r.run.ID, Number: w.number, Clause: w.pass.clause, Source: m.Source, Table: m.Table, Part: w.pass.part, Store: w.pass.name, Stem: m.Stem,
		State: catalog.SegmentWriting, CreatedAt: catalog.At(r.Now()), Rule: r.run.Rule}
	return r.Catalog.AddSegment(ctx, w.segment)
}

// families is what a batch of the slice takes along.
func (w *work) families(r *runner, sel source.Selection) []source.KinBatch {
	out := make([]source.KinBatch, len(w.kin))
	for i, x := range w.kin {
		out[i] = source.KinBatch{Kin: sel.Kin[i], Lease: r.leases[x.pass.table.Name], Segment: x.number, Columns: x.pass.columns, Keys: x.keys, Digests: x.digests, Roots: x.roots}
	}
	return out
}

// together counts the rows of the slice at these ordinals, and those that go along with them.
func (w *work) together(ordinals []int) int {
	n := len(ordinals)
	for _, x := range w.kin {
		k := source.KinBatch{Roots: x.roots}
		for _, o := range ordinals {
			from, to := k.Of(o)
			n += to - from
		}
	}
	return n
}

// bite returns how many of the ordinals are the next batch: families that together have about so many rows.
func (w *work) bite(todo []int, rows int) int {
	n := min(rows, len(todo))
	for len(w.kin) > 0 && n > 1 && w.together(todo[:n]) > rows {
		n = max(1, min(n-1, n*rows/w.together(todo[:n])))
	}
	return n
}

// closeKin closes the segments of the rows that went along with a slice. undone are rows of the slice that no batch will cover.
func (r *runner) closeKin(ctx context.Context, w *work, undone []int) error {
	for _, x := range w.kin {
		if x.segment == nil || x.segment.State == catalog.SegmentClosed { // the latter by an earlier execution, which came no further
			continue
		}
		journal, err := r.journalOf(ctx, x.number)
		if err != nil {
			return err
		}
		var left []int
		k := source.KinBatch{Roots: x.roots}
		for _, root := range undone {
			from, to := k.Of(root)
			for o := from; o < to; o++ {
				left = append(left, o)
			}
		}
		if err := r.settleKin(ctx, x, journal, left); err != nil {
			return err
		}
	}
	return nil
}

func (r *runner) settleKin(ctx context.Context, x *work, journal []source.JournalRow, undone []int) error {
	books, err := settle(x, journal, undone)
	if err != nil {
		return fmt.Errorf("run %s, slice %d, table %s: %w", r.run.ID, x.number, x.pass.table.Name, err)
	}
	if err := r.closeSegment(ctx, x, books); err != nil {
		return err
	}
	r.addUp(x.pass, numbers(books))
	if !r.copies(x.pass.clause) {
		r.run.RawBytes += x.segment.RawBytes
		r.run.FileBytes += x.segment.FileBytes
	}
	return nil
}

// closeOpenKin closes segments of related tables as they are: rows that no batch has covered count as skipped. wanted
// says which of them.
func (r *runner) closeOpenKin(ctx context.Context, segments []catalog.Segment, wanted func(s *catalog.Segment) bool) error {
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
		journal, err := r.source.Journal(ctx, r.run.ID, s.Number)
		if err != nil {
			return err
		}
		undone, _ := remaining(x, journal)
		if err := r.settleKin(ctx, x, journal, undone); err != nil {
			return err
		}
	}
	return nil
}

// tallyKin makes, from the journal, the books of related rows that are not archived, in the slice of a number. They are
// added up by the function that it returns, which cannot fail: that happens once, when the slice itself counts as done.
func (r *runner) tallyKin(ctx context.Context, p *pass, number int) (func(), error) {
	sums := map[*pass]*books{}
	for i, k := range p.kin {
		if k.store != nil {
			continue
		}
		err := r.retry(ctx, func() error {
			journal, err := r.source.Journal(ctx, r.run.ID, number+1+i)
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
		r.run.Slices = max(r.run.Slices, number+len(p.kin))
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

// reopenKin finds, for a slice that is taken up again, what goes along with its rows: archived rows from their segments,
// others from the table, as far as their families are still to be deleted.
func (r *runner) reopenKin(ctx context.Context, w *work, segments []catalog.Segment, journal []source.JournalRow) error {
	todo, _ := remaining(w, journal)
	waiting := map[int]bool{}
	for _, o := range todo {
		waiting[o] = true
	}
	w.kin = nil
	for i, k := range w.pass.kin {
		number := w.number + 1 + i
		x := &work{number: number, pass: k}
		x.roots = []int{}
		at := slices.IndexFunc(segments, func(s catalog.Segment) bool { return s.Number == number && s.State != catalog.SegmentAbandoned })
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
		w.kin = append(w.kin, x)
		if k.store != nil {
			continue
		}
		rows, err := r.source.Journal(ctx, r.run.ID, number)
		if err != nil {
			return err
		}
		for _, row := range rows { // ordinals that are spent
			for len(x.digests) <= row.Last {
				x.digests, x.keys, x.roots = append(x.digests, value.Digest{}), append(x.keys, nil), append(x.roots, -1)
			}
		}
		if err := r.readRelated(ctx, w, x, i, func(root int) bool { return waiting[root] }); err != nil {
			return err
		}
	}
	return nil
}

// tie finds out which row of the slice each archived related row goes along with.
func (w *work) tie(root *work, at int) error {
	above := root.above(w.pass)
	rows := map[string]int{}
	for row, v := range above.refs[at] {
		if v != nil {
			rows[canonical(v)] = above.root(row)
		}
	}
	w.roots = make([]int, len(w.digests))
	for i, v := range w.refers {
		o, ok := rows[canonical(v)]
		if !ok {
			return fmt.Errorf("segment %s: %w: row %d goes along with none of its parent's rows", w.manifest.Segment, archive.ErrDamaged, i)
		}
		w.roots[i] = o
	}
	if !slices.IsSorted(w.roots) {
		return fmt.Errorf("segment %s: %w: its rows are not in the order of those that they go along with", w.manifest.Segment, archive.ErrDamaged)
	}
	return nil
}

func canonical(vs []value.Value) string {
	var out []byte
	for _, v := range vs {
		out = v.AppendCanonical(out)
	}
	return string(out)
}

// stored reads a segment again from its store, in place of what it was made from.
func (r *runner) stored(ctx context.Context, s *catalog.Segment, p *pass) (*work, error) {
	m, _, err := archive.LoadManifest(ctx, p.store, s.Stem)
	if err != nil {
		return nil, err
	}
	w := &work{number: s.Number, pass: p, segment: s, archived: archived{manifest: m}}
	return w, r.contents(ctx, w)
}

// chainOf returns the chain of a table.
func (r *runner) chainOf(table string) *chain {
	r.chainsLock.Lock()
	defer r.chainsLock.Unlock()
	if r.chains == nil {
		r.chains = map[string]*chain{}
	}
	if r.chains[table] == nil {
		r.chains[table] = &chain{db: r.source, source: r.run.Source, table: table}
	}
	return r.chains[table]
}

// gates are those of all tables of a pass, held for reading until the function that it returns is called.
func (r *runner) gates(p *pass) func() {
	var held []*sync.RWMutex
	for _, name := range slices.Sorted(slices.Values(p.tables())) {
		g := r.gate(r.run.Source, name)
		g.RLock()
		held = append(held, g)
	}
	return func() {
		for _, g := range held {
			g.RUnlock()
		}
	}
}
