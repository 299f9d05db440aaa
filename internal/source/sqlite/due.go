package sqlite

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// condition is how rows are judged by their age. Both parts name columns through the prefix that they were made with.
type condition struct {
	instant  string // the age is an instant at all
	before   string // … and lies before the bound one; takes the values of args
	args     func(time.Time) []any
	near     string // holds for every row whose age is not before the bound one, and is for the index; takes the values of nearArgs
	nearArgs func(time.Time) []any
}

// due returns the condition for a table's age. Text is compared as the instant that it stands for: it must be a real
// date, and a real time behind it, as SQLite's own date functions (deterministic for such text) find. Those functions
// are dear, so the two usual forms take one call each. The plain comparison in front is for the index; it is a superset,
// since no zone is further than a day away. A date without a clock is due when its day lies before the cutoff's day.
func due(t *shape.Table, age rule.Age, prefix string) condition {
	c := prefix + quote(age.Column)
	if age.Unit != "" {
		instant := "typeof(" + c + ") = 'integer'"
		return condition{instant: instant, before: instant + " AND " + c + " < ?", near: c + " >= ?",
			args: func(at time.Time) []any { return []any{age.Unit.Count(at)} }, nearArgs: func(at time.Time) []any { return []any{age.Unit.Count(at)} }}
	}
	instant := fmt.Sprintf("typeof(%[1]s) = 'text' AND CASE length(%[1]s) WHEN 10 THEN date(%[1]s) = %[1]s WHEN 19 THEN datetime(%[1]s) = replace(%[1]s, 'T', ' ') "+
		"ELSE date(substr(%[1]s, 1, 10)) = substr(%[1]s, 1, 10) AND datetime(%[1]s) IS NOT NULL END", c)
	return condition{
		instant: instant,
		before:  fmt.Sprintf("%[1]s < ? AND %[2]s AND CASE length(%[1]s) WHEN 10 THEN %[1]s < ? WHEN 19 THEN replace(%[1]s, 'T', ' ') < ? ELSE datetime(%[1]s) < ? END", c, instant),
		near:    c + " > ?",
		args: func(at time.Time) []any {
			at = at.UTC()
			clock := at.Format("2006-01-02 15:04:05")
			return []any{at.AddDate(0, 0, 2).Format("2006-01-02"), at.Format("2006-01-02"), clock, clock}
		},
		nearArgs: func(at time.Time) []any { return []any{at.AddDate(0, 0, -2).Format("2006-01-02")} },
	}
}

// restoredTable names the table that records the restored rows of t.
func restoredTable(t *shape.Table) string {
	sum := sha256.Sum256([]byte(t.Name))
	return "ambercellar_restored_" + hex.EncodeToString(sum[:6])
}

// restored returns the condition that a row of t, called by prefix, is recorded as restored; empty where none is.
func (s *Source) restored(ctx context.Context, t *shape.Table, prefix string) (string, error) {
	var n int
	if err := s.read.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?", restoredTable(t)).Scan(&n); err != nil || n == 0 {
		return "", err
	}
	parts := make([]string, len(t.Key))
	for i, k := range t.Key {
		parts[i] = fmt.Sprintf("r.k%d = %s%s", i+1, prefix, quote(k))
	}
	return fmt.Sprintf("EXISTS (SELECT 1 FROM %s r WHERE %s)", quote(restoredTable(t)), strings.Join(parts, " AND ")), nil
}

// referenced returns the conditions that a row of t, called by prefix, is referred to by another row.
func referenced(t *shape.Table, prefix string) []string {
	var out []string
	for _, k := range t.ReferencedBy {
		if len(k.Columns) != len(k.RefColumns) {
			continue // SQLite itself refuses deletes under such a key
		}
		parts := make([]string, len(k.Columns))
		for i := range k.Columns {
			parts[i] = fmt.Sprintf("%s%s = c.%s", prefix, quote(k.RefColumns[i]), quote(k.Columns[i]))
		}
		if strings.EqualFold(k.Table, t.Name) { // a row that refers to itself keeps nothing
			same := make([]string, len(t.Key))
			for i, key := range t.Key {
				same[i] = fmt.Sprintf("c.%s = %s%s", quote(key), prefix, quote(key))
			}
			parts = append(parts, "NOT ("+strings.Join(same, " AND ")+")")
		}
		out = append(out, fmt.Sprintf("EXISTS (SELECT 1 FROM %s c WHERE %s)", quote(k.Table), strings.Join(parts, " AND ")))
	}
	return out
}

