// Package bykey is what sources share whose rows are told apart by key and content alone: locators that hold keys, and
// the delete of a batch, in which what the delete reports is compared with what was read before anything is committed.
// It speaks no SQL; the engine's folder hands it functions that do.
package bykey

import (
	"context"
	"errors"
	"slices"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// Locators holds the keys of a slice's rows.
type Locators struct {
	width int
	keys  []value.Value
}

// NewLocators begins the locators of a table's slice.
func NewLocators(t *shape.Table) *Locators { return &Locators{width: len(t.Key)} }

// Len returns how many rows there are.
func (l *Locators) Len() int { return len(l.keys) / l.width }

// Key returns the key of a row.
func (l *Locators) Key(i int) []value.Value { return l.keys[i*l.width : (i+1)*l.width] }

// Add appends the key of the next row, or a part of it. The values must stay as they are.
func (l *Locators) Add(vs ...value.Value) { l.keys = append(l.keys, vs...) }

// Append adds the keys of the rows that were read next.
func (l *Locators) Append(more source.Locators) error {
	l.keys = append(l.keys, more.(*Locators).keys...)
	return nil
}

// Arrange returns the keys of these rows in this order; where a row is not there, NULLs, which no row has.
func (l *Locators) Arrange(ordinals []int) source.Locators {
	out := &Locators{width: l.width, keys: make([]value.Value, 0, len(ordinals)*l.width)}
	for _, o := range ordinals {
		if o < 0 {
			out.keys = append(out.keys, make([]value.Value, l.width)...)
		} else {
			out.keys = append(out.keys, l.Key(o)...)
		}
	}
	return out
}

// Of makes locators of keys.
func Of(t *shape.Table, keys [][]value.Value) *Locators {
	l := NewLocators(t)
	for _, k := range keys {
		l.Add(value.CloneRow(k)...)
	}
	return l
}

// KeyOf returns the key of a row that holds these columns of its table.
func KeyOf(t *shape.Table, columns []int, row []value.Value) []value.Value {
	key := make([]value.Value, 0, len(t.Key))
	for _, k := range t.KeyPositions() {
		key = append(key, row[slices.Index(columns, k)])
	}
	return key
}

// Rower hands on rows: first the values of a batch's columns, then the key.
type Rower func(row []value.Value) error

// Operations are what an engine does within one transaction.
type Operations struct {
	// Delete deletes the rows of these keys, but for those that are held or that other tables refer to, and reports
	// each.
	Delete func(ctx context.Context, keys [][]value.Value, report Rower) error
	// List, where it is set, says that Delete reported rows that it was not asked for, and must name each key from now
	// on.
	List func()
	// Undo takes the last Delete back.
	Undo func(ctx context.Context) error
	// Read reads the rows of these keys; Held only those that are held.
	Read, Held func(ctx context.Context, keys [][]value.Value, report Rower) error
}

// Reader computes the digest of a row and a text that identifies its key.
type Reader struct {
	Columns int // values before the key
	hasher  value.Hasher
	text    []byte
}

// Row splits a row into the digest of its content and its key.
func (r *Reader) Row(row []value.Value) (value.Digest, string) {
	return r.hasher.Row(row[:r.Columns]), r.Key(row[r.Columns:])
}

// Key returns a text that is the same for identical keys alone.
func (r *Reader) Key(vs []value.Value) string {
	r.text = r.text[:0]
	for _, v := range vs {
		r.text = v.AppendCanonical(r.text)
	}
	return string(r.text)
}

// Delete deletes the rows of a batch that are what was read, and says in out what became of each. If the delete
// reports a row that is not what was read, it is taken back and done again without that row.
func Delete(ctx context.Context, b source.Batch, ops Operations, out *source.JournalRow) error {
	keys := b.Locators.(*Locators)
	read := &Reader{Columns: len(b.Columns)}
	ordinals := make(map[string]int, len(b.Ordinals)) // of a row that was read twice, the later
	for _, o := range b.Ordinals {
		ordinals[read.Key(keys.Key(o))] = o
	}
	changed, gone := map[int]bool{}, map[int]bool{}
	unchanged := func() (wanted [][]value.Value) {
		for _, o := range b.Ordinals {
			if key := keys.Key(o); !changed[o] && ordinals[read.Key(key)] == o {
				wanted = append(wanted, key)
			}
		}
		return wanted
	}
	wanted := unchanged()
	alone := false // each key is named, and each of them was there
	for {
		var digest value.Set
		fresh, strange := 0, false
		clear(gone)
		err := ops.Delete(ctx, wanted, func(row []value.Value) error {
			d, key := read.Row(row)
			o, ok := ordinals[key]
			switch {
			case !ok: // its key is another one that the column's collation takes for equal
				strange = true
			case d != b.Digests[o]:
				changed[o], fresh = true, fresh+1
			default:
				gone[o] = true
				digest.Add(d)
			}
			return nil
		})
		if err != nil {
			return err
		}
		if fresh == 0 && !strange {
			out.Deleted, out.Digest = len(gone), digest
			break
		}
		if err := ops.Undo(ctx); err != nil {
			return err
		}
		wanted = unchanged()
		if strange {
			before := len(wanted)
			if ops.List != nil {
				ops.List()
			}
			if wanted, err = exactly(ctx, ops, read, wanted); err != nil {
				return err
			}
			if fresh == 0 && len(wanted) == before {
				if alone { // nothing was left out since then, so it would never end
					return errors.New("the database takes two keys of the table for equal that are not, and would " +
						"delete a row that was not read; give the table a key that tells them apart")
				}
				alone = true
			}
		}
	}
	left := &unexplained{b, ops, read, ordinals, gone}
	return left.explain(ctx, out)
}

// stretch is from how many consecutive keys on a statement names their first and last instead of each.
const stretch = 64

// Consecutive returns how many of the keys, from the first, are consecutive whole numbers, if they are enough for
// naming only the first and the last of them; otherwise 0, and behind it how many come before the next ones that are.
func Consecutive(keys [][]value.Value) (n, before int) {
	run := 0 // where the present stretch begins
	for i, k := range keys {
		if len(k) != 1 || k[0].Kind != value.Int {
			return 0, len(keys)
		}
		if i == run || k[0].N == keys[i-1][0].N+1 {
			continue
		}
		if i-run >= stretch {
			break
		}
		run = i
	}
	for n = run; n < len(keys) && keys[n][0].N == keys[run][0].N+int64(n-run); n++ {
	}
	switch {
	case n-run < stretch:
		return 0, len(keys)
	case run == 0:
		return n, 0
	}
	return 0, run
}

// exactly returns those keys that rows of the table have bit by bit, whatever the columns' collation.
func exactly(ctx context.Context, ops Operations, read *Reader, keys [][]value.Value) ([][]value.Value, error) {
	there := map[string]bool{}
	err := ops.Read(ctx, keys, func(row []value.Value) error {
		_, key := read.Row(row)
		there[key] = true
		return nil
	})
	return slices.DeleteFunc(keys, func(k []value.Value) bool { return !there[read.Key(k)] }), err
}

// unexplained is a batch of which rows stay.
type unexplained struct {
	source.Batch
	Operations
	read     *Reader
	ordinals map[string]int // of the rows, by their keys
	gone     map[int]bool
}

// explain says of each row that was not deleted why it stays.
func (x *unexplained) explain(ctx context.Context, out *source.JournalRow) error {
	b, ops, read, ordinals, gone := x.Batch, x.Operations, x.read, x.ordinals, x.gone
	if len(gone) == len(b.Ordinals) {
		return nil
	}
	var left [][]value.Value
	for _, o := range b.Ordinals {
		if !gone[o] {
			left = append(left, b.Locators.(*Locators).Key(o))
		}
	}
	same, present, held := map[int]bool{}, map[int]bool{}, map[int]bool{}
	if err := ops.Read(ctx, left, func(row []value.Value) error {
		d, key := read.Row(row)
		if o, ok := ordinals[key]; ok {
			present[o], same[o] = true, d == b.Digests[o]
		}
		return nil
	}); err != nil {
		return err
	}
	if len(b.Holds) > 0 {
		if err := ops.Held(ctx, left, func(row []value.Value) error {
			_, key := read.Row(row)
			if o, ok := ordinals[key]; ok {
				held[o] = true
			}
			return nil
		}); err != nil {
			return err
		}
	}
	for _, o := range b.Ordinals {
		switch {
		case gone[o]:
		case !present[o]:
			out.Vanished = append(out.Vanished, o)
		case !same[o]:
			out.Changed = append(out.Changed, o)
		case held[o]:
			out.Held = append(out.Held, o)
		default: // unchanged, so it is another table that refers to it
			out.Skipped = append(out.Skipped, o)
		}
	}
	return nil
}
