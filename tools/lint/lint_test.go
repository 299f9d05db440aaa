package main

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

func TestFaultsAreFound(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"go.mod": "module quay\n\ngo 1.26\n",
		"quay.go": `package quay

import "sync"

type Quay struct{ mu sync.Mutex }

func (q Quay) Open() bool { return q.mu.TryLock() == true }

func forgotten() {}

func tested() int { return 1 }

func Berth(n int) int {
	//lint:ignore SA4018 it is let be
	n = n
	return n
}
`,
		"quay_test.go": `package quay

import "testing"

func TestBerth(t *testing.T) { t.Logf("%s", tested()) }
`,
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	found, err := inspect(dir, []string{"./..."})
	if err != nil {
		t.Fatal(err)
	}
	var checks []string
	for _, f := range found {
		checks = append(checks, f.check)
	}
	want := []string{"copylocks", "S1002", "U1000", "assign", "printf"}
	if !slices.Equal(checks, want) {
		t.Errorf("found %v, want the faults %v", found, want)
	}
	if _, err := inspect(dir, []string{"./nowhere"}); err == nil {
		t.Error("a package that does not exist is looked at")
	}
}
