package source

import (
	"context"
	"time"
)

// Rest waits for so long, or until the context ends, whose error it then returns.
func Rest(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}
