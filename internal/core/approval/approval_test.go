package approval

import "testing"

func TestDemandsAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]Demand{"runs": {Runs, "", 1, 0}, "runs:2": {Runs, "", 2, 0},
		"runs@boarding-scans:3:above=10000": {Runs, "boarding-scans", 3, 10_000}, "lifts": {Lifts, "", 1, 0},
		"erasures:above=1": {Erasures, "", 1, 1}} {
		got, err := Parse(text)
		if err != nil || got != want || got.String() != text {
			t.Errorf("%s is %+v, written %s (%v)", text, got, got, err)
		}
	}
	for _, text := range []string{"", "run", "runs@", "runs:0", "runs:10", "runs:-1", "runs:x", "runs:above=0",
		"runs:above=",
		"lifts:above=5", "runs:", "runs:2:above=9999999999999999999", "@x"} {
		if d, err := Parse(text); err == nil {
			t.Errorf("%q is %+v", text, d)
		}
	}
}

func TestSoManyPersonsHaveToApprove(t *testing.T) {
	demands := []string{"runs:above=1000", "runs@scans:2", "emptyings:3", "restores"}
	for _, x := range []struct {
		whats []What
		rule  string
		rows  int64
		want  int
	}{{[]What{Runs}, "other", 1000, 0}, {[]What{Runs}, "other", 1001, 1}, {[]What{Runs}, "other", -1, 1},
		{[]What{Runs}, "scans", 5, 2}, {[]What{Runs, Emptyings}, "scans", 5, 3}, {[]What{Disposals}, "scans", 5, 0},
		{[]What{Restores}, "", 0, 1}} {
		if got, err := Persons(demands, x.whats, x.rule, x.rows); err != nil || got != x.want {
			t.Errorf("%v of %s, %d rows: %d persons, want %d (%v)", x.whats, x.rule, x.rows, got, x.want, err)
		}
	}
	if _, err := Persons([]string{"nonsense"}, []What{Runs}, "", 0); err == nil {
		t.Error("a demand that cannot be read demands nothing")
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"runs", "runs@x:2:above=5", "::", "lifts@:9"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse(text)
		if err != nil {
			return
		}
		if again, err := Parse(d.String()); err != nil || again != d {
			t.Errorf("%q is %+v, written %q, which is %+v (%v)", text, d, d, again, err)
		}
	})
}
