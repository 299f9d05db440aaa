package dispose

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
)

// keptFor is how long rows stay in the archive, and what that counts from.
type keptFor struct {
	keep period.Period
	from rule.KeepFrom
}

// parting decides which rows of a segment stay when the others are destroyed: those whose time is not over, and those
// that a hold stands on. Rows that stayed in their table are no rows of the archive, and go.
type parting struct {
	engine   *Disposer
	segment  *catalog.Segment
	manifest *archive.Manifest
	books    *archive.Closing
	terms    []keptFor // all must be over
	filters  []heldFilter
	whole    *catalog.Hold // that stands on all rows; nil: none does
	held     *catalog.Hold // that was found to stand on a row

	erase *filter.Filter // of an erasure: the rows that go, whatever their time; nil otherwise
}

// decide says why the segment stays as a whole, or notes in the item how many of its rows do; nothing where it may go
// as a whole.
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
			return fmt.Sprintf("hold %s (%s) may stand on rows of it, which are in cold storage; retrieve it, and "+
				"plan again", p.filters[0].hold.ID, p.filters[0].hold.Reference), nil
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
	if at := tables.AgePlace(p.manifest); at >= 0 {
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
			at := tables.AgePlace(p.manifest)
			if at < 0 {
				return tables.KeptUntil(p.manifest, p.segment.Newest, t.from, &t.keep).After(now)
			}
			instant, ok := p.manifest.Age.Instant(row[at])
			if !ok {
				return true
			}
			from = instant
		}
		if tables.KeepUntil(from, &t.keep).After(now) {
			return true
		}
	}
	return false
}

func (p *parting) count(ctx context.Context) (goes, stays int64, err error) {
	left := p.books.LeftOut()
	_, err = p.engine.shelf.ScanRows(ctx, p.segment, p.manifest, archive.Search{Columns: p.columns(), Absent: 1},
		func(ordinal int, row []value.Value) error {
			if _, out := slices.BinarySearch(left, ordinal); !out && p.stays(row) {
				stays++
			} else {
				goes++
			}
			return ctx.Err()
		})
	return goes, stays, err
}

// rewrite writes the rows of a segment that stay into a file of their own, beside its records, and reads that back. It
// is no segment before the disposal record of the other names it.
func (ds *Disposer) rewrite(ctx context.Context, p *parting) (_ *archive.Successor, err error) {
	s, m := p.segment, p.manifest
	if p.whole != nil {
		return nil, ifHeld(p.whole)
	}
	st, err := ds.shelf.ReadableStore(ctx, s)
	if err != nil {
		return nil, err
	}
	records, err := ds.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	successor := m.Succeed()
	done := ds.tables.TakeInHand(s.Store, successor.Stem)
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
		return nil, errors.Join(fmt.Errorf("what stays, read back: %w", err),
			records.Remove(context.WithoutCancel(ctx), fresh.RowsName()))
	}
	return successor, nil
}

// disposing is the parting of a segment by time, and by holds.
func (ds *Disposer) disposing(ctx context.Context, r *rule.Rule, s *catalog.Segment, keep period.Period) (*parting,
	error) {
	records, err := ds.Store(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	m, books, err := ds.shelf.Load(ctx, records, s)
	if err != nil {
		return nil, err
	}
	own, err := period.Parse(m.Keep)
	if err != nil {
		return nil, err
	}
	p := &parting{engine: ds, segment: s, manifest: m, books: books,
		terms: []keptFor{{own, m.KeepFrom}, {keep, r.Archive.From}}}
	p.filters, p.whole, err = ds.holdsOver(ctx, s, m)
	return p, err
}

func ifHeld(h *catalog.Hold) error {
	if h == nil {
		return nil
	}
	return &refuse.Error{Message: fmt.Sprintf("hold %s (%s) stands on it", h.ID, h.Reference)}
}
