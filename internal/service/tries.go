package service

import (
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
)

// TooManyError says that somebody has to wait before they may try again.
type TooManyError struct{ Wait time.Duration }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("too many tries were wrong; the next one is heard in %s", e.Wait.Round(time.Second))
}

// tries counts what was wrong in a row, by who tries.
type tries struct {
	sync.Mutex
	by *lru.Cache[string, *try]
}

type try struct {
	wrong int
	last  time.Time
}

// So many wrong tries in a row are heard; after them, whoever tries is not heard before they were quiet for a while.
// mostTriers bounds what is kept.
const (
	mostTries  = 5
	quietFor   = 30 * time.Second
	mostTriers = 10_000
)

func (t *tries) of(who string, now time.Time) *try {
	if t.by == nil {
		t.by, _ = lru.New[string, *try](mostTriers) // a size that is none is the only error
	}
	x, known := t.by.Get(who)
	if !known || now.Sub(x.last) > quietFor {
		return nil
	}
	return x
}

// waits says for how long somebody is not heard; 0: they are.
func (t *tries) waits(who string, now time.Time) time.Duration {
	t.Lock()
	defer t.Unlock()
	if x := t.of(who, now); x != nil && x.wrong >= mostTries {
		return max(quietFor-now.Sub(x.last), time.Second)
	}
	return 0
}

// failed notes that a try was wrong. heard: it is one of those that are still heard, and last: of these it is the last.
func (t *tries) failed(who string, now time.Time) (heard, last bool) {
	t.Lock()
	defer t.Unlock()
	x := t.of(who, now)
	if x == nil {
		x = &try{}
		t.by.Add(who, x)
	}
	if x.wrong++; x.wrong <= mostTries {
		x.last = now
	}
	return x.wrong <= mostTries, x.wrong == mostTries
}
