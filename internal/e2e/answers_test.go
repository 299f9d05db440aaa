package e2e

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"ambercellar/internal/api"
	"ambercellar/internal/cli"
)

// answers are the schemas of what commands print, as they were asked for.
var answers struct {
	sync.Mutex
	schemas map[string]*jsonschema.Schema
}

// answerOf returns the schema of what a command prints as JSON; nil where it is none of its answers.
func answerOf(t *testing.T, args []string) *jsonschema.Schema {
	t.Helper()
	name := ""
	for i := min(2, len(args)); i > 0 && name == ""; i-- {
		if _, ok := cli.Answers[strings.Join(args[:i], " ")]; ok {
			name = strings.Join(args[:i], " ")
		}
	}
	// what is asked for is something else: a file, a preview, several of them
	if name == "" || slices.ContainsFunc(args, func(a string) bool {
		return slices.Contains([]string{"-try", "-preview", "-sum", "-count", "-all", "-rule", "-out", "-group-by"}, a)
	}) {
		return nil
	}
	answers.Lock()
	defer answers.Unlock()
	if s := answers.schemas[name]; s != nil {
		return s
	}
	text, err := api.AnswerSchema(name, cli.Answers[name])
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	address := "urn:ambercellar:" + strings.ReplaceAll(name, " ", "-")
	if err := c.AddResource(address, doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile(address)
	if err != nil {
		t.Fatal(fmt.Errorf("%s: %w", name, err))
	}
	if answers.schemas == nil {
		answers.schemas = map[string]*jsonschema.Schema{}
	}
	answers.schemas[name] = s
	return s
}

// keepsToSchema checks what a command printed as JSON.
func keepsToSchema(t *testing.T, args []string, text string) {
	t.Helper()
	schema := answerOf(t, args)
	if schema == nil {
		return
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err == nil {
		err = schema.Validate(doc)
	}
	if err != nil {
		t.Errorf("what ambercellar %s prints is not what its schema says: %v", strings.Join(args, " "), err)
	}
}

// TestEveryAnswerHasASchema: of every command that is said to print JSON.
func TestEveryAnswerHasASchema(t *testing.T) {
	t.Parallel()
	for name := range cli.Answers {
		if answerOf(t, strings.Fields(name)) == nil {
			t.Errorf("%s has none", name)
		}
	}
}
