package rule

import (
	"fmt"
	"regexp"
	"slices"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/shape"
)

// Cutoff is the instant before which the rows of a clause are due, or that they never are, or that all of them are,
// those without an age and those dated in the future among them.
type Cutoff struct {
	At    time.Time
	Never bool
	All   bool
}

// Resolver answers for what a keep says only by reference. A nil function knows nothing.
type Resolver struct {
	Named func(name string) (Named, bool)
	// where the oldest of so many newest partitions begins
	Newest func(partitions int, now time.Time, zone *time.Location) (time.Time, error)
}

// Cutoffs computes the cutoff of every clause for a plan made at now, in whole seconds of UTC.
func (r *Rule) Cutoffs(now time.Time, resolve Resolver) ([]Cutoff, error) {
	out := make([]Cutoff, len(r.Clauses))
	for i := range r.Clauses {
		var err error
		if out[i], err = r.cutoff(i, now, resolve); err != nil {
			return nil, fmt.Errorf("clause %s: %w", r.Label(i), err)
		}
	}
	return out, nil
}

func (r *Rule) cutoff(i int, now time.Time, resolve Resolver) (Cutoff, error) {
	c := r.Clauses[i]
	keep, zone := c.Keep, r.Location()
	if keep.Name != "" {
		named, ok := Named{}, false
		if resolve.Named != nil {
			named, ok = resolve.Named(keep.Name)
		}
		if !ok {
			return Cutoff{}, fmt.Errorf("there is no keep named %q", keep.Name)
		}
		keep = named.Keep()
	}
	switch {
	case keep.Forever:
		return Cutoff{Never: true}, nil
	case keep.None:
		return Cutoff{At: now.UTC().Truncate(time.Second), All: true}, nil
	case keep.Before != nil:
		at := c.Align.Floor(keep.Before.In(zone), zone).UTC()
		if at.After(now) {
			at = now
		}
		return Cutoff{At: at.Truncate(time.Second)}, nil
	case keep.Newest > 0:
		if resolve.Newest == nil {
			return Cutoff{}, fmt.Errorf("the table's partitions are not known")
		}
		at, err := resolve.Newest(keep.Newest, now, zone)
		return Cutoff{At: at.UTC().Truncate(time.Second)}, err
	}
	return Cutoff{At: period.Cutoff(now, keep.Period, c.Align, zone)}, nil
}

// Newest returns where the oldest of the n newest partitions begins. Those whose range has not begun, which were made
// ahead or for a stray date, do not count: else everything might be due. zone is that of bounds that name none.
func Newest(partitions []shape.Partition, n int, now time.Time, zone *time.Location) (time.Time, error) {
	begun := []time.Time{}
	for _, p := range partitions {
		at, ok := time.Time{}, p.From == "" // without a lower bound it has begun
		if !ok {
			if at, ok = boundTime(p.From, zone); !ok {
				return at, fmt.Errorf("partition %s begins at %q, which is no time", p.Name, p.From)
			}
		}
		if !at.After(now) {
			begun = append(begun, at)
		}
	}
	if n >= len(begun) {
		return time.Time{}, fmt.Errorf(
			"of the table's %d partitions the range of %d has begun, which is not more than the %d to keep",
			len(partitions), len(begun), n)
	}
	return begun[len(begun)-n], nil
}

// wholeOffset is an offset from UTC as PostgreSQL writes one of whole hours.
var wholeOffset = regexp.MustCompile(`(:\d\d[+-]\d\d)$`)

// Ahead names the partitions whose range has not begun.
func Ahead(partitions []shape.Partition, now time.Time, zone *time.Location) (names []string) {
	for _, p := range partitions {
		if at, ok := boundTime(p.From, zone); ok && at.After(now) {
			names = append(names, p.Name)
		}
	}
	return names
}

// Term says which rows one clause governs, and from when on they are due: those for which Where is true, and none of
// Except. A row matched by several clauses is governed by the one that keeps it longest.
type Term struct {
	Clause int
	Where  *filter.Filter // nil: every row
	Except []*filter.Filter
	None   bool // governs no row: a clause for every row keeps longer
	Cutoff
}

// Terms makes the terms of the enabled clauses, in the order of the rule. No row belongs to two of them. scope says
// which columns there are.
func (r *Rule) Terms(cutoffs []Cutoff, scope filter.Scope) ([]Term, error) {
	var out []Term
	filters := make([]*filter.Filter, len(r.Clauses))
	var ranked []int // clauses with their own condition, the longest keep first
	for i, c := range r.Clauses {
		if c.Off {
			continue
		}
		if c.Where != "" {
			f, bad := filter.Bind(c.Where, scope)
			if len(bad) > 0 {
				return nil, fmt.Errorf("clause %s: %w", r.Label(i), bad[0])
			}
			filters[i] = f
		}
		if !c.Otherwise {
			ranked = append(ranked, i)
		}
	}
	slices.SortStableFunc(ranked, func(a, b int) int {
		x, y := cutoffs[a], cutoffs[b]
		switch {
		case x.Never && !y.Never:
			return -1
		case y.Never && !x.Never:
			return 1
		case x.Never:
			return 0
		}
		return x.At.Compare(y.At)
	})
	for i, c := range r.Clauses {
		if c.Off {
			continue
		}
		t := Term{Clause: i, Where: filters[i], Cutoff: cutoffs[i]}
		for _, j := range ranked {
			if j == i {
				break
			}
			if filters[j] == nil {
				t.None = true
			} else {
				t.Except = append(t.Except, filters[j])
			}
		}
		out = append(out, t)
	}
	return out, nil
}
