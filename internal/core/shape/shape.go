// Package shape describes a table: its columns, key, indexes and foreign keys, and how the age of its rows can be
// told. It is what sources report, rules are checked against and manifests keep. It holds no rows and speaks no SQL.
package shape

import (
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/core/value"
)

// Column is one column of a table.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"` // as the database writes it
	// how its values are carried and archived; Null where the type is not handled
	Kind value.Kind `json:"kind"`
	// carried as the database's own exact text (arrays, enums, ranges and their like)
	AsText    bool    `json:"as_text,omitempty"`
	Precision int     `json:"precision,omitempty"` // of a Decimal; 0 where it has none
	Scale     int     `json:"scale,omitempty"`
	Nullable  bool    `json:"nullable"`
	Generated bool    `json:"generated,omitempty"` // computed by the database: archived, and left to it on restore
	Collation string  `json:"collation,omitempty"` // of text, where it does not compare code point by code point
	Problem   string  `json:"problem,omitempty"`   // why the column cannot be archived; empty where it can
	Age       AgeKind `json:"age,omitempty"`       // how it can tell a row's age; empty where it cannot
	// by which the database knows the column, whatever it is called; 0 where there is none
	Number int `json:"number,omitempty"`
}

// AgeKind says how a column tells the age of its row.
type AgeKind string

const (
	AgeNone   AgeKind = ""
	AgeTime   AgeKind = "time"  // a date or timestamp
	AgeISO    AgeKind = "iso"   // text that holds ISO 8601 dates or timestamps, in UTC where it names no zone
	AgeNumber AgeKind = "epoch" // an integer; the rule says which unit it counts since 1970-01-01 UTC
)

// Index is an index of a table.
type Index struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"` // an expression stands as its text
	Unique  bool     `json:"unique"`
	Partial bool     `json:"partial,omitempty"`
}

// ForeignKey is a reference from Columns of Table to RefColumns of RefTable.
type ForeignKey struct {
	Name       string   `json:"name"`
	Table      string   `json:"table"`
	Columns    []string `json:"columns"`
	RefTable   string   `json:"ref_table"`
	RefColumns []string `json:"ref_columns"`
	OnDelete   string   `json:"on_delete"`           // "no action", "restrict", "cascade", "set null" or "set default"
	Unindexed  bool     `json:"unindexed,omitempty"` // no index of the referring table begins with one of the columns
}

// Alters says whether deleting a referenced row would delete or change rows of the referencing table.
func (f ForeignKey) Alters() bool {
	return f.OnDelete == "cascade" || f.OnDelete == "set null" || f.OnDelete == "set default"
}

// Partition is a part of a table that holds a range of one column's values.
type Partition struct {
	Name       string `json:"name"`
	Schema     string `json:"schema,omitempty"` // that it lies in, where partitions are tables
	Column     string `json:"column"`
	From       string `json:"from,omitempty"` // the least value, as the column's text; empty: no bound
	To         string `json:"to,omitempty"`   // the value before which it ends; empty: no bound
	Rows       int64  `json:"rows"`           // the database's estimate; -1 where it has none
	Bytes      int64  `json:"bytes"`          // of the rows, without indexes
	IndexBytes int64  `json:"index_bytes"`
	// why the database, or our rights there, do not let it leave as a whole
	Hinders string `json:"hinders,omitempty"`
}

// Table is a table of a source.
type Table struct {
	TableForm
	TableParts
	TableNotes
	TableSize
	TableOthers
}

// TableForm is what a table consists of.
type TableForm struct {
	Name    string   `json:"name"` // as rules name it; with its schema where that is not the default one
	Schema  string   `json:"schema,omitempty"`
	Base    string   `json:"base"` // the name without schema
	Columns []Column `json:"columns"`
	// where the numbers of columns hold: this table of this server; empty: nowhere
	Numbered string `json:"numbered,omitempty"`
	// columns of the primary key, or of a unique key without NULLs; where there is neither, those of Address
	Key []string `json:"key"`
	// hidden columns that tell where a row lies, in a table without key; empty where the database has none
	Address      []Column     `json:"address,omitempty"`
	Indexes      []Index      `json:"indexes"`
	References   []ForeignKey `json:"references"`
	ReferencedBy []ForeignKey `json:"referenced_by"`
}

// TableParts is the partitions of a table, and which of it is looked at.
type TableParts struct {
	// by ranges of one column, the oldest first; empty where the table has none such
	Partitions  []Partition `json:"partitions,omitempty"`
	Partitioned bool        `json:"-"`                   // its rows lie in several tables
	CatchAll    string      `json:"catch_all,omitempty"` // the partition that takes what no other does
	// by which the database tells that it was not altered since; nil where nobody asked
	Sign *Sign  `json:"-"`
	Part string `json:"-"` // the one partition that is read; empty: all of the table
}

