package rule

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Surroundings are what a rule is checked against.
type Surroundings struct {
	Table   *shape.Table
	Joined  map[string]*shape.Table // by the name of the join; those that are there
	Related map[string]*shape.Table // by the name that the rule gives; those that are there
	Stores  []string
	Cold    []string // of them, those that let files go cold
	Keeps   map[string]Named

	Schedules map[string]NamedSchedule
	Now       time.Time
}

// Check compares a rule with its table, the stores and the named keeps that there are. It reports mistakes, and as
// warnings what a careful colleague would mention.
func Check(d *Document, s Surroundings) []Problem {
	c := &checking{Surroundings: s, doc: d, rule: &d.Rule}
	c.table()
	c.joins()
	c.age()
	c.clauses()
	c.related()
	c.columns()
	c.kept()
	c.scheduled()
	return c.out
}

// CheckSchedule reports what is wrong with a named schedule.
func CheckSchedule(d *Document, now time.Time) []Problem {
	c := &checking{Surroundings: Surroundings{Now: now}, doc: d, rule: &d.Rule}
	c.firings("when", &d.Schedule.Schedule, time.UTC)
	return c.out
}

type checking struct {
	Surroundings
	doc  *Document
	rule *Rule
	out  []Problem
}

func (c *checking) fail(field, message, remedy string) {
	c.out = append(c.out, c.doc.problem(field, message, remedy))
}

func (c *checking) warn(field, message, remedy string) {
	p := c.doc.problem(field, message, remedy)
	p.Warning = true
	c.out = append(c.out, p)
}

func (c *checking) table() {
	t := c.Table
	for _, o := range t.Obstacles {
		c.fail("table", o, "")
	}
	if len(t.Key) == 0 {
		c.fail("table", fmt.Sprintf("%s has no primary key and no unique key without NULLs, so no row can be told "+
			"from another", t.Name), "add a primary key")
	}
	if t.ByAddress() {
		c.warn("table", fmt.Sprintf("%s has no key: its rows are told apart by their address (%s), a row that "+
			"others change counts as vanished, and restored rows cannot be told from others, so the next run takes "+
			"them again", t.Name, strings.Join(t.Key, ", ")), "a primary key is better")
		if slices.ContainsFunc(c.rule.Clauses, func(x Clause) bool { return x.Then == ThenCopy }) ||
			c.rule.Then == ThenCopy {
			c.fail("then", fmt.Sprintf("%s has no key, so that its copied rows cannot be found again when their "+
				"time has come", t.Name), "add a primary key, or archive")
		}
		if len(c.rule.Related) > 0 {
			c.fail("related", fmt.Sprintf("%s has no key, so that no family can be told from another", t.Name),
				"add a primary key")
		}
	}
	for _, name := range t.Triggers {
		c.warn("table", fmt.Sprintf("the trigger %s fires for every row that is deleted", name), "")
	}
}

// column finds a column or reports that it is not there.
func (c *checking) column(field, name string) *shape.Column {
	col, _ := c.Table.Column(name)
	if col == nil {
		remedy := "its columns are " + strings.Join(c.Table.ColumnNames(), ", ")
		if near := shape.Nearest(name, c.Table.ColumnNames()); near != "" {
			remedy = "did you mean " + near + "?"
		}
		c.fail(field, fmt.Sprintf("column %q is not in %s.%s", name, c.rule.Source, c.Table.Name), remedy)
	}
	return col
}

