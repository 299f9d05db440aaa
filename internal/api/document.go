package api

import (
	"bytes"
	"cmp"
	_ "embed"
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/swaggest/jsonschema-go"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/service"
)

// Document returns the OpenAPI 3.1 document of the interface, made from the table of routes.
func Document() []byte {
	schemas := map[string]json.RawMessage{}
	paths := map[string]map[string]any{}
	b := &builder{schemas: schemas, types: map[string]reflect.Type{}}
	for _, r := range (&API{service: &service.Service{}}).routes() {
		if paths[r.path] == nil {
			paths[r.path] = map[string]any{}
		}
		paths[r.path][strings.ToLower(r.method)] = b.operation(r)
	}
	said := comments()
	for name, s := range schemas {
		schemas[name] = describe(name, s, said[name])
	}
	doc := map[string]any{
		"openapi": "3.1.0",
		"info": map[string]any{"title": "Amber Cellar", "version": "1",
			"description": "Retention rules, plans, runs, archive and restores. Errors are problem details (RFC " +
				"9457)."},
		"servers": []any{map[string]any{"url": "/api/v1"}},
		"paths":   paths,
		"components": map[string]any{
			"schemas":         schemas,
			"securitySchemes": map[string]any{"token": map[string]any{"type": "http", "scheme": "bearer"}},
		},
		"security": []any{map[string]any{"token": []any{}}},
	}
	out, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		panic(err) // of our own types alone
	}
	return append(out, '\n')
}

//go:embed comments.json
var commentsFile []byte

// comments are what the source says of the interface's types, by their names: of a type itself under the empty name,
// and of its fields.
func comments() (out map[string]map[string]string) {
	if err := json.Unmarshal(commentsFile, &out); err != nil {
		panic(err) // tools/client writes it
	}
	return out
}

//go:embed words.json
var wordsFile []byte

// words are what a field means of whose type the source says nothing more: by its name, as it means the same wherever
// it stands, or by those of its type and its own where it does not.
var words = sync.OnceValue(func() (out map[string]string) {
	if err := json.Unmarshal(wordsFile, &out); err != nil {
		panic(err) // it is compiled in
	}
	return out
})

// describe adds to the schema of a name what is said of its type and fields.
func describe(of string, schema json.RawMessage, said map[string]string) json.RawMessage {
	var s map[string]any
	if err := json.Unmarshal(schema, &s); err != nil {
		panic(err)
	}
	if said[""] != "" {
		s["description"] = said[""]
	}
	properties, _ := s["properties"].(map[string]any)
	for name, p := range properties {
		if p, ok := p.(map[string]any); ok && p["description"] == nil {
			if text := cmp.Or(said[name], words()[of+"."+name], words()[name]); text != "" {
				p["description"] = text
			}
		}
	}
	out, err := json.Marshal(s)
	if err != nil {
		panic(err)
	}
	return out
}

type builder struct {
	schemas map[string]json.RawMessage
	types   map[string]reflect.Type // that the schemas are of
}

var parameter = regexp.MustCompile(`\{(\w+)\}`)

func (b *builder) operation(r route) map[string]any {
	op := map[string]any{"summary": r.summary, "operationId": operationID(r)}
	var parameters []any
	for _, m := range parameter.FindAllStringSubmatch(r.path, -1) {
		parameters = append(parameters, map[string]any{"name": m[1], "in": "path", "required": true,
			"schema": map[string]any{"type": "string"}})
	}
	for _, q := range r.query {
		kind := "string"
		if q == "limit" || q == "offset" {
			kind = "integer"
		}
		parameters = append(parameters, map[string]any{"name": q, "in": "query",
			"schema": map[string]any{"type": kind}})
	}
	if parameters != nil {
		op["parameters"] = parameters
	}
	if r.open {
		op["security"] = []any{}
	} else {
		op["x-right"] = r.right()
	}
	content := func(kind string, v any) map[string]any {
		return map[string]any{kind: map[string]any{"schema": b.schema(v)}}
	}
	if r.in != nil {
		op["requestBody"] = map[string]any{"required": true, "content": content("application/json", r.in)}
	}
	status := r.status
	answer := map[string]any{"description": "done"}
	switch {
	case r.out != nil:
		answer["content"] = content("application/json", r.out)
		if status == 0 {
			status = 200
		}
	case r.raw != nil:
		status = 200
	default:
		status = 204
	}
	op["responses"] = map[string]any{
		strconv.Itoa(status): answer,
		"default": map[string]any{"description": "a problem", "content": content("application/problem+json",
			Problem{})},
	}
	return op
}

