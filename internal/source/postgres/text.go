package postgres

import (
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// quote writes an identifier so that PostgreSQL takes it as nothing else.
func quote(name string) string {
	return `"` + strings.ReplaceAll(strings.ReplaceAll(name, "\x00", ""), `"`, `""`) + `"`
}

func quoteAll(prefix string, names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = prefix + quote(n)
	}
	return strings.Join(out, ", ")
}

// literal writes a text constant. Backslashes mean themselves: standard_conforming_strings is on in our sessions.
func literal(text string) string {
	return "'" + strings.ReplaceAll(strings.ReplaceAll(text, "\x00", ""), "'", "''") + "'"
}

// table writes a table's qualified name.
func table(t *shape.Table) string { return quote(t.Schema) + "." + quote(t.Base) }

// input writes a value in the form that the input function of a column's type reads back exactly. Null has none.
func input(v value.Value) string {
	switch v.Kind {
	case value.Date:
		if !v.Endless() {
			return calendar(time.Unix(0, 0).UTC().AddDate(0, 0, int(v.N)), "-01-02")
		}
	case value.Timestamp:
		if !v.Endless() {
			return calendar(time.UnixMicro(v.N).UTC(), "-01-02 15:04:05.999999")
		}
	case value.Instant:
		if !v.Endless() {
			return calendar(time.UnixMicro(v.N).UTC(), "-01-02 15:04:05.999999+00")
		}
	}
	return string(v.AppendText(nil))
}

// calendar writes a year and what follows it, years before 1 in PostgreSQL's way.
func calendar(t time.Time, layout string) string {
	if y := t.Year(); y < 1 {
		return fmt.Sprintf("%04d", 1-y) + t.Format(layout) + " BC"
	}
	return fmt.Sprintf("%04d", t.Year()) + t.Format(layout)
}

// constant writes a value as a constant of the column's type.
func constant(v value.Value, c *shape.Column) string {
	if v.Kind == value.Null {
		return "NULL"
	}
	return literal(input(v)) + "::" + baseType(c)
}

// baseType is the column's type as it stands behind a cast. Types were written by format_type under an empty search
// path, so they are qualified and quoted; its character(n) would cut a longer text, so the length is left out.
func baseType(c *shape.Column) string {
	if c.AsText && c.Type == "text" {
		return "text"
	}
	if i := strings.Index(c.Type, "("); i > 0 && !strings.HasPrefix(c.Type, `"`) && !strings.Contains(c.Type, ".") {
		rest := c.Type[i:]
		if j := strings.Index(rest, ")"); j > 0 {
			name := c.Type[:i] + rest[j+1:]
			if name == "character" {
				return "bpchar"
			}
			return name
		}
	}
	return c.Type
}
