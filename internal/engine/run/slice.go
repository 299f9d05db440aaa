package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// archived is what a slice has besides when the run archives.
type archived struct {
	manifest *archive.Manifest
	first    []value.Value  // age and key of the first row
	stored   []value.Digest // of the rows as they are archived, where they are cleaned on their way
}

// archiveSlice reads a slice of so many rows at the most into a new segment and stores its file. The segment does not
// exist yet: publish verifies it and writes the manifest.
func (r *Execution) archiveSlice(ctx context.Context, number int, after []value.Value, rows int) (w *Work, err error) {
	if err := r.checkSpace(ctx); err != nil {
		return nil, err
	}
	p := r.Pass
	m := r.manifestOf(p, number)
	m.Age = p.sel.Age
	if p.clean != nil {
		m.Columns, m.Omitted, m.Masked, m.Included = p.clean.Columns, p.clean.Omitted, p.clean.Masked(),
			p.clean.Included
	}
	m.Name()
	w = &Work{number: number, pass: p, archived: archived{manifest: m}}
	begun, rested := time.Now(), r.rested.Load()
	defer func() {
		r.efforts.add(catalog.EffortStage, StageCopy, time.Since(begun)-time.Duration(r.rested.Load()-rested))
	}()
	draft, err := archive.Create(ctx, p.store, m)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", p.name, err)
	}
	defer draft.Abort()
	draft.Breathe(r.breather(ctx))
	var hasher value.Hasher
	req, err := r.unheld(ctx, r.request(after, rows))
	if err != nil {
		return nil, err
	}
	var archivedSet value.Set
	req.Include = p.include
	note := w.refer(-1, due.ColumnsAt(p.table, p.columns), p.related)
	beside := newBesides(p)
	slice, err := r.readSlice(ctx, req, func(c *value.Chunk) error {
		w.digest(c, &hasher)
		for i := range c.Rows() {
			note(c.Row(i))
			beside.note(c.Row(i))
		}
		if p.clean != nil {
			c = p.clean.Clean(c)
			for i := range c.Rows() {
				d := hasher.Row(c.Row(i))
				w.stored = append(w.stored, d)
				archivedSet.Add(d)
			}
		}
		if err := draft.Write(c); err != nil {
			return fmt.Errorf("store %s: writing a segment: %w", p.name, err)
		}
		return ctx.Err()
	})
	if err != nil || draft.Rows() == 0 {
		return nil, err
	}
	w.slice, w.first = *slice, slice.First
	m.WholeAges = len(slice.Next) < len(slice.Last)
	m.Digest = w.set
	if p.clean != nil {
		m.Digest, m.AsRead = archivedSet, &w.set
	}
	if err := r.begin(ctx, w); err != nil {
		return nil, err
	}
	if err := draft.Commit(); err != nil {
		return nil, errors.Join(fmt.Errorf("store %s: %w", p.name, err), r.discard(context.WithoutCancel(ctx), w))
	}
	if err := beside.write(ctx, r, m); err != nil {
		return nil, errors.Join(err, r.discard(context.WithoutCancel(ctx), w))
	}
	if err := r.readRelatedOf(ctx, w); err != nil {
		return nil, errors.Join(err, r.discard(context.WithoutCancel(ctx), w))
	}
	return w, nil
}

// manifestOf begins the manifest of a segment.
func (r *Execution) manifestOf(p *Pass, number int) *archive.Manifest {
	root := p
	if p.relation != nil {
		root = r.Pass
	}
	m := &archive.Manifest{ManifestOrigin: archive.ManifestOrigin{Source: r.Run.Source, Engine: r.engine,
		Table: p.table.Name, Rule: r.Run.Rule, Revision: r.Run.Revision, RuleText: r.ruleText, Run: r.Run.ID,
		Number: number, Clause: p.clause, Label: r.rule.Label(p.clause), Cutoff: root.sel.Terms[0].At},
		ManifestColumns: archive.ManifestColumns{Columns: due.ColumnsAt(p.table, p.columns),
			Numbered: r.numbered[p.table.Name], Key: p.table.OwnKey()}}
	if p.keep != nil {
		m.Keep, m.KeepFrom = p.keep.String(), p.keepFrom
	}
	return m
}

