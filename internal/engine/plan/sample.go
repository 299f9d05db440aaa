package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/mask"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/due"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/source"
)

// sampleRows and sampleText bound what is shown of the rows that a plan would take.
const (
	sampleRows = 5
	sampleText = 80
)

// Sample reads some of the rows that a plan would take, as they are now. They are kept nowhere. Columns that a clause
// of its rule leaves out or masks are left out or masked here.
func (pl *Planner) Sample(ctx context.Context, id string) (*catalog.Sample, error) {
	plan, err := pl.Catalog.Plan(ctx, id)
	if err != nil {
		return nil, err
	}
	r, _, err := pl.due.Revision(ctx, plan.Rule, plan.Revision)
	if err != nil {
		return nil, err
	}
	src, err := pl.Source(ctx, plan.Source)
	if err != nil {
		return nil, err
	}
	t, err := tables.Unaltered(ctx, src, &plan.Shape.V)
	if err != nil {
		return nil, err
	}
	joined, err := due.JoinedBy(ctx, src, r)
	if err != nil {
		return nil, err
	}
	sel, err := due.Selection(r, t, joined, due.CutoffsOf(plan, r), plan.Detail.V.Narrow)
	if err == nil {
		sel, err = pl.due.WithHolds(ctx, plan.Source, sel)
	}
	if err != nil {
		return nil, err
	}
	return pl.sample(ctx, src, r, sel)
}

func (pl *Planner) sample(ctx context.Context, src source.Source, r *rule.Rule, sel source.Selection) (*catalog.Sample,
	error) {
	var omit []string
	masks := map[string]rule.Mask{}
	for i := range r.Clauses {
		c := r.Effective(i)
		omit = append(omit, c.Omit...)
		for name, m := range c.Mask {
			masks[name] = m
		}
	}
	key, err := pl.due.MaskKey(ctx)
	if err != nil {
		return nil, err
	}
	columns := due.Readable(sel.Table, omit)
	clean := mask.New(sel.Table, columns, nil, masks, key)
	out := &catalog.Sample{Columns: shape.Names(clean.Columns), Rows: [][]string{}}
	quick, cancel := context.WithTimeout(ctx, QuickBudget)
	defer cancel()
	_, err = src.ReadSlice(quick, source.SliceRequest{Selection: sel, Columns: columns, MaxRows: sampleRows,
		MaxBytes: 1 << 20}, func(c *value.Chunk) error {
		shown := clean.Clean(c)
		for i := range shown.Rows() {
			out.Rows = append(out.Rows, shortened(shown.Row(i)))
		}
		return nil
	})
	if err != nil && ctx.Err() == nil && quick.Err() != nil { // a table without an index
		return nil, &refuse.Error{Message: fmt.Sprintf("no rows of %s were found within %s", sel.Table.Name,
			QuickBudget), Remedy: "an index that begins with the age column makes such questions fast"}
	}
	return out, err
}

// shortened are the values of a row as they are shown.
func shortened(row []value.Value) []string {
	out := make([]string, len(row))
	for j, v := range row {
		text := []rune(strings.ToValidUTF8(v.String(), "�"))
		if len(text) > sampleText {
			text = append(slices.Clip(text[:sampleText]), '…')
		}
		out[j] = string(text)
	}
	return out
}
