// Package rule holds the retention rule of one table: its model, its YAML form with the position of every mistake, the
// checks of a rule against the table that it names, and which clause governs which rows. It opens no file and asks no
// database: text, shapes and instants come in.
package rule

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/pace"
	"ambercellar/internal/core/period"
)

// Rule is the retention rule of one table.
type Rule struct {
	RuleSubject
	RuleRows
	RuleThen
	RulePace
	RuleSchedule
}

// RuleSubject is what a rule is about.
type RuleSubject struct {
	Name   string `json:"name"`
	About  string `json:"about,omitempty"` // why the records are kept as long as they are
	Off    bool   `json:"off,omitempty"`   // not enabled: it can be planned, and not run
	Source string `json:"source"`
	Table  string `json:"table"`
	Age    Age    `json:"age"`
	// IANA name of the zone whose calendar and clock the rule keeps to; empty: UTC
	Zone     string `json:"zone,omitempty"`
	Modified string `json:"modified,omitempty"` // column that tells when writers last touched a row
}

// RuleRows is which rows a rule takes, and what comes along with them.
type RuleRows struct {
	Joins   map[string]Join `json:"joins,omitempty"`
	Related []Related       `json:"related,omitempty"`
	// joined columns, as JOIN.COLUMN, that are archived with the row
	Include []string `json:"include,omitempty"`
	Copy    []string `json:"copy,omitempty"` // joins whose rows are kept beside the segment
	Clauses []Clause `json:"clauses"`
}

// RuleThen is what becomes of the rows.
type RuleThen struct {
	Then Then `json:"then"`
	// with copy: how long after the copy the rows are deleted; nil: by hand
	DeleteAfter *period.Period  `json:"delete_after,omitempty"`
	Archive     Archive         `json:"archive"`
	Omit        []string        `json:"omit,omitempty"` // columns that are not archived
	Mask        map[string]Mask `json:"mask,omitempty"` // columns that are archived in another form
	Confirm     string          `json:"confirm,omitempty"`
}

// RulePace is when and how fast a run may work.
type RulePace struct {
	Pace pace.Pace `json:"pace"`
	// how much slower others may become beside the gentle pace, as a share of what their statements take at the p99;
	// left out: a tenth
	Bound  float64  `json:"bound,omitempty"`
	Window []Window `json:"window,omitempty"` // when a run may work; none: at any time
	Budget *Budget  `json:"budget,omitempty"` // of one window
	Log    *Log     `json:"log,omitempty"`    // what a run may make the database write to its log
	// of signals, by their names, in the signal's unit; null: none
	Limits     pace.Limits `json:"limits,omitempty"`
	Partitions Way         `json:"partitions,omitempty"` // WayRows: none leaves as a whole; empty: those that can
}

// RuleSchedule is when a rule runs by itself, how much it may take then, and what must hold and be done around runs.
type RuleSchedule struct {
	Schedule *Schedule `json:"schedule,omitempty"` // nil: by hand only
	Limit    *Limit    `json:"limit,omitempty"`
	Requires *Requires `json:"requires,omitempty"`
	Before   []Step    `json:"before,omitempty"` // each time before a run works
	After    []Step    `json:"after,omitempty"`  // each time that it has worked, however that ended
}

// Clause is one line of a rule: which rows, and how long they stay live. What it leaves open follows from the rule.
type Clause struct {
	Where string       `json:"where,omitempty"` // a filter; empty: every row
	Keep  Keep         `json:"keep"`
	Align period.Align `json:"align,omitempty"`
	// for exactly the rows that no other enabled clause matches
	Otherwise   bool            `json:"otherwise,omitempty"`
	Off         bool            `json:"off,omitempty"`
	Locked      string          `json:"locked,omitempty"` // why only an administrator may shorten or remove the clause
	About       string          `json:"about,omitempty"`
	Then        Then            `json:"then,omitempty"`
	DeleteAfter *period.Period  `json:"delete_after,omitempty"`
	Archive     *Archive        `json:"archive,omitempty"`
	Omit        []string        `json:"omit,omitempty"`
	Mask        map[string]Mask `json:"mask,omitempty"`
}

