package source

import (
	"context"
	"fmt"
	"strings"
)

// Performer is a source that sends a statement of an administrator's as it is.
type Performer interface {
	// Perform sends one statement on a connection of its own, which is closed after it, and returns what it answers.
	// A statement that goes beyond the context's deadline is stopped in the database too, where the engine can.
	// reading: it must change nothing, and the database refuses what would.
	Perform(ctx context.Context, statement string, reading bool) (*Answer, error)
}

// Answer is what a statement came to: rows, or how many it changed.
type Answer struct {
	Columns []string
	Rows    [][]string // MostAnswered at the most; NULL as that word
	More    bool       // there were more
	Changed int64      // where there are no columns; negative: it is not known
}

// MostAnswered is how many rows of an answer are kept, and longestAnswer how many characters of a value.
const MostAnswered, longestAnswer = 20, 500

// Add keeps a row where there is room for it.
func (a *Answer) Add(row []string) {
	if len(a.Rows) == MostAnswered {
		a.More = true
		return
	}
	for i, v := range row {
		if runes := []rune(v); len(runes) > longestAnswer {
			row[i] = string(runes[:longestAnswer]) + "…"
		}
	}
	a.Rows = append(a.Rows, row)
}

// First is the first value of the first row; false: there is none, or it is NULL.
func (a *Answer) First() (string, bool) {
	if len(a.Rows) == 0 || len(a.Rows[0]) == 0 || a.Rows[0][0] == "NULL" {
		return "", false
	}
	return a.Rows[0][0], true
}

// String shows the answer as lines of text.
func (a *Answer) String() string {
	if len(a.Columns) == 0 {
		if a.Changed < 0 {
			return "done"
		}
		return fmt.Sprintf("%d rows changed", a.Changed)
	}
	lines := []string{strings.Join(a.Columns, "\t")}
	for _, row := range a.Rows {
		lines = append(lines, strings.Join(row, "\t"))
	}
	if a.More {
		lines = append(lines, "…")
	}
	return strings.Join(lines, "\n")
}
