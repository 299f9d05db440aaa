package api

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestEveryFieldIsDescribed: the OpenAPI document says what each field means, and no word that nobody needs stays.
func TestEveryFieldIsDescribed(t *testing.T) {
	var doc struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct{ Description string }
			}
		}
	}
	if err := json.Unmarshal(Document(), &doc); err != nil {
		t.Fatal(err)
	}
	needed, fields := map[string]bool{}, 0
	for name, s := range doc.Components.Schemas {
		for field, p := range s.Properties {
			fields++
			if p.Description == "" {
				t.Errorf("nothing is said of %s.%s: write a comment in the source, or add it to words.json", name,
					field)
			}
			needed[field], needed[name+"."+field] = true, true
		}
	}
	if fields < 1000 {
		t.Errorf("there are %d fields", fields)
	}
	for word, text := range words() {
		if !needed[word] {
			t.Errorf("words.json tells of %s, which is no field any more", word)
		}
		if text != strings.TrimSpace(text) || text == "" {
			t.Errorf("words.json says %q of %s", text, word)
		}
	}
}
