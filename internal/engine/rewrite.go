package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"ambercellar/internal/archive"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// keptFor is how long rows stay in the archive, and what that counts from.
type keptFor struct {
	keep period.Period
	from rule.KeepFrom
}

// parting decides which rows of a segment stay when the others are destroyed: those whose time is not over, and those that a hold
// stands on. Rows that stayed in their table are no rows of the archive, and go.
type parting struct {
	engine   *Engine
	segment  *catalog.Segment
	manifest *archive.Manifest
	books    *archive.Closing
	terms    []keptFor // all must be over
	filters  []heldFilter
	whole    *catalog.Hold // that stands on all rows; nil: none does
	held     *catalog.Hold // that was found to stand on a row

	erase *filter.Filter // of an erasure: the rows that go, whatever their time; nil otherwise
}

// decide says why the segment stays as a whole, or notes in the item how many of its rows do; nothing where it may go as a whole.
func (p *parting) decide(ctx context.Context, item *catalog.DisposalItem) (reason string, err error) {
	over := !item.Due.After(p.engine.Now())
	until := fmt.Sprintf("it is kept until %s", item.Due.Format("2006-01-02 15:04:05 UTC"))
	stands := func(h *catalog.Hold) string { return fmt.Sprintf("hold %s (%s) stands on it", h.ID, h.Reference) }
	byAge := slices.ContainsFunc(p.terms, func(t keptFor) bool { return t.from == rule.FromAge })
	switch {
	case !over && !byAge:
		return until, nil
	case p.whole != nil && over:
		return stands(p.whole), nil
	case p.whole != nil:
		return until, nil
	case over && len(p.filters) == 0:
		return "", nil
	case p.segment.Asleep(p.engine.Now()):
		if over {
			return fmt.Sprintf("hold %s (%s) may stand on rows of it, which are in cold storage; retrieve it, and plan again", p.filters[0].hold.ID, p.filters[0].hold.Reference), nil
		}
		return until, nil
	}
	goes, stays, err := p.count(ctx)
	switch {
	case err != nil:
		return "", err
	case stays == 0:
		return "", nil
	case goes == 0 && p.held != nil && over:
		return stands(p.held), nil
	case goes == 0:
		return until, nil
	}
	why := until + "; that of some of its rows is over"
	if over {
		why = stands(p.held)
	}
	if obstacle := p.obstacle(); obstacle != "" {
		return why + ", and it cannot be parted: " + obstacle, nil
	}
	item.Kept, item.Why = stays, why
	return "", nil
}

// obstacle says why the rows that stay cannot be written into a segment of their own.
func (p *parting) obstacle() string {
	switch {
	case len(p.manifest.Key) == 0:
		return "its table has no key, and which of its rows were put back is told by their place in it"
	case len(p.manifest.Beside) > 0:
		return "joined rows are kept beside it"
	}
	return ""
}

// columns are those that decide.
func (p *parting) columns() (out []int) {
	if at := agePlace(p.manifest); at >= 0 {
		out = append(out, at)
	}
	filters := p.filters
	if p.erase != nil {
		filters = append(slices.Clone(filters), heldFilter{filter: p.erase})
	}
	for _, f := range filters {
		for _, c := range f.filter.Columns() {
			if c.Index < len(p.manifest.Columns) && !slices.Contains(out, c.Index) {
				out = append(out, c.Index)
			}
		}
	}
	slices.Sort(out)
	return out
}

// agePlace is the place of the column that the age of a row stands in; -1 where it stood in another table.
func agePlace(m *archive.Manifest) int {
	if m.Age.Join != "" {
		return -1
	}
	return slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == m.Age.Column })
}

// stays says whether a row stays. A row without an age that tells a time stays where its time counts from that.
func (p *parting) stays(row []value.Value) bool {
	for _, f := range p.filters {
		if f.filter.Eval(row).Only() {
			p.held = f.hold
			return true
		}
	}
	if p.erase != nil {
		return !p.erase.Eval(row).Only()
	}
	now := p.engine.Now()
	for _, t := range p.terms {
		from := p.manifest.Stored
		if t.from == rule.FromAge {
			at := agePlace(p.manifest)
			if at < 0 {
				return keptUntil(p.manifest, p.segment.Newest, t.from, &t.keep).After(now)
			}
			instant, ok := p.manifest.Age.Instant(row[at])
			if !ok {
				return true
			}
			from = instant
		}
		if keepUntil(from, &t.keep).After(now) {
			return true
		}
	}
	return false
}

func (p *parting) count(ctx context.Context) (goes, stays int64, err error) {
	left := p.books.LeftOut()
	_, err = p.engine.scanRows(ctx, p.segment, p.manifest, archive.Search{Columns: p.columns(), Absent: 1}, func(ordinal int, row []value.Value) error {
		if _, out := slices.BinarySearch(left, ordinal); !out && p.stays(row) {
			stays++
		} else {
			goes++
		}
		return ctx.Err()
	})
	return goes, stays, err
}

