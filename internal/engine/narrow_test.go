package engine

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ambercellar/internal/archive"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/search"
)

// What is found by the spans that the catalog keeps is what is found by looking at every segment: for keys of numbers
// and of texts, of one column and of two, of tables that were altered meanwhile, and of segments whose spans are not
// known.
func TestALookUpByKeyFindsWhatASearchOfAllSegmentsFinds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		table string
		row   func(i int) string
		where []string
	}{
		"a number": {"id integer PRIMARY KEY, at datetime NOT NULL, note text",
			func(i int) string { return fmt.Sprintf("%d, '%s', 'n%d'", i*7-300, ageOf(i), i%5) },
			[]string{"id = -300", "id = 50", "id IN (1, 8, 15, 99999)", "id = 50 OR id = 57",
				"id = 50 AND note = 'n0'", "id = 50 OR note = 'n1'", "NOT id = 50", "id > 700", "note = 'n3'",
				"id = 1 AND id = 8", "id = 9223372036854775807"}},
		"a text": {"code text NOT NULL PRIMARY KEY, at datetime NOT NULL, id integer", func(i int) string {
			return fmt.Sprintf("'%c-%s-%04d', '%s', %d", 'à'+i/20, []string{"heron", "plover", "é", ""}[i%4], i,
				ageOf(i), i)
		},
			[]string{"code = 'à-heron-0004'", "code = 'à--0003'", "code IN ('à-é-0002', 'ê-plover-0201')",
				"code = 'À-heron-0004'", "code = ''", "code = 'à-heron-0004' AND id = 4", "code LIKE 'à-heron-000%'"}},
		"two columns": {"line integer NOT NULL, seat integer NOT NULL, at datetime NOT NULL, id integer, PRIMARY " +
			"KEY (line, seat)", func(i int) string { return fmt.Sprintf("%d, %d, '%s', %d", i/20, i%20, ageOf(i), i) },
			[]string{"line = 3 AND seat = 4", "line = 3", "seat = 4", "line IN (1, 2) AND seat IN (3, 99)",
				"line = 3 OR seat = 4", "line = 3 AND seat = 4 AND id = 64", "line = 3 AND seat = 4 AND id = 65"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := newHarbour(t, "sqlite")
			h.exec(t, "CREATE TABLE scan ("+c.table+")", "CREATE INDEX scan_at ON scan (at)")
			for i := range 300 {
				h.exec(t, "INSERT INTO scan VALUES ("+c.row(i)+")")
			}
			b := h.serve(t, nil)
			b.Runs.SliceRows = 11
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-06-01", "archive") + cellar}
			run := s.start(t, h, b)
			if err := s.work(t, b, run); err != nil {
				t.Fatal(err)
			}
			if _, err := b.Catalog.SetRunState(t.Context(), "service", run, catalog.Done, ""); err != nil {
				t.Fatal(err)
			}
			list, err := b.Catalog.Segments(t.Context(), catalog.SegmentFilter{}, catalog.All)
			if err != nil || len(list) < 25 {
				t.Fatal(len(list), err)
			}
			compare := func(when string) {
				t.Helper()
				for _, where := range c.where {
					got, few := b.found(t, search.SearchRequest{Where: where})
					want, all := b.found(t, search.SearchRequest{Where: where, Wide: true, AtOnce: true})
					if got != want || few.Segments != all.Segments || few.Found != all.Found {
						t.Errorf("%s, %s: found %s, and %s by looking at all; %+v, %+v", when, where, got, want, few,
							all)
					}
					got, parts := b.found(t, search.SearchRequest{Where: where, Wide: true})
					if got != want || parts.Segments != all.Segments || parts.Found != all.Found ||
						parts.Passed != all.Passed || parts.Rows != all.Rows {
						t.Errorf("%s, %s: found %s in parts, and %s at once; %+v, %+v", when, where, got, want, parts,
							all)
					}
				}
			}
			compare("fresh")
			m, err := b.Search.ReadMoment(t.Context(), "harbour", "scan")
			if err != nil {
				t.Fatal(err)
			}
			first := c.where[0]
			if n, err := b.Search.Narrow(t.Context(), search.SearchRequest{Source: "harbour", Table: "scan",
				Where: first}, m); err != nil || n == nil || len(n.Segments) > len(list)/2 {
				t.Errorf("%s is not narrowed down: %+v, %v", first, n, err)
			}
			h.forgetSpans(t, "number % 3 = 0")
			compare("where some are not known")
			h.forgetSpans(t, "true")
			compare("where none is known")
			if n, err := b.Upkeep.SpanSegments(t.Context()); err != nil || n != len(list) {
				t.Errorf("%d of %d are found out, %v", n, len(list), err)
			}
			compare("found out later")
		})
	}
}

// forgetSpans is as if segments had been archived by an older version.
func (h *harbour) forgetSpans(t *testing.T, which string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(h.dir, "catalog.db")+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	_, err = db.Exec("UPDATE segment_shape SET segments = segments - (SELECT count(*) FROM segment WHERE shape = " +
		"segment_shape.id AND (" + which +
		")); DELETE FROM segment_span WHERE id IN (SELECT span FROM segment WHERE " + which +
		"); UPDATE segment SET span = NULL, shape = NULL WHERE span NOT IN (SELECT id FROM segment_span)")
	if err != nil {
		t.Fatal(err)
	}
}

func ageOf(i int) string { return fmt.Sprintf("2020-01-01 %02d:%02d:00", i/60, i%60) }

// A value that is greater is never to the left of one that is less.
func TestCoarsePlacesKeepTheOrder(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, rand.Uint64()))
	for range 20_000 {
		list := make([]value.Value, 2)
		kind := r.IntN(2)
		for i := range list {
			if list[i] = value.Of(int64(r.Uint64()) >> r.IntN(64)); kind == 1 {
				list[i] = value.OfText(strings.Repeat(string(rune(r.IntN(0x2000)+1)), r.IntN(4)) +
					fmt.Sprint(r.IntN(100)))
			}
		}
		slices.SortFunc(list, func(a, b value.Value) int { sign, _ := filter.Order(a, b); return sign })
		low, ok1 := archive.Coarse(list[0])
		high, ok2 := archive.Coarse(list[1])
		if !ok1 || !ok2 || low > high {
			t.Fatalf("%v is at %g, and %v at %g", list[0], low, list[1], high)
		}
	}
}
