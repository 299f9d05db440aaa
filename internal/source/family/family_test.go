package family

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
	"ambercellar/internal/source/bykey"
)

// The families of these tests: trips with legs, legs with remarks; surveys refer to trips and are unlinked. A row has
// an id, the id of the row above it (0: none), and a text. The text "held" puts it under a hold.
var tables = map[string]*shape.Table{}

func init() {
	for _, name := range []string{"trip", "leg", "remark", "survey"} {
		tables[name] = &shape.Table{TableForm: shape.TableForm{Name: name, Key: []string{"id"},
			Columns: []shape.Column{{Name: "id", Kind: value.Int}, {Name: "above", Kind: value.Int, Nullable: true},
				{Name: "text", Kind: value.Text}}}}
	}
}

type row struct {
	id, above int64
	text      string
}

func (r row) values() []value.Value {
	above := value.Of(r.above)
	if r.above == 0 {
		above = value.Value{}
	}
	return []value.Value{value.Of(r.id), above, value.OfText(r.text)}
}

func equal(a, b value.Value) bool { return a.Kind == value.Int && b.Kind == value.Int && a.N == b.N }

// database is a made-up one, of one session but for the locks of others.
type database struct {
	rows   map[string]map[int64]row
	locked map[string]map[int64]bool
	saved  map[string]map[int64]row
	middle func() // once, before rows are deleted: what others commit in the middle
	again  func()
}

func (db *database) copied() map[string]map[int64]row {
	out := map[string]map[int64]row{}
	for name, rows := range db.rows {
		out[name] = maps.Clone(rows)
	}
	return out
}

func (db *database) sorted(table string) []row {
	return slices.SortedFunc(maps.Values(db.rows[table]), func(a, b row) int { return int(a.id - b.id) })
}

// parent says which table the rows of another refer to.
var parent = map[string]string{"leg": "trip", "remark": "leg", "survey": "trip"}

func (db *database) referred(table string, id int64) bool {
	for child, above := range parent {
		if above != table {
			continue
		}
		for _, r := range db.rows[child] {
			if r.above == id {
				return true
			}
		}
	}
	return false
}

func (db *database) operations() Operations {
	return Operations{
		Mark: func(context.Context) error { db.saved = db.copied(); return nil },
		Undo: func(context.Context) error {
			db.rows = db.saved
			if db.again != nil { // what others have committed is not taken back
				db.again()
			}
			return nil
		},
		Rows: func(_ context.Context, q source.Query, report bykey.Rower) error {
			holds := false
			if q.Condition != nil {
				if q.Condition(dialect{}) == "" {
					return nil
				}
				holds = true
			}
			_, on := q.Table.Column(q.On[0])
			for _, r := range db.sorted(q.Table.Name) {
				wanted := slices.ContainsFunc(q.Values,
					func(v []value.Value) bool { return equal(v[0], r.values()[on]) })
				if !wanted || holds && r.text != "held" || q.Lock == source.LockFree && db.locked[q.Table.Name][r.id] {
					continue
				}
				if err := report(append(r.values(), value.Of(r.id))); err != nil {
					return err
				}
			}
			return nil
		},
		Delete: func(_ context.Context, sel source.Selection, _ []int, keys [][]value.Value,
			report bykey.Rower) error {
			if db.middle != nil {
				db.again, db.middle = db.middle, nil
				db.again()
			}
			for _, r := range db.sorted(sel.Table.Name) {
				if !slices.ContainsFunc(keys, func(k []value.Value) bool { return equal(k[0], value.Of(r.id)) }) ||
					db.referred(sel.Table.Name, r.id) {
					continue
				}
				delete(db.rows[sel.Table.Name], r.id)
				if err := report(append(r.values(), value.Of(r.id))); err != nil {
					return err
				}
			}
			return nil
		},
		Unlink: func(_ context.Context, sel source.Selection, _ []string, keys [][]value.Value) (n int, err error) {
			for _, r := range db.sorted(sel.Table.Name) {
				if slices.ContainsFunc(keys, func(k []value.Value) bool { return equal(k[0], value.Of(r.id)) }) {
					r.above = 0
					db.rows[sel.Table.Name][r.id] = r
					n++
				}
			}
			return n, nil
		},
	}
}

// dialect writes any condition as the same word: the database above knows what is meant.
type dialect struct{}

func (dialect) Leaf(any, bool) string   { return "held" }
func (dialect) Instant() string         { return "TRUE" }
func (dialect) Before(time.Time) string { return "TRUE" }
func (dialect) Since(time.Time) string  { return "FALSE" }
func (dialect) Writer() source.Writer   { return source.Writer{} }
func (dialect) Folds() bool             { return false }

