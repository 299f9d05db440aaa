// Package tables claims tables, so that nobody else works on them at the same time: the claim within this
// service, the lease and the history in the source, the gate for holds, and the head of the chain of records. It reads
// and moves no rows.
package tables

import (
	"sync"

	"ambercellar/internal/engine/deps"
)

// Tables knows which tables are claimed.
type Tables struct {
	*deps.Deps
	claims sync.Map // source and table → chan struct{}: held by the execution that works on the table
	// source and table → *sync.RWMutex: what removes rows holds it for reading, a hold being placed for writing
	gates  sync.Map
	inHand sync.Map // store and stem → true: files are being written there whose segment is not known there yet
}

// New returns Tables of which none is claimed.
func New(d *deps.Deps) *Tables { return &Tables{Deps: d} }