// publish reads a stored segment back, matches it row by row with what was read from the source, and only then writes
// the manifest. Any failure before that leaves nothing that counts.
func (r *Execution) publish(ctx context.Context, w *Work) (err error) {
	m := w.manifest
	if m.Written.Rows != int64(len(w.Digests)) {
		return fmt.Errorf("%w: %d rows were read and %d written", refuse.ErrBooks, len(w.Digests), m.Written.Rows)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.discard(context.WithoutCancel(ctx), w))
		}
	}()
	var described *archive.Description
	if err := r.retry(ctx, func() (err error) {
		described, err = r.verify(ctx, w)
		return err
	}); err != nil {
		return err
	}
	m.Stored = r.Now().UTC()
	var span archive.Range
	if w.pass.relation != nil {
		span = archive.Range{FirstKey: source.EncodePosition(w.keys[0]),
			LastKey: source.EncodePosition(w.keys[len(w.keys)-1])}
	} else {
		span = archive.Range{Oldest: string(w.first[0].AppendText(nil)),
			Newest:   string(w.slice.Last[0].AppendText(nil)),
			FirstKey: source.EncodePosition(w.first[1:]), LastKey: source.EncodePosition(w.slice.Last[1:])}
	}
	described.Into(&span)
	hash, err := r.chains.Add(ctx, w.pass.table.Name, r.again, func(link archive.Link) (string, error) {
		m.Link = link
		return archive.Publish(ctx, w.pass.store, m, span)
	})
	if err != nil {
		return fmt.Errorf("store %s: %w", w.pass.name, err)
	}
	w.segment.Oldest, w.segment.Newest = span.Oldest, span.Newest
	if err := r.opened(ctx, w.segment, m, hash); err != nil {
		return err
	}
	if err := r.shelf.Spanned(ctx, w.segment, m, &span); err != nil { // it is found out later
		r.Log.Warn("where the keys of a segment lie cannot be kept", "segment", w.segment.ID, "error", err)
	}
	return nil
}

// verify reads the segment back from its store, matches it row by row with what was read from the source, and
// describes it.
func (r *Execution) verify(ctx context.Context, w *Work) (*archive.Description, error) {
	breathe, done := r.worksAndRests(ctx, StageVerify)
	defer done()
	if err := archive.VerifyBeside(ctx, w.pass.store, w.manifest, nil); err != nil {
		return nil, err
	}
	described, err := archive.Describe(ctx, w.pass.store, w.manifest)
	if err != nil {
		return nil, err
	}
	at, want := 0, w.Digests
	if w.pass.clean != nil {
		want = w.stored
	}
	return described, archive.Verify(ctx, w.pass.store, w.manifest,
		func(c *value.Chunk, digests []value.Digest) error {
			for _, d := range digests {
				if d != want[at] {
					return fmt.Errorf("%w: row %d is not what was written", archive.ErrDamaged, at)
				}
				at++
			}
			described.Rows(c)
			return breathe()
		})
}

// opened notes in the catalog that a segment exists.
func (r *Execution) opened(ctx context.Context, s *catalog.Segment, m *archive.Manifest, hash string) error {
	now := catalog.At(r.Now())
	s.State, s.Rows, s.RawBytes, s.FileBytes = catalog.SegmentOpen, m.Rows, m.RawBytes, m.FileBytes
	s.Digest, s.Sequence, s.ManifestHash, s.VerifiedAt = m.Digest.String(), m.Sequence, hash, &now
	p, err := r.passOf(s.Clause, s.Table)
	if err != nil {
		return err
	}
	s.KeepUntil = tables.KeptUntil(m, s.Newest, p.keepFrom, p.keep)
	if s.WantSecond, s.ColdStore = p.second, p.coldStore; p.coldStore != "" {
		s.ColdAt = tables.KeepUntil(m.Stored, p.coldAfter)
	}
	return r.Catalog.SaveSegment(ctx, s)
}

