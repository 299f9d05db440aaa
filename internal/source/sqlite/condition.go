package sqlite

import (
	"fmt"
	"math/big"
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
	ranges bool // consecutive keys are named by their first and last, which may find more than them
	own    bool // columns are compared by their own collation, as they are
	judged bool // the rows hold, as column judgedAge, what Judge makes of their age
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

// Folds: LIKE takes ASCII letters of different case for equal.
func (d *dialect) Folds() bool { return true }

func (d *dialect) column() string {
	plain := *d
	plain.own = true
	return plain.name(d.sel.AgeRef())
}

// iso is the condition that a column holds text that is a real date, with a real time behind it if any, as SQLite's
// own date functions (deterministic for such text) find. They are dear, so the two usual forms take one call each.
func iso(c string) string {
	return fmt.Sprintf("typeof(%[1]s) = 'text' AND CASE length(%[1]s) WHEN 10 THEN date(%[1]s) = %[1]s WHEN 19 "+
		"THEN datetime(%[1]s) = replace(%[1]s, 'T', ' ') "+
		"ELSE date(substr(%[1]s, 1, 10)) = substr(%[1]s, 1, 10) AND datetime(%[1]s) IS NOT NULL END", c)
}

// zoned is the condition that ISO text names its zone.
func zoned(c string) string {
	return fmt.Sprintf("(%[1]s GLOB '*[Zz]' OR %[1]s GLOB '*[+-][0-9][0-9]:[0-9][0-9]')", c)
}

// judgedAge is a column that a count adds to its rows, so that the dear date functions are called once a row: the
// age's form (D a day, W a clock without zone, U a clock in UTC), and its text in a form that compares; NULL for no
// instant.
const judgedAge = "ambercellar_age"

func (d *dialect) judge() string {
	c := d.column()
	return fmt.Sprintf("CASE WHEN %[2]s THEN CASE length(%[1]s) WHEN 10 THEN 'D' || %[1]s WHEN 19 THEN 'W' || "+
		"replace(%[1]s, 'T', ' ') ELSE CASE WHEN %[3]s THEN 'U' ELSE 'W' END || datetime(%[1]s) END END",
		c, d.Instant(), zoned(c))
}

// Instant is the condition that the age is an instant.
func (d *dialect) Instant() string {
	c := d.column()
	if d.judged {
		return d.prefix + judgedAge + " IS NOT NULL"
	}
	out := iso(c)
	if d.age.Unit != "" {
		out = "typeof(" + c + ") = 'integer'"
	}
	for _, s := range d.age.Never {
		col, _ := d.sel.AgeColumn()
		if v, err := rule.NeverValue(col, s); err == nil {
			if v.Kind == value.Int {
				out += " AND " + c + " <> " + d.Bind(v.N)
			} else {
				out += " AND " + c + " <> " + d.Bind(s)
			}
		}
	}
	return out
}

// Before is the condition that the age is an instant before a time. Text is compared as the instant that it stands
// for: by the clock of the age's zone where it names none. The plain comparison in front is for the index; it is a
// superset, since no zone is further than a day away. A date without a clock is due when its day lies before the
// cutoff's day.
func (d *dialect) Before(at time.Time) string {
	c := d.column()
	if d.age.Unit != "" {
		return c + " < " + d.Bind(d.age.Unit.Count(at)) + " AND " + d.Instant()
	}
	wall := period.Wall(at, d.age.Location())
	clock := wall.Format("2006-01-02 15:04:05")
	day := at.In(d.age.Location()).Format(time.DateOnly)
	if d.judged {
		return fmt.Sprintf("%[1]s < CASE substr(%[1]s, 1, 1) WHEN 'D' THEN %[2]s WHEN 'W' THEN %[3]s ELSE %[4]s END",
			d.prefix+judgedAge,
			d.Bind("D"+day), d.Bind("W"+clock), d.Bind("U"+at.UTC().Format("2006-01-02 15:04:05")))
	}
	return fmt.Sprintf("%[1]s < %[2]s AND %[3]s AND CASE length(%[1]s) WHEN 10 THEN %[1]s < %[4]s WHEN 19 THEN "+
		"replace(%[1]s, 'T', ' ') < %[5]s ELSE datetime(%[1]s) < CASE WHEN %[6]s THEN %[7]s ELSE %[8]s END END",
		c, d.Bind(at.UTC().AddDate(0, 0, 2).Format(time.DateOnly)), d.Instant(), d.Bind(day), d.Bind(clock), zoned(c),
		d.Bind(at.UTC().Format("2006-01-02 15:04:05")), d.Bind(clock))
}

// Since is the condition that the age is an instant at or after a time.
func (d *dialect) Since(at time.Time) string { return d.Instant() + " AND NOT (" + d.Before(at) + ")" }

// after holds for every row whose age is not before a time, and for some others: it is for the index.
func (d *dialect) after(at time.Time) string {
	if d.age.Unit != "" {
		return d.column() + " >= " + d.Bind(d.age.Unit.Count(at))
	}
	return d.column() + " > " + d.Bind(at.UTC().AddDate(0, 0, -2).Format(time.DateOnly))
}

// Leaf writes a predicate. A value of another storage class than the column's type is unknown, as in the evaluator.
func (d *dialect) Leaf(predicate any, collated bool) string {
	if collated {
		own := *d
		own.own, d = true, &own
	}
	switch p := predicate.(type) {
	case *filter.IsNull:
		if p.Not {
			return d.name(p.Left) + " IS NOT NULL"
		}
		return d.name(p.Left) + " IS NULL"
	case *filter.Flag:
		return d.ofClass(p.Left, "integer", d.name(p.Left)+" = 1")
	case *filter.Compare:
		return d.compare(p.Left, p.Op, p.Right.Value, collated)
	case *filter.Between:
		return d.negated(p.Not, d.compare(p.Left, filter.GreaterEqual, p.Low.Value, collated)+" AND "+
			d.compare(p.Left, filter.LessEqual, p.High.Value, collated))
	case *filter.In:
		return d.in(p, collated)
	case *filter.Like:
		c := d.name(p.Left)
		match := c + " GLOB " + d.Bind(p.Glob())
		if collated {
			match = c + " LIKE " + d.Bind(p.Escaped('!')) + " ESCAPE '!'"
		}
		return d.negated(p.Not, fmt.Sprintf(
			"CASE WHEN typeof(%[1]s) = 'text' AND instr(CAST(%[1]s AS BLOB), x'00') = 0 THEN %[2]s END", c, match))
	case *filter.CompareColumns:
		l, r := d.name(p.Left), d.name(p.Right)
		same := fmt.Sprintf("typeof(%[1]s) = typeof(%[2]s) AND typeof(%[1]s) IN ('integer', 'real', 'text') OR "+
			"typeof(%[1]s) IN ('integer', 'real') AND typeof(%[2]s) IN ('integer', 'real')", l, r)
		collate := " COLLATE BINARY"
		if collated {
			collate = ""
		}
		return fmt.Sprintf("CASE WHEN %s THEN +%s%s %s +%s END", same, l, collate, p.Op, r)
	}
	panic(fmt.Sprintf("sqlite: a filter's %T cannot be written", predicate))
}

func (d *dialect) name(r filter.Ref) string {
	ours := d.prefix
	if ours == "" { // within the subquery, a bare name would mean the other table's column
		ours = quote(d.sel.Table.Name) + "."
	}
	if text, ok := d.sel.Joined(r, func(t *shape.Table) string { return quote(t.Name) }, quote, ours); ok {
		return d.unpadded(r, text)
	}
	return d.unpadded(r, d.prefix+quote(r.Name))
}

// unpadded takes off blanks that do not count. An expression has no collation, so that one which compares by the
// column's own keeps them.
func (d *dialect) unpadded(r filter.Ref, name string) string {
	if d.own || !r.Column.Padded() {
		return name
	}
	return fmt.Sprintf("CASE typeof(%[1]s) WHEN 'text' THEN rtrim(%[1]s, ' ') ELSE %[1]s END", name)
}

func (d *dialect) negated(not bool, condition string) string {
	if not {
		return "NOT (" + condition + ")"
	}
	return "(" + condition + ")"
}

// ofClass is unknown where the value is of another storage class than those listed.
func (d *dialect) ofClass(r filter.Ref, classes, condition string) string {
	return fmt.Sprintf("CASE WHEN typeof(%s) IN ('%s') THEN %s END", d.name(r),
		strings.ReplaceAll(classes, " ", "', '"), condition)
}

// compare takes affinity away from the column with a plus sign, so that nothing is converted; COLLATE BINARY compares
// text byte by byte, which in UTF-8 is code point by code point.
func (d *dialect) compare(r filter.Ref, op filter.Op, v value.Value, collated bool) string {
	c := d.name(r)
	switch v.Kind {
	case value.Text:
		if collated {
			return d.ofClass(r, "text", c+" "+op.String()+" "+d.Bind(string(v.B)))
		}
		return d.ofClass(r, "text", "+"+c+" COLLATE BINARY "+op.String()+" "+d.Bind(string(v.B)))
	case value.Timestamp:
		return fmt.Sprintf("CASE WHEN %s THEN datetime(%s) %s %s END", iso(c), c, op,
			d.Bind(time.UnixMicro(v.N).UTC().Format("2006-01-02 15:04:05.999999")))
	case value.Int:
		return d.ofClass(r, "integer real", "+"+c+" "+op.String()+" "+d.Bind(v.N))
	case value.Float64:
		return d.ofClass(r, "integer real", "+"+c+" "+op.String()+" "+d.Bind(v.Float()))
	case value.Decimal:
		return d.compareDecimal(r, op, v)
	}
	panic(fmt.Sprintf("sqlite: a literal of kind %s cannot be compared", v.Kind))
}

// compareDecimal compares with a number that no integer equals: integers with what lies on either side of it, so that
// nothing is lost to rounding, and reals with the nearest real.
func (d *dialect) compareDecimal(r filter.Ref, op filter.Op, v value.Value) string {
	exact, _ := new(big.Rat).SetString(string(v.B))
	near, _ := exact.Float64()
	whole := "FALSE"
	floor := new(big.Int).Div(exact.Num(), exact.Denom()) // Euclidean: rounds down, as denominators are positive
	above, below := "TRUE", "FALSE"
	if floor.IsInt64() {
		above, below = fmt.Sprintf("+%s > %s", d.name(r), d.Bind(floor.Int64())),
			fmt.Sprintf("+%s <= %s", d.name(r), d.Bind(floor.Int64()))
	} else if floor.Sign() > 0 {
		above, below = below, above
	}
	switch op {
	case filter.NotEqual:
		whole = "TRUE"
	case filter.Less, filter.LessEqual:
		whole = below
	case filter.Greater, filter.GreaterEqual:
		whole = above
	}
	return fmt.Sprintf("CASE typeof(%[1]s) WHEN 'integer' THEN %[2]s WHEN 'real' THEN +%[1]s %[3]s %[4]s END",
		d.name(r), whole, op, d.Bind(near))
}

// in writes a list as such where its values are of one kind.
func (d *dialect) in(p *filter.In, collated bool) string {
	kinds := map[value.Kind]bool{}
	marks := make([]string, len(p.List))
	for i, l := range p.List {
		kinds[l.Value.Kind] = true
		switch l.Value.Kind {
		case value.Text:
			marks[i] = d.Bind(string(l.Value.B))
		case value.Float64:
			marks[i] = d.Bind(l.Value.Float())
		default:
			marks[i] = d.Bind(l.Value.N)
		}
	}
	list := " IN (" + strings.Join(marks, ", ") + ")"
	switch {
	case len(kinds) == 1 && kinds[value.Text] && collated:
		return d.negated(p.Not, d.ofClass(p.Left, "text", d.name(p.Left)+list))
	case len(kinds) == 1 && kinds[value.Text]:
		return d.negated(p.Not, d.ofClass(p.Left, "text", "+"+d.name(p.Left)+" COLLATE BINARY"+list))
	case len(kinds) == 1 && (kinds[value.Int] || kinds[value.Float64]):
		return d.negated(p.Not, d.ofClass(p.Left, "integer real", "+"+d.name(p.Left)+list))
	}
	parts := make([]string, len(p.List))
	for i, l := range p.List {
		parts[i] = d.compare(p.Left, filter.Equal, l.Value, collated)
	}
	return d.negated(p.Not, filter.Chain(parts, " OR "))
}

// newDialectOn is the same table under another prefix, with the same bound values.
func newDialectOn(d *dialect, prefix string) *dialect {
	other := *d
	other.prefix = prefix
	return &other
}
