// Command imports draws which package imports which, as Mermaid, for docs/architecture.md:
//
//	go run ./tools/imports house
//	go run ./tools/imports engine
//
// An arrow that follows from others is left out.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"slices"
	"strings"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("name a picture: house or engine")
	}
	imports, err := read(".")
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(draw(imports, os.Args[1]))
}

const module = "ambercellar/"

// read lists what each package of the module below a directory imports of it.
func read(dir string) (map[string][]string, error) {
	list := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	list.Dir = dir
	out, err := list.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := list.Start(); err != nil {
		return nil, err
	}
	imports := map[string][]string{}
	for d := json.NewDecoder(out); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		imports[p.ImportPath] = p.Imports
	}
	return imports, list.Wait()
}

// room is the name of a package in a picture; empty: it does not stand there.
func room(path, picture string) string {
	path, ours := strings.CutPrefix(path, module)
	if !ours {
		return ""
	}
	path = strings.TrimPrefix(path, "internal/")
	first, rest, _ := strings.Cut(path, "/")
	switch {
	case slices.Contains([]string{"tools", "bench", "demo", "e2e", "dbtest", "standin", "console"}, first):
		return "" // beside the house
	case picture == "engine" && first == "engine" && rest != "deps":
		return path
	case picture == "engine":
		return ""
	case first == "cmd":
		return "cmd/ambercellar"
	case path == "archive/store":
		return path
	}
	return first
}

// draw writes a picture, its rooms and arrows in the order of their names.
func draw(imports map[string][]string, picture string) string {
	arrows := map[string]map[string]bool{}
	for from, list := range imports {
		a := room(from, picture)
		for _, to := range list {
			if b := room(to, picture); a != "" && b != "" && a != b {
				if arrows[a] == nil {
					arrows[a] = map[string]bool{}
				}
				arrows[a][b] = true
			}
		}
	}
	var b strings.Builder
	b.WriteString("```mermaid\nflowchart TD\n")
	for _, from := range sorted(arrows) {
		for _, to := range sorted(arrows[from]) {
			if !around(arrows, from, to) {
				fmt.Fprintf(&b, "    %s[%s] --> %s[%s]\n", id(from), from, id(to), to)
			}
		}
	}
	b.WriteString("```\n")
	return b.String()
}

func sorted[V any](m map[string]V) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func id(name string) string { return strings.NewReplacer("/", "_", ".", "_").Replace(name) }

// around says whether there is another way from one room to another than the arrow between them.
func around(arrows map[string]map[string]bool, from, to string) bool {
	seen := map[string]bool{from: true}
	var walk func(at string) bool
	walk = func(at string) bool {
		if at == to {
			return true
		}
		if seen[at] {
			return false
		}
		seen[at] = true
		for next := range arrows[at] {
			if walk(next) {
				return true
			}
		}
		return false
	}
	for next := range arrows[from] {
		if next != to && walk(next) {
			return true
		}
	}
	return false
}
