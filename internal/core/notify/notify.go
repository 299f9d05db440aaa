// Package notify decides who is told of what, when, and in which words. It sends nothing and reads no clock; instants
// come in. A notice names records, tables and numbers of rows, and never a value of a row: whatever a reason or a
// condition says can name one, so a notice holds neither.
package notify

import (
	"fmt"
	"net/mail"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"ambercellar/internal/core/calendar"
)

// EventKind is a kind of events.
type EventKind string

// Kinds of events.
const (
	EventRunDone         EventKind = "run-done"
	EventRunFailed       EventKind = "run-failed"
	EventRunCancelled    EventKind = "run-cancelled"
	EventRunCopied       EventKind = "run-copied"  // its rows are copied; deleting them waits for a decision
	EventFiringNothing   EventKind = "nothing-due" // a rule ran by itself, and nothing matched
	EventFiringAsking    EventKind = "over-limit"  // a rule ran by itself, and its plan waits for a decision
	EventFiringFailed    EventKind = "firing-failed"
	EventRestoreAsked    EventKind = "restore-asked" // it waits for approval
	EventRestoreReady    EventKind = "restore-ready"
	EventRestoreFailed   EventKind = "restore-failed"
	EventRestoreRefused  EventKind = "restore-refused"
	EventDisposalPlanned EventKind = "disposal-planned" // it waits for approval
	EventDisposalDone    EventKind = "disposal-done"
	EventDisposalFailed  EventKind = "disposal-failed"
	EventFrozen          EventKind = "frozen"
	EventUnfrozen        EventKind = "unfrozen"
	EventWaitsLong       EventKind = "waits-long" // a run, a restore or a disposal waits for longer than usual
	EventFindingOpened   EventKind = "finding-opened"
	EventFindingClosed   EventKind = "finding-closed"
	EventDigest          EventKind = "digest"         // what happened in a day
	EventApprovalAsked   EventKind = "approval-asked" // a run or a change waits for approval
	EventExportReady     EventKind = "export-ready"   // an export of the audit log
	EventExportFailed    EventKind = "export-failed"
	EventTest            EventKind = "test"
)

// Kinds are those that somebody can ask to be told of at once.
var Kinds = []EventKind{EventRunDone, EventRunFailed, EventRunCancelled, EventRunCopied, EventFiringNothing,
	EventFiringAsking, EventFiringFailed, EventRestoreAsked, EventRestoreReady, EventRestoreFailed, EventRestoreRefused,
	EventDisposalPlanned, EventDisposalDone, EventDisposalFailed, EventFrozen, EventUnfrozen, EventWaitsLong,
	EventFindingOpened, EventFindingClosed, EventApprovalAsked, EventExportReady, EventExportFailed}

// WaitsLongFinding is the kind of the findings whose opening is told as WaitsLong.
const WaitsLongFinding = "waits long"

// severities, the most urgent first.
var severities = []string{"urgent", "warning", "notice"}

// Event is something that happened to a record.
type Event struct {
	Kind   EventKind
	Record string // the run, restore, finding … that it happened to
	At     time.Time
	Detail
}

// Detail is what was known of the record when it happened.
type Detail struct {
	Rule     string           `json:"rule,omitempty"`
	Source   string           `json:"source,omitempty"`
	Table    string           `json:"table,omitempty"`
	Severity string           `json:"severity,omitempty"` // of a finding
	Finding  string           `json:"finding,omitempty"`  // its kind
	Subject  string           `json:"subject,omitempty"`  // what the finding is of
	Target   string           `json:"target,omitempty"`   // of a restore
	Tell     string           `json:"tell,omitempty"`     // who is told of this one restore besides
	Problem  string           `json:"problem,omitempty"`  // why it failed
	Until    string           `json:"until,omitempty"`    // when restored rows or a file go, or a freeze lifts itself
	Numbers  map[string]int64 `json:"numbers,omitempty"`
}

// Urgent says whether the event breaks through quiet hours.
func (e *Event) Urgent() bool { return e.Kind == EventFindingOpened && e.Severity == "urgent" }

// Recipient is a person or a system that is told what happens.
type Recipient struct {
	Name     string      `json:"name"`
	Address  string      `json:"address"`            // a mail address, or the URL of a webhook
	Events   []EventKind `json:"events"`             // told at once
	Rules    []string    `json:"rules,omitempty"`    // names, * for any text; none: all
	Sources  []string    `json:"sources,omitempty"`  // likewise
	Severity string      `json:"severity,omitempty"` // the least of findings; empty: notice
	Digest   string      `json:"digest,omitempty"`   // HH:MM at which a day is summed up; empty: never
	Quiet    []string    `json:"quiet,omitempty"`    // windows in which only what is urgent is sent
	Zone     string      `json:"zone,omitempty"`     // whose clock digest and quiet hours follow; empty: UTC
	// environment variable or file with the key that signs what a webhook is sent; empty: it is not signed
	SecretEnv  string `json:"secret_env,omitempty"`
	SecretFile string `json:"secret_file,omitempty"`
}

// Webhook says whether the recipient is told by a request to a URL.
func (r *Recipient) Webhook() bool { return IsURL(r.Address) }

// IsURL says whether an address is a URL rather than a mail address.
func IsURL(address string) bool { return strings.Contains(address, "://") }

// Fault is what is wrong with one field of a recipient.
type Fault struct{ Field, Message, Remedy string }

