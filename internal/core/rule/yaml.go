package rule

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones must not depend on the machine

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

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
	Excerpt string `json:"excerpt,omitempty"` // of a filter, with a caret under the place
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
	if p.Excerpt != "" {
		b.WriteString("\n" + p.Excerpt)
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

// Document is one rule, named keep or named schedule of a file, with its text and the place of each field.
type Document struct {
	Rule     Rule
	Keep     *Named         // set where the document defines a keep, and no rule
	Schedule *NamedSchedule // set where it defines a schedule, and no rule
	Text     string         // as it stands in the file
	file     string
	places   map[string][2]int // field → line, column in the file
}

// Named returns what the document is (rule, keep or schedule) and its name.
func (d *Document) Named() (kind, name string) {
	switch {
	case d.Keep != nil:
		return "keep", d.Keep.Name
	case d.Schedule != nil:
		return "schedule", d.Schedule.Name
	}
	return "rule", d.Rule.Name
}

// MaxFile is the largest file of rules in bytes.
const MaxFile = 1 << 20

var separator = regexp.MustCompile(`(?m)^---[ \t]*(?:#.*)?\r?$`)

// Parse reads a file of one or several rules, named keeps and schedules, separated by lines of three dashes. It returns
// what could be read and every mistake in it.
func Parse(file string, text []byte) ([]Document, []Problem) {
	if len(text) > MaxFile {
		return nil, []Problem{{File: file, Message: fmt.Sprintf("the file has %d bytes; the most is %d", len(text),
			MaxFile), Remedy: "split it into several files"}}
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
		problems = append(problems, Problem{File: file, Message: "the file holds no rule",
			Remedy: "a rule begins with `rule: NAME`; docs/rules.md shows one"})
	}
	first := map[string]int{}
	for _, d := range docs {
		kind, name := d.Named()
		if before, ok := first[kind+name]; ok && name != "" {
			problems = append(problems, d.problem(kind, fmt.Sprintf("the name %q stands on line %d already", name,
				before), "give each "+kind+" its own name"))
		} else {
			first[kind+name] = d.places[kind][0]
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
	for _, start := range []string{"rule", "keep", "schedule"} {
		if place[0] == 0 {
			place = d.places[start]
		}
	}
	return Problem{File: d.file, Line: place[0], Column: place[1], Rule: d.Rule.Name, Field: field, Message: message,
		Remedy: remedy}
}

// parseTree reads YAML. The library panics on some malformed input; what we make of its tree does not.
func parseTree(text string) (tree *ast.File, err error) {
	defer func() {
		if r := recover(); r != nil {
			tree, err = nil, errUnreadable
		}
	}()
	return parser.ParseBytes([]byte(text), 0)
}

var errUnreadable = errors.New("this is not YAML that can be read")

func parseOne(file, text string, lines int) (doc *Document, problems []Problem) {
	tree, err := parseTree(text)
	if errors.Is(err, errUnreadable) {
		return nil, []Problem{{File: file, Line: lines + 1, Column: 1, Message: err.Error(),
			Remedy: "compare it with the example in docs/rules.md"}}
	}
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
	r := &reader{doc: Document{Text: strings.Trim(text, "\r\n") + "\n", file: file, places: map[string][2]int{}},
		lines: lines}
	r.place("", body)
	switch firstField(body) {
	case "keep":
		if fields := r.mapping("", body, "keep", "period", "about"); fields != nil {
			r.definition(fields)
		}
		return &r.doc, r.problems
	case "schedule":
		if fields := r.mapping("", body, "schedule", "when", "from", "zone", "missed", "about"); fields != nil {
			r.namedSchedule(fields)
		}
		return &r.doc, r.problems
	}
	fields := r.mapping("", body, "rule", "about", "enabled", "source", "table", "age", "zone", "modified", "joins",
		"related", "include", "copy", "clauses", "then", "delete_after", "archive", "omit", "mask", "confirm", "pace",
		"window", "budget", "log", "limits", "partitions", "schedule", "limit", "requires", "before", "after")
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
		name := keyText(pair.Key)
		field := prefix + name
		r.place(field, pair.Key)
		if !contains(allowed, name) {
			remedy := "the fields here are " + strings.Join(allowed, ", ")
			if near := shape.Nearest(name, allowed); near != "" {
				remedy = "did you mean " + near + "?"
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

// keyText is the name of a field, without the quotes that it may stand in.
func keyText(k ast.MapKeyNode) string {
	if s, ok := k.(*ast.StringNode); ok {
		return s.Value
	}
	return strings.Trim(k.String(), `"' `)
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

// firstField is the name of a document's first field, which says what it is.
func firstField(body ast.Node) string {
	var pairs []*ast.MappingValueNode
	switch m := body.(type) {
	case *ast.MappingNode:
		pairs = m.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{m}
	}
	if len(pairs) == 0 {
		return ""
	}
	return pairs[0].Key.String()
}

func (r *reader) definition(f map[string]ast.Node) {
	n := &Named{}
	r.doc.Keep = n
	n.Name = r.text("keep", f["keep"], true, "name the keep, for instance `keep: ticket-disputes`")
	if n.Name != "" && !ruleName.MatchString(n.Name) || n.Name == "forever" || n.Name == "none" {
		r.fail("keep", fmt.Sprintf("%q is not a name for a keep", n.Name),
			"use up to 63 small letters, digits and hyphens, a letter or digit first, and neither forever nor none")
	} else if _, err := period.Parse(n.Name); err == nil {
		r.fail("keep", fmt.Sprintf("%q is a length of time and cannot be a name", n.Name),
			"give the keep another name")
	}
	n.About = r.text("about", f["about"], true,
		"say why records are kept so long; it is shown wherever the keep is used")
	switch text := r.text("period", f["period"], true, keepRemedy); text {
	case "":
	case "forever":
		n.Forever = true
	default:
		n.Period = r.period("period", text)
	}
}

func (r *reader) rule(f map[string]ast.Node) {
	out := &r.doc.Rule
	out.Name = r.text("rule", f["rule"], true, "name the rule, for instance `rule: boarding-scans`")
	if out.Name != "" && !ruleName.MatchString(out.Name) {
		r.fail("rule", fmt.Sprintf("%q is not a name for a rule", out.Name),
			"use up to 63 small letters, digits and hyphens, a letter or digit first")
	}
	out.About = r.text("about", f["about"], false, "")
	out.Off = !r.flag("enabled", f["enabled"], true)
	out.Source = r.text("source", f["source"], true,
		"name the source that holds the table; `ambercellar source list` shows them")
	out.Table = r.text("table", f["table"], true, "name the table; `ambercellar table list SOURCE` shows them")
	out.Zone = r.text("zone", f["zone"], false, "")
	if _, err := time.LoadLocation(out.Zone); err != nil || out.Zone == "Local" {
		r.fail("zone", fmt.Sprintf("%q is no zone", out.Zone), "write an IANA name like Europe/Athens, or UTC")
		out.Zone = ""
	}
	r.age(f["age"])
	out.Age.Zone = out.Zone
	out.Modified = r.text("modified", f["modified"], false, "")
	out.Then = r.then("then", f["then"], true)
	out.DeleteAfter = r.someTime("delete_after", f["delete_after"])
	r.archive(f["archive"])
	out.Omit = r.list("omit", f["omit"])
	out.Mask = r.mask("mask", f["mask"])
	out.Confirm = r.text("confirm", f["confirm"], false, "")
	r.joins(f["joins"])
	out.Related = r.related("related", f["related"], 1)
	out.Include, out.Copy = r.list("include", f["include"]), r.list("copy", f["copy"])
	if join, column, ok := strings.Cut(out.Age.Column, "."); ok {
		if _, declared := out.Joins[join]; declared {
			out.Age.Join, out.Age.Column = join, column
		}
	}
	r.clauses(f["clauses"])
	r.agree()
	out.Pace, out.Bound = r.pace(f["pace"])
	r.hours(f)
	out.Schedule, out.Limit = r.schedule(f["schedule"]), r.limit(f["limit"])
	out.Requires = r.requires(f["requires"])
	out.Before, out.After = r.steps("before", f["before"]), r.steps("after", f["after"])
}

func (r *reader) then(field string, n ast.Node, required bool) Then {
	then := Then(r.text(field, n, required, "write archive, copy or purge"))
	switch then {
	case ThenArchive, ThenCopy, ThenPurge, "":
		return then
	}
	r.fail(field, fmt.Sprintf("%q is not something to do with due rows", then), "write archive, copy or purge")
	return ""
}

func (r *reader) flag(field string, n ast.Node, otherwise bool) bool {
	switch text := r.text(field, n, false, ""); text {
	case "":
		return otherwise
	case "true", "false":
		return text == "true"
	default:
		r.fail(field, fmt.Sprintf("%q is neither true nor false", text),
			fmt.Sprintf("write `%s: true` or leave the field out", field[strings.LastIndexByte(field, '.')+1:]))
		return otherwise
	}
}

// list reads a list of names; one name may stand alone.
func (r *reader) list(field string, n ast.Node) []string {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		if text := r.text(field, n, false, "write a list like [a, b]"); text != "" {
			return []string{text}
		}
		return nil
	}
	out := []string{}
	for i, item := range list.Values {
		at := fmt.Sprintf("%s[%d]", field, i)
		r.place(at, item)
		if text := r.text(at, item, true, "write a name"); text != "" {
			out = append(out, text)
		}
	}
	return out
}

// pairs returns the fields of a mapping whose names are free.
func (r *reader) pairs(field string, n ast.Node, message, remedy string) []*ast.MappingValueNode {
	switch m := n.(type) {
	case nil:
	case *ast.MappingNode:
		return m.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}
	default:
		r.fail(field, message, remedy)
	}
	return nil
}

func (r *reader) joins(n ast.Node) {
	const remedy = "write `joins: {booking: {table: booking, on: {booking_id: id}}}`"
	for _, pair := range r.pairs("joins", n, "here must stand joins, each with its name", remedy) {
		name := keyText(pair.Key)
		at := "joins." + name
		r.place(at, pair.Key)
		if !ruleName.MatchString(strings.ReplaceAll(name, "_", "-")) {
			r.fail(at, fmt.Sprintf("%q is not a name for a join", name),
				"use up to 63 small letters, digits, hyphens and underscores")
			continue
		}
		f := r.mapping(at, pair.Value, "table", "on")
		j := Join{Table: r.text(at+".table", f["table"], true, "name the other table"), On: map[string]string{}}
		for _, on := range r.pairs(at+".on", f["on"],
			"here must stand columns of this table, each with the other table's", remedy) {
			ours := keyText(on.Key)
			r.place(at+".on."+ours, on.Key)
			j.On[ours] = r.text(at+".on."+ours, on.Value, true, "name the other table's column")
		}
		if len(j.On) == 0 && f != nil {
			r.fail(at+".on", "it is not said which columns are equal", remedy)
		}
		if r.doc.Rule.Joins == nil {
			r.doc.Rule.Joins = map[string]Join{}
		}
		r.doc.Rule.Joins[name] = j
	}
}

func (r *reader) mask(field string, n ast.Node) map[string]Mask {
	pairs := r.pairs(field, n, "here must stand columns, each with its mask",
		"write `mask: {name: blank, card: last4}`")
	if pairs == nil {
		return nil
	}
	out := map[string]Mask{}
	for _, pair := range pairs {
		column := keyText(pair.Key)
		at := field + "." + column
		r.place(at, pair.Key)
		switch m := Mask(r.text(at, pair.Value, true, "write blank, hash, year or last4")); m {
		case MaskBlank, MaskHash, MaskYear, MaskLast4, "":
			out[column] = m
		default:
			r.fail(at, fmt.Sprintf("%q is not a mask", m), "write blank, hash, year or last4")
		}
	}
	return out
}

// someTime reads a length of time that may be left out.
func (r *reader) someTime(field string, n ast.Node) *period.Period {
	text := r.text(field, n, false, "")
	if text == "" {
		return nil
	}
	p := r.period(field, text)
	return &p
}

func (r *reader) age(n ast.Node) {
	const remedy = "name the column that tells how old a row is, for instance `age: scanned_at`"
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
	default:
		r.doc.Rule.Age.Column = r.text("age", n, true, remedy)
		return
	}
	f := r.mapping("age", n, "column", "unit", "never")
	r.doc.Rule.Age.Column = r.text("age.column", f["column"], true, remedy)
	switch u := Unit(r.text("age.unit", f["unit"], false, "")); u {
	case "", Seconds, Milliseconds, Microseconds:
		r.doc.Rule.Age.Unit = u
	default:
		r.fail("age.unit", fmt.Sprintf("%q is not a unit of time", u), "write seconds, milliseconds or microseconds")
	}
	r.doc.Rule.Age.Never = r.list("age.never", f["never"])
}

// maxClauses bounds the clauses of a rule, and with them the length of the statements made of it.
const maxClauses = 50

func (r *reader) clauses(n ast.Node) {
	const remedy = "write at least one clause: `clauses:` and below it `- keep: P18M`"
	list, ok := n.(*ast.SequenceNode)
	if !ok || len(list.Values) == 0 {
		if n == nil {
			r.fail("clauses", "the field is missing", remedy)
		} else {
			r.fail("clauses", "here must stand a list of clauses", remedy)
		}
		return
	}
	if len(list.Values) > maxClauses {
		r.fail("clauses", fmt.Sprintf("there are %d clauses; the most is %d", len(list.Values), maxClauses),
			"join conditions with OR")
		return
	}
	for i, item := range list.Values {
		at := fmt.Sprintf("clauses[%d]", i)
		r.place(at, item)
		f := r.mapping(at, item, "where", "keep", "before", "newest", "align", "otherwise", "enabled", "locked",
			"about", "then", "delete_after", "archive", "omit", "mask")
		r.doc.Rule.Clauses = append(r.doc.Rule.Clauses, r.clause(at, f))
	}
}

const keepRemedy = "write an ISO 8601 duration like P18M or P90D, words like \"18 months\", or forever"

func (r *reader) clause(at string, f map[string]ast.Node) Clause {
	c := Clause{Where: r.text(at+".where", f["where"], false, ""), Locked: r.text(at+".locked", f["locked"], false,
		""), About: r.text(at+".about", f["about"], false, ""),
		Off: !r.flag(at+".enabled", f["enabled"], true), Otherwise: r.flag(at+".otherwise", f["otherwise"], false)}
	if _, stands := f["where"]; stands && c.Where == "" {
		r.fail(at+".where", "the condition is empty", "write one like outcome = 'refused', or leave where out")
	}
	r.keep(at, f, &c)
	var err error
	if c.Align, err = period.ParseAlign(r.text(at+".align", f["align"], false, "")); err != nil {
		r.fail(at+".align", err.Error(), "")
	}
	c.Then = r.then(at+".then", f["then"], false)
	c.DeleteAfter = r.someTime(at+".delete_after", f["delete_after"])
	if n := f["archive"]; n != nil {
		c.Archive = r.archiveFields(at+".archive", n, false)
	}
	c.Omit = r.list(at+".omit", f["omit"])
	c.Mask = r.mask(at+".mask", f["mask"])
	return c
}

var newestForm = regexp.MustCompile(`^(\d+)(?:\s+partitions?)?$`)

// keep reads the one of keep, before and newest that stands.
func (r *reader) keep(at string, f map[string]ast.Node, c *Clause) {
	stand := []string{}
	for _, name := range []string{"keep", "before", "newest"} {
		if f[name] != nil {
			stand = append(stand, name)
		}
	}
	if len(stand) != 1 {
		field, message := at+".keep", "the field is missing"
		if len(stand) > 1 {
			message = "the clause says twice how long rows stay (" + strings.Join(stand, ", ") + ")"
		}
		r.fail(field, message, keepRemedy+"; or `before: 2024-01-01`, or `newest: 6 partitions`")
		return
	}
	text := r.text(at+"."+stand[0], f[stand[0]], true, keepRemedy)
	switch {
	case text == "":
	case stand[0] == "before":
		m, err := parseMoment(text)
		if err != nil {
			r.fail(at+".before", err.Error(), "")
		}
		c.Keep.Before = &m
	case stand[0] == "newest":
		m := newestForm.FindStringSubmatch(text)
		if m != nil {
			c.Keep.Newest, _ = strconv.Atoi(m[1])
		}
		if c.Keep.Newest < 1 {
			r.fail(at+".newest", fmt.Sprintf("%q is no number of partitions", text), "write `newest: 6 partitions`")
		}
	case text == "forever":
		c.Keep.Forever = true
	case text == "none":
		c.Keep.None = true
	default:
		p, err := period.Parse(text)
		if err != nil && ruleName.MatchString(text) && strings.ContainsAny(text, "abcdefghijklmnopqrstuvwxyz") {
			c.Keep.Name = text
			return
		}
		if err == nil {
			p = r.period(at+".keep", text)
		} else {
			r.fail(at+".keep", err.Error(), "")
		}
		c.Keep.Period = p
	}
}

func (r *reader) period(field, text string) period.Period {
	p, err := period.Parse(text)
	switch {
	case err != nil:
		r.fail(field, err.Error(), "")
	case p.Zero():
		r.fail(field, "a keep of zero would make every row due",
			"write how long rows stay, for instance P18M; `keep: none` empties a table")
	}
	return p
}

func (r *reader) archive(n ast.Node) {
	if n == nil {
		return
	}
	if a := r.archiveFields("archive", n, true); a != nil {
		r.doc.Rule.Archive = *a
	}
}

func (r *reader) archiveFields(field string, n ast.Node, whole bool) *Archive {
	f := r.mapping(field, n, "store", "keep", "from", "second", "cold_store", "cold_after")
	if f == nil {
		return nil
	}
	a := &Archive{Store: r.text(field+".store", f["store"], whole,
		"name the store; `ambercellar store list` shows them")}
	a.Keep = r.someTime(field+".keep", f["keep"])
	if n := f["from"]; n != nil {
		a.From = KeepFrom(r.text(field+".from", n, true, "write archived or age"))
		if a.From != FromArchived && a.From != FromAge && a.From != "" {
			r.fail(field+".from", fmt.Sprintf("%q is nothing that the keep of a segment can count from", a.From),
				"write archived or age")
		}
	}
	if n := f["second"]; n != nil {
		a.Second = r.text(field+".second", n, true, "name the store for second copies")
	}
	if n := f["cold_store"]; n != nil {
		a.ColdStore = r.text(field+".cold_store", n, true, "name the store to which segments move")
	}
	a.ColdAfter = r.someTime(field+".cold_after", f["cold_after"])
	return a
}

// agree checks what the fields of a rule say about each other.
func (r *reader) agree() {
	out := &r.doc.Rule
	copies, others, on := false, 0, 0
	same := map[string]int{}
	for i := range out.Clauses {
		c, at := out.Clauses[i], fmt.Sprintf("clauses[%d]", i)
		copies = copies || out.Effective(i).Then.Copies()
		r.agreeClause(i)
		if c.Off {
			continue
		}
		on++
		if c.Otherwise {
			others++
		}
		key := fmt.Sprint(c.Where, "\x00", c.Otherwise)
		if before, twice := same[key]; twice && others < 2 {
			r.fail(at, fmt.Sprintf("the clause is for the same rows as clause %d", before+1),
				"keep the clause with the longest keep and take the other out")
		}
		same[key] = i
	}
	switch {
	case others > 1:
		r.fail("clauses", fmt.Sprintf("%d clauses have `otherwise: true`, and there is one set of other rows", others),
			"keep one of them")
	case on == 0 && len(out.Clauses) > 0:
		r.fail("clauses", "no clause is enabled", "enable one, or write `enabled: false` for the rule")
	}
	for _, x := range out.Relations() {
		copies = copies || x.Then == ThenArchive
	}
	if len(out.Clauses) > 0 && !copies && out.Archive.Store != "" {
		r.fail("archive", "the rule purges, so nothing goes to an archive",
			"take archive out, or write `then: archive`")
	}
	if out.DeleteAfter != nil && out.Then != ThenCopy {
		r.fail("delete_after", "only rows that are copied first are deleted later",
			"write `then: copy`, or take delete_after out")
	}
}

// agreeClause checks what the fields of a clause say about each other, and about the rule's.
func (r *reader) agreeClause(i int) {
	out := &r.doc.Rule
	c, e, at := out.Clauses[i], out.Effective(i), fmt.Sprintf("clauses[%d]", i)
	if e.Then.Copies() && e.Archive.Store == "" {
		field := "archive"
		if c.Then != "" {
			field = at + ".archive"
		}
		r.fail(field, "the rows are copied, and it is not said where to",
			"add `archive: {store: cellar}`; `ambercellar store list` shows the stores")
	}
	if a := e.Archive; e.Then.Copies() && (a.ColdStore == "") != (a.ColdAfter == nil) {
		field := "archive"
		if c.Archive != nil && (c.Archive.ColdStore != "" || c.Archive.ColdAfter != nil) {
			field = at + ".archive"
		}
		r.fail(field, "cold_store and cold_after go together",
			"write both, like `cold_store: vault, cold_after: P90D`, or neither")
	}
	if e.Then == ThenPurge && c.Archive != nil {
		r.fail(at+".archive", "the clause purges, so nothing goes to an archive",
			"take archive out, or write `then: archive`")
	}
	if c.DeleteAfter != nil && e.Then != ThenCopy {
		r.fail(at+".delete_after", "only rows that are copied first are deleted later",
			"write `then: copy`, or take delete_after out")
	}
	if e.Then == ThenCopy && (len(e.Omit) > 0 || len(e.Mask) > 0) {
		r.fail(at, "copied rows are compared with live ones before they are deleted later, which needs all "+
			"their columns", "write `then: archive`, or take omit and mask out")
	}
	if c.Keep.None {
		if e.Then != ThenPurge {
			r.fail(at+".keep", "`keep: none` empties a table, and stands only with `then: purge`",
				"write a keep, or `then: purge`")
		} else if want := "empty " + out.Table; out.Confirm != want {
			r.fail("confirm", "the rule empties the table, which has to be confirmed in words", "add `confirm: "+
				want+"`")
		}
	}
	if c.Otherwise && c.Where != "" {
		r.fail(at+".where", "`otherwise: true` is for the rows that no other clause matches, and needs no "+
			"condition", "take one of the two out")
	}
}