func (c *checking) age() {
	age, t := c.rule.Age, c.Table
	if age.Column == "" {
		return
	}
	var col *shape.Column
	if age.Join == "" {
		col = c.column("age", age.Column)
	} else if other := c.Joined[age.Join]; other != nil {
		if col, _ = other.Column(age.Column); col == nil {
			remedy := other.Name + " has the columns " + strings.Join(other.ColumnNames(), ", ")
			if near := shape.Nearest(age.Column, other.ColumnNames()); near != "" {
				remedy = "did you mean " + age.Join + "." + near + "?"
			}
			c.fail("age", fmt.Sprintf("column %q is not in %s.%s", age.Column, c.rule.Source, other.Name), remedy)
		}
	}
	if col == nil {
		return
	}
	switch {
	case col.Age == shape.AgeNone:
		c.fail("age", fmt.Sprintf("column %q is of type %s, which cannot tell an age", col.Name, col.Type),
			"name a date, a timestamp, or an integer that counts time")
		return
	case col.Age == shape.AgeNumber && age.Unit == "":
		c.fail("age", fmt.Sprintf("column %q is a number; its unit is not said", col.Name), "write `age: {column: "+
			col.Name+", unit: seconds}` (or milliseconds, microseconds)")
	case col.Age != shape.AgeNumber && age.Unit != "":
		c.fail("age.unit", fmt.Sprintf("column %q is of type %s and needs no unit", col.Name, col.Type),
			"write `age: "+col.Name+"`")
	case (col.Kind == value.Timestamp || col.Age == shape.AgeISO) && c.rule.Zone == "":
		c.fail("zone", fmt.Sprintf("column %q holds clock times without zone, and it is not said which zone's "+
			"clock they show", col.Name), "add `zone: UTC`, or an IANA name like Europe/Athens")
	}
	for i, s := range age.Never {
		if _, err := NeverValue(col, s); err != nil {
			c.fail(fmt.Sprintf("age.never[%d]", i), err.Error(), "write the value as it stands in the column")
		}
	}
	if age.Join != "" {
		c.warn("age", fmt.Sprintf("the age stands in another table (%s), so every slice looks at all rows of %s", age,
			t.Name), "")
	} else if !t.IndexServes(col.Name) {
		c.warn("age", fmt.Sprintf("no index of %s begins with %q, so every slice reads the whole table", t.Name,
			col.Name), fmt.Sprintf("an index on (%s) makes it fast",
			strings.Join(append([]string{col.Name},
				slices.DeleteFunc(slices.Clone(t.Key), func(k string) bool { return k == col.Name })...), ", ")))
	}
	if m := c.rule.Modified; m != "" {
		if col := c.column("modified", m); col != nil && col.Age != shape.AgeTime && col.Age != shape.AgeISO {
			c.fail("modified", fmt.Sprintf("column %q is of type %s, which is no time", m, col.Type),
				"name a date or timestamp that writers set")
		}
	}
}

// NeverValue reads a sentinel as a value of the age column.
func NeverValue(c *shape.Column, text string) (value.Value, error) {
	literal := "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if c.Age == shape.AgeNumber {
		literal = text
	}
	f, bad := filter.Bind(`"`+strings.ReplaceAll(c.Name, `"`, `""`)+`" = `+literal,
		func(string, string) (*shape.Column, int, string) { return c, 0, "" })
	if len(bad) > 0 {
		return value.Value{}, fmt.Errorf("%q is no value of column %q: %s", text, c.Name, bad[0].Message)
	}
	v, _ := f.Literal()
	return v, nil
}

func (c *checking) clauses() {
	r := c.rule
	for i := range r.Clauses {
		clause, e, at := r.Clauses[i], r.Effective(i), fmt.Sprintf("clauses[%d]", i)
		if clause.Where != "" {
			c.where(at, clause.Where)
		}
		if name := clause.Keep.Name; name != "" {
			if _, ok := c.Keeps[name]; !ok {
				remedy := "write a length of time like P18M, or define it with a document `keep: " + name + "`"
				if near := shape.Nearest(name, slices.Sorted(maps.Keys(c.Keeps))); near != "" {
					remedy = "did you mean " + near + "?"
				}
				c.fail(at+".keep", fmt.Sprintf("there is no keep named %q", name), remedy)
			}
		}
		if clause.Keep.Newest > 0 && (len(c.Table.Partitions) == 0 || r.Age.Join != "" ||
			c.Table.Partitions[0].Column != r.Age.Column) {
			c.fail(at+".newest", fmt.Sprintf("%s is not partitioned by ranges of its age column %q", c.Table.Name,
				r.Age.Column), "write a keep like P6M")
		}
		if e.Then.Copies() {
			own := clause.Archive
			if own == nil {
				own = &Archive{}
			}
			c.store(at, "store", e.Archive.Store, own.Store != "")
			c.store(at, "second", e.Archive.Second, own.Second != "")
			c.store(at, "cold_store", e.Archive.ColdStore, own.ColdStore != "")
		}
	}
	if !Fatal(c.out) {
		c.overruled()
	}
}

func (c *checking) where(at, text string) {
	f, bad := filter.Bind(text, c.rule.Scope(c.Table, c.Joined))
	for _, e := range bad {
		p := c.doc.problem(at+".where", strings.TrimSuffix(e.Plain(), "; "+e.Remedy), e.Remedy)
		p.Excerpt = e.Excerpt()
		c.out = append(c.out, p)
	}
	if len(bad) == 0 && f.Never() {
		c.fail(at+".where", "no row can satisfy this condition: its parts exclude each other",
			"mend the condition, or take the clause out")
	}
}

// overruled warns of clauses that can never take a row, since a clause for every row keeps at least as long.
func (c *checking) overruled() {
	resolve := Resolver{Named: func(name string) (Named, bool) { n, ok := c.Keeps[name]; return n, ok },
		Newest: func(int, time.Time, *time.Location) (time.Time, error) { return c.Now, nil }}
	cutoffs, err := c.rule.Cutoffs(c.Now, resolve)
	if err != nil {
		return
	}
	terms, err := c.rule.Terms(cutoffs, c.rule.Scope(c.Table, c.Joined))
	if err != nil {
		return
	}
	for _, t := range terms {
		clause := c.rule.Clauses[t.Clause]
		switch {
		case t.None && clause.Otherwise:
			c.warn(fmt.Sprintf("clauses[%d]", t.Clause),
				"a clause without condition matches every row, so no other rows are left for this one",
				"give that clause a condition, or take this one out")
		case t.None && clause.Keep.Newest == 0:
			c.warn(fmt.Sprintf("clauses[%d]", t.Clause),
				"the clause is wholly overruled: one without condition keeps every row at least as long",
				"give that one a condition, or take this one out")
		}
	}
}

