package rule

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Way is how the rows of a partition leave.
type Way string

const (
	WayWhole Way = "whole" // copied, set aside, compared once more and dropped
	WayRows  Way = "rows"  // in batches, like the rows of any table
	WayStays Way = "stays" // no row of it is due
)

// PartWay is the way of one partition.
type PartWay struct {
	Way Way
	Why string // that it is not another
}

// Ways says how each partition of a table leaves at the cutoffs of the terms. A partition leaves as a whole where
// every row that it can hold is due: its range ends at the least cutoff or before it. Whether a row of it is held, or
// covered by no clause, only a look at the rows tells.
func (r *Rule) Ways(t *shape.Table, terms []Term) []PartWay {
	out := make([]PartWay, len(t.Partitions))
	for i, p := range t.Partitions {
		out[i] = r.way(t, p, terms)
	}
	return out
}

func (r *Rule) way(t *shape.Table, p shape.Partition, terms []Term) PartWay {
	if r.Age.Join != "" || p.Column != r.Age.Column {
		return PartWay{WayRows, fmt.Sprintf("the table is divided by %s, and the age is %s", p.Column, r.Age.Column)}
	}
	if t.ByAddress() {
		return PartWay{WayRows, "the table has no key, so that a row that goes back could not be told from others"}
	}
	from, begins := r.bound(t, p.From)
	to, ends := r.bound(t, p.To)
	var least, latest time.Time
	never := false
	for _, x := range terms {
		switch {
		case x.None:
		case x.Never:
			never = true
		default:
			if least.IsZero() || x.At.Before(least) {
				least = x.At
			}
			if x.At.After(latest) {
				latest = x.At
			}
		}
	}
	switch {
	case latest.IsZero() || begins && !from.Before(latest) &&
		!slices.ContainsFunc(terms, func(x Term) bool { return x.All }):
		return PartWay{Way: WayStays}
	case p.From != "" && !begins || p.To != "" && !ends:
		return PartWay{WayRows, "its bounds are no instants"}
	case never:
		return PartWay{WayRows, "a clause keeps its rows for ever"}
	case !ends || to.After(least):
		return PartWay{WayRows, "only part of its range is due"}
	case r.Partitions == WayRows:
		return PartWay{WayRows, "the rule says `partitions: rows`"}
	case r.copiesOnly():
		return PartWay{WayRows, "its rows are copied first, and deleted by a decision of its own"}
	case len(t.Triggers) > 0:
		return PartWay{WayRows, fmt.Sprintf("the trigger %s fires on delete, and not when a partition is dropped",
			t.Triggers[0])}
	case len(t.ReferencedBy) > 0:
		return PartWay{WayRows, fmt.Sprintf("rows of %s refer to the table", t.ReferencedBy[0].Table)}
	case len(r.Related) > 0:
		return PartWay{WayRows, "other tables' rows go along with its own"}
	case t.Followed:
		return PartWay{WayRows, "a publication sends deletes on to subscribers, and no dropping of partitions"}
	case p.Hinders != "":
		return PartWay{WayRows, p.Hinders}
	}
	return PartWay{Way: WayWhole}
}

func (r *Rule) copiesOnly() bool {
	for i, c := range r.Clauses {
		if !c.Off && r.Effective(i).Then == ThenCopy {
			return true
		}
	}
	return false
}

// bound reads a bound of a partition as an instant.
func (r *Rule) bound(t *shape.Table, text string) (time.Time, bool) {
	c, _ := t.Column(r.Age.Column)
	if c != nil && c.Age == shape.AgeNumber {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return time.Time{}, false
		}
		return r.Age.Instant(value.Value{Kind: value.Int, N: n})
	}
	return boundTime(text, r.Location())
}

func boundTime(text string, zone *time.Location) (time.Time, bool) {
	return parseISO(wholeOffset.ReplaceAllString(text, "$1:00"), zone)
}

// Further returns the bounds of so many partitions to follow the newest of a table, each as long as the newest is: in
// calendar years, months or days where its bounds lie on such, otherwise in seconds.
func Further(parts []shape.Partition, n int) (bounds [][2]time.Time, err error) {
	parts = slices.Clone(parts)
	parts = slices.DeleteFunc(parts, func(p shape.Partition) bool { return p.To == "" })
	if len(parts) == 0 {
		return nil, fmt.Errorf("there is no partition with an upper bound to go on from")
	}
	last := parts[len(parts)-1]
	if last.From == "" {
		return nil, fmt.Errorf("the newest partition, %s, has no lower bound, so its length is not known", last.Name)
	}
	from, ok1 := boundTime(last.From, time.UTC)
	to, ok2 := boundTime(last.To, time.UTC)
	if !ok1 || !ok2 || !to.After(from) {
		return nil, fmt.Errorf("the bounds of the newest partition, %s, are no times (%q to %q)", last.Name, last.From,
			last.To)
	}
	next := step(from, to)
	for range n {
		at := to
		if to = next(at); !to.After(at) {
			return nil, fmt.Errorf("the length of the newest partition, %s, cannot be told", last.Name)
		}
		bounds = append(bounds, [2]time.Time{at, to})
	}
	return bounds, nil
}

// step tells from the length of one partition where the next ends.
func step(from, to time.Time) func(time.Time) time.Time {
	midnight := func(t time.Time) bool { return t.Equal(t.Truncate(24 * time.Hour)) }
	months := (to.Year()-from.Year())*12 + int(to.Month()) - int(from.Month())
	if midnight(from) && midnight(to) {
		if from.Day() == 1 && to.Day() == 1 && months > 0 {
			return func(t time.Time) time.Time { return t.AddDate(0, months, 0) }
		}
		days := int(to.Sub(from).Hours() / 24)
		return func(t time.Time) time.Time { return t.AddDate(0, 0, days) }
	}
	return func(t time.Time) time.Time { return t.Add(to.Sub(from)) }
}
