package sqlite

import (
	"context"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// restoredTable names the table that records the restored rows of t: their keys, or, where it has none, their places
// in the segments, in a table of another form.
func restoredTable(t *shape.Table) string {
	sum := sha256.Sum256([]byte(t.Name))
	if t.ByAddress() {
		return "ambercellar_put_back_" + hex.EncodeToString(sum[:6])
	}
	return "ambercellar_restored_" + hex.EncodeToString(sum[:6])
}

func (s *Source) hasTable(ctx context.Context, name string) (found bool, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?)",
		name).Scan(&found)
	return found, err
}

// referenced returns the conditions that a row of t, called by prefix, is referred to by another row.
func referenced(t *shape.Table, keys []shape.ForeignKey, prefix string) []string {
	var out []string
	for _, k := range keys {
		if len(k.Columns) != len(k.RefColumns) {
			continue // SQLite itself refuses deletes under such a key
		}
		parts := make([]string, len(k.Columns))
		for i := range k.Columns {
			parts[i] = fmt.Sprintf("%s%s = c.%s", prefix, quote(k.RefColumns[i]), quote(k.Columns[i]))
		}
		if strings.EqualFold(k.Table, t.Name) { // a row that refers to itself keeps nothing
			same := make([]string, len(t.Key))
			for i, key := range t.Key {
				same[i] = fmt.Sprintf("c.%s = %s%s", quote(key), prefix, quote(key))
			}
			parts = append(parts, "NOT ("+strings.Join(same, " AND ")+")")
		}
		out = append(out, fmt.Sprintf("EXISTS (SELECT 1 FROM %s c WHERE %s)", quote(k.Table),
			strings.Join(parts, " AND ")))
	}
	return out
}

// leaves is the whole condition under which a row, called t, leaves. A key of SQLite may be NULL, and then names no
// row.
func (s *Source) leaves(ctx context.Context, sel source.Selection, d *dialect) (string, error) {
	out, err := s.Leaves(ctx, sel, d)
	for _, k := range sel.Table.KeyPositions() {
		if c := sel.Table.At(k); c.Nullable {
			out += " AND " + d.prefix + quote(c.Name) + " IS NOT NULL"
		}
	}
	return out, err
}

// Clock returns what the database's clock shows.
func (s *Source) Clock(ctx context.Context) (time.Time, error) {
	var text string
	if err := s.read.QueryRowContext(ctx, "SELECT strftime('%Y-%m-%dT%H:%M:%fZ', 'now')").Scan(&text); err != nil {
		return time.Time{}, err
	}
	return time.Parse(time.RFC3339Nano, text)
}

// Tally counts a span of age by clause.
func (s *Source) Tally(ctx context.Context, sel source.Selection, span source.Span) ([]source.Tally, error) {
	d := newDialect(sel, "t.")
	q, err := s.Pieces(ctx, sel, newDialect(sel, "t."))
	if err != nil {
		return nil, err
	}
	if sel.Age.Unit == "" { // LIMIT keeps SQLite from writing the expression out wherever its value is used
		inner := &dialect{Binder: d.Binder, sel: sel, age: sel.Age, prefix: ""}
		q.From = "FROM (SELECT *, " + inner.judge() + " AS " + judgedAge + " FROM " + quote(sel.Table.Name)
		var bounds []string
		if !span.From.IsZero() {
			bounds = append(bounds, inner.after(span.From))
		}
		if !span.To.IsZero() {
			bounds = append(bounds, inner.column()+" < "+d.Bind(span.To.UTC().AddDate(0, 0, 2).Format(time.DateOnly)))
		}
		if len(bounds) > 0 {
			q.From += " WHERE " + strings.Join(bounds, " AND ")
		}
		q.From += " LIMIT -1) t"
		d.judged = true
	}
	q.Age = "+" + q.Age
	text, args := d.Finish(sel.Judged(d, span, q), nil)
	conn, err := s.read.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	found := map[int64]*tally{}
	// Added up here: SQLite would sort all rows to group them.
	err = eachRow(ctx, conn, text, args, func(row []driver.Value) error {
		c, _ := row[0].(int64)
		before, _ := row[2].(int64)
		state, _ := row[3].(int64)
		if found[c] == nil {
			found[c] = &tally{Tally: source.Tally{Clause: int(c)}}
		}
		found[c].add(row[1], before == 1, state)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("table %s: counting: %w", sel.Table.Name, err)
	}
	var out []source.Tally
	for _, t := range found {
		t.Oldest, t.Newest, t.LastGoing, t.FirstStays = ageText(t.oldest), ageText(t.newest), ageText(t.lastGoing),
			ageText(t.firstStays)
		out = append(out, t.Tally)
	}
	return out, nil
}

// tally is a tally being added up; its ages are as the driver returned them.
type tally struct {
	source.Tally
	oldest, newest, lastGoing, firstStays driver.Value
}

func (t *tally) add(age driver.Value, before bool, state int64) {
	t.Rows++
	switch state {
	case source.StateDue:
		t.Due++
		if t.lastGoing == nil || later(age, t.lastGoing) {
			t.lastGoing = age
		}
	case source.StateHeld:
		t.Held++
	case source.StateRestored:
		t.Restored++
	case source.StateReferenced:
		t.Referenced++
	case source.StateDoubtful:
		t.Collation++
	}
	if t.oldest == nil || later(t.oldest, age) {
		t.oldest = age
	}
	if t.newest == nil || later(age, t.newest) {
		t.newest = age
	}
	if !before && (t.firstStays == nil || later(t.firstStays, age)) {
		t.firstStays = age
	}
}

// later orders two ages as SQLite does: numbers by size, text byte by byte.
func later(a, b driver.Value) bool {
	if x, ok := a.(int64); ok {
		y, ok := b.(int64)
		return ok && x > y
	}
	x, _ := a.(string)
	y, _ := b.(string)
	return x > y
}

func ageText(v driver.Value) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
}

