package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// dialect writes conditions on the rows of a table, whose columns stand behind prefix.
type dialect struct {
	*source.Binder
	sel    source.Selection
	age    rule.Age
	prefix string
}

func newDialect(sel source.Selection, prefix string) *dialect {
	return &dialect{Binder: &source.Binder{}, sel: sel, age: sel.Age, prefix: prefix}
}

// Writer returns what conditions on the rows of other tables are written with.
func (d *dialect) Writer() source.Writer {
	return source.Writer{Prefix: d.prefix, From: func(t *shape.Table) string { return quote(t.Name) }, Quote: quote,
		Referenced: referenced,
		Dialect: func(sel source.Selection, prefix string) source.Dialect {
			return &dialect{Binder: d.Binder, sel: sel, age: sel.Age, prefix: prefix}
		}}
}

// Folds: the pattern match follows the column's collation, which shape.Column tells of.
func (d *dialect) Folds() bool { return false }

func (d *dialect) column() string { return d.name(d.sel.AgeRef()) }

// real is the condition that a date or time is one: not zero, no zero in it, no day that its month does not have.
func real(c string) string {
	return fmt.Sprintf("DAYOFMONTH(%[1]s) BETWEEN 1 AND DAYOFMONTH(LAST_DAY(%[1]s))", c)
}

// Instant is the condition that the age is an instant.
func (d *dialect) Instant() string {
	c := d.column()
	out := real(c)
	if d.age.Unit != "" {
		out = c + " IS NOT NULL"
	}
	col, _ := d.sel.AgeColumn()
	for _, s := range d.age.Never {
		if v, err := rule.NeverValue(col, s); err == nil {
			out += " AND " + c + " <> " + typed(d.Bind(encode(v)), v)
		}
	}
	return out
}

// Before is the condition that the age is an instant before a time. A day is before it when it lies before its day.
func (d *dialect) Before(at time.Time) string { return d.bounded("<", at) }

// Since is the condition that the age is an instant at or after a time.
func (d *dialect) Since(at time.Time) string { return d.bounded(">=", at) }

func (d *dialect) bounded(op string, at time.Time) string {
	col, _ := d.sel.AgeColumn()
	v := value.Value{Kind: col.Kind, N: at.UnixMicro()}
	switch {
	case d.age.Unit != "":
		v = value.Of(d.age.Unit.Count(at))
	case col.Kind == value.Timestamp:
		v.N = period.Wall(at, d.age.Location()).UnixMicro()
	case col.Kind == value.Date:
		y, m, day := at.In(d.age.Location()).Date()
		v.N = floorDay(time.Date(y, m, day, 0, 0, 0, 0, time.UTC))
	}
	return d.column() + " " + op + " " + typed(d.Bind(encode(v)), v) + " AND " + d.Instant()
}

// Leaf writes a predicate.
func (d *dialect) Leaf(predicate any, collated bool) string {
	switch p := predicate.(type) {
	case *filter.IsNull:
		if p.Not {
			return d.name(p.Left) + " IS NOT NULL"
		}
		return d.name(p.Left) + " IS NULL"
	case *filter.Flag:
		return d.name(p.Left) + " = 1"
	case *filter.Compare:
		return d.compare(p.Left, p.Op, p.Right.Value, collated)
	case *filter.CompareColumns:
		condition := d.expression(p.Left, collated) + " " + p.Op.String() + " " + d.expression(p.Right, collated)
		if enumeration(p.Left.Column) || enumeration(p.Right.Column) { // index 0 equals itself, and no text
			condition = fmt.Sprintf("CASE WHEN (%s) = (%s) THEN %s %s %s END", d.unlabelled(p.Left),
				d.unlabelled(p.Right), d.paired(p.Left), p.Op, d.paired(p.Right))
		}
		if timed(p.Left.Column) {
			condition = fmt.Sprintf("CASE WHEN %s AND %s THEN %s END", real(d.name(p.Left)), real(d.name(p.Right)),
				condition)
		}
		return condition
	case *filter.Between:
		return d.negated(p.Not, d.compare(p.Left, filter.GreaterEqual, p.Low.Value, collated)+" AND "+
			d.compare(p.Left, filter.LessEqual, p.High.Value, collated))
	case *filter.In:
		parts := make([]string, len(p.List))
		if p.Left.Column.Kind == value.Text || p.Left.Column.Kind == value.Int && onlyInts(p.List) {
			for i, l := range p.List {
				parts[i] = d.bound(p.Left, l.Value, collated)
			}
			return d.negated(p.Not, d.expression(p.Left, collated)+" IN ("+strings.Join(parts, ", ")+")")
		}
		for i, l := range p.List {
			parts[i] = d.compare(p.Left, filter.Equal, l.Value, collated)
		}
		return d.negated(p.Not, filter.Chain(parts, " OR "))
	case *filter.Like:
		c := "CONVERT(" + d.name(p.Left) + " USING utf8mb4)"
		exact := c + " COLLATE utf8mb4_bin"
		if collated {
			exact = d.name(p.Left)
		}
		return d.negated(p.Not, fmt.Sprintf("CASE WHEN LOCATE(0x00, %s) = 0 THEN %s LIKE %s ESCAPE '!' END",
			d.expression(p.Left, false), exact, d.Bind(p.Escaped('!'))))
	}
	panic(fmt.Sprintf("mariadb: a filter's %T cannot be written", predicate))
}

