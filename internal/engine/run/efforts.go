package run

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/catalog"
)

// Stages of a run's work, as their time is summed up.
const (
	StageCopy   = "copy"   // reading rows and writing them to a segment's file
	StageVerify = "verify" // reading the file back and comparing every row
	StageDelete = "delete" // the transactions that delete
)

// RestPace is the reason of rests that the pace asks for, whatever goes on in the database. Other reasons are names of
// signals.
const RestPace = "pace"

// RestOthers is the reason of rests that the gentle pace takes because others are at work, or may be.
const RestOthers = "others"

// efforts are where the time of a run went since that was kept last. What works side by side is added up.
type efforts struct {
	mu   sync.Mutex
	sums map[[2]string]*catalog.Effort
}

// add takes in one stage or one rest.
func (e *efforts) add(kind, name string, took time.Duration) {
	if took <= 0 {
		return
	}
	e.putBack([]catalog.Effort{{Kind: kind, Name: name, Micros: took.Microseconds(), Times: 1}})
}

// take returns what there is, and begins anew.
func (e *efforts) take() (out []catalog.Effort) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, sum := range e.sums {
		out = append(out, *sum)
	}
	e.sums = nil
	slices.SortFunc(out, func(a, b catalog.Effort) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// putBack adds efforts up.
func (e *efforts) putBack(list []catalog.Effort) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.sums == nil {
		e.sums = map[[2]string]*catalog.Effort{}
	}
	for _, x := range list {
		key := [2]string{x.Kind, x.Name}
		if sum := e.sums[key]; sum != nil {
			sum.Micros, sum.Times = sum.Micros+x.Micros, sum.Times+x.Times
		} else {
			e.sums[key] = &x
		}
	}
}
