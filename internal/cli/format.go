package cli

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"ambercellar/client"
)

func Count[T ~int | ~int64](n T) string {
	if n < 0 {
		return "?"
	}
	return humanize.Comma(int64(n))
}

func Size(n int64) string {
	if n < 0 {
		return "?"
	}
	return humanize.IBytes(uint64(n))
}

// At writes an instant in the viewer's zone.
func At(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05 MST") }

func atOrDash(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return At(*t)
}

func sizeOrDash(n *int64) string {
	if n == nil {
		return "-"
	}
	return Size(*n)
}

// span writes a length of time with two units at most.
func span(seconds float64) string {
	d := time.Duration(math.Round(seconds)) * time.Second
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm %02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh %02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd %dh", int(d.Hours())/24, int(d.Hours())%24)
}

func Dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func List(s []string) string { return Dash(strings.Join(s, ", ")) }

func Yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// Balance says whether a ledger adds up.
func Balance(l client.Ledger) string {
	switch {
	case l.Balanced == nil:
		return "open"
	case *l.Balanced:
		return "balanced"
	}
	return "DOES NOT BALANCE"
}

func Ratio(a, b int64) string {
	if b <= 0 || a <= 0 {
		return ""
	}
	return fmt.Sprintf(" (%.1f times smaller)", float64(a)/float64(b))
}

// Things writes how many there are of something whose plural ends in s.
func Things[T ~int | ~int64](n T, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return Count(n) + " " + what + "s"
}
