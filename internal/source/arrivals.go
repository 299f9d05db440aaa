package source

import (
	"sync"
	"sync/atomic"
)

// ours counts the connections that this program has made, by the address of the server: *atomic.Int64.
var ours sync.Map

func connected(address string) *atomic.Int64 {
	n, _ := ours.LoadOrStore(address, &atomic.Int64{})
	return n.(*atomic.Int64)
}

// Connects notes that this program makes a connection to a server.
func Connects(address string) { connected(address).Add(1) }

// Arrivals tells how many connections others make to a server: what the server counts less what this program has made.
// That shows those who come and go between two looks. The zero value has not asked yet.
type Arrivals struct {
	mu    sync.Mutex
	known bool
	most  int64 // that others had made at any time
}

// restarted is by how many a count falls only where the server was started anew.
const restarted = 100

// Others returns how many connections others have made since it was last asked, where the server counts so many in all.
// One of ours that the server counts late is no arrival. The first time, and after a restart, it returns none.
func (a *Arrivals) Others(address string, counted int64) int {
	a.mu.Lock()
	defer a.mu.Unlock()
	theirs, before := counted-connected(address).Load(), a.most
	if !a.known || theirs < before-restarted {
		a.known, a.most = true, theirs
		return 0
	}
	a.most = max(before, theirs)
	return int(a.most - before)
}