// unlabelled is the condition that a column is index 0 of an enumeration.
func (d *dialect) unlabelled(r filter.Ref) string {
	if enumeration(r.Column) {
		return d.name(r) + " + 0 = 0"
	}
	return d.name(r) + " IS NULL AND NULL"
}

// paired is a column as it is compared with another one that may be an enumeration.
func (d *dialect) paired(r filter.Ref) string {
	if enumeration(r.Column) {
		return readable(r.Column, d.name(r))
	}
	return d.expression(r, false)
}

func onlyInts(list []filter.Literal) bool {
	for _, l := range list {
		if l.Value.Kind != value.Int {
			return false
		}
	}
	return true
}

func timed(c *shape.Column) bool {
	return c.Kind == value.Date || c.Kind == value.Timestamp || c.Kind == value.Instant
}

func (d *dialect) name(r filter.Ref) string {
	if text, ok := d.sel.Joined(r, func(t *shape.Table) string { return quote(t.Name) }, quote, d.prefix); ok {
		return text
	}
	return d.prefix + quote(r.Name)
}

func (d *dialect) negated(not bool, condition string) string {
	if not {
		return "NOT (" + condition + ")"
	}
	return "(" + condition + ")"
}

// expression is a column as it is compared: text as its bytes in UTF-8, whose order is that of the code points, and
// which nothing pads.
func (d *dialect) expression(r filter.Ref, collated bool) string {
	if r.Column.Kind != value.Text || collated && !r.Column.AsText {
		return d.name(r)
	}
	text := "CAST(CONVERT(" + d.name(r) + " USING utf8mb4) AS BINARY)"
	if enumeration(r.Column) { // index 0 is no text, and equals none
		return "CASE WHEN " + d.name(r) + " + 0 <> 0 THEN " + text + " END"
	}
	return text
}

func (d *dialect) bound(r filter.Ref, v value.Value, collated bool) string {
	mark := d.Bind(encode(v))
	if v.Kind == value.Text && (!collated || r.Column.AsText) {
		return "CAST(" + mark + " AS BINARY)"
	}
	return typed(mark, v)
}

func (d *dialect) compare(r filter.Ref, op filter.Op, v value.Value, collated bool) string {
	if v.Kind == value.Decimal {
		floor, exact, huge := fitsDecimal(string(v.B))
		switch {
		case huge != 0 || !exact && (op == filter.Equal || op == filter.NotEqual):
			holds := op == filter.NotEqual || op != filter.Equal && op.Holds(-huge)
			return fmt.Sprintf("CASE WHEN %s IS NOT NULL THEN %s END", d.name(r), strings.ToUpper(fmt.Sprint(holds)))
		case !exact && (op == filter.Less || op == filter.LessEqual):
			op = filter.LessEqual
		case !exact:
			op = filter.Greater
		}
		v.B = []byte(floor)
	}
	condition := d.expression(r, collated) + " " + op.String() + " " + d.bound(r, v, collated)
	if timed(r.Column) {
		return fmt.Sprintf("CASE WHEN %s THEN %s END", real(d.name(r)), condition)
	}
	return condition
}

// referenced returns the conditions that a row of t, called by prefix, is referred to by a row: by itself too, since
// InnoDB refuses to delete such a row.
func referenced(_ *shape.Table, keys []shape.ForeignKey, prefix string) []string {
	var out []string
	for _, k := range keys {
		parts := make([]string, len(k.Columns))
		for i := range k.Columns {
			parts[i] = fmt.Sprintf("c.%s = %s%s", quote(k.Columns[i]), prefix, quote(k.RefColumns[i]))
		}
		out = append(out, fmt.Sprintf("EXISTS (SELECT 1 FROM %s c WHERE %s)", qualified(k.Table),
			strings.Join(parts, " AND ")))
	}
	return out
}

// qualified writes the name of a table, which stands with its database where that is not ours.
func qualified(name string) string {
	if schema, base, ok := strings.Cut(name, "."); ok && schema != "" {
		return quote(schema) + "." + quote(base)
	}
	return quote(name)
}

// Clock returns what the server's clock shows.
func (s *Source) Clock(ctx context.Context) (at time.Time, err error) {
	var text string
	if err := s.db.QueryRowContext(ctx, "SELECT DATE_FORMAT(UTC_TIMESTAMP(6), '%Y-%m-%dT%H:%i:%s.%fZ')").Scan(
		&text); err != nil {
		return at, unreachable(err)
	}
	return time.Parse(time.RFC3339Nano, text)
}

