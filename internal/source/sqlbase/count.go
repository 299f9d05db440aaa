package sqlbase

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// Leaves is the whole condition under which a row of a selection leaves.
func (b *Base) Leaves(ctx context.Context, sel source.Selection, d source.Dialect) (string, error) {
	parts := append([]string{sel.DueByRule(d)}, sel.Narrowed(d)...)
	restored, err := b.RestoredCondition(ctx, sel.Table, d.Writer().Prefix)
	if err != nil {
		return "", err
	}
	if restored != "" {
		parts = append(parts, "NOT "+restored)
	}
	for _, r := range sel.Referenced(d) {
		parts = append(parts, "NOT "+r)
	}
	return strings.Join(parts, " AND "), nil
}

// Pieces are what a count by clause is put together from.
func (b *Base) Pieces(ctx context.Context, sel source.Selection, d Dialect) (q source.TallyQuery, err error) {
	q.From, q.Age = "FROM "+b.From(sel.Table)+" t", b.Column(d)
	if refs := sel.Referenced(d); len(refs) > 0 {
		q.Referenced = "(" + strings.Join(refs, " OR ") + ")"
	}
	q.Restored, err = b.RestoredCondition(ctx, sel.Table, d.Writer().Prefix)
	return q, err
}

// Tally counts a span of age by clause.
func (b *Base) Tally(ctx context.Context, sel source.Selection, span source.Span) ([]source.Tally, error) {
	d := b.Dialect(sel)
	q, err := b.Pieces(ctx, sel, d)
	if err != nil {
		return nil, err
	}
	q.Text = func(e string) string { return "COALESCE(" + b.Text(sel, e) + ", '')" }
	text, args := d.Finish(sel.Tally(d, span, q), b.Number)
	var out []source.Tally
	var t source.Tally
	err = b.counting(ctx, text, args, []any{&t.Clause, &t.Rows, &t.Due, &t.Held, &t.Restored, &t.Referenced,
		&t.Collation, &t.Oldest, &t.Newest, &t.LastGoing, &t.FirstStays}, func() error {
		out = append(out, t)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: counting: %w", sel.Table.Name, err)
	}
	return out, nil
}

// CountWhere counts rows that satisfy a filter, to limit at the most.
func (b *Base) CountWhere(ctx context.Context, t *shape.Table, f *filter.Filter, limit int64) (n int64, err error) {
	d := b.Dialect(source.Selection{Table: t})
	text, args := d.Finish(fmt.Sprintf("SELECT count(*) FROM (SELECT 1 FROM %s t WHERE %s LIMIT %d) x", b.From(t),
		source.Condition(d, f, false), limit), b.Number)
	return n, b.count(ctx, text, args, &n)
}

// CountRelated counts the rows of a related table that would go along.
func (b *Base) CountRelated(ctx context.Context, sel source.Selection, related int) (n int64, err error) {
	d := b.Dialect(sel)
	where, err := b.Leaves(ctx, sel, d)
	if err != nil {
		return 0, err
	}
	text, args := d.Finish("SELECT count(*) FROM "+sel.RelatedFrom(d.Writer(), related)+" WHERE "+where, b.Number)
	return n, b.count(ctx, text, args, &n)
}

// Difference counts what is due in one selection and not in the other.
func (b *Base) Difference(ctx context.Context, one, other source.Selection) (onlyA, onlyB, both int64, err error) {
	d := b.Dialect(one)
	text, args := d.Finish(source.Difference(one, other, d, b.Beside(d, other), "FROM "+b.From(one.Table)+" t"),
		b.Number)
	err = b.count(ctx, text, args, &onlyA, &onlyB, &both)
	return onlyA, onlyB, both, err
}

// Ends returns the oldest and newest age that are instants.
func (b *Base) Ends(ctx context.Context, sel source.Selection) (oldest, newest time.Time, ok bool, err error) {
	end := func(order string) (time.Time, bool, error) {
		d := b.Dialect(sel)
		text, args := d.Finish(fmt.Sprintf("SELECT %s FROM %s t WHERE %s ORDER BY %s%s LIMIT 1",
			b.Shown(sel, d), b.From(sel.Table), d.Instant(), b.Column(d), order), b.Number)
		return b.First(ctx, sel, text, args)
	}
	if oldest, ok, err = end(""); err == nil && ok {
		newest, ok, err = end(" DESC")
	}
	return oldest, newest, ok, err
}
