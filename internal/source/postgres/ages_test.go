package postgres

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// inSlices reads a table to its end in slices, and returns their sizes and how often each id came.
func inSlices(t *testing.T, s source.Source, sel source.Selection, rows int, size int64) (sizes []int,
	seen map[int64]int) {
	t.Helper()
	seen = map[int64]int{}
	var after []value.Value
	for {
		n := 0
		slice, err := s.ReadSlice(t.Context(), source.SliceRequest{Selection: sel, After: after,
			Columns: []int{0, 1, 2}, MaxRows: rows, MaxBytes: size}, func(c *value.Chunk) error {
			for i := range c.Rows() {
				seen[c.Row(i)[0].N]++
				n++
			}
			return nil
		})
		if errors.Is(err, errTies) { // as a run would, from the start of the slice
			seen = map[int64]int{}
			if after != nil {
				t.Fatalf("many rows of one age were found behind the first slice")
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		if n > 0 {
			sizes = append(sizes, n)
		}
		if after = slice.Next; !slice.More {
			return sizes, seen
		}
	}
}

func TestSlicesEndBetweenAgesWhereFewRowsShareOne(t *testing.T) {
	const table = "CREATE TABLE scan (id integer PRIMARY KEY, at timestamptz NOT NULL, note text); CREATE INDEX ON " +
		"scan (at);"
	three := table + "INSERT INTO scan SELECT g, timestamptz '2020-01-01' + (g / 3) * interval '1 minute', 'n' " +
		"FROM generate_series(0, 5999) g; ANALYZE scan;"
	for _, c := range []struct {
		name, ddl string
		rows      int
		bytes     int64
		want      string
	}{
		{"three rows an age", three, 1000, 1 << 30, "[1002 1002 1002 1002 1002 990]"},
		{"a slice that ends at its bytes", three, 5000, 40_000, "[1602 1602 1602 1194]"},
		{"small slices go by age and key", three, 700, 1 << 30, "[700 700 700 700 700 700 700 700 400]"},
		{"no statistics yet", table + "INSERT INTO scan SELECT g, timestamptz '2020-01-01' + (g / 3) * interval '1 " +
			"minute', 'n' FROM generate_series(0, 2999) g;", 1000, 1 << 30, "[1000 1000 1000]"},
		{"many rows of one age that the statistics do not know", three +
			"INSERT INTO scan SELECT g, '2020-01-01', 'n' FROM generate_series(6000, 19999) g", 3000, 1 << 30,
			"[3000 3000 3000 3000 3000 3000 2000]"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, exec := open(t)
			exec(c.ddl)
			described, err := s.Table(t.Context(), "scan")
			if err != nil {
				t.Fatal(err)
			}
			sel := source.Every(described, rule.Age{Column: "at"}, time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC))
			sizes, seen := inSlices(t, s, sel, c.rows, c.bytes)
			if got := fmt.Sprint(sizes); got != c.want {
				t.Errorf("slices of %s rows, want %s", got, c.want)
			}
			for id := range int64(len(seen)) {
				if seen[id] != 1 {
					t.Fatalf("row %d came %d times", id, seen[id])
				}
			}
		})
	}
}
