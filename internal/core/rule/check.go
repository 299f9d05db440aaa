package rule

import (
	"fmt"
	"strings"

	"ambercellar/internal/core/shape"
)

// Check compares a rule with its table and the stores that there are. It reports mistakes, and as warnings what a
// careful colleague would mention.
func Check(d *Document, t *shape.Table, stores []string) []Problem {
	r := &d.Rule
	var out []Problem
	fail := func(field, message, remedy string) { out = append(out, d.problem(field, message, remedy)) }
	warn := func(field, message, remedy string) {
		p := d.problem(field, message, remedy)
		p.Warning = true
		out = append(out, p)
	}
	for _, o := range t.Obstacles {
		fail("table", o, "")
	}
	if len(t.Key) == 0 {
		fail("table", fmt.Sprintf("%s has no primary key and no unique key without NULLs, so no row can be told from another", t.Name), "add a primary key")
	}
	for _, k := range t.ReferencedBy {
		if k.Alters() {
			fail("table", fmt.Sprintf("deleting from %s would reach rows of %s (%s) through the foreign key %s (on delete %s)", t.Name, k.Table, strings.Join(k.Columns, ", "), k.Name, k.OnDelete),
				"those rows would go without a copy; make the key NO ACTION, or write the rule for a table that nothing depends on in this way")
		} else {
			warn("table", fmt.Sprintf("rows that %s still refers to (%s) stay, whatever their age", k.Table, k.Name), "")
		}
	}
	for _, name := range t.Triggers {
		warn("table", fmt.Sprintf("the trigger %s fires for every row that is deleted", name), "")
	}
	if r.Then == ThenArchive {
		for _, c := range t.Columns {
			if c.Problem != "" {
				fail("table", fmt.Sprintf("column %q: %s", c.Name, c.Problem), "change the column's type, or purge instead of archive")
			}
		}
	}
	checkAge(d, t, fail, warn)
	if r.Then == ThenArchive && r.Archive.Store != "" && !contains(stores, r.Archive.Store) {
		remedy := "add it with `ambercellar store add`"
		if near := shape.Nearest(r.Archive.Store, stores); near != "" {
			remedy = "did you mean " + near + "?"
		}
		fail("archive.store", fmt.Sprintf("there is no store %q", r.Archive.Store), remedy)
	}
	return out
}

func checkAge(d *Document, t *shape.Table, fail, warn func(field, message, remedy string)) {
	age := d.Rule.Age
	if age.Column == "" {
		return
	}
	c, _ := t.Column(age.Column)
	if c == nil {
		remedy := "its columns are " + strings.Join(t.ColumnNames(), ", ")
		if near := shape.Nearest(age.Column, t.ColumnNames()); near != "" {
			remedy = "did you mean " + near + "?"
		}
		fail("age", fmt.Sprintf("column %q is not in %s.%s", age.Column, d.Rule.Source, t.Name), remedy)
		return
	}
	switch {
	case c.Age == shape.AgeNone:
		fail("age", fmt.Sprintf("column %q is of type %s, which cannot tell an age", c.Name, c.Type), "name a date, a timestamp, or an integer that counts time")
	case c.Age == shape.AgeNumber && age.Unit == "":
		fail("age", fmt.Sprintf("column %q is a number; its unit is not said", c.Name), "write `age: {column: "+c.Name+", unit: seconds}` (or milliseconds, microseconds)")
	case c.Age != shape.AgeNumber && age.Unit != "":
		fail("age.unit", fmt.Sprintf("column %q is of type %s and needs no unit", c.Name, c.Type), "write `age: "+c.Name+"`")
	}
	if c.Age != shape.AgeNone && !t.IndexServes(c.Name) {
		warn("age", fmt.Sprintf("no index of %s begins with %q, so every slice reads the whole table", t.Name, c.Name), fmt.Sprintf("an index on (%s) makes it fast", c.Name))
	}
}

// At makes a problem at a field of the document, for what only a caller can know (an unknown source, say).
func (d *Document) At(field, message, remedy string) Problem {
	return d.problem(field, message, remedy)
}
