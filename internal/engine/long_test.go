package engine

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/value"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
)

// manifestsRead counts the manifests that are read of a store.
type manifestsRead struct {
	store.Store
	n atomic.Int64
}

func (m *manifestsRead) Open(ctx context.Context, name string) (store.Reader, error) {
	if strings.HasSuffix(name, ".manifest.json") {
		m.n.Add(1)
	}
	return m.Store.Open(ctx, name)
}

// A table of many segments is searched in parts, and what is found is what is found with all of them in memory: which
// version of a row is the newest, what is left out, and what is counted; with keys that were used again and again, and
// segments of which the catalog does not know where their keys lie.
func TestTheNewestVersionIsFoundInPartsAsItIsAtOnce(t *testing.T) {
	t.Parallel()
	draw := seeded(t)
	h := newHarbour(t, "sqlite")
	h.exec(t, "CREATE TABLE scan (id integer PRIMARY KEY, at datetime NOT NULL, note text)",
		"CREATE INDEX scan_at ON scan (at)")
	b := h.serve(t, nil)
	b.Runs.SliceRows = 6
	s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-06-01", "archive") + cellar}
	round := func(n int) {
		for i := range 20 {
			h.exec(t, fmt.Sprintf("INSERT OR REPLACE INTO scan (id, at, note) VALUES (%d, '2020-01-01 "+
				"%02d:%02d:00', 'round %d')", draw.IntN(30)+10*(n%5), n, i, n))
		}
		run := s.start(t, h, b)
		if err := s.work(t, b, run); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Catalog.SetRunState(t.Context(), "service", run, catalog.Done, ""); err != nil {
			t.Fatal(err)
		}
	}
	compare := func(when string) {
		t.Helper()
		for _, q := range []search.SearchRequest{{}, {Limit: 1000}, {Limit: 7}, {Where: "note = 'round 1'", Limit: 50},
			{Where: "id IN (3, 30, 44)", Wide: true, Limit: 50}, {Where: "id > 20", Columns: []string{"note"}},
			{Live: true, Limit: 200}} {
			got, parts := b.found(t, q)
			q.AtOnce = true
			want, all := b.found(t, q)
			if got != want || parts.Segments != all.Segments || parts.Superseded != all.Superseded ||
				parts.Found != all.Found || parts.More != all.More {
				t.Errorf("%s, %+v: found in parts\n%s\nand at once\n%s\n%+v\n%+v", when, q, got, want, parts, all)
			}
		}
		x, err := b.Reconcile.Reconcile(t.Context(), "harbour", "scan")
		if err != nil || !x.Agree {
			t.Errorf("%s: %+v, %v", when, x, err)
		}
	}
	for n := range 6 {
		round(n)
	}
	if _, all := b.found(t, search.SearchRequest{}); all.Superseded == 0 || all.Segments < 15 {
		t.Fatalf("%+v: the test shows nothing", all)
	}
	compare("fresh")
	h.forgetSpans(t, "number = 1 AND run IN (SELECT run FROM segment ORDER BY run LIMIT 2)")
	compare("where some are not known")
	h.exec(t, "ALTER TABLE scan ADD COLUMN gate text")
	round(6)
	compare("with a new column")
	q := search.SearchRequest{Where: "gate IS NULL", Limit: 1000}
	_, parts := b.found(t, q)
	q.AtOnce = true
	if _, all := b.found(t, q); fmt.Sprint(parts.Lacking) != fmt.Sprint(all.Lacking) || len(all.Lacking) == 0 {
		t.Errorf("in parts %+v lack, and at once %+v", parts.Lacking, all.Lacking)
	}
}

// A search that has enough rows reads no more segments, however many there are.
func TestASearchReadsWhatItTouches(t *testing.T) {
	t.Parallel()
	b := newBench(t, "wal")
	b.Runs.SliceRows = 20
	r := b.start(t)
	if err := b.Runs.Run(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Catalog.SetRunState(t.Context(), "service", r.ID, catalog.Done, ""); err != nil {
		t.Fatal(err)
	}
	counts := &manifestsRead{Store: b.store}
	b.Engine.Store = func(context.Context, string) (store.Store, error) { return counts, nil }
	b.Shelf.Forget()
	if found, s := b.found(t, search.SearchRequest{Limit: 30}); s.Segments != rows/20 || !s.More ||
		len(strings.Split(found, "|")) != 30 || counts.n.Load() > 10 {
		t.Errorf("%d manifests of %d were read: %+v", counts.n.Load(), s.Segments, s)
	}
	counts.n.Store(0)
	b.Shelf.Forget()
	if columns, err := b.Search.ArchivedColumns(t.Context(), "harbour", "scan"); err != nil || len(columns) != 3 ||
		counts.n.Load() > 0 {
		t.Errorf("%d manifests were read for %v, %v", counts.n.Load(), columns, err)
	}
	if p, err := b.Restores.PreviewRestore(t.Context(), restore.RestoreRequest{Source: "harbour", Table: "scan",
		Scope: catalog.Scope{Where: "id = 7"}, Target: "file", Format: "csv"}); err != nil || p.Rows != 1 {
		t.Errorf("%+v, %v", p, err)
	}
}

// Which spans cross others is the same as found by comparing each with each.
func TestCrossingSpansAreFound(t *testing.T) {
	t.Parallel()
	draw := seeded(t)
	overlap := func(a, b filter.Bound) bool {
		if !a.Known || !b.Known {
			return true
		}
		one, ok1 := filter.Order(a.Greatest, b.Least)
		other, ok2 := filter.Order(b.Greatest, a.Least)
		return !ok1 || !ok2 || one >= 0 && other >= 0
	}
	for range 2000 {
		spans := make([]filter.Bound, draw.IntN(8))
		for i := range spans {
			low := int64(draw.IntN(40))
			spans[i] = filter.Bound{Known: draw.IntN(30) > 0, Least: value.Of(low),
				Greatest: value.Of(low + int64(draw.IntN(5)))}
			if draw.IntN(60) == 0 {
				spans[i].Least, spans[i].Greatest = value.OfText("a"), value.OfText("b")
			}
		}
		got := search.Crossing(spans)
		for i := range spans {
			want := false
			for j := range spans {
				want = want || i != j && overlap(spans[i], spans[j])
			}
			if got[i] != want && (!got[i] || allKnown(spans)) { // where nobody can tell of one, all may be looked at
				t.Fatalf("%+v: of %d it is %v", spans, i, got[i])
			}
		}
	}
}

func allKnown(spans []filter.Bound) bool {
	for _, s := range spans {
		if !s.Known || s.Least.Kind != spans[0].Least.Kind {
			return false
		}
	}
	return true
}