// Outside counts rows whose age is no instant.
func (s *Source) Outside(ctx context.Context, sel source.Selection) (n int64, err error) {
	d := newDialect(sel, "")
	text, args := d.Finish("SELECT count(*) FROM (SELECT "+d.Instant()+" AS instant FROM "+quote(sel.Table.Name)+
		") WHERE NOT coalesce(instant, 0)", nil)
	err = s.read.QueryRowContext(ctx, text, args...).Scan(&n)
	return n, err
}

// sampled is how many rows Estimate looks at to learn what share of them a filter takes.
const sampled = 2000

// Estimate guesses from where the cutoffs lie between the oldest and the newest age, and from a few rows of that span:
// SQLite keeps no statistics of values.
func (s *Source) Estimate(ctx context.Context, sel source.Selection) ([]int64, error) {
	out := make([]int64, len(sel.Terms))
	oldest, newest, ok, err := s.Ends(ctx, sel)
	if err != nil || !ok {
		return out, err
	}
	for i, t := range sel.Terms {
		if t.Never || t.None {
			continue
		}
		share := 1.0
		if length := newest.Sub(oldest); length > 0 {
			share = min(max(float64(t.At.Sub(oldest))/float64(length), 0), 1)
		} else if !t.At.After(oldest) {
			share = 0
		}
		d := newDialect(sel, "t.")
		condition := source.Governed(d, t, false)
		for _, part := range sel.Narrowed(d) {
			condition += " AND " + part
		}
		if condition != "TRUE" {
			text, args := d.Finish(fmt.Sprintf(
				"SELECT coalesce(avg(CASE WHEN %s THEN 1.0 ELSE 0.0 END), 0) FROM (SELECT * FROM %s WHERE %s ORDER "+
					"BY %s LIMIT %d) t",
				condition, quote(sel.Table.Name), newDialectOn(d, "").Before(t.At), newDialectOn(d, "").column(),
				sampled), nil)
			var part float64
			if err := s.read.QueryRowContext(ctx, text, args...).Scan(&part); err != nil {
				return nil, err
			}
			share *= part
		}
		out[i] = int64(share * float64(max(sel.Table.Rows, 0)))
	}
	return out, nil
}

// Statements returns the statements of a run.
func (s *Source) Statements(ctx context.Context, sel source.Selection, columns []int) ([]source.Statement, error) {
	d := newDialect(sel, "t.")
	text, err := s.sliceQuery(ctx, source.SliceRequest{Selection: sel, Columns: columns, MaxRows: 125_000}, d)
	if err != nil {
		return nil, err
	}
	text, args := d.Finish(text, nil)
	out := []source.Statement{source.Shown("the first slice is read with", text, args)}
	if len(sel.Related) > 0 {
		for _, x := range sel.Steps(func(sel source.Selection) source.Dialect { return newDialect(sel, "t.") }) {
			t := x.Table.Table
			d := newDialect(x.Table, "t.")
			all := t.Readable()
			keys := "(" + quoteAll("", x.On) + ") IN (VALUES …)"
			text := "SELECT " + expressions(t, "t.", append(all, t.KeyPositions()...)) + " FROM " + quote(t.Name) +
				" t WHERE " + keys
			switch {
			case x.Only != nil:
				text += " AND (" + x.Only(d) + ")"
			case x.Unlink != nil:
				text = unlinkText(t, x.Unlink) + keys
			case x.Delete:
				text = deleteQuery(x.Table, d) + keys + deleteTail(x.Table, all, d)
			}
			text, args := d.Finish(text, nil)
			out = append(out, source.Shown(x.Title, text, args))
		}
		return out, nil
	}
	k := newDialect(sel, "t.")
	text, args = k.Finish(deleteQuery(sel, k)+"("+quoteAll("", sel.Table.Key)+") IN (VALUES …)"+
		deleteTail(sel, columns, k), nil)
	return append(out, source.Shown("each batch deletes by key, and compares what comes back with what was read", text,
		args)), nil
}
