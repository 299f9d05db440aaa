package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"ambercellar/client"
	"ambercellar/internal/core/pace"
)

func progressLine(r *client.RunView) string {
	left := ""
	if r.SecondsLeft != nil {
		left = ", " + spanOf(r) + " left"
	}
	if r.Reason != "" {
		left += ", " + r.Reason
	}
	return fmt.Sprintf("%s: %s of %s, %s rows/s%s", r.State, Count(r.Done), Things(r.Due, "row"), Count(int64(r.Rate)),
		left)
}

// spanOf is the time left, as a range where the last batches give one.
func spanOf(r *client.RunView) string {
	if r.SecondsLow != nil && r.SecondsHigh != nil && span(*r.SecondsLow) != span(*r.SecondsHigh) {
		return span(*r.SecondsLow) + " to " + span(*r.SecondsHigh)
	}
	return span(*r.SecondsLeft)
}

// signalLine are the signals of the database on one line, those first that slow the run.
func signalLine(r *client.RunView) string {
	if r.Pressure == nil || r.State != client.Running {
		return ""
	}
	parts := []string{paced(r), fmt.Sprintf("batches of %s", Things(r.BatchRows, "row"))}
	for _, x := range r.Pressure.Readings {
		parts = append(parts, strings.ReplaceAll(x.Signal, "_", " ")+" "+readingText(x))
	}
	return strings.Join(parts, ", ")
}

func readingText(x client.Reading) string {
	text := pace.Unit(x.Unit).Spoken(x.Value)
	if x.Limit != nil {
		text += "/" + pace.Unit(x.Unit).Spoken(*x.Limit)
	}
	if x.Level == client.Near || x.Level == client.Over {
		text += " (" + string(x.Level) + ")"
	}
	return text
}

func plainProgress(w io.Writer) func(*client.RunView) {
	var shown time.Time
	var state client.RunState
	var reason string
	return func(r *client.RunView) {
		now := withoutNumbers(r.Reason)
		if r.State == state && now == reason && time.Since(shown) < 3*time.Second {
			return
		}
		shown, state, reason = time.Now(), r.State, now
		fmt.Fprintln(w, progressLine(r))
		if line := signalLine(r); line != "" {
			fmt.Fprintln(w, "  "+line)
		}
	}
}

// withoutNumbers is a text without its digits: what differs in them alone says the same.
func withoutNumbers(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return -1
		}
		return r
	}, text)
}

func barProgress(w io.Writer) func(*client.RunView) {
	bar := progressbar.NewOptions64(1, progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(36),
		progressbar.OptionSetElapsedTime(false), progressbar.OptionSetPredictTime(false),
		progressbar.OptionShowTotalBytes(false),
		progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))
	return func(r *client.RunView) {
		bar.ChangeMax64(max(r.Due, r.Done, 1))
		bar.Describe(progressLine(r))
		bar.Set64(r.Done)
	}
}

// BytesProgress shows how many bytes of all have been read: as a bar on a terminal, and as a line every few seconds
// elsewhere.
func BytesProgress(w io.Writer) func(done, all int64, text string) {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		bar := progressbar.NewOptions64(1, progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(36),
			progressbar.OptionShowBytes(true),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))
		return func(done, all int64, text string) {
			bar.ChangeMax64(max(all, done, 1))
			bar.Describe(text)
			bar.Set64(done)
		}
	}
	var shown time.Time
	return func(done, all int64, text string) {
		if all > 0 && time.Since(shown) > 3*time.Second {
			shown = time.Now()
			fmt.Fprintf(w, "%s, %s of %s read\n", text, Size(done), Size(all))
		}
	}
}

// stepProgress shows how far something is: as a bar on a terminal, and as a line every few seconds elsewhere.
func stepProgress(w io.Writer) func(done, all int64, text string) {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		bar := progressbar.NewOptions64(1, progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(36),
			progressbar.OptionClearOnFinish(),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "█", SaucerPadding: "░", BarStart: "", BarEnd: ""}))
		return func(done, all int64, text string) {
			bar.ChangeMax64(max(all, done+1))
			bar.Describe(text)
			bar.Set64(done)
		}
	}
	var shown time.Time
	var said string
	return func(_, _ int64, text string) {
		if text != said && time.Since(shown) > 3*time.Second {
			shown, said = time.Now(), text
			fmt.Fprintln(w, text)
		}
	}
}

// countProgress shows now and then how many of all things are done.
func countProgress(w io.Writer) func(done, all int, what string) {
	shown := time.Now()
	return func(done, all int, what string) {
		if time.Since(shown) > time.Second {
			shown = time.Now()
			fmt.Fprintf(w, "%s of %s %s\n", Count(done), Count(all), what)
		}
	}
}
