package plan

import (
	"context"
	"errors"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/source"
)

var errBudget = errors.New("counting took longer than its budget")

// Into so many stretches of age a table is counted: each is a short statement of its own, and a bar of the picture. A
// small table, where the statements themselves would be most of the work, gets fewer.
const (
	LeastBuckets = 12
	mostBuckets  = 48
	bucketRows   = 2_000
	// rows; a larger table without an index on its age, or one counted unasked, is counted in one piece
	unindexed = 500_000
)

// exactly counts the selection in pieces along the age. Rows that are written meanwhile may be counted or not.
func (p *planning) exactly(ctx context.Context, budget time.Duration) (*catalog.Counts, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, budget, errBudget)
	defer cancel()
	out, err := p.pieces(ctx)
	if err != nil && errors.Is(context.Cause(ctx), errBudget) {
		return nil, errBudget
	}
	return out, err
}

func (p *planning) emptyCounts() *catalog.Counts {
	c := &catalog.Counts{CountsAll: catalog.CountsAll{Total: p.table.Rows, Clauses: []catalog.ClauseCount{},
		Spread: []catalog.Bucket{}}}
	for _, t := range p.sel.Terms {
		c.Clauses = append(c.Clauses, catalog.ClauseCount{Clause: t.Clause})
	}
	return c
}

func (p *planning) pieces(ctx context.Context) (*catalog.Counts, error) {
	begun := catalog.At(p.Now())
	c := p.emptyCounts()
	c.Counted, c.From = true, &begun
	oldest, newest, some, err := p.source.Ends(ctx, p.sel)
	if err != nil {
		return nil, err
	}
	if some || p.sel.Empties() {
		spans := p.spans(oldest, newest)
		for i, span := range spans {
			if p.q.Counted != nil {
				p.q.Counted(i, len(spans))
			}
			tallies, err := p.source.Tally(ctx, p.sel, span)
			if err != nil {
				return nil, err
			}
			p.add(c, span, tallies)
		}
	}
	if c.Ageless, err = p.source.Outside(ctx, p.sel); err != nil {
		return nil, err
	}
	if some && newest.After(p.now.AddDate(0, 0, 1)) {
		ahead, err := p.source.Tally(ctx, p.sel, source.Span{From: p.now.AddDate(0, 0, 1)})
		if err != nil {
			return nil, err
		}
		for _, t := range ahead {
			c.Future += t.Rows
		}
	}
	if c.Total = c.Uncovered; !p.sel.Empties() { // otherwise rows without an age are among those of the clauses
		c.Total += c.Ageless
	}
	for _, x := range c.Clauses {
		c.Total += x.Rows
	}
	ended := catalog.At(p.Now())
	c.To = &ended
	return c, nil
}

// spans divides the ages of the table into stretches of equal length; the first and last have no bound on their far
// side. Without an index on the age each
// reads the whole table, which only a table that is not large is worth, and only where an exact plan is asked for.
func (p *planning) spans(oldest, newest time.Time) []source.Span {
	buckets := int(min(max(p.table.Rows/bucketRows, LeastBuckets), mostBuckets))
	step := newest.Sub(oldest) / time.Duration(buckets)
	indexed := p.rule.Age.Join == "" && p.table.IndexServes(p.rule.Age.Column)
	if step < time.Second || p.sel.Empties() || !indexed && (!p.q.Exact || p.table.Rows > unindexed) {
		return []source.Span{{}}
	}
	out := make([]source.Span, buckets)
	for i := range out {
		out[i] = source.Span{From: oldest.Add(time.Duration(i) * step).Truncate(time.Second),
			To: oldest.Add(time.Duration(i+1) * step).Truncate(time.Second)}
	}
	out[0].From, out[buckets-1].To = time.Time{}, time.Time{}
	return out
}

