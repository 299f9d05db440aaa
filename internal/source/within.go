package source

import (
	"context"
	"sync"
	"sync/atomic"
	"time"
)

// listBudget bounds what is asked of each table of a listing by itself, for all of them together. What cannot be had
// by then is left out; it follows when a table is looked at by itself.
const listBudget, listWorkers = time.Second, 3

// EachWithin does something for each of n tables, a few side by side, until that has taken as long as a listing may
// wait for it.
func EachWithin(ctx context.Context, n int, do func(ctx context.Context, i int)) {
	ctx, cancel := context.WithTimeout(ctx, listBudget)
	defer cancel()
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(n, listWorkers) {
		group.Go(func() {
			for i := int(next.Add(1)) - 1; i < n && ctx.Err() == nil; i = int(next.Add(1)) - 1 {
				do(ctx, i)
			}
		})
	}
	group.Wait()
}
