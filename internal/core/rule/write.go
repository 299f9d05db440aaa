package rule

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/period"
)

// Write writes a rule in its YAML form, which Parse reads back to the same rule.
func Write(r *Rule) string {
	w := &writer{}
	w.field(0, "rule", r.Name)
	w.field(0, "about", r.About)
	if r.Off {
		w.plain(0, "enabled", "false")
	}
	w.field(0, "source", r.Source)
	w.field(0, "table", r.Table)
	column := r.Age.Column
	if r.Age.Join != "" {
		column = r.Age.Join + "." + column
	}
	if r.Age.Unit == "" && len(r.Age.Never) == 0 {
		w.field(0, "age", column)
	} else {
		parts := []string{"column: " + scalar(column)}
		if r.Age.Unit != "" {
			parts = append(parts, "unit: "+string(r.Age.Unit))
		}
		if len(r.Age.Never) > 0 {
			parts = append(parts, "never: "+flow(r.Age.Never))
		}
		w.plain(0, "age", "{"+strings.Join(parts, ", ")+"}")
	}
	w.field(0, "zone", r.Zone)
	w.field(0, "modified", r.Modified)
	if len(r.Joins) > 0 {
		w.plain(0, "joins", " ")
		for _, name := range slices.Sorted(maps.Keys(r.Joins)) {
			var on []string
			for _, ours := range slices.Sorted(maps.Keys(r.Joins[name].On)) {
				on = append(on, quoted(ours)+": "+quoted(r.Joins[name].On[ours]))
			}
			w.plain(1, name, "{table: "+quoted(r.Joins[name].Table)+", on: {"+strings.Join(on, ", ")+"}}")
		}
	}
	w.related(0, r.Related)
	w.list(0, "include", r.Include)
	w.list(0, "copy", r.Copy)
	w.plain(0, "clauses", " ")
	for _, c := range r.Clauses {
		w.clause(c)
	}
	w.field(0, "then", string(r.Then))
	w.period(0, "delete_after", r.DeleteAfter)
	w.archive(0, r.Archive)
	w.list(0, "omit", r.Omit)
	w.masks(0, r.Mask)
	w.field(0, "confirm", r.Confirm)
	if r.Pace != "" && r.Pace != pace.Gentle || r.Bound > 0 {
		w.plain(0, "pace", r.paceText())
	}
	if len(r.Window) == 1 {
		w.plain(0, "window", strconv.Quote(r.Window[0].String()))
	} else if len(r.Window) > 1 {
		parts := make([]string, len(r.Window))
		for i, x := range r.Window {
			parts[i] = strconv.Quote(x.String())
		}
		w.plain(0, "window", "["+strings.Join(parts, ", ")+"]")
	}
	for _, x := range [][2]string{{"budget", r.Budget.String()}, {"log", r.Log.String()},
		{"limits", limitText(r.Limits)}} {
		if x[1] != "" {
			w.plain(0, x[0], "{"+x[1]+"}")
		}
	}
	w.field(0, "partitions", string(r.Partitions))
	w.plain(0, "schedule", r.Schedule.text())
	if r.Limit != nil {
		w.plain(0, "limit", "{"+r.Limit.String()+"}")
	}
	if r.Requires != nil {
		w.plain(0, "requires", "{"+r.Requires.String()+"}")
	}
	w.steps("before", r.Before)
	w.steps("after", r.After)
	return w.String()
}

type writer struct {
	strings.Builder
	item bool // the next field begins an item of a list
}

// plain writes a field whose value is YAML already; the empty value writes nothing, a blank only the name.
func (w *writer) plain(depth int, name, v string) {
	if v == "" {
		return
	}
	indent := strings.Repeat("  ", depth)
	if w.item {
		indent, w.item = strings.Repeat("  ", depth-1)+"- ", false
	}
	w.WriteString(strings.TrimRight(indent+name+": "+v, " ") + "\n")
}

func (w *writer) field(depth int, name, v string) {
	if v != "" {
		w.plain(depth, name, scalar(v))
	}
}

func (w *writer) list(depth int, name string, v []string) {
	if len(v) > 0 {
		w.plain(depth, name, flow(v))
	}
}

func (w *writer) steps(name string, steps []Step) {
	if len(steps) > 0 {
		w.plain(0, name, " ")
	}
	for _, s := range steps {
		w.WriteString("  - " + s.String() + "\n")
	}
}

func (w *writer) period(depth int, name string, p *period.Period) {
	if p != nil {
		w.field(depth, name, p.String())
	}
}

func (w *writer) archive(depth int, a Archive) {
	var parts []string
	if a.Store != "" {
		parts = append(parts, "store: "+scalar(a.Store))
	}
	if a.Keep != nil {
		parts = append(parts, "keep: "+a.Keep.String())
	}
	if a.From != "" {
		parts = append(parts, "from: "+string(a.From))
	}
	if a.Second != "" {
		parts = append(parts, "second: "+scalar(a.Second))
	}
	if a.ColdStore != "" {
		parts = append(parts, "cold_store: "+scalar(a.ColdStore))
	}
	if a.ColdAfter != nil {
		parts = append(parts, "cold_after: "+a.ColdAfter.String())
	}
	if len(parts) > 0 {
		w.plain(depth, "archive", "{"+strings.Join(parts, ", ")+"}")
	}
}

func (w *writer) masks(depth int, m map[string]Mask) {
	var parts []string
	for _, column := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, quoted(column)+": "+string(m[column]))
	}
	if len(parts) > 0 {
		w.plain(depth, "mask", "{"+strings.Join(parts, ", ")+"}")
	}
}

func (w *writer) clause(c Clause) {
	w.item = true
	switch k := c.Keep; {
	case k.Before != nil:
		w.field(2, "before", k.Before.Text)
	case k.Newest > 0:
		w.plain(2, "newest", strconv.Itoa(k.Newest)+" partitions")
	default:
		w.field(2, "keep", k.String())
	}
	w.field(2, "where", c.Where)
	if c.Otherwise {
		w.plain(2, "otherwise", "true")
	}
	w.field(2, "align", string(c.Align))
	if c.Off {
		w.plain(2, "enabled", "false")
	}
	w.field(2, "locked", c.Locked)
	w.field(2, "about", c.About)
	w.field(2, "then", string(c.Then))
	w.period(2, "delete_after", c.DeleteAfter)
	if c.Archive != nil {
		w.archive(2, *c.Archive)
	}
	w.list(2, "omit", c.Omit)
	w.masks(2, c.Mask)
}

func flow(v []string) string {
	parts := make([]string, len(v))
	for i, s := range v {
		parts[i] = quoted(s)
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

// scalar writes a text as YAML, in quotes unless it is plain letters, digits and a few harmless marks.
func scalar(s string) string {
	plain := s != "" && strings.TrimSpace(s) == s
	for i, c := range s {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (i == 0 || !(c >= '0' && c <= '9') && !strings.ContainsRune(" .,/-()'=<>", c)) {
			plain = false
		}
	}
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
		plain = false
	}
	if plain && !strings.Contains(s, " #") && !strings.Contains(s, ": ") {
		return s
	}
	return quoted(s)
}

// quoted writes a text in YAML's double quotes.
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range s {
		switch {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteRune(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c == '\t':
			b.WriteString(`\t`)
		case c < 0x20 || c == 0x7f:
			b.WriteString(`\x` + strconv.FormatInt(int64(c)+0x100, 16)[1:])
		default:
			b.WriteRune(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}