// discard takes back a segment that was not published, and those of the rows that go along with it.
func (r *Execution) discard(ctx context.Context, w *Work) error {
	for _, x := range w.related {
		if err := r.discard(ctx, x); err != nil {
			return err
		}
	}
	if w.segment == nil || w.segment.State != catalog.SegmentWriting {
		return nil
	}
	if _, _, err := archive.LoadManifest(ctx, w.pass.store, w.manifest.Stem); err == nil {
		return nil // it exists all the same; the next execution takes it up
	}
	if err := archive.Discard(ctx, w.pass.store, w.manifest); err != nil {
		return err
	}
	w.segment.State = catalog.SegmentAbandoned
	return r.Catalog.SaveSegment(ctx, w.segment)
}

// reserve is what must stay free in a store beyond the next segment, for manifests and closing records.
const reserve = 16 << 20

func (r *Execution) checkSpace(ctx context.Context) error {
	free := r.Pass.store.Free(ctx)
	need := int64(reserve) + min(due.SliceBytes, max(r.Run.Due, 1)*due.AverageBytes(r.Pass.sel))
	if free >= 0 && free < need {
		return fmt.Errorf("store %s: %w: %d MiB are free and %d MiB needed for the next segment; make room, then "+
			"resume the run", r.Pass.name, refuse.ErrNoSpace, free>>20, need>>20)
	}
	return nil
}

// closeSlice makes a slice's books from the journal, checks that they balance, and closes the segment. undone are
// ordinals that no batch will cover any more.
func (r *Execution) closeSlice(ctx context.Context, w *Work, undone []int) error {
	journal, err := r.journalOf(ctx, w.number)
	if err != nil {
		return err
	}
	books, err := ClosingOf(w, journal, undone)
	if err != nil {
		return fmt.Errorf("run %s, slice %d: %w", r.Run.ID, w.number, err)
	}
	if err := r.closeRelated(ctx, w, undone); err != nil {
		return err
	}
	done, err := r.tallyRelated(ctx, w.pass, w.number)
	if err != nil {
		return err
	}
	if w.segment != nil {
		if err := r.closeSegment(ctx, w, books); err != nil {
			return err
		}
		if w.pass.then != rule.ThenCopy {
			r.Run.RawBytes += w.segment.RawBytes
			r.Run.FileBytes += w.segment.FileBytes
		}
	}
	r.addUp(w.pass, numbers(books))
	done()
	if w.pass == r.Pass {
		r.Run.Position = source.EncodePosition(w.slice.Next)
	}
	if err := r.show(ctx, true); err != nil {
		return err
	}
	for number := w.number; number <= w.number+len(w.pass.related); number++ {
		if err := r.retry(ctx, func() error { return r.source.PruneJournal(ctx, r.Run.ID, number) }); err != nil {
			return err
		}
	}
	return nil
}

// journalOf reads the journal of a slice.
func (r *Execution) journalOf(ctx context.Context, number int) (journal []source.JournalRow, err error) {
	err = r.retry(ctx, func() (err error) {
		journal, err = r.source.Journal(ctx, r.Run.ID, number)
		return err
	})
	return journal, err
}

