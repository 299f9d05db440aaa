package restore

import (
	"context"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/value"
)

// target is where rows of a restore go: their table, a side table, or a file. deliver may be called by several
// goroutines at a time; finish is called once, after all rows were delivered.
type target interface {
	deliver(ctx context.Context, m *archive.Manifest, rows *value.Chunk, digests []value.Digest, ordinals []int) error
	finish(ctx context.Context) error
}