// Keep is how long rows stay live: exactly one of its fields is set.
type Keep struct {
	Period  period.Period `json:"period,omitzero"`
	Before  *Moment       `json:"before,omitempty"`  // a fixed cutoff
	Newest  int           `json:"newest,omitempty"`  // so many of the newest partitions
	Forever bool          `json:"forever,omitempty"` // never due
	None    bool          `json:"none,omitempty"`    // due at once
	Name    string        `json:"name,omitempty"`    // of a keep that is defined once for many rules
}

// Moment is a day, or an instant where it names a zone or the rule does.
type Moment struct {
	Text string
	at   time.Time // the clock that it shows
	zone bool      // it names its zone: at is an instant
}

// MarshalText and UnmarshalText carry a moment in JSON as it was written.
func (m Moment) MarshalText() ([]byte, error) { return []byte(m.Text), nil }
func (m *Moment) UnmarshalText(b []byte) (err error) {
	*m, err = parseMoment(string(b))
	return err
}

func parseMoment(s string) (Moment, error) {
	m := Moment{Text: s}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05Z07:00"} {
		if t, err := time.Parse(form, s); err == nil {
			m.at, m.zone = t, true
			return m, nil
		}
	}
	for _, form := range []string{time.DateOnly, "2006-01-02T15:04:05", time.DateTime, "2006-01-02T15:04",
		"2006-01-02 15:04"} {
		if t, err := time.Parse(form, s); err == nil {
			m.at = t
			return m, nil
		}
	}
	return m, fmt.Errorf("%q is no day or time; write one like 2024-01-01 or 2024-01-01T12:00:00Z", s)
}

// In returns the instant that the moment means in a zone.
func (m Moment) In(zone *time.Location) time.Time {
	if m.zone {
		return m.at.UTC()
	}
	return period.Local(m.at, zone).UTC()
}

// String writes the keep as a rule does.
func (k Keep) String() string {
	switch {
	case k.Forever:
		return "forever"
	case k.None:
		return "none"
	case k.Before != nil:
		return "before " + k.Before.Text
	case k.Newest > 0:
		return fmt.Sprintf("newest %d partitions", k.Newest)
	case k.Name != "":
		return k.Name
	}
	return k.Period.String()
}

// Spoken writes the keep in words.
func (k Keep) Spoken() string {
	switch {
	case k.Before != nil:
		return "what is before " + k.Before.Text + " goes"
	case k.Newest > 0:
		return fmt.Sprintf("the newest %d partitions", k.Newest)
	case k.Period != period.Period{}:
		return k.Period.Spoken()
	}
	return k.String()
}

// Named is a keep that is defined once, with its reason, and shared by many rules.
type Named struct {
	Name    string        `json:"name"`
	Period  period.Period `json:"period,omitzero"`
	Forever bool          `json:"forever,omitempty"`
	About   string        `json:"about"`
}

// Keep is what the definition stands for.
func (n Named) Keep() Keep { return Keep{Period: n.Period, Forever: n.Forever} }

// Then is what happens to rows that are due.
type Then string

const (
	ThenArchive Then = "archive" // copied, verified, deleted
	ThenCopy    Then = "copy"    // copied and verified; deleted by a second decision
	ThenPurge   Then = "purge"   // deleted without a copy
	ThenUnlink  Then = "unlink"  // of related rows alone: they stay, and their reference becomes NULL
)

// Copies says whether rows go to a store.
func (t Then) Copies() bool { return t == ThenArchive || t == ThenCopy }

// Archive says where the copies go.
type Archive struct {
	Store string         `json:"store,omitempty"`
	Keep  *period.Period `json:"keep,omitempty"` // how long a segment stays in the archive at least; nil: without end
	From  KeepFrom       `json:"from,omitempty"` // what that counts from; empty: FromArchived

	// the store in which segments get a second copy; empty: as their store says
	Second string `json:"second,omitempty"`
	// the store to which the rows of segments move when they are
	ColdStore string         `json:"cold_store,omitempty"`
	ColdAfter *period.Period `json:"cold_after,omitempty"` // so long in the archive
}

// KeepFrom is what the keep of a segment counts from.
type KeepFrom string

const (
	FromArchived KeepFrom = "archived" // the moment at which it was archived
	FromAge      KeepFrom = "age"      // the age of its newest row
)

