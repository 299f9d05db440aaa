package filter

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Bounds of a filter. They keep parsing, and the statements made of it, inside what every database takes.
const (
	MaxText  = 64 << 10 // bytes
	MaxDepth = 100      // levels of parentheses and NOT
	MaxList  = 5_000    // literals of all IN lists together
)

// Parse reads a filter. Its error is an *Error.
func Parse(s string) (*Filter, error) {
	if len(s) > MaxText {
		return nil, &Error{Text: s[:0], Message: fmt.Sprintf("the filter has %d bytes; the most is %d", len(s),
			MaxText), Remedy: "split it into several clauses, or mark the rows in a column"}
	}
	tokens, bad := lex(s)
	if bad != nil {
		return nil, bad
	}
	p := &parser{text: s, tokens: tokens}
	if p.peek().kind == endToken {
		return nil, p.fail(p.peek(), "the filter is empty", "write a condition like outcome = 'refused'")
	}
	root, err := p.or(0)
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != endToken {
		remedy := "join conditions with AND or OR"
		if t.kind == symbolToken && t.value == ")" {
			remedy = "take the parenthesis out, or open it before"
		}
		return nil, p.fail(t, fmt.Sprintf("%s stands behind the end of the condition", t.show()), remedy)
	}
	return &Filter{Text: s, root: root}, nil
}

type parser struct {
	text   string
	tokens []token
	at     int
	listed int
}

func (p *parser) peek() token { return p.tokens[p.at] }
func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != endToken {
		p.at++
	}
	return t
}

func (p *parser) accept(keyword string) bool {
	if p.peek().is(keyword) {
		p.at++
		return true
	}
	return false
}

func (p *parser) symbol(s string) bool {
	if t := p.peek(); t.kind == symbolToken && t.value == s {
		p.at++
		return true
	}
	return false
}

func (p *parser) fail(t token, message, remedy string) error {
	return &Error{Text: p.text, Pos: t.pos, Message: message, Remedy: remedy}
}

func (p *parser) or(depth int) (node, error) {
	return p.chain(depth, "OR", p.and, func(parts []node) node { return &or{parts} })
}

func (p *parser) and(depth int) (node, error) {
	return p.chain(depth, "AND", p.not, func(parts []node) node { return &and{parts} })
}

func (p *parser) chain(depth int, keyword string, part func(int) (node, error), build func([]node) node) (node,
	error) {
	first, err := part(depth)
	if err != nil {
		return nil, err
	}
	parts := []node{first}
	for p.accept(keyword) {
		n, err := part(depth)
		if err != nil {
			return nil, err
		}
		parts = append(parts, n)
	}
	if len(parts) == 1 {
		return first, nil
	}
	return build(parts), nil
}

func (p *parser) not(depth int) (node, error) {
	t := p.peek()
	if depth > MaxDepth {
		return nil, p.fail(t, fmt.Sprintf("the filter is nested deeper than %d levels", MaxDepth),
			"take superfluous parentheses out, or split it into several clauses")
	}
	if p.accept("NOT") {
		n, err := p.not(depth + 1)
		if err != nil {
			return nil, err
		}
		return &not{n}, nil
	}
	if p.symbol("(") {
		n, err := p.or(depth + 1)
		if err != nil {
			return nil, err
		}
		if !p.symbol(")") {
			return nil, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of a closing parenthesis",
				p.peek().show()), fmt.Sprintf("close the parenthesis opened at character %d",
				utf8.RuneCountInString(p.text[:t.pos])+1))
		}
		return n, nil
	}
	return p.predicate()
}

// operand is a column or a literal.
type operand struct {
	ref     *Ref
	literal *Literal
	token   token
}