// Faults lists what is wrong with the recipient, and writes it in its usual form.
func (r *Recipient) Faults() (out []Fault) {
	add := func(field, remedy, message string, args ...any) {
		out = append(out, Fault{field, fmt.Sprintf(message, args...), remedy})
	}
	if usual, err := CheckAddress(r.Address); err != nil {
		add("address", "write a mail address like keeper@harbour.example, or a URL like "+
			"https://desk.harbour.example/told", "%v", err)
	} else {
		r.Address = usual
	}
	for _, k := range r.Events {
		if !slices.Contains(Kinds, k) {
			add("events", "write some of "+join(Kinds), "%q is no kind of events", k)
		}
	}
	if len(r.Events) == 0 && r.Digest == "" {
		add("events", "name kinds of events (or all), or the hour of a digest", "the recipient would be told nothing")
	}
	for field, list := range map[string][]string{"rules": r.Rules, "sources": r.Sources} {
		for _, pattern := range list {
			if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
				add(field, "write a name, with * for any text", "%q is no name", pattern)
			}
		}
	}
	if r.Severity != "" && !slices.Contains(severities, r.Severity) {
		add("severity", "write urgent, warning or notice", "%q is no severity", r.Severity)
	}
	if _, err := time.Parse("15:04", r.Digest); r.Digest != "" && err != nil {
		add("digest", "write an hour like 07:30", "%q is no time of day", r.Digest)
	}
	for _, q := range r.Quiet {
		if _, err := calendar.ParseWindow(q); err != nil {
			add("quiet", "write a window like 22:00-06:00", "%v", err)
		}
	}
	if _, err := time.LoadLocation(r.Zone); err != nil || r.Zone == "Local" {
		add("zone", "write a name of the IANA database, like Europe/Lisbon", "%q is no time zone", r.Zone)
	}
	if r.SecretEnv != "" && r.SecretFile != "" {
		add("secret_file", "name one", "both an environment variable and a file are named for the key")
	}
	if !r.Webhook() && r.SecretEnv+r.SecretFile != "" {
		add("secret_env", "leave it out", "only what a webhook is sent is signed")
	}
	return out
}

func join(kinds []EventKind) string {
	texts := make([]string, len(kinds))
	for i, k := range kinds {
		texts[i] = string(k)
	}
	return strings.Join(texts, ", ")
}

// longestAddress is how many bytes a mail address has at most (RFC 5321, 4.5.3.1.3).
const longestAddress = 254

// CheckAddress returns a mail address (RFC 5322) without a name beside it, or a URL, as it was given, or says why it
// is neither. Nothing that could end a line of a message's head gets through.
func CheckAddress(address string) (string, error) {
	if strings.ContainsFunc(address, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		return "", fmt.Errorf("%q holds a control character", address)
	}
	if IsURL(address) {
		u, err := url.Parse(address)
		switch {
		case err != nil:
			return "", fmt.Errorf("%q is no URL", address)
		case u.Scheme != "http" && u.Scheme != "https":
			return "", fmt.Errorf("%q is neither http nor https", address)
		case u.Hostname() == "":
			return "", fmt.Errorf("%q names no host", address)
		case u.User != nil:
			return "", fmt.Errorf("the URL holds a name or a password, which everybody would be shown")
		}
		return address, nil
	}
	a, err := mail.ParseAddress(address)
	if err != nil || a.Name != "" || a.Address != strings.TrimSpace(address) || len(a.Address) > longestAddress {
		return "", fmt.Errorf("%q is no mail address", address)
	}
	return a.Address, nil
}

// Wants says whether the recipient is to be told of an event at once.
func (r *Recipient) Wants(e *Event) bool {
	if !slices.Contains(r.Events, e.Kind) || !r.Concerns(e.Rule, e.Source) {
		return false
	}
	least := slices.Index(severities, r.Severity)
	return e.Severity == "" || least < 0 || slices.Index(severities, e.Severity) <= least
}

// Concerns says whether a rule of a source is one of those that the recipient is told of. What is of no rule, or of no
// source, concerns whoever names none.
func (r *Recipient) Concerns(rule, source string) bool {
	return among(r.Rules, rule) && among(r.Sources, source)
}

func among(patterns []string, name string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool {
		ok, err := path.Match(p, name)
		return err == nil && ok
	})
}

// zone is whose clock the recipient lives by.
func (r *Recipient) zone() *time.Location {
	if z, err := time.LoadLocation(r.Zone); err == nil && z != time.Local {
		return z
	}
	return time.UTC
}

// QuietUntil returns when the quiet hours end that an instant lies in; zero: it lies in none.
func (r *Recipient) QuietUntil(at time.Time) time.Time {
	var windows []calendar.Window
	for _, q := range r.Quiet {
		if w, err := calendar.ParseWindow(q); err == nil {
			windows = append(windows, w)
		}
	}
	if len(windows) == 0 {
		return time.Time{}
	}
	if span, open := calendar.At(windows, at, r.zone()); open {
		return span.To
	}
	return time.Time{}
}

// DigestDue returns the last moment, up to an instant, at which the recipient is told of the day before it; zero:
// never.
func (r *Recipient) DigestDue(now time.Time) time.Time {
	hour, err := time.Parse("15:04", r.Digest)
	if err != nil {
		return time.Time{}
	}
	for d, day := 0, now.In(r.zone()); ; d++ {
		at := time.Date(day.Year(), day.Month(), day.Day()-d, hour.Hour(), hour.Minute(), 0, 0, r.zone())
		if !at.After(now) {
			return at
		}
	}
}

// pauses are how long is waited after each attempt that failed; the last one holds for all after it.
var pauses = []time.Duration{10 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute,
	10 * time.Minute, 20 * time.Minute, 30 * time.Minute}

// TriesFor is how long it is tried to deliver a notice. A mail server may be away over a weekend.
const TriesFor = 3 * 24 * time.Hour

// Pause returns how long is waited after so many attempts that failed.
func Pause(attempts int) time.Duration { return pauses[max(0, min(attempts, len(pauses))-1)] }
