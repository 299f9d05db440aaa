package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// PurgesDirect: where the delete can return what it took, asks no other table than the journal's, and does not sort
// more rows than few: it would look at all rows that are due, and lock them, for every batch. What others refer to is
// read first, so that no row of theirs is locked for long.
func (s *Source) PurgesDirect(ctx context.Context, q source.PurgeRequest) bool {
	t := q.Table
	if !s.mariadb || !s.returning || len(t.Key) == 0 || t.Part != "" || len(q.Joins)+len(q.Related)+
		len(t.ReferencedBy) > 0 {
		return false
	}
	query, args, err := s.purgeQuery(ctx, q)
	if err != nil {
		return false
	}
	query, _, _ = strings.Cut(query, " RETURNING ")
	const fewRows = 5_000
	sorts := false
	err = s.conn(ctx, func(c *sql.Conn) error {
		return eachRow(ctx, c, "EXPLAIN "+query, args, func(raw []driver.Value) error {
			rows, extra := fmt.Sprintf("%s", raw[len(raw)-2]), fmt.Sprintf("%s", raw[len(raw)-1])
			if n, err := strconv.ParseInt(rows, 10, 64); err != nil || n > fewRows {
				sorts = sorts || strings.Contains(extra, "filesort") || strings.Contains(extra, "temporary")
			}
			return nil
		})
	})
	return err == nil && !sorts
}

// PurgeStatement is the one that Purge sends.
func (s *Source) PurgeStatement(ctx context.Context, q source.PurgeRequest) (source.Statement, error) {
	query, args, err := s.purgeQuery(ctx, q)
	return source.Shown("each batch finds and deletes in one statement, the next one behind the last row of the "+
		"one before", query, args), err
}

func (s *Source) purgeQuery(ctx context.Context, q source.PurgeRequest) (string, []any, error) {
	d := newDialect(q.Selection, quote(q.Table.Name)+".")
	where, position, order, err := s.next(ctx, q.Selection, q.After, d, false)
	if err != nil {
		return "", nil, err
	}
	if q.UpTo != nil {
		where += d.upTo(position, q.UpTo)
	}
	query, args := d.Finish(fmt.Sprintf("DELETE FROM %s WHERE %s ORDER BY %s LIMIT %d RETURNING %s",
		quote(q.Table.Name), where, order, q.Rows, strings.Join(position, ", ")), nil)
	return query, args, nil
}

// upTo is the condition that a position is not behind another.
func (d *dialect) upTo(position []string, to []value.Value) string {
	bound := func(i int) string { return d.place(i, to[i]) }
	last := len(position) - 1
	within := fmt.Sprintf("%s <= %s", position[last], bound(last))
	for i := last - 1; i >= 0; i-- {
		within = fmt.Sprintf("%s < %s OR %s = %s AND (%s)", position[i], bound(i), position[i], bound(i), within)
	}
	return fmt.Sprintf(" AND %s <= %s AND (%s)", position[0], bound(0), within)
}