// Mask is how a column is cleaned before it is archived.
type Mask string

const (
	MaskBlank Mask = "blank" // NULL, or an empty text where the column takes none
	MaskHash  Mask = "hash"  // HMAC-SHA-256 under a key that only the service knows, as hexadecimal text
	MaskYear  Mask = "year"  // the first moment of the year
	MaskLast4 Mask = "last4" // asterisks, and the last four characters
)

// Location is the zone whose calendar and clock the rule keeps to.
func (r *Rule) Location() *time.Location {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		return time.UTC // Parse refuses zones that cannot be loaded
	}
	return zone
}

// Effective is a clause with everything that it takes from the rule filled in.
func (r *Rule) Effective(i int) Clause {
	c := r.Clauses[i]
	if c.Then == "" {
		c.Then = r.Then
	}
	if c.DeleteAfter == nil {
		c.DeleteAfter = r.DeleteAfter
	}
	if c.Archive == nil {
		c.Archive = &Archive{}
	}
	whole := *c.Archive
	if whole.Store == "" {
		whole.Store = r.Archive.Store
	}
	if whole.Keep == nil {
		whole.Keep = r.Archive.Keep
	}
	if whole.From == "" {
		whole.From = r.Archive.From
	}
	if whole.Second == "" {
		whole.Second = r.Archive.Second
	}
	if whole.ColdStore == "" {
		whole.ColdStore = r.Archive.ColdStore
	}
	if whole.ColdAfter == nil {
		whole.ColdAfter = r.Archive.ColdAfter
	}
	c.Archive = &whole
	if c.Omit == nil {
		c.Omit = r.Omit
	}
	if c.Mask == nil {
		c.Mask = r.Mask
	}
	return c
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
	onOff := map[bool]string{false: "true", true: "false"}
	note("about", before.About, after.About)
	note("enabled", onOff[before.Off], onOff[after.Off])
	note("source", before.Source, after.Source)
	note("table", before.Table, after.Table)
	note("age", before.Age.String(), after.Age.String())
	note("zone", before.Zone, after.Zone)
	note("modified", before.Modified, after.Modified)
	note("joins", joinText(before.Joins), joinText(after.Joins))
	note("related", relatedText(before.Related), relatedText(after.Related))
	note("include", strings.Join(before.Include, ", "), strings.Join(after.Include, ", "))
	note("copy", strings.Join(before.Copy, ", "), strings.Join(after.Copy, ", "))
	note("clauses", before.clauseText(), after.clauseText())
	note("then", string(before.Then), string(after.Then))
	note("delete_after", periodText(before.DeleteAfter), periodText(after.DeleteAfter))
	note("archive.store", before.Archive.Store, after.Archive.Store)
	note("archive.keep", periodText(before.Archive.Keep), periodText(after.Archive.Keep))
	note("archive.from", string(before.Archive.From), string(after.Archive.From))
	note("archive.second", before.Archive.Second, after.Archive.Second)
	note("archive.cold_store", before.Archive.ColdStore, after.Archive.ColdStore)
	note("archive.cold_after", periodText(before.Archive.ColdAfter), periodText(after.Archive.ColdAfter))
	note("omit", strings.Join(before.Omit, ", "), strings.Join(after.Omit, ", "))
	note("mask", maskText(before.Mask), maskText(after.Mask))
	note("confirm", before.Confirm, after.Confirm)
	note("pace", before.paceText(), after.paceText())
	note("window", windowText(before.Window), windowText(after.Window))
	note("budget", before.Budget.String(), after.Budget.String())
	note("log", before.Log.String(), after.Log.String())
	note("limits", limitText(before.Limits), limitText(after.Limits))
	note("partitions", string(before.Partitions), string(after.Partitions))
	note("schedule", before.Schedule.text(), after.Schedule.text())
	note("limit", before.Limit.String(), after.Limit.String())
	note("requires", before.Requires.String(), after.Requires.String())
	note("before", stepText(before.Before), stepText(after.Before))
	note("after", stepText(before.After), stepText(after.After))
	return out
}

