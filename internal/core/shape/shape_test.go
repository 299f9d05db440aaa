package shape

import (
	"fmt"
	"testing"
)

func TestTheLikelyAgeColumn(t *testing.T) {
	for _, c := range []struct {
		name  string
		table Table
		want  string
	}{
		{"the one that sounds like it",
			Table{TableForm: TableForm{Columns: []Column{{Name: "valid_until", Age: AgeTime},
				{Name: "created_at", Age: AgeTime}}}},
			"created_at"},
		{"an indexed one before others",
			Table{TableForm: TableForm{Columns: []Column{{Name: "seen", Age: AgeTime}, {Name: "moved", Age: AgeTime}},
				Indexes: []Index{{Columns: []string{"moved"}}}}}, "moved"},
		{"a timestamp before text", Table{TableForm: TableForm{Columns: []Column{{Name: "sent_on", Age: AgeISO},
			{Name: "logged", Age: AgeTime}}}}, "logged"},
		{"no text that sounds like nothing of the kind",
			Table{TableForm: TableForm{Columns: []Column{{Name: "comment", Age: AgeISO},
				{Name: "id", Age: AgeNumber}}}}, ""},
	} {
		if got := GuessAge(&c.table); got != c.want {
			t.Errorf("%s: got %q, want %q", c.name, got, c.want)
		}
	}
}

func TestNearestFindsMisspellings(t *testing.T) {
	names := []string{"boarding_scan", "booking", "sailing"}
	for in, want := range map[string]string{"boarding_scans": "boarding_scan", "Bookin": "booking", "zzz": "",
		"sialing": "sailing"} {
		if got := Nearest(in, names); got != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
}

func TestDifferencesAreSaidInWords(t *testing.T) {
	table := func() *Table {
		return &Table{TableForm: TableForm{Columns: []Column{{Name: "id", Type: "integer"},
			{Name: "at", Type: "date"}}, Key: []string{"id"},
			ReferencedBy: []ForeignKey{{Table: "claim", Columns: []string{"x"}}}}}
	}
	for _, c := range []struct {
		change func(*Table)
		want   string
	}{
		{func(*Table) {}, "[]"},
		{func(t *Table) { t.Columns = t.Columns[:1] }, `[column "at" is gone]`},
		{func(t *Table) { t.Columns[1].Type = "text" }, `[column "at" is now of type text and was of type date]`},
		{func(t *Table) { t.Columns = append(t.Columns, Column{Name: "new"}) }, `[column "new" is new]`},
		{func(t *Table) { t.Columns[0], t.Columns[1] = t.Columns[1], t.Columns[0] },
			"[the columns stand in another order]"},
		{func(t *Table) { t.Key = []string{"at", "id"} }, "[the key is (at, id) and was (id)]"},
		{func(t *Table) { t.ReferencedBy[0].OnDelete = "cascade" },
			"[claim (x) now refers to it claim (x) no longer refers to it]"},
	} {
		after := table()
		c.change(after)
		if got := fmt.Sprint(Differences(table(), after)); got != c.want {
			t.Errorf("got %s, want %s", got, c.want)
		}
	}
}
