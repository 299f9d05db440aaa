package engine

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"github.com/oklog/ulid/v2"
	_ "modernc.org/sqlite" // the driver "sqlite", for the set of keys seen

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// restoreRows is how many rows one transaction puts back.
const restoreRows = 2_000

// Targets of restores.
const (
	TargetTable = "table" // the one that the rows came from
	TargetSide  = "side"  // a new table, made to fit
	TargetFile  = "file"
)

// RestoreRequest is what somebody asks for.
type RestoreRequest struct {
	Source       string        `json:"source,omitempty"` // with Table, for a span of age or a filter; otherwise they follow from the scope
	Table        string        `json:"table,omitempty"`
	Scope        catalog.Scope `json:"scope"`
	Target       string        `json:"target"`                  // "table", "side" or "file"
	TargetTable  string        `json:"target_table,omitempty"`  // of side: the table that is made
	TargetSource string        `json:"target_source,omitempty"` // of side: the source that it is made in; empty: the one that the rows came from
	Format       string        `json:"format,omitempty"`
	Conflicts    string        `json:"conflicts,omitempty"` // of table: "skip" rows whose key is there, or "fail" before anything is written; empty: skip
	Fit          catalog.Fit   `json:"fit,omitzero"`        // of table: how rows go into a table that was altered since
	For          string        `json:"for,omitempty"`       // of table: how long the rows stay before they go again, ISO 8601; empty: for good
	Note         string        `json:"note,omitempty"`
}

// mostPicked is how many rows can be picked one by one.
const mostPicked = 10_000

// RequestRestore checks a request and keeps it as a restore to carry out.
func (e *Engine) RequestRestore(ctx context.Context, actor string, q RestoreRequest) (*catalog.Restore, error) {
	r, _, err := e.checkRestore(ctx, &q)
	if err != nil {
		return nil, err
	}
	if r.Lasts, r.ExpiresAt, err = lasting(q.For, e.Now()); err != nil {
		return nil, err
	}
	if q.For != "" {
		if err := e.canGoAgain(ctx, r); err != nil {
			return nil, err
		}
	}
	r.ID, r.State, r.CreatedAt, r.CreatedBy = ulid.Make().String(), catalog.Restoring, catalog.At(e.Now()), actor
	if q.Conflicts == "fail" {
		p, err := e.PreviewRestore(ctx, q)
		if err != nil {
			return nil, err
		}
		if p.Conflicts > 0 {
			return nil, &RefusedError{Field: "conflicts", Message: fmt.Sprintf("the keys of %d of %d rows are in table %s already", p.Conflicts, p.Rows, p.Table), Remedy: "let them be skipped, or restore to a side table"}
		}
	}
	return r, e.Catalog.AddRestore(ctx, r)
}

