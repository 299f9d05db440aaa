package api

import (
	"os"
	"testing"
)

func TestTheOpenAPIDocumentIsTheOneInDocs(t *testing.T) {
	want, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if string(Document()) != string(want) {
		t.Error("docs/openapi.json is not what the routes say; write it anew: go run ./cmd/ambercellar openapi > docs/openapi.json")
	}
}
