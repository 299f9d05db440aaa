package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/engine/watch"
)

// A transaction of a restore puts back so many rows at the most, or fewer where they are wide.
const restoreRows, restoreBytes = 50_000, 8 << 20

// Restore carries a restore out, or goes on with one that was interrupted: what that has put back counts. Files are
// made in directory. One that the end of the service interrupts, or that waits for what does not answer, is left as it
// is, and can be carried out again.
func (rs *Restorer) Restore(ctx context.Context, r *catalog.Restore, directory string) error {
	q := &restoration{Restorer: rs, restore: r, directory: directory, again: r.Begun || r.Segments > 0 || r.Found > 0}
	r.Segments, r.Found, r.Restored, r.Skipped, r.Replaced, r.Digest, r.Reason = 0, 0, 0, 0, 0, "", ""
	rs.shelf.Reading.RLock()
	err := q.run(ctx)
	rs.shelf.Reading.RUnlock()
	if err != nil && errors.Is(context.Cause(ctx), refuse.ErrShutdown) {
		return refuse.ErrShutdown
	}
	if tables.Away(err) && tables.Passing(err) {
		r.Reason = tables.Waits(err)
		return errors.Join(&tables.Waiting{Reason: r.Reason, Why: err},
			rs.Catalog.SaveRestore(context.WithoutCancel(ctx), r))
	}
	now := catalog.At(rs.Now())
	r.EndedAt = &now
	if err != nil {
		r.State, r.Reason, r.Lasts, r.ExpiresAt = catalog.RestoreFailed, err.Error(), "", nil
	} else {
		yes := true
		r.State, r.Verified = catalog.RestoreDone, &yes
		if r.Lasts != "" { // the time begins when the rows are there
			_, r.ExpiresAt, _ = lasting(r.Lasts, rs.Now()) // it was read before
		}
	}
	return errors.Join(err, rs.Catalog.SaveRestore(context.WithoutCancel(ctx), r))
}

// restoration is a restore being carried out.
type restoration struct {
	*Restorer
	restore   *catalog.Restore
	directory string // for files
	again     bool   // an earlier try has put rows back, or may have
	related   bool   // what went along with the rows goes back with them
	quiet     bool   // its counts are not kept
	unpicked  bool   // families are listed whether or not a row of them is wanted

	stale   stale                    // rows of which a newer version is archived
	seen    *search.SeenKeys         // keys that a file has already
	moment  *search.Moment           // what a run that goes on has deleted when the restore began
	proving map[string]<-chan proven // by segment: what is being verified ahead of its turn
	columns []shape.Column           // that any segment of the table has, where there is a filter
	sides   map[string]*sideShape    // by table: what the side tables are made like
	delivery
}

// delivery is how rows go to the target of a restore.
type delivery struct {
	target   target
	workers  int            // how many portions are delivered at a time; 0: one
	flows    bool           // rows of one segment are read while those of another are delivered
	stream   *stream        // that delivers
	books    sync.Mutex     // over what delivering changes
	expect   value.Set      // of the rows that went to the target
	pace     *pace.Steering // of rows that go into a table
	watcher  *watch.User    // of who else is at work there; nil where rows go into a file
	batch    atomic.Int64   // rows of the next transaction, by the pace
	replaced *replacedRows  // what was replaced, once something is
}