// rewrite writes the rows of a segment that stay into a file of their own, beside its records, and reads that back. It is no
// segment before the disposal record of the other names it.
func (e *Engine) rewrite(ctx context.Context, p *parting) (_ *archive.Successor, err error) {
	s, m := p.segment, p.manifest
	if p.whole != nil {
		return nil, ifHeld(p.whole)
	}
	st, err := e.readableStore(ctx, s)
	if err != nil {
		return nil, err
	}
	records, err := e.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	successor := m.Succeed()
	done := e.takeInHand(s.Store, successor.Stem)
	defer func() {
		if err != nil {
			done()
		}
	}()
	fresh := successor.Manifest(m)
	draft, err := archive.Create(ctx, records, fresh)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", s.Store, err)
	}
	defer draft.Abort()
	left := p.books.LeftOut()
	out := &value.Chunk{Width: len(m.Columns)}
	var set value.Set
	ordinal := 0
	err = archive.Verify(ctx, st, m, func(c *value.Chunk, digests []value.Digest) error {
		out.Reset()
		for i := range c.Rows() {
			row := append(c.Row(i)[:len(m.Columns):len(m.Columns)], value.Value{})
			if _, gone := slices.BinarySearch(left, ordinal); !gone && p.stays(row) {
				out.Values = append(out.Values, row[:len(m.Columns)]...)
				set.Add(digests[i])
			}
			ordinal++
		}
		return draft.Write(out)
	})
	if err != nil {
		return nil, err
	}
	if err := draft.Commit(); err != nil {
		return nil, fmt.Errorf("store %s: %w", s.Store, err)
	}
	successor.Written, successor.Digest = fresh.Written, set
	if err := archive.Verify(ctx, records, successor.Manifest(m), nil); err != nil {
		return nil, errors.Join(fmt.Errorf("what stays, read back: %w", err), records.Remove(context.WithoutCancel(ctx), fresh.RowsName()))
	}
	return successor, nil
}

// disposing is the parting of a segment by time, and by holds.
func (e *Engine) disposing(ctx context.Context, r *rule.Rule, s *catalog.Segment, keep period.Period) (*parting, error) {
	records, err := e.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	m, books, err := e.load(ctx, records, s)
	if err != nil {
		return nil, err
	}
	own, err := period.Parse(m.Keep)
	if err != nil {
		return nil, err
	}
	p := &parting{engine: e, segment: s, manifest: m, books: books, terms: []keptFor{{own, m.KeepFrom}, {keep, r.Archive.From}}}
	p.filters, p.whole, err = e.holdsOver(ctx, s, m)
	return p, err
}

func ifHeld(h *catalog.Hold) error {
	if h == nil {
		return nil
	}
	return &refuse.Error{Message: fmt.Sprintf("hold %s (%s) stands on it", h.ID, h.Reference)}
}

// settleSuccessor writes the next record that is missing of a segment which holds what stayed of another: its manifest, or its
// closing record. It says whether it wrote one; the head of the chain is to be settled then, and asked again.
func (e *Engine) settleSuccessor(ctx context.Context, sourceName, table string) (bool, error) {
	begun, err := e.Catalog.BeingDisposed(ctx, sourceName, table)
	if err != nil {
		return false, err
	}
	for i := range begun {
		s := &begun[i]
		if s.State != catalog.SegmentDisposed {
			continue
		}
		st, err := e.Store(ctx, s.Store)
		if err != nil {
			return false, err
		}
		m, _, err := archive.LoadManifest(ctx, st, s.Stem)
		if err != nil {
			return false, err
		}
		x, _, err := archive.LoadDisposal(ctx, st, m)
		if err != nil || x == nil || x.Successor == nil {
			if err != nil {
				return false, err
			}
			continue
		}
		if wrote, err := e.succeed(ctx, st, s, m, x); err != nil || wrote {
			return wrote, err
		}
	}
	return false, nil
}

// succeed writes the next missing record of the successor of a segment.
func (e *Engine) succeed(ctx context.Context, st store.Store, s *catalog.Segment, m *archive.Manifest, x *archive.Disposal) (bool, error) {
	fresh := x.Successor.Manifest(m)
	known, err := e.Catalog.Segment(ctx, fresh.Segment)
	if errors.Is(err, catalog.ErrNotFound) {
		known = &catalog.Segment{ID: fresh.Segment, Run: s.Run, Number: s.Number, Clause: s.Clause, Source: s.Source, Table: s.Table, Part: s.Part, Store: s.Store, Stem: fresh.Stem,
			State: catalog.SegmentWriting, CreatedAt: s.CreatedAt, Rewrites: s.ID, Rule: s.Rule}
		err = e.Catalog.AddSegment(ctx, known)
	}
	if err != nil {
		return false, err
	}
	switch known.State {
	case catalog.SegmentWriting:
		return true, e.succeedManifest(ctx, st, s, known, fresh)
	case catalog.SegmentOpen:
		return true, e.succeedClosing(ctx, st, s, known)
	}
	return false, nil
}