// PlaceAhead looks along the index of the age.
func (s *Source) PlaceAhead(ctx context.Context, sel source.Selection, after []value.Value, n int) (out []value.Value,
	err error) {
	latest, ok := sel.Latest()
	if !ok || sel.Empties() {
		return nil, nil
	}
	every := source.Every(sel.Table, sel.Age, latest)
	d := newDialect(every, "t.")
	where, position, order, err := s.next(ctx, every, after, d, false)
	if err != nil {
		return nil, err
	}
	query, args := d.Finish(fmt.Sprintf("SELECT %s FROM %s t WHERE %s ORDER BY %s LIMIT 1 OFFSET %d",
		strings.Join(position, ", "), from(sel.Table), where, order, n-1), nil)
	columns := positionOf(sel)
	var arena value.Chunk
	err = s.conn(ctx, func(c *sql.Conn) error {
		return eachRow(ctx, c, query, args, func(raw []driver.Value) error {
			for i, v := range raw {
				x, err := decode(v, columns[i], arena.Keep)
				if err != nil {
					return err
				}
				out = append(out, x)
			}
			return nil
		})
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: looking ahead: %w", sel.Table.Name, err)
	}
	if len(out) == 0 {
		return nil, nil
	}
	return value.CloneRow(out), nil
}

// purgedRows takes the rows that a purge reports: age and key.
type purgedRows struct {
	columns []*shape.Column
	digest  *value.Set // of the keys
	last    []value.Value
	age     driver.Value // of the last row, which alone is decoded
	text    []byte
	hasher  value.Hasher
	arena   value.Chunk
}

func (p *purgedRows) add(raw []driver.Value) (err error) {
	p.arena.Reset()
	if b, ok := raw[0].([]byte); ok { // valid during the call only
		p.text = append(p.text[:0], b...)
		p.age = p.text
	} else {
		p.age = raw[0]
	}
	for i, v := range raw[1:] {
		if p.last[i+1], err = decode(v, p.columns[i+1], p.arena.Keep); err != nil {
			return err
		}
	}
	p.digest.Add(p.hasher.Row(p.last[1:]))
	return nil
}

// place is where the last row stood.
func (p *purgedRows) place() (_ []value.Value, err error) {
	if p.last[0], err = decode(p.age, p.columns[0], p.arena.Keep); err != nil {
		return nil, err
	}
	return value.CloneRow(p.last), nil
}

// purgeSpurts deletes the rows of a batch: by one statement, or in the request's spurts, each by one of its own.
func (s *Source) purgeSpurts(ctx context.Context, c *statements, q source.PurgeRequest, rows *purgedRows) error {
	defer c.forget()
	for left := q.Rows; ; {
		q.Rows = min(left, q.Spurts.Rows())
		query, args, err := s.purgeQuery(ctx, q)
		if err != nil {
			return err
		}
		if err := source.Rest(ctx, q.Spurts.Break()); err != nil {
			return err
		}
		before, begun := rows.digest.Count, time.Now()
		if err := c.each(ctx, mark(q.Lease.Run, q.Segment, q.Number)+query, args, rows.add); err != nil {
			return err
		}
		got := int(rows.digest.Count - before)
		q.Spurts.Done(got, time.Since(begun))
		if left -= got; left <= 0 || got < q.Rows {
			return nil
		}
		if q.After, err = rows.place(); err != nil {
			return err
		}
	}
}

// Purge deletes the next rows by statements that judge each row as it stands at that moment. Its digest covers
// the key: there was no earlier reading that the content could differ from. Ages come back for the last row's sake.
func (s *Source) Purge(ctx context.Context, q source.PurgeRequest) (row *source.JournalRow, next []value.Value,
	err error) {
	columns := positionOf(q.Selection)
	out := &source.JournalRow{Run: q.Lease.Run, Segment: q.Segment, Batch: q.Number, At: time.Now().UTC()}
	var earlier *source.JournalRow
	none := errors.New("no row is left")
	out.Flushed, err = s.flushed(ctx, func(c *sql.Conn) error {
		switch err := bykey.InsertJournalRow(ctx, c, q.Table.Name, out); code(err) {
		case duplicate:
			earlier, err = journalRow(ctx, c, q.Lease.Run, q.Segment, q.Number)
			return err
		case lockTimeout: // the server is still at it, after the connection was cut
			return fmt.Errorf("%w: an earlier try of this batch is still going on: %v", source.ErrUnreachable, err)
		default:
			if err != nil {
				return err
			}
		}
		if err := shareLease(ctx, c, q.Lease); err != nil {
			return err
		}
		done, err := s.atOnce(ctx, c, false)
		if err != nil {
			return err
		}
		defer done()
		rows := &purgedRows{columns: columns, last: make([]value.Value, len(columns)), digest: &out.Digest}
		if err := s.purgeSpurts(ctx, &statements{conn: c, keeps: q.Spurts != nil}, q, rows); err != nil {
			return err
		}
		if err := s.unaltered(ctx, c, q.Table); err != nil {
			return err
		}
		if out.Digest.Count == 0 {
			return none
		}
		if next, err = rows.place(); err != nil {
			return err
		}
		n := int(out.Digest.Count)
		out.Rows, out.Deleted, out.Found, out.Last = n, n, out.Digest, n-1
		return completeJournalRow(ctx, c, out)
	})
	switch {
	case errors.Is(err, none):
		return out, nil, nil
	case code(err) == referred:
		return nil, nil, fmt.Errorf("table %s: %w: %w", q.Table.Name, source.ErrBusy, err)
	case err != nil && !errors.Is(err, source.ErrLeaseLost) && !errors.Is(err, source.ErrReshaped):
		return nil, nil, fmt.Errorf("table %s: purging a batch: %w", q.Table.Name, err)
	case err != nil:
		return nil, nil, err
	case earlier != nil: // an earlier try was committed and its answer got lost
		return earlier, nil, nil
	}
	return out, next, nil
}
