package shelf

import (
	"context"
	"errors"

	"ambercellar/internal/catalog"
)

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

// By returns a restore for a time that may have put rows of a segment back, or related ones, which went with those of another segment of its run; nil where
// there is none.
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
	for s, err := range n.Catalog.EachSegment(ctx, catalog.SegmentFilter{Run: run, Source: r.Source, Table: r.Table, State: string(catalog.SegmentClosed)}) {
		if err != nil {
			return false, err
		}
		if InSpan(s, scope) {
			return true, nil
		}
	}
	return false, nil
}
