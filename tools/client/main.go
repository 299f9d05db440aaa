// Command client writes the types and the calls of the Go client from the table of routes:
//
//	go run ./tools/client -out client
//
// Types keep the names that the OpenAPI document gives them, and the fields and comments that they have in the
// service.
package main

import (
	"bytes"
	"encoding"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
)

func main() {
	out := flag.String("out", "client", "directory of the client")
	flag.Parse()
	files, err := write("internal")
	if err != nil {
		log.Fatal(err)
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(*out, name), text, 0o644); err != nil {
			log.Fatal(err)
		}
	}
}

// write returns the files of the client, by name. internal is the directory of the service's source.
func write(internal string) (map[string][]byte, error) {
	docs, err := readComments(internal)
	if err != nil {
		return nil, err
	}
	g := &generator{comments: docs, done: map[string]reflect.Type{}, values: map[string][]constant{}}
	out := map[string][]byte{}
	calls := g.calls()
	for name, text := range map[string]string{"calls.go": calls, "types.go": g.types()} {
		if out[name], err = format.Source([]byte(text)); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	said, err := json.MarshalIndent(g.described(), "", "\t")
	out[described] = append(said, '\n')
	return out, err
}

// described is the file with what the source says of types and fields, which the OpenAPI document repeats.
const described = "../internal/api/comments.json"

// described lists what the source says of each type of the interface, under an empty name, and of its fields.
func (g *generator) described() map[string]map[string]string {
	out := map[string]map[string]string{}
	for name, t := range g.done {
		said := map[string]string{}
		if doc := g.comments.text[t.String()]; doc != "" {
			said[""] = strings.Join(strings.Fields(doc), " ")
		}
		g.describe(t, said)
		if len(said) > 0 {
			out[name] = said
		}
	}
	return out
}

func (g *generator) describe(t reflect.Type, said map[string]string) {
	if t.Kind() != reflect.Struct {
		return
	}
	for i := range t.NumField() {
		f := t.Field(i)
		tag := f.Tag.Get("json")
		if f.Anonymous && tag == "" {
			g.describe(f.Type, said)
			continue
		}
		name, _, _ := strings.Cut(tag, ",")
		if text := g.comments.text[t.String()+"."+f.Name]; text != "" && name != "" && name != "-" {
			said[name] = strings.Join(strings.Fields(text), " ")
		}
	}
}

const head = "// Written by tools/client from the routes of the service. DO NOT EDIT.\n\npackage client\n\n"

// comments are what the service's source says of its types.
type comments struct {
	text   map[string]string     // by package.Type and package.Type.Field
	values map[string][]constant // by package.Type
}

type constant struct{ name, value, note string }

// readComments reads the comments and the constants of all types below a directory.
func readComments(dir string) (*comments, error) {
	c := &comments{map[string]string{}, map[string][]constant{}}
	return c, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		for _, d := range f.Decls {
			if g, ok := d.(*ast.GenDecl); ok {
				c.add(f.Name.Name, g)
			}
		}
		return nil
	})
}

func (c *comments) add(pkg string, g *ast.GenDecl) {
	for _, s := range g.Specs {
		switch x := s.(type) {
		case *ast.TypeSpec:
			doc := x.Doc.Text()
			if doc == "" {
				doc = g.Doc.Text()
			}
			c.text[pkg+"."+x.Name.Name] = doc
			if st, ok := x.Type.(*ast.StructType); ok {
				for _, f := range st.Fields.List {
					for _, n := range f.Names {
						c.text[pkg+"."+x.Name.Name+"."+n.Name] = strings.TrimSpace(f.Doc.Text() + f.Comment.Text())
					}
				}
			}
		case *ast.ValueSpec:
			id, ok := x.Type.(*ast.Ident)
			if !ok || g.Tok != token.CONST {
				continue
			}
			for i, n := range x.Names {
				if lit, ok := x.Values[i].(*ast.BasicLit); ok && ast.IsExported(n.Name) {
					c.values[pkg+"."+id.Name] = append(c.values[pkg+"."+id.Name],
						constant{n.Name, lit.Value, strings.TrimSpace(x.Comment.Text())})
				}
			}
		}
	}
}

type generator struct {
	comments *comments
	done     map[string]reflect.Type
	values   map[string][]constant // by name
	queue    []reflect.Type
}

var (
	textual  = reflect.TypeFor[encoding.TextMarshaler]()
	wrapped  = regexp.MustCompile(`^JSON\[`)
	instant  = reflect.TypeFor[time.Time]()
	recorded = reflect.TypeFor[catalog.Time]()
	raw      = reflect.TypeFor[json.RawMessage]()
)

