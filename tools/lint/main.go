// Command lint runs the checks of go vet and of staticcheck over the module, in one pass:
//
//	go run ./tools/lint ./...
//
// The packages named are read and checked from source, what they import from what the compiler left of it. On a new
// machine that takes a fifth of the time of the two programs, which check all modules below ours as well. What only
// those can tell, such as which functions of other modules are deprecated, `make lint-deep` tells.
package main

import (
	"cmp"
	"fmt"
	"go/token"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/analysis/checker"
	"golang.org/x/tools/go/packages"
	"honnef.co/go/tools/unused"
)

func main() {
	log.SetFlags(0)
	found, err := inspect(".", os.Args[1:])
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range found {
		fmt.Println(f)
	}
	if len(found) > 0 {
		os.Exit(1)
	}
}

// finding is one thing that a check found.
type finding struct {
	at      token.Position
	check   string
	message string
}

func (f finding) String() string { return fmt.Sprintf("%s: %s (%s)", f.at, f.message, f.check) }

// inspect checks the packages that patterns name in the module at dir, and their tests. Findings are in the order of
// their places, each told once.
func inspect(dir string, patterns []string) ([]finding, error) {
	read := packages.LoadImports | packages.NeedTypes | packages.NeedTypesSizes | packages.NeedTypesInfo |
		packages.NeedSyntax | packages.NeedExportFile | packages.NeedModule | packages.NeedForTest
	pkgs, err := packages.Load(&packages.Config{Mode: read, Dir: dir, Tests: true}, patterns...)
	if err != nil {
		return nil, err
	}
	for _, pkg := range pkgs {
		if len(pkg.Errors) > 0 {
			return nil, pkg.Errors[0]
		}
	}
	pkgs = slices.DeleteFunc(widest(pkgs), func(pkg *packages.Package) bool {
		return strings.HasSuffix(pkg.ID, ".test") // a program that the Go tool makes
	})
	ours := map[*packages.Package]bool{}
	for _, pkg := range pkgs {
		ours[pkg] = true
	}
	for _, pkg := range pkgs { // facts are gathered from what was read from source
		for path, imported := range pkg.Imports {
			if !ours[imported] {
				delete(pkg.Imports, path)
			}
		}
	}
	graph, err := checker.Analyze(checks(), pkgs, nil)
	if err != nil {
		return nil, err
	}
	return gather(graph, ignored(pkgs))
}

// widest leaves out each package of which there is a variant with its tests in it.
func widest(pkgs []*packages.Package) []*packages.Package {
	tested := map[string]bool{}
	for _, pkg := range pkgs {
		if pkg.ForTest == pkg.PkgPath {
			tested[pkg.PkgPath] = true
		}
	}
	return slices.DeleteFunc(pkgs, func(pkg *packages.Package) bool { return pkg.ForTest == "" && tested[pkg.PkgPath] })
}

// gather lists what the checks found, but for what a comment in the code lets be.
func gather(graph *checker.Graph, ignored map[string]bool) ([]finding, error) {
	var found []finding
	add := func(at token.Position, check, message string) {
		f := finding{at, check, message}
		if !ignored[line(at, check)] && !slices.Contains(found, f) {
			found = append(found, f)
		}
	}
	for _, action := range graph.Roots {
		if action.Err != nil {
			return nil, fmt.Errorf("%s: %w", action, action.Err)
		}
		for _, d := range action.Diagnostics {
			add(action.Package.Fset.Position(d.Pos), action.Analyzer.Name, d.Message)
		}
		if r, ok := action.Result.(unused.Result); ok {
			for _, o := range r.Unused {
				add(o.DisplayPosition, action.Analyzer.Name, fmt.Sprintf("%s %s is unused", o.Kind, o.Name))
			}
		}
	}
	slices.SortFunc(found, func(a, b finding) int {
		return cmp.Or(strings.Compare(a.at.Filename, b.at.Filename), a.at.Line-b.at.Line, a.at.Column-b.at.Column)
	})
	return found, nil
}

// ignored lists the lines that a comment exempts from a check: the comment's own and the next.
func ignored(pkgs []*packages.Package) map[string]bool {
	exempt := map[string]bool{}
	for _, pkg := range pkgs {
		for _, file := range pkg.Syntax {
			for _, group := range file.Comments {
				for _, c := range group.List {
					words := strings.Fields(c.Text)
					if words[0] != "//lint:ignore" || len(words) < 3 {
						continue
					}
					at := pkg.Fset.Position(c.Pos())
					for check := range strings.SplitSeq(words[1], ",") {
						exempt[line(at, check)] = true
						at.Line++
						exempt[line(at, check)] = true
						at.Line--
					}
				}
			}
		}
	}
	return exempt
}

func line(at token.Position, check string) string {
	return fmt.Sprintf("%s:%d %s", filepath.Clean(at.Filename), at.Line, check)
}
