package search

import (
	"context"
	"encoding/hex"
	"errors"
	"os"
	"slices"
	"strings"

	"ambercellar/internal/archive"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/shelf"
)

// A record that was put back and archived again, or whose key was used again, lies in several segments. The newest
// version counts.

// KeyColumns are the places of the key among a segment's columns; nil where it has none.
func KeyColumns(m *archive.Manifest) []int {
	var out []int
	for _, k := range m.Key {
		at := slices.IndexFunc(m.Columns, func(c shape.Column) bool { return c.Name == k })
		if at < 0 {
			return nil
		}
		out = append(out, at)
	}
	return out
}

// older notes of hits those that lie in an earlier segment than x and whose key x has too. before says whether a
// segment is earlier.
func (se *Searcher) older(ctx context.Context, x *Segment, hits []Hit, out map[int]bool,
	before func(segment string) bool) error {
	asked, text := map[string][]int{}, []string{}
	look := func() error {
		if len(text) == 0 {
			return nil
		}
		err := se.withKeys(ctx, x, strings.Join(text, " OR "), func(key []value.Value) {
			for _, j := range asked[shelf.Canonical(key)] {
				out[j] = true
			}
		})
		asked, text = map[string][]int{}, text[:0]
		return err
	}
	for j, h := range hits {
		if h.Segment == "" || h.Key == nil || out[j] || !before(h.Segment) {
			continue
		}
		condition := KeyCondition(x.Manifest.Key, h.Key)
		if condition == "" {
			continue
		}
		may, err := se.mayHaveKey(ctx, x, condition)
		if err != nil {
			return err
		}
		if !may {
			continue
		}
		k := shelf.Canonical(h.Key)
		if asked[k] == nil {
			text = append(text, condition)
		}
		if asked[k] = append(asked[k], j); len(text) >= shelf.KeysAtOnce {
			if err := look(); err != nil {
				return err
			}
		}
	}
	return look()
}

// mayHaveKey says whether a segment can have a key, by what is known of it in memory and its filter of keys.
func (se *Searcher) mayHaveKey(ctx context.Context, x *Segment, condition string) (bool, error) {
	f, err := shelf.BindArchived(condition, x.Manifest.Columns, x.Manifest.Columns)
	if err != nil {
		return false, nil // it has another key: the rows are no versions of each other
	}
	if b := x.Known.Bounds.Load(); b != nil && !b.Possibly(f) {
		return false, nil
	}
	if !x.Manifest.KeyFilter {
		return true, nil
	}
	side, err := se.shelf.SideOf(ctx, x.Segment, x.Known)
	return err == nil && (side == nil || side.Keys.Possibly(x.Manifest, f)), err
}

// withKeys hands on the keys of a segment's rows for which a condition is true.
func (se *Searcher) withKeys(ctx context.Context, x *Segment, condition string, report func([]value.Value)) error {
	f, err := shelf.BindArchived(condition, x.Manifest.Columns, x.Manifest.Columns)
	if err != nil {
		return nil
	}
	columns := KeyColumns(x.Manifest)
	key := make([]value.Value, len(columns))
	_, err = se.shelf.ScanRows(ctx, x.Segment, x.Manifest, archive.Search{Filter: f, Columns: columns, Absent: 1,
		Bounds: x.Known.Bounds.Load()}, func(ordinal int, row []value.Value) error {
		if _, left := slices.BinarySearch(x.left, ordinal); left {
			return nil
		}
		for i, c := range columns {
			key[i] = row[c]
		}
		report(key)
		return nil
	})
	return err
}

// KeyCondition writes a condition that is true for the rows with a key; nothing where a value of it cannot be written.
func KeyCondition(names []string, key []value.Value) string {
	if len(names) != len(key) {
		return ""
	}
	parts := make([]string, len(key))
	for i, v := range key {
		literal := ""
		switch v.Kind {
		case value.Int, value.Decimal:
			literal = string(v.AppendText(nil))
		case value.Text:
			literal = "'" + strings.ReplaceAll(string(v.B), "'", "''") + "'"
		case value.UUID:
			literal = "'" + hex.EncodeToString(v.B) + "'"
		case value.Date:
			literal = "DATE '" + string(v.AppendText(nil)) + "'"
		default:
			return ""
		}
		parts[i] = `"` + strings.ReplaceAll(names[i], `"`, `""`) + `" = ` + literal
	}
	return "(" + strings.Join(parts, " AND ") + ")"
}

// SupersededRows are the ordinals, by segment, of archived rows of which a newer version is archived too.
type SupersededRows struct {
	ordinals map[string]map[int]bool
	Rows     int64
	Untold   int // segments in cold storage that may have versions of the others' rows
}

func (s *SupersededRows) Has(segment string, ordinal int) bool {
	return s != nil && s.ordinals[segment][ordinal]
}

