package rule

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/pace"
)

// Missed is what becomes of a firing whose time passed while the service could not act.
type Missed string

// Ways for missed firings.
const (
	MissedOnce Missed = "once" // however many were missed, one run makes up for all
	MissedSkip Missed = "skip" // the next firing takes what they would have taken
)

// Schedule is when a rule runs by itself.
type Schedule struct {
	Name   string               `json:"name,omitempty"` // of a schedule that is defined once for many rules
	When   *calendar.Recurrence `json:"when,omitempty"` // nil: as the schedule of that name says
	From   *Moment              `json:"from,omitempty"` // no firing is before it
	Zone   string               `json:"zone,omitempty"` // IANA name; empty: the rule's
	Missed Missed               `json:"missed,omitempty"`
}

// NamedSchedule is a schedule that is defined once for many rules.
type NamedSchedule struct {
	Schedule
	About string `json:"about,omitempty"`
}

// Limit is how much a scheduled run may take. One that would take more is not started: somebody is asked.
type Limit struct {
	Share       float64 `json:"share,omitempty"` // of the table's rows, 0 to 1; 0: any
	Rows        int64   `json:"rows,omitempty"`  // 0: any
	AgainstLast float64 `json:"against_last,omitempty"`
}

// Compare says in words what changed from one form of a named schedule to the next.
func (n NamedSchedule) Compare(after *NamedSchedule) []string {
	out := []string{}
	was, is := n.Schedule, after.Schedule
	was.Name, is.Name = "", ""
	if a, b := was.text(), is.text(); a != b {
		out = append(out, fmt.Sprintf("when: %s → %s", a, b))
	}
	if n.About != after.About {
		out = append(out, fmt.Sprintf("about: %s → %s", n.About, after.About))
	}
	return out
}

// Resolved is the schedule with what its name stands for, and false where no schedule has that name.
func (s *Schedule) Resolved(named map[string]NamedSchedule) (Schedule, bool) {
	if s.Name == "" {
		return *s, true
	}
	n, ok := named[s.Name]
	out := n.Schedule
	out.Name = s.Name
	if s.Missed != "" {
		out.Missed = s.Missed
	}
	return out, ok
}

// Next returns the first firing after an instant, for a rule that keeps to the clock of zone where the schedule names
// none. Zero says that there is none.
func (s *Schedule) Next(after time.Time, zone *time.Location) time.Time {
	if s.When == nil {
		return time.Time{}
	}
	zone = s.location(zone)
	from := time.Time{}
	if s.From != nil {
		from = s.From.In(zone)
	}
	return s.When.Next(after, from, zone)
}

// Firings returns the next firings, n at the most.
func (s *Schedule) Firings(n int, after time.Time, zone *time.Location) (out []time.Time) {
	for len(out) < n {
		if after = s.Next(after, zone); after.IsZero() {
			break
		}
		out = append(out, after)
	}
	return out
}

func (s *Schedule) location(zone *time.Location) *time.Location {
	if s.Zone == "" {
		return zone
	}
	if own, err := time.LoadLocation(s.Zone); err == nil {
		return own
	}
	return zone // it was checked
}

// Spoken says in words when the schedule fires.
func (s *Schedule) Spoken(zone *time.Location) string {
	if s.When == nil {
		return "as schedule " + s.Name
	}
	out := s.When.Spoken() + " (" + s.location(zone).String()
	if s.From != nil {
		out += ", from " + s.From.Text
	}
	return out + ")"
}

