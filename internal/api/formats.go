package api

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"

	"github.com/swaggest/jsonschema-go"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/service"
)

// Formats are the JSON files that outlive the service, by name.
var Formats = map[string]any{"manifest": archive.Manifest{}, "closing": archive.Closing{}, "range": archive.Range{},
	"disposal": archive.Disposal{}, "certificate": dispose.Certificate{}, "ledger": upkeep.RunLedger{},
	"run-report": service.RunReport{}}

// FormatSchema returns the JSON Schema (draft 7) of one of them; nil where there is none of that name.
func FormatSchema(name string) ([]byte, error) {
	v, ok := Formats[name]
	if !ok {
		return nil, nil
	}
	return schemaOf("Amber Cellar: "+name, v)
}

// AnswerSchema returns the JSON Schema (draft 7) of what a command prints, with what is said of its fields.
func AnswerSchema(command string, v any) ([]byte, error) {
	text, err := schemaOf("ambercellar "+command+" -o json", v)
	if err != nil {
		return nil, err
	}
	var s map[string]json.RawMessage
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, err
	}
	said, definitions := comments(), map[string]json.RawMessage{}
	if s["definitions"] != nil {
		if err := json.Unmarshal(s["definitions"], &definitions); err != nil {
			return nil, err
		}
		for name := range definitions {
			definitions[name] = describe(name, definitions[name], said[name])
		}
		if s["definitions"], err = json.Marshal(definitions); err != nil {
			return nil, err
		}
	}
	whole, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	of := SchemaName(reflect.TypeOf(v))
	err = json.Indent(&out, describe(of, whole, said[of]), "", "  ")
	out.WriteByte('\n')
	return out.Bytes(), err
}

func schemaOf(title string, v any) ([]byte, error) {
	r := jsonschema.Reflector{}
	r.AddTypeMapping(catalog.Time{}, "")
	r.AddTypeMapping(value.Set{}, "")
	s, err := r.Reflect(
		v,
		nullableRefs,
		jsonschema.InterceptDefName(func(t reflect.Type, _ string) string { return SchemaName(t) }),
		jsonschema.InterceptProp(func(p jsonschema.InterceptPropParams) error {
			if p.Processed && !strings.Contains(p.Field.Tag.Get("json"), ",omit") {
				p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
			}
			return nil
		}),
	)
	if err != nil {
		return nil, err
	}
	s.WithSchema("http://json-schema.org/draft-07/schema#")
	s.WithTitle(title)
	out, err := json.MarshalIndent(s, "", "  ")
	return append(out, '\n'), err
}
