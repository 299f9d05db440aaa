package api

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/swaggest/jsonschema-go"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/dispose"
	"ambercellar/internal/engine/upkeep"
)

// Formats are the JSON files that outlive the service, by name.
var Formats = map[string]any{"manifest": archive.Manifest{}, "closing": archive.Closing{}, "range": archive.Range{},
	"disposal": archive.Disposal{}, "certificate": dispose.Certificate{}, "ledger": upkeep.RunLedger{}}

// FormatSchema returns the JSON Schema (draft 7) of one of them; nil where there is none of that name.
func FormatSchema(name string) ([]byte, error) {
	v, ok := Formats[name]
	if !ok {
		return nil, nil
	}
	r := jsonschema.Reflector{}
	r.AddTypeMapping(catalog.Time{}, "")
	r.AddTypeMapping(value.Set{}, "")
	s, err := r.Reflect(v, jsonschema.InterceptDefName(func(t reflect.Type, _ string) string { return SchemaName(t) }),
		jsonschema.InterceptProp(func(p jsonschema.InterceptPropParams) error {
			if p.Processed && !strings.Contains(p.Field.Tag.Get("json"), ",omit") {
				p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
			}
			return nil
		}))
	if err != nil {
		return nil, err
	}
	s.WithSchema("http://json-schema.org/draft-07/schema#")
	s.WithTitle("Amber Cellar: " + name)
	out, err := json.MarshalIndent(s, "", "  ")
	return append(out, '\n'), err
}