// text writes the schedule as a rule does.
func (s *Schedule) text() string {
	switch {
	case s == nil, s.Name == "" && s.When == nil:
		return ""
	case s.Name != "" && s.Missed == "":
		return s.Name
	case s.Name == "" && s.From == nil && s.Zone == "" && s.Missed == "":
		return quoted(s.When.Text)
	}
	var parts []string
	if s.Name != "" {
		parts = append(parts, "name: "+s.Name)
	} else {
		parts = append(parts, "when: "+quoted(s.When.Text))
	}
	if s.From != nil {
		parts = append(parts, "from: "+quoted(s.From.Text))
	}
	if s.Zone != "" {
		parts = append(parts, "zone: "+s.Zone)
	}
	if s.Missed != "" {
		parts = append(parts, "missed: "+string(s.Missed))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// String writes the limit as a rule does, without braces.
func (l *Limit) String() string {
	if l == nil {
		return ""
	}
	var parts []string
	if l.Share > 0 {
		parts = append(parts, "share: "+strconv.FormatFloat(100*l.Share, 'f', -1, 64)+"%")
	}
	if l.Rows > 0 {
		parts = append(parts, fmt.Sprintf("rows: %d", l.Rows))
	}
	if l.AgainstLast > 0 {
		parts = append(parts, "against_last: "+strconv.FormatFloat(l.AgainstLast, 'f', -1, 64)+"x")
	}
	return strings.Join(parts, ", ")
}

// Over says in words by what a plan exceeds the limit: due rows of a table's, and those of the last run that took any
// (0: none did). Empty: by nothing.
func (l *Limit) Over(due, table, last int64) string {
	switch {
	case l == nil:
	case l.Rows > 0 && due > l.Rows:
		return fmt.Sprintf("it would take %s rows, and the rule's limit is %s", grouped(due), grouped(l.Rows))
	case l.Share > 0 && table > 0 && float64(due) > l.Share*float64(table):
		return fmt.Sprintf("it would take %.1f %% of the table's rows, and the rule's limit is %g %%",
			100*float64(due)/float64(table), 100*l.Share)
	case l.AgainstLast > 0 && last > 0 && float64(due) > l.AgainstLast*float64(last):
		return fmt.Sprintf("it would take %s rows, %.1f times as many as the run before it took (%s), and the rule's "+
			"limit is %g times", grouped(due), float64(due)/float64(last), grouped(last), l.AgainstLast)
	}
	return ""
}

// grouped writes a number with commas between thousands.
func grouped(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

const scheduleRemedy = "write `schedule: daily at 02:30`, or `schedule: {when: daily at 02:30, from: 2027-01-01}`"

// schedule reads when a rule runs by itself.
func (r *reader) schedule(n ast.Node) *Schedule {
	if n == nil {
		return nil
	}
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
	default:
		text := r.text("schedule", n, true, scheduleRemedy)
		if text == "" {
			return nil
		}
		when, err := calendar.ParseRecurrence(text)
		switch {
		case err == nil:
			return &Schedule{When: &when}
		case ruleName.MatchString(text) && !strings.HasPrefix(text, "@"):
			return &Schedule{Name: text}
		}
		r.fail("schedule", err.Error(), "")
		return nil
	}
	f := r.mapping("schedule", n, "name", "when", "from", "zone", "missed")
	if f == nil {
		return nil
	}
	s := r.times("schedule.", f)
	s.Name = r.text("schedule.name", f["name"], false, "")
	switch {
	case s.Name == "" && f["when"] == nil:
		r.fail("schedule.when", "it is not said when the rule runs", scheduleRemedy)
	case s.Name != "" && (f["when"] != nil || f["from"] != nil || f["zone"] != nil):
		r.fail("schedule.name", "a named schedule says itself when it fires",
			"leave out when, from and zone, or the name")
	}
	return s
}

// times reads the fields of a schedule that say when it fires.
func (r *reader) times(at string, f map[string]ast.Node) *Schedule {
	s := &Schedule{}
	if text := r.text(at+"when", f["when"], false, scheduleRemedy); text != "" {
		when, err := calendar.ParseRecurrence(text)
		if err != nil {
			r.fail(at+"when", err.Error(), "")
		}
		s.When = &when
	}
	if text := r.text(at+"from", f["from"], false, ""); text != "" {
		from, err := parseMoment(text)
		if err != nil {
			r.fail(at+"from", err.Error(), "")
		} else {
			s.From = &from
		}
	}
	s.Zone = r.text(at+"zone", f["zone"], false, "")
	if _, err := time.LoadLocation(s.Zone); err != nil || s.Zone == "Local" {
		r.fail(at+"zone", fmt.Sprintf("%q is no zone", s.Zone), "write an IANA name like Europe/Athens, or UTC")
		s.Zone = ""
	}
	switch s.Missed = Missed(r.text(at+"missed", f["missed"], false, "")); s.Missed {
	case "", MissedOnce, MissedSkip:
	default:
		r.fail(at+"missed", fmt.Sprintf("%q is no way for missed firings", s.Missed), "write once or skip")
		s.Missed = ""
	}
	return s
}

// namedSchedule reads a schedule that is defined once for many rules.
func (r *reader) namedSchedule(f map[string]ast.Node) {
	n := &NamedSchedule{}
	r.doc.Schedule = n
	n.Schedule = *r.times("", f)
	n.Name = r.text("schedule", f["schedule"], true, "name the schedule, for instance `schedule: quiet-nights`")
	n.About = r.text("about", f["about"], false, "")
	if n.Name != "" && !ruleName.MatchString(n.Name) {
		r.fail("schedule", fmt.Sprintf("%q is not a name for a schedule", n.Name),
			"use up to 63 small letters, digits and hyphens, a letter or digit first")
	} else if _, err := calendar.ParseRecurrence(n.Name); err == nil {
		r.fail("schedule", fmt.Sprintf("%q says when something happens and cannot be a name", n.Name),
			"give the schedule another name")
	}
	if f["when"] == nil {
		r.fail("when", "it is not said when the schedule fires", "write `when: daily at 02:30`")
	}
}

// limit reads how much a scheduled run may take.
func (r *reader) limit(n ast.Node) *Limit {
	if n == nil {
		return nil
	}
	f := r.mapping("limit", n, "share", "rows", "against_last")
	l := &Limit{Rows: int64(r.amount("limit.rows", f["rows"], pace.Count))}
	if text := r.text("limit.share", f["share"], false, ""); text != "" {
		v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, "%")), 64)
		if err != nil || !strings.HasSuffix(text, "%") || !(v > 0 && v <= 100) {
			r.fail("limit.share", fmt.Sprintf("%q is no share of a table", text), "write one like 50%")
		} else {
			l.Share = v / 100
		}
	}
	if text := r.text("limit.against_last", f["against_last"], false, ""); text != "" {
		v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, "x")), 64)
		if err != nil || !strings.HasSuffix(text, "x") || !(v >= 1 && v <= 1e6) {
			r.fail("limit.against_last", fmt.Sprintf("%q is no multiple of the last run", text), "write one like 3x")
		} else {
			l.AgainstLast = v
		}
	}
	if *l == (Limit{}) && f != nil {
		r.fail("limit", "it is not said how much a scheduled run may take",
			"write `limit: {share: 50%, rows: 10M, against_last: 3x}`")
	}
	return l
}

