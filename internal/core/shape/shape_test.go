package shape

import "testing"

func TestTheLikelyAgeColumn(t *testing.T) {
	for _, c := range []struct {
		name  string
		table Table
		want  string
	}{
		{"the one that sounds like it", Table{Columns: []Column{{Name: "valid_until", Age: AgeTime}, {Name: "created_at", Age: AgeTime}}}, "created_at"},
		{"an indexed one before others", Table{Columns: []Column{{Name: "seen", Age: AgeTime}, {Name: "moved", Age: AgeTime}}, Indexes: []Index{{Columns: []string{"moved"}}}}, "moved"},
		{"a timestamp before text", Table{Columns: []Column{{Name: "sent_on", Age: AgeISO}, {Name: "logged", Age: AgeTime}}}, "logged"},
		{"no text that sounds like nothing of the kind", Table{Columns: []Column{{Name: "comment", Age: AgeISO}, {Name: "id", Age: AgeNumber}}}, ""},
	} {
		if got := GuessAge(&c.table); got != c.want {
			t.Errorf("%s: got %q, want %q", c.name, got, c.want)
		}
	}
}

func TestNearestFindsMisspellings(t *testing.T) {
	names := []string{"boarding_scan", "booking", "sailing"}
	for in, want := range map[string]string{"boarding_scans": "boarding_scan", "Bookin": "booking", "zzz": "", "sialing": "sailing"} {
		if got := Nearest(in, names); got != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
}
