package rule

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/shape"
)

// Problem is one thing that is wrong, or worth knowing, in a file of rules.
type Problem struct {
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"`   // from 1; 0 where the problem has no place
	Column  int    `json:"column,omitempty"` // from 1
	Rule    string `json:"rule,omitempty"`
	Field   string `json:"field,omitempty"`
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
	Warning bool   `json:"warning,omitempty"` // the rule can be applied all the same
}

// Error writes the problem as compilers do: file, line, column, field, message, remedy.
func (p Problem) Error() string {
	var b strings.Builder
	if p.File != "" {
		b.WriteString(p.File + ":")
	}
	if p.Line > 0 {
		fmt.Fprintf(&b, "%d:%d:", p.Line, p.Column)
	}
	if b.Len() > 0 {
		b.WriteByte(' ')
	}
	if p.Warning {
		b.WriteString("warning: ")
	}
	if p.Rule != "" {
		b.WriteString("rule " + p.Rule + ": ")
	}
	if p.Field != "" {
		b.WriteString("field " + p.Field + ": ")
	}
	b.WriteString(p.Message)
	if p.Remedy != "" {
		b.WriteString("; " + p.Remedy)
	}
	return b.String()
}

// Fatal says whether any of the problems keeps its rule from being applied.
func Fatal(problems []Problem) bool {
	for _, p := range problems {
		if !p.Warning {
			return true
		}
	}
	return false
}

// Document is one rule of a file, with its text and the place of each field.
type Document struct {
	Rule   Rule
	Text   string // as it stands in the file
	file   string
	places map[string][2]int // field → line, column in the file
}

// MaxFile is the largest file of rules in bytes.
const MaxFile = 1 << 20

var separator = regexp.MustCompile(`(?m)^---[ \t]*(?:#.*)?\r?$`)

// Parse reads a file of one rule or several, separated by lines of three dashes. It returns what could be read and
// every mistake in it.
func Parse(file string, text []byte) ([]Document, []Problem) {
	if len(text) > MaxFile {
		return nil, []Problem{{File: file, Message: fmt.Sprintf("the file has %d bytes; the most is %d", len(text), MaxFile), Remedy: "split it into several files"}}
	}
	var docs []Document
	var problems []Problem
	line, at := 0, 0
	cuts := append(separator.FindAllIndex(text, -1), []int{len(text), len(text)})
	for _, cut := range cuts {
		part := string(text[at:cut[0]])
		doc, found := parseOne(file, part, line)
		if doc != nil {
			docs = append(docs, *doc)
		}
		problems = append(problems, found...)
		line += strings.Count(string(text[at:cut[1]]), "\n")
		at = cut[1]
	}
	if len(docs) == 0 && len(problems) == 0 {
		problems = append(problems, Problem{File: file, Message: "the file holds no rule", Remedy: "a rule begins with `rule: NAME`; docs/rules.md shows one"})
	}
	first := map[string]int{}
	for _, d := range docs {
		if before, ok := first[d.Rule.Name]; ok && d.Rule.Name != "" {
			problems = append(problems, d.problem("rule", fmt.Sprintf("the name %q stands on line %d already", d.Rule.Name, before), "give each rule its own name"))
		} else {
			first[d.Rule.Name] = d.places["rule"][0]
		}
	}
	return docs, problems
}

// problem makes a Problem at a field's place.
func (d *Document) problem(field, message, remedy string) Problem {
	place := d.places[field]
	for parent := field; place[0] == 0 && strings.ContainsAny(parent, ".["); {
		parent = parent[:strings.LastIndexAny(parent, ".[")]
		place = d.places[parent]
	}
	if place[0] == 0 {
		place = d.places["rule"]
	}
	return Problem{File: d.file, Line: place[0], Column: place[1], Rule: d.Rule.Name, Field: field, Message: message, Remedy: remedy}
}

