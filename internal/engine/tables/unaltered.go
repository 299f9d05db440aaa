package tables

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// A plan is made for tables as they are, and a run works on nothing else. Every delete transaction checks that its
// tables were not altered since they were described (source.ErrReshaped); then, and whenever something fails that
// might be due to it, the run describes them again and finds out whether it may go on.

// Unaltered describes a table anew, and refuses to go on where it is not what it was in all that matters to a run.
func Unaltered(ctx context.Context, src source.Source, before *shape.Table) (*shape.Table, error) {
	now, err := src.Table(ctx, before.Name)
	if err != nil {
		return nil, Dropped(before, err)
	}
	if changes := shape.Differences(before, now); len(changes) > 0 {
		return nil, &refuse.Error{Message: fmt.Sprintf("table %s was altered since the plan was made (%s)",
			before.Name, strings.Join(changes, "; ")), Remedy: "cancel the run and make a new plan"}
	}
	before.Sign.Renew(now.Sign)
	return now, nil
}

// Dropped is an error of describing a table, as a run says it.
func Dropped(t *shape.Table, err error) error {
	if errors.Is(err, source.ErrNoTable) {
		return &refuse.Error{Message: fmt.Sprintf(
			"table %s is not there any more: it was dropped or renamed since the plan was made", t.Name),
			Remedy: "cancel the run"}
	}
	return err
}
