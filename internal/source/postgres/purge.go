package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// PurgesDirect: where an index leads along the age or the rows are few, and nothing but the row itself decides whether
// it goes. What others refer to and what triggers see is read first, so that a row that stays is named; so is what
// lies in several tables. A replication origin is one session's alone, and two stretches may be purged side by side.
func (s *Source) PurgesDirect(ctx context.Context, q source.PurgeRequest) bool {
	t := q.Table
	if s.cfg.Origin != "" || len(t.Key) == 0 || len(t.Address) > 0 || t.Part != "" || t.Partitioned || len(q.Joins)+
		len(q.Related)+len(t.ReferencedBy)+len(t.Triggers) > 0 {
		return false
	}
	var plain, few bool
	const fewPages = 64
	if err := s.conn(ctx, func(c *pgxpool.Conn) error {
		return c.QueryRow(ctx, "SELECT relkind = 'r' AND NOT relhassubclass AND NOT relhasrules AND NOT "+
			"relrowsecurity, pg_relation_size(oid) <= $2 * current_setting('block_size')::bigint FROM pg_class "+
			"WHERE oid = $1::regclass",
			table(t), fewPages).Scan(&plain, &few)
	}); err != nil || !plain {
		return false
	}
	if few {
		return true
	}
	if !q.Empties() {
		if differ, err := s.agesDiffer(ctx, source.SliceRequest{Selection: q.Selection,
			MaxRows: sliceAlone}); err != nil || !differ {
			return false
		}
	}
	query, values, err := s.placeQuery(ctx, q.Selection, places, q.Rows, bound{">", q.After}, bound{"<=", q.UpTo})
	if err != nil {
		return false
	}
	along := false
	err = s.looking(ctx, "EXPLAIN "+query, values, func(f [][]byte) error {
		node := strings.TrimSpace(strings.ReplaceAll(string(f[0]), "->", ""))
		along = along || strings.HasPrefix(node, "Index ")
		if strings.HasPrefix(node, "Sort  (") {
			return errSorts
		}
		return nil
	})
	return err == nil && along
}

// errSorts says that the server would sort all rows that are due to find the next ones.
var errSorts = errors.New("no index leads along the rows")

// bound is where rows lie to a place, or to its first columns. Without a place it is none.
type bound struct {
	op    string
	place []value.Value
}

// stretch is the condition on the rows within bounds, and the columns of a place: age and key.
func (s *Source) stretch(ctx context.Context, sel source.Selection, d *dialect, bounds ...bound) (where string,
	position []string, err error) {
	if where, err = s.Leaves(ctx, sel, d); err != nil {
		return "", nil, err
	}
	columns := positionOf(sel)
	position = []string{d.column()}
	for _, k := range sel.Table.Key {
		position = append(position, "t."+quote(k))
	}
	first := firstOf(sel)
	for _, b := range bounds {
		if len(b.place) == 0 {
			continue
		}
		var values []string
		for i := first; i < len(b.place); i++ {
			values = append(values, constant(b.place[i], columns[i]))
		}
		where += fmt.Sprintf(" AND (%s) %s (%s)", strings.Join(position[first:len(b.place)], ", "), b.op,
			strings.Join(values, ", "))
	}
	return where, position, nil
}

// firstOf is the first column of a place that tells the order: a clause that takes its rows whatever their age goes by
// the key alone.
func firstOf(sel source.Selection) int {
	if sel.Empties() {
		return 1
	}
	return 0
}

// positionOf are the columns of a place: age and key.
func positionOf(sel source.Selection) []*shape.Column {
	age, _ := sel.AgeColumn()
	out := []*shape.Column{age}
	for _, k := range sel.Table.KeyPositions() {
		out = append(out, sel.Table.At(k))
	}
	return out
}

// PlaceAhead looks along the index of the age.
func (s *Source) PlaceAhead(ctx context.Context, sel source.Selection, after []value.Value, n int) ([]value.Value,
	error) {
	latest, ok := sel.Latest()
	if !ok || sel.Empties() {
		return nil, nil
	}
	return s.place(ctx, source.Every(sel.Table, sel.Age, latest), after, nil, n)
}

// place is that of the n-th row behind a place and not behind another, or of one a little before it; 0: of the last.
// It is nil where there are fewer.
func (s *Source) place(ctx context.Context, sel source.Selection, after, upTo []value.Value, n int) (out []value.Value,
	err error) {
	if n > 0 && !sel.Empties() { // an index of the age tells that without the rows
		age, err := s.lookUp(ctx, sel, ages, n, bound{">", after}, bound{"<=", upTo[:min(len(upTo), 1)]})
		if err != nil || age == nil {
			return nil, err
		}
		if !sameAge(age, after) && !sameAge(age, upTo) {
			if out, err = s.lookUp(ctx, sel, places, 1, bound{">=", age}, bound{"<=", age}); err != nil || out != nil {
				return out, err
			}
		}
	}
	return s.lookUp(ctx, sel, places, n, bound{">", after}, bound{"<=", upTo})
}

