package api

import (
	"bytes"
	"os"
	"testing"
)

func TestTheSchemasOfTheFormatsAreTheDocuments(t *testing.T) {
	for name := range Formats {
		want, err := FormatSchema(name)
		if err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile("../../docs/formats/" + name + ".schema.json")
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("docs/formats/%s.schema.json is not what `ambercellar schema %s` prints: %v", name, name, err)
		}
		if !bytes.Contains(want, []byte(`"sequence"`)) && name != "range" {
			t.Errorf("%s tells of no link", name)
		}
	}
}