// checkRestore checks a request, and lists the segments that it is for, the newest first.
func (e *Engine) checkRestore(ctx context.Context, q *RestoreRequest) (*catalog.Restore, []catalog.Segment, error) {
	if err := checkScope(q); err != nil {
		return nil, nil, err
	}
	segments, err := e.inScope(ctx, q.Source, q.Table, q.Scope)
	if err != nil {
		return nil, nil, err
	}
	if len(segments) == 0 {
		return nil, nil, &RefusedError{Field: "scope", Message: "the archive holds no closed segment in this scope", Remedy: "`ambercellar segment list` shows what it holds; an open segment gives rows once its run has closed it"}
	}
	table := segments[0].Table
	if run, err := e.Catalog.Run(ctx, segments[0].Run); err == nil && q.Table == "" && q.Scope.Segment == "" && len(q.Scope.Rows) == 0 {
		table = run.Table
	}
	if q.Scope.Where != "" {
		columns, err := e.archivedColumns(ctx, q.Source, q.Table)
		if err == nil {
			_, err = bindArchived(q.Scope.Where, columns, columns)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	r := &catalog.Restore{Source: segments[0].Source, Table: table, Scope: catalog.JSON[catalog.Scope]{V: q.Scope}, Target: q.Target, Format: q.Format, Note: q.Note, TargetSource: q.TargetSource, TargetTable: q.TargetTable, Fit: catalog.JSON[catalog.Fit]{V: q.Fit}}
	switch r.Target {
	case TargetSide:
		err = e.checkSide(ctx, r, segments)
	case TargetTable:
		err = e.checkFit(ctx, r, segments)
	}
	if err != nil {
		return nil, nil, err
	}
	return r, segments, nil
}

// checkScope checks what can be told of a request alone.
func checkScope(q *RestoreRequest) error {
	kinds := 0
	for _, set := range []bool{q.Scope.Run != "", q.Scope.Segment != "", q.Scope.From != "" || q.Scope.To != "" || q.Scope.Where != "", len(q.Scope.Rows) > 0} {
		if set {
			kinds++
		}
	}
	if kinds != 1 {
		return &RefusedError{Field: "scope", Message: "say which rows: exactly one of a run, a segment, single rows, and a span of time or a filter", Remedy: "give run, segment, rows, or where, from and to"}
	}
	if q.Target != TargetFile {
		q.Format = ""
	}
	switch q.Target {
	case TargetTable, TargetSide:
	case TargetFile:
		if q.Format != "csv" && q.Format != "ndjson" && q.Format != "parquet" {
			return &RefusedError{Field: "format", Message: fmt.Sprintf("%q is no format of a restored file", q.Format), Remedy: "write csv, ndjson or parquet"}
		}
	default:
		return &RefusedError{Field: "target", Message: fmt.Sprintf("%q is nothing that rows can be restored to", q.Target), Remedy: "write table, side or file"}
	}
	if q.Target != TargetTable && (len(q.Fit.Rename) > 0 || len(q.Fit.LeaveOut) > 0) {
		return &RefusedError{Field: "fit", Message: "columns can be renamed or left out only on the way back into the table", Remedy: "a side table and a file have the columns as they were then"}
	}
	if q.Target != TargetSide && (q.TargetTable != "" || q.TargetSource != "") {
		return &RefusedError{Field: "target_table", Message: "a table to be made is named, and the rows are not to go to a side table", Remedy: "write side as the target, or name none"}
	}
	if !slices.Contains([]string{"", "skip", "fail"}, q.Conflicts) || q.Conflicts == "fail" && q.Target != TargetTable {
		return &RefusedError{Field: "conflicts", Message: fmt.Sprintf("%q is nothing that can be done about rows that are there already", q.Conflicts), Remedy: "write skip, or for the table that the rows came from, fail"}
	}
	for field, text := range map[string]string{"from": q.Scope.From, "to": q.Scope.To} {
		if _, ok := rule.ParseISO(text); text != "" && !ok {
			return &RefusedError{Field: field, Message: fmt.Sprintf("%q is not a date or time", text), Remedy: "write one like 2024-03-31 or 2024-03-31T12:00:00Z"}
		}
	}
	if len(q.Scope.Rows) > mostPicked {
		return &RefusedError{Field: "rows", Message: fmt.Sprintf("%d single rows are more than %d", len(q.Scope.Rows), mostPicked), Remedy: "choose them by a filter"}
	}
	if q.Scope.Run == "" && q.Scope.Segment == "" && len(q.Scope.Rows) == 0 && (q.Source == "" || q.Table == "") {
		return &RefusedError{Field: "table", Message: "a span of time or a filter needs a source and a table", Remedy: "name both"}
	}
	return nil
}

// inScope lists the closed segments that a scope touches, the newest first, so that of two archived versions of one
// key the newer comes first.
func (e *Engine) inScope(ctx context.Context, sourceName, table string, scope catalog.Scope) ([]catalog.Segment, error) {
	if scope.Segment != "" {
		s, err := e.Catalog.Segment(ctx, scope.Segment)
		if err != nil {
			return nil, err
		}
		if s.State != catalog.SegmentClosed {
			return nil, &RefusedError{Field: "segment", Message: fmt.Sprintf("segment %s is %s; only closed segments give rows", s.ID, s.State), Remedy: "let its run finish, or cancel it"}
		}
		return []catalog.Segment{*s}, nil
	}
	if len(scope.Rows) > 0 {
		return e.segmentsOf(ctx, scope.Rows)
	}
	if scope.Run != "" {
		if _, err := e.Catalog.Run(ctx, scope.Run); err != nil {
			return nil, err
		}
	}
	all, err := e.Catalog.Segments(ctx, catalog.SegmentFilter{Run: scope.Run, Source: sourceName, Table: table, State: string(catalog.SegmentClosed)}, 1_000_000, 0)
	if err != nil {
		return nil, err
	}
	from, _ := rule.ParseISO(scope.From)
	to, hasTo := rule.ParseISO(scope.To)
	var out []catalog.Segment
	for _, s := range all {
		oldest, ok1 := rule.ParseISO(s.Oldest)
		newest, ok2 := rule.ParseISO(s.Newest)
		if ok1 && ok2 && (newest.Before(from) || hasTo && !oldest.Before(to)) {
			continue
		}
		out = append(out, s)
	}
	return out, nil
}

// segmentsOf lists the segments that single rows lie in, the newest first. All are of one table.
func (e *Engine) segmentsOf(ctx context.Context, rows []catalog.RowAt) ([]catalog.Segment, error) {
	var out []catalog.Segment
	for _, r := range rows {
		if slices.ContainsFunc(out, func(s catalog.Segment) bool { return s.ID == r.Segment }) {
			continue
		}
		one, err := e.inScope(ctx, "", "", catalog.Scope{Segment: r.Segment})
		if err != nil {
			return nil, err
		}
		if len(out) > 0 && (one[0].Source != out[0].Source || one[0].Table != out[0].Table) {
			return nil, &RefusedError{Field: "rows", Message: fmt.Sprintf("they are of several tables: %s.%s and %s.%s", out[0].Source, out[0].Table, one[0].Source, one[0].Table), Remedy: "restore those of each table on their own"}
		}
		out = append(out, one[0])
	}
	slices.SortFunc(out, func(a, b catalog.Segment) int { return b.CreatedAt.Compare(a.CreatedAt.Time) })
	return out, nil
}

// Restore carries a restore out. Files are made in directory.
func (e *Engine) Restore(ctx context.Context, r *catalog.Restore, directory string) error {
	q := &restoration{Engine: e, restore: r}
	e.reading.RLock()
	err := q.run(ctx, directory)
	e.reading.RUnlock()
	now := catalog.At(e.Now())
	r.EndedAt = &now
	if err != nil {
		r.State, r.Reason, r.Lasts, r.ExpiresAt = catalog.RestoreFailed, err.Error(), "", nil
	} else {
		yes := true
		r.State, r.Verified = catalog.RestoreDone, &yes
		if r.Lasts != "" { // the time begins when the rows are there
			_, r.ExpiresAt, _ = lasting(r.Lasts, e.Now()) // it was read before
		}
	}
	return errors.Join(err, e.Catalog.SaveRestore(context.WithoutCancel(ctx), r))
}

// restoration is a restore being carried out.
type restoration struct {
	*Engine
	restore *catalog.Restore
	expect  value.Set // of the rows that went to the target
	kin     bool      // what went along with the rows goes back with them
	quiet   bool      // its counts are not kept
	deliver func(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest, ordinals []int) error
	finish  func(ctx context.Context) error
	seen    *seenKeys
	columns []shape.Column // that any segment of the table has, where there is a filter
}

func (q *restoration) run(ctx context.Context, directory string) error {
	q.kin = q.restore.Target != TargetFile
	segments, err := q.segments(ctx)
	if err != nil {
		return err
	}
	if q.kin {
		err = q.intoTable(ctx)
	} else {
		err = q.intoFile(directory, len(segments) > 1)
	}
	if err != nil {
		return err
	}
	if q.seen != nil {
		defer q.seen.close()
	}
	for i := range segments {
		if err := q.family(ctx, &segments[i]); err != nil {
			return err
		}
	}
	if err := q.finish(ctx); err != nil {
		return err
	}
	q.restore.Digest = q.expect.String()
	if q.expect.Count != q.restore.Restored || q.restore.Found != q.restore.Restored+q.restore.Skipped {
		return fmt.Errorf("%w: %d rows found, %d restored, %d skipped, and the digest covers %d", ErrBooks, q.restore.Found, q.restore.Restored, q.restore.Skipped, q.expect.Count)
	}
	return nil
}

// segments lists what is restored: the segments in the scope, and of a whole run that goes back into its tables also those
// of related rows whose heads were not archived, the parents first.
func (q *restoration) segments(ctx context.Context) ([]catalog.Segment, error) {
	scope := q.restore.Scope.V
	out, err := q.inScope(ctx, q.restore.Source, q.restore.Table, scope)
	if err != nil || scope.Run == "" || !q.kin {
		return out, err
	}
	run, err := q.Catalog.Run(ctx, scope.Run)
	if err != nil || run.Table != q.restore.Table {
		return out, err
	}
	all, err := q.Catalog.RunSegments(ctx, scope.Run)
	for i := range all {
		if all[i].Table == run.Table || all[i].State != catalog.SegmentClosed {
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
	wanted   func(ordinal int, row []value.Value) bool
	allowed  map[string]bool // of rows that went along: the references to rows that were picked
	below    []*member       // whose rows refer to this one's
}

func (q *restoration) member(ctx context.Context, s *catalog.Segment) (x *member, err error) {
	x = &member{segment: s}
	for _, name := range []string{s.Store, s.Second} { // the second copy where the first does not give its records
		if name == "" && x.manifest == nil && err != nil {
			return nil, err
		}
		if x.store, err = q.Store(ctx, name); err == nil {
			x.manifest, x.closing, err = q.load(ctx, x.store, s)
		}
		if err == nil {
			return x, nil
		}
	}
	return nil, err
}

// family restores a segment, and after it the segments whose rows went along with its rows: those that refer to a row of
// another come behind it.
func (q *restoration) family(ctx context.Context, s *catalog.Segment) error {
	family, err := q.familyOf(ctx, s)
	for _, x := range family {
		if err := q.segment(ctx, x); err != nil {
			return err
		}
	}
	return err
}

// familyOf lists a segment and those whose rows went along with its rows, each behind the one that it refers to; none where no row
// of it is wanted.
func (q *restoration) familyOf(ctx context.Context, s *catalog.Segment) ([]*member, error) {
	head, err := q.member(ctx, s)
	if err != nil {
		return nil, err
	}
	p, err := q.pick(ctx, head.manifest)
	if err != nil {
		return nil, err
	}
	if p.narrow() {
		if any, err := p.any(ctx, head); err != nil || !any {
			return nil, err
		}
	}
	head.wanted = p.wants
	family := []*member{head}
	if q.kin && head.manifest.GoesWith == nil {
		others, err := q.Catalog.RunSegments(ctx, s.Run)
		if err != nil {
			return nil, err
		}
		for i := range others {
			o := &others[i]
			if o.Table == s.Table || o.State != catalog.SegmentClosed || o.Number < s.Number {
				continue
			}
			x, err := q.member(ctx, o)
			if err != nil {
				return nil, err
			}
			with := x.manifest.GoesWith
			if with == nil || with.Segment != s.ID {
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
		if q.columns, err = q.archivedColumns(ctx, q.restore.Source, m.Table); err != nil {
			return nil, err
		}
	}
	return pick(m, scope, q.columns)
}

// pickColumns returns a function that writes the values of one side of a reference, so that equal ones are equal texts.
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

// segment verifies a segment as a whole, in its second store where it is damaged, and then hands on those of its rows that
// were deleted and are wanted.
func (q *restoration) segment(ctx context.Context, x *member) (err error) {
	if x.store, _, _, err = q.whole(ctx, x.segment); err != nil {
		return err
	}
	q.restore.Segments++
	return q.rows(ctx, x)
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
	pick := &value.Chunk{Width: len(m.Columns)}
	var digests []value.Digest
	var ordinals []int
	var hasher value.Hasher
	flush := func() error {
		if pick.Rows() == 0 {
			return nil
		}
		q.restore.Found += int64(pick.Rows())
		err := q.deliver(ctx, m, pick, digests, ordinals)
		pick.Reset()
		digests, ordinals = digests[:0], ordinals[:0]
		if err != nil || q.quiet {
			return err
		}
		return q.Catalog.SaveRestore(ctx, q.restore)
	}
	ordinal := 0
	err = archive.Read(f, f.Size(), m.Columns, m.Rows, func(c *value.Chunk) error {
		for i := range c.Rows() {
			row := c.Row(i)
			if !left[ordinal] && x.wanted(ordinal, row) {
				for i, b := range x.below {
					b.allowed[referred[i](row)] = true
				}
				for _, v := range row {
					if v.B != nil {
						v.B = pick.Keep(v.B)
					}
					pick.Values = append(pick.Values, v)
				}
				digests, ordinals = append(digests, hasher.Row(row)), append(ordinals, ordinal)
			}
			ordinal++
			if pick.Rows() >= restoreRows || pick.Size() >= 8<<20 {
				if err := flush(); err != nil {
					return err
				}
			}
		}
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	return flush()
}

func everyRow([]value.Value) bool { return true }

// span returns whether a row's age lies in a scope.
func span(m *archive.Manifest, scope catalog.Scope) (func([]value.Value) bool, error) {
	if scope.From == "" && scope.To == "" {
		return everyRow, nil
	}
	if m.Age.Join != "" {
		return nil, &RefusedError{Field: "from", Message: fmt.Sprintf("the age of the rows of segment %s stood in another table (%s), and is not archived with them", m.Segment, m.Age), Remedy: "restore a segment or a run"}
	}
	age := -1
	for i, c := range m.Columns {
		if c.Name == m.Age.Column {
			age = i
		}
	}
	if age < 0 {
		return nil, fmt.Errorf("segment %s: its age column %q is not among its columns", m.Segment, m.Age.Column)
	}
	from, _ := rule.ParseISO(scope.From)
	to, hasTo := rule.ParseISO(scope.To)
	return func(row []value.Value) bool {
		at, ok := m.Age.Instant(row[age])
		return ok && !at.Before(from) && (!hasTo || at.Before(to))
	}, nil
}

// intoTable puts rows back into the tables that they came from, or into new ones that are made to fit.
func (q *restoration) intoTable(ctx context.Context) error {
	side := q.restore.Target == TargetSide
	name := q.restore.Source
	if side {
		name = q.restore.TargetSource
	}
	src, err := q.Source(ctx, name)
	if err != nil {
		return err
	}
	if err := src.PrepareJournal(ctx); err != nil {
		return err
	}
	tables := map[string]*shape.Table{}
	q.deliver = func(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest, ordinals []int) (err error) {
		t := tables[m.Table]
		if t == nil {
			into := m.Table
			if side {
				if into, err = q.makeSide(ctx, src, m); err != nil {
					return err
				}
			}
			if t, err = src.Table(ctx, into); err != nil {
				return err
			}
			tables[m.Table] = t
		}
		f, err := fitOf(m, t, q.restore.Fit.V)
		if err != nil {
			return err
		}
		rows, digests = f.apply(rows, digests)
		columns := f.to
		var out *source.RestoreOutcome
		err = retry(ctx, q.Log, func() (err error) {
			out, err = src.Restore(ctx, source.RestoreRequest{Table: t, Restore: q.restore.ID, Segment: m.Segment, Ordinals: ordinals, Columns: columns, Rows: rows, Digests: digests})
			if err != nil && !errors.Is(err, source.ErrBusy) {
				return &RefusedError{Message: err.Error(), Remedy: fmt.Sprintf("%d rows of this restore had been put back before; they stay, and a new request skips them", q.restore.Restored)}
			}
			return err
		})
		if err != nil {
			return err
		}
		var want value.Set
		for i, d := range digests {
			if !out.Present[i] {
				want.Add(d)
			}
		}
		if out.Digest != want {
			return fmt.Errorf("%w: the restored rows have the digest %s instead of %s", ErrBooks, out.Digest, want)
		}
		q.expect.Merge(out.Digest)
		q.restore.Restored += out.Inserted
		q.restore.Skipped += out.Skipped
		return nil
	}
	q.finish = func(ctx context.Context) error {
		total := int64(0)
		for _, t := range tables {
			n, err := src.RestoredCount(ctx, t, q.restore.ID)
			if err != nil {
				return err
			}
			total += n
		}
		if total != q.restore.Restored {
			return fmt.Errorf("%w: %d rows were restored and the source's record has %d", ErrBooks, q.restore.Restored, total)
		}
		return nil
	}
	return nil
}

// intoFile writes rows to a file of the restore's format and counts it afterwards.
func (q *restoration) intoFile(directory string, several bool) (err error) {
	name := fmt.Sprintf("%s.%s", q.restore.ID, q.restore.Format)
	if err := os.MkdirAll(directory, 0o750); err != nil {
		return err
	}
	q.restore.File = name
	w, err := newExport(filepath.Join(directory, name), q.restore.Format)
	if err != nil {
		return err
	}
	if several {
		if q.seen, err = openSeen(directory); err != nil {
			return err
		}
	}
	q.deliver = func(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest, _ []int) error {
		keep, kept, err := q.newest(ctx, m, rows, digests)
		if err != nil {
			return err
		}
		q.restore.Skipped += int64(rows.Rows() - keep.Rows())
		q.restore.Restored += int64(keep.Rows())
		for _, d := range kept {
			q.expect.Add(d)
		}
		return w.write(m, keep)
	}
	q.finish = func(context.Context) (err error) {
		q.restore.FileBytes, err = w.close(q.restore.Restored, q.expect)
		return err
	}
	return nil
}

// newest leaves out rows of which a newer version went to the file before.
func (q *restoration) newest(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest) (*value.Chunk, []value.Digest, error) {
	if q.seen == nil || len(m.Key) == 0 { // without a key each row is one of its own
		return rows, digests, nil
	}
	var positions []int
	for _, k := range m.Key {
		for i, c := range m.Columns {
			if c.Name == k {
				positions = append(positions, i)
			}
		}
	}
	first, err := q.seen.add(ctx, rows, positions)
	if err != nil {
		return nil, nil, err
	}
	out := &value.Chunk{Width: rows.Width}
	var kept []value.Digest
	for i, ok := range first {
		if ok {
			out.Values = append(out.Values, rows.Row(i)...)
			kept = append(kept, digests[i])
		}
	}
	return out, kept, nil
}

// seenKeys remembers which keys have been written, on disk, so that memory does not grow with the restore.
type seenKeys struct {
	db   *sql.DB
	path string
}

func openSeen(directory string) (*seenKeys, error) {
	path := filepath.Join(directory, "seen-"+ulid.Make().String()+".db")
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(off)&_pragma=synchronous(off)")
	if err == nil {
		_, err = db.Exec("CREATE TABLE seen (k BLOB PRIMARY KEY) WITHOUT ROWID")
	}
	return &seenKeys{db: db, path: path}, err
}

// add remembers the keys of rows and says which are new.
func (s *seenKeys) add(ctx context.Context, rows *value.Chunk, positions []int) ([]bool, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	insert, err := tx.PrepareContext(ctx, "INSERT INTO seen VALUES (?) ON CONFLICT DO NOTHING")
	if err != nil {
		return nil, err
	}
	out := make([]bool, rows.Rows())
	var key []byte
	for i := range out {
		key = key[:0]
		for _, p := range positions {
			key = rows.Row(i)[p].AppendCanonical(key)
		}
		sum := sha256.Sum256(key)
		res, err := insert.ExecContext(ctx, sum[:16])
		if err != nil {
			return nil, err
		}
		n, err := res.RowsAffected()
		if err != nil {
			return nil, err
		}
		out[i] = n == 1
	}
	return out, tx.Commit()
}

func (s *seenKeys) close() {
	s.db.Close()
	os.Remove(s.path)
}
