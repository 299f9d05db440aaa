package run

import (
	"context"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
)

// movePass is the way a row goes, slice by slice: read and stored, verified, deleted, closed. While one slice is being
// deleted, the next is being verified and the one after that read, unless reading would keep the deletes waiting. It
// returns the number of the next slice.
func (r *Execution) movePass(ctx context.Context, number int, after []value.Value) (int, error) {
	for {
		if from := r.direct(); from != nil {
			left, err := false, error(nil)
			if number, after, left, err = r.purgePass(ctx, from, number, after); err != nil || !left {
				return number, err
			}
		}
		if err := r.giveWay(ctx); err != nil { // nothing is read either where the run has to rest
			return number, err
		}
		next, err := r.moveSlices(ctx, &number, after)
		if err != nil || next == nil {
			return number, err
		}
		after = next
	}
}

// moveSlices moves slice by slice to the end of the pass, or until the rest need not be read first any more: it
// returns where that begins.
func (r *Execution) moveSlices(ctx context.Context, number *int, after []value.Value) ([]value.Value, error) {
	ctx, cancel := context.WithCancel(ctx)
	reads := r.direct() == nil
	x := &pipeline{Execution: r, number: *number, overlap: !r.source.Reads().BlocksWriters}
	defer func() { *number = x.number }()
	defer x.wait() // for both goroutines before returning
	defer cancel()
	x.fetch(ctx, after)
	for {
		w, err := x.fetched(ctx)
		if err != nil {
			return nil, err
		}
		if w == nil {
			return nil, x.deleteLast(ctx)
		}
		last := !w.slice.More || reads && r.direct() != nil
		if x.overlap && !last {
			x.fetch(ctx, w.slice.Next)
		}
		if err := x.proveAndDelete(ctx, w); err != nil {
			return nil, err
		}
		if err := x.dispatch(ctx, w, last); err != nil {
			return nil, err
		}
		if last && w.slice.More {
			return w.slice.Next, x.deleteLast(ctx)
		} else if last {
			return nil, x.deleteLast(ctx)
		}
	}
}

// pipeline is what is under way in a pass: a slice that is being read, one that is being verified, and one that is
// ready to be deleted.
type pipeline struct {
	*Execution
	number  int  // of the next slice
	read    int  // rows
	overlap bool // the next slice is read while others are deleted
	next    <-chan fetched
	ready   <-chan error
	before  *Work // verified, and not deleted yet
}

// wait waits for what goes on in the background.
func (x *pipeline) wait() {
	if x.next != nil {
		<-x.next
	}
	if x.ready != nil {
		<-x.ready
	}
}

// fetch begins to read and store the next slice.
func (x *pipeline) fetch(ctx context.Context, after []value.Value) {
	x.next = x.Execution.fetch(ctx, x.number, after, x.Ramp(x.read))
}

// fetched waits for the slice that is being read; nil: no row is left.
func (x *pipeline) fetched(ctx context.Context) (*Work, error) {
	got, err := watching(ctx, x.Execution, x.next)
	if err != nil {
		return nil, err
	}
	x.next = nil
	if got.err != nil || got.work == nil {
		return nil, got.err
	}
	w := got.work
	x.number = w.number + 1 + len(w.related)
	x.taken += int64(len(w.Digests))
	x.read += len(w.Digests)
	return w, nil
}

// proveAndDelete verifies a slice, and deletes the one before it meanwhile.
func (x *pipeline) proveAndDelete(ctx context.Context, w *Work) error {
	x.ready = x.prove(ctx, w)
	if x.before != nil {
		if err := x.deleteSlice(ctx, x.before, nil); err != nil {
			return err
		}
		x.before = nil
	}
	bad, err := watching(ctx, x.Execution, x.ready)
	if err != nil {
		return err
	}
	x.ready = nil
	return bad
}

// dispatch has a verified slice deleted later where reading goes on meanwhile, at once where it does not, and not at
// all where rows are only copied. last: no other is read behind it.
func (x *pipeline) dispatch(ctx context.Context, w *Work, last bool) error {
	if x.Pass.then == rule.ThenCopy {
		x.copied(w)
		x.Run.WindowRows += int64(len(w.Digests))
		if err := x.giveWay(ctx); err != nil {
			return err
		}
		if err := x.show(ctx, true); err != nil {
			return err
		}
	} else if x.overlap {
		x.before = w
	} else if err := x.deleteSlice(ctx, w, nil); err != nil {
		return err
	}
	if !x.overlap && !last {
		x.fetch(ctx, w.slice.Next)
	}
	return nil
}

// deleteLast deletes the slice that is ready.
func (x *pipeline) deleteLast(ctx context.Context) error {
	if x.before == nil {
		return nil
	}
	return x.deleteSlice(ctx, x.before, nil)
}
