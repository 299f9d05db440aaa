package filter

import (
	"strings"

	"ambercellar/internal/core/value"
)

// SQL writes the filter for a dialect: leaf writes a *Compare, *CompareColumns, *In, *Between, *Like, *IsNull or *Flag
// as a condition that is NULL exactly where Eval says Unknown; the connectives are the same everywhere.
func (f *Filter) SQL(leaf func(predicate any) string) string { return render(f.root, leaf) }

func render(n node, leaf func(any) string) string {
	join := func(parts []node, word string) string {
		texts := make([]string, len(parts))
		for i, p := range parts {
			texts[i] = render(p, leaf)
		}
		return "(" + Chain(texts, word) + ")"
	}
	switch x := n.(type) {
	case *and:
		return join(x.parts, " AND ")
	case *or:
		return join(x.parts, " OR ")
	case *not:
		return "NOT (" + render(x.part, leaf) + ")"
	case *Constant:
		return x.print(0)
	}
	return leaf(n)
}

// chained is how many conditions stand side by side at the most.
const chained = 100

// Chain joins conditions by AND or OR. Databases read a AND b AND c as a tree that is as deep as there are conditions,
// and bound its depth (SQLite: 1,000 levels), so many of them are joined by halves.
func Chain(parts []string, word string) string {
	if len(parts) <= chained {
		return strings.Join(parts, word)
	}
	half := len(parts) / 2
	return "(" + Chain(parts[:half], word) + ")" + word + "(" + Chain(parts[half:], word) + ")"
}

// Escaped writes the pattern with another escape character, for databases that have one of their own.
func (n *Like) Escaped(escape rune) string {
	var b strings.Builder
	for _, p := range n.parts {
		switch {
		case p.any:
			b.WriteByte('%')
		case p.one:
			b.WriteByte('_')
		default:
			if p.char == '%' || p.char == '_' || p.char == escape {
				b.WriteRune(escape)
			}
			b.WriteRune(p.char)
		}
	}
	return b.String()
}

// Glob writes the pattern in the other pattern language that SQLite has, in which letters are never folded.
func (n *Like) Glob() string {
	var b strings.Builder
	for _, p := range n.parts {
		switch {
		case p.any:
			b.WriteByte('*')
		case p.one:
			b.WriteByte('?')
		case strings.ContainsRune("*?[", p.char):
			b.WriteString("[" + string(p.char) + "]")
		default:
			b.WriteRune(p.char)
		}
	}
	return b.String()
}

// Never says whether no row can satisfy the filter, as far as comparing its parts shows: bounds that exclude each
// other, two different values at once, NULL together with a comparison. False does not mean that some row can.
func (f *Filter) Never() bool { return f != nil && never(f.root) }

func never(n node) bool {
	switch x := n.(type) {
	case *or:
		for _, p := range x.parts {
			if !never(p) {
				return false
			}
		}
		return true
	case *Constant:
		return !x.Value
	case *Between:
		sign, ok := compare(x.Low.Value, x.High.Value)
		return !x.Not && ok && sign > 0
	case *and:
		s := spans{}
		for _, p := range x.parts {
			if never(p) {
				return true
			}
			s.add(p)
		}
		return s.empty()
	}
	return false
}

// spans holds, of each column, what a conjunction leaves possible.
type spans map[string]*span

type span struct {
	low, high         *value.Value
	lowOpen, highOpen bool
	null, notNull     bool
	values            [][]value.Value // each list must hold the value
}

func (s spans) add(n node) {
	at := func(r Ref) *span {
		if s[r.String()] == nil {
			s[r.String()] = &span{}
		}
		return s[r.String()]
	}
	switch x := n.(type) {
	case *and:
		for _, p := range x.parts {
			s.add(p)
		}
	case *IsNull:
		p := at(x.Left)
		p.null, p.notNull = p.null || !x.Not, p.notNull || x.Not
	case *Compare:
		p := at(x.Left)
		p.notNull = true
		v := x.Right.Value
		switch x.Op {
		case Equal:
			p.values = append(p.values, []value.Value{v})
			p.raise(v, false)
			p.lower(v, false)
		case Less, LessEqual:
			p.lower(v, x.Op == Less)
		case Greater, GreaterEqual:
			p.raise(v, x.Op == Greater)
		}
	case *Between:
		if p := at(x.Left); !x.Not {
			p.notNull = true
			p.raise(x.Low.Value, false)
			p.lower(x.High.Value, false)
		}
	case *In:
		p := at(x.Left)
		p.notNull = true
		if !x.Not {
			list := make([]value.Value, len(x.List))
			for i, l := range x.List {
				list[i] = l.Value
			}
			p.values = append(p.values, list)
		}
	case *Like:
		at(x.Left).notNull = true
	}
}

func (p *span) raise(v value.Value, open bool) {
	if p.low != nil {
		if sign, ok := compare(v, *p.low); !ok || sign < 0 || sign == 0 && !open {
			return
		}
	}
	p.low, p.lowOpen = &v, open
}

func (p *span) lower(v value.Value, open bool) {
	if p.high != nil {
		if sign, ok := compare(v, *p.high); !ok || sign > 0 || sign == 0 && !open {
			return
		}
	}
	p.high, p.highOpen = &v, open
}

func (s spans) empty() bool {
	for _, p := range s {
		if p.null && p.notNull {
			return true
		}
		if p.low != nil && p.high != nil {
			if sign, ok := compare(*p.low, *p.high); ok && (sign > 0 || sign == 0 && (p.lowOpen || p.highOpen)) {
				return true
			}
		}
		for i, list := range p.values {
			possible := false
			for _, v := range list {
				possible = possible || p.allows(v, p.values[:i])
			}
			if !possible {
				return true
			}
		}
	}
	return false
}

func (p *span) allows(v value.Value, lists [][]value.Value) bool {
	if p.low != nil {
		if sign, ok := compare(v, *p.low); ok && (sign < 0 || sign == 0 && p.lowOpen) {
			return false
		}
	}
	if p.high != nil {
		if sign, ok := compare(v, *p.high); ok && (sign > 0 || sign == 0 && p.highOpen) {
			return false
		}
	}
	for _, list := range lists {
		in := false
		for _, x := range list {
			sign, ok := compare(v, x)
			in = in || ok && sign == 0
		}
		if !in {
			return false
		}
	}
	return true
}

// Collates says whether a column's own collation could judge the filter otherwise than the exact comparison does;
// folds says that the database's LIKE takes letters of different case for equal.
func (f *Filter) Collates(folds bool) bool { return collates(f.root, folds) }

func collates(n node, folds bool) bool {
	some := func(parts []node) bool {
		for _, p := range parts {
			if collates(p, folds) {
				return true
			}
		}
		return false
	}
	switch x := n.(type) {
	case *and:
		return some(x.parts)
	case *or:
		return some(x.parts)
	case *not:
		return collates(x.part, folds)
	case *Compare:
		return x.Left.Column.Collation != "" && x.Right.Value.Kind == value.Text
	case *CompareColumns:
		return x.Left.Column.Collation != "" || x.Right.Column.Collation != ""
	case *In:
		return x.Left.Column.Collation != ""
	case *Between:
		return x.Left.Column.Collation != "" && x.Low.Value.Kind == value.Text
	case *Like:
		return folds || x.Left.Column.Collation != ""
	}
	return false
}
