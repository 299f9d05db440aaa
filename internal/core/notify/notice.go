package notify

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Notice is what somebody is told: of an event, or of a day. A webhook gets it as JSON.
type Notice struct {
	ID       string           `json:"id"` // of the delivery; the same whenever it is tried again
	Kind     EventKind        `json:"kind"`
	At       time.Time        `json:"at"`
	Title    string           `json:"title"`
	Record   string           `json:"record,omitempty"`
	Rule     string           `json:"rule,omitempty"`
	Source   string           `json:"source,omitempty"`
	Table    string           `json:"table,omitempty"`
	Severity string           `json:"severity,omitempty"`
	Facts    []Fact           `json:"facts,omitempty"`
	Numbers  map[string]int64 `json:"numbers,omitempty"`
	Sections []Section        `json:"sections,omitempty"` // of a digest
	Command  string           `json:"command,omitempty"`  // that shows more
	Link     string           `json:"link,omitempty"`     // to the page of the console that does
}

// Fact is one line of a notice.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Section is a part of a digest.
type Section struct {
	Heading string `json:"heading"`
	Facts   []Fact `json:"facts"`
}

// wording is how events of a kind are put into words.
type wording struct {
	title   string // %s: what it is about
	command string // %s: the record
	page    string // of the console
}

var wordings = map[EventKind]wording{
	EventRunDone:       {"Run of %s is done", "run show %s", "#/runs/"},
	EventRunFailed:     {"Run of %s failed", "run show %s", "#/runs/"},
	EventRunCancelled:  {"Run of %s was cancelled", "run show %s", "#/runs/"},
	EventRunCopied:     {"Run of %s has copied its rows and waits for a decision", "run show %s", "#/runs/"},
	EventFiringNothing: {"%s ran on its schedule and found nothing due", "rule show %s", "#/rules/"},
	EventFiringAsking: {
		"%s ran on its schedule; its plan waits for a decision",
		"rule show %s",
		"#/rules/",
	},
	EventApprovalAsked: {
		"The request for %s waits for approval",
		"approval show %s",
		"#/approvals",
	},
	EventFiringFailed:    {"%s could not run on its schedule", "rule show %s", "#/rules/"},
	EventRestoreAsked:    {"Restore of %s waits for approval", "restore show %s", "#/restores"},
	EventRestoreReady:    {"Restore of %s is ready", "restore show %s", "#/restores"},
	EventRestoreFailed:   {"Restore of %s failed", "restore show %s", "#/restores"},
	EventRestoreRefused:  {"Restore of %s was refused", "restore show %s", "#/restores"},
	EventDisposalPlanned: {"Disposal of %s waits for approval", "disposal show %s", "#/disposals"},
	EventDisposalDone:    {"Disposal of %s is done", "disposal show %s", "#/disposals"},
	EventDisposalFailed:  {"Disposal of %s failed", "disposal show %s", "#/disposals"},
	EventFrozen:          {"%s is frozen", "freeze list", "#/queue"},
	EventUnfrozen:        {"%s is not frozen any more", "freeze list -all", "#/queue"},
	EventWaitsLong:       {"%s has waited for long", "finding list", "#/queue"},
	EventExportReady:     {"The export of the audit log for %s is ready", "audit exports", "#/audit"},
	EventExportFailed:    {"The export of the audit log for %s failed", "audit exports", "#/audit"},
	EventFindingOpened:   {"Finding: %s", "finding list", "#/"},
	EventFindingClosed:   {"Finding over: %s", "finding list -all", "#/"},
}

// about names what an event is about.
func (e *Event) about() string {
	switch table := e.Source + "." + e.Table; {
	case e.Kind == EventApprovalAsked:
		return e.Subject + " of " + strings.TrimSuffix(table, ".")
	case e.Kind == EventExportReady || e.Kind == EventExportFailed:
		return e.Subject
	case e.Finding != "":
		return e.Finding + " (" + e.Subject + ")"
	case e.Kind == EventFrozen || e.Kind == EventUnfrozen:
		switch {
		case e.Source == "":
			return "Every source"
		case e.Table == "":
			return "Source " + e.Source
		}
		return "Table " + table
	case e.Kind == EventFiringNothing || e.Kind == EventFiringAsking || e.Kind == EventFiringFailed:
		return "Rule " + e.Rule
	case e.Table == "":
		return "source " + e.Source
	case e.Rule != "":
		return table + " (rule " + e.Rule + ")"
	default:
		return table
	}
}

