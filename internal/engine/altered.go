package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// A plan is made for tables as they are, and a run works on nothing else. Every delete transaction checks that its tables were not
// altered since they were described (source.ErrReshaped); then, and whenever something fails that might be due to it, the run
// describes them again and finds out whether it may go on.

// unaltered describes a table anew, and refuses to go on where it is not what it was in all that matters to a run.
func unaltered(ctx context.Context, src source.Source, before *shape.Table) (*shape.Table, error) {
	now, err := src.Table(ctx, before.Name)
	if err != nil {
		return nil, dropped(before, err)
	}
	if changes := shape.Differences(before, now); len(changes) > 0 {
		return nil, &refuse.Error{Message: fmt.Sprintf("table %s was altered since the plan was made (%s)", before.Name, strings.Join(changes, "; ")), Remedy: "cancel the run and make a new plan"}
	}
	before.Sign.Renew(now.Sign)
	return now, nil
}

// dropped is an error of describing a table, as a run says it.
func dropped(t *shape.Table, err error) error {
	if errors.Is(err, source.ErrNoTable) {
		return &refuse.Error{Message: fmt.Sprintf("table %s is not there any more: it was dropped or renamed since the plan was made", t.Name), Remedy: "cancel the run"}
	}
	return err
}

// stillSame is unaltered for all tables that a run works on while it goes; those that it joins must be there.
func (r *runner) stillSame(ctx context.Context) error {
	_, err := unaltered(ctx, r.source, r.table)
	for _, k := range r.whole.Kin {
		if err == nil {
			_, err = unaltered(ctx, r.source, k.Table)
		}
	}
	for _, t := range r.joined { // of which nothing goes
		if err == nil {
			_, err = r.source.Table(ctx, t.Name)
			err = dropped(t, err)
		}
	}
	return err
}

// asPlanned are the related and joined tables of a rule as they were when its plan was made.
func asPlanned(t *shape.Table, r *rule.Rule) (related, joined joinedTables) {
	related, joined = joinedTables{}, joinedTables{}
	for i, x := range r.Relations() {
		if i < len(t.Related) {
			related[x.Table] = &t.Related[i]
		}
	}
	for name, x := range t.Joined {
		joined[name] = &x
	}
	return related, joined
}