// store checks a store that the archive of a clause names, itself or by what it takes from the rule.
func (c *checking) store(at, field, name string, own bool) {
	if name == "" {
		return
	}
	where := "archive." + field
	if own {
		where = at + "." + where
	}
	if slices.ContainsFunc(c.out, func(p Problem) bool { return p.Field == where }) {
		return
	}
	switch {
	case !contains(c.Stores, name):
		remedy := "add it with `ambercellar store add`"
		if near := shape.Nearest(name, c.Stores); near != "" {
			remedy = "did you mean " + near + "?"
		}
		c.fail(where, fmt.Sprintf("there is no store %q", name), remedy)
	case field != "cold_store" && contains(c.Cold, name):
		c.fail(where, fmt.Sprintf("store %q lets its files go cold, and what is written there could not be read back",
			name), "name a warm store here, and this one as cold_store with cold_after")
	}
}

// columns checks what is archived, left out and masked.
func (c *checking) columns() {
	r, t := c.rule, c.Table
	type part struct {
		field  string
		then   Then
		omit   []string
		mask   map[string]Mask
		always bool
	}
	parts := []part{{"", r.Then, r.Omit, r.Mask, len(r.Clauses) == 0}}
	for i, clause := range r.Clauses {
		e := r.Effective(i)
		if clause.Omit != nil || clause.Mask != nil {
			parts = append(parts, part{fmt.Sprintf("clauses[%d].", i), e.Then, clause.Omit, clause.Mask, true})
		}
		if e.Then.Copies() {
			for _, col := range t.Columns {
				if col.Problem != "" && !contains(e.Omit, col.Name) {
					message := fmt.Sprintf("column %q: %s", col.Name, col.Problem)
					if !slices.ContainsFunc(c.out, func(p Problem) bool { return p.Message == message }) {
						c.fail("table", message, "leave it out with `omit: ["+col.Name+
							"]`, change the column's type, or purge instead of archive")
					}
				}
			}
		}
	}
	protected := append([]string{}, t.Key...)
	if r.Age.Join == "" {
		protected = append(protected, r.Age.Column)
	}
	for _, p := range parts {
		for i, name := range p.omit {
			if c.column(fmt.Sprintf("%somit[%d]", p.field, i), name) != nil && contains(protected, name) {
				c.fail(p.field+"omit", fmt.Sprintf(
					"column %q tells which row it is or how old, and is always archived", name),
					"take it out of the list")
			}
		}
		for _, name := range slices.Sorted(maps.Keys(p.mask)) {
			field := p.field + "mask." + name
			col := c.column(field, name)
			switch {
			case col == nil:
			case contains(protected, name):
				c.fail(field, fmt.Sprintf("column %q tells which row it is or how old, and is archived as it is",
					name), "take it out")
			case contains(p.omit, name):
				c.fail(field, fmt.Sprintf("column %q is left out already", name), "take it out of one of the two")
			case p.mask[name] == MaskYear && col.Kind != value.Date && col.Kind != value.Timestamp &&
				col.Kind != value.Instant && col.Age != shape.AgeISO:
				c.fail(field, fmt.Sprintf("column %q is of type %s, which has no year", name, col.Type),
					"mask it with blank or hash")
			case p.mask[name] == MaskLast4 && (col.Kind != value.Text || col.AsText):
				c.fail(field, fmt.Sprintf("column %q is of type %s, which has no characters", name, col.Type),
					"mask it with blank or hash")
			case p.mask[name] == MaskBlank && !col.Nullable && col.Kind != value.Text:
				c.warn(field, fmt.Sprintf("column %q takes no NULL, so archived rows cannot go back into the table",
					name), "")
			}
		}
		if len(p.omit)+len(p.mask) > 0 && p.then.Copies() {
			names := append(slices.Clone(p.omit), slices.Sorted(maps.Keys(p.mask))...)
			field := "omit"
			if len(p.omit) == 0 {
				field = "mask"
			}
			c.warn(p.field+field, fmt.Sprintf("what stands in %s cannot be restored", strings.Join(names, ", ")), "")
		}
	}
}

// At makes a problem at a field of the document, for what only a caller can know (an unknown source, say).
func (d *Document) At(field, message, remedy string) Problem {
	return d.problem(field, message, remedy)
}
