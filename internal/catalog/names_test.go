package catalog

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/shape"
)

// Columns are called by their numbers as they were last seen; a name that was never seen is newer than those that
// were, as after the catalog was turned back. What others have seen under other numbers is found by the name that it
// had there at first.
func TestColumnsAreCalledAsTheyWereSeenLast(t *testing.T) {
	c, err := Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	now := time.Unix(1e9, 0)
	yes := func() (bool, error) { return true, nil }
	see := func(numbered string, agree func() (bool, error), names ...string) bool {
		t.Helper()
		table := &shape.Table{TableForm: shape.TableForm{Name: "scan", Numbered: "server"}}
		for _, n := range names {
			name, number, _ := strings.Cut(n, " ")
			table.Columns = append(table.Columns, shape.Column{Name: name, Number: int(number[0] - '0')})
		}
		now = now.Add(time.Second)
		news, err := c.SeeColumns(t.Context(), "harbour", table, numbered, now, agree)
		if err != nil {
			t.Fatal(err)
		}
		return news
	}
	called := func(numbered string, want string, columns ...string) {
		t.Helper()
		known, err := c.ColumnNames(t.Context(), "harbour", "scan")
		if err != nil {
			t.Fatal(err)
		}
		var list []shape.Column
		for _, n := range columns {
			name, number, _ := strings.Cut(n, " ")
			list = append(list, shape.Column{Name: name, Number: int(number[0] - '0')})
		}
		if got := strings.Join(shape.Names(known.Now(numbered, list)), " "); got != want {
			t.Errorf("%v of %s are called %s, want %s", columns, numbered, got, want)
		}
	}
	if see("", yes, "id 1") || !see("a", yes, "id 1", "note 2", "gate 3") ||
		see("a", yes, "id 1", "note 2", "gate 3") {
		t.Error("news where there are none, or none where there are")
	}
	if see("a", func() (bool, error) { return false, nil }, "id 1", "other 2", "gate 3") {
		t.Error("a number was believed to have another name where nobody agreed")
	}
	called("a", "id note gate", "id 1", "note 2", "gate 3")
	see("a", yes, "id 1", "remark 2", "gate 3")
	see("a", yes, "id 1", "gate 2", "remark 3") // they changed names
	called("a", "id gate remark", "id 1", "note 2", "gate 3")
	called("a", "id gate", "id 1", "remark 2")
	called("a", "id latest remark", "id 1", "latest 2", "remark 3") // the catalog has never heard of that
	called("z", "id note gate", "id 1", "note 2", "gate 3")         // nor of that server
	see("a", yes, "id 1", "remark 3")                               // and the second one is dropped
	called("a", "id gate remark", "id 1", "note 2", "gate 3")
	see("a", yes, "id 1", "gate 3")
	called("a", "id gate (dropped) gate", "id 1", "note 2", "gate 3")
	see("b", yes, "id 1", "gate 2") // elsewhere
	see("b", yes, "id 1", "door 2")
	called("a", "id gate door", "id 1", "note 2", "gate 3")
	if known, err := c.ColumnNames(t.Context(), "harbour", "scan"); err != nil || len(known.All()) == 0 ||
		known.Added("door", "a", []shape.Column{{Number: 3}}) ||
		!known.Added("door", "b", []shape.Column{{Number: 1}}) {
		t.Errorf("%+v, %v", known.All(), err)
	}
}
