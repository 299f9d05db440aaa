package tables

import (
	"sync"

	"ambercellar/internal/source"
)

// Chain is the table's chain of manifests and closing records. Its head is also kept in the source's journal.
type Chain struct {
	sync.Mutex
	Db     source.Source
	Source string // the name of db
	Table  string
	Head   source.Head
	Err    error // of a record of which it is not known how far it came: no other can follow before that is settled
}
