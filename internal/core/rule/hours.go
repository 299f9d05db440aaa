package rule

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/period"
)

// Window is a span of the clock, by the rule's zone, in which a run may work.
type Window struct{ calendar.Window }

// MarshalText and UnmarshalText carry a window in JSON as it is written.
func (w Window) MarshalText() ([]byte, error) { return []byte(w.String()), nil }
func (w *Window) UnmarshalText(b []byte) (err error) {
	w.Window, err = calendar.ParseWindow(string(b))
	return err
}

// Windows are the rule's, as calendar takes them.
func (r *Rule) Windows() []calendar.Window {
	out := make([]calendar.Window, len(r.Window))
	for i, w := range r.Window {
		out[i] = w.Window
	}
	return out
}

// Budget is what a run takes of one window; what is left over waits for the next.
type Budget struct {
	Rows int64          `json:"rows,omitempty"` // 0: as many as the time allows
	Time *period.Period `json:"time,omitempty"` // nil: as long as the window is open
}

// Length is the budget's time; 0: none.
func (b *Budget) Length() time.Duration {
	if b == nil || b.Time == nil {
		return 0
	}
	return length(*b.Time)
}

// Log is how many bytes a run may make the database's log grow by; 0: no limit.
type Log struct {
	Minute int64 `json:"minute,omitempty"` // within one minute: a run rests until there is room again
	Run    int64 `json:"run,omitempty"`    // from its start, or from where it was resumed: then it pauses
}

func windowText(list []Window) string {
	parts := make([]string, len(list))
	for i, w := range list {
		parts[i] = w.String()
	}
	return strings.Join(parts, "; ")
}

// String writes the budget as a rule does, without braces.
func (b *Budget) String() string {
	if b == nil {
		return ""
	}
	var parts []string
	if b.Rows > 0 {
		parts = append(parts, fmt.Sprintf("rows: %d", b.Rows))
	}
	if b.Time != nil {
		parts = append(parts, "time: "+b.Time.String())
	}
	return strings.Join(parts, ", ")
}

// String writes the limits as a rule does, without braces.
func (l *Log) String() string {
	if l == nil {
		return ""
	}
	var parts []string
	if l.Minute > 0 {
		parts = append(parts, fmt.Sprintf("minute: %d", l.Minute))
	}
	if l.Run > 0 {
		parts = append(parts, fmt.Sprintf("run: %d", l.Run))
	}
	return strings.Join(parts, ", ")
}

func limitText(limits pace.Limits) string {
	var parts []string
	for _, s := range pace.Signals {
		if v, ok := limits[s.Name]; ok && v == nil {
			parts = append(parts, s.Name+": off")
		} else if ok {
			parts = append(parts, s.Name+": "+strconv.FormatFloat(*v, 'f', -1, 64))
		}
	}
	return strings.Join(parts, ", ")
}

// pace reads how hard a run works: one of the names of paces, or how much slower others may become for the gentle one.
func (r *reader) pace(n ast.Node) (p pace.Pace, bound float64) {
	if _, named := n.(*ast.StringNode); n == nil || named {
		p, err := pace.Parse(r.text("pace", n, false, ""))
		if err != nil {
			r.fail("pace", err.Error()+", or a bound like {bound: 10%}", "")
		}
		return p, 0
	}
	f := r.mapping("pace", n, "bound")
	text := r.text("pace.bound", f["bound"], f != nil, "write `pace: {bound: 10%}`")
	if text == "" {
		return pace.Gentle, 0
	}
	v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, "%")), 64)
	if err != nil || !strings.HasSuffix(text, "%") || !(v >= 100*pace.LeastBound && v <= 100*pace.MostBound) {
		r.fail("pace.bound", fmt.Sprintf("%q is no bound for how much slower others may become", text),
			fmt.Sprintf("write one from %g%% to %g%%; to heed nobody, write `pace: unlimited`", 100*pace.LeastBound,
				100*pace.MostBound))
		return pace.Gentle, 0
	}
	return pace.Gentle, v / 100
}

// paceText writes the pace as a rule does.
func (p *RulePace) paceText() string {
	if p.Bound > 0 {
		return "{bound: " + strconv.FormatFloat(math.Round(1e6*p.Bound)/1e4, 'f', -1, 64) + "%}"
	}
	return string(p.Pace)
}

// hours reads when and how hard a run may work.
func (r *reader) hours(f map[string]ast.Node) {
	out := &r.doc.Rule
	for i, text := range r.list("window", f["window"]) {
		w, err := calendar.ParseWindow(text)
		if err != nil {
			r.fail(fmt.Sprintf("window[%d]", i), err.Error(), "")
			continue
		}
		out.Window = append(out.Window, Window{w})
	}
	if f["budget"] != nil {
		b := r.mapping("budget", f["budget"], "rows", "time")
		out.Budget = &Budget{Rows: int64(r.amount("budget.rows", b["rows"], pace.Count)),
			Time: r.someTime("budget.time", b["time"])}
		switch {
		case len(out.Window) == 0:
			r.fail("budget", "a budget is for one window, and the rule has none", "add `window: 22:00-05:00`")
		case out.Budget.Rows == 0 && out.Budget.Time == nil:
			r.fail("budget", "it is not said what a window may take",
				"write `budget: {rows: 2000000}` or `budget: {time: PT4H}`")
		}
	}
	switch text := r.text("partitions", f["partitions"], false, ""); text {
	case "", string(WayWhole):
	case string(WayRows):
		out.Partitions = WayRows
	default:
		r.fail("partitions", fmt.Sprintf("%q is no way for partitions to leave", text),
			"write `partitions: rows`, or leave it out, and those that are wholly due leave as a whole")
	}
	if f["log"] != nil {
		l := r.mapping("log", f["log"], "minute", "run")
		out.Log = &Log{Minute: int64(r.amount("log.minute", l["minute"], pace.Bytes)),
			Run: int64(r.amount("log.run", l["run"], pace.Bytes))}
		if *out.Log == (Log{}) {
			r.fail("log", "it is not said how much a run may write", "write `log: {minute: 200 MB, run: 20 GB}`")
		}
	}
	const remedy = "write `limits: {waiting: 2, replica_delay: 5 s}`"
	for _, pair := range r.pairs("limits", f["limits"], "here must stand signals, each with its limit", remedy) {
		name := keyText(pair.Key)
		at := "limits." + name
		r.place(at, pair.Key)
		s, ok := pace.FindSignal(name)
		if !ok || name == pace.LogMinute {
			r.fail(at, fmt.Sprintf("there is no signal %q with a limit of its own", name), "write one of "+
				strings.Join(signalNames(), ", ")+"; what is written to the log is limited by log")
			continue
		}
		if out.Limits == nil {
			out.Limits = pace.Limits{}
		}
		if text := r.text(at, pair.Value, true, remedy); text == "off" || text == "false" {
			out.Limits[name] = nil
		} else if text != "" {
			v := r.amount(at, pair.Value, s.Unit)
			out.Limits[name] = &v
		}
	}
}

func signalNames() (out []string) {
	for _, s := range pace.Signals {
		if s.Name != pace.LogMinute {
			out = append(out, s.Name)
		}
	}
	return out
}

// amount reads a value with its unit; a missing one is 0.
func (r *reader) amount(field string, n ast.Node, unit pace.Unit) float64 {
	text := r.text(field, n, false, "")
	if text == "" {
		return 0
	}
	v, err := unit.Parse(text)
	if err != nil {
		r.fail(field, err.Error(), "")
	}
	return v
}
