package calendar

import (
	"testing"
	"time"
)

func TestWindowsOpenAndClose(t *testing.T) {
	athens, err := time.LoadLocation("Europe/Athens")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name    string
		windows []string
		at      string // in Athens
		open    bool
		span    string
	}{
		{"in the evening", []string{"22:00-05:00"}, "2026-11-23 23:30", true, "2026-11-23 22:00 to 2026-11-24 05:00"},
		{"after midnight it is still yesterday's", []string{"22:00-05:00"}, "2026-11-24 04:59", true,
			"2026-11-23 22:00 to 2026-11-24 05:00"},
		{"it closes on the minute", []string{"22:00-05:00"}, "2026-11-24 05:00", false,
			"2026-11-24 22:00 to 2026-11-25 05:00"},
		{"it opens on the minute", []string{"22:00-05:00"}, "2026-11-24 22:00", true,
			"2026-11-24 22:00 to 2026-11-25 05:00"},
		{"Friday's night is the last of the week", []string{"mon-fri 22:00-05:00"}, "2026-11-28 03:00", true,
			"2026-11-27 22:00 to 2026-11-28 05:00"},
		{"the weekend has none", []string{"mon-fri 22:00-05:00"}, "2026-11-28 23:00", false,
			"2026-11-30 22:00 to 2026-12-01 05:00"},
		{"days over the end of the week", []string{"sat-sun 01:00-02:00"}, "2026-11-23 12:00", false,
			"2026-11-28 01:00 to 2026-11-28 02:00"},
		{"the whole day", []string{"sun 00:00-24:00"}, "2026-11-29 23:59", true,
			"2026-11-29 00:00 to 2026-11-30 00:00"},
		{"eight and nine are no octal digits", []string{"08:09-09:08"}, "2026-11-23 09:07", true,
			"2026-11-23 08:09 to 2026-11-23 09:08"},
		{"the earlier of two", []string{"22:00-23:00", "13:00-14:00"}, "2026-11-23 12:00", false,
			"2026-11-23 13:00 to 2026-11-23 14:00"},
		{"the night in which the clock goes back has an hour more", []string{"22:00-05:00"}, "2026-10-25 04:30", true,
			"2026-10-24 22:00 to 2026-10-25 05:00"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var windows []Window
			for _, text := range c.windows {
				w, err := ParseWindow(text)
				if err != nil {
					t.Fatal(err)
				}
				again, err := ParseWindow(w.String())
				if err != nil || again.String() != w.String() {
					t.Errorf("%q is written as %q, which reads as %q (%v)", text, w, again, err)
				}
				windows = append(windows, w)
			}
			at, err := time.ParseInLocation("2006-01-02 15:04", c.at, athens)
			if err != nil {
				t.Fatal(err)
			}
			span, open := At(windows, at.UTC(), athens)
			got := span.From.Format("2006-01-02 15:04") + " to " + span.To.Format("2006-01-02 15:04")
			if open != c.open || got != c.span {
				t.Errorf("open %v, %s; want %v, %s", open, got, c.open, c.span)
			}
		})
	}
}

func TestTheNextWindowComesAfterTheOneThatEnds(t *testing.T) {
	night, _ := ParseWindow("22:00-05:00")
	early, _ := ParseWindow("04:00-06:00")
	at := time.Date(2026, 11, 23, 23, 0, 0, 0, time.UTC)
	span, _ := At([]Window{night}, at, time.UTC)
	if got := After([]Window{night}, span, time.UTC).From; !got.Equal(time.Date(2026, 11, 24, 22, 0, 0, 0, time.UTC)) {
		t.Errorf("the next night begins at %s", got)
	}
	if got := After([]Window{night, early}, span, time.UTC).From; !got.Equal(time.Date(2026, 11, 24, 22, 0, 0, 0,
		time.UTC)) {
		t.Errorf("with a window that overlaps its end, the next one begins at %s", got)
	}
}

func TestWindowsThatAreNone(t *testing.T) {
	for _, text := range []string{"", "22-05", "22:00", "22:00-22:00", "25:00-05:00", "24:00-05:00", "22:60-05:00",
		"moo 22:00-05:00", "mon- 22:00-05:00", "22:00-24:01", "mon-fri"} {
		if w, err := ParseWindow(text); err == nil {
			t.Errorf("%q is read as %s", text, w)
		}
	}
}

func FuzzParseWindow(f *testing.F) {
	for _, s := range []string{"22:00-05:00", "mon-fri,sun 00:00-24:00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		w, err := ParseWindow(s)
		if err != nil {
			return
		}
		if again, err := ParseWindow(w.String()); err != nil || again.String() != w.String() {
			t.Fatalf("%q is written as %q, which is read as %q (%v)", s, w, again, err)
		}
		if span, open := At([]Window{w}, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), time.UTC); !open &&
			span.From.IsZero() {
			t.Fatalf("%q never opens", s)
		}
	})
}
