package rule

import (
	"fmt"
	"strings"
	"testing"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

const family = `rule: trips
source: harbour
table: trip
age: at
zone: UTC
joins:
  vessel: {table: vessel, on: {vessel_id: id}}
related:
  - table: leg
    then: archive
    related:
      - {table: remark, then: purge}
  - {table: survey, then: unlink}
clauses:
  - keep: P1Y
then: archive
archive: {store: cellar}
`

func column(name string, kind value.Kind, nullable bool) shape.Column {
	return shape.Column{Name: name, Kind: kind, Type: kind.String(), Nullable: nullable}
}

func refers(table, column, to, onDelete string) shape.ForeignKey {
	return shape.ForeignKey{Name: table + "_" + column, Table: table, Columns: []string{column}, RefTable: to,
		RefColumns: []string{"id"}, OnDelete: onDelete}
}

// harbour returns the tables of the rule, by name; every foreign key is known at both of its ends.
func harbour() map[string]*shape.Table {
	tables := map[string]*shape.Table{}
	for name, columns := range map[string][]shape.Column{
		"vessel": {column("name", value.Text, false)},
		"trip": {column("at", value.Instant, false), column("vessel_id", value.Int, true),
			column("code", value.Text, false)},
		"leg": {column("trip_id", value.Int, false), column("other_id", value.Int, true),
			column("label", value.Text, true)},
		"remark": {column("leg_id", value.Int, false)},
		"survey": {column("trip_id", value.Int, true)},
	} {
		t := &shape.Table{TableForm: shape.TableForm{Name: name, Base: name, Key: []string{"id"},
			Columns: append([]shape.Column{column("id", value.Int, false)}, columns...),
			Indexes: []shape.Index{{Name: name + "_pk", Columns: []string{"id"}, Unique: true}}}}
		for i := range t.Columns {
			if t.Columns[i].Kind == value.Instant {
				t.Columns[i].Age = shape.AgeTime
			}
			t.Indexes = append(t.Indexes, shape.Index{Name: "by_" + t.Columns[i].Name,
				Columns: []string{t.Columns[i].Name, "id"}})
		}
		tables[name] = t
	}
	for _, k := range []shape.ForeignKey{refers("trip", "vessel_id", "vessel", "no action"),
		refers("leg", "trip_id", "trip", "cascade"), refers("remark", "leg_id", "leg", "no action"),
		refers("survey", "trip_id", "trip", "set null")} {
		tables[k.Table].References = append(tables[k.Table].References, k)
		tables[k.RefTable].ReferencedBy = append(tables[k.RefTable].ReferencedBy, k)
	}
	return tables
}

func TestRelatedTablesAreCheckedAgainstTheDatabase(t *testing.T) {
	old := func(a, b string) func(*string, map[string]*shape.Table) {
		return func(text *string, _ map[string]*shape.Table) { *text = strings.Replace(*text, a, b, 1) }
	}
	for _, c := range []struct {
		name   string
		change func(text *string, tables map[string]*shape.Table)
		field  string
		part   string
		warn   bool
	}{
		{"nothing is wrong but what is purged", func(*string, map[string]*shape.Table) {},
			"related[0].related[0].then", "without a copy", true},
		{"a table is missing", old("table: leg", "table: lag"), "related[0].table", `no table "lag"`, false},
		{"a cascade reaches a table that is not named", old("  - {table: survey, then: unlink}\n", ""), "table",
			"add it: `related: [{table: survey, on: {trip_id: id}, then: unlink}]`", false},
		{"a cascade below reaches one", func(_ *string, ts map[string]*shape.Table) {
			ts["leg"].ReferencedBy = append(ts["leg"].ReferencedBy, refers("stamp", "leg_id", "leg", "cascade"))
		}, "related[0].table", "then: archive}]` at related[0]", false},
		{"a key that blocks is mentioned", func(_ *string, ts map[string]*shape.Table) {
			ts["trip"].ReferencedBy = append(ts["trip"].ReferencedBy, refers("claim", "trip_id", "trip", "no action"))
		}, "table", "claim still refers to", true},
		{"a cycle", old("{table: remark, then: purge}", "{table: trip, then: purge, on: {vessel_id: id}}"),
			"related[0].related[0].table", "stands above itself", false},
		{"a table stands twice", old("{table: survey, then: unlink}", "{table: leg, then: archive}"),
			"related[1].table", "two families", false},
		{"no foreign key says how", old("{table: remark, then: purge}", "{table: vessel, then: purge}"),
			"related[0].related[0]", "no foreign key of vessel refers to leg", false},
		{"two foreign keys might", func(_ *string, ts map[string]*shape.Table) {
			ts["leg"].References = append(ts["leg"].References, refers("leg", "other_id", "trip", "no action"))
		}, "related[0]", "2 foreign keys of leg refer to trip: (trip_id), (other_id)", false},
		{"a column is misspelt", old("table: leg\n", "table: leg\n    on: {trip_di: id}\n"), "related[0].on.trip_di",
			"did you mean trip_id?", false},
		{"columns of two types", old("table: leg\n", "table: leg\n    on: {label: id}\n"), "related[0].on.label",
			"cannot refer to trip.id", false},
		{"what is referred to is not unique", old("table: leg\n", "table: leg\n    on: {label: code}\n"),
			"related[0].on", "no unique key of trip is (code)", false},
		{"what takes no NULL cannot be unlinked", old("{table: remark, then: purge}", "{table: remark, then: unlink}"),
			"related[0].related[0].then", "takes no NULL", false},
		{"there is no key", func(_ *string, ts map[string]*shape.Table) { ts["leg"].Key = nil }, "related[0].table",
			"no primary key", false},
		{"a type that cannot be archived", func(_ *string, ts map[string]*shape.Table) {
			ts["leg"].Columns[3].Problem = "values of type money cannot be archived exactly"
		}, "related[0].table", `column "label" of leg`, false},
		{"no index", func(_ *string, ts map[string]*shape.Table) { ts["remark"].Indexes = ts["remark"].Indexes[:1] },
			"related[0].related[0]", "no index of remark begins with", true},
		{"a trigger", func(_ *string, ts map[string]*shape.Table) { ts["leg"].Triggers = []string{"shout"} },
			"related[0].table", "the trigger shout of leg fires", true},
		{"what is referred to is left out", old("then: archive\narchive", "omit: [code]\nthen: archive\narchive"), "",
			"", true},
		{"rows are included", old("clauses:", "include: [vessel.name]\ncopy: [vessel]\nclauses:"), "", "", true},
		{"a column to include is misspelt", old("clauses:", "include: [vessel.nmae]\nclauses:"), "include[0]",
			"did you mean vessel.name?", false},
		{"a join to copy is misspelt", old("clauses:", "copy: [vesel]\nclauses:"), "copy[0]", "vesel", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			text, tables := family, harbour()
			c.change(&text, tables)
			d := parse(t, text)
			related := map[string]*shape.Table{}
			for _, x := range d.Rule.Relations() {
				if tables[x.Table] != nil {
					related[x.Table] = tables[x.Table]
				}
			}
			problems := Check(d, Surroundings{Table: tables["trip"],
				Joined: map[string]*shape.Table{"vessel": tables["vessel"]}, Related: related,
				Stores: []string{"cellar"}, Now: at("2026-11-23")})
			found := c.field == ""
			for _, p := range problems {
				if p.Field == c.field && strings.Contains(p.Error(), c.part) {
					found = p.Warning == c.warn && p.Line > 0
				} else if c.warn && !p.Warning {
					t.Errorf("refused: %v", p)
				}
			}
			if !found {
				t.Errorf("got %v, want one at %s about %q (warning: %v)", problems, c.field, c.part, c.warn)
			}
		})
	}
}

