package source

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
)

// Binder collects the values of a statement while its text is put together in any order.
type Binder struct{ values []any }

const mark = "\x00" // stands in no statement: filters and identifiers cannot hold it

// Bind takes a value and returns what stands for it in the text.
func (b *Binder) Bind(v any) string {
	b.values = append(b.values, v)
	return mark + strconv.Itoa(len(b.values)-1) + mark
}

// Finish puts placeholders into a text, in the order in which the values stand in it. placeholder is given the number
// from 1; nil writes a question mark.
func (b *Binder) Finish(text string, placeholder func(n int) string) (string, []any) {
	parts := strings.Split(text, mark)
	var out strings.Builder
	args := []any{}
	for i, p := range parts {
		if i%2 == 0 {
			out.WriteString(p)
			continue
		}
		n, _ := strconv.Atoi(p) // only Bind writes here
		args = append(args, b.values[n])
		if placeholder == nil {
			out.WriteByte('?')
		} else {
			out.WriteString(placeholder(len(args)))
		}
	}
	return out.String(), args
}

// Dialect writes the conditions of one table in an engine's SQL.
type Dialect interface {
	// Leaf writes a predicate of a filter: exactly, code point by code point, or as the column's own collation judges.
	Leaf(predicate any, collated bool) string
	// Instant is the condition that the age is an instant, Before that it is one and lies before a time, and Since
	// that it is one and does not.
	Instant() string
	Before(at time.Time) string
	Since(at time.Time) string
	// Writer returns what conditions on the rows of other tables are written with.
	Writer() Writer
	// Folds says whether LIKE takes letters of different case for equal.
	Folds() bool
}

// Condition writes a filter; it is NULL where the filter is unknown.
func Condition(d Dialect, f *filter.Filter, collated bool) string {
	return f.SQL(func(p any) string { return d.Leaf(p, collated) })
}

// Governed writes the condition under which a term governs a row; never NULL.
func Governed(d Dialect, t rule.Term, collated bool) string {
	if t.None {
		return "FALSE"
	}
	var parts []string
	if t.Where != nil {
		parts = append(parts, "("+Condition(d, t.Where, collated)+") IS TRUE")
	}
	for _, x := range t.Except {
		parts = append(parts, "("+Condition(d, x, collated)+") IS NOT TRUE")
	}
	if len(parts) == 0 {
		return "TRUE"
	}
	return strings.Join(parts, " AND ")
}

// DueByRule writes the condition under which a row is due by the terms alone.
func (s Selection) DueByRule(d Dialect) string {
	latest, ok := s.Latest()
	if !ok {
		return "FALSE"
	}
	out := s.anyTerm(d, latest, false)
	if s.Collates(d) { // judged otherwise by the column's own collation, a row gets the longer keep
		out += " AND " + s.anyTerm(d, latest, true)
	}
	return out
}

func (s Selection) anyTerm(d Dialect, latest time.Time, collated bool) string {
	var terms []string
	if s.Empties() {
		for _, t := range s.Terms {
			if !t.Never && !t.None {
				terms = append(terms, "("+Governed(d, t, collated)+" AND "+s.beforeIn(d, t, Span{})+")")
			}
		}
		return "(" + strings.Join(terms, " OR ") + ")"
	}
	for _, t := range s.Terms {
		if t.Never || t.None {
			continue
		}
		condition := Governed(d, t, collated)
		if !t.At.Equal(latest) {
			condition = strings.TrimPrefix(condition+" AND "+d.Before(t.At), "TRUE AND ")
		}
		terms = append(terms, condition)
	}
	before := d.Before(latest)
	switch {
	case len(terms) == 1 && terms[0] == "TRUE":
		return before
	case len(terms) == 1:
		return before + " AND " + terms[0]
	}
	return before + " AND (" + strings.Join(terms, " OR ") + ")"
}

// Collates says whether a column's own collation could judge a row otherwise than the exact comparison does.
func (s Selection) Collates(d Dialect) bool {
	for _, t := range s.Terms {
		if t.Where != nil && t.Where.Collates(d.Folds()) {
			return true
		}
		for _, x := range t.Except {
			if x.Collates(d.Folds()) {
				return true
			}
		}
	}
	return false
}

