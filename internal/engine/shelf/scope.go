package shelf

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
)

// InSpan says whether a segment can have rows of a scope, by the ages that it spans.
func InSpan(s *catalog.Segment, scope catalog.Scope) bool {
	from, _ := rule.ParseISO(scope.From)
	to, hasTo := rule.ParseISO(scope.To)
	oldest, ok1 := rule.ParseISO(s.Oldest)
	newest, ok2 := rule.ParseISO(s.Newest)
	return !ok1 || !ok2 || !newest.Before(from) && (!hasTo || oldest.Before(to))
}

// InScope lists the closed segments that a scope touches, the newest first, so that of two archived versions of one
// key the newer comes first.
func (sh *Shelf) InScope(ctx context.Context, sourceName, table string, scope catalog.Scope) ([]catalog.Segment,
	error) {
	if scope.Segment != "" {
		s, err := sh.Catalog.Segment(ctx, scope.Segment)
		if err != nil {
			return nil, err
		}
		if s.State != catalog.SegmentClosed {
			return nil, &refuse.Error{Field: "segment",
				Message: fmt.Sprintf("segment %s is %s; only closed segments give rows", s.ID, s.State),
				Remedy:  "let its run finish, or cancel it"}
		}
		return []catalog.Segment{*s}, nil
	}
	if len(scope.Rows) > 0 {
		return sh.segmentsOf(ctx, scope.Rows)
	}
	if scope.Run != "" {
		if _, err := sh.Catalog.Run(ctx, scope.Run); err != nil {
			return nil, err
		}
	}
	var out []catalog.Segment
	for s, err := range sh.Catalog.EachSegment(ctx, catalog.SegmentFilter{Run: scope.Run, Source: sourceName,
		Table: table, State: string(catalog.SegmentClosed)}) {
		if err != nil {
			return nil, err
		}
		if InSpan(s, scope) {
			out = append(out, *s)
		}
	}
	slices.Reverse(out)
	return out, nil
}

// segmentsOf lists the segments that single rows lie in, the newest first. All are of one table.
func (sh *Shelf) segmentsOf(ctx context.Context, rows []catalog.RowAt) ([]catalog.Segment, error) {
	var out []catalog.Segment
	for _, r := range rows {
		if slices.ContainsFunc(out, func(s catalog.Segment) bool { return s.ID == r.Segment }) {
			continue
		}
		one, err := sh.InScope(ctx, "", "", catalog.Scope{Segment: r.Segment})
		if err != nil {
			return nil, err
		}
		if len(out) > 0 && (one[0].Source != out[0].Source || one[0].Table != out[0].Table) {
			return nil, &refuse.Error{Field: "rows",
				Message: fmt.Sprintf("they are of several tables: %s.%s and %s.%s", out[0].Source, out[0].Table,
					one[0].Source, one[0].Table), Remedy: "restore those of each table on their own"}
		}
		out = append(out, one[0])
	}
	slices.SortFunc(out, func(a, b catalog.Segment) int { return b.CreatedAt.Compare(a.CreatedAt.Time) })
	return out, nil
}

// Needs tells which segments restores for a time need.
type Needs struct {
	*Shelf
	restores []catalog.Restore
	known    map[[2]string]bool // by restore and run: it may have put rows of that run back
}

func (sh *Shelf) NeedsOf(ctx context.Context, source string) (*Needs, error) {
	list, err := sh.Catalog.Expiring(ctx, source)
	return &Needs{sh, list, map[[2]string]bool{}}, err
}

// By returns a restore for a time that may have put rows of a segment back, or related ones, which went with those of
// another segment of its run; nil where there is none.
func (n *Needs) By(ctx context.Context, s *catalog.Segment) (*catalog.Restore, error) {
	for i := range n.restores {
		r := &n.restores[i]
		k := [2]string{r.ID, s.Run}
		yes, told := n.known[k]
		if !told {
			var err error
			if yes, err = n.reaches(ctx, r, s.Run); err != nil {
				return nil, err
			}
			n.known[k] = yes
		}
		if yes {
			return r, nil
		}
	}
	return nil, nil
}

// reaches says whether a restore may have put rows of a run back.
func (n *Needs) reaches(ctx context.Context, r *catalog.Restore, run string) (bool, error) {
	scope := r.Scope.V
	named := map[string]bool{}
	for _, row := range scope.Rows {
		named[row.Segment] = true
	}
	if scope.Segment != "" {
		named[scope.Segment] = true
	}
	if len(named) > 0 {
		for id := range named {
			s, err := n.Catalog.Segment(ctx, id)
			if err != nil && !errors.Is(err, catalog.ErrNotFound) {
				return false, err
			}
			if err == nil && s.Run == run {
				return true, nil
			}
		}
		return false, nil
	}
	if scope.Run != "" && scope.Run != run {
		return false, nil
	}
	for s, err := range n.Catalog.EachSegment(ctx, catalog.SegmentFilter{Run: run, Source: r.Source, Table: r.Table,
		State: string(catalog.SegmentClosed)}) {
		if err != nil {
			return false, err
		}
		if InSpan(s, scope) {
			return true, nil
		}
	}
	return false, nil
}
