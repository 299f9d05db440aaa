package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/declare"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
)

// Declarations are sources, stores, keeps, schedules and rules that stand in files of a directory. What somebody
// changes in the service is never undone by them unasked.
type Declarations struct {
	*base
	places *Places
	queue  *Queue

	taking sync.Mutex // it is taken up once at a time, which may take long: sources may not answer

	mu     sync.Mutex
	dir    string         // empty: nothing is declared
	failed []rule.Problem // of what was to be taken up last
	lately *Declared      // as it was compared last
	at     time.Time      // when that was
}

// readEvery is how old a comparison may be for those who look again and again.
const readEvery = time.Minute

// byFiles is who takes up what files declare.
const byFiles = "files"

// Begin has the files of a directory taken up, and returns before that is done. An empty dir: nothing is declared.
func (s *Declarations) Begin(dir string) {
	s.mu.Lock()
	if s.dir != dir {
		s.dir, s.failed, s.lately = dir, nil, nil
	}
	s.mu.Unlock()
	s.wait.Add(1)
	go func() {
		defer s.wait.Done()
		if _, err := s.TakeUp(s.ctx, byFiles, TakeUp{}); err != nil && s.ctx.Err() == nil {
			s.Log.Error("what files declare could not be taken up", "dir", dir, "error", err)
		}
	}()
}

// DeclaredThing is one thing that is declared, was declared, or could be.
type DeclaredThing struct {
	Kind       string           `json:"kind"`
	Name       string           `json:"name"`
	File       string           `json:"file"` // empty: in none
	Line       int              `json:"line"`
	State      declare.Standing `json:"state"`
	Drifts     bool             `json:"drifts"`     // somebody has to decide
	Difference string           `json:"difference"` // from what is in force to what is declared, as a unified diff

	declared, force string
	thing           *declare.Thing
}

// Declared is how files and service stand to each other.
type Declared struct {
	Dir      string          `json:"dir"` // empty: no directory was named
	Problems []rule.Problem  `json:"problems"`
	Items    []DeclaredThing `json:"items"`
}

// TakeUp says what is taken up beyond what was changed in the files alone.
type TakeUp struct {
	// names of things, with their kinds like "rule fares", that are taken up although somebody changed what is in
	// force; "all" for all of them
	Over   []string `json:"over,omitempty"`
	Reason string   `json:"reason,omitempty"` // why locked clauses are loosened
}

func (x *TakeUp) over(t *DeclaredThing) bool {
	return slices.Contains(x.Over, "all") || slices.Contains(x.Over, t.Kind+" "+t.Name)
}

