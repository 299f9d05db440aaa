// Package rule holds the retention rule of one table: its model, its YAML form with the position of every mistake,
// and the checks of a rule against the table that it names. It opens no file and asks no database: both the text
// and the table's shape come in.
package rule

import (
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/period"
)

// Rule is the retention rule of one table.
type Rule struct {
	Name    string    `json:"name"`
	About   string    `json:"about,omitempty"` // why the records are kept as long as they are
	Source  string    `json:"source"`
	Table   string    `json:"table"`
	Age     Age       `json:"age"`
	Clauses []Clause  `json:"clauses"`
	Then    Then      `json:"then"`
	Archive Archive   `json:"archive"`
	Pace    pace.Pace `json:"pace"`
}

// Age says which column tells how old a row is.
type Age struct {
	Column string `json:"column"`
	Unit   Unit   `json:"unit,omitempty"` // of an integer column
}

// Unit is what an integer age column counts since 1970-01-01 00:00:00 UTC.
type Unit string

const (
	Seconds      Unit = "seconds"
	Milliseconds Unit = "milliseconds"
	Microseconds Unit = "microseconds"
)

// Count returns the number that stands for t.
func (u Unit) Count(t time.Time) int64 {
	switch u {
	case Milliseconds:
		return t.UnixMilli()
	case Microseconds:
		return t.UnixMicro()
	}
	return t.Unix()
}

// Time is the inverse of Count.
func (u Unit) Time(n int64) time.Time {
	switch u {
	case Milliseconds:
		return time.UnixMilli(n).UTC()
	case Microseconds:
		return time.UnixMicro(n).UTC()
	}
	return time.Unix(n, 0).UTC()
}

// Clause is one line of a rule: how long rows stay live.
type Clause struct {
	Keep      period.Period `json:"keep"`
	Align     period.Align  `json:"align,omitempty"`
	Otherwise bool          `json:"otherwise,omitempty"`
	About     string        `json:"about,omitempty"`
}

// Then is what happens to rows that are due.
type Then string

const (
	ThenArchive Then = "archive" // copied, verified, deleted
	ThenPurge   Then = "purge"   // deleted without a copy
)

// Archive says where the copies go.
type Archive struct {
	Store string         `json:"store,omitempty"`
	Keep  *period.Period `json:"keep,omitempty"` // how long a segment stays in the archive at least; nil: without end
}

// Cutoff returns the instant before which rows are due when a plan is made at now.
func (r *Rule) Cutoff(now time.Time) time.Time {
	c := r.Clauses[0]
	return period.Cutoff(now, c.Keep, c.Align)
}

// Compare says in words what changed from one revision of a rule to the next; nothing where nothing did.
func Compare(before, after *Rule) []string {
	var out []string
	note := func(field, a, b string) {
		if a == b {
			return
		}
		show := func(s string) string {
			if s == "" {
				return "nothing"
			}
			return s
		}
		out = append(out, fmt.Sprintf("%s: %s → %s", field, show(a), show(b)))
	}
	note("about", before.About, after.About)
	note("source", before.Source, after.Source)
	note("table", before.Table, after.Table)
	note("age", before.Age.String(), after.Age.String())
	note("clauses", before.clauseText(), after.clauseText())
	note("then", string(before.Then), string(after.Then))
	note("archive.store", before.Archive.Store, after.Archive.Store)
	note("archive.keep", before.Archive.keepText(), after.Archive.keepText())
	note("pace", string(before.Pace), string(after.Pace))
	return out
}

// String writes the age as a person would.
func (a Age) String() string {
	if a.Unit != "" {
		return a.Column + " (" + string(a.Unit) + ")"
	}
	return a.Column
}

func (r *Rule) clauseText() string {
	parts := make([]string, len(r.Clauses))
	for i, c := range r.Clauses {
		parts[i] = c.String()
	}
	return strings.Join(parts, "; ")
}

// String writes a clause on one line.
func (c Clause) String() string {
	s := "keep " + c.Keep.String()
	if c.Align != period.None {
		s += ", align " + string(c.Align)
	}
	if c.About != "" {
		s += " (" + c.About + ")"
	}
	return s
}

func (a Archive) keepText() string {
	if a.Keep == nil {
		return ""
	}
	return a.Keep.String()
}
