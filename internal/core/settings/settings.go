// Package settings reads how the service is to be run: from flags, environment variables and a file in YAML, in that
// order, and otherwise as is usual. Each setting has one name in all of them. All faults are told at once, each with
// its place.
package settings

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
)

// Prefix is what the names of environment variables begin with that hold settings: `AMBERCELLAR_MAIL_FROM` is
// `mail-from`.
const Prefix = "AMBERCELLAR_"

// Setting is one setting of the service.
type Setting struct {
	Name  string // of the flag, and of the key in the file
	About string
	Usual string
	List  bool // several texts, with commas between
	Truth bool // true or false
	// it can be changed while the service runs
	Changes bool
	Check   func(string) error // what is wrong with a value; nil: none is
}

// Variable is the environment variable of the setting.
func (s *Setting) Variable() string {
	return Prefix + strings.ToUpper(strings.ReplaceAll(s.Name, "-", "_"))
}

// InForce is what a setting is, and where that was said.
type InForce struct {
	Name    string `json:"name"`
	Text    string `json:"value"`
	From    string `json:"from"` // "usual", a flag, a variable, or a place in the file
	Changes bool   `json:"changes"`
	About   string `json:"about"`
}

// Given is all that was said.
type Given struct {
	File    string            // its name; empty: there is none
	Text    []byte            // what it holds
	Environ []string          // NAME=VALUE
	Flags   map[string]string // that were given
}

// Values are the settings as they are in force.
type Values map[string]InForce

// Text returns a setting.
func (v Values) Text(name string) string { return v[name].Text }

// Truth says whether a setting is true.
func (v Values) Truth(name string) bool { return v[name].Text == "true" }

// List returns the texts of a setting.
func (v Values) List(name string) []string { return Texts(v[name].Text) }

// Texts are the texts of a setting that has several, with commas between.
func Texts(text string) []string {
	var out []string
	for _, s := range strings.Split(text, ",") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

// Usual is where a value is from that nobody gave.
const Usual = "usual"

// Read puts together what was said. Problems that are no warnings keep the service from starting.
func Read(all []Setting, g Given) (Values, []rule.Problem) {
	r := &reading{all: all, out: Values{}}
	for i := range all {
		s := &all[i]
		r.out[s.Name] = InForce{Name: s.Name, Text: s.Usual, From: Usual, Changes: s.Changes, About: s.About}
	}
	if g.File != "" {
		r.file(g.File, g.Text)
	}
	r.environ(g.Environ)
	for name, text := range g.Flags {
		if s := r.setting(name); s != nil {
			if was := r.out[name]; strings.HasPrefix(was.From, Prefix) && was.Text != text {
				r.warn(
					rule.Problem{
						Field: name,
						Message: fmt.Sprintf("the flag -%s says %q, and %s says %q: the flag holds",
							name, text, was.From, was.Text),
					},
				)
			}
			r.set(s, text, "-"+name, rule.Problem{})
		}
	}
	slices.SortStableFunc(r.problems, func(a, b rule.Problem) int { return a.Line - b.Line })
	return r.out, r.problems
}

type reading struct {
	all      []Setting
	out      Values
	problems []rule.Problem
}

func (r *reading) setting(name string) *Setting {
	i := slices.IndexFunc(r.all, func(s Setting) bool { return s.Name == name })
	if i < 0 {
		return nil
	}
	return &r.all[i]
}

func (r *reading) names() []string {
	out := make([]string, len(r.all))
	for i, s := range r.all {
		out[i] = s.Name
	}
	return out
}

func (r *reading) fail(p rule.Problem) { r.problems = append(r.problems, p) }

func (r *reading) warn(p rule.Problem) {
	p.Warning = true
	r.fail(p)
}

// set takes a value over if it can be one.
func (r *reading) set(s *Setting, text, from string, at rule.Problem) {
	at.Field = s.Name
	var err error
	if s.Truth {
		var b bool
		if b, err = strconv.ParseBool(text); err != nil {
			err = fmt.Errorf("%q is neither true nor false", text)
		}
		text = strconv.FormatBool(b)
	}
	if err == nil && s.Check != nil {
		err = s.Check(text)
	}
	if err != nil {
		at.Message = err.Error()
		if at.File == "" {
			at.Message = "(" + from + ") " + at.Message
		}
		r.fail(at)
		return
	}
	v := r.out[s.Name]
	v.Text, v.From = text, from
	r.out[s.Name] = v
}

// client are variables that are not the service's.
var client = []string{"SERVER", "TOKEN", "CONFIG", "PROFILE"}

// secrets is what the names of variables begin with that hold secrets.
const secrets = Prefix + "SECRET_"

func (r *reading) environ(environ []string) {
	for _, line := range environ {
		variable, text, _ := strings.Cut(line, "=")
		short, ours := strings.CutPrefix(variable, Prefix)
		if !ours || slices.Contains(client, short) {
			continue
		}
		name := strings.ToLower(strings.ReplaceAll(short, "_", "-"))
		if s := r.setting(name); s != nil && s.Variable() == variable {
			r.set(s, text, variable, rule.Problem{})
			continue
		}
		if strings.HasPrefix(variable, secrets) {
			continue
		}
		p := rule.Problem{
			Message: fmt.Sprintf("the environment variable %s is no setting, and is passed over", variable),
		}
		if near := shape.Nearest(name, r.names()); near != "" {
			p.Remedy = "did you mean " + (&Setting{Name: near}).Variable() + "?"
		}
		r.warn(p)
	}
}

// file reads a file of settings: keys and values, lists as such or with commas between.
func (r *reading) file(name string, text []byte) {
	parsed, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		p := rule.Problem{File: name, Message: "the file is no YAML"}
		var syntax yaml.Error
		if errors.As(err, &syntax) {
			at := syntax.GetToken().Position
			p.Line, p.Column, p.Message = at.Line, at.Column, p.Message+": "+syntax.GetMessage()
		}
		r.fail(p)
		return
	}
	seen := map[string]int{}
	for _, doc := range parsed.Docs {
		if doc.Body == nil || doc.Body.Type() == ast.NullType || doc.Body.Type() == ast.CommentType {
			continue
		}
		var pairs []*ast.MappingValueNode
		switch n := doc.Body.(type) {
		case *ast.MappingNode:
			pairs = n.Values
		case *ast.MappingValueNode:
			pairs = []*ast.MappingValueNode{n}
		default:
			at := doc.Body.GetToken().Position
			r.fail(rule.Problem{File: name, Line: at.Line, Column: at.Column, Message: "the file holds no settings",
				Remedy: "write `listen: 127.0.0.1:7420`, a setting a line"})
			continue
		}
		for _, pair := range pairs {
			r.pair(name, pair, seen)
		}
	}
}

