package main

import (
	"bytes"
	"os"
	"testing"
)

// The client that is kept is the one that the routes of the service make.
func TestTheClientIsThatOfTheRoutes(t *testing.T) {
	files, err := write("../../internal")
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range files {
		got, err := os.ReadFile("../../client/" + name)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("client/%s is not what the routes say; write it anew: go run ./tools/client", name)
		}
	}
}
