// Package filter is the language in which rules, holds and requests say which rows they mean: a small subset of
// standard SQL's boolean expressions with its three-valued logic. A filter is parsed, checked against a table's
// columns (which gives every literal the type of the column that it is compared with), printed back, evaluated on a
// row, and handed to a dialect that writes it as SQL with bound values. The package speaks no dialect itself.
package filter

import (
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Filter is a parsed filter. Check must have passed before it is evaluated or rendered.
type Filter struct {
	Text string // as it was written
	root node
}

// String writes the filter in its one printed form, which parses back to the same.
func (f *Filter) String() string {
	if f == nil {
		return ""
	}
	return f.root.print(0)
}

// Op is a comparison.
type Op int

const (
	Equal Op = iota
	NotEqual
	Less
	LessEqual
	Greater
	GreaterEqual
)

var operators = map[string]Op{"=": Equal, "<>": NotEqual, "!=": NotEqual, "<": Less, "<=": LessEqual, ">": Greater,
	">=": GreaterEqual}

// String writes the comparison as SQL does.
func (o Op) String() string { return [...]string{"=", "<>", "<", "<=", ">", ">="}[o] }

// flip is the comparison with its sides exchanged.
func (o Op) flip() Op { return [...]Op{Equal, NotEqual, Greater, GreaterEqual, Less, LessEqual}[o] }

// Holds says whether the comparison holds where its left side compares as sign (negative, zero, positive).
func (o Op) Holds(sign int) bool {
	switch o {
	case Equal:
		return sign == 0
	case NotEqual:
		return sign != 0
	case Less:
		return sign < 0
	case LessEqual:
		return sign <= 0
	case Greater:
		return sign > 0
	}
	return sign >= 0
}

// Ref is a column in a filter: of the table itself, or reached by a join where Join names one.
type Ref struct {
	Join   string        `json:"join,omitempty"`
	Name   string        `json:"name"`
	Column *shape.Column `json:"-"` // set by Check
	Index  int           `json:"-"` // of the value in a row, as the scope said; set by Check
	pos    int
}

// String writes the reference, its names quoted where need be.
func (r Ref) String() string {
	if r.Join != "" {
		return name(r.Join) + "." + name(r.Name)
	}
	return name(r.Name)
}

// Literal is a constant, as it was written and, after Check, as a value of its column's type.
type Literal struct {
	Value value.Value // set by Check
	form  form
	text  string // digits, text, or TRUE and FALSE
	pos   int
}

// form is how a literal was written.
type form int

const (
	formNumber form = iota
	formText
	formBool
	formDate
	formTimestamp
)

// String writes the literal as SQL does.
func (l Literal) String() string {
	switch l.form {
	case formText:
		return quote(l.text)
	case formDate:
		return "DATE " + quote(l.text)
	case formTimestamp:
		return "TIMESTAMP " + quote(l.text)
	}
	return l.text
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// name writes an identifier, quoted where it would otherwise mean something else.
func name(s string) string {
	tokens, err := lex(s)
	if err == nil && len(tokens) == 2 && tokens[0].kind == wordToken && tokens[0].value == s &&
		!keywords[strings.ToUpper(s)] {
		return s
	}
	return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
}

var keywords = map[string]bool{"AND": true, "OR": true, "NOT": true, "IN": true, "BETWEEN": true, "LIKE": true,
	"ESCAPE": true, "IS": true, "NULL": true, "TRUE": true, "FALSE": true, "DATE": true, "TIMESTAMP": true}

// Predicates are the leaves of a filter.
type (
	// Compare is COLUMN op LITERAL.
	Compare struct {
		Left  Ref
		Op    Op
		Right Literal
	}
	// CompareColumns is COLUMN op COLUMN.
	CompareColumns struct {
		Left  Ref
		Op    Op
		Right Ref
	}
	// In is COLUMN [NOT] IN (LITERAL, …).
	In struct {
		Left Ref
		Not  bool
		List []Literal
	}
	// Between is COLUMN [NOT] BETWEEN LITERAL AND LITERAL.
	Between struct {
		Left      Ref
		Not       bool
		Low, High Literal
	}
	// Like is COLUMN [NOT] LIKE 'PATTERN' [ESCAPE 'CHARACTER'].
	Like struct {
		Left    Ref
		Not     bool
		Pattern string
		Escape  string // one character; empty for none
		parts   []likePart
		pos     int
	}
	// IsNull is COLUMN IS [NOT] NULL.
	IsNull struct {
		Left Ref
		Not  bool
	}
	// Constant is TRUE or FALSE on its own.
	Constant struct{ Value bool }
	// Flag is a boolean column on its own.
	Flag struct{ Left Ref }
)

// node is a part of the tree. print writes it for a place that binds as strongly as level: 0 OR, 1 AND, 2 NOT, 3 a
// leaf.
type node interface {
	print(level int) string
}

type (
	and struct{ parts []node }
	or  struct{ parts []node }
	not struct{ part node }
)

func joined(parts []node, word string, own, level int) string {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = p.print(own + 1)
	}
	out := strings.Join(texts, " "+word+" ")
	if level > own {
		return "(" + out + ")"
	}
	return out
}

func (n *and) print(level int) string { return joined(n.parts, "AND", 1, level) }
func (n *or) print(level int) string  { return joined(n.parts, "OR", 0, level) }
func (n *not) print(level int) string {
	out := "NOT " + n.part.print(2)
	if level > 2 {
		return "(" + out + ")"
	}
	return out
}

func negated(not bool) string {
	if not {
		return " NOT"
	}
	return ""
}

func (n *Compare) print(int) string {
	return n.Left.String() + " " + n.Op.String() + " " + n.Right.String()
}
func (n *CompareColumns) print(int) string {
	return n.Left.String() + " " + n.Op.String() + " " + n.Right.String()
}
func (n *In) print(int) string {
	list := make([]string, len(n.List))
	for i, l := range n.List {
		list[i] = l.String()
	}
	return n.Left.String() + negated(n.Not) + " IN (" + strings.Join(list, ", ") + ")"
}
func (n *Between) print(int) string {
	return n.Left.String() + negated(n.Not) + " BETWEEN " + n.Low.String() + " AND " + n.High.String()
}
func (n *Like) print(int) string {
	out := n.Left.String() + negated(n.Not) + " LIKE " + quote(n.Pattern)
	if n.Escape != "" {
		out += " ESCAPE " + quote(n.Escape)
	}
	return out
}
func (n *IsNull) print(int) string {
	if n.Not {
		return n.Left.String() + " IS NOT NULL"
	}
	return n.Left.String() + " IS NULL"
}
func (n *Constant) print(int) string {
	if n.Value {
		return "TRUE"
	}
	return "FALSE"
}
func (n *Flag) print(int) string { return n.Left.String() }

// refs calls fn for every column of a tree.
func refs(n node, fn func(*Ref)) {
	switch x := n.(type) {
	case *and:
		for _, p := range x.parts {
			refs(p, fn)
		}
	case *or:
		for _, p := range x.parts {
			refs(p, fn)
		}
	case *not:
		refs(x.part, fn)
	case *Compare:
		fn(&x.Left)
	case *CompareColumns:
		fn(&x.Left)
		fn(&x.Right)
	case *In:
		fn(&x.Left)
	case *Between:
		fn(&x.Left)
	case *Like:
		fn(&x.Left)
	case *IsNull:
		fn(&x.Left)
	case *Flag:
		fn(&x.Left)
	}
}

// Columns lists the columns that the filter names, each once, in the order in which they first stand.
func (f *Filter) Columns() []Ref {
	var out []Ref
	seen := map[string]bool{}
	if f != nil {
		refs(f.root, func(r *Ref) {
			if !seen[r.String()] {
				seen[r.String()] = true
				out = append(out, *r)
			}
		})
	}
	return out
}
