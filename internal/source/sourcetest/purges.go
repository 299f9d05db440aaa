package sourcetest

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

// purgesDirect: batch by batch the oldest go, in order, those that are not due or held stay, nothing is done twice,
// and the journal tells of just what went.
func purgesDirect(t *testing.T, w *world) {
	if !w.f.PurgesDirect {
		t.Skip("its rows are read first")
	}
	p := w.s.(source.Purger)
	w.scans(t, 60, 50)
	w.exec("DROP TABLE IF EXISTS other; CREATE TABLE other (id integer PRIMARY KEY, scan integer NOT NULL)")
	sel := w.selection(t, "scan", "scanned_at")
	sel.Holds = []*filter.Filter{bind(t, sel.Table, "note = 'note 3'")}
	expect(t, "purges unread", p.PurgesDirect(w.ctx, source.PurgeRequest{Selection: sel, Rows: 7}), true)
	for _, sql := range []string{"UPDATE scan SET scanned_at = '2025-06-01 00:00:00' WHERE note = 'note 5'",
		"UPDATE scan SET scanned_at = '2024-12-31 00:00:00' WHERE note IN ('note 20', 'note 21', 'note 22', 'note " +
			"23', 'note 24', 'note 25', 'note 26')"} {
		w.exec(sql)
	}
	lease := w.lease(t, "scan", "me")
	tenth, err := p.PlaceAhead(w.ctx, sel, nil, 10)
	if err != nil || len(tenth) != 2 {
		t.Fatalf("the tenth row is at %v, %v", tenth, err)
	}
	if place, err := p.PlaceAhead(w.ctx, sel, tenth, 40); err != nil || place != nil { // one of 50 is not due any more
		t.Errorf("39 rows behind it there is %v, %v", place, err)
	}
	if place, err := p.PlaceAhead(w.ctx, sel, tenth, 39); err != nil || place == nil {
		t.Errorf("the last row that is due: %v, %v", place, err)
	}
	row, last, err := p.Purge(w.ctx, source.PurgeRequest{Selection: sel, Lease: lease, Segment: 2, Number: 1,
		UpTo: tenth, Rows: 100})
	if err != nil || row.Deleted != 9 || last[1].N != tenth[1].N { // one of ten is held
		t.Errorf("up to the tenth: %+v, ends at %v, %v", row, last, err)
	}
	q := source.PurgeRequest{Selection: sel, Lease: lease, Segment: 1, Rows: 7}
	total := w.purgeAll(t, p, &q)
	expect(t, "rows purged", total.Count, 39)
	journal, err := w.s.Journal(w.ctx, "run1", 1)
	if err != nil {
		t.Fatal(err)
	}
	var told value.Set
	for _, row := range journal {
		told.Merge(row.Digest)
		expect(t, "found and deleted", row.Found, row.Digest)
	}
	expect(t, "the journal's digest", told, total)
	expect(t, "batches of the journal", len(journal), q.Number-1)
	sel.Holds = nil
	expect(t, "due rows that stay: the held one and the one that came late", w.due(t, sel), 2)
	w.lease(t, "scan", "me") // a later start of the same service
	if _, _, err := p.Purge(w.ctx, q); !errors.Is(err, source.ErrLeaseLost) {
		t.Errorf("a batch under an old epoch got %v", err)
	}
	w.exec("ALTER TABLE other ADD FOREIGN KEY (scan) REFERENCES scan (id)")
	expect(t, "purges what others refer to unread",
		p.PurgesDirect(w.ctx, source.PurgeRequest{Selection: w.selection(t, "scan", "scanned_at"), Rows: 7}), false)
}

// purgeAll purges batch by batch to the end. The answer of one gets lost, and a row comes late.
func (w *world) purgeAll(t *testing.T, p source.Purger, q *source.PurgeRequest) (total value.Set) {
	for q.Number = 1; ; q.Number++ {
		q.Spurts = w.spurts()
		row, next, err := p.Purge(w.ctx, *q)
		if err != nil {
			t.Fatal(err)
		}
		if row.Rows == 0 {
			return total
		}
		if row.Deleted != row.Rows || row.Found != row.Digest || row.Digest.Count != int64(row.Rows) || row.Rows > 7 ||
			next == nil {
			t.Fatalf("batch %d: %+v, next %v", q.Number, row, next)
		}
		total.Merge(row.Digest)
		if q.Number == 2 { // its answer got lost
			again, nowhere, err := p.Purge(w.ctx, *q)
			if err != nil || nowhere != nil || again.Digest != row.Digest || again.Deleted != row.Deleted {
				t.Errorf("the same batch again: %+v, next %v, %v", again, nowhere, err)
			}
			// of an age that is passed
			w.exec("INSERT INTO scan VALUES (9000, 1, '2020-01-01 00:00:00', 'late', 'came late')")
		}
		q.After = next
	}
}

// emptiesDirect: a clause without age takes its rows in order of the key.
func emptiesDirect(t *testing.T, w *world) {
	if !w.f.PurgesDirect {
		t.Skip("its rows are read first")
	}
	p := w.s.(source.Purger)
	w.exec(fmt.Sprintf("CREATE TABLE waiting (line varchar(20) NOT NULL, at %s NULL, seat integer NOT NULL, "+
		"PRIMARY KEY (line, seat))", w.f.AgeType))
	for i := range 23 {
		at := "NULL"
		if i%3 > 0 {
			at = "'" + time.Date(2020, 1, 1+i, 0, 0, 0, 0, time.UTC).Format(time.DateTime) + "'"
		}
		w.exec(fmt.Sprintf("INSERT INTO waiting VALUES ('line %d', %s, %d)", i%4, at, i))
	}
	sel := w.selection(t, "waiting", "at")
	sel.Terms = []rule.Term{{Cutoff: rule.Cutoff{All: true}}}
	q := source.PurgeRequest{Selection: sel, Lease: w.lease(t, "waiting", "me"), Segment: 1, Rows: 5}
	if x, err := p.PurgeStatement(w.ctx, q); err != nil || !strings.HasPrefix(x.SQL, "DELETE FROM") ||
		!strings.Contains(x.SQL, w.f.PurgeEnds) {
		t.Errorf("it is shown as %+v, %v", x, err)
	}
	if place, err := p.PlaceAhead(w.ctx, sel, nil, 3); err != nil || place != nil {
		t.Errorf("what has no age has no place ahead: %v, %v", place, err)
	}
	sizes := []int{}
	for q.Number = 1; q.Number < 10; q.Number++ {
		q.Spurts = w.spurts()
		row, next, err := p.Purge(w.ctx, q)
		if err != nil {
			t.Fatal(err)
		}
		if row.Rows == 0 {
			break
		}
		sizes, q.After = append(sizes, row.Rows), next
	}
	expect(t, "batches", sizes, []int{5, 5, 5, 5, 3})
	expect(t, "rows left", w.due(t, sel), 0)
}
