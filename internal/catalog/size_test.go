package catalog

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// pages are the first page of a list, and one behind an item.
func pages(behind interface{ Place() string }) map[string]Page {
	return map[string]Page{"the first": First(50), "a later": {Limit: 50, After: behind.Place()}}
}

// What is asked for again and again is found by an index, however much there is: no segment, run or restore is read
// that is not wanted.
func TestWhatIsAskedForAgainAndAgainIsFoundByAnIndex(t *testing.T) {
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	ask := map[string]string{"segments lacking a copy": lackingQuery, "copies": copiesQuery,
		"unsettled": unsettledQuery, "moves": movesQuery, "spans": withinQuery + " AND low1 <= ? AND high1 >= ?",
		"unspanned": unspannedQuery, "shapes": shapesQuery, "to cool": coolQuery, "unverified": unverifiedQuery,
		"warm": warmQuery,
		"cold": coldQuery, "damaged": damagedQuery, "a store": storeQuery, "totals": totalsQuery,
		"the last link": lastLinkQuery, "a link": linkQuery,
		"active runs": "SELECT * FROM run WHERE state IN (?, ?) ORDER BY created_at", "lanes": lanesQuery,
		"expiring": expiringQuery, "restores": "SELECT * FROM restore WHERE state IN (?) ORDER BY created_at"}
	for i, q := range newestQueries {
		ask[fmt.Sprint("newest ", i)] = q
	}
	for _, f := range []SegmentFilter{{}, {State: "closed"}, {Source: "harbour", Table: "scan"},
		{Source: "harbour", Table: "scan", State: "closed"}, {Run: "r"}} {
		for page, p := range pages(&Segment{SegmentOrigin: SegmentOrigin{CreatedAt: At(time.Now()), ID: "s"}}) {
			query, args := f.query()
			ask[fmt.Sprintf("segments %+v, %s page", f, page)], _, _ = p.query(segmentOrder, query, args...)
		}
	}
	for _, f := range []RunFilter{{}, {Rule: "scans"}, {Source: "harbour"}, {Source: "harbour", Table: "scan"},
		{State: "failed"}} {
		for page, p := range pages(&Run{RunOrder: RunOrder{CreatedAt: At(time.Now()), ID: "r"}}) {
			query, args := f.query()
			ask[fmt.Sprintf("runs %+v, %s page", f, page)], _, _ = p.query(newestFirst, query, args...)
		}
	}
	for page, p := range pages(&Rule{Name: "r"}) {
		query, args := RuleFilter{Source: "harbour"}.query()
		ask["rules of a source, "+page+" page"], _, _ = p.query(ruleOrder, query, args...)
		query, args = RuleFilter{}.query()
		ask["rules, "+page+" page"], _, _ = p.query(ruleOrder, query, args...)
	}
	whole := regexp.MustCompile(`SCAN (segment|run|restore|u|o)\b`)
	for name, query := range ask {
		args := make([]any, strings.Count(query, "?"))
		for n := 1; n <= 3 && strings.Contains(query, "?1"); n++ { // numbered ones
			if args = make([]any, n); !strings.Contains(query, fmt.Sprint("?", n+1)) {
				break
			}
		}
		rows, err := c.db.Queryx("EXPLAIN QUERY PLAN "+query, args...)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var plan []string
		for rows.Next() {
			var id, parent, unused int
			var detail string
			if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
				t.Fatal(err)
			}
			plan = append(plan, detail)
		}
		rows.Close()
		text := strings.Join(plan, "\n")
		// one that is read in the order of an index ends with the page; partial ones hold what is wanted
		for _, line := range plan {
			limited := strings.Contains(query, "LIMIT")
			if whole.MatchString(line) && !(strings.Contains(line, "USING") &&
				(limited || strings.Contains(line, "INDEX segment_leaving") ||
					strings.Contains(line, "INDEX segment_moving") ||
					strings.Contains(line, "INDEX segment_damaged") ||
					strings.Contains(line, "INDEX restore_untold") || strings.Contains(line, "INDEX restore_lasts") ||
					strings.Contains(line, "INDEX run_purged"))) ||
				strings.Contains(line, "TEMP B-TREE FOR ORDER BY") && limited && !strings.Contains(query, "UNION") &&
					!strings.Contains(query, "run = ?") {
				t.Errorf("%s is read whole:\n%s\n%s", name, query, text)
				break
			}
		}
	}
}

