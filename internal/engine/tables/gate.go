package tables

import (
	"context"
	"errors"
	"sync"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
)

// Gate is held for reading by everything that removes rows or segments of a table, for as long as one such step takes.
func (ts *Tables) Gate(source, table string) *sync.RWMutex {
	g, _ := ts.gates.LoadOrStore(source+"\x00"+table, &sync.RWMutex{})
	return g.(*sync.RWMutex)
}

// HoldsOn returns the filters of the holds that stand on a table's rows. A hold that cannot be judged any more holds
// every row.
func (ts *Tables) HoldsOn(ctx context.Context, source string, t *shape.Table) ([]*filter.Filter, error) {
	holds, err := ts.Catalog.TableHolds(ctx, source, t.Name)
	if err != nil {
		return nil, err
	}
	var out []*filter.Filter
	for _, h := range holds {
		if h.Filter == "" {
			continue
		}
		f, bad := filter.Bind(h.Filter, filter.TableScope(t))
		if len(bad) > 0 {
			ts.Log.Warn("a hold cannot be judged and holds every row", "hold", h.ID, "error", bad[0].Plain())
			f, bad = filter.Bind("TRUE", filter.TableScope(t))
		}
		if len(bad) > 0 {
			return nil, errors.New(bad[0].Plain())
		}
		out = append(out, f)
	}
	return out, nil
}