// TableNotes is what stands in the way of a run, and what an administrator should know.
type TableNotes struct {
	Triggers       []string `json:"triggers"`           // names of triggers that fire on delete
	InsertTriggers []string `json:"insert_triggers"`    // and of those that fire on insert
	Obstacles      []string `json:"obstacles"`          // why no run may work on the table; empty where one may
	Notes          []string `json:"notes"`              // what an administrator should know of it
	Followed       bool     `json:"followed,omitempty"` // a publication sends its deletes on to subscribers
}

// TableSize is how large a table is, and how old its rows are.
type TableSize struct {
	Rows       int64  `json:"rows"`                 // the database's estimate; -1 where it has none
	Bytes      int64  `json:"bytes"`                // of the rows, without indexes; -1 where unknown
	IndexBytes int64  `json:"index_bytes"`          // likewise
	Locked     bool   `json:"locked,omitempty"`     // by others, so that it could not be looked at
	AgeColumn  string `json:"age_column,omitempty"` // the column that most likely tells the age
	// of the age column, as ISO 8601 or as the number that stands there
	Oldest string `json:"oldest,omitempty"`
	Newest string `json:"newest,omitempty"`
}

// TableOthers is the tables that a rule takes along with a table, where it is kept for a rule.
type TableOthers struct {
	// tables that a rule relates to it, in the rule's order, where it is kept for a rule
	Related []Table `json:"related,omitempty"`
	// tables that a rule joins to it, by the names that the rule gives them, where it is kept for a rule
	Joined map[string]Table `json:"joined,omitempty"`
}

// Padded says whether blanks at the end of a column's values are padding, and do not count where values are compared:
// those of char(n), by whatever name.
func (c *Column) Padded() bool {
	t := strings.ToLower(c.Type)
	return c.Kind == value.Text && (strings.HasPrefix(t, "char(") || strings.HasPrefix(t, "character("))
}

// Column returns the column of that name and its position, or nil and -1.
func (t *Table) Column(name string) (*Column, int) {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i], i
		}
	}
	return nil, -1
}

// NotNull says whether none of the columns takes NULL.
func (t *Table) NotNull(columns []string) bool {
	for _, name := range columns {
		if c, _ := t.Column(name); c == nil || c.Nullable {
			return false
		}
	}
	return true
}

// UniqueOn says whether a whole unique key of the table consists of just these columns, in whatever order.
func (t *Table) UniqueOn(columns []string) bool {
	want := slices.Sorted(slices.Values(columns))
	same := func(list []string) bool {
		return len(list) > 0 && slices.Equal(slices.Sorted(slices.Values(list)), want)
	}
	return same(t.Key) || slices.ContainsFunc(t.Indexes, func(x Index) bool {
		return x.Unique && !x.Partial &&
			same(x.Columns)
	})
}

// Readable returns the positions of the columns that can be read.
func (t *Table) Readable() (out []int) {
	for i, c := range t.Columns {
		if c.Problem == "" {
			out = append(out, i)
		}
	}
	return out
}

// KeyPositions returns the positions of the key's columns. Hidden ones come behind all others.
func (t *Table) KeyPositions() []int {
	out := make([]int, len(t.Key))
	for i, name := range t.Key {
		if _, out[i] = t.Column(name); t.ByAddress() {
			out[i] = len(t.Columns) + i
		}
	}
	return out
}

// ByAddress says whether the table has no key, so that its rows are told apart by where they lie. An address is good
// for as long as nobody changes or moves the row.
func (t *Table) ByAddress() bool { return len(t.Address) > 0 }

// UseAddress makes hidden columns the key of a table that has none.
func (t *Table) UseAddress(columns ...Column) {
	if len(t.Key) > 0 || len(columns) == 0 {
		return
	}
	t.Address = columns
	for _, c := range columns {
		t.Key = append(t.Key, c.Name)
	}
	t.Notes = append(t.Notes, "it has no key: rows are told apart by their address ("+strings.Join(t.Key, ", ")+")")
}

// At returns the column at a position, hidden ones behind all others.
func (t *Table) At(position int) *Column {
	if n := len(t.Columns); position >= n {
		return &t.Address[position-n]
	}
	return &t.Columns[position]
}

// OwnKey returns the columns of the key that are part of the rows; none where rows are told apart by their address.
func (t *Table) OwnKey() []string {
	if t.ByAddress() {
		return []string{}
	}
	return t.Key
}

// IndexServes says whether some whole index begins with the column.
func (t *Table) IndexServes(column string) bool {
	for _, x := range t.Indexes {
		if !x.Partial && len(x.Columns) > 0 && x.Columns[0] == column {
			return true
		}
	}
	return len(t.Key) > 0 && t.Key[0] == column
}

// likelyAges are endings of names that age columns usually have, the likeliest first.
var likelyAges = []string{"created_at", "created", "inserted_at", "recorded_at", "logged_at", "occurred_at",
	"scanned_at", "_at", "_on", "timestamp", "date", "time", "day"}