// selected returns the whole condition under which a row, called by prefix, leaves, and its values.
func (s *Source) selected(ctx context.Context, sel source.Selection, prefix string) (string, []any, error) {
	d := due(sel.Table, sel.Age, prefix)
	parts := []string{d.before}
	for _, k := range sel.Table.Key {
		if c, _ := sel.Table.Column(k); c.Nullable {
			parts = append(parts, prefix+quote(k)+" IS NOT NULL")
		}
	}
	restored, err := s.restored(ctx, sel.Table, prefix)
	if err != nil {
		return "", nil, err
	}
	if restored != "" {
		parts = append(parts, "NOT "+restored)
	}
	for _, r := range referenced(sel.Table, prefix) {
		parts = append(parts, "NOT "+r)
	}
	return strings.Join(parts, " AND "), d.args(sel.Cutoff), nil
}

// Survey counts what a selection would take.
func (s *Source) Survey(ctx context.Context, sel source.Selection, now time.Time, budget time.Duration) (*source.Survey, error) {
	t := sel.Table
	out := &source.Survey{Total: t.Rows}
	where, args, err := s.selected(ctx, sel, "t.")
	if err != nil {
		return nil, err
	}
	d := due(t, sel.Age, "t.")
	from := " FROM " + quote(t.Name) + " t WHERE "
	age := "+t." + quote(sel.Age.Column)
	// Each question has its share of the budget; one that is not answered in time leaves an estimate or nothing.
	ask := func(query string, args []any, into ...any) bool {
		part, cancel := context.WithTimeout(ctx, budget/2)
		defer cancel()
		return s.read.QueryRowContext(part, query, args...).Scan(into...) == nil
	}
	text := func(v *string) any { return nullText{v} }
	out.Counted = ask("SELECT count(*), min("+age+"), max("+age+")"+from+where, args, &out.Due, text(&out.Oldest), text(&out.LastGoing))
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if !out.Counted {
		out.Due = s.interpolate(ctx, sel, t.Rows)
	}
	stays := func(at time.Time) (string, []any) {
		return from + d.near + " AND " + d.instant + " AND NOT (" + d.before + ")", append(d.nearArgs(at), d.args(at)...)
	}
	rest, bound := stays(sel.Cutoff)
	ask("SELECT "+age+rest+" ORDER BY t."+quote(sel.Age.Column)+" LIMIT 1", bound, text(&out.FirstStays))
	rest, bound = stays(now.AddDate(0, 0, 1))
	ask("SELECT count(*)"+rest, bound, &out.Future)
	ask("SELECT count(*) FROM (SELECT "+d.instant+" AS instant FROM "+quote(t.Name)+" t) WHERE NOT coalesce(instant, 0)", nil, &out.Ageless)
	if restored, err := s.restored(ctx, t, "t."); err == nil && restored != "" {
		ask("SELECT count(*)"+from+d.before+" AND "+restored, d.args(sel.Cutoff), &out.Restored)
	}
	if refs := referenced(t, "t."); len(refs) > 0 {
		ask("SELECT count(*)"+from+d.before+" AND ("+strings.Join(refs, " OR ")+")", d.args(sel.Cutoff), &out.Referenced)
	}
	if t.Rows > 0 && t.Bytes > 0 {
		out.Bytes = int64(float64(t.Bytes) / float64(t.Rows) * float64(out.Due))
	}
	return out, nil
}

// interpolate guesses how many rows are due from where the cutoff lies between the table's oldest and newest age.
func (s *Source) interpolate(ctx context.Context, sel source.Selection, rows int64) int64 {
	var first, last, cut float64
	age := quote(sel.Age.Column)
	expr, args := "julianday(%s("+age+"))", []any{sel.Cutoff.UTC().Format("2006-01-02 15:04:05")}
	bound := "julianday(?)"
	if sel.Age.Unit != "" {
		expr, bound, args = "%s("+age+")", "?", []any{sel.Age.Unit.Count(sel.Cutoff)}
	}
	query := fmt.Sprintf("SELECT (SELECT "+expr+" FROM %s), (SELECT "+expr+" FROM %s), %s", "min", quote(sel.Table.Name), "max", quote(sel.Table.Name), bound)
	if s.read.QueryRowContext(ctx, query, args...).Scan(&first, &last, &cut) != nil || last <= first {
		return 0
	}
	return int64(min(max((cut-first)/(last-first), 0), 1) * float64(rows))
}

// nullText scans a text that may be NULL; numbers come as their digits.
type nullText struct{ into *string }

func (n nullText) Scan(v any) error {
	switch x := v.(type) {
	case nil:
		*n.into = ""
	case []byte:
		*n.into = string(x)
	default:
		*n.into = fmt.Sprint(x)
	}
	return nil
}