// ClosingOf computes from journal rows what became of each row of a slice.
func ClosingOf(w *Work, journal []source.JournalRow, undone []int) (*archive.Closing, error) {
	fate := make([]byte, len(w.Digests))
	books := &archive.Closing{Changed: []int{}, Vanished: []int{}, Held: []int{}, Skipped: []int{}}
	covered := 0
	var found value.Set
	if err := tables.Fates(fate, journal); err != nil {
		return nil, err
	}
	for _, row := range journal {
		if !row.Retry {
			covered += row.Rows
			found.Merge(row.Found)
		}
		books.Deleted += int64(row.Deleted)
		books.Digest.Merge(row.Digest)
	}
	for _, o := range undone {
		fate[o] = tables.RowSkipped
		if !w.blind {
			found.Add(w.Digests[o])
		}
	}
	for o, f := range fate {
		switch f {
		case 0:
			return nil, fmt.Errorf("%w: row %d was never in a batch", refuse.ErrBooks, o)
		case tables.RowChanged:
			books.Changed = append(books.Changed, o)
		case tables.RowVanished:
			books.Vanished = append(books.Vanished, o)
		case tables.RowHeld:
			books.Held = append(books.Held, o)
		case tables.RowSkipped:
			books.Skipped = append(books.Skipped, o)
		}
		if f != tables.RowDeleted && !w.blind {
			books.Left.Add(w.Digests[o])
		}
	}
	if w.blind { // what is left out is known as a whole: what was read less what the deletes reported
		books.Left = w.set
		books.Left.Subtract(books.Digest)
	}
	total := books.Digest
	total.Merge(books.Left)
	switch {
	case covered+len(undone) != len(w.Digests) || found != w.set && !w.blind:
		return nil, fmt.Errorf("%w: %d rows were read and the batches took %d", refuse.ErrBooks, len(w.Digests),
			covered+len(undone))
	case books.Deleted != books.Digest.Count:
		return nil, fmt.Errorf("%w: %d rows were deleted and the digest covers %d", refuse.ErrBooks, books.Deleted,
			books.Digest.Count)
	case total != w.set:
		return nil, fmt.Errorf("%w: the digest of what was deleted and what was left out (%s) is not that of what "+
			"was read (%s)", refuse.ErrBooks, total, w.set)
	}
	return books, nil
}

// closeSegment writes the closing record.
func (r *Execution) closeSegment(ctx context.Context, w *Work, books *archive.Closing) error {
	books.Closed = r.Now().UTC()
	hash, err := r.chains.Add(ctx, w.pass.table.Name, r.again, func(link archive.Link) (hash string, err error) {
		books.Link = link
		err = r.retry(ctx, func() (err error) {
			hash, err = archive.WriteClosing(ctx, w.pass.store, w.manifest, books)
			return err
		})
		return hash, err
	})
	if err != nil {
		return fmt.Errorf("store %s: %w", w.pass.name, err)
	}
	return r.closed(ctx, w.segment, books, hash)
}

// closed notes in the catalog that a segment is closed.
func (r *Execution) closed(ctx context.Context, s *catalog.Segment, books *archive.Closing, hash string) error {
	at := catalog.At(books.Closed)
	s.State, s.ClosedAt, s.ClosingHash, s.ClosingSeq = catalog.SegmentClosed, &at, hash, books.Sequence
	s.Deleted, s.Changed, s.Vanished, s.Held, s.Skipped = books.Deleted, int64(len(books.Changed)),
		int64(len(books.Vanished)), int64(len(books.Held)), int64(len(books.Skipped))
	return r.Catalog.SaveSegment(ctx, s)
}

// books is what became of the rows of a slice, in numbers.
type books struct {
	deleted, changed, vanished, held, skipped int64
	digest, left                              value.Set
}

// numbers of a closing record.
func numbers(c *archive.Closing) *books {
	return &books{deleted: c.Deleted, changed: int64(len(c.Changed)), vanished: int64(len(c.Vanished)),
		held: int64(len(c.Held)), skipped: int64(len(c.Skipped)), digest: c.Digest, left: c.Left}
}

// addUp adds a slice's books to what its pass has closed, and makes the run's counts those of its closed slices.
func (r *Execution) addUp(p *Pass, b *books) {
	l := r.ledger(p)
	mergeSets(&l.CopiedDigest, b.digest.String(), b.left.String())
	mergeSets(&l.DeletedDigest, b.digest.String())
	mergeSets(&l.LeftDigest, b.left.String())
	l.Copied += b.digest.Count + b.left.Count
	if p.then == rule.ThenUnlink {
		l.Unlinked += b.deleted
	} else {
		l.Deleted += b.deleted
	}
	l.Changed += b.changed
	l.Vanished += b.vanished
	l.Held += b.held
	l.Skipped += b.skipped
	open := r.Run.Copied
	r.sumUp()
	if r.Run.Deleting { // what is not deleted yet is copied all the same
		r.Run.Copied = max(open, r.Run.Copied)
	}
}

// Rows of a slice where it is to be short.
const (
	firstRows      = 25_000 // of a large run's first slice
	shortSliceRows = 5_000  // of that at the gentle pace, and of all where reading keeps writers waiting
)
