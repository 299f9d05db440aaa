// Package due says which rows of a table are due by its rule: the selection, joined and related tables, and what holds
// keep. It counts and moves nothing.
package due

import (
	"context"
	"crypto/rand"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/tables"
)

// A slice is a segment's worth of rows. Of three slices at most, keys and digests are in memory at a time.
const (
	SliceRows  = 125_000
	SliceBytes = 48 << 20
)

// Selector makes selections.
type Selector struct {
	*deps.Deps
	tables *tables.Tables
}

// New returns a Selector.
func New(d *deps.Deps, t *tables.Tables) *Selector { return &Selector{d, t} }

const maskSetting = "mask_key"

// MaskKey is the key of masks that hash. It stays in the catalog and goes into no archive.
func (du *Selector) MaskKey(ctx context.Context) ([]byte, error) {
	text, err := du.Catalog.Setting(ctx, maskSetting)
	if err != nil {
		return nil, err
	}
	if text == "" {
		text = rand.Text() + rand.Text()
		if err := du.Catalog.SetSetting(ctx, maskSetting, text); err != nil {
			return nil, err
		}
	}
	return []byte(text), nil
}

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
