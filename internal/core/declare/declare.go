// Package declare reads files in which sources, stores, keeps, schedules and rules are declared, so that they can live
// in version control, and says what differs between such a declaration and what is in force.
//
// A file holds YAML documents, separated by lines of three dashes. Those of rules, keeps and schedules are read by
// package rule. The document of a source has the key `source` and none of `rule`, `keep` and `schedule`; that of a
// store has the key `store`.
package declare

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
)

// Kinds of what can be declared, in the order in which they are taken up: a rule needs its source, store, keeps and
// schedule.
const (
	KindStore    = "store"
	KindSource   = "source"
	KindKeep     = "keep"
	KindSchedule = "schedule"
	KindRule     = "rule"
)

// Kinds lists them in that order.
var Kinds = []string{KindStore, KindSource, KindKeep, KindSchedule, KindRule}

// Thing is one declaration.
type Thing struct {
	Kind, Name string
	File       string
	Line       int    // of its name, from 1
	Begins     int    // the line on which Text begins, which may be a comment before
	Text       string // as it stands in the file
	Source     *Source
	Store      *Store
}

// Source is how a source is declared. Passwords are named, never written.
type Source struct {
	Name         string `yaml:"source,omitempty"`
	Engine       string `yaml:"engine,omitempty"`
	Address      string `yaml:"address,omitempty"`
	PasswordEnv  string `yaml:"password_env,omitempty"`
	PasswordFile string `yaml:"password_file,omitempty"`
	TLS          string `yaml:"tls,omitempty"`
	TLSCA        string `yaml:"tls_ca,omitempty"`
	Disk         string `yaml:"disk,omitempty"`
	Origin       string `yaml:"origin,omitempty"`
	Connections  int    `yaml:"connections,omitempty"`
	Guard        *Guard `yaml:"guard,omitempty"` // nil: its guard rails are not declared, and stay as they are
}

// Guard are declared guard rails. Lengths of time are ISO 8601, windows like 22:00-05:00.
type Guard struct {
	Live    string   `yaml:"live,omitempty"`
	Archive string   `yaml:"archive,omitempty"`
	Only    []string `yaml:"only,omitempty"`
	Never   []string `yaml:"never,omitempty"`
	Approve []string `yaml:"approve,omitempty"`
	Window  []string `yaml:"window,omitempty"`
	Zone    string   `yaml:"zone,omitempty"`
}

// Store is how a store is declared: its place once, and what can be changed of it.
type Store struct {
	Name    string            `yaml:"store,omitempty"`
	Path    string            `yaml:"path,omitempty"`
	Bucket  map[string]string `yaml:"bucket,omitempty"` // endpoint, name, prefix, region, … of an object store
	KeyFile string            `yaml:"key_file,omitempty"`
	KeyEnv  string            `yaml:"key_env,omitempty"`
	Second  string            `yaml:"second,omitempty"`
	Scrub   *Scrub            `yaml:"scrub,omitempty"` // nil: as is usual, or as it was
	// the place is a store already, or holds segments, when it is taken up
	Existing bool `yaml:"existing,omitempty"`
}

// Scrub is how the segments of a store are verified again and again.
type Scrub struct {
	Every  string `yaml:"every,omitempty"`
	Rate   int64  `yaml:"rate,omitempty"` // bytes a second
	Window string `yaml:"window,omitempty"`
}

// Form is the declaration as text, in the form in which two are compared.
func (s Source) Form() string { return form(s) }

// Form is the declaration as text, in the form in which two are compared.
func (s Store) Form() string { return form(s) }

func form(v any) string {
	text, err := yaml.MarshalWithOptions(v, yaml.Indent(2), yaml.IndentSequence(true))
	if err != nil {
		return err.Error() // these types are all texts and numbers
	}
	return string(text)
}

var (
	separator = regexp.MustCompile(`(?m)^---[ \t]*(?:#.*)?\r?$`)
	ofRules   = regexp.MustCompile(`(?m)^(?:rule|keep|schedule)[ \t]*:`)
	ofPlaces  = regexp.MustCompile(`(?m)^(source|store)[ \t]*:`)
)

// Parse reads one file. It returns what could be read, and every mistake with its place.
func Parse(file string, text []byte) (things []Thing, problems []rule.Problem) {
	if len(text) > rule.MaxFile {
		_, problems = rule.Parse(file, text)
		return nil, problems
	}
	rest := slices.Clone(text) // what package rule reads: the documents of sources and stores are blank there
	any := false
	at, line := 0, 0
	for _, cut := range append(separator.FindAllIndex(text, -1), []int{len(text), len(text)}) {
		part := text[at:cut[0]]
		if kind := ofPlaces.FindSubmatch(part); kind != nil && !ofRules.Match(part) {
			t, found := place(file, string(part), string(kind[1]), line)
			if things, problems = append(things, t), append(problems, found...); t.Name == "" {
				things = things[:len(things)-1]
			}
			blank(rest[at:cut[0]])
		} else if strings.TrimSpace(string(part)) != "" {
			any = true
		}
		line += strings.Count(string(text[at:cut[1]]), "\n")
		at = cut[1]
	}
	if !any && len(things)+len(problems) > 0 {
		return things, problems
	}
	docs, found := rule.Parse(file, rest)
	for i := range docs {
		kind, name := docs[i].Named()
		t := Thing{Kind: kind, Name: name, File: file, Line: docs[i].At(kind, "", "").Line, Text: docs[i].Text}
		if t.Begins = t.Line; ofRules.MatchString(t.Text) {
			t.Begins -= strings.Count(t.Text[:ofRules.FindStringIndex(t.Text)[0]], "\n")
		}
		things = append(things, t)
	}
	return things, append(problems, found...)
}