// name writes a type as the client has it, and remembers to write what it names.
func (g *generator) name(t reflect.Type) string {
	switch {
	case t == instant || t == recorded:
		return "time.Time"
	case t == raw:
		return "json.RawMessage"
	case wrapped.MatchString(t.Name()):
		return g.name(t.Field(0).Type)
	case strings.HasPrefix(t.Name(), "Items["):
		return "Items[" + g.name(t.Field(0).Type.Elem()) + "]"
	case t.Kind() != reflect.Pointer && t.Implements(textual):
		return "string"
	}
	switch t.Kind() {
	case reflect.Pointer:
		return "*" + g.name(t.Elem())
	case reflect.Slice:
		return "[]" + g.name(t.Elem())
	case reflect.Array:
		return fmt.Sprintf("[%d]%s", t.Len(), g.name(t.Elem()))
	case reflect.Map:
		return "map[" + g.name(t.Key()) + "]" + g.name(t.Elem())
	case reflect.Interface:
		return "any"
	}
	if t.PkgPath() == "" && t.Name() != "" {
		return t.Name()
	}
	if t.Name() == "" {
		return g.body(t)
	}
	name := api.SchemaName(t)
	if other := g.done[name]; other != nil && other != t {
		log.Fatalf("both %s and %s would be called %s", other, t, name)
	}
	if g.done[name] == nil {
		g.done[name] = t
		g.queue = append(g.queue, t)
	}
	return name
}

// comment writes a text as a comment of short lines.
func comment(text string) string {
	var b strings.Builder
	line := "//"
	for _, word := range strings.Fields(text) {
		if len(line)+1+len(word) > 116 {
			b.WriteString(line + "\n")
			line = "//"
		}
		line += " " + word
	}
	return b.String() + line + "\n"
}

// body writes a type's own form.
func (g *generator) body(t reflect.Type) string {
	if t.Kind() != reflect.Struct {
		return t.Kind().String()
	}
	return "struct {\n" + g.fields(t) + "}"
}

// fields writes the fields of a struct. A part that is called after it, as RunOrder is after Run, is no type of the
// client's own: its fields are fields of the whole.
func (g *generator) fields(t reflect.Type) string {
	var b strings.Builder
	for i := range t.NumField() {
		f := t.Field(i)
		tag := f.Tag.Get("json")
		if tag == "-" || !f.IsExported() {
			continue
		}
		if f.Anonymous && tag == "" {
			if strings.HasPrefix(f.Type.Name(), t.Name()) {
				b.WriteString(g.fields(f.Type))
			} else {
				fmt.Fprintf(&b, "%s\n", g.name(f.Type))
			}
			continue
		}
		var line strings.Builder
		fmt.Fprintf(&line, "%s %s", f.Name, g.name(f.Type))
		if tag != "" {
			fmt.Fprintf(&line, " `json:%q`", tag)
		}
		if text := strings.ReplaceAll(g.comments.text[t.String()+"."+f.Name], "\n", " "); text != "" {
			if line.Len()+len(text) > 78 { // gofmt puts the comments of neighbours below each other
				b.WriteString(comment(text))
			} else {
				fmt.Fprintf(&line, " // %s", text)
			}
		}
		b.WriteString(line.String())
		b.WriteString("\n")
	}
	return b.String()
}

// types writes all types that calls name.
func (g *generator) types() string {
	texts := map[string]string{}
	var names []string
	for len(g.queue) > 0 {
		t := g.queue[0]
		g.queue = g.queue[1:]
		name := api.SchemaName(t)
		if name == "Problem" {
			continue // written by hand, since it is an error too
		}
		text := ""
		if doc := g.comments.text[t.String()]; doc != "" {
			own := t.Name()
			doc = strings.TrimSpace(doc)
			if rest, ok := strings.CutPrefix(doc, own+" "); ok {
				doc = name + " " + rest
			}
			text = comment(strings.ReplaceAll(doc, "\n", " "))
		}
		text += "type " + name + " " + g.body(t) + "\n\n"
		if values := g.comments.values[t.String()]; len(values) > 0 && t.Kind() != reflect.Struct {
			g.values[name] = values
			text += fmt.Sprintf("// Values of %s.\nconst (\n", name)
			for _, v := range values {
				text += strings.TrimSuffix(fmt.Sprintf("%s %s = %s // %s", v.name, name, v.value, v.note), " // ") +
					"\n"
			}
			text += ")\n\n"
		}
		texts[name] = text
		names = append(names, name)
	}
	slices.Sort(names)
	counts := map[string]int{}
	for _, n := range names {
		for _, v := range g.values[n] {
			counts[v.name]++
		}
	}
	var b bytes.Buffer
	for _, n := range names {
		for _, v := range g.values[n] {
			if counts[v.name] > 1 { // of two types
				texts[n] = strings.ReplaceAll(texts[n], "\n"+v.name+" ", "\n"+n+v.name+" ")
			}
		}
		b.WriteString(texts[n])
	}
	return head + imports(b.String(), "encoding/json", "time") + b.String()
}

// imports names those of some packages that a text uses.
func imports(text string, packages ...string) string {
	var b strings.Builder
	b.WriteString("import (\n")
	for _, p := range packages {
		if regexp.MustCompile(`\b` + filepath.Base(p) + `\.[A-Z]`).MatchString(text) {
			fmt.Fprintf(&b, "%q\n", p)
		}
	}
	return b.String() + ")\n\n"
}

