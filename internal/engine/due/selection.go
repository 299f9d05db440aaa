package due

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Narrowing makes the filters of what a plan asks for beyond its rule.
func Narrowing(r *rule.Rule, t *shape.Table, joined JoinedTables, n catalog.Narrow) (out []*filter.Filter, err error) {
	if n.Where != "" {
		f, bad := filter.Bind(n.Where, r.Scope(t, joined))
		if len(bad) > 0 {
			return nil, refuse.Filter("where", bad[0])
		}
		if f.Never() {
			return nil, &refuse.Error{Field: "where",
				Message: "no row can satisfy this condition: its parts exclude each other",
				Remedy:  "mend the condition"}
		}
		out = append(out, f)
	}
	if n.Keys != "" {
		from, to, ok := strings.Cut(n.Keys, "..")
		if !ok || from == "" && to == "" {
			return nil, &refuse.Error{Field: "keys", Message: fmt.Sprintf("%q is no range of keys", n.Keys),
				Remedy: "write FROM..TO; either may be left out"}
		}
		if err := refuse.SingleKey(t); err != nil {
			return nil, err
		}
		for op, key := range map[string]string{" >= ": from, " <= ": to} {
			if key == "" {
				continue
			}
			f, bad := filter.Bind(refuse.Identifier(t.Key[0])+op+refuse.Literal(t, key), filter.TableScope(t))
			if len(bad) > 0 {
				return nil, &refuse.Error{Field: "keys", Message: fmt.Sprintf("%q is no key of %s: %s", key, t.Name,
					bad[0].Message), Remedy: "write keys as they stand in the column " + t.Key[0]}
			}
			out = append(out, f)
		}
	}
	return out, nil
}

// Selection is what a rule selects at given cutoffs, narrowed, holds left out.
func Selection(r *rule.Rule, t *shape.Table, joined JoinedTables, cutoffs []rule.Cutoff,
	n catalog.Narrow) (source.Selection, error) {
	terms, err := r.Terms(cutoffs, r.Scope(t, joined))
	if err != nil {
		return source.Selection{}, err
	}
	only, err := Narrowing(r, t, joined, n)
	return source.Selection{Table: t, Age: r.Age, Terms: terms, Joins: JoinsOf(r, joined), Only: only}, err
}

// JoinedTables are the tables that a rule joins, by the name of the join.
type JoinedTables map[string]*shape.Table

// JoinedBy describes the tables that a rule joins; those that are not there are left out.
func JoinedBy(ctx context.Context, src source.Source, r *rule.Rule) (JoinedTables, error) {
	out := JoinedTables{}
	for name, j := range r.Joins {
		t, err := src.Table(ctx, j.Table)
		if errors.Is(err, source.ErrNoTable) {
			continue
		} else if err != nil {
			return nil, err
		}
		out[name] = t
	}
	return out, nil
}

func JoinsOf(r *rule.Rule, joined JoinedTables) (out []source.Join) {
	for _, name := range slices.Sorted(maps.Keys(joined)) {
		j := source.Join{Name: name, Table: joined[name]}
		for _, ours := range slices.Sorted(maps.Keys(r.Joins[name].On)) {
			j.On = append(j.On, [2]string{ours, r.Joins[name].On[ours]})
		}
		out = append(out, j)
	}
	return out
}

// AverageBytes is the table's average row width; 1 KiB where it is unknown.
func AverageBytes(sel source.Selection) int64 {
	if sel.Table.Rows > 0 && sel.Table.Bytes > 0 {
		return sel.Table.Bytes/sel.Table.Rows + 1
	}
	return 1 << 10
}

// AsPlanned are the related and joined tables of a rule as they were when its plan was made.
func AsPlanned(t *shape.Table, r *rule.Rule) (related, joined JoinedTables) {
	related, joined = JoinedTables{}, JoinedTables{}
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

// CutoffsOf are the cutoffs of a rule's clauses, as a plan pins them.
func CutoffsOf(plan *catalog.Plan, r *rule.Rule) []rule.Cutoff {
	d := &plan.Detail.V
	out := make([]rule.Cutoff, len(r.Clauses))
	for i := range out {
		out[i] = rule.Cutoff{Never: true}
	}
	if len(d.Clauses) == 0 { // of an older version
		out[0] = rule.Cutoff{At: plan.Cutoff.Time}
	}
	for _, c := range d.Clauses {
		if c.Cutoff != nil {
			out[c.Clause] = rule.Cutoff{At: c.Cutoff.Time, All: r.Clauses[c.Clause].Keep.None &&
				d.Narrow.Before == nil}
		}
	}
	return out
}

// Readable lists the positions of the columns that can be read, but for those that are left out.
func Readable(t *shape.Table, omit []string) []int {
	return slices.DeleteFunc(t.Readable(), func(i int) bool { return slices.Contains(omit, t.Columns[i].Name) })
}

func ColumnsAt(t *shape.Table, positions []int) []shape.Column {
	out := make([]shape.Column, len(positions))
	for i, p := range positions {
		out[i] = *t.At(p)
	}
	return out
}