// What is kept added up is what adding up gives, whatever happens to segments.
func TestSumsAreKeptAsSegmentsChange(t *testing.T) {
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	now := At(time.Unix(1e9, 0))
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	t.Logf("seed %d", seed)
	for i := range 40 {
		s := &Segment{SegmentOrigin: SegmentOrigin{ID: fmt.Sprint("s", i), Run: "r", Number: i, Source: "harbour",
			Table: "scan", Store: []string{"cellar", "attic"}[i%2], Stem: fmt.Sprint(i), State: SegmentWriting,
			CreatedAt: now}}
		if err := c.AddSegment(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	for range 2000 {
		id := fmt.Sprint("s", r.IntN(40))
		change := one("state = '"+one("writing", "open", "closed", "disposed", "abandoned")+"'", "rows_store = '"+
			one("", "attic", "vault")+"'", "second = '"+one("", "attic")+"'", "want_second = '"+one("", "vault")+"'",
			"damage = '"+one("", "gone", "cut")+"'", "deleted = "+fmt.Sprint(r.IntN(100)), "file_bytes = "+
				fmt.Sprint(r.IntN(100)), "store = '"+one("cellar", "attic")+"'", "verified_at = "+
				one("NULL", "'2020-01-01T00:00:00.000000Z'", "'2021-01-01T00:00:00.000000Z'"), "deleted = deleted")
		if _, err := c.writes.Exec("UPDATE segment SET "+change+" WHERE id = ?", id); err != nil {
			t.Fatal(err)
		}
		if r.IntN(50) == 0 {
			if _, err := c.writes.Exec("DELETE FROM segment WHERE id = ?; INSERT INTO segment (id, run, number, "+
				"source, table_name, store, stem, state, created_at) SELECT ?1, 'r', 1, 'harbour', 'scan', "+
				"'cellar', ?1, 'open', '2020-01-01T00:00:00.000000Z'", id); err != nil {
				t.Fatal(err)
			}
		}
	}
	const added = `SELECT count(*) AS segments, coalesce(sum(file_bytes), 0) AS file_bytes,
		count(*) FILTER (WHERE coalesce(nullif(want_second, ''), ?2) NOT IN ('', second)) AS unseconded,
		count(*) FILTER (WHERE rows_store <> '') AS away,
		(SELECT count(*) FROM segment WHERE rows_store = ?1 AND state IN ('open', 'closed')) AS guests,
			(SELECT coalesce(sum(file_bytes), 0) FROM segment WHERE rows_store = ?1 AND state IN ('open',
			'closed')) AS guest_bytes,
		(SELECT count(*) FROM segment WHERE second = ?1 AND state IN ('open', 'closed')) AS seconds,
		count(*) FILTER (WHERE damage <> '') AS damaged, min(verified_at) AS verified FROM segment WHERE store = ?1
			AND state IN ('open', 'closed')`
	for _, s := range []Store{{Name: "cellar"}, {Name: "cellar", Second: "attic"}, {Name: "attic"}, {Name: "vault"}} {
		want, err := get[StoreTotals](t.Context(), c.db, "store", s.Name, added, s.Name, s.Second)
		if err != nil {
			t.Fatal(err)
		}
		got, err := c.StoreTotals(t.Context(), &s)
		if err != nil || fmt.Sprintf("%+v %v", *got, got.Verified) != strings.ReplaceAll(fmt.Sprintf("%+v %v", *want,
			want.Verified), fmt.Sprintf("%p", want.Verified), fmt.Sprintf("%p", got.Verified)) {
			t.Errorf("store %s, second %q: %+v instead of %+v, %v", s.Name, s.Second, got, want, err)
		}
	}
	totals, err := c.Totals(t.Context())
	var n, deleted int64
	if err == nil {
		err = c.db.QueryRow("SELECT count(*), sum(deleted) FROM segment WHERE state IN ('open', 'closed')").Scan(&n,
			&deleted)
	}
	if err != nil || totals.Segments != n || totals.Rows != deleted {
		t.Errorf("%+v instead of %d segments with %d rows, %v", totals, n, deleted, err)
	}
}

// What is looked for once a minute goes from rule to rule, and to the newest of each: however many runs, plans and
// firings there are.
func TestFindingsAreLookedForRuleByRule(t *testing.T) {
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for name, query := range map[string]string{"expected": expectedQuery, "uncovered": uncoveredQuery,
		"latest firings": latestFiringsQuery} {
		rows, err := c.db.Queryx("EXPLAIN QUERY PLAN "+query, make([]any, strings.Count(query, "?"))...)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for rows.Next() {
			var id, parent, unused int
			var detail string
			if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
				t.Fatal(err)
			}
			if strings.HasPrefix(detail, "SCAN ") && !strings.HasPrefix(detail, "SCAN u") ||
				strings.Contains(detail, "AUTOMATIC") {
				t.Errorf("%s: %s", name, detail)
			}
		}
		rows.Close()
	}
}