func joinText(joins map[string]Join) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(joins)) {
		var on []string
		for _, ours := range slices.Sorted(maps.Keys(joins[name].On)) {
			on = append(on, ours+" = "+joins[name].On[ours])
		}
		parts = append(parts, fmt.Sprintf("%s: %s on %s", name, joins[name].Table, strings.Join(on, ", ")))
	}
	return strings.Join(parts, "; ")
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
	add := func(name, text string) {
		if text != "" {
			s += ", " + name + " " + text
		}
	}
	add("align", string(c.Align))
	add("where", c.Where)
	if c.Otherwise {
		s += ", otherwise"
	}
	add("locked", c.Locked)
	add("then", string(c.Then))
	add("delete after", periodText(c.DeleteAfter))
	if c.Archive != nil {
		add("store", c.Archive.Store)
		add("archive keep", periodText(c.Archive.Keep))
		add("counted from", string(c.Archive.From))
		add("second copy", c.Archive.Second)
		add("cold store", c.Archive.ColdStore)
		add("cold after", periodText(c.Archive.ColdAfter))
	}
	add("omit", strings.Join(c.Omit, " "))
	add("mask", maskText(c.Mask))
	if c.Off {
		s += ", not enabled"
	}
	if c.About != "" {
		s += " (" + c.About + ")"
	}
	return s
}

// Label names a clause as people are shown it: its number and which rows it is for.
func (r *Rule) Label(i int) string {
	c := r.Clauses[i]
	rows := "every row"
	switch {
	case c.Otherwise:
		rows = "every other row"
	case c.Where != "":
		rows = c.Where
	}
	return fmt.Sprintf("%d: %s", i+1, rows)
}

func periodText(p *period.Period) string {
	if p == nil {
		return ""
	}
	return p.String()
}

func maskText(m map[string]Mask) string {
	var parts []string
	for _, column := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, column+" "+string(m[column]))
	}
	return strings.Join(parts, ", ")
}

// Loosened says which locked clauses of a revision the next one shortens, narrows or removes, in words. Whether that
// is so for a keep whose length hangs on the calendar is judged at now, with named keeps resolved.
func Loosened(before, after *Rule, now time.Time, resolve Resolver) []string {
	if before.Off {
		return nil
	}
	cutoff := func(r *Rule, i int) (Cutoff, error) { return r.cutoff(i, now, resolve) }
	var out []string
	for i, c := range before.Clauses {
		if c.Locked == "" || c.Off {
			continue
		}
		name := "clause " + before.Label(i)
		at := slices.IndexFunc(after.Clauses, func(d Clause) bool {
			return d.Where == c.Where &&
				d.Otherwise == c.Otherwise && !d.Off
		})
		if at < 0 || before.Table != after.Table || before.Source != after.Source {
			out = append(out, name+" is removed")
			continue
		}
		old, err1 := cutoff(before, i)
		now, err2 := cutoff(after, at)
		d, e := before.Effective(i), after.Effective(at)
		switch {
		case after.Clauses[at].Locked == "":
			out = append(out, name+" is no longer locked")
		case err1 != nil || err2 != nil || old.Never && !now.Never || !old.Never && !now.Never && now.At.After(old.At):
			out = append(out, fmt.Sprintf("%s is shortened from %s to %s", name, c.Keep, after.Clauses[at].Keep))
		case joinText(before.Joins) != joinText(after.Joins) && strings.Contains(c.Where, "."):
			out = append(out, name+" looks at other joined rows")
		case before.Age.String() != after.Age.String():
			out = append(out, name+" counts from another age")
		case d.Then.Copies() && !e.Then.Copies():
			out = append(out, name+" purges instead of archiving")
		case d.Archive.Keep == nil && e.Archive.Keep != nil && d.Then.Copies(),
			d.Archive.Keep != nil && e.Archive.Keep != nil &&
				e.Archive.Keep.Before(time.Unix(0, 0), time.UTC).After(d.Archive.Keep.Before(time.Unix(0, 0),
					time.UTC)):
			out = append(out, name+" is archived for a shorter time")
		case d.Archive.From != FromAge && e.Archive.From == FromAge && d.Then.Copies():
			out = append(out, name+" is archived for a shorter time, as that counts from the age of its rows")
		}
	}
	return out
}
