package sqlite

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
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

// restored returns the condition that a row of t, called by prefix, is recorded as restored; empty where none is.
func (s *Source) restored(ctx context.Context, t *shape.Table, prefix string) (string, error) {
	if t.ByAddress() {
		return "", nil // nothing tells a restored row from others
	}
	if found, err := s.hasTable(ctx, restoredTable(t)); err != nil || !found {
		return "", err
	}
	parts := make([]string, len(t.Key))
	for i, k := range t.Key {
		parts[i] = fmt.Sprintf("r.k%d = %s%s", i+1, prefix, quote(k))
	}
	return fmt.Sprintf("EXISTS (SELECT 1 FROM %s r WHERE %s)", quote(restoredTable(t)), strings.Join(parts, " AND ")),
		nil
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

// selected returns the whole condition under which a row, called t, leaves.
func (s *Source) selected(ctx context.Context, sel source.Selection, d *dialect) (string, error) {
	parts := []string{sel.DueByRule(d)}
	for _, k := range sel.Table.KeyPositions() {
		if c := sel.Table.At(k); c.Nullable {
			parts = append(parts, d.prefix+quote(c.Name)+" IS NOT NULL")
		}
	}
	parts = append(parts, sel.Narrowed(d)...)
	restored, err := s.restored(ctx, sel.Table, d.prefix)
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
	restored, err := s.restored(ctx, sel.Table, "t.")
	if err != nil {
		return nil, err
	}
	from := "FROM " + quote(sel.Table.Name) + " t"
	if sel.Age.Unit == "" { // LIMIT keeps SQLite from writing the expression out wherever its value is used
		inner := &dialect{Binder: d.Binder, sel: sel, age: sel.Age, prefix: ""}
		from = "FROM (SELECT *, " + inner.judge() + " AS " + judgedAge + " FROM " + quote(sel.Table.Name)
		var bounds []string
		if !span.From.IsZero() {
			bounds = append(bounds, inner.after(span.From))
		}
		if !span.To.IsZero() {
			bounds = append(bounds, inner.column()+" < "+d.Bind(span.To.UTC().AddDate(0, 0, 2).Format(time.DateOnly)))
		}
		if len(bounds) > 0 {
			from += " WHERE " + strings.Join(bounds, " AND ")
		}
		from += " LIMIT -1) t"
		d.judged = true
	}
	q := source.TallyQuery{From: from, Age: "+" + newDialect(sel, "t.").column(), Restored: restored}
	if refs := sel.Referenced(d); len(refs) > 0 {
		q.Referenced = "(" + strings.Join(refs, " OR ") + ")"
	}
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

// CountWhere counts rows that satisfy a filter, to limit at the most.
func (s *Source) CountWhere(ctx context.Context, t *shape.Table, f *filter.Filter, limit int64) (n int64, err error) {
	d := newDialect(source.Selection{Table: t}, "t.")
	text, args := d.Finish(fmt.Sprintf("SELECT count(*) FROM (SELECT 1 FROM %s t WHERE %s LIMIT %d)", quote(t.Name),
		source.Condition(d, f, false), limit), nil)
	return n, s.read.QueryRowContext(ctx, text, args...).Scan(&n)
}

// Ends returns the oldest and newest age that are instants.
func (s *Source) Ends(ctx context.Context, sel source.Selection) (oldest, newest time.Time, ok bool, err error) {
	d := newDialect(sel, "")
	text, args := d.Finish("SELECT +"+d.column()+" FROM "+quote(sel.Table.Name)+" WHERE "+d.Instant()+" ORDER BY "+
		d.column(), nil)
	read := func(order string) (time.Time, bool, error) {
		var v any
		err := s.read.QueryRowContext(ctx, text+order+" LIMIT 1", args...).Scan(&v)
		if err == sql.ErrNoRows {
			return time.Time{}, false, nil
		} else if err != nil {
			return time.Time{}, false, err
		}
		x, err := toValue(v, func(b []byte) []byte { return b })
		if err != nil {
			return time.Time{}, false, err
		}
		t, ok := sel.Age.Instant(x)
		return t, ok, nil
	}
	if oldest, ok, err = read(""); err == nil && ok {
		newest, ok, err = read(" DESC")
	}
	return oldest, newest, ok, err
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

// Difference counts what is due in one selection and not in the other.
func (s *Source) Difference(ctx context.Context, a, b source.Selection) (onlyA, onlyB, both int64, err error) {
	da := newDialect(a, "t.")
	db := &dialect{Binder: da.Binder, sel: b, age: b.Age, prefix: "t."}
	text, args := da.Finish(source.Difference(a, b, da, db, "FROM "+quote(a.Table.Name)+" t"), nil)
	err = s.read.QueryRowContext(ctx, text, args...).Scan(&onlyA, &onlyB, &both)
	return onlyA, onlyB, both, err
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