// nextLink is the link that follows the newest of a table that the catalog knows.
func (e *Engine) nextLink(ctx context.Context, s *catalog.Segment) (archive.Link, error) {
	sequence, hash, err := e.Catalog.LastLink(ctx, s.Source, s.Table)
	return archive.Link{Sequence: sequence + 1, Previous: hash}, err
}

func (e *Engine) succeedManifest(ctx context.Context, st store.Store, s, known *catalog.Segment, fresh *archive.Manifest) error {
	there, hash, err := archive.LoadManifest(ctx, st, fresh.Stem)
	if errors.Is(err, fs.ErrNotExist) {
		span, described, err := spanOf(ctx, st, fresh)
		if err != nil {
			return err
		}
		described.Into(&span)
		if err := st.Remove(ctx, fresh.RangeName()); err != nil { // of a try that was interrupted
			return err
		}
		if fresh.Link, err = e.nextLink(ctx, s); err != nil {
			return err
		}
		if hash, err = archive.Publish(ctx, st, fresh, span); err != nil {
			return err
		}
	} else if err != nil {
		return err
	} else {
		fresh = there
	}
	if span, err := archive.LoadRange(ctx, st, fresh); err == nil && span != nil {
		known.Oldest, known.Newest = span.Oldest, span.Newest
	}
	now := catalog.At(e.Now())
	known.State, known.Rows, known.RawBytes, known.FileBytes, known.Digest, known.VerifiedAt = catalog.SegmentOpen, fresh.Rows, fresh.RawBytes, fresh.FileBytes, fresh.Digest.String(), &now
	known.Sequence, known.ManifestHash = fresh.Sequence, hash
	known.WantSecond, known.ColdStore, known.ColdAt = s.WantSecond, s.ColdStore, s.ColdAt
	if keep, err := period.Parse(fresh.Keep); fresh.Keep != "" && err == nil {
		known.KeepUntil = keptUntil(fresh, known.Newest, fresh.KeepFrom, &keep)
	}
	return e.Catalog.SaveSegment(ctx, known)
}

// spanOf reads a file of rows that stayed, and describes it for its side file.
func spanOf(ctx context.Context, st store.Store, m *archive.Manifest) (span archive.Range, d *archive.Description, err error) {
	if d, err = archive.Describe(ctx, st, m); err != nil {
		return span, nil, err
	}
	age := agePlace(m)
	keys := make([]int, len(m.Key))
	for i, k := range m.Key {
		keys[i] = slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == k })
	}
	seen := false
	err = archive.Verify(ctx, st, m, func(c *value.Chunk, _ []value.Digest) error {
		d.Rows(c)
		for i := range c.Rows() {
			row := c.Row(i)
			key := make([]value.Value, len(keys))
			for j, at := range keys {
				key[j] = row[at]
			}
			if age >= 0 {
				text := string(row[age].AppendText(nil))
				if !seen {
					span.Oldest = text
				}
				span.Newest = text
			}
			if !seen {
				span.FirstKey = source.EncodePosition(key)
			}
			span.LastKey, seen = source.EncodePosition(key), true
		}
		return ctx.Err()
	})
	return span, d, err
}

// succeedClosing closes a segment of rows that stayed: all of them have left their table.
func (e *Engine) succeedClosing(ctx context.Context, st store.Store, s, known *catalog.Segment) error {
	m, _, err := archive.LoadManifest(ctx, st, known.Stem)
	if err != nil {
		return err
	}
	books, hash, err := archive.LoadClosing(ctx, st, m)
	if err != nil {
		return err
	}
	if books == nil {
		books = &archive.Closing{Deleted: m.Rows, Digest: m.Digest, Changed: []int{}, Vanished: []int{}, Held: []int{}, Skipped: []int{}, Closed: e.Now().UTC().Truncate(time.Millisecond)}
		if books.Link, err = e.nextLink(ctx, s); err != nil {
			return err
		}
		if hash, err = archive.WriteClosing(ctx, st, m, books); err != nil {
			return err
		}
	}
	at := catalog.At(books.Closed)
	known.State, known.ClosedAt, known.ClosingHash, known.ClosingSeq, known.Deleted = catalog.SegmentClosed, &at, hash, books.Sequence, books.Deleted
	if err := e.Catalog.SaveSegment(ctx, known); err != nil {
		return err
	}
	e.inHand.Delete(known.Store + "\x00" + known.Stem)
	return nil
}