func TestRelationsStandLevelByLevel(t *testing.T) {
	r := parse(t, family).Rule
	var got []string
	for _, x := range r.Relations() {
		got = append(got, fmt.Sprintf("%s below %d at %s", x.Table, x.Parent, x.Field))
	}
	if want := "leg below -1 at related[0]; survey below -1 at related[1]; remark below 0 at " +
		"related[0].related[0]"; strings.Join(got, "; ") != want {
		t.Errorf("got %s", strings.Join(got, "; "))
	}
	other := parse(t, strings.Replace(family, "{table: remark, then: purge}", "{table: remark, then: archive}",
		1)).Rule
	changes := strings.Join(Compare(&r, &other), "; ")
	if !strings.Contains(changes, "archive leg (purge remark)") ||
		!strings.Contains(changes, "archive leg (archive remark)") {
		t.Errorf("the change is told as %q", changes)
	}
}

func TestRelatedTablesThatCannotBeRead(t *testing.T) {
	deep := "related: [{table: a, then: purge}]"
	for range 22 {
		deep = "related: [{table: a, then: purge, " + deep + "}]"
	}
	for text, want := range map[string]string{
		"related: leg":                        "a list of tables",
		"related: [{then: archive}]":          "name the related table",
		"related: [{table: leg}]":             "write archive, purge or unlink",
		"related: [{table: leg, then: copy}]": `"copy" is not something to do`,
		"related: [{table: leg, then: archive, on: id}]": "each with the column that it " +
			"refers to",
		"related: [{table: leg, then: archive, with: id}]":                          "with",
		"related: [{table: leg, then: unlink, related: [{table: a, then: purge}]}]": "rows that are unlinked stay",
		deep: "more than 20 levels",
	} {
		_, problems := Parse("f", []byte("rule: trips\nsource: harbour\ntable: trip\nage: at\nzone: UTC\n"+text+
			"\nclauses:\n  - keep: P1Y\nthen: purge\n"))
		said := fmt.Sprint(problems)
		if len(problems) == 0 || problems[0].Line == 0 || !strings.Contains(said, want) {
			t.Errorf("%s: %s, and not %q", text, said, want)
		}
	}
}
