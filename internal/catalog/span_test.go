package catalog

import (
	"fmt"
	"testing"
	"time"

	"ambercellar/internal/core/shape"
)

// Where the keys of a segment lie is known as long as the segment is there, and goes with it.
func TestSpansGoWithTheirSegments(t *testing.T) {
	c := open(t)
	x := Shape{}
	x.Columns.V, x.Key.V = []shape.Column{{Name: "id"}}, []string{"id"}
	var list []*Segment
	for i := range 3 {
		s := &Segment{SegmentOrigin: SegmentOrigin{ID: fmt.Sprint("s", i), Run: "r", Number: i, Source: "harbour",
			Table: "scan", Store: "cellar", Stem: fmt.Sprint(i), State: SegmentWriting, CreatedAt: At(time.Now())}}
		if err := c.AddSegment(t.Context(), s); err != nil {
			t.Fatal(err)
		}
		// it does not exist yet
		if err := c.Spanned(t.Context(), s, x, [SpanColumns]Span{{float64(i), float64(i)}, Anywhere}); err != nil {
			t.Fatal(err)
		}
		s.State = SegmentOpen
		if err := c.SaveSegment(t.Context(), s); err != nil {
			t.Fatal(err)
		}
		for range 2 { // the second time changes nothing
			if err := c.Spanned(t.Context(), s, x, [SpanColumns]Span{{float64(i), float64(i)}, Anywhere}); err != nil {
				t.Fatal(err)
			}
		}
		list = append(list, s)
	}
	within := func(at float64) string {
		t.Helper()
		shapes, err := c.ShapesOf(t.Context(), "harbour", "scan")
		if err != nil || len(shapes) > 1 {
			t.Fatal(shapes, err)
		}
		out := ""
		for _, x := range shapes {
			found, unknown, err := c.Within(t.Context(), "harbour", "scan",
				[]Probe{{Shape: x.ID, At: [SpanColumns]*float64{&at}}}, nil)
			if err != nil || unknown != 0 {
				t.Fatal(unknown, err)
			}
			out += fmt.Sprint(x.Segments, " ")
			for _, s := range found {
				out += s.ID + " "
			}
		}
		return out
	}
	if got := within(1); got != "3 s1 " {
		t.Errorf("%q", got)
	}
	for i, want := range []string{"2 s1 ", "1 ", ""} {
		s := list[i]
		for _, state := range []SegmentState{SegmentClosed, SegmentDisposed} {
			s.State = state
			if err := c.SaveSegment(t.Context(), s); err != nil {
				t.Fatal(err)
			}
		}
		if got := within(1); got != want {
			t.Errorf("without %s: %q", s.ID, got)
		}
	}
	var left int
	if err := c.db.Get(&left, "SELECT count(*) FROM segment_span"); err != nil || left != 0 {
		t.Errorf("%d spans are left, %v", left, err)
	}
}
