package run

import (
	"context"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// A slice that is read at a rest goes in pieces, each in a statement of its own: no snapshot and no connection is held
// while the reader rests, and a piece that fails is read again alone. It has as many rows as can be read in a moment,
// and at the most so many bytes for 500 of them.
const pieceBytes = 1 << 20

// freePiece is how many rows a piece has where nobody else is at work: what is read within a tenth of a second.
const freePiece = 10_000

// readSlice reads a slice: in one statement at full speed, or in pieces with rests in between, as pace and pressure
// say.
func (r *Execution) readSlice(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (
	*source.Slice, error) {
	if r.reading.Load().pace == pace.Unlimited && r.readRest() == 0 {
		defer r.watcher.Work()()
		return r.read(ctx, req, sink)
	}
	var out *source.Slice
	rows, bytes := req.MaxRows, req.MaxBytes
	pieces := r.pieceSize()
	for {
		piece, size := req, pieces.Rows()
		room, _ := r.free(r.reading.Load().pace)
		burst := room.Burst
		if room.Spurts > 0 && r.reads != nil {
			burst = room.Spurts
		}
		switch {
		case r.readRest() == 0: // nobody else is there
			size = max(size, freePiece)
		case burst > 0:
			size = pieces.Within(burst)
		}
		piece.MaxRows = min(size, rows)
		piece.MaxBytes = min(pieceBytes*int64(max(size/500, 1)), 8*pieceBytes, bytes)
		piece.Spurts = r.inSpurts(r.reads)
		if out != nil {
			piece.After = out.Next
		}
		var held value.Chunk
		var got *source.Slice
		var begun time.Time
		var paused time.Duration
		err := r.retry(ctx, func() (err error) {
			held, begun = value.Chunk{}, time.Now() // what was waited for before is no work to rest from
			paused = r.reads.Breaks()
			defer r.watcher.Work()()
			got, err = r.read(ctx, piece, func(c *value.Chunk) error {
				held.Append(c)
				return ctx.Err()
			})
			return err
		})
		took := time.Since(begun)
		if err == nil && held.Rows() > 0 {
			rows, bytes = rows-held.Rows(), bytes-held.Weight()
			err = r.handOn(ctx, &held, sink)
		}
		if err != nil {
			return nil, err
		}
		if out == nil {
			out = got
		} else {
			if err := out.Locators.Append(got.Locators); err != nil {
				return nil, err
			}
			if got.Last != nil {
				out.Last, out.Next = got.Last, got.Next
			}
			out.More = got.More
		}
		if !got.More || rows <= 0 || bytes <= 0 {
			return out, nil
		}
		if size == pieces.Rows() {
			pieces.Done(held.Rows(), took)
		} else if burst > 0 {
			pieces.Took(held.Rows(), took)
		}
		worked := pieces.Worked(held.Rows(), took-(r.reads.Breaks()-paused))
		learned := pieces
		r.pieces.Store(&learned)
		begun = time.Now()
		if err := r.restFrom(ctx, worked); err != nil {
			return nil, err
		}
		r.rested.Add(int64(time.Since(begun)))
	}
}

// read reads from the source, and says so where the first rows are long in coming.
func (r *Execution) read(ctx context.Context, req source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	done := r.awaited("reading rows")
	defer done()
	return r.source.ReadSlice(ctx, req, func(c *value.Chunk) error {
		done()
		return sink(c)
	})
}

// inSpurts returns the spurts that work is to go in; nil: at once.
func (r *Execution) inSpurts(s *pace.Spurts) *pace.Spurts {
	if room, _ := r.free(r.reading.Load().pace); room.Spurts > 0 {
		return s.Within(room)
	}
	return nil
}

// handRows is how many rows are handed on at a time beside others.
const handRows = 128

// handOn hands a piece on: beside others in parts, with breaks.
func (r *Execution) handOn(ctx context.Context, piece *value.Chunk, sink func(*value.Chunk) error) error {
	if r.inSpurts(r.reads) == nil {
		return sink(piece)
	}
	breathe := r.breather(ctx)
	for from := 0; from < piece.Rows(); from += handRows {
		if err := sink(piece.Part(from, min(from+handRows, piece.Rows()))); err != nil {
			return err
		}
		breathe()
	}
	return nil
}

// breather returns a function that work of our own calls in between: beside others it rests for a moment where it has
// not for a spurt's length.
func (r *Execution) breather(ctx context.Context) func() {
	last := time.Now()
	return func() {
		if time.Since(last) < pace.SpurtLength {
			return
		}
		if r.inSpurts(r.reads) != nil {
			begun := time.Now()
			source.Rest(ctx, pace.SpurtBreak) // whoever called looks whether the context has ended
			r.rested.Add(int64(time.Since(begun)))
		}
		last = time.Now()
	}
}

// pieceSize is what the last piece has taught.
func (r *Execution) pieceSize() pace.Pieces {
	if p := r.pieces.Load(); p != nil {
		return *p
	}
	return pace.NewPieces()
}

// restFrom rests after a piece of reading or verifying that took so long, as the pace says, and for as long as
// pressure makes the run rest.
func (r *Execution) restFrom(ctx context.Context, took time.Duration) error {
	rest := min(time.Duration(float64(took)*r.readRest()), pace.MaxRest)
	if r.inSpurts(r.reads) != nil {
		rest = max(rest, pace.SpurtBreak)
	}
	reason := r.restFor(r.reading.Load().pace)
	err := source.Rest(ctx, rest)
	r.efforts.add(catalog.EffortRest, reason, rest)
	begun := time.Now()
	for err == nil && int64(time.Since(processBegun)) < r.resting.Load() {
		if err = source.Rest(ctx, SampleEvery/4); err == nil {
			r.efforts.add(catalog.EffortRest, *r.restsOn.Load(), time.Since(begun))
			begun = time.Now()
		}
	}
	return err
}

// watching waits for what is read or verified in the background. Meanwhile it asks for the signals, follows them and
// the pace that is asked for, and shows both.
func watching[T any](ctx context.Context, r *Execution, from <-chan T) (got T, err error) {
	for {
		select {
		case got = <-from:
			return got, nil
		case <-time.After(WatchEvery):
		}
		r.changePace()
		r.load.asked = time.Time{}
		r.judge(ctx, r.Now())
		if err := r.show(ctx, false); err != nil {
			return got, err
		}
	}
}

// worksAndRests returns a function that ends a piece of work of a stage, which begins now, and rests for as long as the
// pace says; and one that ends the last piece.
func (r *Execution) worksAndRests(ctx context.Context, stage string) (breathe func() error, done func()) {
	begun, end := time.Now(), r.watcher.Work()
	return func() error {
		end()
		took := time.Since(begun)
		r.efforts.add(catalog.EffortStage, stage, took)
		err := r.restFrom(ctx, took)
		begun, end = time.Now(), r.watcher.Work()
		return err
	}, func() { end() }
}