// blank leaves the line ends of a text and nothing else.
func blank(text []byte) {
	for i, c := range text {
		if c != '\n' {
			text[i] = ' '
		}
	}
}

// place reads the document of a source or a store that begins after some lines.
func place(file, text, kind string, lines int) (Thing, []rule.Problem) {
	t := Thing{Kind: kind, File: file, Text: strings.Trim(text, "\r\n") + "\n"}
	t.Line = lines + 1 + strings.Count(text[:ofPlaces.FindStringIndex(text)[0]], "\n")
	var err error
	if kind == KindSource {
		t.Source = &Source{}
		err = decode(text, t.Source)
		t.Name = t.Source.Name
	} else {
		t.Store = &Store{}
		err = decode(text, t.Store)
		t.Name = t.Store.Name
	}
	p := rule.Problem{File: file, Line: t.Line, Column: 1, Field: kind}
	var where yaml.Error
	switch {
	case err == nil && t.Name == "":
		p.Message, p.Remedy = "the name is missing", "write `"+kind+": NAME`"
	case err == nil:
		return t, nil
	case errors.As(err, &where):
		p.Message, p.Remedy = plainly(where.GetMessage()), remedy(where.GetMessage(), kind)
		if tok := where.GetToken(); tok != nil && tok.Position != nil {
			p.Line, p.Column = lines+tok.Position.Line, tok.Position.Column
		}
	default:
		p.Message, p.Remedy = strings.SplitN(err.Error(), "\n", 2)[0], "docs/declared.md shows the form"
	}
	t.Name = ""
	return t, []rule.Problem{p}
}

// decode reads YAML whose keys are all known. The library panics on some malformed input.
func decode(text string, into any) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = errors.New("this is not YAML that can be read")
		}
	}()
	return yaml.UnmarshalWithOptions([]byte(text), into, yaml.Strict())
}

var (
	unknown = regexp.MustCompile(`unknown field "([^"]*)"`)
	fields  = map[string][]string{
		KindSource: {"source", "engine", "address", "password_env", "password_file", "tls", "tls_ca", "disk", "origin",
			"connections", "guard", "live", "archive", "only", "never", "approve", "window", "zone"},
		KindStore: {"store", "path", "bucket", "key_file", "key_env", "second", "scrub", "every", "rate", "window",
			"existing"},
	}
)

// mistyped is how the library says that something has another type than is wanted.
var mistyped = regexp.MustCompile(`^cannot unmarshal .* of type ([\w\[\].]+)`)

func plainly(message string) string {
	m := mistyped.FindStringSubmatch(message)
	if m == nil {
		return message
	}
	switch m[1] {
	case "string":
		return "a text is wanted here"
	case "int", "int64":
		return "a whole number is wanted here"
	case "[]string":
		return "a list of texts is wanted here"
	}
	return "a mapping is wanted here"
}

func remedy(message, kind string) string {
	if m := unknown.FindStringSubmatch(message); m != nil {
		if near := shape.Nearest(m[1], fields[kind]); near != "" {
			return "did you mean " + near + "?"
		}
		return "the fields of a " + kind + " are " + strings.Join(fields[kind], ", ")
	}
	return "docs/declared.md shows the form"
}

// Repeated finds what is declared more than once, in whatever files.
func Repeated(things []Thing) (problems []rule.Problem) {
	first := map[[2]string]*Thing{}
	for i := range things {
		t := &things[i]
		before := first[[2]string{t.Kind, t.Name}]
		if before == nil {
			first[[2]string{t.Kind, t.Name}] = t
			continue
		}
		problems = append(problems, rule.Problem{File: t.File, Line: t.Line, Column: 1, Field: t.Kind,
			Message: fmt.Sprintf("%s %s is declared in %s, line %d, already", t.Kind, t.Name, before.File,
				before.Line), Remedy: "declare it once"})
	}
	return problems
}

// Standing is how a declaration and what is in force stand to each other.
type Standing string

// Standings of what is declared, or was.
const (
	DeclaredSame     Standing = "same"       // what is declared is in force
	DeclaredNew      Standing = "new"        // it is not in force yet
	DeclaredNewer    Standing = "newer"      // its file was changed since it was taken up
	DeclaredChanged  Standing = "changed"    // what is in force was changed by somebody since
	DeclaredConflict Standing = "conflict"   // both were changed
	DeclaredGone     Standing = "gone"       // its declaration is gone; what it said is in force
	Undeclared       Standing = "undeclared" // it is in force, and was never declared
)

// Drifts says whether somebody has to decide: what is declared is not what is in force, and taking it up by itself
// would undo what somebody did.
func (s Standing) Drifts() bool { return s == DeclaredChanged || s == DeclaredConflict }

// Compare says how a thing stands. file and force are what is declared and what is in force, in one form; taken is what
// was last taken up. Empty: there is none.
func Compare(file, force, taken string) Standing {
	switch {
	case file == "" && taken != "":
		return DeclaredGone
	case file == "":
		return Undeclared
	case force == "":
		return DeclaredNew
	case file == force:
		return DeclaredSame
	case taken == "":
		return DeclaredConflict // it was in force before it was declared, and says something else
	case force == taken:
		return DeclaredNewer
	case file == taken:
		return DeclaredChanged
	}
	return DeclaredConflict
}