// LogWritten adds up the redo log and the binary log.
func (s *Source) LogWritten(ctx context.Context) (bytes int64, known bool, err error) {
	var name string
	var n int64
	err = s.each(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('Innodb_os_log_written', 'Binlog_bytes_written')",
		nil, []any{&name, &n}, func() error {
			bytes, known = bytes+n, true
			return nil
		})
	return bytes, known, err
}

// iso writes an expression of the age column's type as ISO 8601 text.
func iso(expr string, c *shape.Column) string {
	switch c.Kind {
	case value.Instant:
		return "DATE_FORMAT(" + expr + ", '%Y-%m-%dT%H:%i:%sZ')"
	case value.Timestamp:
		return "DATE_FORMAT(" + expr + ", '%Y-%m-%dT%H:%i:%s')"
	}
	return "CAST(" + expr + " AS CHAR)"
}

// Outside counts rows whose age is no instant.
func (s *Source) Outside(ctx context.Context, sel source.Selection) (n int64, err error) {
	d := newDialect(sel, "t.")
	text, args := d.Finish("SELECT COUNT(*) FROM "+from(sel.Table)+" t WHERE NOT COALESCE("+d.Instant()+", FALSE)",
		nil)
	return n, unreachable(s.db.QueryRowContext(ctx, text, args...).Scan(&n))
}

// Estimate asks the optimizer how many rows it expects.
func (s *Source) Estimate(ctx context.Context, sel source.Selection) ([]int64, error) {
	out := make([]int64, len(sel.Terms))
	explain := "EXPLAIN "
	if s.mariadb {
		explain = "EXPLAIN EXTENDED "
	}
	for i, t := range sel.Terms {
		if t.Never || t.None {
			continue
		}
		d := newDialect(sel, "t.")
		parts := append([]string{d.Before(t.At), source.Governed(d, t, false)}, sel.Narrowed(d)...)
		text, args := d.Finish(explain+"SELECT 1 FROM "+quote(sel.Table.Name)+" t WHERE "+strings.Join(parts, " AND "),
			nil)
		rows, err := s.db.QueryContext(ctx, text, args...)
		if err != nil {
			return nil, unreachable(err)
		}
		expected := 0.0
		names, err := rows.Columns()
		if err != nil {
			rows.Close()
			return nil, unreachable(err)
		}
		for rows.Next() {
			cells := make([]sql.NullString, len(names))
			into := make([]any, len(names))
			for j := range cells {
				into[j] = &cells[j]
			}
			if err := rows.Scan(into...); err != nil {
				rows.Close()
				return nil, err
			}
			count, share := 0.0, 100.0
			for j, name := range names {
				switch name {
				case "rows":
					fmt.Sscan(cells[j].String, &count)
				case "filtered":
					fmt.Sscan(cells[j].String, &share)
				}
			}
			expected += count * share / 100
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil { // an answer that was cut off is no estimate
			return nil, unreachable(err)
		}
		out[i] = int64(expected)
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
			all := append(t.Readable(), t.KeyPositions()...)
			text := "SELECT " + expressions(t, "t.", all) + " FROM " + quote(t.Name) + " t WHERE (" +
				quoteAll("t.", x.On) + ") IN (…)"
			switch {
			case x.Only != nil:
				text += " AND (" + x.Only(d) + ")"
			case x.Lock:
				text += " FOR UPDATE"
			case x.Unlink != nil:
				text = unlinkText(t, x.Unlink) + "(" + quoteAll("", x.On) + ") IN (…)"
			case s.returning:
				d = newDialect(x.Table, quote(t.Name)+".")
				text = "DELETE FROM " + quote(t.Name) + " WHERE (" + quoteAll("", x.On) + ") IN (…)" +
					x.Table.Unheld(d) + " RETURNING " + expressions(t, "", all)
			default:
				text = "DELETE FROM " + quote(t.Name) + " WHERE (" + quoteAll("", x.On) + ") IN (…)"
			}
			text, args := d.Finish(text, nil)
			out = append(out, source.Shown(x.Title, text, args))
		}
		return out, nil
	}
	k := newDialect(sel, quote(sel.Table.Name)+".")
	title, query := "each batch deletes by key, and compares what comes back with what was read", "DELETE FROM "
	returning := " RETURNING " + expressions(sel.Table, "",
		append(append([]int{}, columns...), sel.Table.KeyPositions()...))
	if !s.returning {
		title, returning = "each batch locks and reads rows by key, compares them with what was read, and then "+
			"deletes by key", ""
	}
	text, args = k.Finish(query+quote(sel.Table.Name)+" WHERE ("+quoteAll("", sel.Table.Key)+") IN (…)"+sel.Unheld(k)+
		returning, nil)
	return append(out, source.Shown(title, text, args)), nil
}
