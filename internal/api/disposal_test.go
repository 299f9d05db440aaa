package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
)

// A disposal of many segments is shown with the first of them, lists all of them in pages, and knows how much it is of
// while it goes on.
func TestADisposalListsItsSegmentsInPages(t *testing.T) {
	w := newWorld(t)
	now := catalog.At(time.Now())
	d := &catalog.Disposal{DisposalOrder: catalog.DisposalOrder{ID: "d", Kind: catalog.KindDisposal, Source: "harbour",
		Table: "scan", Rule: "scans", CreatedAt: now, CreatedBy: "me"},
		DisposalStanding: catalog.DisposalStanding{State: catalog.DisposalPlanned}}
	const many = 450
	for i := range many {
		d.Items.V = append(d.Items.V, catalog.DisposalItem{
			DisposalItemOf: catalog.DisposalItemOf{Segment: fmt.Sprintf("goes-%03d", i), Rows: 10, Bytes: 100,
				Stores: []string{"cellar"}, Due: now, Stored: now}})
		d.Stays.V = append(d.Stays.V, catalog.DisposalStay{Segment: fmt.Sprintf("stays-%03d", i),
			Reason: "its time is not over"})
	}
	d.Remains.V = []string{}
	if err := w.service.Catalog.AddDisposal(t.Context(), d); err != nil ||
		d.DisposalSum != (catalog.DisposalSum{Segments: many, Rows: 10 * many, Bytes: 100 * many, Staying: many}) {
		t.Fatal(d.DisposalSum, err)
	}
	d.Items.V[7].Destroyed, d.Items.V[7].Kept = &now, 4
	if err := w.service.Catalog.SaveDisposalItem(t.Context(), d, 7); err != nil {
		t.Fatal(err)
	}
	get := func(path string, v any) {
		t.Helper()
		r, body := w.ask("GET", path, "", "Authorization", "Bearer "+w.token)
		if r.StatusCode != http.StatusOK {
			t.Fatalf("%s: %d %s", path, r.StatusCode, body)
		}
		if err := json.Unmarshal([]byte(body), v); err != nil {
			t.Fatal(err)
		}
	}
	var one view.Disposal
	get("/api/v1/disposals/d", &one)
	if want := (view.DisposalSum{Segments: many, Rows: 10*many - 4, Bytes: 100 * many, Gone: 1,
		Staying: many}); one.DisposalSum != want || len(one.Items.V) != catalog.DisposalShown ||
		len(one.Stays.V) != catalog.DisposalShown || one.Items.V[7].Kept != 4 {
		t.Errorf("%+v instead of %+v, with %d and %d segments", one.DisposalSum, want, len(one.Items.V),
			len(one.Stays.V))
	}
	seen := 0
	for after := ""; ; {
		var page Items[view.PlacedItem]
		get("/api/v1/disposals/d/segments?limit=100&after="+after, &page)
		for _, x := range page.Items {
			if x.Segment != fmt.Sprintf("goes-%03d", seen) {
				t.Fatalf("%s is the %dth", x.Segment, seen)
			}
			seen++
		}
		if page.Next == nil {
			break
		}
		after = *page.Next
	}
	var stays Items[view.PlacedStay]
	get("/api/v1/disposals/d/stays?limit=3", &stays)
	if seen != many || len(stays.Items) != 3 || stays.Next == nil || stays.Items[2].Segment != "stays-002" {
		t.Errorf("%d segments; %+v", seen, stays)
	}
	if r, _ := w.ask("GET", "/api/v1/disposals/none/segments", "", "Authorization", "Bearer "+
		w.token); r.StatusCode != http.StatusNotFound {
		t.Errorf("the segments of a disposal that is not there: %d", r.StatusCode)
	}
}