func parseOne(file, text string, lines int) (doc *Document, problems []Problem) {
	defer func() {
		if r := recover(); r != nil { // the YAML library panics on some malformed input
			doc, problems = nil, []Problem{{File: file, Line: lines + 1, Column: 1, Message: "this is not YAML that can be read", Remedy: "compare it with the example in docs/rules.md"}}
		}
	}()
	tree, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil, []Problem{syntaxProblem(file, lines, err)}
	}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return nil, nil
	}
	body := tree.Docs[0].Body
	if _, empty := body.(*ast.CommentGroupNode); empty {
		return nil, nil
	}
	r := &reader{doc: Document{Text: strings.Trim(text, "\r\n") + "\n", file: file, places: map[string][2]int{}}, lines: lines}
	r.place("", body)
	fields := r.mapping("", body, "rule", "about", "source", "table", "age", "clauses", "then", "archive", "pace")
	if fields == nil {
		return nil, r.problems
	}
	r.rule(fields)
	for i := range r.problems {
		r.problems[i].Rule = r.doc.Rule.Name
	}
	return &r.doc, r.problems
}

func syntaxProblem(file string, lines int, err error) Problem {
	p := Problem{File: file, Line: lines + 1, Column: 1, Remedy: "mend the YAML; docs/rules.md shows the form"}
	var at yaml.Error
	if e, ok := err.(yaml.Error); ok {
		at = e
	}
	if at == nil {
		p.Message = "malformed YAML: " + strings.SplitN(err.Error(), "\n", 2)[0]
		return p
	}
	p.Message = "malformed YAML: " + at.GetMessage()
	if t := at.GetToken(); t != nil && t.Position != nil {
		p.Line, p.Column = lines+t.Position.Line, t.Position.Column
	}
	return p
}

// reader walks the tree of one document.
type reader struct {
	doc      Document
	lines    int
	problems []Problem
}

func (r *reader) place(field string, n ast.Node) {
	if n == nil || n.GetToken() == nil || n.GetToken().Position == nil {
		return
	}
	p := n.GetToken().Position
	r.doc.places[field] = [2]int{r.lines + p.Line, p.Column}
}

func (r *reader) fail(field, message, remedy string) {
	r.problems = append(r.problems, r.doc.problem(field, message, remedy))
}

// mapping returns the fields of a mapping node by name and reports those that are not allowed.
func (r *reader) mapping(at string, n ast.Node, allowed ...string) map[string]ast.Node {
	var pairs []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		pairs = m.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{m}
	default:
		r.fail(at, "here must stand fields, each with a colon", "write "+strings.Join(allowed, ":, ")+":")
		return nil
	}
	prefix := ""
	if at != "" {
		prefix = at + "."
	}
	out := map[string]ast.Node{}
	for _, pair := range pairs {
		name := strings.Trim(pair.Key.String(), `"' `)
		field := prefix + name
		r.place(field, pair.Key)
		if !contains(allowed, name) {
			remedy := "the fields here are " + strings.Join(allowed, ", ")
			if near := shape.Nearest(name, allowed); near != "" {
				remedy = "did you mean " + near + "?"
			}
			if name == "where" || name == "locked" {
				remedy = "take it out: this version keeps all rows of a table equally long"
			}
			r.fail(field, fmt.Sprintf("%q is not a field of a rule here", name), remedy)
			continue
		}
		if _, twice := out[name]; twice {
			r.fail(field, "the field stands twice", "keep one of them")
			continue
		}
		out[name] = pair.Value
		r.place(field, pair.Value)
	}
	return out
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// text returns the text of a scalar field; a missing one is empty, and reported where it is required.
func (r *reader) text(field string, n ast.Node, required bool, remedy string) string {
	if n == nil {
		if required {
			r.fail(field, "the field is missing", remedy)
		}
		return ""
	}
	s := ""
	switch v := n.(type) {
	case *ast.StringNode:
		s = v.Value
	case *ast.LiteralNode:
		s = v.Value.Value
	case *ast.NullNode:
	case ast.ScalarNode:
		s = fmt.Sprint(v.GetValue())
	default:
		r.fail(field, "here must stand one value, not a list or further fields", remedy)
		return ""
	}
	s = strings.TrimSpace(s)
	if s == "" && required {
		r.fail(field, "the field is empty", remedy)
	}
	return s
}

