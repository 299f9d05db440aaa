package run

import (
	"context"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/source"
)

// reopen reads a stored segment again, in place of the slice that it was made from. Locators do not outlive a start
// of the service, so the rows are found again by key and content.
func (r *Execution) reopen(ctx context.Context, s *catalog.Segment, p *Pass, segments []catalog.Segment) (*Work,
	error) {
	w, err := r.stored(ctx, s, p)
	if err != nil {
		return nil, err
	}
	if w.blind {
		return w, nil
	}
	if s.State == catalog.SegmentClosed || p.then == rule.ThenCopy && !r.Run.Deleting { // only its end is of interest
		return w, nil
	}
	if len(p.related) > 0 {
		journal, err := r.source.Journal(ctx, r.Run.ID, s.Number)
		if err != nil {
			return nil, err
		}
		if err := r.reopenRelated(ctx, w, segments, journal); err != nil {
			return nil, err
		}
	}
	return w, r.locate(ctx, w)
}

// contents reads a segment from its store: the digests of its rows, their keys, what refers to them, and the last
// row's age.
func (r *Execution) contents(ctx context.Context, w *Work) error {
	at := func(name string) int {
		return slices.IndexFunc(w.manifest.Columns, func(c shape.Column) bool { return c.Name == name })
	}
	places := func(names []string) []int {
		out := make([]int, len(names))
		for i, name := range names {
			out[i] = at(name)
		}
		return out
	}
	pick := func(row []value.Value, places []int) []value.Value {
		out := make([]value.Value, len(places))
		for i, p := range places {
			out[i] = row[p].Clone()
		}
		return out
	}
	age, member := -1, -1 // an age of another table is not archived: reading begins again with the oldest row
	var refers []int
	related := w.pass.related
	if w.pass.relation != nil {
		refers = places(w.pass.relation.OurColumns())
		root, err := r.passOf(w.pass.clause, r.table.Name)
		if err != nil {
			return err
		}
		related = root.related
		member = slices.Index(related, w.pass)
	} else if r.rule.Age.Join == "" && !w.pass.table.ByAddress() { // nor is an address
		age = at(r.rule.Age.Column)
	}
	key := places(w.pass.table.OwnKey())
	note := w.refer(member, w.manifest.Columns, related)
	w.Digests, w.keys, w.refers, w.set = nil, nil, nil, value.Set{}
	own := len(w.manifest.Columns) - len(w.manifest.Included)
	var hasher value.Hasher
	err := archive.Verify(ctx, w.pass.store, w.manifest, func(c *value.Chunk, digests []value.Digest) error {
		for i := range c.Rows() {
			row := c.Row(i)
			if own < len(row) {
				digests[i] = hasher.Row(row[:own])
			}
			w.keys = append(w.keys, pick(row, key))
			if refers != nil {
				w.refers = append(w.refers, pick(row, refers))
			}
			note(row)
		}
		w.Add(digests)
		w.bytes += c.Weight()
		if age >= 0 {
			w.slice.Last = []value.Value{c.Row(c.Rows() - 1)[age].Clone()}
		}
		return ctx.Err()
	})
	if err == nil && len(w.keys) > 0 && age >= 0 {
		w.slice.Last = append(w.slice.Last, w.keys[len(w.keys)-1]...)
		if w.slice.Next = w.slice.Last; w.manifest.WholeAges {
			w.slice.Next = w.slice.Last[:1]
		}
	}
	if asRead := w.manifest.AsRead; err == nil && asRead != nil {
		if len(w.manifest.Omitted)+len(w.manifest.Masked) > 0 {
			w.blind, w.set = true, *asRead
		} else if w.set != *asRead {
			return fmt.Errorf("segment %s: %w: the digest of its rows as they were read is %s instead of %s",
				w.manifest.Segment, archive.ErrDamaged, w.set, asRead)
		}
	}
	return err
}

// locate finds a segment's rows again in the table.
func (r *Execution) locate(ctx context.Context, w *Work) error {
	if w.keys == nil {
		if err := r.contents(ctx, w); err != nil {
			return err
		}
	}
	if w.pass.table.ByAddress() {
		return r.locateByContent(ctx, w)
	}
	var err error
	w.slice.Locators, err = r.source.Locate(ctx, w.pass.sel, w.keys, w.Digests)
	return err
}

// locateByContent finds a segment's rows again in a table without key, by reading what is due until all are found. Of
// rows with the same content any will do; the last of them are found first, since batches begin with the first.
func (r *Execution) locateByContent(ctx context.Context, w *Work) error {
	wanted := make(map[value.Digest][]int, len(w.Digests))
	for o, d := range w.Digests {
		wanted[d] = append(wanted[d], o)
	}
	var found source.Locators
	at := make([]int, len(w.Digests)) // ordinal → its place among those found
	for o := range at {
		at[o] = -1
	}
	left := len(at)
	req := source.SliceRequest{Selection: w.pass.sel, Columns: w.pass.columns, MaxRows: due.SliceRows,
		MaxBytes: due.SliceBytes}
	var hasher value.Hasher
	for {
		var places, ordinals []int
		var slice *source.Slice
		err := r.retry(ctx, func() (err error) {
			row := 0
			places, ordinals = nil, nil
			slice, err = r.readSlice(ctx, req, func(c *value.Chunk) error {
				for i := range c.Rows() {
					d := hasher.Row(c.Row(i))
					if list := wanted[d]; len(list) > 0 {
						places, ordinals = append(places, row), append(ordinals, list[len(list)-1])
						wanted[d] = list[:len(list)-1]
					}
					row++
				}
				return ctx.Err()
			})
			if err != nil { // as it was before this slice
				for _, o := range slices.Backward(ordinals) {
					wanted[w.Digests[o]] = append(wanted[w.Digests[o]], o)
				}
			}
			return err
		})
		if err != nil {
			return err
		}
		base := 0
		picked := slice.Locators.Arrange(places)
		if found == nil {
			found = picked
		} else {
			base = found.Len()
			if err := found.Append(picked); err != nil {
				return err
			}
		}
		for i, o := range ordinals {
			at[o] = base + i
		}
		if left -= len(ordinals); left == 0 || !slice.More || slice.Locators.Len() == 0 {
			w.slice.Locators = found.Arrange(at)
			return nil
		}
		req.After = slice.Next
	}
}