func sameAge(a, b []value.Value) bool {
	return len(a) > 0 && len(b) > 0 && string(a[0].AppendCanonical(nil)) == string(b[0].AppendCanonical(nil))
}

// What is looked up of a row.
const (
	places = iota // its age and key
	ages          // its age alone
)

// lookUp returns the place of the n-th row within bounds, or its age alone; n 0: of the last row.
func (s *Source) lookUp(ctx context.Context, sel source.Selection, what, n int, bounds ...bound) (out []value.Value,
	err error) {
	query, values, err := s.placeQuery(ctx, sel, what, n, bounds...)
	if err != nil {
		return nil, err
	}
	columns := positionOf(sel)
	err = s.looking(ctx, query, values, func(f [][]byte) error {
		for i, raw := range f {
			v, err := decode(raw, columns[i], func(b []byte) []byte { return append([]byte{}, b...) })
			if err != nil {
				return err
			}
			out = append(out, v)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: looking ahead: %w", sel.Table.Name, err)
	}
	return out, nil
}

func (s *Source) placeQuery(ctx context.Context, sel source.Selection, what, n int, bounds ...bound) (string, []any,
	error) {
	d := newDialect(sel)
	skip, way := fmt.Sprint(n-1), ""
	if n == 0 {
		skip, way = "0", " DESC"
	}
	// the index has no key: rows of that age that are passed are counted off
	if after := bounds[0].place; what == ages && len(after) > 1 {
		passed, _, err := s.stretch(ctx, sel, d, bound{">=", after[:1]}, bound{"<=", after})
		if err != nil {
			return "", nil, err
		}
		skip += fmt.Sprintf(" + (SELECT count(*) FROM ONLY %s t WHERE %s)", table(sel.Table), passed)
		bounds[0] = bound{">=", after[:1]}
	}
	where, position, err := s.stretch(ctx, sel, d, bounds...)
	if err != nil {
		return "", nil, err
	}
	if what == ages {
		position = position[:1]
	}
	order := strings.Join(position[firstOf(sel):], way+", ") + way
	for i, k := range sel.Table.KeyPositions()[:len(position)-1] {
		position[i+1] = expression(sel.Table.At(k))
	}
	query, values := d.Finish(fmt.Sprintf("SELECT %s FROM ONLY %s t WHERE %s ORDER BY %s LIMIT 1 OFFSET %s",
		strings.Join(position, ", "), table(sel.Table), where, order, skip), numbered)
	return query, values, nil
}

// looking carries out a query that changes nothing, along indexes.
func (s *Source) looking(ctx context.Context, query string, values []any, report func([][]byte) error) error {
	params, types := bindTexts(values)
	return s.conn(ctx, func(c *pgxpool.Conn) error {
		pc := c.Conn().PgConn()
		err := together(ctx, pc, step{query: "BEGIN TRANSACTION READ ONLY"},
			step{query: "SET LOCAL enable_seqscan = off"})
		if err == nil {
			err = eachRow(ctx, pc, query, params, types, report)
		}
		return errors.Join(err, run(context.WithoutCancel(ctx), pc, "ROLLBACK"))
	})
}

// end is the place that a batch goes up to; nil where it has no row.
func (s *Source) end(ctx context.Context, q source.PurgeRequest) ([]value.Value, error) {
	place, err := s.place(ctx, q.Selection, q.After, q.UpTo, q.Rows)
	if err == nil && place == nil {
		place, err = s.place(ctx, q.Selection, q.After, q.UpTo, 0)
	}
	return place, err
}

// PurgeStatement is the one that Purge sends for the first rows.
func (s *Source) PurgeStatement(ctx context.Context, q source.PurgeRequest) (source.Statement, error) {
	place, err := s.end(ctx, q)
	if err != nil {
		return source.Statement{}, err
	}
	q.UpTo = place
	query, values, err := s.purgeQuery(ctx, q)
	return source.Shown("each batch finds and deletes in one statement, up to the place of its last row, which is "+
		"looked up before; the next begins behind it", query, values), err
}

func (s *Source) purgeQuery(ctx context.Context, q source.PurgeRequest) (string, []any, error) {
	d := newDialect(q.Selection)
	where, _, err := s.stretch(ctx, q.Selection, d, bound{">", q.After}, bound{"<=", q.UpTo})
	if err != nil {
		return "", nil, err
	}
	query, values := d.Finish(fmt.Sprintf("DELETE FROM ONLY %s AS t WHERE %s RETURNING %s", table(q.Table), where,
		strings.Join(expressions(q.Table, q.Table.KeyPositions()), ", ")), numbered)
	return query, values, nil
}

// Purge deletes the next rows by one statement, which judges each row as it stands at that moment: one that others
// change while it waits for them is judged again. Its digest covers the key: there was no earlier reading that the
// content could differ from. The batch ends at a place that is looked up before, so that a row that moves meanwhile
// moves nothing but itself.
func (s *Source) Purge(ctx context.Context, q source.PurgeRequest) (row *source.JournalRow, next []value.Value,
	err error) {
	for {
		place, err := s.end(ctx, q)
		if err != nil {
			return nil, nil, err
		}
		p := &purge{PurgeRequest: q, out: &source.JournalRow{Run: q.Lease.Run, Segment: q.Segment, Batch: q.Number,
			At: time.Now().UTC()}}
		if p.UpTo = place; place != nil {
			if p.query, p.values, err = s.purgeQuery(ctx, p.PurgeRequest); err != nil {
				return nil, nil, err
			}
		}
		err = s.conn(ctx, func(c *pgxpool.Conn) error { return p.transaction(ctx, c.Conn().PgConn()) })
		switch n := code(err); {
		case errors.Is(err, errMore):
			continue
		case errors.Is(err, source.ErrUnreachable):
			return nil, nil, err
		case n == lockNotAvailable || n == deadlock || n == serialization || n == inUse || n == foreignKey:
			return nil, nil, fmt.Errorf("table %s: %w: %w", q.Table.Name, source.ErrBusy, err)
		case errors.Is(err, source.ErrLeaseLost), errors.Is(err, source.ErrReshaped):
			return nil, nil, err
		case err != nil:
			return nil, nil, fmt.Errorf("table %s: purging a batch: %w", q.Table.Name, err)
		case p.earlier != nil:
			return p.earlier, nil, nil
		case place == nil || p.out.Rows > 0:
			return p.out, place, nil
		}
		q.After = place // others have changed or deleted every one of them since it was looked up
	}
}

// errMore says that others have put rows before the place that was looked up, so that the batch would have more than
// it may.
var errMore = errors.New("more rows are there than were looked up")

// purge is one batch of rows that are purged without having been read.
type purge struct {
	source.PurgeRequest
	query   string
	values  []any
	out     *source.JournalRow
	earlier *source.JournalRow // an earlier try of the batch was committed and its answer got lost
}

// A purge waits so long for rows that others have locked, before they are read and left out: far below
// deadlock_timeout. For an earlier try of its own, which the server may still be at after the connection was cut, it
// waits longer.
const (
	purgeWait   = 100 * time.Millisecond
	earlierWait = 10 * time.Second
)

// transaction is the delete transaction: journal row, lease, delete, what went, commit. Nothing stays of one that
// deletes nothing.
func (p *purge) transaction(ctx context.Context, pc *pgconn.PgConn) (err error) {
	stays := false
	defer func() {
		if !stays {
			pc.Exec(context.WithoutCancel(ctx), "ROLLBACK").ReadAll()
		}
	}()
	wait := func(d time.Duration) step {
		return step{query: fmt.Sprintf("SET LOCAL lock_timeout = %d", d.Milliseconds())}
	}
	held, lease := leaseShared(p.Lease)
	err = together(ctx, pc, step{query: "BEGIN"}, wait(earlierWait),
		step{query: message(p.Lease, p.Segment, p.Number)}, journalInsert(p.Table.Name, p.out), lease, wait(purgeWait),
		step{query: "SET LOCAL enable_seqscan = off"})
	switch code(err) {
	case uniqueViolation:
		if err := run(ctx, pc, "ROLLBACK"); err != nil {
			return err
		}
		p.earlier, err = journalRow(ctx, pc, p.out)
		return err
	case lockNotAvailable:
		return fmt.Errorf("%w: an earlier try of this batch is still going on: %w", source.ErrUnreachable, err)
	}
	if err != nil {
		return err
	}
	if err := held(); err != nil || p.query == "" {
		return err
	}
	columns := positionOf(p.Selection)[1:]
	var hasher value.Hasher
	var arena value.Chunk
	key := make([]value.Value, len(columns))
	params, types := bindTexts(p.values)
	if err := eachRow(ctx, pc, p.query, params, types, func(f [][]byte) (err error) {
		arena.Reset()
		for i, raw := range f {
			if key[i], err = decode(raw, columns[i], arena.Keep); err != nil {
				return err
			}
		}
		p.out.Digest.Add(hasher.Row(key))
		return nil
	}); err != nil || p.out.Digest.Count == 0 {
		return err
	}
	n := int(p.out.Digest.Count)
	if n > p.PurgeRequest.Rows {
		return errMore
	}
	p.out.Rows, p.out.Deleted, p.out.Found, p.out.Last = n, n, p.out.Digest, n-1
	same, sign := sameShape(p.Table)
	if err := together(ctx, pc, sign, journalComplete(p.out)); err != nil {
		return err
	}
	if err := same(); err != nil {
		return err
	}
	stays = true
	p.out.Flushed, err = commit(ctx, pc)
	return err
}
