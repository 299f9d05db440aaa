package source

import (
	"fmt"
	"slices"
	"strings"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Related is a related table: its rows go along with the row of another table that they refer to.
type Related struct {
	// its table and the holds on it; age, terms and joins are those of its own rule, where it has one
	Selection
	Parent int         // position among the related tables of the one that it refers to; -1: the selection's own table
	On     [][2]string // its column, and the column of the other that it refers to
	Then   rule.Then   // archive, purge or unlink
}

// Covers says whether the rows that a foreign key ties to the other table are those that the relation takes along.
func (k Related) Covers(f shape.ForeignKey) bool { return covers(k.Table.Name, k.On, f) }

func covers(table string, on [][2]string, f shape.ForeignKey) bool {
	if f.Table != table || len(f.Columns) != len(on) || len(f.RefColumns) != len(on) {
		return false
	}
	for i := range f.Columns {
		if !slices.Contains(on, [2]string{f.Columns[i], f.RefColumns[i]}) {
			return false
		}
	}
	return true
}

// OurColumns and TheirColumns are the columns of the related table, and of the one that it refers to, in one order.
func (k Related) OurColumns() []string   { return side(k.On, 0) }
func (k Related) TheirColumns() []string { return side(k.On, 1) }

func side(on [][2]string, i int) []string {
	out := make([]string, len(on))
	for j := range on {
		out[j] = on[j][i]
	}
	return out
}

// Kept writes the condition that a related row has to stay: a hold is true for it, or its own rule keeps it longer.
// Empty where nothing could keep one; never NULL.
func (k Related) Kept(d Dialect) string {
	var parts []string
	if held := k.Held(d); held != "" {
		parts = append(parts, held)
	}
	if k.Then != rule.ThenUnlink {
		for _, collated := range []bool{false, true}[:1+truth(k.Collates(d))] {
			for _, t := range k.Terms {
				switch {
				case t.None || t.All:
				case t.Never:
					parts = append(parts, Governed(d, t, collated))
				default:
					parts = append(parts, Governed(d, t, collated)+" AND ("+d.Before(t.At)+") IS NOT TRUE")
				}
			}
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "(" + strings.Join(parts, " OR ") + ")"
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Writer is what conditions on the rows of other tables are written with.
type Writer struct {
	Prefix string // of the columns of the table itself
	From   func(*shape.Table) string
	Quote  func(string) string
	// of another table, with the same binder
	Dialect func(s Selection, prefix string) Dialect
	// that a row is referred to through one of the keys
	Referenced func(t *shape.Table, keys []shape.ForeignKey, prefix string) []string
}

// apart is which foreign keys refer to a member of the family and are no relation of it.
func (s Selection) apart(t *shape.Table, member int) []shape.ForeignKey {
	return slices.DeleteFunc(slices.Clone(t.ReferencedBy), func(f shape.ForeignKey) bool {
		return slices.ContainsFunc(s.Related, func(k Related) bool { return k.Parent == member && k.Covers(f) })
	})
}

// Referenced writes the conditions that a row is referred to by one that does not go along with it, or that such a one
// refers to a related row.
func (s Selection) Referenced(d Dialect) []string {
	w := d.Writer()
	out := w.Referenced(s.Table, s.apart(s.Table, -1), w.Prefix)
	return append(out, s.throughRelated(-1, w.Prefix, w, func(i int, prefix string) []string {
		if s.Related[i].Then == rule.ThenUnlink {
			return nil // it stays, and what refers to it too
		}
		return w.Referenced(s.Related[i].Table, s.apart(s.Related[i].Table, i), prefix)
	})...)
}

// keptByRelated writes the conditions that a related row keeps a row.
func (s Selection) keptByRelated(d Dialect) []string {
	w := d.Writer()
	return s.throughRelated(-1, w.Prefix, w, func(i int, prefix string) []string {
		if kept := s.Related[i].Kept(w.Dialect(s.Related[i].Selection, prefix)); kept != "" {
			return []string{kept}
		}
		return nil
	})
}

// throughRelated writes the conditions that some related row, on whatever level, satisfies one of what conditions
// returns.
func (s Selection) throughRelated(parent int, prefix string, w Writer,
	conditions func(i int, prefix string) []string) (out []string) {
	for i, k := range s.Related {
		if k.Parent != parent {
			continue
		}
		alias := fmt.Sprintf("k%d", i+1)
		any := append(conditions(i, alias+"."), s.throughRelated(i, alias+".", w, conditions)...)
		if len(any) > 0 {
			out = append(out, fmt.Sprintf("EXISTS (SELECT 1 FROM %s %s WHERE %s AND (%s))", w.From(k.Table), alias,
				k.joined(w, alias+".", prefix), strings.Join(any, " OR ")))
		}
	}
	return out
}

func (k Related) joined(w Writer, ours, theirs string) string {
	parts := make([]string, len(k.On))
	for i, pair := range k.On {
		parts[i] = ours + w.Quote(pair[0]) + " = " + theirs + w.Quote(pair[1])
	}
	return strings.Join(parts, " AND ")
}

// RelatedFrom writes the tables, joined, whose rows are those of the related table at position i; the selection's own
// table is called t.
func (s Selection) RelatedFrom(w Writer, i int) string {
	var path []int
	for at := i; at >= 0; at = s.Related[at].Parent {
		path = append(path, at)
	}
	out, above := w.From(s.Table)+" t", "t."
	for _, at := range slices.Backward(path) {
		alias := fmt.Sprintf("k%d", at+1)
		out += fmt.Sprintf(" JOIN %s %s ON %s", w.From(s.Related[at].Table), alias,
			s.Related[at].joined(w, alias+".", above))
		above = alias + "."
	}
	return out
}

// Lock says what a query does with the rows that it finds.
type Lock int

const (
	NoLock   Lock = iota
	LockRows      // and waits for others, as long as its session waits
	LockFree      // those alone that nobody has locked
)

// Query asks for rows whose columns On have one of the values.
type Query struct {
	Selection
	Columns   []int // reported, before the key
	On        []string
	Values    [][]value.Value
	Condition func(Dialect) string // further; nil: none
	Restored  string               // only rows that this restore put back, by the record of it; empty: all
	Lock      Lock
}

// RelatedBatch is the part of a batch that lies in a related table: what is known of the rows that go along with a
// slice.
type RelatedBatch struct {
	Related
	Lease   Lease
	Segment int
	Columns []int           // that the digests cover
	Keys    [][]value.Value // by ordinal
	Digests []value.Digest  // by ordinal
	Roots   []int           // by ordinal: the ordinal of the row that it goes with; ascending
}

// Of returns the ordinals of the rows that go along with one of the slice.
func (k *RelatedBatch) Of(root int) (from, to int) {
	from, _ = slices.BinarySearch(k.Roots, root)
	to, _ = slices.BinarySearch(k.Roots, root+1)
	return from, to
}

// Step is one statement of a batch of families, for reading.
type Step struct {
	Title  string
	Table  Selection
	On     []string             // columns by which the rows are found
	Only   func(Dialect) string // further condition; nil: none
	Lock   bool                 // rows are locked and read
	Delete bool                 // rows are deleted
	Unlink []string             // columns that become NULL
}

// Steps lists what a batch of families does, in order; steps whose condition is empty are left out.
func (s Selection) Steps(d func(Selection) Dialect) (out []Step) {
	add := func(x Step) {
		if x.Only == nil || x.Only(d(x.Table)) != "" {
			out = append(out, x)
		}
	}
	own := s
	own.Related = nil
	add(Step{Title: "each batch locks its rows and reads them, to compare them with what was read", Table: own,
		On: s.Table.Key, Lock: true})
	add(Step{Title: "those that are held stay", Table: own, On: s.Table.Key, Only: own.Held})
	for _, k := range s.Related {
		add(Step{Title: "the rows of " + k.Table.Name +
			" that refer to them are locked and read: any that is not what was read keeps its family",
			Table: k.Selection, On: k.OurColumns(), Lock: true})
		add(Step{Title: "rows of " + k.Table.Name + " that have to stay keep their family", Table: k.Selection,
			On: k.OurColumns(), Only: k.Kept})
	}
	for _, k := range slices.Backward(s.Related) {
		if k.Then == rule.ThenUnlink {
			add(Step{Title: "rows of " + k.Table.Name + " are unlinked", Table: k.Selection, On: k.Table.Key,
				Unlink: k.OurColumns()})
		} else {
			add(Step{Title: "rows of " + k.Table.Name + " are deleted, unless others refer to them",
				Table: Selection{Table: k.Table}, On: k.Table.Key, Delete: true})
		}
	}
	add(Step{Title: "at last the rows themselves, unless others refer to them", Table: Selection{Table: s.Table},
		On: s.Table.Key, Delete: true})
	return out
}