// numberNames puts the numbers of a notice into words, in the order in which they are shown.
var numberNames = []struct{ key, name string }{
	{"copied", "rows copied"}, {"deleted", "rows deleted"}, {"left", "due rows left in the table"},
	{"restored", "rows restored"}, {"skipped", "rows skipped"}, {"segments", "segments"}, {"rows", "rows"},
	{"entries", "entries"}, {"bytes", "bytes"}, {"due", "rows due"},
}

// NoticeOf puts an event into words. base is the address of the console as people have it, without its last slash;
// empty: no link is given.
func NoticeOf(e *Event, base string) Notice {
	w := wordings[e.Kind]
	n := Notice{Kind: e.Kind, At: e.At, Record: e.Record, Rule: e.Rule, Source: e.Source, Table: e.Table,
		Severity: e.Severity, Numbers: e.Numbers, Title: fmt.Sprintf(w.title, e.about())}
	add := func(name, value string) {
		if value != "" {
			n.Facts = append(n.Facts, Fact{name, value})
		}
	}
	add("rule", e.Rule)
	if e.Table != "" {
		add("table", e.Source+"."+e.Table)
	} else {
		add("source", e.Source)
	}
	add("severity", e.Severity)
	add("restored to", e.Target)
	add("why", e.Problem)
	for _, x := range numberNames {
		if v, ok := e.Numbers[x.key]; ok {
			add(x.name, Count(v))
		}
	}
	if e.Until != "" {
		until := e.Until
		if at, err := time.Parse(time.RFC3339Nano, until); err == nil {
			until = moment(at)
		}
		name := "rows go again"
		switch e.Kind {
		case EventFrozen:
			name = "lifts itself"
		case EventExportReady:
			name = "file is removed"
		}
		add(name, until)
	}
	n.Command = "ambercellar " + strings.Replace(w.command, "%s", e.shown(), 1)
	if base != "" {
		n.Link = base + "/" + e.Page()
	}
	return n
}

// Page is the address of the page of the console that shows more, from # on.
func (e *Event) Page() string {
	page := wordings[e.Kind].page
	if strings.HasSuffix(page, "s/") {
		page += e.shown()
	}
	return page
}

// shown is what shows more of the event: its record, or its rule.
func (e *Event) shown() string {
	if strings.HasPrefix(wordings[e.Kind].command, "rule ") {
		return e.Rule
	}
	return e.Record
}

// Count writes a whole number with spaces between thousands.
func Count(n int64) string {
	digits := strconv.FormatInt(n, 10)
	for i := len(digits) - 3; i > 0 && digits[i-1] != '-'; i -= 3 {
		digits = digits[:i] + "\u202f" + digits[i:]
	}
	return digits
}

func moment(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 UTC") }

// Text writes the notice as plain text.
func (n *Notice) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n%s\n", n.Title, moment(n.At))
	if len(n.Facts) > 0 {
		b.WriteByte('\n')
	}
	lines := func(facts []Fact) {
		for _, f := range facts {
			fmt.Fprintf(&b, "%s: %s\n", f.Name, f.Value)
		}
	}
	lines(n.Facts)
	for _, s := range n.Sections {
		fmt.Fprintf(&b, "\n%s\n%s\n", s.Heading, strings.Repeat("-", len(s.Heading)))
		lines(s.Facts)
	}
	if n.Command != "" {
		fmt.Fprintf(&b, "\nMore: %s\n", n.Command)
	}
	if n.Link != "" {
		fmt.Fprintf(&b, "In the console: %s\n", n.Link)
	}
	return b.String()
}

