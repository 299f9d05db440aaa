package main

import (
	"os"
	"slices"
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

// Who may import what: what is not named here may import nothing of ours.
func TestImportsGoOneWay(t *testing.T) {
	may := map[string][]string{
		"client":           {},
		"internal/core":    {"internal/core"},
		"internal/cli":     {"client", "internal/core"},
		"internal/source":  {"internal/core", "internal/source", "internal/silence", "internal/dbtest"},
		"internal/archive": {"internal/core", "internal/archive", "internal/silence"},
		"internal/catalog": {"internal/core", "internal/archive", "internal/source", "internal/catalog"},
		"internal/engine": {"internal/core", "internal/archive", "internal/source", "internal/catalog",
			"internal/engine"},
	}
	imports, err := read("../..")
	if err != nil {
		t.Fatal(err)
	}
	for from, list := range imports {
		from = strings.TrimPrefix(from, module)
		for room, allowed := range may {
			if from != room && !strings.HasPrefix(from, room+"/") {
				continue
			}
			for _, to := range list {
				to, ours := strings.CutPrefix(to, module)
				if ours && !slices.ContainsFunc(allowed, func(a string) bool {
					return to == a || strings.HasPrefix(to, a+"/")
				}) {
					t.Errorf("%s imports %s", from, to)
				}
			}
		}
	}
}