// read makes the batch of everything that the database holds, as a run would have read it.
func (db *database) read(t *testing.T) source.Batch {
	t.Helper()
	var h value.Hasher
	selection := func(name string) source.Selection {
		f, bad := filter.Bind("text = 'held'", filter.TableScope(tables[name]))
		if len(bad) > 0 {
			t.Fatal(bad[0])
		}
		return source.Selection{Table: tables[name], Holds: []*filter.Filter{f}}
	}
	b := source.Batch{Selection: selection("trip"), Columns: []int{0, 1, 2}, Segment: 1}
	var keys [][]value.Value
	at := map[string]map[int64]int{"trip": {}, "leg": {}}
	for i, r := range db.sorted("trip") {
		keys, b.Digests, b.Ordinals = append(keys, []value.Value{value.Of(r.id)}),
			append(b.Digests, h.Row(r.values())), append(b.Ordinals, i)
		at["trip"][r.id] = i
	}
	b.Locators = bykey.Of(tables["trip"], keys)
	for _, k := range []struct {
		name string
		up   int
		then rule.Then
	}{{"leg", -1, rule.ThenArchive}, {"survey", -1, rule.ThenUnlink}, {"remark", 0, rule.ThenPurge}} {
		related := source.RelatedBatch{Related: source.Related{Selection: selection(k.name), Parent: k.up,
			On: [][2]string{{"above", "id"}}, Then: k.then}, Segment: 1, Columns: []int{0, 1, 2}}
		list := slices.DeleteFunc(db.sorted(k.name), func(r row) bool {
			_, ok := at[parent[k.name]][r.above]
			return !ok
		})
		slices.SortStableFunc(list, func(x,
			y row) int {
			return at[parent[k.name]][x.above] - at[parent[k.name]][y.above]
		})
		for _, r := range list {
			root := at[parent[k.name]][r.above]
			if at[k.name] != nil {
				at[k.name][r.id] = root
			}
			related.Keys, related.Digests, related.Roots = append(related.Keys, []value.Value{value.Of(r.id)}),
				append(related.Digests, h.Row(r.values())), append(related.Roots, root)
		}
		b.Families = append(b.Families, related)
	}
	return b
}

func newDatabase(random *rand.Rand) *database {
	db := &database{rows: map[string]map[int64]row{"trip": {}, "leg": {}, "remark": {}, "survey": {}},
		locked: map[string]map[int64]bool{"trip": {}, "leg": {}, "remark": {}, "survey": {}}}
	for id := int64(1); id <= 6; id++ {
		db.rows["trip"][id] = row{id, 0, "trip"}
		db.rows["leg"][id] = row{id, 1 + random.Int64N(6), "leg"}
		db.rows["leg"][10+id] = row{10 + id, id, "leg"}
		db.rows["survey"][id] = row{id, random.Int64N(7), "survey"}
		db.rows["remark"][id] = row{id, id, "remark"}
	}
	return db
}

// disturb does to the database what others may do between the reading and the deleting, and says what it did.
func (db *database) disturb(random *rand.Rand) string {
	names := []string{"trip", "leg", "remark", "survey"}
	name := names[random.IntN(len(names))]
	list := db.sorted(name)
	if len(list) == 0 {
		return "nothing"
	}
	r := list[random.IntN(len(list))]
	switch random.IntN(7) {
	case 0:
		r.text = "changed"
		db.rows[name][r.id] = r
		return fmt.Sprintf("%s %d is changed", name, r.id)
	case 1:
		r.text = "held"
		db.rows[name][r.id] = r
		return fmt.Sprintf("%s %d is changed and held", name, r.id)
	case 2:
		if !db.referred(name, r.id) {
			delete(db.rows[name], r.id)
			return fmt.Sprintf("%s %d is deleted", name, r.id)
		}
	case 3, 4:
		if above := parent[name]; above != "" {
			up := db.sorted(above)
			if len(up) == 0 {
				return "nothing"
			}
			to := up[random.IntN(len(up))].id
			if random.IntN(2) == 0 {
				id := 100 + random.Int64N(1000)
				db.rows[name][id] = row{id, to, "new"}
				return fmt.Sprintf("%s %d is added below %d", name, id, to)
			}
			r.above = to
			db.rows[name][r.id] = r
			return fmt.Sprintf("%s %d moves below %d", name, r.id, to)
		}
	default:
		db.locked[name][r.id] = true
		return fmt.Sprintf("%s %d is locked", name, r.id)
	}
	return "nothing"
}

