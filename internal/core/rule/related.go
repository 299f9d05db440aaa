package rule

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ambercellar/internal/core/shape"
)

// Related is a table whose rows go along with the rows that they refer to. A row and its related rows leave whole or
// not at all.
type Related struct {
	Table string `json:"table"`
	// its column → column of the table above it; empty: by the only foreign key
	On      map[string]string `json:"on,omitempty"`
	Then    Then              `json:"then"` // archive, purge or unlink
	Related []Related         `json:"related,omitempty"`
}

// Relation is a related table at its place: below the rule's own table, or below another relation.
type Relation struct {
	*Related
	Parent int    // position of the relation above; -1: the rule's table
	Field  string // where it stands in the rule
}

// Relations lists the related tables of a rule, those of one level before those of the next.
func (r *Rule) Relations() []Relation {
	var out []Relation
	add := func(list []Related, parent int, field string) {
		for i := range list {
			out = append(out, Relation{&list[i], parent, fmt.Sprintf("%s[%d]", field, i)})
		}
	}
	add(r.Related, -1, "related")
	for i := 0; i < len(out); i++ {
		add(out[i].Related.Related, i, out[i].Field+".related")
	}
	return out
}

// Pairs returns the columns by which a related table refers to the one above it: its own, and the other's. Where the
// rule does not say, the only foreign key between the two does.
func (x Relation) Pairs(own, above *shape.Table) ([][2]string, error) {
	var out [][2]string
	for _, ours := range slices.Sorted(maps.Keys(x.On)) {
		out = append(out, [2]string{ours, x.On[ours]})
	}
	if len(out) > 0 {
		return out, nil
	}
	keys := slices.DeleteFunc(slices.Clone(own.References), func(f shape.ForeignKey) bool {
		return f.RefTable != above.Name || len(f.RefColumns) != len(f.Columns)
	})
	switch len(keys) {
	case 0:
		return nil, fmt.Errorf("no foreign key of %s refers to %s", own.Name, above.Name)
	case 1:
		for i := range keys[0].Columns {
			out = append(out, [2]string{keys[0].Columns[i], keys[0].RefColumns[i]})
		}
		return out, nil
	}
	var names []string
	for _, f := range keys {
		names = append(names, "("+strings.Join(f.Columns, ", ")+")")
	}
	return nil, fmt.Errorf("%d foreign keys of %s refer to %s: %s", len(keys), own.Name, above.Name,
		strings.Join(names, ", "))
}

const relatedRemedy = "write `related: [{table: booking_leg, then: archive}]`"

// related reads a list of related tables.
func (r *reader) related(field string, n ast.Node, depth int) []Related {
	if n == nil {
		return nil
	}
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		r.fail(field, "here must stand a list of tables", relatedRemedy)
		return nil
	}
	if depth > 20 {
		r.fail(field, "tables are related over more than 20 levels", "leave the lower ones to rules of their own")
		return nil
	}
	var out []Related
	for i, item := range list.Values {
		at := fmt.Sprintf("%s[%d]", field, i)
		r.place(at, item)
		f := r.mapping(at, item, "table", "on", "then", "related")
		if f == nil {
			continue
		}
		x := Related{Table: r.text(at+".table", f["table"], true, "name the related table")}
		switch x.Then = Then(r.text(at+".then", f["then"], true, "write archive, purge or unlink")); x.Then {
		case ThenArchive, ThenPurge, ThenUnlink, "":
		default:
			r.fail(at+".then", fmt.Sprintf("%q is not something to do with related rows", x.Then),
				"write archive, purge or unlink")
			x.Then = ""
		}
		for _, on := range r.pairs(at+".on", f["on"],
			"here must stand columns of the related table, each with the column that it refers to",
			"write `on: {booking_id: id}`") {
			ours := keyText(on.Key)
			r.place(at+".on."+ours, on.Key)
			if x.On == nil {
				x.On = map[string]string{}
			}
			x.On[ours] = r.text(at+".on."+ours, on.Value, true, "name the column that it refers to")
		}
		x.Related = r.related(at+".related", f["related"], depth+1)
		if x.Then == ThenUnlink && len(x.Related) > 0 {
			r.fail(at+".related", "rows that are unlinked stay, so nothing can go along with them",
				"take the list out")
		}
		out = append(out, x)
	}
	return out
}

// related writes a list of related tables.
func (w *writer) related(depth int, list []Related) {
	if len(list) == 0 {
		return
	}
	w.plain(depth, "related", " ")
	for _, x := range list {
		w.item = true
		w.plain(depth+2, "table", bare(x.Table))
		var on []string
		for _, ours := range slices.Sorted(maps.Keys(x.On)) {
			on = append(on, bare(ours)+": "+bare(x.On[ours]))
		}
		if len(on) > 0 {
			w.plain(depth+2, "on", "{"+strings.Join(on, ", ")+"}")
		}
		w.plain(depth+2, "then", string(x.Then))
		w.related(depth+2, x.Related)
	}
}