// Narrowed writes the further conditions of a selection: what a narrower plan asks for, and that no hold is true.
func (s Selection) Narrowed(d Dialect) []string {
	var parts []string
	for _, f := range s.Only {
		parts = append(parts, "("+Condition(d, f, false)+") IS TRUE")
	}
	if held := s.Held(d); held != "" {
		parts = append(parts, "NOT "+held)
	}
	return parts
}

// Unheld is the part of a batch's condition that keeps rows that are held, that no clause takes any more, or that
// others refer to.
func (s Selection) Unheld(d Dialect) string {
	out := ""
	if held := s.Held(d); held != "" {
		out += " AND NOT " + held
	}
	if rejudged := s.Rejudged(d); rejudged != "" {
		out += " AND " + rejudged
	}
	for _, r := range s.Referenced(d) {
		out += " AND NOT " + r
	}
	return out
}

// Held writes the condition that a hold is true for a row, or that a related row has to stay; empty where neither can
// be. Never NULL.
func (s Selection) Held(d Dialect) string {
	var parts []string
	for _, h := range s.Holds {
		parts = append(parts, "("+Condition(d, h, false)+") IS TRUE")
	}
	if len(s.Related) > 0 {
		parts = append(parts, s.keptByRelated(d)...)
	}
	if len(parts) == 0 {
		return ""
	}
	return "(" + strings.Join(parts, " OR ") + ")"
}

// Rejudged writes the conditions that look at joined rows, which no locator tells of: they must hold when the row is
// deleted as they did when it was read. Empty where there is none such. Never NULL.
func (s Selection) Rejudged(d Dialect) string {
	var parts []string
	looks := func(f *filter.Filter) bool {
		for _, r := range f.Columns() {
			if r.Join != "" {
				return true
			}
		}
		return false
	}
	for _, t := range s.Terms {
		joins := t.Where != nil && looks(t.Where)
		for _, x := range t.Except {
			joins = joins || looks(x)
		}
		if joins {
			parts = append(parts, Governed(d, t, false))
		}
	}
	if latest, ok := s.Latest(); ok && s.Age.Join != "" && !s.Empties() {
		parts = append(parts, "("+d.Before(latest)+") IS TRUE")
	}
	for _, f := range s.Only {
		if looks(f) {
			parts = append(parts, "("+Condition(d, f, false)+") IS TRUE")
		}
	}
	return strings.Join(parts, " AND ")
}

// TallyQuery is what Tally asks, put together from an engine's pieces.
type TallyQuery struct {
	From       string // "FROM table t" and what belongs to it
	Age        string // the age column
	Text       func(expr string) string
	Restored   string // conditions; empty where there is nothing of the kind
	Referenced string
}

// Tally writes one statement with a row a clause: clause, rows, due, held, restored, referenced, judged otherwise by
// collation, and the ages oldest, newest, last going, first staying.
func (s Selection) Tally(d Dialect, span Span, q TallyQuery) string {
	one := func(state int) string { return fmt.Sprintf("sum(CASE WHEN s = %d THEN 1 ELSE 0 END)", state) }
	return fmt.Sprintf("SELECT c, count(*), %s, %s, %s, %s, %s, %s, %s, %s, %s FROM (%s) x GROUP BY c", one(1), one(2),
		one(3), one(4), one(5),
		q.Text("min(a)"), q.Text("max(a)"), q.Text("max(CASE WHEN s = 1 THEN a END)"),
		q.Text("min(CASE WHEN b = 0 THEN a END)"), s.Judged(d, span, q))
}

// States of a row, as Judged numbers them: those that are old enough are due unless something else holds of them.
const (
	StateYoung = iota // or outside of what a narrower plan asks for
	StateDue
	StateHeld
	StateRestored
	StateReferenced
	StateDoubtful // the column's own collation judges otherwise
)

