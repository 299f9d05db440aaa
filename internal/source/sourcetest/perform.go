package sourcetest

import (
	"context"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/source"
)

// performs sends statements of an administrator's: one that changes rows, one that reads, one that may only read.
func performs(t *testing.T, w *world) {
	w.scans(t, 3, 3)
	p, ok := source.As[source.Performer](w.s)
	if !ok {
		t.Fatal("the source sends no statements")
	}
	do := func(statement string, reading bool) string {
		t.Helper()
		a, err := p.Perform(w.ctx, statement, reading)
		if err != nil {
			return "refused: " + err.Error()
		}
		return a.String()
	}
	if got := do("UPDATE scan SET note = 'seen' WHERE id < 3", false); got != "2 rows changed" &&
		got != "3 rows changed" {
		t.Errorf("an update says %q", got)
	}
	if got := do("SELECT name, NULL AS blank FROM vessel ORDER BY name", false); got !=
		"name\tblank\nDunlin\tNULL\nPlover\tNULL" {
		t.Errorf("a query says %q", got)
	}
	if got := do("SELECT name FROM vessel ORDER BY name", true); !strings.HasPrefix(got, "name\nDunlin") {
		t.Errorf("a query that may only read says %q", got)
	}
	if got := do("DELETE FROM scan", true); !strings.HasPrefix(got, "refused: ") {
		t.Errorf("a delete that may only read says %q", got)
	}
	if got := do("SELEC name", false); !strings.HasPrefix(got, "refused: ") {
		t.Errorf("nonsense says %q", got)
	}
	// What a statement makes of its session ends with it.
	do("BEGIN", false)
	for range 10 { // more than there are connections
		if got := do("UPDATE vessel SET name = 'Heron' WHERE id = 1", false); got != "1 rows changed" &&
			got != "0 rows changed" {
			t.Errorf("after a transaction was left open: %q", got)
		}
	}
	a, err := p.Perform(w.ctx, "SELECT a.id FROM scan a, scan b, scan c, scan d ORDER BY 1", true)
	if err != nil || len(a.Rows) != source.MostAnswered || !a.More {
		t.Errorf("a long answer has %+v, %v", a, err)
	}
	soon, cancel := context.WithTimeout(w.ctx, 300*time.Millisecond)
	defer cancel()
	begun := time.Now()
	if _, err := p.Perform(soon, w.f.Endless, false); err == nil || time.Since(begun) > 10*time.Second {
		t.Errorf("an endless statement ended after %s: %v", time.Since(begun), err)
	}
}
