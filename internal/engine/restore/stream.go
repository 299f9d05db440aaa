package restore

import (
	"context"
	"sync"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/value"
)

// portion is what is delivered at a time.
type portion struct {
	value.Chunk
	manifest *archive.Manifest
	digests  []value.Digest
	ordinals []int
}

// stream delivers rows while the next are read, some handfuls at a time.
type stream struct {
	next   chan *portion
	failed chan struct{} // closed when one was not delivered
	once   sync.Once
	err    error // once failed is closed
	wait   sync.WaitGroup
}

// startStream is what delivers; it is begun where nothing does.
func (q *restoration) startStream(ctx context.Context) *stream {
	if q.stream != nil {
		return q.stream
	}
	w := &stream{next: make(chan *portion), failed: make(chan struct{})}
	q.stream = w
	for range max(q.workers, 1) {
		w.wait.Go(func() {
			for h := range w.next {
				select {
				case <-w.failed:
					continue
				default:
				}
				if err := q.target.deliver(ctx, h.manifest, &h.Chunk, h.digests, h.ordinals); err != nil {
					w.once.Do(func() { w.err = err; close(w.failed) })
				}
			}
		})
	}
	return w
}

// give hands rows over, once somebody is there to deliver them.
func (w *stream) give(h *portion) error {
	select {
	case w.next <- h:
		return nil
	case <-w.failed:
		return w.err
	}
}

// delivered waits until all that was handed over is delivered.
func (q *restoration) delivered() error {
	w := q.stream
	if w == nil {
		return nil
	}
	q.stream = nil
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
