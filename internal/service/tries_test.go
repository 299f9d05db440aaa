package service

import (
	"fmt"
	"testing"
	"time"
)

func TestTriesAreForgottenAndBounded(t *testing.T) {
	var x tries
	now := time.Unix(1e9, 0)
	for i := range 3 * mostTriers {
		x.failed(fmt.Sprint(i), now)
	}
	if x.by.Len() > mostTriers {
		t.Errorf("%d who tried are kept", x.by.Len())
	}
	for i := range mostTries {
		if heard, last := x.failed("one", now); !heard || last != (i == mostTries-1) {
			t.Errorf("try %d: heard %v, the last %v", i+1, heard, last)
		}
	}
	if heard, _ := x.failed("one", now.Add(time.Second)); heard {
		t.Error("a try too many is heard")
	}
	if wait := x.waits("one", now.Add(time.Second)); wait <= 0 || wait > quietFor {
		t.Errorf("it waits for %s", wait)
	}
	if x.waits("one", now.Add(quietFor+time.Second)) != 0 || x.waits("another", now) != 0 {
		t.Error("it is not forgotten, or another one waits")
	}
}
