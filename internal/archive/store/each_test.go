package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"
)

// A listing is gone through without having it in memory, by somebody who takes his time, stops early, or is told to.
func TestAListingIsGoneThrough(t *testing.T) {
	d, err := MakeDirectory(filepath.Join(t.TempDir(), "cellar"))
	if err != nil {
		t.Fatal(err)
	}
	const many = 2*listedAtOnce + 500
	for i := range many {
		dir := filepath.Join(d.root, "harbour", fmt.Sprint("scan", i%7))
		if i < 7 {
			if err := os.MkdirAll(dir, 0o700); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprint(i)), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	before := patience
	patience = 20 * time.Millisecond
	defer func() { patience = before }()
	seen, twice := map[string]bool{}, 0
	for o, err := range d.Each(t.Context(), "") {
		if err != nil {
			t.Fatal(err)
		}
		if seen[o.Name] {
			twice++
		}
		if seen[o.Name] = true; len(seen)%listedAtOnce == 1 {
			time.Sleep(5 * patience) // longer than a directory that hangs is waited for
		}
	}
	if len(seen) != many || twice > 0 {
		t.Errorf("%d files of %d were seen, %d of them twice", len(seen), many, twice)
	}
	list, err := d.List(t.Context(), "harbour/scan3/")
	if err != nil || len(list) < many/7 || len(list) > many/7+1 {
		t.Errorf("%d files, %v", len(list), err)
	}
	goroutines := runtime.NumGoroutine()
	for range 20 {
		for range d.Each(t.Context(), "") {
			break
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	n, last := 0, error(nil)
	for _, err := range d.Each(ctx, "") {
		if n, last = n+1, err; n == 10 {
			cancel()
		}
	}
	if last == nil || n > 2*listedAtOnce+1 {
		t.Errorf("%d files after it was told to stop, and %v", n, last)
	}
	for begun := time.Now(); runtime.NumGoroutine() > goroutines; time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > 10*time.Second {
			t.Fatalf("%d goroutines are left of %d", runtime.NumGoroutine(), goroutines)
		}
	}
}
