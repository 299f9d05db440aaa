package search

import (
	"context"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/source"
)

// Conflicts counts archived rows whose key is in their table.
type Conflicts struct {
	Source source.Source
	Table  *shape.Table
	keys   [][]value.Value
	Found  int64
}

// KeyOf are the positions of the table's key among a segment's columns.
func (c *Conflicts) KeyOf(m *archive.Manifest) ([]int, error) {
	var out []int
	for _, k := range c.Table.Key {
		i := slices.IndexFunc(m.Columns, func(x shape.Column) bool { return x.Name == k })
		if i < 0 {
			return nil, &refuse.Error{Message: fmt.Sprintf(
				"segment %s has no column %q, which is in the key of table %s now", m.Segment, k, c.Table.Name),
				Remedy: "restore to a file, or to a side table"}
		}
		out = append(out, i)
	}
	return out, nil
}

// Add takes in a row; key are the positions of the key among its columns.
func (c *Conflicts) Add(ctx context.Context, row []value.Value, key []int) error {
	k := make([]value.Value, len(key))
	for i, at := range key {
		k[i] = row[at].Clone()
	}
	if c.keys = append(c.keys, k); len(c.keys) >= shelf.KeysAtOnce {
		return c.Look(ctx)
	}
	return nil
}

// Look counts what was taken in and not looked up yet.
func (c *Conflicts) Look(ctx context.Context) error {
	if len(c.keys) == 0 {
		return nil
	}
	err := c.Source.Related(ctx, source.Query{Selection: source.Selection{Table: c.Table}, On: c.Table.Key,
		Values: c.keys}, func([]value.Value) error { c.Found++; return nil })
	c.keys = c.keys[:0]
	return err
}