// State compares the files, as they are now, with what is in force. It does not wait for what is being taken up.
func (s *Declarations) State(ctx context.Context) (*Declared, error) {
	d, err := s.compare(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !rule.Fatal(d.Problems) {
		d.Problems = append(d.Problems, s.failed...)
	}
	s.lately, s.at = d, time.Now()
	return d, nil
}

// Lately is State as it was within the last minute: to read many files takes its time.
func (s *Declarations) Lately(ctx context.Context) (*Declared, error) {
	s.mu.Lock()
	d, fresh := s.lately, time.Since(s.at) < readEvery
	s.mu.Unlock()
	if d != nil && fresh {
		return d, nil
	}
	return s.State(ctx)
}

// TakeUp takes up what is new or was changed in the files. Where a file cannot be read as a whole, nothing is taken
// up.
func (s *Declarations) TakeUp(ctx context.Context, actor string, x TakeUp) (*Declared, error) {
	s.taking.Lock()
	defer s.taking.Unlock()
	d, err := s.compare(ctx)
	if err != nil || d.Dir == "" {
		return d, err
	}
	for _, name := range x.Over {
		if name != "all" && !slices.ContainsFunc(d.Items, func(t DeclaredThing) bool {
			return t.Kind+" "+t.Name == name
		}) {
			return nil, &refuse.Error{Field: "over", Message: fmt.Sprintf("%q is not declared", name),
				Remedy: "write a kind and a name, like \"rule fares\", or all"}
		}
	}
	if rule.Fatal(d.Problems) {
		s.Log.Error("nothing was taken up from files: they have faults", "dir", d.Dir, "fault", d.Problems[0].Error())
		return d, nil
	}
	_, places, _ := d.wanted(x)
	failed := s.takePlaces(ctx, actor, places)
	// Sources that do not answer take their time, in which somebody may have changed a rule.
	if d, err = s.compare(ctx); err != nil {
		return nil, err
	}
	rules, _, gone := d.wanted(x)
	if len(rules) > 0 && !rule.Fatal(d.Problems) {
		failed = append(failed, s.rules(ctx, actor, d.Dir, rules, x.Reason)...)
	}
	s.mu.Lock()
	s.failed, s.lately = failed, nil
	s.mu.Unlock()
	after, err := s.compare(ctx)
	if err != nil {
		return nil, err
	}
	var taken []catalog.Declared
	for _, t := range after.Items {
		if t.State == declare.DeclaredSame {
			taken = append(taken, catalog.Declared{Kind: t.Kind, Name: t.Name, File: t.File, Text: t.force,
				TakenAt: catalog.At(s.Now())})
		}
	}
	if err := s.Catalog.TakeUpDeclared(ctx, taken, gone); err != nil {
		return nil, err
	}
	if after, err = s.State(ctx); err != nil {
		return nil, err
	}
	for _, p := range after.Problems {
		s.Log.Warn("of what is declared in files", "problem", p.Error())
	}
	return after, nil
}

// wanted says what is to be taken up: rules, keeps and schedules, and sources and stores; and of what it is forgotten
// that it was declared.
func (d *Declared) wanted(x TakeUp) (rules, places []*DeclaredThing, gone []catalog.Declared) {
	for i := range d.Items {
		t := &d.Items[i]
		switch {
		case t.State == declare.DeclaredGone && x.over(t):
			gone = append(gone, catalog.Declared{Kind: t.Kind, Name: t.Name})
		case t.State == declare.DeclaredNew, t.State == declare.DeclaredNewer, t.State.Drifts() && x.over(t):
			if t.thing.Source == nil && t.thing.Store == nil {
				rules = append(rules, t)
			} else {
				places = append(places, t)
			}
		}
	}
	return rules, places, gone
}

// takePlaces adds and changes sources and stores, as far as that works. A store may need another one for its second
// copies: what failed is tried again as long as something else worked.
func (s *Declarations) takePlaces(ctx context.Context, actor string, list []*DeclaredThing) (all []rule.Problem) {
	for worked := true; worked && len(list) > 0; {
		worked = false
		var failed []*DeclaredThing
		var problems []rule.Problem
		for _, t := range list {
			if err := s.place(ctx, actor, t); err != nil {
				failed, problems = append(failed, t), append(problems, problemAt(t.thing, err)...)
			} else {
				worked = true
			}
		}
		if list, all = failed, problems; len(list) == 0 {
			break
		}
	}
	return all
}

// rules applies declared keeps, schedules and rules: all of them or none.
func (s *Declarations) rules(ctx context.Context, actor, dir string, list []*DeclaredThing,
	reason string) []rule.Problem {
	var text strings.Builder
	var begins []int // lines of the text at which they begin
	expected := map[string]string{}
	for _, t := range list {
		begins = append(begins, strings.Count(text.String(), "\n")+1)
		text.WriteString(t.thing.Text + "---\n")
		if t.Kind == declare.KindRule {
			expected[t.Name] = t.force
		}
	}
	_, problems, err := s.Engine.Plans.ApplyOver(ctx, actor, dir, []byte(text.String()), reason, expected)
	if found, ok := err.(*refuse.Problems); ok {
		problems, err = found.Problems, nil
	}
	for i := range problems {
		p := &problems[i]
		at := max(0, lastBefore(begins, p.Line))
		p.File, p.Line = list[at].File, p.Line-begins[at]+list[at].thing.Begins
	}
	if err != nil {
		problems = append(problems, problemAt(list[0].thing, err)...)
	}
	return problems
}

// lastBefore finds the last of some lines that is not behind a line.
func lastBefore(begins []int, line int) int {
	i, found := slices.BinarySearch(begins, line)
	if !found {
		i--
	}
	return i
}

// problemAt is what keeps a thing from being taken up, with its place.
func problemAt(t *declare.Thing, err error) []rule.Problem {
	p := rule.Problem{File: t.File, Line: t.Line, Column: 1, Field: t.Kind + " " + t.Name, Message: err.Error()}
	if r, ok := err.(*refuse.Error); ok {
		p.Message, p.Remedy = r.Message, r.Remedy
		if r.Field != "" {
			p.Field = r.Field
		}
	}
	return []rule.Problem{p}
}

// read reads all files of the directory, in the order of their names.
func (s *Declarations) read(dir string) (things []declare.Thing, problems []rule.Problem) {
	fail := func(err error) {
		problems = append(problems, rule.Problem{File: dir, Message: err.Error(),
			Remedy: "give the service's user the right to read it, or name another directory (-declare)"})
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		fail(err)
	}
	for _, e := range entries {
		if e.IsDir() || strings.HasPrefix(e.Name(), ".") ||
			!slices.Contains([]string{".yaml", ".yml"}, filepath.Ext(e.Name())) {
			continue
		}
		text, err := readSmall(filepath.Join(dir, e.Name()))
		if err != nil {
			fail(err)
			continue
		}
		found, wrong := declare.Parse(e.Name(), text)
		things, problems = append(things, found...), append(problems, wrong...)
	}
	return things, append(problems, declare.Repeated(things)...)
}

// readSmall reads a file, but no more of it than shows that it is too large.
func readSmall(path string) ([]byte, error) {
	st, err := os.Stat(path)
	if err == nil && !st.Mode().IsRegular() {
		err = fmt.Errorf("%s is no file", path)
	}
	if err == nil && st.Size() > rule.MaxFile {
		return make([]byte, rule.MaxFile+1), nil // its reader says what is wrong with that
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(path)
}

// compare reads the files and what is in force.
func (s *Declarations) compare(ctx context.Context) (*Declared, error) {
	s.mu.Lock()
	dir := s.dir
	s.mu.Unlock()
	d := &Declared{Dir: dir, Problems: []rule.Problem{}, Items: []DeclaredThing{}}
	if dir == "" {
		return d, nil
	}
	things, problems := s.read(dir)
	d.Problems = append(d.Problems, problems...)
	force, err := s.inForce(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.Catalog.Declared(ctx)
	if err != nil {
		return nil, err
	}
	taken := map[[2]string]catalog.Declared{}
	for _, t := range list {
		taken[[2]string{t.Kind, t.Name}] = t
	}
	seen := map[[2]string]bool{}
	for i := range things {
		t := &things[i]
		key := [2]string{t.Kind, t.Name}
		if seen[key] {
			continue // that it is declared twice is a problem already
		}
		seen[key] = true
		was := force[key].like(t)
		d.Items = append(d.Items, DeclaredThing{Kind: t.Kind, Name: t.Name, File: t.File, Line: t.Line, thing: t,
			declared: declaredForm(t), force: was, State: declare.Compare(declaredForm(t), was, taken[key].Text)})
	}
	for key, f := range force {
		if !seen[key] {
			t := DeclaredThing{Kind: key[0], Name: key[1], force: f.text, File: taken[key].File,
				State: declare.Compare("", f.text, taken[key].Text)}
			if rule.Fatal(problems) && t.State == declare.DeclaredGone {
				continue // it may stand in what cannot be read
			}
			d.Items = append(d.Items, t)
		}
	}
	for i := range d.Items {
		t := &d.Items[i]
		if t.Drifts = t.State.Drifts(); t.thing != nil && t.declared != t.force {
			t.Difference = udiff.Unified("in force", t.File, t.force, t.declared)
		}
	}
	slices.SortFunc(d.Items, func(a, b DeclaredThing) int {
		return cmp.Or(slices.Index(declare.Kinds, a.Kind)-slices.Index(declare.Kinds, b.Kind),
			strings.Compare(a.Name, b.Name))
	})
	return d, nil
}

// mostProblems is of how many problems in files a finding tells.
const mostProblems = 5

// declarations finds what is declared in files and not in force: since the files have faults, or since somebody changed
// it in the service.
func (s *Findings) declarations(ctx context.Context) (out []catalog.Cause, err error) {
	d, err := s.declared.Lately(ctx)
	if err != nil {
		return nil, err
	}
	var faults []string
	for _, p := range d.Problems {
		if !p.Warning {
			faults = append(faults, p.Error())
		}
	}
	if len(faults) > 0 {
		out = append(out, catalog.Cause{Subject: d.Dir, Severity: catalog.Warning,
			Message:  "not all that is declared in " + d.Dir + " could be taken up",
			Evidence: strings.Join(faults[:min(len(faults), mostProblems)], "\n"),
			Remedy:   "mend the files, and take them up (`ambercellar declared apply`)",
			Address:  "#/settings/declared"})
	}
	for _, t := range d.Items {
		if !t.Drifts {
			continue
		}
		out = append(out, catalog.Cause{Subject: t.Kind + " " + t.Name, Severity: catalog.Notice,
			Message: fmt.Sprintf("%s %s is not what %s declares: somebody changed it in the service", t.Kind, t.Name,
				t.File), Evidence: fmt.Sprintf("`ambercellar declared show %s %s`", t.Kind, t.Name),
			Remedy: fmt.Sprintf(
				"bring the file up to date, or take it up over the change (`ambercellar declared apply "+
					"-over \"%s %s\"`)",
				t.Kind,
				t.Name,
			), Address: "#/settings/declared"})
	}
	return out, nil
}

// Print writes what is in force as declarations, in the order in which they can be taken up.
func (s *Declarations) Print(ctx context.Context) (string, error) {
	force, err := s.inForce(ctx)
	if err != nil {
		return "", err
	}
	keys := slices.SortedFunc(maps.Keys(force), func(a, b [2]string) int {
		return cmp.Or(slices.Index(declare.Kinds, a[0])-slices.Index(declare.Kinds, b[0]), strings.Compare(a[1], b[1]))
	})
	var out []string
	for _, key := range keys {
		out = append(out, force[key].text)
	}
	return strings.Join(out, "---\n"), nil
}
