package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// dialect writes conditions on the rows of a table, whose columns stand behind prefix. What a person typed is bound,
// as text that the statement casts; cutoffs and positions, which only we compute, stand as constants, so that the
// planner sees them.
type dialect struct {
	*source.Binder
	sel    source.Selection
	age    rule.Age
	prefix string
}

func newDialect(sel source.Selection) *dialect {
	return &dialect{Binder: &source.Binder{}, sel: sel, age: sel.Age, prefix: "t."}
}

// Writer returns what conditions on the rows of other tables are written with.
func (d *dialect) Writer() source.Writer {
	return source.Writer{Prefix: d.prefix, From: table, Quote: quote, Referenced: referenced,
		Dialect: func(sel source.Selection, prefix string) source.Dialect {
			return &dialect{Binder: d.Binder, sel: sel, age: sel.Age, prefix: prefix}
		}}
}

// Folds: LIKE tells letters of different case apart.
func (d *dialect) Folds() bool { return false }

func (d *dialect) column() string { return d.name(d.sel.AgeRef()) }

// Instant is the condition that the age is an instant.
func (d *dialect) Instant() string {
	name := d.column()
	out := "isfinite(" + name + ")"
	if d.age.Unit != "" {
		out = name + " IS NOT NULL"
	}
	return out + d.sentinels()
}

func (d *dialect) sentinels() (out string) {
	c, _ := d.sel.AgeColumn()
	for _, s := range d.age.Never {
		if v, err := rule.NeverValue(c, s); err == nil {
			out += " AND " + d.column() + " <> " + d.bound(filter.Ref{Column: c}, v, false)
		}
	}
	return out
}

// Before is the condition that the age is an instant before a time. A day is before it when it lies before its day.
func (d *dialect) Before(at time.Time) string { return d.bounded("<", at, "'-infinity'") }

// Since is the condition that the age is an instant at or after a time.
func (d *dialect) Since(at time.Time) string { return d.bounded(">=", at, "'infinity'") }

// bounded leaves the infinity out that lies beyond the bound: by <>, since the planner would look up the smallest age
// for a >, and pass all that the index still holds of rows that are gone, for every statement.
func (d *dialect) bounded(op string, at time.Time, infinity string) string {
	c, _ := d.sel.AgeColumn()
	name := d.column()
	if d.age.Unit != "" {
		return fmt.Sprintf("%s %s %d", name, op, d.age.Unit.Count(at)) + d.sentinels()
	}
	v := value.Value{Kind: c.Kind, N: at.UnixMicro()}
	switch c.Kind {
	case value.Timestamp:
		v.N = period.Wall(at, d.age.Location()).UnixMicro()
	case value.Date:
		y, m, day := at.In(d.age.Location()).Date()
		v.N = time.Date(y, m, day, 0, 0, 0, 0, time.UTC).Unix() / 86_400
		if time.Date(y, m, day, 0, 0, 0, 0, time.UTC).Unix() < 0 {
			v.N = -((-time.Date(y, m, day, 0, 0, 0, 0, time.UTC).Unix() + 86_399) / 86_400)
		}
	}
	return fmt.Sprintf("%s %s %s AND %s <> %s", name, op, constant(v, c), name, infinity) + d.sentinels()
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
		return d.name(p.Left)
	case *filter.Compare:
		return d.expression(p.Left, collated) + " " + p.Op.String() + " " + d.bound(p.Left, p.Right.Value, collated)
	case *filter.CompareColumns:
		return d.expression(p.Left, collated) + " " + p.Op.String() + " " + d.expression(p.Right, collated)
	case *filter.Between:
		return fmt.Sprintf("%s%s BETWEEN %s AND %s", d.expression(p.Left, collated), negated(p.Not),
			d.bound(p.Left, p.Low.Value, collated), d.bound(p.Left, p.High.Value, collated))
	case *filter.In:
		marks := make([]string, len(p.List))
		for i, l := range p.List {
			marks[i] = d.bound(p.Left, l.Value, collated)
		}
		return fmt.Sprintf("%s%s IN (%s)", d.expression(p.Left, collated), negated(p.Not), strings.Join(marks, ", "))
	case *filter.Like: // which compares exactly under every collation that it can be asked under
		return fmt.Sprintf("%s%s LIKE %s ESCAPE '!'", d.expression(p.Left, false), negated(p.Not),
			d.Bind(p.Escaped('!'))+"::text")
	}
	panic(fmt.Sprintf("postgres: a filter's %T cannot be written", predicate))
}