func (p *parser) operand() (operand, error) {
	t := p.peek()
	out := operand{token: t}
	switch {
	case t.kind == textToken:
		p.next()
		out.literal = &Literal{form: formText, text: t.value, pos: t.pos}
	case t.kind == numberToken, t.kind == symbolToken && (t.value == "-" || t.value == "+"):
		sign := ""
		if t.kind == symbolToken {
			p.next()
			if t.value == "-" {
				sign = "-"
			}
			if p.peek().kind != numberToken {
				return out, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of a number", p.peek().show()),
					"a filter does not compute; write the number itself")
			}
		}
		out.literal = &Literal{form: formNumber, text: sign + p.next().value, pos: t.pos}
	case t.is("TRUE"), t.is("FALSE"):
		p.next()
		out.literal = &Literal{form: formBool, text: strings.ToUpper(t.value), pos: t.pos}
	case (t.is("DATE") || t.is("TIMESTAMP")) && p.tokens[p.at+1].kind == textToken:
		p.next()
		l := &Literal{form: formDate, text: p.next().value, pos: t.pos}
		if t.is("TIMESTAMP") {
			l.form = formTimestamp
		}
		out.literal = l
	case t.is("NULL"):
		return out, p.fail(t, "nothing is equal to NULL, not even NULL",
			"write IS NULL or IS NOT NULL behind the column")
	case t.kind == nameToken, t.kind == wordToken && (!keywords[strings.ToUpper(t.value)] || t.is("DATE") ||
		t.is("TIMESTAMP")):
		p.next()
		out.ref = &Ref{Name: t.value, pos: t.pos}
		if p.symbol(".") {
			u := p.next()
			if u.kind != wordToken && u.kind != nameToken {
				return out, p.fail(u, fmt.Sprintf("here stands %s instead of a column's name", u.show()),
					"write JOIN.COLUMN")
			}
			out.ref.Join, out.ref.Name = t.value, u.value
		}
		if next := p.peek(); next.kind == symbolToken && next.value == "(" {
			return out, p.fail(t, fmt.Sprintf("%s is called as a function, and a filter has none", t.show()),
				"compare the column itself")
		}
	default:
		return out, p.fail(t, fmt.Sprintf("here stands %s instead of a column or a literal", t.show()),
			`write a condition like outcome = 'refused'; a name that is a keyword is quoted with "`)
	}
	if next := p.peek(); next.kind == symbolToken && (next.value == "+" || next.value == "-") {
		return out, p.fail(next, "a filter does not compute", "write the result itself")
	}
	return out, nil
}

func (p *parser) literal() (Literal, error) {
	o, err := p.operand()
	if err != nil {
		return Literal{}, err
	}
	if o.literal == nil {
		return Literal{}, p.fail(o.token, fmt.Sprintf("here stands the column %s instead of a literal",
			o.token.show()), "text stands in single quotes")
	}
	return *o.literal, nil
}

func (p *parser) predicate() (node, error) {
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	t := p.peek()
	if t.kind == opToken {
		return p.comparison(left)
	}
	if left.ref == nil {
		if left.literal.form == formBool {
			return &Constant{left.literal.text == "TRUE"}, nil
		}
		return nil, p.fail(left.token, fmt.Sprintf("the literal %s is no condition", left.token.show()),
			"compare a column with it")
	}
	negative := p.accept("NOT")
	switch {
	case p.accept("IN"):
		return p.in(*left.ref, negative)
	case p.accept("BETWEEN"):
		return p.between(*left.ref, negative)
	case p.accept("LIKE"):
		return p.like(*left.ref, negative)
	case negative:
		return nil, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of IN, BETWEEN or LIKE", p.peek().show()),
			"NOT before a condition stands in front of its column")
	case p.accept("IS"):
		n := &IsNull{Left: *left.ref, Not: p.accept("NOT")}
		if !p.accept("NULL") {
			return nil, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of NULL", p.peek().show()),
				"write IS NULL or IS NOT NULL")
		}
		return n, nil
	case t.kind == endToken, t.is("AND"), t.is("OR"), t.kind == symbolToken && t.value == ")":
		return &Flag{*left.ref}, nil
	}
	return nil, p.fail(t, fmt.Sprintf("here stands %s instead of a comparison", t.show()),
		"write =, <>, <, <=, >, >=, IN, BETWEEN, LIKE or IS NULL")
}