// superseded finds them among all rows of segments, which come the oldest first. Only segments are read whose keys lie
// between each other's; of those, keys are kept on disk. meant says which segments are asked for by name; of their
// rows a newer version elsewhere counts only where it holds something else, for a row that was put back and archived
// again is the same. nil: all segments are asked for.
func (se *Searcher) superseded(ctx context.Context, list []*Segment, meant func(*Segment) bool) (out *SupersededRows,
	err error) {
	out = &SupersededRows{ordinals: map[string]map[int]bool{}}
	spans := make([]filter.Bound, len(list))
	for i, x := range list {
		if spans[i], err = se.keySpan(ctx, x); err != nil {
			return nil, err
		}
	}
	crossed := Crossing(spans) // its keys lie between those of another
	if !slices.Contains(crossed, true) {
		return out, nil
	}
	dir, err := os.MkdirTemp("", "ambercellar-keys-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	seen, err := OpenSeen(dir)
	if err != nil {
		return nil, err
	}
	defer seen.Close()
	for i, x := range slices.Backward(list) {
		if crossed[i] {
			if err := se.seen(ctx, x, seen, out, meant); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// seen is seenIn for a segment that may be in cold storage, or have no key.
func (se *Searcher) seen(ctx context.Context, x *Segment, seen *SeenKeys, out *SupersededRows,
	meant func(*Segment) bool) error {
	columns := KeyColumns(x.Manifest)
	if columns == nil {
		return nil
	}
	if x.Segment.Asleep(se.Now()) {
		out.Untold++
		return nil
	}
	return se.seenIn(ctx, x, columns, seen, out, meant)
}

// seenIn notes the keys of a segment, and which of them newer segments have.
func (se *Searcher) seenIn(ctx context.Context, x *Segment, columns []int, seen *SeenKeys, out *SupersededRows,
	meant func(*Segment) bool) error {
	chunk := &value.Chunk{Width: len(columns)}
	var ordinals []int
	var versions []version
	var hasher value.Hasher
	all, read := []int{}, columns
	if meant != nil {
		for i := range x.Manifest.Columns[:len(x.Manifest.Columns)-len(x.Manifest.Included)] {
			all = append(all, i)
		}
		read = all
	}
	places := make([]int, len(columns))
	for i := range places {
		places[i] = i
	}
	flush := func() error {
		var old []bool
		var err error
		if meant != nil {
			old, err = seen.older(ctx, versions)
			versions = versions[:0]
		} else if old, err = seen.Add(ctx, chunk, places); err == nil {
			for i := range old {
				old[i] = !old[i]
			}
		}
		if err != nil {
			return err
		}
		for i, older := range old {
			if !older {
				continue
			}
			if out.ordinals[x.Segment.ID] == nil {
				out.ordinals[x.Segment.ID] = map[int]bool{}
			}
			out.ordinals[x.Segment.ID][ordinals[i]] = true
			out.Rows++
		}
		chunk.Reset()
		ordinals = ordinals[:0]
		return nil
	}
	_, err := se.shelf.ScanRows(ctx, x.Segment, x.Manifest, archive.Search{Columns: read, Absent: 1,
		Bounds: x.Known.Bounds.Load()}, func(ordinal int, row []value.Value) error {
		if _, left := slices.BinarySearch(x.left, ordinal); left {
			return nil
		}
		if meant != nil {
			v := version{meant: meant(x), digest: hasher.Row(row[:len(all)])}
			for _, c := range columns {
				v.key = row[c].AppendCanonical(v.key)
			}
			versions = append(versions, v)
		}
		for _, c := range columns {
			v := row[c]
			if v.B != nil {
				v.B = chunk.Keep(v.B)
			}
			chunk.Values = append(chunk.Values, v)
		}
		if ordinals = append(ordinals, ordinal); len(ordinals) >= 10_000 {
			return flush()
		}
		return nil
	})
	return errors.Join(err, flush())
}

// keySpan is between which values the first column of a segment's key lies; not known where nothing tells.
func (se *Searcher) keySpan(ctx context.Context, x *Segment) (filter.Bound, error) {
	columns := KeyColumns(x.Manifest)
	if columns == nil {
		return filter.Bound{}, nil
	}
	if b := x.Known.Bounds.Load(); b != nil {
		return b.Column(columns[0]), nil
	}
	side, err := se.shelf.SideOf(ctx, x.Segment, x.Known)
	if err != nil || side == nil {
		return filter.Bound{}, err
	}
	return side.Bounds.Column(columns[0]), nil
}

// Crossing says of spans which of them can share a value with another. Of one that is not known, or that has no order
// with the others, nobody can tell, so that all may.
func Crossing(spans []filter.Bound) []bool {
	out, by := make([]bool, len(spans)), make([]int, len(spans))
	clear := true
	for i, s := range spans {
		by[i] = i
		_, own := filter.Order(s.Least, s.Greatest)
		_, others := filter.Order(s.Least, spans[0].Least)
		clear = clear && s.Known && own && others
	}
	if !clear {
		for i := range out {
			out[i] = len(spans) > 1
		}
		return out
	}
	order := func(a, b value.Value) int {
		sign, _ := filter.Order(a, b)
		return sign
	}
	slices.SortFunc(by, func(i, j int) int { return order(spans[i].Least, spans[j].Least) })
	last := 0 // the one that reaches furthest
	for n, i := range by {
		if n == 0 {
			last = i
			continue
		}
		if order(spans[i].Least, spans[last].Greatest) <= 0 {
			out[i], out[last] = true, true
		}
		if order(spans[i].Greatest, spans[last].Greatest) > 0 {
			last = i
		}
	}
	return out
}