func negated(not bool) string {
	if not {
		return " NOT"
	}
	return ""
}

func (d *dialect) name(r filter.Ref) string {
	if text, ok := d.sel.Joined(r, table, quote, d.prefix); ok {
		return text
	}
	return d.prefix + quote(r.Name)
}

// padded says whether a column is a character(n), whose padding blanks a cast to text takes off.
func padded(c *shape.Column) bool { return c.Padded() }

// expression is a column as it is compared: text under the collation "C", which orders by code point in UTF-8.
func (d *dialect) expression(r filter.Ref, collated bool) string {
	out := d.name(r)
	if r.Column.Kind != value.Text {
		return out
	}
	if r.Column.AsText || padded(r.Column) && !collated {
		out += "::text"
	}
	if !collated {
		out = "(" + out + `) COLLATE "C"`
	}
	return out
}

func (d *dialect) bound(r filter.Ref, v value.Value, collated bool) string {
	cast := ""
	switch v.Kind {
	case value.Bool:
		return strings.ToUpper(v.String())
	case value.Text:
		if padded(r.Column) && collated {
			cast = "::bpchar"
		}
	case value.Int:
		cast = "::bigint"
	case value.Decimal:
		cast = "::numeric"
	case value.Float64:
		cast = "::float8"
	case value.Date:
		cast = "::date"
	case value.Timestamp:
		cast = "::timestamp"
	case value.Instant:
		cast = "::timestamptz"
	case value.UUID:
		cast = "::uuid"
	}
	return d.Bind(input(v)) + "::text" + cast
}

// numbered writes placeholders as PostgreSQL does.
func numbered(n int) string { return fmt.Sprintf("$%d", n) }

// setting is how a bound value is named where COPY, which takes none, reads it from a setting of the transaction.
func setting(n int) string { return fmt.Sprintf("(SELECT current_setting('ambercellar.v%d'))", n) }

// bindSettings returns the statements that set the values for setting, for the transaction that is open.
func bindSettings(values []any) (statements string) {
	for i, v := range values {
		statements += fmt.Sprintf("SELECT set_config('ambercellar.v%d', %s, true); ", i+1, literal(v.(string)))
	}
	return statements
}

// Clock returns what the server's clock shows.
func (s *Source) Clock(ctx context.Context) (at time.Time, err error) {
	err = s.conn(ctx, func(c *pgxpool.Conn) error { return c.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&at) })
	return at.UTC(), err
}

// LogWritten is the position of the write-ahead log; a standby has none of its own.
func (s *Source) LogWritten(ctx context.Context) (bytes int64, known bool, err error) {
	var at *int64
	err = s.conn(ctx, func(c *pgxpool.Conn) error {
		return c.QueryRow(ctx, "SELECT CASE WHEN NOT pg_is_in_recovery() THEN "+
			"pg_wal_lsn_diff(pg_current_wal_insert_lsn(), '0/0')::bigint END").Scan(&at)
	})
	if err != nil || at == nil {
		return 0, false, err
	}
	return *at, true, nil
}

// counting runs a query in a transaction of its own, read only, in which hash joins are allowed again.
func (s *Source) counting(ctx context.Context, query string, args, into []any, row func() error) error {
	return s.transaction(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET TRANSACTION READ ONLY; SET LOCAL enable_hashjoin = on",
			pgx.QueryExecModeSimpleProtocol); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		_, err = pgx.ForEachRow(rows, into, row)
		return err
	})
}

