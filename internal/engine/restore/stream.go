package restore

import (
	"context"
	"sync"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/value"
)

// handful is what is delivered at a time.
type handful struct {
	value.Chunk
	manifest *archive.Manifest
	digests  []value.Digest
	ordinals []int
}

// handing delivers rows while the next are read, some handfuls at a time.
type handing struct {
	next   chan *handful
	failed chan struct{} // closed when one was not delivered
	once   sync.Once
	err    error // once failed is closed
	wait   sync.WaitGroup
}

// hand is what delivers; it is begun where nothing does.
func (q *restoration) hand(ctx context.Context) *handing {
	if q.handing != nil {
		return q.handing
	}
	w := &handing{next: make(chan *handful), failed: make(chan struct{})}
	q.handing = w
	for range max(q.hands, 1) {
		w.wait.Go(func() {
			for h := range w.next {
				select {
				case <-w.failed:
					continue
				default:
				}
				if err := q.deliver(ctx, h.manifest, &h.Chunk, h.digests, h.ordinals); err != nil {
					w.once.Do(func() { w.err = err; close(w.failed) })
				}
			}
		})
	}
	return w
}

// give hands rows over, once somebody is there to deliver them.
func (w *handing) give(h *handful) error {
	select {
	case w.next <- h:
		return nil
	case <-w.failed:
		return w.err
	}
}

// delivered waits until all that was handed over is delivered.
func (q *restoration) delivered() error {
	w := q.handing
	if w == nil {
		return nil
	}
	q.handing = nil
	close(w.next)
	w.wait.Wait()
	return w.err
}

// counted adds what became of rows that were delivered, and keeps it.
func (q *restoration) counted(ctx context.Context, found, restored, skipped int64) error {
	q.restore.Found += found
	q.restore.Restored += restored
	q.restore.Skipped += skipped
	if q.quiet {
		return nil
	}
	return q.Catalog.SaveRestore(ctx, q.restore)
}

// most is how many rows are delivered at a time.
func (q *restoration) most() int {
	if q.pace == nil {
		return 2_000
	}
	return min(int(q.batch.Load()), restoreRows)
}