var ruleName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func (r *reader) rule(f map[string]ast.Node) {
	out := &r.doc.Rule
	out.Name = r.text("rule", f["rule"], true, "name the rule, for instance `rule: boarding-scans`")
	if out.Name != "" && !ruleName.MatchString(out.Name) {
		r.fail("rule", fmt.Sprintf("%q is not a name for a rule", out.Name), "use up to 63 small letters, digits and hyphens, a letter or digit first")
	}
	out.About = r.text("about", f["about"], false, "")
	out.Source = r.text("source", f["source"], true, "name the source that holds the table; `ambercellar source list` shows them")
	out.Table = r.text("table", f["table"], true, "name the table; `ambercellar table list SOURCE` shows them")
	r.age(f["age"])
	r.clauses(f["clauses"])
	switch then := Then(r.text("then", f["then"], true, "write `then: archive` or `then: purge`")); then {
	case ThenArchive, ThenPurge, "":
		out.Then = then
	default:
		r.fail("then", fmt.Sprintf("%q is not something to do with due rows", then), "write archive or purge")
	}
	r.archive(f["archive"])
	p, err := pace.Parse(r.text("pace", f["pace"], false, ""))
	if err != nil {
		r.fail("pace", err.Error(), "")
	}
	out.Pace = p
}

func (r *reader) age(n ast.Node) {
	const remedy = "name the column that tells how old a row is, for instance `age: scanned_at`"
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
	default:
		r.doc.Rule.Age.Column = r.text("age", n, true, remedy)
		return
	}
	f := r.mapping("age", n, "column", "unit")
	r.doc.Rule.Age.Column = r.text("age.column", f["column"], true, remedy)
	switch u := Unit(r.text("age.unit", f["unit"], false, "")); u {
	case "", Seconds, Milliseconds, Microseconds:
		r.doc.Rule.Age.Unit = u
	default:
		r.fail("age.unit", fmt.Sprintf("%q is not a unit of time", u), "write seconds, milliseconds or microseconds")
	}
}

func (r *reader) clauses(n ast.Node) {
	const remedy = "write one clause: `clauses:` and below it `- keep: P18M`"
	list, ok := n.(*ast.SequenceNode)
	if !ok || len(list.Values) == 0 {
		if n == nil {
			r.fail("clauses", "the field is missing", remedy)
		} else {
			r.fail("clauses", "here must stand a list of clauses", remedy)
		}
		return
	}
	for i, item := range list.Values {
		at := fmt.Sprintf("clauses[%d]", i)
		r.place(at, item)
		f := r.mapping(at, item, "keep", "align", "otherwise", "about")
		if f == nil {
			continue
		}
		if i > 0 {
			r.fail(at, "a second clause without a condition covers the same rows as the first", "keep the clause with the longest keep and take the others out")
			continue
		}
		r.doc.Rule.Clauses = append(r.doc.Rule.Clauses, r.clause(at, f))
	}
}

func (r *reader) clause(at string, f map[string]ast.Node) Clause {
	var c Clause
	const remedy = "write an ISO 8601 duration like P18M or P90D, or words like \"18 months\""
	if text := r.text(at+".keep", f["keep"], true, remedy); text != "" {
		c.Keep = r.period(at+".keep", text)
	}
	var err error
	if c.Align, err = period.ParseAlign(r.text(at+".align", f["align"], false, "")); err != nil {
		r.fail(at+".align", err.Error(), "")
	}
	switch text := r.text(at+".otherwise", f["otherwise"], false, ""); text {
	case "", "false":
	case "true":
		c.Otherwise = true
	default:
		r.fail(at+".otherwise", fmt.Sprintf("%q is neither true nor false", text), "write `otherwise: true` or leave the field out")
	}
	c.About = r.text(at+".about", f["about"], false, "")
	return c
}

func (r *reader) period(field, text string) period.Period {
	p, err := period.Parse(text)
	switch {
	case err != nil:
		r.fail(field, err.Error(), "")
	case p.Zero():
		r.fail(field, "a keep of zero would make every row due", "write how long rows stay, for instance P18M")
	}
	return p
}

func (r *reader) archive(n ast.Node) {
	then := r.doc.Rule.Then
	if n == nil {
		if then == ThenArchive {
			r.fail("archive", "the rule archives, and does not say where to", "add `archive: {store: cellar}`; `ambercellar store list` shows the stores")
		}
		return
	}
	f := r.mapping("archive", n, "store", "keep")
	if f == nil {
		return
	}
	if then == ThenPurge {
		r.fail("archive", "the rule purges, so nothing goes to an archive", "take archive out, or write `then: archive`")
		return
	}
	r.doc.Rule.Archive.Store = r.text("archive.store", f["store"], true, "name the store; `ambercellar store list` shows them")
	if text := r.text("archive.keep", f["keep"], false, ""); text != "" {
		p := r.period("archive.keep", text)
		r.doc.Rule.Archive.Keep = &p
	}
}