// HTML writes the notice as a page for mail readers, on screens of any width.
func (n *Notice) HTML() string {
	var b strings.Builder
	write := func(form string, values ...string) {
		args := make([]any, len(values))
		for i, v := range values {
			args[i] = html.EscapeString(v)
		}
		fmt.Fprintf(&b, form+"\n", args...)
	}
	facts := func(list []Fact) {
		if len(list) == 0 {
			return
		}
		write(`<table role="presentation" style="border-collapse:collapse;width:100%%">`)
		for _, f := range list {
			write(`<tr><td style="padding:4px 12px 4px 0;opacity:.7;vertical-align:top">%s</td>`+
				`<td style="padding:4px 0;overflow-wrap:anywhere">%s</td></tr>`, f.Name, f.Value)
		}
		write(`</table>`)
	}
	write(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="color-scheme" content="light dark">
<title>%s</title>
</head>
<body style="margin:0;padding:16px;font:16px/1.5 system-ui,sans-serif">
<div style="max-width:36rem;margin:0 auto">`, n.Title)
	write(`<h1 style="font-size:20px;line-height:1.3;margin:0">%s</h1>`, n.Title)
	write(`<p style="margin:4px 0 16px;opacity:.7">%s</p>`, moment(n.At))
	facts(n.Facts)
	for _, s := range n.Sections {
		write(`<h2 style="font-size:17px;margin:20px 0 4px">%s</h2>`, s.Heading)
		facts(s.Facts)
	}
	if n.Link != "" {
		write(
			`<p style="margin:20px 0 0"><a href="%s" style="display:inline-block;padding:10px 16px;border-radius:8px;`+
				`background:#92400e;color:#ffffff;text-decoration:none">Open in the console</a></p>`,
			n.Link,
		)
	}
	if n.Command != "" {
		write(`<p style="margin:16px 0 0;opacity:.7">On the command line: <code>%s</code></p>`, n.Command)
	}
	write("</div>\n</body>\n</html>")
	return b.String()
}

// Sign returns the signature of what a webhook is sent: HMAC-SHA-256 (RFC 2104), in hexadecimal, of the time in seconds
// since 1970, a full stop and the body. Who checks it refuses old times, so that nothing can be sent again by others.
func Sign(key []byte, at time.Time, body []byte) string {
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%d.", at.Unix())
	mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// Day is what happened in a day, for a digest.
type Day struct {
	From, To time.Time
	Rules    map[string]DayOfRule
	Restores map[string]int // how many, by state
	Findings map[string]int // how many are open, by severity
	Firings  int            // that are to come in the day after
	Waiting  int            // restores, disposals and plans that wait for a decision
}

// DayOfRule is what a rule did in a day.
type DayOfRule struct {
	Source, Table string
	Runs          map[string]int // how many, by state
	Nothing       int            // firings that found nothing due
	Rows, Bytes   int64          // that left the table
}

// DigestOf sums up a day for a recipient, of the rules that concern it.
func DigestOf(d *Day, r *Recipient, base string) Notice {
	n := Notice{Kind: EventDigest, At: d.To, Numbers: map[string]int64{}, Link: base, Command: "ambercellar run list"}
	if base != "" {
		n.Link += "/#/"
	}
	rules := Section{Heading: "Rules"}
	for _, name := range slices.Sorted(maps.Keys(d.Rules)) {
		x := d.Rules[name]
		if !r.Concerns(name, x.Source) {
			continue
		}
		var parts []string
		for _, state := range slices.Sorted(maps.Keys(x.Runs)) {
			parts = append(parts, counted(x.Runs[state], "run", "runs")+" "+state)
			n.Numbers["runs_"+state] += int64(x.Runs[state])
		}
		if x.Nothing > 0 {
			parts = append(parts, counted(x.Nothing, "firing", "firings")+" with nothing due")
		}
		if x.Rows > 0 {
			parts = append(parts, Count(x.Rows)+" rows left "+x.Source+"."+x.Table)
		}
		n.Numbers["rows"] += x.Rows
		n.Numbers["bytes"] += x.Bytes
		rules.Facts = append(rules.Facts, Fact{name, strings.Join(parts, ", ")})
	}
	if len(rules.Facts) == 0 {
		rules.Facts = []Fact{{"none", "no rule ran"}}
	}
	others := Section{Heading: "Besides"}
	for _, state := range slices.Sorted(maps.Keys(d.Restores)) {
		others.Facts = append(others.Facts, Fact{"restores " + state, strconv.Itoa(d.Restores[state])})
	}
	for _, severity := range severities {
		if k := d.Findings[severity]; k > 0 {
			others.Facts = append(others.Facts, Fact{"open findings, " + severity, strconv.Itoa(k)})
		}
	}
	others.Facts = append(others.Facts, Fact{"waiting for a decision", strconv.Itoa(d.Waiting)},
		Fact{"firings in the day to come", strconv.Itoa(d.Firings)})
	n.Sections = []Section{rules, others}
	n.Title = fmt.Sprintf("The day up to %s: %s rows left their tables",
		d.To.In(r.zone()).Format("2006-01-02 15:04 MST"), Count(n.Numbers["rows"]))
	if failed := n.Numbers["runs_failed"]; failed > 0 {
		n.Title += ", " + counted(int(failed), "run", "runs") + " failed"
	}
	return n
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}