func (r *reading) pair(file string, pair *ast.MappingValueNode, seen map[string]int) {
	at := pair.Key.GetToken().Position
	p := rule.Problem{File: file, Line: at.Line, Column: at.Column}
	key := pair.Key.String()
	s := r.setting(key)
	if s == nil {
		p.Message, p.Remedy = fmt.Sprintf("%q is no setting", key), "`ambercellar config check -h` lists them"
		if near := shape.Nearest(key, r.names()); near != "" {
			p.Remedy = "did you mean " + near + "?"
		}
		r.fail(p)
		return
	}
	if line := seen[key]; line > 0 {
		p.Field, p.Message = key, fmt.Sprintf("it is set in line %d already", line)
		r.fail(p)
		return
	}
	seen[key] = at.Line
	texts, err := scalars(pair.Value, s.List)
	if err != nil {
		p.Field, p.Message = key, err.Error()
		r.fail(p)
		return
	}
	r.set(s, strings.Join(texts, ","), fmt.Sprintf("%s:%d", file, at.Line), p)
}

// scalars are the texts of a value: one, or several where a list is allowed.
func scalars(n ast.Node, list bool) (out []string, err error) {
	if tag, ok := n.(*ast.AnchorNode); ok {
		n = tag.Value
	}
	if seq, ok := n.(*ast.SequenceNode); ok {
		if !list {
			return nil, errors.New("a list stands where one value is wanted")
		}
		for _, item := range seq.Values {
			one, err := scalars(item, false)
			if err != nil {
				return nil, err
			}
			if strings.Contains(one[0], ",") {
				return nil, fmt.Errorf("%q holds a comma, which parts the items of a list", one[0])
			}
			out = append(out, one[0])
		}
		return out, nil
	}
	scalar, ok := n.(ast.ScalarNode)
	if !ok {
		return nil, errors.New("a value is wanted, not keys and values")
	}
	switch v := scalar.GetValue().(type) {
	case nil:
		return []string{""}, nil
	case string:
		return []string{v}, nil
	default:
		return []string{scalar.GetToken().Value}, nil // as it is written
	}
}
