package filter

import (
	"math/rand/v2"
	"testing"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// What a filter is for any row must be among what Over says of the rows' bounds.
func TestBoundsNeverHideARow(t *testing.T) {
	table := &shape.Table{TableForm: shape.TableForm{Name: "scan",
		Columns: []shape.Column{{Name: "a", Type: "integer", Kind: value.Int, Nullable: true},
			{Name: "b", Type: "text", Kind: value.Text, Nullable: true}}}}
	filters := []string{"a = 5", "a <> 5", "a < 3", "a >= 7", "a IN (1, 9)", "a NOT IN (1, 9)", "a BETWEEN 3 AND 4",
		"a NOT BETWEEN 3 AND 4", "a IS NULL", "a IS NOT NULL", "NOT (a = 5 OR b = 'c')", "a < 3 AND b > 'd'",
		"b LIKE 'c%' OR a > 8", "b BETWEEN 'b' AND 'c'", "TRUE", "FALSE", "a = 3 OR a IS NULL"}
	skipped := 0
	for _, text := range filters {
		f, bad := Bind(text, TableScope(table))
		if len(bad) > 0 {
			t.Fatalf("%s: %v", text, bad[0])
		}
		for range 2000 {
			var bounds [2]Bound
			rows := make([][]value.Value, 1+rand.IntN(4))
			for i := range rows {
				row := []value.Value{value.Of(int64(rand.IntN(10))),
					{Kind: value.Text, B: []byte{byte('a' + rand.IntN(6))}}}
				for c := range row {
					if rand.IntN(5) == 0 {
						row[c] = value.Value{}
						bounds[c].Nulls = true
						continue
					}
					b := &bounds[c]
					if sign, _ := compare(row[c], b.Least); !b.Known || sign < 0 {
						b.Least = row[c]
					}
					if sign, _ := compare(row[c], b.Greatest); !b.Known || sign > 0 {
						b.Greatest = row[c]
					}
					b.Known = true
				}
				rows[i] = row
			}
			may := f.Over(func(i int) Bound { return bounds[i] })
			if !may.Possibly() {
				skipped++
			}
			for _, row := range rows {
				if is := f.Eval(row); may&is != is {
					t.Fatalf("%s is %d for %v, and by its bounds %+v only %d", text, is, row, bounds, may)
				}
			}
		}
	}
	if skipped < 1000 {
		t.Errorf("only %d groups of rows would be passed over", skipped)
	}
}