// scheduled checks a rule's schedule against the named ones and the clock.
func (c *checking) scheduled() {
	s := c.rule.Schedule
	if s == nil {
		if c.rule.Limit != nil {
			c.warn("limit", "the limit is for scheduled runs, and the rule has no schedule",
				"add a schedule, or leave it out")
		}
		return
	}
	whole, ok := s.Resolved(c.Schedules)
	if !ok {
		c.fail("schedule", fmt.Sprintf("there is no schedule %q", s.Name),
			"define it (`schedule: "+s.Name+"`, `when: daily at 02:30`), or "+scheduleRemedy)
		return
	}
	c.firings("schedule", &whole, c.rule.Location())
}

// firings fails a schedule that never fires, and warns of a start that has passed.
func (c *checking) firings(field string, s *Schedule, zone *time.Location) {
	if s.When == nil {
		return // it could not be read
	}
	if s.Next(c.Now, zone).IsZero() {
		c.fail(field, fmt.Sprintf("the schedule never fires (%s)", s.Spoken(zone)),
			"write days that come, and a start or an end that leaves some")
		return
	}
	if s.From != nil && s.From.In(s.location(zone)).Before(c.Now) {
		c.warn(field, fmt.Sprintf("its start %s has passed; it counts from there, and fires next at %s", s.From.Text,
			s.Next(c.Now, zone).Format(time.RFC3339)), "")
	}
}