func (q *restoration) run(ctx context.Context) error {
	q.related = q.restore.Target != catalog.TargetFile
	segments, err := q.segments(ctx)
	if err != nil {
		return err
	}
	if segments, err = q.possible(ctx, segments); err != nil {
		return err
	}
	switch q.restore.Target { // much can have happened since it was asked for
	case catalog.TargetTable:
		err = q.checkFit(ctx, q.restore, segments)
	case catalog.TargetSide:
		q.sides, _, err = q.sideShapes(ctx, segments)
	}
	if err == nil {
		err = q.room(ctx, segments)
	}
	if err != nil {
		return err
	}
	defer func() {
		q.watcher.Leave()
	}()
	if q.related {
		// kept before the first row is put back or replaced
		if q.target, err = q.openTable(ctx); err == nil && !q.restore.Begun {
			q.restore.Begun = true
			err = q.Catalog.SaveRestore(ctx, q.restore)
		}
	} else {
		q.target, err = q.openFile(q.directory, len(segments) > 1)
	}
	if err != nil {
		return err
	}
	if q.seen != nil {
		defer q.seen.Close()
	}
	if q.again && q.related && q.restore.Conflicts == ConflictsReplace {
		if q.replaced, err = q.openReplaced(ctx); err != nil {
			return err
		}
		q.restore.Replaced = q.replaced.rows
	}
	defer func() {
		if q.replaced != nil {
			q.replaced.close()
		}
	}()
	q.flows, q.restore.Of = true, 0
	for i := range segments {
		q.restore.Of += segments[i].Rows
	}
	ctx, cancel := context.WithCancel(ctx)
	defer func() { // nothing is read any more when it has ended
		cancel()
		for _, p := range q.proving {
			<-p
		}
	}()
	for i := range segments {
		if i+1 < len(segments) && allRows(q.restore.Scope.V) {
			q.prove(ctx, &segments[i+1])
		}
		if err := q.family(ctx, &segments[i]); err != nil {
			return errors.Join(err, q.delivered())
		}
	}
	if err := q.delivered(); err != nil {
		return err
	}
	if err := q.target.finish(ctx); err != nil {
		return err
	}
	q.restore.Digest = q.expect.String()
	if q.expect.Count != q.restore.Restored || q.restore.Found != q.restore.Restored+q.restore.Skipped {
		return fmt.Errorf("%w: %d rows found, %d restored, %d skipped, and the digest covers %d", refuse.ErrBooks,
			q.restore.Found, q.restore.Restored, q.restore.Skipped, q.expect.Count)
	}
	return nil
}

// proven is a segment that was verified as a whole, in one of its stores.
type proven struct {
	store   store.Store
	digests []value.Digest
	err     error
}

// allRows says whether rows of all segments in a scope are wanted.
func allRows(s catalog.Scope) bool { return s.Where == "" && len(s.Rows) == 0 }

// prove verifies a segment while the one before it is put back.
func (q *restoration) prove(ctx context.Context, s *catalog.Segment) {
	out := make(chan proven, 1)
	if q.proving == nil {
		q.proving = map[string]<-chan proven{}
	}
	q.proving[s.ID] = out
	go func() {
		var digests []value.Digest
		st, _, _, err := q.shelf.Whole(ctx, s, &digests)
		out <- proven{st, digests, err}
	}()
}

// possible leaves out the segments in cold storage that cannot hold a row of the restore, by what is known of them;
// they were not retrieved for it.
func (q *restoration) possible(ctx context.Context, segments []catalog.Segment) ([]catalog.Segment, error) {
	where := q.restore.Scope.V.Where
	var out []catalog.Segment
	for i := range segments {
		if s := &segments[i]; where != "" && s.Asleep(q.Now()) {
			if q.columns == nil {
				var err error
				if q.columns, err = q.search.ArchivedColumns(ctx, q.restore.Source, q.restore.Table); err != nil {
					return nil, err
				}
			}
			may, err := q.MayHold(ctx, s, where, q.columns)
			if err != nil {
				return nil, err
			}
			if !may {
				continue
			}
		}
		out = append(out, segments[i])
	}
	return out, nil
}

// segments lists what is restored: the segments in the scope, and of a whole run that goes back into its tables also
// those of related rows whose heads were not archived, the parents first.
func (q *restoration) segments(ctx context.Context) ([]catalog.Segment, error) {
	scope := q.restore.Scope.V
	out, m, err := q.inScopeNow(ctx, q.restore.Source, q.restore.Table, scope)
	if q.moment = m; m != nil && err == nil && m.Untold != "" {
		var open []catalog.Segment
		open, err = q.Catalog.Segments(ctx, catalog.SegmentFilter{Source: q.restore.Source, Table: q.restore.Table,
			State: string(catalog.SegmentOpen)}, catalog.All)
		q.restore.Reason = m.UntoldRows(open)
	}
	if err != nil || scope.Run == "" || !q.related {
		return out, err
	}
	run, err := q.Catalog.Run(ctx, scope.Run)
	if err != nil || run.Table != q.restore.Table {
		return out, err
	}
	all, err := q.Catalog.RunSegments(ctx, scope.Run)
	for i := range all {
		if all[i].Table == run.Table || !q.gives(&all[i]) {
			continue
		}
		x, err := q.member(ctx, &all[i])
		if err != nil {
			return nil, err
		}
		if with := x.manifest.GoesWith; with != nil && with.Segment == "" {
			out = append(out, all[i])
		}
	}
	return out, err
}

