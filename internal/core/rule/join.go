package rule

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
)

// Join reaches at most one row of another table of the same source, whose columns conditions may name as JOIN.COLUMN.
type Join struct {
	Table string            `json:"table"`
	On    map[string]string `json:"on"` // column of the rule's table → column of the other
}

// Scope says which columns the conditions of a rule may name: those of its table, and of the tables that it joins, by
// the name of the join. Rows hold no values of joined columns.
func (r *Rule) Scope(t *shape.Table, joined map[string]*shape.Table) filter.Scope {
	own := filter.TableScope(t)
	return func(join, name string) (*shape.Column, int, string) {
		if join == "" {
			return own("", name)
		}
		j := joined[join]
		if j == nil {
			declared := slices.Sorted(maps.Keys(r.Joins))
			if near := shape.Nearest(join, declared); near != "" {
				return nil, 0, "did you mean " + near + "?"
			}
			return nil, 0, fmt.Sprintf("declare it: `joins: {%s: {table: …, on: {…}}}`", join)
		}
		if c, _ := j.Column(name); c != nil {
			return c, -1, ""
		}
		if near := shape.Nearest(name, j.ColumnNames()); near != "" {
			return nil, 0, "did you mean " + join + "." + near + "?"
		}
		return nil, 0, j.Name + " has the columns " + strings.Join(j.ColumnNames(), ", ")
	}
}

// joins checks that each join resolves, and reaches one row at most.
func (c *checking) joins() {
	for _, name := range slices.Sorted(maps.Keys(c.rule.Joins)) {
		j, field := c.rule.Joins[name], "joins."+name
		other := c.Joined[name]
		if other == nil {
			c.fail(field+".table", fmt.Sprintf("there is no table %q in source %s", j.Table, c.rule.Source),
				fmt.Sprintf("`ambercellar table list %s` shows its tables", c.rule.Source))
			continue
		}
		var theirs []string
		for _, ours := range slices.Sorted(maps.Keys(j.On)) {
			a := c.column(field+".on."+ours, ours)
			b, _ := other.Column(j.On[ours])
			if b == nil {
				remedy := "its columns are " + strings.Join(other.ColumnNames(), ", ")
				if near := shape.Nearest(j.On[ours], other.ColumnNames()); near != "" {
					remedy = "did you mean " + near + "?"
				}
				c.fail(field+".on."+ours, fmt.Sprintf("column %q is not in %s.%s", j.On[ours], c.rule.Source,
					other.Name), remedy)
			} else if a != nil && a.Kind != b.Kind {
				c.fail(field+".on."+ours, fmt.Sprintf("column %q of type %s cannot be joined with %s.%s of type %s",
					ours, a.Type, other.Name, b.Name, b.Type), "join columns of one type")
			}
			theirs = append(theirs, j.On[ours])
		}
		if !other.UniqueOn(theirs) {
			c.fail(field+".on", fmt.Sprintf("no unique key of %s is (%s), so the join could reach several rows",
				other.Name, strings.Join(theirs, ", ")), "join by the other table's key")
		}
	}
}

// kept checks the joined columns and rows that are archived besides.
func (c *checking) kept() {
	copies := slices.ContainsFunc(slices.Collect(func(yield func(Clause) bool) {
		for i := range c.rule.Clauses {
			if !yield(c.rule.Effective(i)) {
				return
			}
		}
	}), func(e Clause) bool { return e.Then.Copies() })
	scope := c.rule.Scope(c.Table, c.Joined)
	seen := map[string]bool{}
	for i, name := range c.rule.Include {
		field := fmt.Sprintf("include[%d]", i)
		join, column, ok := strings.Cut(name, ".")
		if !ok {
			c.fail(field, fmt.Sprintf("%q is no joined column", name),
				"write JOIN.COLUMN; the table's own columns are archived anyway")
			continue
		}
		col, _, remedy := scope(join, column)
		switch {
		case col == nil:
			c.fail(field, fmt.Sprintf("there is no column %q to include", name), remedy)
		case col.Problem != "":
			c.fail(field, fmt.Sprintf("column %q: %s", name, col.Problem), "take it out")
		case seen[name]:
			c.fail(field, "the column stands twice", "keep one of them")
		case !copies:
			c.fail(field, "nothing is archived, so nothing can be included", "take the list out")
		}
		if own, _ := c.Table.Column(name); own != nil {
			c.fail(field, fmt.Sprintf("the table has a column %q of its own", name), "give the join another name")
		}
		seen[name] = true
	}
	for i, name := range c.rule.Copy {
		field := fmt.Sprintf("copy[%d]", i)
		j := c.Joined[name]
		if j == nil {
			remedy := fmt.Sprintf("declare it: `joins: {%s: {table: …, on: {…}}}`", name)
			if near := shape.Nearest(name, slices.Sorted(maps.Keys(c.rule.Joins))); near != "" {
				remedy = "did you mean " + near + "?"
			}
			c.fail(field, fmt.Sprintf("there is no join %q", name), remedy)
			continue
		}
		for _, col := range j.Columns {
			if col.Problem != "" {
				c.fail(field, fmt.Sprintf("column %q of %s: %s", col.Name, j.Name, col.Problem),
					"include single columns instead")
			}
		}
		if len(j.OwnKey()) == 0 {
			c.fail(field, fmt.Sprintf("%s has no primary key", j.Name), "include single columns instead")
		}
		if !copies {
			c.fail(field, "nothing is archived, so nothing can be kept with it", "take the list out")
		}
	}
}