func TestAFamilyLeavesWholeOrNotAtAllWhateverOthersDo(t *testing.T) {
	left, stayed := 0, 0
	for seed := range uint64(4000) {
		random := rand.New(rand.NewPCG(seed, 7))
		db := newDatabase(random)
		for name, rows := range db.rows { // some are held from the beginning
			for id, r := range rows {
				if random.IntN(40) == 0 {
					r.text = "held"
					db.rows[name][id] = r
				}
			}
		}
		asRead := db.copied()
		b := db.read(t)
		var story []string
		for range random.IntN(5) {
			story = append(story, db.disturb(random))
		}
		if random.IntN(4) == 0 {
			child, id := []string{"leg", "remark", "survey"}[random.IntN(3)], 5000+random.Int64N(100)
			if up := db.sorted(parent[child]); len(up) > 0 {
				r := row{id, up[random.IntN(len(up))].id, "new"}
				db.middle = func() { db.rows[child][id] = r }
				story = append(story, fmt.Sprintf("in the middle %s %v is added", child, r))
			}
		}
		skip := random.IntN(2) == 0
		if !skip {
			for _, locks := range db.locked { // it would wait for them
				clear(locks)
			}
		}
		before := db.copied()
		rows := begin(b)
		if err := remove(t.Context(), b, skip, db.operations(), rows); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		fail := func(format string, args ...any) {
			t.Errorf("seed %d: %s\nwhat happened: %s", seed, fmt.Sprintf(format, args...), strings.Join(story, "; "))
		}
		// Nothing refers to what is gone.
		for child, above := range parent {
			for _, r := range db.rows[child] {
				if _, ok := db.rows[above][r.above]; r.above != 0 && !ok {
					fail("%s %d refers to %s %d, which is gone", child, r.id, above, r.above)
				}
			}
		}
		// Only what was read, and is still so, is gone; what is held, locked or changed stays, and its family with it.
		for name, list := range before {
			for id, r := range list {
				_, there := db.rows[name][id]
				if there {
					continue
				}
				if asRead[name][id] != r {
					fail("%s %d is gone, though it was %v when it was read and %v then", name, id, asRead[name][id], r)
				}
				if r.text == "held" || skip && db.locked[name][id] {
					fail("%s %d is gone, though it is held or locked", name, id)
				}
				if above := parent[name]; above != "" {
					if _, there := db.rows[above][r.above]; there {
						fail("%s %d is gone and the row above it is not", name, id)
					}
				}
			}
		}
		left += len(before["trip"]) - len(db.rows["trip"])
		stayed += len(db.rows["trip"])
		// Each row that was read has one fate, and the digest is that of what went.
		for i, j := range rows {
			if j == nil {
				continue
			}
			if sum := j.Deleted + len(j.Changed) + len(j.Vanished) + len(j.Held) + len(j.Skipped); sum != j.Rows {
				fail("table %d: %d of %d rows are accounted for: %+v", i, sum, j.Rows, j)
			}
			var set value.Set
			gone := map[int]bool{}
			for o := range j.Rows {
				gone[o] = true
			}
			for _, list := range [][]int{j.Changed, j.Vanished, j.Held, j.Skipped} {
				for _, o := range list {
					delete(gone, o)
				}
			}
			digests := b.Digests
			if i > 0 {
				digests = b.Families[i-1].Digests
			}
			for o := range gone {
				set.Add(digests[o])
			}
			if set != j.Digest || len(gone) != j.Deleted {
				fail("table %d: the digest is of other rows than the ordinals say", i)
			}
		}
	}
	if left < 5000 || stayed < 5000 {
		t.Errorf("%d families left and %d stayed: the test shows little", left, stayed)
	}
}

func TestWhatAddsARowInTheMiddleKeepsTheFamily(t *testing.T) {
	db := newDatabase(rand.New(rand.NewPCG(1, 1)))
	b := db.read(t)
	db.middle = func() { db.rows["leg"][99] = row{99, 3, "new"} }
	rows := begin(b)
	if err := remove(t.Context(), b, false, db.operations(), rows); err != nil {
		t.Fatal(err)
	}
	if _, there := db.rows["trip"][3]; !there || len(db.rows["trip"]) != 1 || rows[0].Deleted != 5 {
		t.Errorf("trips left: %v; %+v", db.rows["trip"], rows[0])
	}
	for _, r := range db.rows["leg"] {
		if r.above != 3 {
			t.Errorf("leg %d below %d is left", r.id, r.above)
		}
	}
	if len(rows[0].Held)+len(rows[0].Skipped) != 1 {
		t.Errorf("the books: %+v", rows[0])
	}
}