// member is a segment being restored: the rows at the head of families, or rows that went along with them.
type member struct {
	segment  *catalog.Segment
	store    store.Store
	manifest *archive.Manifest
	closing  *archive.Closing
	digests  []value.Digest // of all rows, once it was verified
	wanted   func(ordinal int, row []value.Value) bool
	allowed  map[string]bool // of rows that went along: the references to rows that were picked
	below    []*member       // whose rows refer to this one's
	left     value.Set       // of an open segment: the rows that have left, by what the deletes reported
}

// gives says whether rows of a segment can be put back: it is closed, or the journal tells which of them have left
// their table.
func (q *restoration) gives(s *catalog.Segment) bool {
	return s.State == catalog.SegmentClosed || s.State == catalog.SegmentOpen && q.moment.Of(s) == search.SomeTold &&
		q.moment != nil
}

func (q *restoration) member(ctx context.Context, s *catalog.Segment) (x *member, err error) {
	x = &member{segment: s}
	for _, open := range []func() (store.Store, error){
		func() (store.Store, error) { return q.shelf.ReadableStore(ctx, s) },
		func() (store.Store, error) { return q.Store(ctx, s.Second) }, // where the first does not give its records
	} {
		if err != nil && s.Second == "" {
			break
		}
		var one error
		if x.store, one = open(); one == nil {
			// any copy's will do: they are what the catalog's hashes say
			if x.manifest, x.closing, one = q.shelf.Load(ctx, x.store, s); one != nil {
				x.manifest, x.closing, one = q.shelf.RecordsOf(ctx, s)
			}
		}
		if one == nil && s.State == catalog.SegmentOpen {
			if q.moment == nil { // a request is only looked at
				q.moment, one = q.search.ReadMoment(ctx, s.Source, s.Table)
			}
			if one == nil && q.gives(s) {
				x.closing, x.left, one = q.moment.BooksAt(s, x.manifest)
			} else if one == nil {
				one = &refuse.Error{Field: "segment",
					Message: fmt.Sprintf("segment %s is open, and the source does not tell which of its rows "+
						"have left", s.ID), Remedy: "let its run finish, or cancel it"}
			}
		}
		if one == nil {
			return x, nil
		}
		err = errors.Join(err, one)
	}
	return nil, err
}

// family restores a segment, and after it the segments whose rows went along with its rows: those that refer to a row
// of another come behind it.
func (q *restoration) family(ctx context.Context, s *catalog.Segment) error {
	family, err := q.familyOf(ctx, s)
	q.books.Lock()
	for _, x := range family[min(1, len(family)):] { // of the head it is counted
		q.restore.Of += x.segment.Rows
	}
	q.books.Unlock()
	for i, x := range family {
		if i > 0 { // its rows refer to rows that must be there
			if err := q.delivered(); err != nil {
				return err
			}
		}
		if err := q.segment(ctx, x); err != nil {
			return err
		}
	}
	return err
}