// Outside counts rows whose age is no instant.
func (s *Source) Outside(ctx context.Context, sel source.Selection) (n int64, err error) {
	d := newDialect(sel)
	name := d.column()
	condition := name + " IS NULL"
	if sel.Age.Unit == "" {
		condition += fmt.Sprintf(" OR %[1]s = 'infinity' OR %[1]s = '-infinity'", name)
	}
	if len(sel.Age.Never) > 0 {
		condition += " OR NOT (TRUE" + d.sentinels() + ")"
	}
	text, args := d.Finish("SELECT count(*) FROM "+table(sel.Table)+" t WHERE "+condition, numbered)
	err = s.counting(ctx, text, args, []any{&n}, func() error { return nil })
	return n, err
}

// Estimate asks the planner how many rows it expects.
func (s *Source) Estimate(ctx context.Context, sel source.Selection) ([]int64, error) {
	out := make([]int64, len(sel.Terms))
	for i, t := range sel.Terms {
		if t.Never || t.None {
			continue
		}
		d := newDialect(sel)
		parts := append([]string{d.Before(t.At), source.Governed(d, t, false)}, sel.Narrowed(d)...)
		text, args := d.Finish("EXPLAIN (FORMAT JSON) SELECT 1 FROM "+table(sel.Table)+" t WHERE "+
			strings.Join(parts, " AND "), numbered)
		var plans []struct {
			Plan struct {
				Rows float64 `json:"Plan Rows"`
			} `json:"Plan"`
		}
		err := s.counting(ctx, text, args, []any{&plans}, func() error { return nil })
		if err != nil || len(plans) == 0 {
			return nil, errors.Join(err, errors.New("the planner gave no estimate"))
		}
		out[i] = int64(plans[0].Plan.Rows)
		if sel.Table.Rows == 0 {
			out[i] = 0
		}
	}
	return out, nil
}

// Statements returns the statements of a run.
func (s *Source) Statements(ctx context.Context, sel source.Selection, columns []int) ([]source.Statement, error) {
	d := newDialect(sel)
	text, err := s.sliceQuery(ctx, source.SliceRequest{Selection: sel, Columns: columns, MaxRows: 125_000}, d,
		&sliceReader{})
	if err != nil {
		return nil, err
	}
	text, args := d.Finish(text, setting)
	out := []source.Statement{source.Shown(
		"the first slice is read with (COPY takes no parameters: values are set for the transaction and read from "+
			"there)", "COPY ("+text+") TO STDOUT (FORMAT binary)", args)}
	if len(sel.Related) > 0 {
		for _, x := range sel.Steps(func(sel source.Selection) source.Dialect { return newDialect(sel) }) {
			d := newDialect(x.Table)
			all := expressions(x.Table.Table, reported(x.Table.Table, x.Table.Table.Readable()))
			lock := source.NoLock
			if x.Lock {
				lock = source.LockRows
			}
			around := rowsText(x.Table.Table, all, x.Only, lock, d)
			switch {
			case x.Delete:
				around = deleteText(x.Table, all, d)
			case x.Unlink != nil:
				around = unlinkText(x.Table, x.Unlink)
			}
			text, _ := grouped{d, x.Table.Table, x.On, around}.text()
			text, args := d.Finish(text, func(n int) string { return numbered(len(x.On) + n) })
			out = append(out, source.Shown(x.Title, text, args))
		}
		return out, nil
	}
	k := &deletion{batch: source.Batch{Selection: sel}, keys: newLocators(sel.Table, 0)}
	text, args = k.query(0, table(sel.Table), byAddress)
	out = append(out, source.Shown(
		"each batch deletes by row address; version and key of every row that this reports are compared before the "+
			"commit", text, args))
	text, args = k.query(0, table(sel.Table), byVersion)
	return append(out, source.Shown(
		"where one of them is another than was read, the batch is taken back and deletes by address, version and key",
		text, args)), nil
}
