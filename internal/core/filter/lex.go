package filter

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Error is a mistake in a filter, with its place.
type Error struct {
	Text    string // the whole filter
	Pos     int    // byte offset in Text
	Message string
	Remedy  string
}

// Error writes the message, and below it the line of the filter with a caret under the place.
func (e *Error) Error() string {
	return e.Plain() + "\n" + e.Excerpt()
}

// Plain is the message with its remedy on one line.
func (e *Error) Plain() string {
	out := fmt.Sprintf("at character %d: %s", utf8.RuneCountInString(e.Text[:min(e.Pos, len(e.Text))])+1, e.Message)
	if e.Remedy != "" {
		out += "; " + e.Remedy
	}
	return out
}

// excerptWidth is how many characters of a long line an excerpt shows.
const excerptWidth = 72

// Excerpt shows the line that the mistake is on, cut to a readable width, and a caret under its place.
func (e *Error) Excerpt() string {
	pos := min(e.Pos, len(e.Text))
	from := strings.LastIndexByte(e.Text[:pos], '\n') + 1
	to := len(e.Text)
	if i := strings.IndexByte(e.Text[pos:], '\n'); i >= 0 {
		to = pos + i
	}
	before, after := []rune(e.Text[from:pos]), []rune(e.Text[pos:to])
	lead := ""
	if len(before) > excerptWidth/2 {
		before, lead = before[len(before)-excerptWidth/2:], "…"
	}
	tail := ""
	if room := excerptWidth - len(before); len(after) > room {
		after, tail = after[:room], "…"
	}
	plain := func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}
	line := strings.Map(plain, lead+string(before)+string(after)+tail)
	return "  " + line + "\n  " + strings.Repeat(" ", utf8.RuneCountInString(lead)+len(before)) + "^"
}

// kind of a token.
type kind int

const (
	endToken    kind = iota
	wordToken        // a keyword or a plain identifier
	nameToken        // an identifier in double quotes
	numberToken      // digits, with sign, point and exponent as they stand
	textToken        // in single quotes
	opToken          // comparison
	symbolToken      // ( ) , .
)

type token struct {
	kind  kind
	pos   int
	value string // without quotes; words as they stand
}

// is says whether a token is the keyword.
func (t token) is(keyword string) bool {
	return t.kind == wordToken && strings.EqualFold(t.value, keyword)
}

// show names a token in a message.
func (t token) show() string {
	switch t.kind {
	case endToken:
		return "the end"
	case textToken:
		return fmt.Sprintf("the text '%.40s'", t.value)
	}
	return fmt.Sprintf("%.40q", t.value)
}

// lex takes a filter apart.
func lex(s string) ([]token, *Error) {
	if err := readable(s); err != nil {
		return nil, err
	}
	fail := func(pos int, message, remedy string) *Error {
		return &Error{Text: s, Pos: pos, Message: message, Remedy: remedy}
	}
	var out []token
	for at := 0; at < len(s); {
		r, size := utf8.DecodeRuneInString(s[at:])
		switch {
		case unicode.IsSpace(r):
			at += size
		case r == '_' || unicode.IsLetter(r):
			to := wordEnd(s, at)
			out = append(out, token{wordToken, at, s[at:to]})
			at = to
		case r >= '0' && r <= '9' || r == '.' && at+1 < len(s) && digit(s[at+1]):
			to := numberEnd(s, at)
			out = append(out, token{numberToken, at, s[at:to]})
			at = to
		case r == '\'' || r == '"':
			value, to, ok := unquote(s, at)
			if !ok {
				what, mark := "text", "'"
				if r == '"' {
					what, mark = "name", `"`
				}
				return nil, fail(at, fmt.Sprintf("the %s that begins here has no closing quote", what),
					fmt.Sprintf("close it with %s; a quote within is written twice", mark))
			}
			k := textToken
			if r == '"' {
				k = nameToken
				if value == "" {
					return nil, fail(at, "a name in quotes is empty", "write the column's name")
				}
			}
			out = append(out, token{k, at, value})
			at = to
		case strings.ContainsRune("(),.+-", r):
			out = append(out, token{symbolToken, at, string(r)})
			at += size
		case strings.ContainsRune("=<>!", r):
			to := at + 1
			for to < len(s) && strings.IndexByte("=<>!", s[to]) >= 0 {
				to++
			}
			op := s[at:to]
			if _, ok := operators[op]; !ok {
				return nil, fail(at, fmt.Sprintf("%q is no comparison", op), "write =, <>, <, <=, > or >=")
			}
			out = append(out, token{opToken, at, op})
			at = to
		case r == '`' || r == '[':
			return nil, fail(at, fmt.Sprintf("%q does not quote a name here", string(r)), `quote names with "`)
		case r == ';':
			return nil, fail(at, "a filter is one condition, not statements", "take the semicolon out")
		default:
			return nil, fail(at, fmt.Sprintf("%q has no meaning here", string(r)),
				"a filter holds columns, literals, comparisons, AND, OR, NOT, IN, BETWEEN, LIKE and IS NULL")
		}
	}
	return append(out, token{endToken, len(s), ""}), nil
}

// readable says what keeps a text from being a filter at all; nil: nothing.
func readable(s string) *Error {
	if !utf8.ValidString(s) {
		at := 0
		for at < len(s) {
			r, n := utf8.DecodeRuneInString(s[at:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		return &Error{Text: s, Pos: at, Message: "here stands a byte that is not UTF-8",
			Remedy: "write the filter as UTF-8"}
	}
	if i := strings.IndexByte(s, 0); i >= 0 {
		return &Error{Text: s, Pos: i, Message: "a filter cannot hold the character U+0000", Remedy: "take it out"}
	}
	return nil
}

func wordEnd(s string, at int) int {
	for at < len(s) {
		r, size := utf8.DecodeRuneInString(s[at:])
		if r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) {
			break
		}
		at += size
	}
	return at
}

func digit(b byte) bool { return b >= '0' && b <= '9' }

func numberEnd(s string, at int) int {
	to := at
	for to < len(s) && digit(s[to]) {
		to++
	}
	if to < len(s) && s[to] == '.' {
		to++
		for to < len(s) && digit(s[to]) {
			to++
		}
	}
	if to < len(s) && (s[to] == 'e' || s[to] == 'E') {
		exp := to + 1
		if exp < len(s) && (s[exp] == '+' || s[exp] == '-') {
			exp++
		}
		if exp < len(s) && digit(s[exp]) {
			for to = exp; to < len(s) && digit(s[to]); to++ {
			}
		}
	}
	return to
}

// unquote reads a quoted text from at on, in which the quote is doubled, and returns where it ends.
func unquote(s string, at int) (value string, to int, ok bool) {
	mark := s[at]
	var b strings.Builder
	for i := at + 1; i < len(s); i++ {
		if s[i] != mark {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == mark {
			b.WriteByte(mark)
			i++
			continue
		}
		return b.String(), i + 1, true
	}
	return "", 0, false
}
