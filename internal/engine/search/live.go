package search

import (
	"context"
	"fmt"
	"math"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// liveSearch is the search of a table itself.
type liveSearch struct {
	q             SearchRequest
	table         *shape.Table
	columns, show []shape.Column
	out           *Searched
	hit           func(Hit) error
	bytes         int64 // of the rows that were found
}

// condition is the filter of the table's own rows; nil: every row.
func (x *liveSearch) condition() (*filter.Filter, error) {
	if x.q.Where == "" {
		return nil, nil
	}
	bound, bad := filter.Bind(x.q.Where,
		filter.TableScope(&shape.Table{TableForm: shape.TableForm{Columns: x.columns}}))
	if len(bad) > 0 {
		return nil, refuse.Filter("where", bad[0])
	}
	for _, r := range bound.Columns() {
		if c, _ := x.table.Column(r.Name); c == nil {
			return nil, &refuse.Error{Field: "where",
				Message: fmt.Sprintf("table %s has no column %q any more, so its own rows cannot be judged by it",
					x.table.Name, r.Name), Remedy: "search the archive alone"}
		}
	}
	if bound, bad = filter.Bind(x.q.Where, filter.TableScope(x.table)); len(bad) > 0 {
		return nil, refuse.Filter("where", bad[0])
	}
	return bound, nil
}

// reads are the columns of the table that are read, and the place among the shown ones that each goes to.
func (x *liveSearch) reads() (read, to []int) {
	for i, c := range x.show {
		if own, at := x.table.Column(c.Name); own != nil && own.Problem == "" {
			read, to = append(read, at), append(to, i)
		}
	}
	if len(read) == 0 { // nothing of a row is shown, and it counts all the same
		_, key := x.table.Column(x.table.Columns[0].Name)
		read, to = []int{key}, []int{-1}
	}
	return read, to
}

// take hands on a row. A column that the table does not have any more is NULL.
func (x *liveSearch) take(row []value.Value, to []int) error {
	if x.q.Limit > 0 && (x.out.Found >= int64(x.q.Limit) || x.bytes > MostFound) {
		x.out.More, x.out.Large = true, x.bytes > MostFound
		return nil
	}
	h := Hit{Row: make([]value.Value, len(x.show))}
	for i, v := range row {
		if to[i] >= 0 {
			h.Row[to[i]] = v.Clone()
		}
	}
	x.out.Found++
	x.out.Live++
	x.bytes += h.size()
	return x.hit(h)
}

// searchLive hands on the rows of the table itself. begin hears of the moment at which it is read, before the first
// row.
func (se *Searcher) searchLive(ctx context.Context, x *liveSearch, begin func(*Moment) error) error {
	f, err := x.condition()
	if err != nil {
		return err
	}
	src, err := se.Source(ctx, x.q.Source)
	if err != nil {
		return err
	}
	within, cancel := context.WithTimeout(ctx, liveBudget)
	defer cancel()
	most := math.MaxInt32
	if x.q.Limit > 0 {
		most = x.q.Limit + 1
	}
	read, to := x.reads()
	report := func(row []value.Value) error { return x.take(row, to) }
	_, err = se.liveAt(within, src, x.q.Source, source.LiveQuery{Table: x.table, Filter: f, Columns: read, Limit: most,
		Row: report}, begin)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		return &refuse.Error{Field: "live",
			Message: fmt.Sprintf("the table itself was not searched within %s, and is not read any longer than that",
				liveBudget), Remedy: "name a column that has an index, or search the archive alone"}
	}
	return err
}