// add adds the tallies of a span to the counts.
func (p *planning) add(c *catalog.Counts, span source.Span, tallies []source.Tally) {
	bucket := catalog.Bucket{From: catalog.At(span.From), To: catalog.At(span.To),
		Clauses: make([]int64, len(c.Clauses)+1)}
	first := func(into *string, v string) {
		if *into == "" {
			*into = v
		}
	}
	last := func(into *string, v string) {
		if v != "" {
			*into = v
		}
	}
	for _, t := range tallies {
		bucket.Rows += t.Rows
		bucket.Due += t.Due
		if t.Clause < 0 {
			c.Uncovered += t.Rows
			bucket.Clauses[len(c.Clauses)] += t.Rows
			continue
		}
		for i := range c.Clauses {
			x := &c.Clauses[i]
			if x.Clause != t.Clause {
				continue
			}
			bucket.Clauses[i] += t.Rows
			x.Rows, x.Due, x.Held, x.Restored = x.Rows+t.Rows, x.Due+t.Due, x.Held+t.Held, x.Restored+t.Restored
			x.Referenced, x.Collation = x.Referenced+t.Referenced, x.Collation+t.Collation
			first(&x.Oldest, t.Oldest)
			last(&x.Newest, t.Newest)
			last(&x.LastGoing, t.LastGoing)
			first(&x.FirstStays, t.FirstStays)
		}
		c.Due, c.Held, c.Restored, c.Referenced, c.Collation = c.Due+t.Due, c.Held+t.Held, c.Restored+t.Restored,
			c.Referenced+t.Referenced, c.Collation+t.Collation
		// The ages of one table are written alike, so that the order of the texts is theirs.
		c.LastGoing = max(c.LastGoing, t.LastGoing)
		if t.FirstStays != "" && (c.FirstStays == "" || t.FirstStays < c.FirstStays) {
			c.FirstStays = t.FirstStays
		}
		if t.Due > 0 && (c.Oldest == "" || t.Oldest < c.Oldest) {
			c.Oldest = t.Oldest
		}
	}
	if !span.From.IsZero() || !span.To.IsZero() {
		if span.From.IsZero() {
			bucket.From = catalog.At(span.To.Add(-p.width(span)))
		}
		c.Spread = append(c.Spread, bucket)
		if n := len(c.Spread); span.To.IsZero() && n > 1 {
			c.Spread[n-1].To = catalog.At(span.From.Add(c.Spread[n-2].To.Sub(c.Spread[n-2].From.Time)))
			c.Spread[0].From = catalog.At(c.Spread[0].To.Add(-c.Spread[1].To.Sub(c.Spread[1].From.Time)))
		}
	}
}

// width of a span that has both bounds; for one that has not, it is set right when all are there.
func (p *planning) width(span source.Span) time.Duration {
	if span.From.IsZero() || span.To.IsZero() {
		return 0
	}
	return span.To.Sub(span.From)
}

// estimated fills in what the database's own statistics tell.
func (p *planning) estimated(ctx context.Context) (*catalog.Counts, error) {
	c := p.emptyCounts()
	c.Ageless, c.Future, c.Uncovered, c.Held, c.Restored, c.Referenced, c.Collation = catalog.NotCounted,
		catalog.NotCounted, catalog.NotCounted, catalog.NotCounted, catalog.NotCounted, catalog.NotCounted,
		catalog.NotCounted
	due, err := p.source.Estimate(ctx, p.sel)
	if err != nil {
		return nil, err
	}
	for i := range c.Clauses {
		x := &c.Clauses[i]
		x.Due = due[i]
		x.Rows, x.Held, x.Restored, x.Referenced, x.Collation = catalog.NotCounted, catalog.NotCounted,
			catalog.NotCounted, catalog.NotCounted, catalog.NotCounted
		c.Due += due[i]
	}
	quick, cancel := context.WithTimeout(ctx, QuickBudget)
	defer cancel()
	if oldest, _, ok, err := p.source.Ends(quick, p.sel); err == nil && ok {
		c.Oldest = oldest.Format(time.RFC3339)
	}
	// the two values on either side of the cutoff
	if latest, ok := p.sel.Latest(); ok && p.rule.Age.Join == "" && p.table.IndexServes(p.rule.Age.Column) {
		for span, into := range map[source.Span]*string{{From: latest.Add(-time.Hour), To: latest}: &c.LastGoing,
			{From: latest, To: latest.Add(time.Hour)}: &c.FirstStays} {
			if list, err := p.source.Tally(quick, p.sel, span); err == nil {
				for _, t := range list {
					if v := t.LastGoing; into == &c.LastGoing && v > *into {
						*into = v
					}
					if v := t.FirstStays; into == &c.FirstStays && v != "" && (*into == "" || v < *into) {
						*into = v
					}
				}
			}
		}
	}
	return c, nil
}