var parameter = regexp.MustCompile(`\{(\w+)\}`)

// byHand are the calls that are more than a request and an answer.
var byHand = []string{"Watch", "SearchRows", "OpenAPI"}

// calls writes a method for each operation.
func (g *generator) calls() string {
	var b strings.Builder
	for _, c := range api.Calls() {
		if c.File && c.Out != nil {
			g.name(reflect.TypeOf(c.Out)) // for a call by hand
		}
		if slices.Contains(byHand, c.Name) {
			continue
		}
		g.call(&b, c)
	}
	return head + imports(b.String(), "context", "io", "net/url", "strconv") + b.String()
}

func (g *generator) call(b *strings.Builder, c api.Call) {
	params, path := []string{"ctx context.Context"}, `"`+
		parameter.ReplaceAllString(c.Path, `" + url.PathEscape($1) + "`)+`"`
	path = strings.TrimSuffix(path, ` + ""`)
	for _, m := range parameter.FindAllStringSubmatch(c.Path, -1) {
		params[len(params)-1] = strings.Replace(params[len(params)-1], " string", "", 1) // of one type
		params = append(params, m[1]+" string")
	}
	if len(c.Query) > 0 && !c.File {
		g.query(b, c)
		params = append(params, "q "+c.Name+"Query")
		path += " + q.text()"
	}
	in := "nil"
	if c.In != nil {
		in = "in"
		params = append(params, "in "+g.name(reflect.TypeOf(c.In)))
	}
	b.WriteString(comment(fmt.Sprintf("%s: %s.", c.Name, strings.ToLower(c.Summary[:1])+c.Summary[1:])))
	if c.File {
		fmt.Fprintf(b, "func (c *Client) %s(%s, w io.Writer) error {\nreturn c.Download(ctx, %s, w)\n}\n\n", c.Name,
			strings.Join(params, ", "), path)
		return
	}
	gap := " "
	if len(path) > 70 {
		gap = "\n" // the arguments do not fit on a line
	}
	if c.Out == nil {
		fmt.Fprintf(b, "func (c *Client) %s(%s) error {\nreturn c.Do(ctx, %q,%s%s, %s, nil)\n}\n\n", c.Name,
			strings.Join(params, ", "), c.Method, gap, path, in)
		return
	}
	out := g.name(reflect.TypeOf(c.Out))
	head := fmt.Sprintf("func (c *Client) %s(%s)", c.Name, strings.Join(params, ", "))
	if len(head)+len(out) > 90 {
		head = fmt.Sprintf("func (c *Client) %s(%s,\n%s)", c.Name, strings.Join(params[:2], ", "),
			strings.Join(params[2:], ", "))
	}
	request := fmt.Sprintf("ctx, %q,%s%s, %s", c.Method, gap, path, in)
	if strings.HasPrefix(out, "Items[") || strings.HasPrefix(out, "map[") {
		fmt.Fprintf(b, "%s (out %s, err error) {\nerr = c.Do(%s, &out)\nreturn out, err\n}\n\n", head, out, request)
		return
	}
	fmt.Fprintf(b, "%s (*%s, error) {\nout := new(%s)\n", head, out, out)
	fmt.Fprintf(b, "if err := c.Do(%s, out); err != nil {\nreturn nil, err\n}\nreturn out, nil\n}\n\n", request)
}

// query writes the type of a call's query parameters.
func (g *generator) query(b *strings.Builder, c api.Call) {
	fmt.Fprintf(b, "// %sQuery is what %s can be asked for. What is left empty is not asked for.\ntype %[1]sQuery "+
		"struct {\n", c.Name, c.Name)
	for _, q := range c.Query {
		kind, note := "string", ""
		switch q {
		case "limit", "months":
			kind = "int"
		case "all", "ungoverned":
			kind = "bool"
		}
		switch q {
		case "limit":
			note = " // of a page; 0: 50; at most 500"
		case "after":
			note = " // where the page before ended: its Next"
		}
		fmt.Fprintf(b, "%s %s%s\n", strings.ToUpper(q[:1])+q[1:], kind, note)
	}
	fmt.Fprintf(b, "}\n\nfunc (q %sQuery) text() string {\nv := url.Values{}\n", c.Name)
	for _, q := range c.Query {
		field := "q." + strings.ToUpper(q[:1]) + q[1:]
		switch q {
		case "limit", "months":
			fmt.Fprintf(b, "if %s != 0 {\nv.Set(%q, strconv.Itoa(%s))\n}\n", field, q, field)
		case "all", "ungoverned":
			fmt.Fprintf(b, "if %s {\nv.Set(%q, \"true\")\n}\n", field, q)
		default:
			fmt.Fprintf(b, "if %s != \"\" {\nv.Set(%q, %s)\n}\n", field, q, field)
		}
	}
	b.WriteString("return queryText(v)\n}\n\n")
}
