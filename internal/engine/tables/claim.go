package tables

import (
	"context"
	"slices"
)

// Claim makes this execution the only one of the service on the tables of a run, and returns how to give them back.
func (ts *Tables) Claim(ctx context.Context, sourceName string, tables []string) (func(), error) {
	var taken []chan struct{}
	release := func() {
		for _, c := range taken {
			<-c
		}
	}
	tables = slices.Compact(slices.Sorted(slices.Values(tables)))
	for _, name := range tables {
		c, _ := ts.claims.LoadOrStore(sourceName+"\x00"+name, make(chan struct{}, 1))
		select {
		case c.(chan struct{}) <- struct{}{}:
			taken = append(taken, c.(chan struct{}))
		case <-ctx.Done():
			release()
			return nil, context.Cause(ctx)
		}
	}
	return release, nil
}

// TryClaim claims a table if nobody works on it; nil: somebody does.
func (ts *Tables) TryClaim(sourceName, table string) (release func()) {
	x, _ := ts.claims.LoadOrStore(sourceName+"\x00"+table, make(chan struct{}, 1))
	c := x.(chan struct{})
	select {
	case c <- struct{}{}:
		return func() { <-c }
	default:
		return nil
	}
}

// TakeInHand keeps sweeping from files that are written into a store for a segment that is not known to lie there yet.
// The function that is returned is called once it is, or when the files are given up.
func (ts *Tables) TakeInHand(store, stem string) func() {
	key := store + "\x00" + stem
	ts.inHand.Store(key, true)
	return func() { ts.inHand.Delete(key) }
}

func (ts *Tables) IsInHand(store, stem string) bool {
	_, ok := ts.inHand.Load(store + "\x00" + stem)
	return ok
}