// familyOf lists a segment and those whose rows went along with its rows, each behind the one that it refers to; none
// where no row of it is wanted.
func (q *restoration) familyOf(ctx context.Context, s *catalog.Segment) ([]*member, error) {
	head, err := q.member(ctx, s)
	if err != nil {
		return nil, err
	}
	p, err := q.pick(ctx, head.manifest)
	if err != nil {
		return nil, err
	}
	if p.narrow() && !q.unpicked {
		if any, err := p.any(ctx, q.Restorer, head); err != nil || !any {
			return nil, err
		}
	}
	head.wanted = p.wants
	family := []*member{head}
	if q.related && head.manifest.GoesWith == nil {
		others, err := q.Catalog.RunSegments(ctx, s.Run)
		if err != nil {
			return nil, err
		}
		for i := range others {
			o := &others[i]
			if o.Table == s.Table || !q.gives(o) || o.Number < s.Number {
				continue
			}
			x, err := q.member(ctx, o)
			if err != nil {
				return nil, err
			}
			with := x.manifest.GoesWith
			if with == nil || with.Segment != head.manifest.First() {
				continue
			}
			x.allowed = map[string]bool{}
			for _, above := range family {
				if above.manifest.Table == with.Table {
					above.below = append(above.below, x)
				}
			}
			refers := pickColumns(x.manifest.Columns, with.On, 0)
			x.wanted = func(_ int, row []value.Value) bool { return x.allowed[refers(row)] }
			family = append(family, x)
		}
	}
	return family, nil
}

// pick makes out which rows of a segment the restore is for.
func (q *restoration) pick(ctx context.Context, m *archive.Manifest) (*picked, error) {
	scope := q.restore.Scope.V
	if q.columns == nil && scope.Where != "" {
		var err error
		if q.columns, err = q.search.ArchivedColumns(ctx, q.restore.Source, m.Table); err != nil {
			return nil, err
		}
	}
	own, err := q.shelf.Named(ctx, m)
	if err != nil {
		return nil, err
	}
	return pick(m, scope, own, q.columns)
}

// pickColumns returns a function that writes the values of one side of a reference, so that equal ones are equal
// texts.
func pickColumns(columns []shape.Column, on [][2]string, side int) func(row []value.Value) string {
	at := make([]int, len(on))
	for i, pair := range on {
		at[i] = slices.IndexFunc(columns, func(c shape.Column) bool { return c.Name == pair[side] })
	}
	var text []byte
	return func(row []value.Value) string {
		text = text[:0]
		for _, i := range at {
			if i < 0 {
				return ""
			}
			text = row[i].AppendCanonical(text)
		}
		return string(text)
	}
}

// segment verifies a segment as a whole, in its second store where it is damaged, and then hands on those of its rows
// that were deleted and are wanted.
func (q *restoration) segment(ctx context.Context, x *member) (err error) {
	if p := q.proving[x.segment.ID]; p != nil {
		delete(q.proving, x.segment.ID)
		got := <-p
		x.store, x.digests, err = got.store, got.digests, got.err
	} else {
		x.store, _, _, err = q.shelf.Whole(ctx, x.segment, &x.digests)
	}
	if err == nil && x.segment.State == catalog.SegmentOpen {
		err = x.matches()
	}
	if err != nil {
		return err
	}
	q.books.Lock()
	q.restore.Segments++
	q.books.Unlock()
	return q.rows(ctx, x)
}

// matches says whether the rows of an open segment that the journal names as gone are those that the deletes reported.
func (x *member) matches() error {
	if x.manifest.AsRead != nil { // they were cleaned on their way, so nobody can compare them
		return nil
	}
	var sum value.Set
	left := x.closing.LeftOut()
	for o, d := range x.digests {
		if _, stays := slices.BinarySearch(left, o); !stays {
			sum.Add(d)
		}
	}
	if sum != x.left && x.left.Count > 0 { // none is told of a partition that is out of its table and not dropped yet
		return fmt.Errorf("segment %s: %w: the rows that have left have the digest %s, and the deletes reported %s",
			x.segment.ID, refuse.ErrBooks, sum, x.left)
	}
	return nil
}