// GuessAge picks the column that most likely tells the age of rows: a date or timestamp whose name sounds like it,
// an indexed one before others. It returns the empty text where no column can.
func GuessAge(t *Table) string {
	best, bestScore := "", 0
	for _, c := range t.Columns {
		score := 0
		switch c.Age {
		case AgeTime:
			score = 40
		case AgeISO:
			score = 10
		default:
			continue
		}
		for i, ending := range likelyAges {
			if strings.HasSuffix(strings.ToLower(c.Name), ending) {
				score += 30 - i
				break
			}
		}
		if c.Age == AgeISO && score == 10 {
			continue // a text column that sounds like nothing of the kind
		}
		if t.IndexServes(c.Name) {
			score += 20
		}
		if !c.Nullable {
			score += 5
		}
		if score > bestScore {
			best, bestScore = c.Name, score
		}
	}
	return best
}

// Nearest returns the candidate closest to name in spelling, or the empty text where none is near.
func Nearest(name string, candidates []string) string {
	best, bestDistance := "", len(name)/2+1
	for _, c := range candidates {
		if d := distance(strings.ToLower(name), strings.ToLower(c)); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}

// distance is the Levenshtein distance of two names.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

// ColumnNames returns the names of the table's columns in order.
func (t *Table) ColumnNames() []string { return Names(t.Columns) }

// Names returns the names of columns.
func Names(columns []Column) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.Name
	}
	return out
}

// Change is one way in which a table differs from what it was.
type Change struct {
	Text  string
	Stops bool // it changes what would be deleted or archived: somebody has to confirm it
	Run   bool // a run that began before it cannot go on
}

// Differences says in words how a table differs from what it was, in what a run depends on: columns, key, and the
// foreign keys that refer to it. It returns nothing where it is as it was.
func Differences(before, after *Table) []string {
	var out []string
	for _, c := range Drift(before, after) {
		if c.Run {
			out = append(out, c.Text)
		}
	}
	return out
}

// Drift lists every change of a table that somebody who has a rule for it should hear of.
func Drift(before, after *Table) []Change {
	var out []Change
	note := func(stops, run bool, format string, args ...any) {
		out = append(out, Change{fmt.Sprintf(format, args...), stops, run})
	}
	for _, b := range before.Columns {
		a, _ := after.Column(b.Name)
		switch {
		case a == nil:
			note(true, true, "column %q is gone", b.Name)
		case a.Type != b.Type:
			note(true, true, "column %q is now of type %s and was of type %s", b.Name, a.Type, b.Type)
		case a.Generated != b.Generated:
			note(true, true, "column %q is computed in another way", b.Name)
		}
	}
	for _, a := range after.Columns {
		if b, _ := before.Column(a.Name); b == nil {
			note(false, true, "column %q is new", a.Name)
		}
	}
	if len(out) == 0 && !slices.Equal(before.ColumnNames(), after.ColumnNames()) {
		note(false, true, "the columns stand in another order")
	}
	if !slices.Equal(before.Key, after.Key) {
		note(true, true, "the key is (%s) and was (%s)", strings.Join(after.Key, ", "), strings.Join(before.Key, ", "))
	}
	same := func(a, b ForeignKey) bool {
		return a.Table == b.Table && a.OnDelete == b.OnDelete && slices.Equal(a.Columns, b.Columns)
	}
	for _, a := range after.ReferencedBy {
		if !slices.ContainsFunc(before.ReferencedBy, func(b ForeignKey) bool { return same(a, b) }) {
			note(true, true, "%s (%s) now refers to it", a.Table, strings.Join(a.Columns, ", "))
		}
	}
	for _, b := range before.ReferencedBy {
		if !slices.ContainsFunc(after.ReferencedBy, func(a ForeignKey) bool { return same(a, b) }) {
			note(true, true, "%s (%s) no longer refers to it", b.Table, strings.Join(b.Columns, ", "))
		}
	}
	for _, name := range after.Triggers {
		if !slices.Contains(before.Triggers, name) {
			note(true, false, "the trigger %s is new and fires on delete", name)
		}
	}
	for _, b := range before.Indexes {
		if !slices.ContainsFunc(after.Indexes, func(a Index) bool { return slices.Equal(a.Columns, b.Columns) }) {
			note(false, false, "the index %s on (%s) is gone", b.Name, strings.Join(b.Columns, ", "))
		}
	}
	for _, b := range before.Related {
		i := slices.IndexFunc(after.Related, func(a Table) bool { return a.Name == b.Name })
		if i < 0 {
			continue // the rule itself has changed, or the table is gone, which is said elsewhere
		}
		for _, c := range Drift(&b, &after.Related[i]) {
			c.Text = "related table " + b.Name + ": " + c.Text
			out = append(out, c)
		}
	}
	return out
}
