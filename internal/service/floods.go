package service

import (
	"fmt"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// floods bounds how many entries the audit log gets of what somebody is refused: so many in a row, and one a second
// from then on. What is left out is counted, and told with the next one.
type floods struct {
	mu sync.Mutex
	by *lru.Cache[string, *flood]
}

type flood struct {
	limit *rate.Limiter
	left  int64
}

// inARow is how many entries in a row are kept of what somebody is refused; mostFloods how many are told apart.
const inARow, mostFloods = 100, 1000

// kept says whether an entry is to be kept, and what it tells of those before it that were not.
func (f *floods) kept(who string) (yes bool, more string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.by == nil {
		f.by, _ = lru.New[string, *flood](mostFloods) // a size that is none is the only error
	}
	x, known := f.by.Get(who)
	if !known {
		x = &flood{limit: rate.NewLimiter(1, inARow)}
		f.by.Add(who, x)
	}
	if !x.limit.Allow() {
		x.left++
		return false, ""
	}
	if x.left > 0 {
		more = fmt.Sprintf("; %d more before it are not told one by one", x.left)
		x.left = 0
	}
	return true, more
}
