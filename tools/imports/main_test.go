package main

import (
	"os"
	"strings"
	"testing"
)

// The pictures of the house are of the imports that there are.
func TestThePicturesAreOfTheHouse(t *testing.T) {
	page, err := os.ReadFile("../../docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	imports, err := read("../..")
	if err != nil {
		t.Fatal(err)
	}
	for _, picture := range []string{"house", "engine"} {
		if !strings.Contains(string(page), draw(imports, picture)) {
			t.Errorf("docs/architecture.md does not show the %s as it is; draw it anew: go run ./tools/imports %[1]s",
				picture)
		}
	}
}
