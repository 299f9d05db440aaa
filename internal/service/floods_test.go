package service

import (
	"strings"
	"testing"
	"time"
)

func TestAFloodOfRefusalsIsToldInSum(t *testing.T) {
	var f floods
	kept := 0
	for range 5000 {
		if yes, more := f.kept("nobody"); yes {
			if kept++; more != "" {
				break
			}
		}
	}
	if kept < inARow || kept > inARow+5 {
		t.Errorf("%d of 5,000 are kept", kept)
	}
	if yes, _ := f.kept("another"); !yes {
		t.Error("another one is kept out by it")
	}
	time.Sleep(1100 * time.Millisecond)
	if yes, more := f.kept("nobody"); !yes || !strings.Contains(more, "more before it") {
		t.Errorf("after a second: %v, %q", yes, more)
	}
}
