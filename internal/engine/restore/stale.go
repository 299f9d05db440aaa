package restore

import (
	"github.com/dustin/go-humanize/english"

	"context"
	"fmt"
	"slices"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/search"
)

// Restores into tables leave out every archived row of which a newer version is archived: whatever becomes of rows
// whose key is there, and however often a restore is taken up, an old version never takes the place of a newer one.

// stale is what a restore knows of newer versions.
type stale struct {
	hunts  map[string]*search.Hunt           // by table: all segments of it
	whole  map[string]*search.SupersededRows // by table, once all of its keys were compared
	looked int                               // rows that were looked up by their keys
}

// mostLooked is how many rows of a restore are looked up by their keys in newer segments, before all keys are compared
// at once.
const mostLooked = 10_000

// staleOf says of rows that are about to be put back which of them have a newer version in the archive; nil: none has.
func (q *restoration) staleOf(ctx context.Context, m *archive.Manifest, h *portion) ([]bool, error) {
	if !q.related || q.quiet || len(m.Key) == 0 {
		return nil, nil
	}
	versions, err := q.versionsOf(ctx, m.Table)
	if err != nil || versions.Segments < 2 {
		return nil, err
	}
	scope := q.restore.Scope.V
	if scope.Run == "" && scope.Segment == "" && q.stale.whole[m.Table] == nil && q.stale.looked+
		h.Rows() <= mostLooked {
		if hits, ok := hitsOf(m, h); ok {
			q.stale.looked += h.Rows()
			old, err := versions.Older(ctx, hits)
			if err != nil {
				return nil, err
			}
			out := make([]bool, len(hits))
			for i := range out {
				out[i] = old[i]
			}
			return out, nil
		}
	}
	all, err := q.staleIn(ctx, m.Table, versions)
	if err != nil || all.Rows == 0 {
		return nil, err
	}
	out := make([]bool, len(h.ordinals))
	for i, o := range h.ordinals {
		out[i] = all.Has(m.Segment, o)
	}
	return out, nil
}

// hitsOf are rows as a search finds them; false where their keys cannot be searched for.
func hitsOf(m *archive.Manifest, h *portion) ([]search.Hit, bool) {
	columns := search.KeyColumns(m)
	hits := make([]search.Hit, h.Rows())
	for i := range hits {
		key := make([]value.Value, len(columns))
		for j, c := range columns {
			key[j] = h.Row(i)[c]
		}
		if hits[i] = (search.Hit{Segment: m.Segment, Ordinal: h.ordinals[i], Key: key}); search.KeyCondition(m.Key,
			key) == "" {
			return nil, false
		}
	}
	return hits, true
}

// versionsOf finds the segments of a table. It is told once of a restore which of them could not be looked into.
func (q *restoration) versionsOf(ctx context.Context, table string) (*search.Hunt, error) {
	if h, ok := q.stale.hunts[table]; ok {
		return h, nil
	}
	h, err := q.search.HuntNow(ctx, q.restore.Source, table, false)
	if err != nil {
		return nil, err
	}
	if q.stale.hunts == nil {
		q.stale.hunts, q.stale.whole = map[string]*search.Hunt{}, map[string]*search.SupersededRows{}
	}
	cold, err := q.Catalog.Asleep(ctx, q.restore.Source, table, q.Now())
	if err != nil {
		return nil, err
	}
	if cold > 0 {
		q.restore.Reason = fmt.Sprintf(
			"newer versions of these rows in cold storage (%s) were not looked for",
			english.Plural(int(cold), "segment", ""))
	}
	q.stale.hunts[table] = h
	return h, nil
}

// staleIn compares all keys of a table's segments. Of rows that are asked for by their run or segment, a newer version
// elsewhere counts only where it holds something else: a row that was put back and archived again is the same.
func (q *restoration) staleIn(ctx context.Context, table string, versions *search.Hunt) (*search.SupersededRows,
	error) {
	if s := q.stale.whole[table]; s != nil {
		return s, nil
	}
	var meant func(*search.Segment) bool
	if scope := q.restore.Scope.V; scope.Run != "" || scope.Segment != "" {
		in, err := q.shelf.InScope(ctx, q.restore.Source, q.restore.Table, scope)
		if err != nil {
			return nil, err
		}
		meant = func(x *search.Segment) bool {
			return slices.ContainsFunc(in, func(s catalog.Segment) bool {
				// what went along with its rows
				return s.ID == x.Segment.ID || s.Run == x.Segment.Run && s.Table != x.Segment.Table
			})
		}
	}
	out, err := versions.Superseded(ctx, meant)
	if err == nil {
		q.stale.whole[table] = out
	}
	return out, err
}