func relatedText(list []Related) string {
	var parts []string
	for _, x := range list {
		text := string(x.Then) + " " + x.Table
		var on []string
		for _, ours := range slices.Sorted(maps.Keys(x.On)) {
			on = append(on, ours+" = "+x.On[ours])
		}
		if len(on) > 0 {
			text += " on " + strings.Join(on, ", ")
		}
		if below := relatedText(x.Related); below != "" {
			text += " (" + below + ")"
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

// related checks the related tables, and that none that the rule does not name would be reached by a delete.
func (c *checking) related() {
	relations := c.rule.Relations()
	tables := make([]*shape.Table, len(relations))
	on := make([][][2]string, len(relations))
	at := func(i int) *shape.Table {
		if i < 0 {
			return c.Table
		}
		return tables[i]
	}
	named := map[string]string{c.Table.Name: "the rule's own table"}
	for i, x := range relations {
		t := c.Related[x.Table]
		if t == nil {
			c.fail(x.Field+".table", fmt.Sprintf("there is no table %q in source %s", x.Table, c.rule.Source),
				fmt.Sprintf("`ambercellar table list %s` shows its tables", c.rule.Source))
			continue
		}
		for above := x.Parent; ; above = relations[above].Parent {
			if p := at(above); p != nil && p.Name == t.Name {
				c.fail(x.Field+".table", fmt.Sprintf("%s stands above itself: the related tables form a cycle",
					t.Name), "take it out; rows that refer to rows of their own table keep those")
			}
			if above < 0 {
				break
			}
		}
		if where, twice := named[t.Name]; twice && where != "the rule's own table" {
			c.fail(x.Field+".table", fmt.Sprintf("%s stands at %s already, so that a row could belong to two families",
				t.Name, where), "name each related table once")
		}
		named[t.Name] = x.Field
		tables[i] = t
		if above := at(x.Parent); above != nil {
			on[i] = c.relation(x, t, above)
		}
	}
	c.omittedReferences(relations, tables, on)
	for i := -1; i < len(relations); i++ {
		if t := at(i); t != nil && (i < 0 || relations[i].Then != ThenUnlink) {
			c.reached(i, t, relations, tables, on)
		}
	}
}

// relation checks one related table against the one above it.
func (c *checking) relation(x Relation, t, above *shape.Table) [][2]string {
	pairs, err := x.Pairs(t, above)
	if err != nil {
		c.fail(x.Field, err.Error(), fmt.Sprintf("say which columns refer to %s: `on: {COLUMN: COLUMN OF %s}`",
			above.Name, above.Name))
		return nil
	}
	var theirs []string
	for _, pair := range pairs {
		ours, _ := t.Column(pair[0])
		other, _ := above.Column(pair[1])
		for _, missing := range []struct {
			column *shape.Column
			name   string
			table  *shape.Table
		}{{ours, pair[0], t}, {other, pair[1], above}} {
			if missing.column == nil {
				remedy := "its columns are " + strings.Join(missing.table.ColumnNames(), ", ")
				if near := shape.Nearest(missing.name, missing.table.ColumnNames()); near != "" {
					remedy = "did you mean " + near + "?"
				}
				c.fail(x.Field+".on."+pair[0], fmt.Sprintf("column %q is not in %s.%s", missing.name, c.rule.Source,
					missing.table.Name), remedy)
			}
		}
		if ours == nil || other == nil {
			return nil
		}
		if ours.Kind != other.Kind {
			c.fail(x.Field+".on."+pair[0], fmt.Sprintf("column %q of type %s cannot refer to %s.%s of type %s",
				ours.Name, ours.Type, above.Name, other.Name, other.Type), "name columns of one type")
		}
		if x.Then == ThenUnlink && (!ours.Nullable || contains(t.Key, ours.Name)) {
			c.fail(x.Field+".then", fmt.Sprintf("column %q of %s takes no NULL, so its rows cannot be unlinked",
				ours.Name, t.Name), "archive or purge them")
		}
		theirs = append(theirs, pair[1])
	}
	if !above.UniqueOn(theirs) {
		c.fail(x.Field+".on", fmt.Sprintf(
			"no unique key of %s is (%s), so a related row could belong to several families", above.Name,
			strings.Join(theirs, ", ")), "name the columns of a unique key")
	}
	for _, o := range t.Obstacles {
		c.fail(x.Field+".table", o, "")
	}
	if len(t.OwnKey()) == 0 {
		c.fail(x.Field+".table", fmt.Sprintf(
			"%s has no primary key and no unique key without NULLs, so no row can be told from another", t.Name),
			"add a primary key")
	}
	if !t.IndexServes(pairs[0][0]) {
		c.warn(x.Field, fmt.Sprintf("no index of %s begins with %q, so that each family is looked for in the whole "+
			"table", t.Name, pairs[0][0]), "add one")
	}
	if x.Then == ThenUnlink {
		return pairs
	}
	for _, name := range t.Triggers {
		c.warn(x.Field+".table", fmt.Sprintf("the trigger %s of %s fires for every row that is deleted", name, t.Name),
			"")
	}
	for _, col := range t.Columns {
		if x.Then == ThenArchive && col.Problem != "" {
			c.fail(x.Field+".table", fmt.Sprintf("column %q of %s: %s", col.Name, t.Name, col.Problem),
				"change the column's type, or purge its rows")
		}
	}
	if x.Then == ThenPurge {
		c.warn(x.Field+".then", fmt.Sprintf("the rows of %s that go along are deleted without a copy", t.Name), "")
	}
	return pairs
}

// omittedReferences refuses to leave out or to change what a related row refers to: it could not be put back.
func (c *checking) omittedReferences(relations []Relation, tables []*shape.Table, on [][][2]string) {
	for i := range c.rule.Clauses {
		e := c.rule.Effective(i)
		for j, x := range relations {
			if x.Parent >= 0 || tables[j] == nil {
				continue
			}
			for _, pair := range on[j] {
				if _, masked := e.Mask[pair[1]]; masked || contains(e.Omit, pair[1]) {
					c.fail(x.Field, fmt.Sprintf("column %q, which rows of %s refer to, is left out or masked in "+
						"the archive", pair[1], tables[j].Name), "take it out of omit and mask")
				}
			}
		}
		if len(relations) > 0 && !e.Then.Copies() &&
			slices.ContainsFunc(relations, func(x Relation) bool { return x.Then == ThenArchive }) &&
			e.Archive.Store == "" {
			c.fail("archive.store", fmt.Sprintf("clause %d purges, and related rows are to be archived", i+1),
				"name the store for them: `archive: {store: cellar}`")
		}
	}
}

// reached looks at the foreign keys that refer to a table from which rows are deleted.
func (c *checking) reached(at int, t *shape.Table, relations []Relation, tables []*shape.Table, on [][][2]string) {
	field := "table"
	if at >= 0 {
		field = relations[at].Field + ".table"
	}
	for _, k := range t.ReferencedBy {
		covered, named := false, false
		for i, x := range relations {
			if tables[i] == nil || tables[i].Name != k.Table {
				continue
			}
			named = true
			covered = covered || x.Parent == at && len(on[i]) == len(k.Columns) &&
				!slices.ContainsFunc(on[i], func(p [2]string) bool {
					j := slices.Index(k.Columns, p[0])
					return j < 0 || j >= len(k.RefColumns) || k.RefColumns[j] != p[1]
				})
		}
		if k.Unindexed && !covered {
			c.warn(field, fmt.Sprintf("no index of %s begins with %s, so that the whole table is searched for rows "+
				"that refer to one that is to go", k.Table, strings.Join(k.Columns, ", ")), "add one")
		}
		switch {
		case covered:
		case k.Alters() && !named && k.Table != t.Name:
			c.fail(field, fmt.Sprintf("deleting from %s would reach rows of %s (%s) through the foreign key %s (on "+
				"delete %s), and the rule does not name that table", t.Name, k.Table, strings.Join(k.Columns, ", "),
				k.Name, k.OnDelete),
				"add it: "+c.toAdd(at, k, relations))
		case k.Alters() && k.Table == t.Name && at < 0 && k.OnDelete == "cascade":
			c.warn(field, fmt.Sprintf("rows that other rows of %s refer to (%s, on delete %s) stay, whatever "+
				"their age", t.Name, k.Name, k.OnDelete), "")
		default:
			c.warn(field, fmt.Sprintf("rows of %s that %s still refers to (%s) stay, whatever their age", t.Name,
				k.Table, k.Name), "")
		}
	}
}

// toAdd writes what would have to stand in the rule for the rows behind a foreign key to go along.
func (c *checking) toAdd(at int, k shape.ForeignKey, relations []Relation) string {
	entry := "{table: " + bare(k.Table)
	if len(k.RefColumns) == len(k.Columns) {
		var on []string
		for i := range k.Columns {
			on = append(on, bare(k.Columns[i])+": "+bare(k.RefColumns[i]))
		}
		entry += ", on: {" + strings.Join(on, ", ") + "}"
	}
	then := ThenArchive
	if k.OnDelete != "cascade" {
		then = ThenUnlink
	}
	text := "`related: [" + entry + ", then: " + string(then) + "}]`"
	if at >= 0 {
		return text + " at " + relations[at].Field
	}
	return text
}

var bareName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.]*$`)

// bare writes a name without quotes where YAML takes it so.
func bare(name string) string {
	if bareName.MatchString(name) && scalar(name) == name {
		return name
	}
	return quoted(name)
}
