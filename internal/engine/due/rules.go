package due

import (
	"context"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
)

// Keeps returns the named keeps of the catalog.
func (du *Selector) Keeps(ctx context.Context) (map[string]rule.Named, error) {
	list, err := du.Catalog.Keeps(ctx)
	out := map[string]rule.Named{}
	for _, k := range list {
		out[k.Name] = k.Body.V
	}
	return out, err
}

func Resolver(keeps map[string]rule.Named, t *shape.Table) rule.Resolver {
	return rule.Resolver{
		Named: func(name string) (rule.Named, bool) { n, ok := keeps[name]; return n, ok },
		Newest: func(n int, now time.Time, zone *time.Location) (time.Time, error) {
			return rule.Newest(t.Partitions, n, now, zone)
		},
	}
}
