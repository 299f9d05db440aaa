package mariadb

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"
)

// FuzzClock: what is read as an instant is the one that the text stands for, and whatever the server writes is read.
func FuzzClock(f *testing.F) {
	for _, text := range []string{"2026-11-23 12:00:00", "1000-01-01 00:00:00.5", "9999-12-31 23:59:59.999999",
		"0000-00-00 00:00:00", "2023-02-29 10:00:00", "2026-11-23T12:00:00", "2026-11-23 12:00:00Z",
		"2026-11-23 12:00:00+01:00", "2026-11-23 24:00:00", "2026-11-23 12:00:60", "2026-11-2312:00:00.000", ""} {
		f.Add(text, int64(len(text))<<40)
	}
	const layout = "2006-01-02 15:04:05.999999"
	f.Fuzz(func(t *testing.T, text string, micros int64) {
		want, err := time.Parse(layout, text)
		if got, ok := clock([]byte(text)); ok && (err != nil || !got.Equal(want)) {
			t.Errorf("%q is read as %s and not %s (%v)", text, got, want, err)
		}
		at := time.UnixMicro(micros).UTC()
		if at.Year() < 1000 || at.Year() > 9999 {
			return
		}
		for _, form := range []string{"2006-01-02 15:04:05.000000", "2006-01-02 15:04:05.000", "2006-01-02 15:04:05"} {
			written := at.Format(form)
			want, _ := time.Parse(layout, written)
			if got, ok := clock([]byte(written)); !ok || !got.Equal(want) {
				t.Errorf("%q is read as %s (%t)", written, got, ok)
			}
		}
	})
}

// FuzzDigits: a decimal is read as its digits, or not at all.
func FuzzDigits(f *testing.F) {
	for _, text := range []string{"0", "-0.01", "123.45", "-999999999999999999", "0.000000000000000001", "", ".", "-",
		"1.2.3", "1e3", "99999999999999999999999999.9"} {
		f.Add(text, int64(len(text)), 2)
	}
	f.Fuzz(func(t *testing.T, text string, n int64, scale int) {
		want, err := strconv.ParseInt(strings.Replace(text, ".", "", 1), 10, 64)
		if got, ok := digits([]byte(text)); ok != (err == nil) || ok && got != want {
			t.Errorf("%q is read as %d (%t) and not %d (%v)", text, got, ok, want, err)
		}
		if scale = scale & 15; scale > 0 && n > -1e17 && n < 1e17 {
			sign, abs := "", n
			if n < 0 {
				sign, abs = "-", -n
			}
			text := fmt.Sprintf("%0*d", scale+1, abs)
			text = sign + text[:len(text)-scale] + "." + text[len(text)-scale:]
			if got, ok := digits([]byte(text)); !ok || got != n {
				t.Errorf("%q is read as %d (%t)", text, got, ok)
			}
		}
	})
}