func (q *restoration) rows(ctx context.Context, x *member) error {
	m, st := x.manifest, x.store
	left := map[int]bool{}
	for _, o := range x.closing.LeftOut() {
		left[o] = true
	}
	referred := make([]func([]value.Value) string, len(x.below))
	for i, b := range x.below {
		referred[i] = pickColumns(m.Columns, b.manifest.GoesWith.On, 1)
	}
	f, err := st.Open(ctx, m.RowsName())
	if err != nil {
		return err
	}
	defer f.Close()
	w := q.startStream(ctx)
	pick := &portion{Chunk: value.Chunk{Width: len(m.Columns)}, manifest: m}
	flush := func() error {
		if pick.Rows() == 0 {
			return nil
		}
		h, err := q.fresh(ctx, m, pick)
		pick = &portion{Chunk: value.Chunk{Width: len(m.Columns)}, manifest: m}
		if err != nil || h.Rows() == 0 {
			return err
		}
		for i := range h.Rows() { // what went along with the others came, or will, with their newer versions
			for j, b := range x.below {
				b.allowed[referred[j](h.Row(i))] = true
			}
		}
		return w.give(h)
	}
	ordinal := 0
	err = archive.Read(f, f.Size(), m.Laid(m.Columns), m.Rows, func(c *value.Chunk) error {
		for i := range c.Rows() {
			row := c.Row(i)
			if !left[ordinal] && x.wanted(ordinal, row) {
				for _, v := range row {
					if v.B != nil {
						v.B = pick.Keep(v.B)
					}
					pick.Values = append(pick.Values, v)
				}
				pick.digests, pick.ordinals = append(pick.digests, x.digests[ordinal]), append(pick.ordinals, ordinal)
			}
			ordinal++
			if pick.Rows() >= q.most() || pick.Size() >= restoreBytes {
				if err := flush(); err != nil {
					return err
				}
			}
		}
		return ctx.Err()
	})
	if err == nil {
		err = flush()
	}
	if err != nil || !q.flows {
		err = errors.Join(err, q.delivered())
	}
	return err
}

// fresh leaves out the rows of which a newer version is archived, and counts them as skipped.
func (q *restoration) fresh(ctx context.Context, m *archive.Manifest, h *portion) (*portion, error) {
	old, err := q.staleOf(ctx, m, h)
	if err != nil || !slices.Contains(old, true) {
		return h, err
	}
	out := &portion{Chunk: value.Chunk{Width: h.Width}, manifest: m}
	passed := int64(0)
	for i := range h.Rows() {
		if old[i] {
			passed++
			continue
		}
		out.Values = append(out.Values, h.Row(i)...) // their bytes stay with the other
		out.digests, out.ordinals = append(out.digests, h.digests[i]), append(out.ordinals, h.ordinals[i])
	}
	q.books.Lock()
	defer q.books.Unlock()
	return out, q.counted(ctx, passed, 0, passed)
}

func everyRow([]value.Value) bool { return true }

// span returns whether a row's age lies in a scope.
func span(m *archive.Manifest, scope catalog.Scope) (func([]value.Value) bool, error) {
	if scope.From == "" && scope.To == "" {
		return everyRow, nil
	}
	if m.Age.Join != "" {
		return nil, &refuse.Error{Field: "from",
			Message: fmt.Sprintf("the age of the rows of segment %s stood in another table (%s), and is not "+
				"archived with them", m.Segment, m.Age), Remedy: "restore a segment or a run"}
	}
	age := -1
	for i, c := range m.Columns {
		if c.Name == m.Age.Column {
			age = i
		}
	}
	if age < 0 {
		return nil, &refuse.Error{Field: "from",
			Message: fmt.Sprintf("rows of %s have no age of their own in segment %s", m.Table, m.Segment),
			Remedy:  "write a condition instead (where), or restore the rows that they went along with"}
	}
	from, _ := rule.ParseISO(scope.From)
	to, hasTo := rule.ParseISO(scope.To)
	return func(row []value.Value) bool {
		at, ok := m.Age.Instant(row[age])
		return ok && !at.Before(from) && (!hasTo || at.Before(to))
	}, nil
}

// waiting returns what shows what a restore waits for, until its counts are shown next.
func (q *restoration) waiting(ctx context.Context) func(error) {
	return func(err error) {
		q.books.Lock()
		defer q.books.Unlock()
		shown := *q.restore
		shown.Reason = tables.Waits(err)
		if err := q.Catalog.SaveRestore(ctx, &shown); err != nil {
			q.Log.Warn("what a restore waits for cannot be kept", "restore", shown.ID, "error", err)
		}
	}
}
