package run

import (
	"cmp"
	"fmt"
	"sync"
	"time"
)

// patient is how long an answer of the database is waited for until what is shown of the run says so.
const patient = 3 * time.Second

// awaited has what is shown of the run say that the database is waited for, and for what, where that takes long, and
// returns what ends that.
func (r *Execution) awaited(what string) (done func()) {
	if r.Waits == nil { // nobody is shown anything
		return func() {}
	}
	wait, begun := cmp.Or(r.Patient, patient), time.Now()
	var mu sync.Mutex
	var ended, told bool
	var timer *time.Timer
	mu.Lock()
	timer = time.AfterFunc(wait, func() {
		mu.Lock()
		defer mu.Unlock()
		if ended {
			return
		}
		told = true
		r.Waits(r.Run.ID, fmt.Sprintf("waiting for the database for %s: %s", time.Since(begun).Round(time.Second),
			what), false)
		timer.Reset(wait)
	})
	mu.Unlock()
	return func() {
		mu.Lock()
		ended = true
		tells := told
		told = false
		mu.Unlock()
		timer.Stop()
		if tells {
			r.Waits(r.Run.ID, "", false)
		}
	}
}