func operationID(r route) string {
	words := strings.FieldsFunc(strings.ToLower(r.method)+" "+r.path,
		func(c rune) bool { return strings.ContainsRune(" /{}.", c) })
	for i := 1; i < len(words); i++ {
		words[i] = strings.ToUpper(words[i][:1]) + words[i][1:]
	}
	return strings.Join(words, "")
}

// schema returns a reference to the schema of a value's type, and adds all that it needs to the document.
func (b *builder) schema(v any) any {
	r := jsonschema.Reflector{}
	r.AddTypeMapping(catalog.Time{}, time.Time{})
	r.AddTypeMapping(catalog.JSON[rule.Rule]{}, rule.Rule{})
	r.AddTypeMapping(catalog.JSON[rule.Named]{}, rule.Named{})
	r.AddTypeMapping(catalog.JSON[catalog.Counts]{}, catalog.Counts{})
	r.AddTypeMapping(catalog.JSON[catalog.PlanDetail]{}, catalog.PlanDetail{})
	r.AddTypeMapping(catalog.JSON[[]catalog.Pass]{}, []catalog.Pass{})
	r.AddTypeMapping(catalog.JSON[[]catalog.Part]{}, []catalog.Part{})
	r.AddTypeMapping(rule.Moment{}, "")
	r.AddTypeMapping(catalog.JSON[catalog.Scope]{}, catalog.Scope{})
	r.AddTypeMapping(catalog.JSON[[]string]{}, []string{})
	r.AddTypeMapping(catalog.JSON[[]catalog.DisposalItem]{}, []catalog.DisposalItem{})
	r.AddTypeMapping(catalog.JSON[[]catalog.DisposalStay]{}, []catalog.DisposalStay{})
	r.AddTypeMapping(catalog.JSON[catalog.Fit]{}, catalog.Fit{})
	r.AddTypeMapping(catalog.JSON[catalog.Scrub]{}, catalog.Scrub{})
	r.AddTypeMapping(catalog.JSON[store.Bucket]{}, store.Bucket{})
	r.AddTypeMapping(catalog.JSON[store.Seal]{}, store.Seal{})
	r.AddTypeMapping(catalog.JSON[catalog.Tariff]{}, catalog.Tariff{})
	r.AddTypeMapping(catalog.JSON[[]catalog.FoundInStore]{}, []catalog.FoundInStore{})
	s, err := r.Reflect(v,
		jsonschema.DefinitionsPrefix("#/components/schemas/"),
		jsonschema.RootRef,
		jsonschema.CollectDefinitions(func(name string, s jsonschema.Schema) {
			text, err := json.Marshal(s)
			if err != nil {
				panic(err)
			}
			// lists are empty rather than missing
			b.schemas[name] = bytes.ReplaceAll(text, []byte(`["array","null"]`), []byte(`"array"`))
		}),
		nullableRefs, jsonschema.InterceptDefName(func(t reflect.Type, _ string) string {
			name := SchemaName(t)
			if other := b.types[name]; other != nil && other != t {
				// of our own types alone
				panic(fmt.Sprintf("both %s and %s would be called %s in the document", other, t, name))
			}
			b.types[name] = t
			return name
		}),
		jsonschema.InterceptProp(func(p jsonschema.InterceptPropParams) error {
			if p.Processed && !strings.Contains(p.Field.Tag.Get("json"), ",omit") {
				p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
			}
			return nil
		}),
	)
	if err != nil {
		panic(err)
	}
	return s
}

// nullableRefs says of fields that may be null and are of types of their own that they may be null.
func nullableRefs(c *jsonschema.ReflectContext) {
	c.EnvelopNullability = true
	jsonschema.InterceptNullability(func(p jsonschema.InterceptNullabilityParams) {
		if p.Schema.AnyOf != nil { // the library leaves the type of the one that is not null
			p.Schema.Type = nil
		}
	})(c)
}

var generic = regexp.MustCompile(`^(\w+)\[(?:.*[./])?(\w+)\]$`)

// otherNames are the names of types whose own is taken by a type of another package.
var otherNames = map[string]string{"rule.Problem": "RuleProblem", "rule.Rule": "RuleBody", "rule.Keep": "ClauseKeep",
	"store.Bucket": "StoreBucket", "source.Level": "FindingLevel", "rule.Unit": "AgeUnit",
	"source.Finding": "SourceFinding"}

// SchemaName is a type's own name; a page of things is called after them.
func SchemaName(t reflect.Type) string {
	if m := generic.FindStringSubmatch(t.Name()); m != nil {
		return fmt.Sprintf("%sOf%s", m[1], m[2])
	}
	if name, ok := otherNames[t.String()]; ok {
		return name
	}
	return t.Name()
}
