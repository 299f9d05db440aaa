package restore

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
)

// fitNow is fitOf with the names that the columns have now, where a restore says nothing else.
func (rs *Restorer) fitNow(ctx context.Context, m *archive.Manifest, t *shape.Table, how catalog.Fit) (*fit, error) {
	own, err := rs.shelf.Named(ctx, m)
	if err != nil {
		return nil, err
	}
	rename, leaveOut := map[string]string{}, slices.Clone(how.LeaveOut)
	for i, c := range m.Columns {
		now, _ := t.Column(own[i].Name)
		if now != nil && own[i].Name != c.Name {
			rename[c.Name] = own[i].Name
		}
		left := slices.Contains(how.LeaveOut, own[i].Name)
		if left {
			leaveOut = append(leaveOut, c.Name)
		}
		if !left && now == nil && strings.HasSuffix(own[i].Name, catalog.Dropped) && how.Rename[c.Name] == "" && !slices.Contains(how.LeaveOut, c.Name) {
			return nil, &refuse.Error{Field: "fit", Message: fmt.Sprintf("column %q of the archived rows was dropped from table %s, and another has its name now", c.Name, t.Name),
				Remedy: fmt.Sprintf("leave it out, as %q, or restore to a side table or a file", own[i].Name)}
		}
	}
	for was, name := range how.Rename {
		rename[was] = name
	}
	return fitOf(m, t, catalog.Fit{Rename: rename, LeaveOut: leaveOut})
}
