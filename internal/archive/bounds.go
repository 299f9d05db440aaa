package archive

import (
	"context"
	"encoding/base64"
	"fmt"
	"math/bits"
	"slices"

	"github.com/cespare/xxhash/v2"
	"github.com/parquet-go/parquet-go/bloom"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// KeyFilter is a Bloom filter of the keys of a segment: it says of a key that the segment does not have it, and is
// wrong about some that it does not have. It has the form of Parquet's split block Bloom filters, over the XXH64 of
// the keys' canonical bytes.
type KeyFilter struct {
	Columns []string `json:"columns"` // of the key, in its order
	Blocks  string   `json:"blocks"`  // base64
}

// bitsOfKey is how many bits a key takes in the filter: of a hundred keys that a segment does not have, it is wrong
// about one.
const bitsOfKey = 10

// keyed says whether a filter of the keys pays: where the key is one whole number and few are missing between the
// least and the greatest, those tell as much.
func keyed(m *Manifest, b *Bounds) bool {
	if len(m.Key) == 0 || m.Rows == 0 {
		return false
	}
	for _, k := range m.Key {
		if m.Exact[k] > 0 {
			return false
		}
	}
	if len(m.Key) > 1 {
		return true
	}
	whole := b.whole(slices.IndexFunc(m.Columns, isNamed(m.Key[0])))
	if !whole.Known || whole.Least.Kind != value.Int || whole.Greatest.Kind != value.Int {
		return true
	}
	return uint64(whole.Greatest.N-whole.Least.N) > 8*uint64(m.Rows)
}

func isNamed(name string) func(shape.Column) bool {
	return func(c shape.Column) bool { return c.Name == name }
}

// keyHash is the hash of a key's values.
func keyHash(buf []byte, key []value.Value) (uint64, []byte) {
	buf = buf[:0]
	for _, v := range key {
		buf = v.AppendCanonical(buf)
	}
	return xxhash.Sum64(buf), buf
}

// keyNotes gathers the hashes of keys while rows are read.
type keyNotes struct {
	at     []int // of the key among the columns
	hashes []uint64
	key    []value.Value
	buf    []byte
}

func noteKeys(m *Manifest) *keyNotes {
	n := &keyNotes{hashes: make([]uint64, 0, m.Rows)}
	for _, k := range m.Key {
		n.at = append(n.at, slices.IndexFunc(m.Columns, isNamed(k)))
	}
	if slices.Contains(n.at, -1) {
		return nil
	}
	n.key = make([]value.Value, len(n.at))
	return n
}

func (n *keyNotes) chunk(c *value.Chunk) {
	for i := range c.Rows() {
		row := c.Row(i)
		for j, at := range n.at {
			n.key[j] = row[at]
		}
		var h uint64
		h, n.buf = keyHash(n.buf, n.key)
		n.hashes = append(n.hashes, h)
	}
}

func (n *keyNotes) filter(m *Manifest) *KeyFilter {
	f := make(bloom.SplitBlockFilter, bloom.NumSplitBlocksOf(int64(len(n.hashes)), bitsOfKey))
	for _, h := range n.hashes {
		f.Insert(h)
	}
	return &KeyFilter{Columns: m.Key, Blocks: base64.StdEncoding.EncodeToString(f.Bytes())}
}

// Keys is a filter of keys, ready to be asked.
type Keys struct {
	columns []string
	filter  bloom.SplitBlockFilter
}

// Bytes is how much memory the filter takes; none where there is none.
func (k *Keys) Bytes() int {
	if k == nil {
		return 0
	}
	return len(k.filter) * bloom.BlockSize
}

// Open makes a filter ready to be asked; an error where it is none.
func (k *KeyFilter) Open() (*Keys, error) {
	b, err := base64.StdEncoding.DecodeString(k.Blocks)
	if err != nil || len(b) == 0 || len(b)%bloom.BlockSize != 0 || len(k.Columns) == 0 {
		return nil, fmt.Errorf("%w: the filter of its keys cannot be read", ErrDamaged)
	}
	f := make(bloom.SplitBlockFilter, len(b)/bloom.BlockSize)
	copy(f.Bytes(), b)
	return &Keys{columns: k.Columns, filter: f}, nil
}

// NamesKey says whether a filter says of every column of the key which values it can have, so that a filter of keys
// can be asked.
func (m *Manifest) NamesKey(f *filter.Filter) bool {
	for _, k := range m.Key {
		at := slices.IndexFunc(m.Columns, isNamed(k))
		if at < 0 {
			return false
		}
		if _, ok := f.Among(at); !ok {
			return false
		}
	}
	return len(m.Key) > 0
}

// mostKeys is of how many keys a filter is asked for one search.
const mostKeys = 1000

// Possibly says whether the segment may have a row for which a filter is true, by the keys that the filter names; true
// where it does not name all columns of the key.
func (k *Keys) Possibly(m *Manifest, f *filter.Filter) bool {
	if k == nil || f == nil {
		return true
	}
	lists, all := make([][]value.Value, len(k.columns)), uint64(1)
	for i, name := range k.columns {
		at := slices.IndexFunc(m.Columns, isNamed(name))
		if at < 0 {
			return true
		}
		values, ok := f.Among(at)
		if !ok {
			return true
		}
		for _, v := range values {
			if v.Kind != m.Columns[at].Kind {
				return true
			}
		}
		lists[i] = values
		var over uint64
		if over, all = bits.Mul64(all, uint64(len(values))); over > 0 || all > mostKeys {
			return true
		}
	}
	key, buf := make([]value.Value, len(lists)), []byte(nil)
	for n := range all {
		rest := n
		for i, l := range lists {
			key[i] = l[rest%uint64(len(l))]
			rest /= uint64(len(l))
		}
		var h uint64
		if h, buf = keyHash(buf, key); k.filter.Check(h) {
			return true
		}
	}
	return false
}

// Column is what is known of all values of a column.
func (b *Bounds) Column(column int) filter.Bound { return b.whole(column) }

// whole is what the bounds of all row groups together tell of a column.
func (b *Bounds) whole(column int) (out filter.Bound) {
	for i, g := range b.groups {
		x := g.columns[column]
		if !x.Known {
			return filter.Bound{}
		}
		if i == 0 {
			out = x
			continue
		}
		low, ok1 := filter.Order(x.Least, out.Least)
		high, ok2 := filter.Order(x.Greatest, out.Greatest)
		if !ok1 || !ok2 {
			return filter.Bound{}
		}
		if low < 0 {
			out.Least = x.Least
		}
		if high > 0 {
			out.Greatest = x.Greatest
		}
	}
	return out
}

// longBound is how long a value may be that stands in the side file as a bound.
const longBound = 128

// Description gathers what the side file of a segment tells of its values, while the segment is read back.
type Description struct {
	manifest *Manifest
	bounds   *Bounds
	keys     *keyNotes // nil: a filter of the keys does not pay
}

// Describe begins with what the footer tells.
func Describe(ctx context.Context, st store.Store, m *Manifest) (*Description, error) {
	b, err := FooterBounds(ctx, st, m)
	if err != nil {
		return nil, err
	}
	d := &Description{manifest: m, bounds: b}
	if keyed(m, b) {
		d.keys = noteKeys(m)
	}
	return d, nil
}

// Rows takes in rows of the segment.
func (d *Description) Rows(c *value.Chunk) {
	if d.keys != nil {
		d.keys.chunk(c)
	}
}

// Into completes the side file, and notes in the manifest whether that has a filter of the keys.
func (d *Description) Into(r *Range) {
	if d.keys != nil {
		r.Keys, d.manifest.KeyFilter = d.keys.filter(d.manifest), true
	}
	for i, c := range d.manifest.Columns {
		x := d.bounds.whole(i)
		if !x.Known || len(x.Least.B) > longBound || len(x.Greatest.B) > longBound {
			continue
		}
		if r.Columns == nil {
			r.Columns = map[string][2]string{}
		}
		r.Columns[c.Name] = [2]string{x.Least.Exact(), x.Greatest.Exact()}
	}
}

// Bounds are what the side file tells of a segment's values, without its file of rows being read: as those of one row
// group.
func (r *Range) Bounds(m *Manifest) (*Bounds, error) {
	g := groupBounds{rows: m.Rows, columns: make([]filter.Bound, len(m.Columns))}
	for i, c := range m.Columns {
		pair, ok := r.Columns[c.Name]
		if !ok {
			continue
		}
		least, one := value.ParseExact(pair[0])
		greatest, other := value.ParseExact(pair[1])
		if one != nil || other != nil {
			return nil, fmt.Errorf("%s: %w: the bounds of column %q cannot be read", m.RangeName(), ErrDamaged, c.Name)
		}
		g.columns[i] = filter.Bound{Least: least, Greatest: greatest, Nulls: true, Known: true}
	}
	return &Bounds{groups: []groupBounds{g}}, nil
}

// Possibly says whether the segment can hold a row for which a filter is true.
func (b *Bounds) Possibly(f *filter.Filter) bool {
	return slices.ContainsFunc(b.groups, func(g groupBounds) bool { return g.possibly(f) })
}

// FooterBounds reads what the footer of a segment's file of rows tells.
func FooterBounds(ctx context.Context, st store.Store, m *Manifest) (*Bounds, error) {
	f, err := st.Open(ctx, m.RowsName())
	if err != nil {
		return nil, segmentError(m, err)
	}
	defer f.Close()
	file, err := openRows(f, f.Size(), m.Columns, m.Rows)
	if err != nil {
		return nil, segmentError(m, err)
	}
	b, err := boundsOf(file, m)
	if err != nil {
		return nil, segmentError(m, err)
	}
	return b, nil
}