// Judged writes one statement with a row a row: c, the clause that governs it (-1: none); a, its age; b, whether that
// lies before the clause's cutoff; and s, its state.
func (s Selection) Judged(d Dialect, span Span, q TallyQuery) string {
	governs := func(collated bool) string {
		var b strings.Builder
		for _, t := range s.Terms {
			if g := Governed(d, t, collated); g == "TRUE" {
				if b.Len() == 0 {
					return strconv.Itoa(t.Clause)
				}
				fmt.Fprintf(&b, " WHEN TRUE THEN %d", t.Clause)
			} else if !t.None {
				fmt.Fprintf(&b, " WHEN %s THEN %d", g, t.Clause)
			}
		}
		if b.Len() == 0 {
			return "-1"
		}
		return "CASE" + b.String() + " ELSE -1 END"
	}
	aged := func(clause string) string {
		whens := ""
		for _, t := range s.Terms {
			if !t.Never && !t.None {
				whens += fmt.Sprintf(" WHEN %d THEN %s", t.Clause, s.beforeIn(d, t, span))
			}
		}
		if whens == "" {
			return "FALSE"
		}
		return "CASE " + clause + whens + " ELSE FALSE END"
	}
	var where []string
	if !span.From.IsZero() {
		where = append(where, d.Since(span.From))
	}
	if !span.To.IsZero() {
		where = append(where, d.Before(span.To))
	} else if span.From.IsZero() && !s.Empties() {
		where = append(where, d.Instant())
	}
	only := "TRUE"
	if len(s.Only) > 0 {
		plain := s
		plain.Holds = nil
		only = strings.Join(plain.Narrowed(d), " AND ")
	}
	other := "FALSE"
	inner := fmt.Sprintf("SELECT t.*, %s AS ambercellar_c", governs(false))
	if s.Collates(d) {
		inner += fmt.Sprintf(", %s AS ambercellar_d", governs(true))
		other = fmt.Sprintf("(%s) <> (%s)", aged("t.ambercellar_c"), aged("t.ambercellar_d"))
	}
	inner += " " + q.From + " WHERE " + strings.Join(append(where, "TRUE"), " AND ")
	state := "CASE WHEN NOT (" + aged("t.ambercellar_c") + ") AND NOT (" + other + ") OR NOT (" + only + ") THEN 0"
	if other != "FALSE" {
		state += " WHEN " + other + " THEN 5"
	}
	for i, c := range []string{s.Held(d), q.Restored, q.Referenced} {
		if c != "" {
			state += fmt.Sprintf(" WHEN %s THEN %d", c, i+2)
		}
	}
	state += " ELSE 1 END"
	return fmt.Sprintf("SELECT t.ambercellar_c AS c, %s AS a, CASE WHEN %s THEN 1 ELSE 0 END AS b, %s AS s FROM "+
		"(%s) t", q.Age, aged("t.ambercellar_c"), state, inner)
}

// beforeIn is the condition that a row of a span is old enough for a term, which need not be asked where the span says
// it already. Among rows without an age it is never NULL.
func (s Selection) beforeIn(d Dialect, t rule.Term, span Span) string {
	switch {
	case t.All || !span.To.IsZero() && !span.To.After(t.At):
		return "TRUE"
	case !span.From.IsZero() && !span.From.Before(t.At):
		return "FALSE"
	case s.Empties():
		return "(" + d.Before(t.At) + ") IS TRUE"
	}
	return d.Before(t.At)
}

// Shown makes a statement for reading; long lists of values are cut.
func Shown(title, text string, values []any) Statement {
	s := Statement{Title: title, SQL: text, Values: []string{}}
	for _, v := range values {
		switch x := v.(type) {
		case []byte:
			s.Values = append(s.Values, fmt.Sprintf("%q", x))
		case string:
			s.Values = append(s.Values, "'"+x+"'")
		default:
			s.Values = append(s.Values, fmt.Sprint(x))
		}
		if len(s.Values) == 100 {
			s.Values = append(s.Values, fmt.Sprintf("… and %d more", len(values)-100))
			break
		}
	}
	return s
}

// Difference writes the statement of Source.Difference from the dialects of both selections, which share a Binder.
func Difference(a, b Selection, da, db Dialect, from string) string {
	in, in2 := a.DueByRule(da), b.DueByRule(db)
	return fmt.Sprintf("SELECT COALESCE(SUM(CASE WHEN a = 1 AND b = 0 THEN 1 ELSE 0 END), 0), COALESCE(SUM(CASE "+
		"WHEN a = 0 AND b = 1 THEN 1 ELSE 0 END), 0), COALESCE(SUM(CASE WHEN a = 1 AND b = 1 THEN 1 ELSE 0 END), 0) "+
		"FROM (SELECT CASE WHEN %s THEN 1 ELSE 0 END AS a, CASE WHEN %s THEN 1 ELSE 0 END AS b %s) x", in, in2, from)
}
