package cli

import "testing"

func TestNumbersAndTimesHaveUnits(t *testing.T) {
	for got, want := range map[string]string{Count(1234567): "1,234,567", Count(-1): "?", Size(-1): "?",
		Size(1536): "1.5 KiB", span(4): "4s", span(75): "1m 15s", span(7300): "2h 01m", span(300000): "3d 11h",
		Ratio(400, 100): " (4.0 times smaller)", Ratio(0, 0): "", Dash(""): "-"} {
		if got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}