func (p *parser) comparison(left operand) (node, error) {
	op := operators[p.next().value]
	right, err := p.operand()
	if err != nil {
		return nil, err
	}
	switch {
	case left.ref != nil && right.ref != nil:
		return &CompareColumns{Left: *left.ref, Op: op, Right: *right.ref}, nil
	case left.ref != nil:
		return &Compare{Left: *left.ref, Op: op, Right: *right.literal}, nil
	case right.ref != nil:
		return &Compare{Left: *right.ref, Op: op.flip(), Right: *left.literal}, nil
	}
	return nil, p.fail(left.token, "two literals are compared, which says nothing of a row",
		"compare a column; names of columns stand without quotes or in double quotes")
}

func (p *parser) in(left Ref, negative bool) (node, error) {
	n := &In{Left: left, Not: negative}
	if !p.symbol("(") {
		return nil, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of a list in parentheses", p.peek().show()),
			"write IN ('a', 'b')")
	}
	for {
		l, err := p.literal()
		if err != nil {
			return nil, err
		}
		n.List = append(n.List, l)
		if p.listed++; p.listed > MaxList {
			return nil, p.fail(token{pos: l.pos}, fmt.Sprintf("the lists hold more than %d literals", MaxList),
				"mark the rows in a column, or give a file of keys")
		}
		if p.symbol(")") {
			return n, nil
		}
		if !p.symbol(",") {
			return nil, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of a comma or a closing parenthesis",
				p.peek().show()), "write IN ('a', 'b')")
		}
	}
}

func (p *parser) between(left Ref, negative bool) (node, error) {
	n := &Between{Left: left, Not: negative}
	var err error
	if n.Low, err = p.literal(); err != nil {
		return nil, err
	}
	if !p.accept("AND") {
		return nil, p.fail(p.peek(), fmt.Sprintf("here stands %s instead of AND and the upper bound", p.peek().show()),
			"write BETWEEN 1 AND 5")
	}
	n.High, err = p.literal()
	return n, err
}

func (p *parser) like(left Ref, negative bool) (node, error) {
	t := p.next()
	if t.kind != textToken {
		return nil, p.fail(t, fmt.Sprintf("here stands %s instead of a pattern", t.show()),
			"write LIKE 'Q-%'; % stands for any text and _ for one character")
	}
	n := &Like{Left: left, Not: negative, Pattern: t.value, pos: t.pos}
	if p.accept("ESCAPE") {
		e := p.next()
		if e.kind != textToken || utf8.RuneCountInString(e.value) != 1 {
			return nil, p.fail(e, "ESCAPE takes one character in quotes", `write ESCAPE '\'`)
		}
		n.Escape = e.value
	}
	var message string
	if n.parts, message = likeParts(n.Pattern, n.Escape); message != "" {
		return nil, p.fail(t, message, "an escape stands before %, _ or itself")
	}
	return n, nil
}

// likePart is an element of a pattern: a character, or one of the two that stand for others.
type likePart struct {
	any, one bool
	char     rune
}

func likeParts(pattern, escape string) (out []likePart, message string) {
	e, _ := utf8.DecodeRuneInString(escape)
	escaped := false
	for _, r := range pattern {
		switch {
		case escaped:
			if r != '%' && r != '_' && r != e {
				return nil, fmt.Sprintf("the pattern has the escape character before %q", string(r))
			}
			out, escaped = append(out, likePart{char: r}), false
		case escape != "" && r == e:
			escaped = true
		case r == '%':
			if n := len(out); n == 0 || !out[n-1].any {
				out = append(out, likePart{any: true})
			}
		case r == '_':
			out = append(out, likePart{one: true})
		default:
			out = append(out, likePart{char: r})
		}
	}
	if escaped {
		return nil, "the pattern ends with its escape character"
	}
	return out, ""
}
