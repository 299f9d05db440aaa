package source

import (
	"sync"
	"sync/atomic"
)

// ours counts the connections that this program has made, and asks what it has asked, by the address of the server:
// *atomic.Int64.
var ours, asks sync.Map

func connected(address string) *atomic.Int64 { return counter(&ours, address) }

func counter(of *sync.Map, address string) *atomic.Int64 {
	n, known := of.Load(address)
	if !known {
		n, _ = of.LoadOrStore(address, &atomic.Int64{})
	}
	return n.(*atomic.Int64)
}

// Asks notes that this program has ended a transaction, or sent a statement, as a server counts what it does.
func Asks(address string) { counter(&asks, address).Add(1) }

// Asked returns how many that were.
func Asked(address string) int64 { return counter(&asks, address).Load() }

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
